"""Everything that closes in the observations of a network: loops of vectors and of heights, triangles from
angles or directions, distances measured again."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.procedures.loop_closures import (
    Closure,
    Corner,
    Leg,
    Limit,
    closures,
    pairs_of,
    repeated,
    triangles,
)

FloatArray = NDArray[np.float64]


@dataclass(slots=True, kw_only=True, eq=False)
class Observed:
    """An observation: a number of its own (its line in a file, its row in a record), value (b,) in metres or
    radians with its covariance (b, b); back: the first target of an angle."""

    line: int
    kind: str
    at: str
    to: str
    back: str
    set: str
    value: FloatArray
    covariance: FloatArray


def closures_of(every: Sequence[Observed], plane: bool, limit: Limit = None) -> list[Closure]:
    """Everything that closes in observations. plane: triangles have no spherical excess; limit: metres and a
    part of the length, None for 3.29 sigmas."""
    vectors, heights = _legs(every, "vector"), _legs(every, "height_difference")
    distances = _legs(every, "distance")
    sides: dict[frozenset[str], float] = {}
    for leg in distances:
        sides.setdefault(frozenset((leg.at, leg.to)), float(leg.value[0]))
    for leg in vectors:
        sides.setdefault(frozenset((leg.at, leg.to)), math.hypot(*leg.value))
    found = closures("vector", vectors, limit) if vectors else []
    found += closures("height", heights, limit) if heights else []
    return found + triangles(_corners(every), sides, plane) + repeated(distances, limit)


def _legs(every: Sequence[Observed], kind: str) -> list[Leg]:
    return [
        Leg(line=o.line, at=o.at, to=o.to, value=o.value, covariance=o.covariance)
        for o in every
        if o.kind == kind
    ]


def _corners(every: Sequence[Observed]) -> dict[tuple[str, frozenset[str]], Corner]:
    """Interior angles by mark and targets, the first of each: observed as angles, or as two directions."""
    out: dict[tuple[str, frozenset[str]], Corner] = {}
    for o in every:
        if o.kind == "angle":
            corner = Corner(
                angle=_interior(float(o.value[0])), lines=(o.line,), variance=float(o.covariance[0, 0])
            )
            out.setdefault((o.at, frozenset((o.back, o.to))), corner)
    sets: dict[tuple[str, str], dict[str, Observed]] = {}
    for o in every:
        if o.kind == "direction":
            sets.setdefault((o.at, o.set), {}).setdefault(o.to, o)
    for (at, _), targets in sets.items():
        for a, b in pairs_of(list(targets)):
            one, two = targets[a], targets[b]
            corner = Corner(
                angle=_interior(float(two.value[0] - one.value[0])), lines=(one.line, two.line),
                variance=float(one.covariance[0, 0] + two.covariance[0, 0]),
            )  # fmt: skip
            out.setdefault((at, frozenset((a, b))), corner)
    return out


def _interior(angle: float) -> float:
    found = angle % (2.0 * math.pi)
    return min(found, 2.0 * math.pi - found)
