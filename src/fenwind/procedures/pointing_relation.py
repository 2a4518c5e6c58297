"""The relation between a position receiver without corrections and a total station, found from points that
both saw: good enough to point a search, never for a coordinate."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.procedures.similarity import Similarity, alike, estimate

FloatArray = NDArray[np.float64]

#: Points that are counted: so far from the instrument, and so many of them (common practice, no source).
FAR_M, ENOUGH = 20.0, 5
#: What the points may leave over, metres: twice what a receiver without corrections wanders.
LOOSE_M = 6.0


@dataclass(frozen=True, kw_only=True, eq=False)
class Relation:
    """A shift and a turn from the receiver's plane onto the instrument's own, whose ordinate lies along zero
    of its circle. rms_m: what the points leave over in plan."""

    plan: Similarity
    rms_m: float

    def place(self, e_m: float, n_m: float) -> FloatArray:
        """Abscissa and ordinate (2,) from the instrument of where the receiver says it is, metres."""
        return np.array(self.plan.forward(np.array(e_m), np.array(n_m)))

    def direction(self, e_m: float, n_m: float) -> tuple[float, float]:
        """Direction of the circle to there, radians, and how far to either side it may be out, three times
        what the points leave over."""
        x, y = self.place(e_m, n_m)
        away = max(math.hypot(x, y), 1.0)
        return math.atan2(x, y) % (2.0 * math.pi), math.atan(3.0 * self.rms_m / away)


def relation_of(receiver: FloatArray, seen: FloatArray) -> Relation | str:
    """The relation of points (2, k) on the receiver's plane and as the instrument saw them (abscissa,
    ordinate), or in words what is missing."""
    far = np.hypot(seen[0], seen[1]) > FAR_M
    count = int(far.sum())
    if count < ENOUGH:
        return f"{count} of {ENOUGH} points farther than {FAR_M:.0f} m"
    receiver, seen = receiver[:, far], seen[:, far]
    azimuth = np.sort(np.arctan2(seen[0], seen[1]))
    gaps = np.diff(np.concatenate([azimuth, azimuth[:1] + 2.0 * math.pi]))
    if gaps.max() > math.pi:
        return "points all around the instrument"
    try:
        plan, _ = estimate(alike(receiver, seen), "turn")
    except ProcedureError:
        return "a receiver that moves with the prism: its points are at one place"
    off = np.stack(plan.forward(*receiver)) - seen
    rms = float(np.sqrt(np.mean(np.sum(off**2, axis=0))))
    if rms > LOOSE_M:
        return f"a receiver that moves with the prism: its points differ by {rms:.0f} m"
    return Relation(plan=plan, rms_m=rms)
