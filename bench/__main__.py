"""All benchmarks side by side with their budgets: python -m bench [name ...]. Ends with 1 when one is over
its budget.

Each runs in a process of its own, with the memory settings that ./start and ./fenwind run with.
"""

from __future__ import annotations

import os
import subprocess
import sys
from pathlib import Path

#: Benchmarks in the order they run; bench.mutants takes minutes and is run by name.
BENCHMARKS = (
    "fit_10000",
    "derive",
    "job_file",
    "window",
    "incoming",
    "taking",
    "dxf_move",
    "sessions",
    "day",
    "reading",
    "fieldwork",
    "network",
    "country",
    "ground",
)


def launcher_environment() -> dict[str, str]:
    """The environment of the launchers; windows without a screen where there is none."""
    script = Path(__file__).parents[1] / "bootstrap" / "memory.sh"
    command = f". {script} && env -0"
    found = subprocess.run(["sh", "-c", command], capture_output=True, check=True, env=dict(os.environ))
    environment = dict(line.split("=", 1) for line in found.stdout.decode().split("\0") if "=" in line)
    if not environment.get("DISPLAY") and not environment.get("WAYLAND_DISPLAY"):
        environment.setdefault("QT_QPA_PLATFORM", "offscreen")
    return environment


def main() -> int:
    """Run, then print every measure again, one under the other."""
    names = sys.argv[1:] or list(BENCHMARKS)
    measures: list[str] = []
    for name in names:
        command = [sys.executable, "-m", f"bench.{name}"]
        found = subprocess.run(
            command, capture_output=True, text=True, env=launcher_environment(), check=False
        )
        print(f"{name}\n{found.stdout}{found.stderr[-2000:] if found.returncode else ''}", flush=True)
        measures += [line for line in found.stdout.splitlines() if " the budget of " in line]
        if found.returncode:
            measures.append(f"{name}: failed, OVER the budget of a run that ends")
    width = max((len(line.split(": ")[0]) for line in measures), default=0)
    for line in measures:
        what, figures = line.split(": ", 1)
        print(f"{what:<{width}}  {figures}")
    return int(any(", OVER the budget" in line for line in measures))


if __name__ == "__main__":
    sys.exit(main())
