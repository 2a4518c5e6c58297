"""Mutated inputs at every reader, run by name:

    python -m bench.fuzz [--count 1000000] [--seed 1] [--jobs 2] [--only dxf,kml]

Each input follows from seed, reader and number alone, so that a run can be taken up again (its state is kept
in --folder, the findings beside it) and a finding made once more with --one READER:NUMBER. Readers run in
processes of their own with a limit of time and memory an input. What counts: an error that is not one of
Fenwind's own, an input over its time or memory, a process that died. The budget is none.
"""

from __future__ import annotations

import argparse
import faulthandler
import gc
import json
import os
import resource
import select
import sys
import time
import traceback
import warnings
from collections.abc import Iterable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from bench.fuzz_targets import WORDS, Target, targets
from bench.timing import say
from fenwind.errors import FenwindError

#: Seconds of a processor and bytes that an input may take; inputs are below 1 MB. One that only waits is over
#: its time after WAIT_S.
TIME_S, MEMORY = 2.0, 300_000_000
WAIT_S = 60.0
BATCH = 250


def mutated(rng: np.random.Generator, seed: bytes) -> bytes:
    """An input near an honest one: bytes, words and numbers changed, pieces copied, cut, repeated."""
    data = bytearray(seed)
    for _ in range(int(rng.integers(1, 9))):
        at = int(rng.integers(0, len(data) + 1))
        to = min(len(data), at + int(rng.integers(1, 40)))
        kind = int(rng.integers(0, 9))
        if kind == 0 and data:
            data[min(at, len(data) - 1)] = int(rng.integers(0, 256))
        elif kind in (1, 2):
            data[at:to] = WORDS[int(rng.integers(0, len(WORDS)))]
        elif kind == 3:
            data[at:at] = data[at:to] * int(rng.integers(1, 30))
        elif kind == 4:
            del data[at:to]
        elif kind == 5 and data:
            data[min(at, len(data) - 1)] ^= 1 << int(rng.integers(0, 8))
        elif kind == 6:
            other = int(rng.integers(0, len(data) + 1))
            data[other:other] = data[at:to]
        elif kind == 7:
            _number(rng, data, at)
        elif rng.random() < 0.3:
            del data[at:]
    return bytes(data[:900_000])


def _number(rng: np.random.Generator, data: bytearray, at: int) -> None:
    """Change the number in text that stands at a place or after it."""
    start = next((k for k in range(at, min(at + 200, len(data))) if 48 <= data[k] <= 57), None)
    if start is None:
        return
    end = next((k for k in range(start, len(data)) if not (48 <= data[k] <= 57 or data[k] == 46)), len(data))
    value = float(10.0 ** rng.integers(-12, 40)) * float(rng.choice([-1, 1]))
    data[start:end] = (f"{value:g}" if rng.random() < 0.7 else str(int(rng.integers(-3, 400)))).encode()


def input_of(target: Target, seed: int, number: int) -> bytes:
    """The input of a number."""
    rng = np.random.default_rng([seed, number, *target.name.encode()])
    return mutated(rng, target.seeds[int(rng.integers(0, len(target.seeds)))])


def fault_of(target: Target, path: str) -> str:
    """What is wrong with reading a file; empty where it is read, or refused in words."""
    try:
        target.read(path)
    except FenwindError as error:
        line = error.one_line
        return "" if "\n" not in line and len(line) < 2000 else f"an answer of {len(line)} letters"
    except MemoryError:
        return "memory"
    except Exception as error:
        last = traceback.extract_tb(error.__traceback__)[-1]
        return f"{type(error).__name__} at {Path(last.filename).name}:{last.lineno}: {str(error)[:120]}"
    return ""


# Processes
# ---------------------------------------------------------------------------------------------------------


@dataclass
class Worker:
    """A child that reads inputs of one reader from a number on, and what it told."""

    target: Target
    first: int
    last: int
    process: int
    pipe: int
    now: int
    since: float = field(default_factory=time.monotonic)
    spent: float = 0.0
    rest: bytes = b""


def spent(process: int) -> float:
    """Seconds of a processor that a child has taken; 0 for one that is gone."""
    try:
        numbers = Path(f"/proc/{process}/stat").read_text().rpartition(")")[2].split()
    except OSError:
        return 0.0
    return (int(numbers[11]) + int(numbers[12])) / os.sysconf("SC_CLK_TCK")


def start(target: Target, seed: int, first: int, last: int, folder: Path) -> Worker:
    """Fork a child for inputs from first to before last."""
    reading, writing = os.pipe()
    child = os.fork()
    if child:
        os.close(writing)
        return Worker(target, first, last, child, reading, first)
    os.close(reading)
    faulthandler.disable()
    null = os.open(os.devnull, os.O_RDWR)
    for standard in (1, 2):
        os.dup2(null, standard)
    warnings.simplefilter("ignore")
    gc.freeze()
    used = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (used + MEMORY, used + MEMORY))
    path = folder / f"{os.getpid()}{target.suffix}"
    for number in range(first, last):
        path.write_bytes(input_of(target, seed, number))
        os.write(writing, f"{number}\n".encode())
        fault = fault_of(target, str(path))
        if fault:
            os.write(writing, f"{number} {fault}\n".encode("utf-8", "replace")[:4000])
    path.unlink(missing_ok=True)
    os.write(writing, b"done\n")
    os._exit(0)


