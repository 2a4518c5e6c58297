"""Rules about a network: the one value that is wrong, the test of the whole, what nothing checks."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np

from fenwind.doubts.network_blunders import WORDS, explanations, let_go
from fenwind.doubts.network_causes import grave
from fenwind.doubts.registry import Doubt
from fenwind.estimation.distributions import normal_quantile
from fenwind.procedures.network import NetworkResult
from fenwind.procedures.network_figures import FigureTable
from fenwind.quantities.numbers import format_fixed

#: A value is named as wrong where the whole fails, or alone above so many sigmas.
ALONE = 4.5
UNCHECKED = 0.1
#: With fewer degrees of freedom nothing is said of sigmas that are too large.
LEAST_DOF = 9


def network_doubts(
    result: NetworkResult, figures: FigureTable, p_value: float | None, alpha: float
) -> Iterator[Doubt]:
    """Blunders first, then the test of the whole, then what deserves a look. What a blunder explains, the
    test of the whole and residuals over their limit, is not told beside it."""
    limit = normal_quantile(1.0 - 0.5 * alpha)
    failed = p_value is not None and p_value < alpha
    yield from _unsettled(result)
    explained: list[Doubt] = []
    if failed or float(np.abs(np.nan_to_num(figures.tests())).max(initial=0.0)) > ALONE:
        explained = list(explanations(result, figures, alpha))
        yield from explained
    elif p_value is not None and p_value > 1.0 - alpha:
        yield from _too_large(result)
    if failed and not explained:
        yield Doubt(
            rule="adjust.global", subject="adjust", names=(), value=p_value, limit=alpha, unit="", grave=True,
            text="The residuals are larger than the stated sigmas allow.",
        )  # fmt: skip
    if result.lost:
        text = f"Nothing determines {', '.join(result.lost)}: observe more to it."
        if result.unplaced:
            text = (
                f"No starting place was found for {', '.join(result.unplaced)}: give approximate "
                "coordinates, or observe more."
            )
        yield Doubt(
            rule="adjust.undetermined", subject="adjust", names=result.lost, unit="", grave=True, text=text,
        )  # fmt: skip
    yield from _looked_at(result, figures, math.inf if explained else limit)
    angles = any(r.kind not in ("distance", "horizontal_distance", "vector") for r in result.net.rows)
    if not result.net.plane and result.net.dimensions == 3 and result.net.geoid is None and angles:
        yield Doubt(
            rule="adjust.deflection", subject="adjust", names=(), unit="",
            text="Angles and height differences are taken as if plumb lines were normals of the ellipsoid: "
            "the deflection is left out. Ten seconds of it are 4.8 mm in height on 100 m.",
        )  # fmt: skip


def _unsettled(result: NetworkResult) -> Iterator[Doubt]:
    """What kept the network from settling as it was given."""
    if result.let_go:
        yield let_go(result)
    if result.taken_as:
        text = (
            f"The given coordinates have {result.taken_as}. Nothing settles as they are: they were put right."
        )
        yield grave("adjust.frame", (), text, None, "")
    if result.found is not None and not result.found.converged:
        yield Doubt(
            rule="adjust.converged", subject="adjust", names=(), unit="", grave=True,
            text="The adjustment has not converged: a gross blunder leads it astray, and its figures are not "
            "final.",
        )  # fmt: skip


def _too_large(result: NetworkResult) -> Iterator[Doubt]:
    """Residuals far smaller than the sigmas promise; not grave, since nobody trusts them too much for it."""
    assert result.found is not None
    factor = math.sqrt(result.found.variance_factor or 0.0)
    if result.found.dof > LEAST_DOF:
        yield Doubt(
            rule="adjust.sigma", subject="adjust", names=(), value=factor, unit="",
            text=f"The sigmas are too large: residuals are {format_fixed(factor, 2)} times as large as they "
            "promise.",
        )  # fmt: skip


def _kind(kind: str) -> str:
    return WORDS.get(kind, kind)


def _looked_at(result: NetworkResult, figures: FigureTable, limit: float) -> Iterator[Doubt]:
    rows = len(result.net.rows)
    tests, redundancy = np.abs(figures.worst(rows)[2]), figures.least_redundancy(rows)
    tests[np.isinf(tests)] = np.nan
    for row in np.flatnonzero((tests > limit) | (redundancy < UNCHECKED)).tolist():
        observed, w, r = result.net.rows[row], float(tests[row]), float(redundancy[row])
        names = (observed.at, observed.to)
        if w > limit:
            yield Doubt(
                rule="adjust.residual", subject="adjust", names=names, value=w, limit=limit, unit="",
                text=f"The {_kind(observed.kind)} {names[0]} – {names[1]} has a residual of {w:.1f} sigmas.",
            )  # fmt: skip
        if r < UNCHECKED:
            yield Doubt(
                rule="adjust.unchecked", subject="adjust", names=names, value=r, limit=UNCHECKED, unit="",
                text=f"Hardly anything checks the {_kind(observed.kind)} {names[0]} – "
                f"{names[1]}.",
            )  # fmt: skip
