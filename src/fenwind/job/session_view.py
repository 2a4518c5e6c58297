"""What bases and occupations came to, for reading: departures from the mean, what a change moved."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from datetime import datetime

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.frames import Frame
from fenwind.geodesy.geocentric import enu_axes, from_xyz
from fenwind.job.derive import Derived
from fenwind.job.steps.occupied import plane_axes
from fenwind.job.steps.receiver_known import NONE_KNOWN, KnownPoints, receiver_known
from fenwind.job.steps.rover import NO_ROVER, RoverMarks, rover_node
from fenwind.procedures.rover import Point
from fenwind.procedures.shared_errors import shared
from fenwind.records.sessions import Occupation

FloatArray = NDArray[np.float64]

#: A mark that came to lie elsewhere by more has moved, metres.
MOVED_M = 1e-6


def rover_of(derived: Derived) -> RoverMarks:
    """What rovers measured."""
    outcome = derived.outcomes.get(rover_node())
    return outcome.result if outcome is not None and outcome.result is not None else NO_ROVER


def known_of(derived: Derived) -> KnownPoints:
    """Known marks in the system of the receivers, by id."""
    outcome = derived.outcomes.get(receiver_known())
    return outcome.result if outcome is not None and outcome.result is not None else NONE_KNOWN


def places(derived: Derived) -> dict[str, Point]:
    """The position of every mark in the system of the receivers: the known one, else the measured one."""
    return dict(rover_of(derived).marks) | dict(known_of(derived))


def enu_between(point: Point, reference: Point) -> FloatArray:
    """East, north, up (3,) of a point from another, metres."""
    return ways_between([point], [reference])[:, 0]


def ways_between(points: Sequence[Point], references: Sequence[Point]) -> FloatArray:
    """East, north, up (3, k) of points from others, metres."""
    to, at = (np.array([p.xyz for p in some]).reshape(-1, 3).T for some in (points, references))
    lat, lon, _ = from_xyz(at)
    return np.asarray(np.einsum("ijk,jk->ik", enu_axes(lat, lon), to - at))


def between(derived: Derived, frame: Frame, one: str, other: str) -> FloatArray | None:
    """Covariance (3, 3) of a mark less another (by ids) on the plane of a frame, where both are known or
    measured from bases: what they share is not in it. None where one is neither."""
    points = places(derived)
    if one not in points or other not in points:
        return None
    a, b = points[one], points[other]
    axes = []
    for point in (a, b):
        lat, lon, _ = point.geodetic
        axes.append(plane_axes(frame, np.array([lat]), np.array([lon]))[:, :, 0])
    cross = axes[0] @ shared(a.errors, b.errors) @ axes[1].T
    own = [x @ p.errors.total @ x.T for x, p in zip(axes, (a, b), strict=True)]
    return np.asarray(own[0] + own[1] - cross - cross.T)


@dataclass(frozen=True, slots=True, kw_only=True)
class Moved:
    """How many marks a change moved, and the largest of each way in size, with its sign, metres."""

    marks: int = 0
    de_m: float = 0.0
    dn_m: float = 0.0
    dh_m: float = 0.0


def moved(before: Mapping[str, Point], after: Mapping[str, Point]) -> Moved:
    """What a change moved, in local east, north, up: after less before."""
    common = [key for key in before if key in after]
    if not common:
        return Moved()
    ways = ways_between([after[key] for key in common], [before[key] for key in common]).T
    away = np.linalg.norm(ways, axis=1) > MOVED_M
    if not away.any():
        return Moved()
    largest = [float(ways[np.argmax(np.abs(ways[:, k])), k]) for k in range(3)]
    return Moved(marks=int(away.sum()), de_m=largest[0], dn_m=largest[1], dh_m=largest[2])


@dataclass(frozen=True, slots=True, kw_only=True)
class MarkSummary:
    """A mark's used occupations: how many, largest less smallest of east, north, up (None for one), and
    hours from the first start to the last."""

    count: int
    spread_m: tuple[float, float, float] | None
    separation_h: float | None


def summary(rows: list[Occupation], rover: RoverMarks, mark: str) -> MarkSummary:
    """The summary of a mark (by id) from all occupations."""
    ids = rover.used.get(mark, ())
    if not ids:
        return MarkSummary(count=0, spread_m=None, separation_h=None)
    ways = ways_between([rover.each[i] for i in ids], [rover.marks[mark]] * len(ids)).T
    e, n, u = (float(v) for v in ways.max(axis=0) - ways.min(axis=0))
    starts = sorted(o.started for o in rows if o.id in ids)
    apart = (datetime.fromisoformat(starts[-1]) - datetime.fromisoformat(starts[0])).total_seconds() / 3600.0
    many = len(ids) > 1
    return MarkSummary(
        count=len(ids), spread_m=(e, n, u) if many else None, separation_h=apart if many else None
    )
