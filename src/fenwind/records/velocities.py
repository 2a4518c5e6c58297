"""Velocities of marks: how each moves in a datum, beside or instead of its plate."""

from __future__ import annotations

from dataclasses import dataclass

#: No mark moves faster, metres a year: the fastest plates known do 0.1 to 0.25 (common practice, no source).
FASTEST_M = 0.3


@dataclass(frozen=True, slots=True, kw_only=True)
class MarkVelocity:
    """How a mark (id) moves in the datum of a frame (id): east, north, up on its ellipsoid, metres a year."""

    id: str
    mark: str
    frame: str
    east_m: float
    north_m: float
    up_m: float
    source: str = ""
    active: bool = True
