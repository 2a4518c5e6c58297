"""Moving a survey from one system to another: how pairs say where it goes, what is checked before, and what
stays put.

A move is a fit (module fit) applied to everything that belongs to the survey. Shift only, turn only, the
two-pair pivot and least squares differ only in the pairs and in what is free.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.procedures.fit import FitOptions, FitResult, fit
from fenwind.procedures.heights import HeightCorrection
from fenwind.procedures.positions import Positions, positions
from fenwind.procedures.similarity import Similarity

FloatArray = NDArray[np.float64]

#: A place this near to a pair's target is the target itself, metres or the unit of the pairs.
AT_TARGET = 0.001
#: Distances compared at most; with more pairs only those to the nearest and to the farthest mark are.
MOST_DISTANCES = 400


@dataclass(frozen=True, kw_only=True, eq=False)
class Move:
    """A plane similarity and a height correction. heights: whether heights change at all. backwards: it goes
    from target to source."""

    plan: Similarity
    height: HeightCorrection
    heights: bool
    targets: FloatArray
    backwards: bool = False

    def apply(self, e: FloatArray, n: FloatArray, h: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Coordinates (k,) after the move; heights that are nan stay nan."""
        if self.backwards:
            east, north = self.plan.inverse(e, n)
            return east, north, h - self.height.correction(e, n) if self.heights else h
        east, north = self.plan.forward(e, n)
        return east, north, h + self.height.correction(east, north) if self.heights else h

    def at_target(self, e: FloatArray, n: FloatArray) -> NDArray[np.bool_]:
        """Which places (k,) are where the pairs' marks are to come: these are the targets themselves and
        stay."""
        there = np.zeros(len(e), dtype=bool)
        for east, north in self.targets.T:  # few pairs, many places
            there |= np.hypot(e - east, n - north) <= AT_TARGET
        return there

    @property
    def scale(self) -> float:
        """Scale of the move as it is carried out."""
        return 1.0 / self.plan.scale if self.backwards else self.plan.scale


@dataclass(frozen=True, kw_only=True, eq=False)
class Distances:
    """Distances between the marks of the pairs in both systems, (k,): the check for accidental scale."""

    first: tuple[str, ...]
    second: tuple[str, ...]
    source: FloatArray
    target: FloatArray

    @property
    def difference(self) -> FloatArray:
        """Target - source."""
        return self.target - self.source

    @property
    def ratio(self) -> float:
        """Middle one of the ratios target / source; nan without any."""
        return float(np.median(self.target / self.source)) if self.source.size else math.nan


def distances(source: Positions, target: Positions) -> Distances:
    """Compare distances in plan between marks that stand in both sets. Marks at one place are left out."""
    names = [n for n in source.names if n in target.index]
    a = np.array([source.index[n] for n in names], dtype=int)
    b = np.array([target.index[n] for n in names], dtype=int)
    i, j = np.triu_indices(len(names), 1)
    if i.size > MOST_DISTANCES:  # from two marks far apart to all others
        middle = np.hypot(source.e_m[a] - source.e_m[a].mean(), source.n_m[a] - source.n_m[a].mean())
        far = int(np.argmax(middle))
        opposite = int(
            np.argmax(np.hypot(source.e_m[a] - source.e_m[a[far]], source.n_m[a] - source.n_m[a[far]]))
        )
        keep = (i == far) | (j == far) | (i == opposite) | (j == opposite)
        i, j = i[keep], j[keep]
    before = np.hypot(source.e_m[a[i]] - source.e_m[a[j]], source.n_m[a[i]] - source.n_m[a[j]])
    after = np.hypot(target.e_m[b[i]] - target.e_m[b[j]], target.n_m[b[i]] - target.n_m[b[j]])
    apart = (before > 0) & (after > 0)
    return Distances(
        first=tuple(names[k] for k in i[apart]),
        second=tuple(names[k] for k in j[apart]),
        source=before[apart],
        target=after[apart],
    )


def move_of(result: FitResult, target: Positions, *, backwards: bool = False) -> Move:
    """The move a fit stands for; `target` holds the positions its pairs come to."""
    rows = np.array([target.index[n] for n in result.pairs.names], dtype=int)
    places = np.stack([target.e_m[rows], target.n_m[rows]])
    return Move(
        plan=result.plan,
        height=result.height,
        heights=result.options.height != "none",
        targets=np.zeros((2, 0)) if backwards else places,
        backwards=backwards,
    )


def shift_pairs(e: float, n: float, h: float, to: tuple[float, float, float]) -> tuple[Positions, Positions]:
    """The pair of a shift only: a mark at e, n, h comes to `to`; nan heights for none."""
    return _one("mark", e, n, h), _one("mark", *to)


def turn(about: tuple[float, float], rotation_rad: float) -> tuple[Positions, Positions, FitOptions]:
    """Pairs and options of a turn only, clockwise by `rotation_rad` about a place that stays."""
    pair = _one("mark", *about, math.nan)
    return pair, pair, FitOptions(horizontal="turn", height="none", rotation_rad=rotation_rad)


def turn_between(
    about: tuple[float, float], to_now: tuple[float, float], to_then: tuple[float, float]
) -> float:
    """The turn (radians, clockwise, within half a circle) that brings the direction from `about` to `to_now`
    onto that to `to_then`.

    Raises ProcedureError where a direction has no length.
    """
    bearings = []
    for e, n in (to_now, to_then):
        if math.hypot(e - about[0], n - about[1]) == 0.0:
            raise ProcedureError(
                "a direction needs two different places", hint="Choose a mark that lies apart from the pivot"
            )
        bearings.append(math.atan2(e - about[0], n - about[1]))
    return math.remainder(bearings[1] - bearings[0], 2 * math.pi)


def _one(name: str, e: float, n: float, h: float) -> Positions:
    return positions([name], np.array([e]), np.array([n]), np.array([h]))


def move_fit(source: Positions, target: Positions, options: FitOptions) -> FitResult:
    """The fit of a move: as `fit`, with heights that are asked for but not there refused instead of passed
    over. Raises ProcedureError."""
    if options.height != "none":
        both = [n for n in source.names if n in target.index]
        fine = [
            n
            for n in both
            if math.isfinite(source.height_m[source.index[n]] + target.height_m[target.index[n]])
        ]
        if not fine:
            raise ProcedureError(
                "no pair has a height in both systems",
                hint="Give a mark's height in both, or leave heights untouched",
            )
    return fit(source, target, options)
