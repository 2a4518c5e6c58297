"""A country of GNSS vectors: all covariances of stations and observed pairs, redundancy numbers and tests,
with how time grows, and the memory it takes."""

from __future__ import annotations

import math
import resource
import time

import numpy as np

from bench.timing import say
from fenwind.estimation.engine import adjust
from fenwind.estimation.groups import GroupProblem, ObservationGroup

#: Stations in a row and in a column, the budget in seconds, and how often it is done; the median counts.
SIZES = ((32, 32, 0.060, 5), (100, 100, 0.8, 3), (283, 283, 5.0, 1))
#: To which neighbours there are vectors, and which part of them: some are measured twice.
WAYS = ((0, 1), (1, 0), (1, 1), (1, -1), (0, 1), (1, 0))
PART = (1.0, 1.0, 1.0, 1.0, 0.6, 0.6)


def country(rows: int, columns: int) -> GroupProblem:
    """Stations some kilometres apart, each joined to its neighbours by about five vectors with full
    covariances; four of them are given."""
    rng = np.random.default_rng(rows)
    at = np.arange(rows * columns).reshape(rows, columns)
    pairs = []
    for (down, right), part in zip(WAYS, PART, strict=True):
        a = at[: rows - down, max(-right, 0) : columns - max(right, 0)]
        b = at[down:, max(right, 0) : columns + min(right, 0)]
        both = np.stack([a.ravel(), b.ravel()])
        pairs.append(both[:, rng.uniform(size=both.shape[1]) < part])
    first, second = np.hstack(pairs)
    k, n = first.size, 3 * rows * columns
    true = np.stack([*np.divmod(np.arange(rows * columns), columns), np.zeros(rows * columns)]) * 5000.0
    up = rng.normal(0.0, 1.0, (3, k))
    up /= np.sqrt((up**2).sum(axis=0))  # one way is known less well than the others
    covariance = 0.004**2 * np.eye(3)[:, :, None] + 0.008**2 * np.einsum("ik,jk->ijk", up, up)
    noise = 0.004 * rng.normal(0.0, 1.0, (3, k)) + 0.008 * up * rng.normal(0.0, 1.0, k)
    unknowns = np.concatenate([3 * second + np.arange(3)[:, None], 3 * first + np.arange(3)[:, None]])
    one = np.broadcast_to(np.hstack([np.eye(3), -np.eye(3)])[:, :, None], (3, 6, k)).copy()
    corners = at[[0, 0, -1, -1], [0, -1, 0, -1]]
    held = 3 * corners + np.arange(3)[:, None]
    eye = np.broadcast_to(np.eye(3)[:, :, None], (3, 3, 4)).copy()

    def vectors(x: np.ndarray) -> tuple[np.ndarray, np.ndarray]:
        return x[unknowns[:3]] - x[unknowns[3:]], one

    observed = true[:, second] - true[:, first] + noise
    known = ObservationGroup(
        observed=true[:, corners], covariance=1e-8 * eye, unknowns=held, model=lambda x: (x[held], eye)
    )
    group = ObservationGroup(observed=observed, covariance=covariance, unknowns=unknowns, model=vectors)
    names = tuple(map(str, range(n)))
    return GroupProblem(names=names, start=true.T.ravel() + 0.1, groups=(group, known), linear=True)


def judged(problem: GroupProblem) -> tuple[float, float, np.ndarray, np.ndarray]:
    """Solve, and every figure of every observation: seconds for the solution, for all; tests, redundancy."""
    begin = time.perf_counter()
    found = adjust(problem)
    solved = time.perf_counter() - begin
    statistics = found.groups[0]  # covariances of pairs hold those of their stations
    w, free = statistics.standardised, statistics.redundancy
    return solved, time.perf_counter() - begin, w, free


def main() -> None:
    """Countries of three sizes."""
    taken: list[tuple[int, float]] = []
    judged(country(40, 40))  # what is loaded once
    for rows, columns, budget, often in SIZES:
        problem = country(rows, columns)
        many, k = rows * columns, problem.groups[0].observed.shape[1]
        runs = [judged(problem) for _ in range(often)]
        solved, seconds, w, free = sorted(runs, key=lambda run: run[1])[often // 2]
        taken.append((many, seconds))
        print(
            f"{many} stations, {k} vectors: solved in {solved:.2f} s; w within {np.nanmax(np.abs(w)):.2f}, "
            f"redundancy {free.min():.2f} to {free.max():.2f}"
        )
        say(f"{many} stations with all covariances and tests", seconds * 1000.0, budget * 1000.0, "ms")
    (few, short), (lots, long) = taken[1], taken[-1]
    growth = math.log(long / short) / math.log(lots / few)
    say("growth of time with stations, exponent", growth, 1.2, "")
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024.0
    say("memory at most", peak, 1000.0, "MB")


if __name__ == "__main__":
    main()
