"""Inputs led by what they reach in the code of a reader: python -m bench.guided READER [SECONDS]

Needs the package atheris (3.0.0), which nothing else does: .venv/bin/python bootstrap/pip-*.whl/pip install
atheris==3.0.0. Inputs that reach something new are kept under throwaway/guided and begun with the next time;
what counts as a fault is what bench/fuzz.py counts.
"""

from __future__ import annotations

import sys
from pathlib import Path

import atheris  # type: ignore[import-not-found]

OWN = ["fenwind.exchange", "fenwind.devices", "fenwind.gnss", "fenwind.standins", "fenwind.quantities"]
with atheris.instrument_imports(include=OWN):
    from bench.fuzz import fault_of
    from bench.fuzz_targets import targets


def main() -> None:
    """Run until the time is over or a fault is found."""
    name, seconds = sys.argv[1], int(sys.argv[2]) if len(sys.argv) > 2 else 600
    folder = Path("throwaway/guided") / name.replace(" ", "-")
    folder.mkdir(parents=True, exist_ok=True)
    target = next(t for t in targets(folder.parent) if t.name == name)
    for k, seed in enumerate(target.seeds):
        (folder / f"honest-{k}").write_bytes(seed)
    path = folder.parent / f"now{target.suffix}"

    def one(data: bytes) -> None:
        path.write_bytes(data)
        fault = fault_of(target, str(path))
        if fault:
            raise AssertionError(fault)

    limits = [f"-max_total_time={seconds}", "-max_len=20000", "-timeout=3"]
    atheris.Setup([sys.argv[0], *limits, f"-artifact_prefix={folder.parent}/found-", str(folder)], one)
    atheris.Fuzz()


if __name__ == "__main__":
    main()
