"""Moving a point list: every mark by one similarity but those that stay."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.exchange.point_list import PointList
from fenwind.procedures.fit import FitResult
from fenwind.procedures.move import Move
from fenwind.procedures.positions import Positions, positions


@dataclass(frozen=True, kw_only=True, eq=False)
class MovedList:
    """The list after the move, and which of its marks stayed (k,) with the reason by name."""

    points: Positions
    stayed: NDArray[np.bool_]
    reasons: dict[str, str]


def move_list(found: PointList, move: Move, stay: tuple[str, ...], result: FitResult | None = None) -> MovedList:
    """Move a list of plane coordinates; names in `stay` and marks at a pair's target stay. With the fit's `result` sigmas that came in are
    carried with its own uncertainty.

    Raises ProcedureError for geographic lists, for names that stand twice, and for names to stay that are not in it.
    """
    if found.geographic:
        raise ProcedureError(
            "latitude and longitude cannot be moved by a plane fit", where=found.source, hint="Give the list as name,e,n,h"
        )
    if len(set(found.names)) < len(found.names):
        raise ProcedureError("a name stands twice in the list", where=found.source, hint="Rename one of them")
    points = positions(found.names, *found.values)
    unknown = [n for n in stay if n not in points.index]
    if unknown:
        raise ProcedureError(f"no mark {unknown[0]!r} to leave where it is", where=found.source, hint="Name marks of the file")
    reasons = {
        n: "is a target of the move" for n, at in zip(points.names, move.at_target(points.e_m, points.n_m), strict=True) if at
    }
    reasons |= {n: f"named: {n}" for n in stay}
    fixed = np.array([n in reasons for n in points.names], dtype=bool)
    old = (points.e_m, points.n_m, points.height_m)
    e, n, h = (np.where(fixed, before, after) for before, after in zip(old, move.apply(*old), strict=True))
    carried = points if move.backwards or result is None else result.forward(points)
    covariance = np.where(fixed, points.covariance, carried.covariance)
    covariance[:, :, ~np.isfinite(points.covariance[0, 0])] = np.nan  # no sigma came in, so none goes out
    after = Positions(names=points.names, e_m=e, n_m=n, height_m=h, covariance=covariance)
    return MovedList(points=after, stayed=fixed, reasons=reasons)
