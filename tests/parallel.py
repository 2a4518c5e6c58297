"""Run all tests in parallel processes: `python -m tests.parallel [PATTERN ..]`, module by module, longest
first.

Prints each test that failed, then how long modules took (`--times`), and the plain closing line
`N passed, N failed, N skipped`. Every process imports once and takes the next module when it is free.
"""

from __future__ import annotations

import argparse
import ctypes
import gc
import io
import os
import resource
import sys
import time
import unittest
from concurrent.futures import ProcessPoolExecutor, as_completed
from dataclasses import dataclass
from multiprocessing import get_context
from pathlib import Path

ROOT = Path(__file__).parent
#: Modules that take longest, so that none of them is left to the end.
SLOW = (
    "test_ground_stage",
    "test_six_worlds",
    "test_nothing_cut",
    "test_setups_stage",
    "test_whole",
    "test_sessions",
    "test_fronts",
    "test_sparse",
    "test_regions",
    "test_fuzz",
)


@dataclass
class Outcome:
    """What came of a module."""

    module: str
    ran: int
    skipped: int
    failed: int
    text: str
    seconds: float
    slowest: list[tuple[float, str]]
    peak_mb: float


class _Timed(unittest.TextTestResult):
    """Notes how long each test took."""

    def startTest(self, test: unittest.TestCase) -> None:
        super().startTest(test)
        self._began = time.perf_counter()

    def stopTest(self, test: unittest.TestCase) -> None:
        self.times.append((time.perf_counter() - self._began, test.id()))
        super().stopTest(test)

    times: list[tuple[float, str]]


def modules(patterns: list[str]) -> list[str]:
    """Names of the test modules whose path holds one of the patterns, those that take longest first."""
    files = [
        f
        for f in ROOT.rglob("test_*.py")
        if not patterns or any(p in str(f.relative_to(ROOT)) for p in patterns)
    ]
    slow = {name: len(SLOW) - k for k, name in enumerate(SLOW)}
    files.sort(key=lambda f: (-slow.get(f.stem, 0), -f.stat().st_size))
    return [".".join(f.relative_to(ROOT.parent).with_suffix("").parts) for f in files]


def run(module: str) -> Outcome:
    """Run one module's tests in this process, and nothing of Qt's on a screen."""
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    began = time.perf_counter()
    stream = io.StringIO()
    suite = unittest.defaultTestLoader.loadTestsFromName(module)
    runner = unittest.TextTestRunner(stream, resultclass=_Timed)
    _Timed.times = []
    result = runner.run(suite)
    ran, skipped = result.testsRun, len(result.skipped)
    bad = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    slowest = sorted(_Timed.times, reverse=True)
    del suite, result
    gc.collect()
    ctypes.CDLL(None).malloc_trim(0)  # or one process would hold what every module needed at its most
    return Outcome(
        module,
        ran,
        skipped,
        bad,
        stream.getvalue() if bad else "",
        time.perf_counter() - began,
        slowest,
        peak,
    )


def run_on_screen(module: str) -> Outcome:
    """The same with real windows, in a process of its own."""
    os.environ["QT_QPA_PLATFORM"] = "xcb"
    return run(module)


def main() -> int:
    """Run, print, and say by the exit code whether all passed."""
    parser = argparse.ArgumentParser(prog="python -m tests.parallel", description=__doc__)
    parser.add_argument("patterns", nargs="*", metavar="PATTERN")
    parser.add_argument("--jobs", type=int, default=os.cpu_count() or 1)
    parser.add_argument("--times", action="store_true", help="print how long modules and tests took")
    parser.add_argument("--real-window", metavar="MODULE", help="run this one on the screen of DISPLAY")
    options = parser.parse_args()
    outcomes: list[Outcome] = []
    context = get_context("spawn")
    with (
        ProcessPoolExecutor(options.jobs, context) as pool,
        ProcessPoolExecutor(1, context) as screen,
    ):
        names = [m for m in modules(options.patterns) if m != options.real_window]
        futures = [pool.submit(run, m) for m in names]
        if options.real_window:
            futures.append(screen.submit(run_on_screen, options.real_window))
        for future in as_completed(futures):
            outcomes.append(found := future.result())
            if found.text:
                print(f"{found.module}\n{found.text}", flush=True)
    if options.times:
        for one in sorted(outcomes, key=lambda o: -o.seconds):
            print(f"{one.seconds:7.1f} s {one.peak_mb:7.0f} MB {one.ran:4d} {one.module}")
        for seconds, name in sorted((t for o in outcomes for t in o.slowest), reverse=True)[:150]:
            print(f"{seconds:7.2f} s {name}")
    failed, skipped = sum(o.failed for o in outcomes), sum(o.skipped for o in outcomes)
    print(f"{sum(o.ran for o in outcomes) - failed - skipped} passed, {failed} failed, {skipped} skipped")
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main())
