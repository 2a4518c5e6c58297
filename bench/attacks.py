"""Attacks in numbers, run by name (minutes): python -m bench attacks [kills flips grids gestures].

500 kills of a process that commits without pause, 3,000 flipped bits in a job file, 3,000 grid files with
headers that lie (in processes of their own), 5,000 random gestures on the window with stages switched while
results are derived. What is lost, changed without a word, dead or raised is counted; the budget is none.
"""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np

from bench.timing import say
from fenwind.errors import JobError
from fenwind.job.job import Job
from fenwind.records.entries import amend
from fenwind.standins import tarnholt

DATA = Path(__file__).parents[1] / "tests" / "data"
WRITER = """
import sys
from fenwind.job.job import Job
from fenwind.records.entries import Add
from fenwind.records.records import Mark
job = Job.open(sys.argv[1])
for i in range(int(sys.argv[2]), 10 ** 7):
    job.record(f"mark {i}", [Add(record=Mark(id=f"{c}{i}", name=f"{c}{i}")) for c in "mn"])
    print(i, flush=True)
"""
GRIDS = """
import sys
import numpy as np
from fenwind.errors import FenwindError
from fenwind.geodesy.geoid import GeoidGrid
for path in sys.argv[1:]:
    try:
        GeoidGrid(path).height(np.radians([61.3, 10, -45, 0]), np.radians([8.4, 100, -120, 0]))
    except FenwindError:
        pass
    print(path, flush=True)
"""


def kills(count: int = 500) -> None:
    """Every gesture told of is there after a kill, whole."""
    rng, lost = np.random.default_rng(1), 0
    with tempfile.TemporaryDirectory() as folder:
        path, told = str(Path(folder) / "k.fenwind"), 0
        Job.create(path, "killed").close()
        for _ in range(count):
            command = [sys.executable, "-c", WRITER, path, str(told)]
            with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
                assert process.stdout is not None
                for _ in range(int(rng.integers(1, 12))):
                    told = max(told, int(process.stdout.readline() or -1) + 1)
                process.send_signal(signal.SIGKILL)
                told = max([told, *(int(x) + 1 for x in process.stdout if x.endswith("\n"))])
            job = Job.open(path)
            marks = job.state.marks
            job.close()
            whole = len(marks) % 2 == 0
            lost += not whole or not all(f"{c}{i}" in marks for i in range(told) for c in "mn")
            told = len(marks) // 2
    say(f"lost in {count} kills", lost, 0, "gestures")


def flips(count: int = 3000) -> None:
    """A changed bit is found, or changes nothing that is read."""
    rng, silent, unopened = np.random.default_rng(2), 0, 0
    with tempfile.TemporaryDirectory() as folder:
        tarnholt.write_grid(Path(folder))
        path = Path(folder) / "f.fenwind"
        job = Job.create(path, "flips", tarnholt.records(), frame="dam")
        for i in range(20):
            job.record(f"code {i}", [amend(job.state.marks["T-01"], code=f"C{i}")])
        wanted = dict(job.state.records)
        job.close()
        good = path.read_bytes()
        for place in rng.integers(0, len(good), count).tolist():
            data = bytearray(good)
            data[place] ^= 1 << int(rng.integers(0, 8))
            path.write_bytes(bytes(data))
            try:
                job = Job.open(path)
                silent += dict(job.state.records) != wanted
                job.close()
            except JobError as error:
                unopened += not error.hint
    say(f"silent changes by {count} flipped bits", silent, 0, "values")
    say("refused without words", unopened, 0, "files")


def grids(count: int = 3000) -> None:
    """Grids with mutated headers never take the process with them."""
    rng = np.random.default_rng(3)
    with tempfile.TemporaryDirectory() as folder:
        todo = [_mutated(rng, Path(folder) / str(i)) for i in range(count)]
        dead = 0
        while todo:
            done = subprocess.run([sys.executable, "-c", GRIDS, *todo[:600]], capture_output=True, text=True)
            seen = len(done.stdout.splitlines())
            dead += done.returncode != 0
            todo = todo[seen + (done.returncode != 0) :]
    say(f"processes that died of {count} grids", dead, 0, "deaths")


def _mutated(rng: np.random.Generator, path: Path) -> str:
    names = ("egm96_15.gtx", "test_vgrid_deflate.tif", "test_vgrid_unsupported_byte.tif")
    source = DATA / names[int(rng.integers(0, len(names)))]
    data = bytearray(source.read_bytes())
    for _ in range(int(rng.integers(1, 5))):
        at = int(rng.integers(0, 40 if source.suffix == ".gtx" else min(len(data), 1500) - 4))
        if rng.random() < 0.5:
            data[at] = int(rng.integers(0, 256))
        else:
            words = (b"\xff" * 4, b"\0" * 4, b"\x7f\xff\xff\xff", b"\0\0\0\1")
            data[at : at + 4] = words[int(rng.integers(0, 4))]
    out = path.with_suffix(source.suffix)
    out.write_bytes(bytes(data[: int(rng.integers(1, len(data)))] if rng.random() < 0.1 else data))
    return str(out)


def gestures(count: int = 5000) -> None:
    """Random gestures on the window; half of them while everything is derived in the worker."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from tests.desk.gestures import RandomHand
    from tests.desk.qt_case import QtTestCase

    class Case(QtTestCase):
        def runTest(self) -> None:
            w = self.open("--fresh")
            w.bridge.long_s = 0.0 if seed % 2 else 0.2
            hand = RandomHand(w, seed)
            for _ in range(250):
                hand.act()
            self.wait_for(lambda: w.bridge._task is None, 60_000)
            path, kept = w.bridge.job.path, dict(w.bridge.state.records)
            w.shell.close()
            job = Job.open(path)
            same = dict(job.state.records) == kept
            job.close()
            self.assertTrue(same, "what is kept is not what was shown")

    Case.setUpClass()
    raised = 0
    for seed in range(count // 250):
        result = Case().run()
        assert result is not None
        for _, trace in (*result.errors, *result.failures):
            raised += 1
            print(f"seed {seed}: {trace.strip().splitlines()[-1][:160]}")
    say(f"failures in {count} random gestures", raised, 0, "runs of 250")


def main() -> None:
    """All, or those named."""
    every = {"kills": kills, "flips": flips, "grids": grids, "gestures": gestures}
    for name in sys.argv[1:] or every:
        every[name]()


if __name__ == "__main__":
    main()
