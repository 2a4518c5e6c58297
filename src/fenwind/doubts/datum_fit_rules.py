"""Doubts about a fit of two sets of positions in space: names exchanged, one pair that is off."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from fenwind.doubts.registry import Doubt
from fenwind.estimation.distributions import f_tail
from fenwind.procedures.datum_fit import datum_fit, leave_one_out
from fenwind.quantities.lengths import format_way

FloatArray = NDArray[np.float64]

#: A pair stands out when it misses by what it would by chance in one of a thousand fits, and by more than
#: so much, metres.
ALPHA, LEAST_M = 0.001, 0.001
#: Names are exchanged where the fit leaves less than this part of what it left before.
EXCHANGED = 0.05
#: Pairs that are tried against each other, those that miss by most.
MOST_TRIED = 12


def datum_fit_doubts(
    names: Sequence[str], source: FloatArray, target: FloatArray, parameters: int
) -> Iterator[Doubt]:
    """Doubts about pairs (3, k) in geocentric metres, causes first."""
    exchanged = _exchanged(names, source, target, parameters)
    if exchanged is not None:
        yield exchanged
        return
    yield from _standing_out(names, source, target, parameters)


def _left(source: FloatArray, target: FloatArray, parameters: int) -> float:
    """Root mean square of what a fit leaves, metres."""
    away = datum_fit(source, target, parameters).carry(source) - target
    return float(np.sqrt(np.mean(np.sum(away**2, axis=0))))


def _exchanged(names: Sequence[str], source: FloatArray, target: FloatArray, parameters: int) -> Doubt | None:
    """Two pairs whose names look exchanged: the fit that has them so leaves hardly anything."""
    if len(names) < 4:
        return None
    fit = datum_fit(source, target, parameters)
    size = np.linalg.norm(fit.carry(source) - target, axis=0)
    before = float(np.sqrt(np.mean(size**2)))
    tried = []
    for i, j in combinations(np.argsort(-size)[:MOST_TRIED].tolist(), 2):
        order = np.arange(len(names))
        order[[i, j]] = j, i
        tried.append((_left(source, target[:, order], parameters), i, j))
    left, i, j = min(tried)
    if left > EXCHANGED * before or before < LEAST_M:
        return None
    apart = float(np.linalg.norm(target[:, i] - target[:, j]))
    a, b = sorted((names[i], names[j]))
    return Doubt(
        rule="datum-fit.names", subject="datum-fit", names=(a, b), value=apart, grave=True,
        text=f"The names {a} and {b} look exchanged, {format_way(apart)} apart: so the pairs agree to "
        f"{format_way(left)} instead of {format_way(before)}.",
    )  # fmt: skip


def _standing_out(
    names: Sequence[str], source: FloatArray, target: FloatArray, parameters: int
) -> Iterator[Doubt]:
    """The pair that the others make least likely, where that is no chance among so many."""
    if 3 * (len(names) - 1) <= parameters:
        return
    others = leave_one_out(source, target, parameters)
    chance = f_tail(others.test, 3, others.dof) if others.dof > 0 else np.full(len(names), np.nan)
    if not np.isfinite(chance).any():
        return
    worst = int(np.nanargmin(chance))
    away = float(np.linalg.norm(others.away[:, worst]))
    if float(chance[worst]) * len(names) < ALPHA and away > LEAST_M:
        yield Doubt(
            rule="datum-fit.pair", subject="datum-fit", names=(names[worst],), value=away, grave=True,
            text=f"{names[worst]} lies {format_way(away)} from where the other pairs put it.",
        )  # fmt: skip