def heard(worker: Worker) -> list[tuple[int, str]]:
    """Findings that a worker told of since it was asked last."""
    data = os.read(worker.pipe, 65536)
    *lines, worker.rest = (worker.rest + data).split(b"\n")
    found = []
    for line in lines:
        number, _, fault = line.decode("utf-8", "replace").partition(" ")
        if fault:
            found.append((int(number), fault))
        elif number != "done":
            worker.now, worker.since, worker.spent = int(number), time.monotonic(), spent(worker.process)
        else:
            worker.now = worker.last
    return found


class Run:
    """A run over readers, that knows how far each is."""

    def __init__(self, folder: Path, seed: int, only: Iterable[str]) -> None:
        self.folder, self.seed = folder, seed
        folder.mkdir(parents=True, exist_ok=True)
        names = set(only)
        self.targets = [t for t in targets(folder) if not names or t.name in names]
        self.state = folder / f"state-{seed}.json"
        kept = json.loads(self.state.read_text()) if self.state.exists() else {}
        self.done: dict[str, int] = kept.get("done", {})
        self.found: list[list[object]] = kept.get("found", [])

    def keep(self) -> None:
        """Keep how far it is."""
        self.state.write_text(json.dumps({"done": self.done, "found": self.found}))

    def note(self, target: Target, number: int, fault: str) -> None:
        """Keep a finding, with its input."""
        self.found.append([target.name, number, fault])
        name = f"{target.name.replace(' ', '-')}-{number}{target.suffix}"
        (self.folder / name).write_bytes(input_of(target, self.seed, number))
        print(f"{target.name}:{number}: {fault}", flush=True)

    def go(self, each: int, jobs: int) -> None:
        """Read up to so many inputs of every reader."""
        todo = [
            (target, first, min(first + BATCH, each))
            for target in self.targets
            for first in range(self.done.get(target.name, 0), each, BATCH)
        ][::-1]
        todo.sort(key=lambda piece: -piece[1])  # all readers grow together
        at_work: list[Worker] = []
        while todo or at_work:
            while todo and len(at_work) < jobs:
                target, first, last = todo.pop()
                at_work.append(start(target, self.seed, first, last, self.folder))
            select.select([w.pipe for w in at_work], [], [], 0.1)
            for worker in list(at_work):
                more = self._look(worker)
                if more is not None:
                    at_work.remove(worker)
                    if more:
                        todo.append((worker.target, more, worker.last))
        self.keep()

    def _look(self, worker: Worker) -> int | None:
        """None while it works; 0 when its piece is done, else where to go on after an input that ended it."""
        while select.select([worker.pipe], [], [], 0)[0]:
            before = worker.now
            for number, fault in heard(worker):
                self.note(worker.target, number, fault)
            if worker.now == worker.last or worker.now == before:
                break
        waited = time.monotonic() - worker.since
        over = waited > WAIT_S or (waited > TIME_S and spent(worker.process) - worker.spent > TIME_S)
        ended = os.waitpid(worker.process, os.WNOHANG)[0] != 0
        if worker.now == worker.last:
            if not ended:
                os.waitpid(worker.process, 0)
            os.close(worker.pipe)
            self.done[worker.target.name] = max(self.done.get(worker.target.name, 0), worker.last)
            self.keep()
            return 0
        if not over and not ended:
            return None
        if not ended:
            os.kill(worker.process, 9)
            os.waitpid(worker.process, 0)
        os.close(worker.pipe)
        self.note(worker.target, worker.now, "over its time" if over else "the process died")
        return worker.now + 1


def main() -> int:
    """Run, or read one input."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--count", type=int, default=1_000_000)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--only", default="")
    parser.add_argument("--folder", default="throwaway/fuzz", help="of findings and state")
    parser.add_argument("--one", metavar="READER:NUMBER")
    options = parser.parse_args()
    run = Run(Path(options.folder), options.seed, [n for n in options.only.split(",") if n])
    if options.one:
        name, _, number = options.one.rpartition(":")
        target = next(t for t in run.targets if t.name == name)
        path = run.folder / f"one{target.suffix}"
        path.write_bytes(input_of(target, options.seed, int(number)))
        print(path)
        print(target.read(str(path)))
        return 0
    run.go(-(-options.count // len(run.targets)), options.jobs)
    read = sum(run.done.get(t.name, 0) for t in run.targets)
    say(f"findings in {read} mutated inputs at {len(run.targets)} readers", len(run.found), 0, "inputs")
    return int(bool(run.found))


if __name__ == "__main__":
    sys.exit(main())
