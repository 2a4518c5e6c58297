"""Attacks in numbers, run by name (minutes): python -m bench attacks [kills flips=500 ..].

2,000 kills of a process that commits without pause, 5,000 changed bytes of a job file, 3,000 grid files with
headers that lie (in processes of their own), 20,000 random gestures on the window with stages switched while
results are derived, in the six jobs. What is lost, changed without a word, dead or raised is counted; the
budget is none.
"""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
from tests.worlds import WORLDS

from bench.timing import say
from fenwind.errors import JobError
from fenwind.job.file import Blob
from fenwind.job.job import Job
from fenwind.records.entries import amend

DATA = Path(__file__).parents[1] / "tests" / "data"
WRITER = """
import sys
from fenwind.job.file import Blob
from fenwind.job.file import Blob
from fenwind.job.job import Job
from fenwind.records.entries import Add
from fenwind.records.records import Mark
job = Job.open(sys.argv[1])
for i in range(int(sys.argv[2]), 10 ** 7):
    job.record(f"mark {i}", [Add(record=Mark(id=f"{c}{i}", name=f"{c}{i}")) for c in "mn"])
    if i % 3 == 0:
        job.file.append_blobs([Blob(name=str(i), origin="kill", data=b"piece %d" % i)])
    if i % 5 == 0:
        job.undo()
        job.redo()
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


def kills(count: int = 2000) -> None:
    """Every gesture and every piece of a raw file told of is there after a kill, whole, in each of the six
    jobs."""
    rng, lost = np.random.default_rng(1), 0
    with tempfile.TemporaryDirectory() as folder:
        paths = []
        for world in WORLDS:
            job = world.make(Path(folder) / f"{world.name}.fenwind")
            job.close()
            paths.append(job.path)
        told: dict[str, set[int]] = {path: set() for path in paths}
        begin = dict.fromkeys(paths, 0)
        for number in range(count):
            path = paths[number % len(paths)]
            start = done = begin[path]
            command = [sys.executable, "-c", WRITER, path, str(done)]
            with subprocess.Popen(command, stdout=subprocess.PIPE, text=True) as process:
                assert process.stdout is not None
                for _ in range(int(rng.integers(1, 12))):
                    done = max(done, int(process.stdout.readline() or -1) + 1)
                process.send_signal(signal.SIGKILL)
                done = max([done, *(int(x) + 1 for x in process.stdout if x.endswith("\n"))])
            job = Job.open(path)
            marks, redo = job.state.marks, bool(job.redo_text)
            if redo:
                job.redo()  # killed between undo and redo
            pieces = {blob.name for blob in job.file.blobs_of("kill")}
            lost += bool(job.state.set_aside)
            told[path] |= set(range(start, done))  # a gesture may be there that was never told of
            lost += not all(f"{c}{i}" in marks for i in told[path] for c in "mn")
            lost += not all(str(i) in pieces for i in told[path] if i % 3 == 0)
            begin[path] = 1 + max((int(m[1:]) for m in marks if m[0] == "m" and m[1:].isdigit()), default=-1)
            job.close()
    say(f"lost in {count} kills of six jobs", lost, 0, "gestures")


def flips(count: int = 5000) -> None:
    """A changed byte anywhere is told: refused, set aside with a doubt."""
    rng, silent, unopened = np.random.default_rng(2), 0, 0
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "f.fenwind"
        job = WORLDS[0].make(path)
        mark = next(iter(job.state.marks.values()))
        for i in range(60):
            raw = Blob(name=f"raw {i}", origin="rover", data=rng.bytes(int(rng.integers(10, 9000))))
            job.record(f"code {i}", [amend(mark, code=f"C{i}")], [raw])
        job.close()
        good = path.read_bytes()
        for place in rng.integers(0, len(good), count).tolist():
            data = bytearray(good)
            data[place] ^= int(rng.integers(1, 256))
            path.write_bytes(bytes(data))
            try:
                job = Job.open(path)
                silent += not job.state.set_aside
                job.close()
            except JobError as error:
                unopened += not error.hint
    say(f"silent of {count} changed bytes", silent, 0, "bytes")
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


def gestures(count: int = 20_000) -> None:
    """Random gestures on the window, in the six jobs by turns; half of them while everything is derived in
    the worker."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    from tests.desk.gestures import RandomHand
    from tests.desk.qt_case import QtTestCase

    class Case(QtTestCase):
        own_windows = True

        def runTest(self) -> None:
            made = WORLDS[seed % len(WORLDS)].make(self.folder / "world.fenwind")
            made.close()
            w = self.open(made.path)
            if seed % 2:
                self.let_run(w)
            hand = RandomHand(w, seed)
            for _ in range(250):
                hand.act()
            self.wait_for(lambda: not w.bridge.deriving, 60_000)
            path, kept = w.bridge.path, dict(w.bridge.state.records)
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
        name, _, count = name.partition("=")
        every[name](*([int(count)] if count else []))


if __name__ == "__main__":
    main()
