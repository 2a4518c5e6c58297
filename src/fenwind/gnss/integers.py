"""Integers nearest to correlated real numbers: decorrelation and search (Teunissen, The least-squares
ambiguity decorrelation adjustment, Journal of Geodesy 70, 1995; search by de Jonge and Tiberius, 1996), and
how likely they are right (Teunissen 1998: bootstrapping bounds integer least squares from below)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True, eq=False)
class Decorrelated:
    """Z (n, n) of integers with determinant 1 so that Z' a are nearly uncorrelated; their L and D of
    Q = L' D L, unit lower triangular and (n,)."""

    z: FloatArray
    lower: FloatArray
    d: FloatArray

    @property
    def success_rate(self) -> float:
        """Probability that rounding one after the other is right: a lower bound for the search."""
        from scipy.special import ndtr

        return float(np.prod(2.0 * ndtr(0.5 / np.sqrt(self.d)) - 1.0))


def factored(q: FloatArray) -> tuple[FloatArray, FloatArray]:
    """L (n, n) and D (n,) of Q = L' D L. Raises numpy.linalg.LinAlgError where Q is not positive definite."""
    a = q.copy()
    n = a.shape[0]
    lower, d = np.zeros((n, n)), np.zeros(n)
    for i in range(n - 1, -1, -1):
        d[i] = a[i, i]
        if not d[i] > 0.0:
            raise np.linalg.LinAlgError("the covariance is not positive definite")
        lower[i, : i + 1] = a[i, : i + 1] / d[i]
        a[:i, :i] -= np.outer(lower[i, :i], lower[i, :i]) * d[i]
    return lower, d


def decorrelated(q: FloatArray) -> Decorrelated:
    """Integer transformations and exchanges until nothing is gained."""
    lower, d = factored(q)
    n = d.size
    z = np.eye(n)
    i, last = n - 2, n - 2
    while i >= 0:
        if i <= last:
            for k in range(i + 1, n):
                whole = np.round(lower[k, i])
                if whole:
                    lower[k:, i] -= whole * lower[k:, k]
                    z[:, i] -= whole * z[:, k]
        raised = d[i] + lower[i + 1, i] ** 2 * d[i + 1]
        if raised + 1e-12 < d[i + 1]:
            share, factor = d[i] / raised, d[i + 1] * lower[i + 1, i] / raised
            d[i], d[i + 1] = share * d[i + 1], raised
            above = lower[i, :i].copy()
            lower[i, :i] = -lower[i + 1, i] * above + lower[i + 1, :i]
            lower[i + 1, :i] = share * above + factor * lower[i + 1, :i]
            lower[i + 1, i] = factor
            lower[i + 2 :, [i, i + 1]] = lower[i + 2 :, [i + 1, i]]
            z[:, [i, i + 1]] = z[:, [i + 1, i]]
            last, i = i, n - 2
        else:
            i -= 1
    return Decorrelated(z=z, lower=lower, d=d)


#: Steps of a search after which it is given up.
MOST_STEPS = 200_000


def nearest(a: FloatArray, found: Decorrelated, count: int = 2) -> tuple[FloatArray, FloatArray]:
    """The integer vectors (n, count) nearest to a (n,) in the metric of its covariance, the best first, and
    their squared norms; infinite norms where the search was given up."""
    n = a.size
    real = found.z.T @ a
    best = np.full((n, count), np.nan)
    norms = np.full(count, np.inf)
    center, chosen, side, norm = np.zeros(n), np.zeros(n), np.zeros(n), np.zeros(n + 1)
    sums = np.zeros((n, n))
    k = n - 1
    center[k] = real[k]
    chosen[k] = np.round(center[k])
    side[k] = 1.0 if center[k] >= chosen[k] else -1.0
    for _ in range(MOST_STEPS):
        fresh = norm[k + 1] + (center[k] - chosen[k]) ** 2 / found.d[k]
        if fresh < norms[-1]:
            if k > 0:
                k -= 1
                norm[k + 1] = fresh
                sums[k, : k + 1] = (
                    sums[k + 1, : k + 1] + (chosen[k + 1] - center[k + 1]) * found.lower[k + 1, : k + 1]
                )
                center[k] = real[k] + sums[k, k]
                chosen[k] = np.round(center[k])
                side[k] = 1.0 if center[k] >= chosen[k] else -1.0
                continue
            place = int(np.searchsorted(norms, fresh))
            best[:, place + 1 :] = best[:, place:-1]
            norms[place + 1 :] = norms[place:-1]
            best[:, place], norms[place] = chosen, fresh
        else:
            if k == n - 1:
                break
            k += 1
        chosen[k] += side[k]
        side[k] = -side[k] - np.sign(side[k])
    back = np.round(np.linalg.solve(found.z.T, best)) if np.isfinite(best).all() else best
    return np.asarray(back, dtype=np.float64), np.asarray(norms, dtype=np.float64)


#: Integers are accepted at this success rate and ratio, or at the higher rate alone.
SUCCESS, RATIO, SURE = 0.999, 2.0, 0.99999
SURE_RATIO = 1.3


@dataclass(frozen=True, kw_only=True, eq=False)
class Search:
    """Rows that were searched, the integers found, ratio and success rate, and whether they are taken."""

    rows: list[int]
    integers: FloatArray
    ratio: float
    success: float
    accepted: bool


def searched(a: FloatArray, q: FloatArray, rows: list[int]) -> Search | None:
    """Integers of as many of some rows as reach the success rate, those worst known left out first."""
    while rows:
        part = q[np.ix_(rows, rows)]
        try:
            found = decorrelated(0.5 * (part + part.T))
        except np.linalg.LinAlgError:
            return None
        rate = found.success_rate
        if rate >= SUCCESS or len(rows) <= 4:
            best, norms = nearest(a[rows], found)
            ratio = (
                float(norms[1] / norms[0]) if norms[0] > 0.0 and np.isfinite(norms).all() else float("inf")
            )
            fine = rate >= SUCCESS and np.isfinite(norms[0]) and (
                ratio >= RATIO or (rate >= SURE and ratio >= SURE_RATIO)
            )  # fmt: skip
            return Search(rows=rows, integers=best[:, 0], ratio=ratio, success=rate, accepted=bool(fine))
        worst = max(range(len(rows)), key=lambda k: part[k, k])
        rows = [r for k, r in enumerate(rows) if k != worst]
    return None
