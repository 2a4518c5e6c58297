"""A traverse by least squares: stations between two held ends from angles, azimuths and distances as booked.
Each value touches the few stations at the ends of its lines, so that long traverses stay sparse."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.estimation.band import BandSolver
from fenwind.estimation.engine import adjust
from fenwind.estimation.groups import GroupProblem, ObservationGroup
from fenwind.quantities.angles import wrap_all

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.intp]


#: Legs from which on the band alone is looked at, and how far apart the unknowns of an angle stand: those of
#: the stations before and after.
LONG, BAND = 60, 5


@dataclass(frozen=True, slots=True, kw_only=True)
class Turn:
    """What one booked direction is of azimuths: a forward one times `ahead`, a back one times `behind`, and
    an offset; forward, back: numbers of the lines (leg k leads from station k to k + 1), or -1 for one that
    is known and in the offset. value: as booked. Radians."""

    ahead: float
    behind: float
    offset: float
    forward: int
    back: int
    value: float


@dataclass(frozen=True, kw_only=True, eq=False)
class Squares:
    """Stations (2, n + 1), both ends among them; degrees of freedom, and the variance factor, None without
    any."""

    stations: FloatArray
    dof: int
    variance_factor: float | None


def least_squares(
    names: Sequence[str],
    start: FloatArray,
    turns: Sequence[Turn],
    sigma_angle: float,
    lengths: FloatArray,
    sigmas: FloatArray,
) -> Squares:
    """Adjust stations (2, n + 1), of which the first and the last are held, from where they begin; lengths
    (n,) of the legs with their sigmas. Raises EstimationError and DatumDefectError."""
    n = lengths.size
    ends = start[:, [0, -1]]

    def points(x: FloatArray) -> FloatArray:
        return np.concatenate([ends[:, :1], x.reshape(n - 1, 2).T, ends[:, 1:]], axis=1)

    columns = {name: np.array([getattr(t, name) for t in turns]) for name in Turn.__slots__}
    angles = _Angles(points=points, **columns)
    way = _places(n, np.arange(n))
    groups = (
        ObservationGroup(
            observed=np.zeros((1, len(turns))), covariance=np.full((1, 1, len(turns)), sigma_angle**2),
            unknowns=np.concatenate([_places(n, columns["forward"]), _places(n, columns["back"])]),
            model=angles.model, name="angles",
        ),
        ObservationGroup(
            observed=lengths[None], covariance=sigmas[None, None] ** 2, unknowns=way,
            model=lambda x: _lengths(points(x)), name="lengths",
        ),
    )  # fmt: skip
    if n == 1:  # both ends are held: nothing to move
        off = np.concatenate(
            [angles.model(np.zeros(0))[0][0] / sigma_angle, (_lengths(start)[0][0] - lengths) / sigmas]
        )
        return Squares(stations=start, dof=off.size, variance_factor=float(np.mean(off**2)))
    found = adjust(
        GroupProblem(
            names=tuple(f"{axis} {name}" for name in names[1:-1] for axis in "en"),
            start=start[:, 1:n].T.ravel(), groups=groups,
        ),
        BandSolver(BAND) if n > LONG else None,
    )  # fmt: skip
    return Squares(stations=points(found.x), dof=found.dof, variance_factor=found.variance_factor)


def _places(n: int, lines: IntArray) -> IntArray:
    """Unknowns (4, m) of lines: e, n of the station that each comes from, then of that it leads to; 0, with
    slopes of none, for held ends and known lines."""
    rows = []
    for station in (lines, lines + 1):
        held = (lines < 0) | (station == 0) | (station == n)
        rows += [np.where(held, 0, 2 * (station - 1)), np.where(held, 0, 2 * (station - 1) + 1)]
    return np.stack(rows)


def _slopes(stations: FloatArray, lines: IntArray, by_end: FloatArray) -> FloatArray:
    """Slopes (4, m) by the places of lines from those by their far ends (2, m): nothing for what is held."""
    n = stations.shape[1] - 1
    rows = []
    for sign, station in ((-1.0, lines), (1.0, lines + 1)):
        held = (lines < 0) | (station == 0) | (station == n)
        rows += [np.where(held, 0.0, sign * part) for part in by_end]
    return np.stack(rows)


def _lengths(stations: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Lengths (1, n) of the legs, and their slopes (1, 4, n)."""
    d = np.diff(stations, axis=1)
    length = np.hypot(*d)
    return length[None], _slopes(stations, np.arange(length.size), d / length)[None]


@dataclass(frozen=True, kw_only=True, eq=False)
class _Angles:
    """All directions, a column a field of Turn."""

    points: Callable[[FloatArray], FloatArray]
    ahead: FloatArray
    behind: FloatArray
    offset: FloatArray
    forward: IntArray
    back: IntArray
    value: FloatArray

    def model(self, x: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Computed less booked (1, m), and the slopes (1, 8, m) by the places of both lines."""
        stations = self.points(x)
        d = np.diff(stations, axis=1)
        azimuth, turn = np.arctan2(d[0], d[1]), np.stack([d[1], -d[0]]) / np.hypot(*d) ** 2
        off, rows = self.offset - self.value, []
        for lines, factor in ((self.forward, self.ahead), (self.back, self.behind)):
            there = lines >= 0
            off = off + np.where(there, factor * azimuth[lines], 0.0)
            rows.append(factor * _slopes(stations, lines, turn[:, lines]))
        return wrap_all(off)[None], np.concatenate(rows)[None]
