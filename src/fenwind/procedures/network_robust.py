"""A second opinion on a network: which observations stand out when none may pull the others.

Iteratively reweighted least squares: five rounds towards the smallest sum of absolute residuals, then Huber's
weights, min(1, k / |u|) of residuals u in sigmas, until they stay (Huber, Robust Statistics, 1981; from
memory). The coordinates of the network stay those of least squares.
"""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenwind.procedures.network import NetworkResult, solve

FloatArray = NDArray[np.float64]

#: Residuals over so many sigmas lose weight, and those with less weight than the second stand out.
BEND, STANDS_OUT = 2.0, 0.5
ABSOLUTE_ROUNDS, ROUNDS, SETTLED = 5, 40, 1e-3
#: Residuals of fewer sigmas have the weight of these, in the rounds of absolute residuals.
LEAST = 0.2
#: The median of a normal error is this part of its sigma.
MEDIAN = 0.6745


@dataclass(frozen=True, kw_only=True, eq=False)
class Robust:
    """weights (rows,): of every row of the network, 1 where it keeps all of it; residuals (rows,): of its
    worst component in stated sigmas; spread: what the stated sigmas had to be multiplied by."""

    weights: FloatArray
    residuals: FloatArray
    spread: float

    def standing_out(self) -> list[int]:
        """Rows that stand out, the worst first."""
        rows = np.flatnonzero(self.weights < STANDS_OUT)
        return [int(r) for r in rows[np.argsort(self.weights[rows], kind="stable")]]


def second_opinion(result: NetworkResult) -> Robust:
    """Weights of the rows of a network that was solved. Raises EstimationError when they do not settle."""
    net, marks = result.net, result.marks
    now, weights, spread = result, np.ones(len(net.rows)), 1.0
    for number in range(ROUNDS):
        u, components = _in_sigmas(now, weights)
        if number <= ABSOLUTE_ROUNDS:
            spread = _spread(components, now)
        if number < ABSOLUTE_ROUNDS:
            fresh = 1.0 / np.maximum(u / spread, LEAST)
        else:
            fresh = np.minimum(1.0, BEND / np.maximum(u / spread, 1e-12))
        if number > ABSOLUTE_ROUNDS and np.abs(fresh - weights).max(initial=0.0) < SETTLED:
            break
        weights = fresh
        rows = tuple(
            replace(r, covariance=r.covariance / w) for r, w in zip(net.rows, weights.tolist(), strict=True)
        )
        now = solve(replace(net, rows=rows), marks)
        marks = now.marks
    return Robust(weights=weights, residuals=_in_sigmas(now, weights)[0], spread=spread)


def _in_sigmas(result: NetworkResult, weights: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Residuals of every row in stated sigmas, of a vector its worst component; and of every component."""
    assert result.found is not None
    u, every = np.zeros(weights.size), []
    for part, group in zip(result.parts, result.found.groups, strict=False):
        components = np.abs(group.whitened_residuals) / np.sqrt(weights[part.rows])
        u[part.rows] = components.max(axis=0)
        every.append(components.ravel())
    return u, np.concatenate(every)


def _spread(components: FloatArray, result: NetworkResult) -> float:
    """How far the middle one of the residuals lies, at least 1. As many as there are unknowns are next to
    nothing in a sum of absolute residuals, and say nothing."""
    assert result.found is not None
    dof = min(max(result.found.dof, 1), components.size)
    return max(1.0, float(np.median(np.sort(components)[-dof:])) / MEDIAN)
