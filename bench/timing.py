"""Timing for the benchmarks: best and median of repeated runs, and a line that states a ratio against its
budget."""

from __future__ import annotations

import time
from collections.abc import Callable


def best(function: Callable[[], object], runs: int = 15) -> float:
    """Shortest of several runs in seconds: what the code costs when nothing disturbs it."""
    return min(times(function, runs))


def median(function: Callable[[], object], runs: int = 15) -> float:
    """Median of several runs in seconds."""
    return sorted(times(function, runs))[runs // 2]


def times(function: Callable[[], object], runs: int) -> list[float]:
    """Seconds of each run, after one that warms up."""
    function()
    taken = []
    for _ in range(runs):
        start = time.perf_counter()
        function()
        taken.append(time.perf_counter() - start)
    return taken


def say(what: str, value: float, budget: float, unit: str) -> None:
    """Print a measure with its budget."""
    verdict = "within" if value <= budget else "OVER"
    print(f"{what}: {value:.2f} {unit}, {verdict} the budget of {budget:g} {unit}")
