"""A traverse collected from setups: angles between backsight and foresight, and what was measured both ways
along a leg averaged, which takes curvature and refraction out of its height difference."""

from __future__ import annotations

import math
from collections.abc import Collection, Sequence
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.geodesy.refraction import EARTH_RADIUS_M
from fenwind.procedures.resection import Reduced
from fenwind.procedures.traverse import Sight
from fenwind.quantities.angles import wrap_all, wrap_positive

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Station:
    """One setup of the walk: what the mark under it is called, its sightings in face 1 with horizontal
    distances at the instrument (not on the grid), and the rows that are left out."""

    name: str
    reduced: Reduced
    off: Collection[int] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Apart:
    """What a leg's two ways differ by: forward less back of the distance, forward plus back of the height
    difference, metres, nan where it was measured one way."""

    here: str
    there: str
    distance: float
    dh: float


@dataclass(frozen=True, kw_only=True)
class Collected:
    """Rows as they would be booked, angles to the right of the backsight; the first backsight; where it
    closes, empty where it stays open; the mark that the closing angle leads to with that angle, None
    without; how the two ways of each leg differ."""

    rows: tuple[Sight, ...]
    back: str
    close: str
    fore: str
    closing_angle: float | None
    apart: tuple[Apart, ...]


def collect(stations: Sequence[Station], known: Collection[str]) -> Collected:
    """The traverse of setups in the order of the walk; known: names of marks that have a position. It begins
    at the first setup, turned to the first known mark that was sighted from there; it ends at the last one,
    if that is known, else at the known mark sighted from there with a distance, else at any such mark.
    Raises ProcedureError where the walk breaks off."""
    names, seen = [s.name for s in stations], [_means(s) for s in stations]
    _refuse_broken(names, seen)
    back = _first(seen[0], names[1], known) or (names[-1] if names[-1] in seen[0] else "")
    if not back:
        raise ProcedureError(
            f"nothing but the next station was sighted from {names[0]}", hint="Sight a backsight from it"
        )
    close, fore = _end(seen, names, known)
    if close == names[0] and back != names[-1] and names[-1] in seen[0]:
        fore = back  # the angle at the start closes the figure
    legs, apart = _legs(seen, names, back, close if close not in names else "")
    closing = None
    if fore:
        at, before = (seen[0], names[-1]) if close == names[0] else (seen[-1], names[-2])
        closing = wrap_positive(at[fore][0] - at[before][0])
    shots = _shots(seen, names, [back, *names[:-1]], {(r.here, r.there) for r in legs} | {(close, fore)})
    return Collected(
        rows=(*legs, *shots), back=back, close=close, fore=fore, closing_angle=closing, apart=tuple(apart)
    )


Means = dict[str, tuple[float, float, float]]


def _refuse_broken(names: list[str], seen: list[Means]) -> None:
    """Raise ProcedureError for a walk that is none, or that breaks off."""
    if len(names) < 2:
        raise ProcedureError("one setup is no walk", hint="Name two setups or more, in their order")
    if len(set(names)) < len(names):
        raise ProcedureError(
            "two setups stand over one mark", hint="Name each station once; its rounds belong to one setup"
        )
    for i, mean in enumerate(seen):
        for j in (i - 1, i + 1):
            if 0 <= j < len(names) and names[j] not in mean:
                raise ProcedureError(
                    f"{names[j]} was not sighted from {names[i]}", hint="Sight it, or leave the setup out"
                )


def _means(station: Station) -> Means:
    """Direction, horizontal distance at the mean height and height difference of every target: means of its
    rounds and faces, nan where nothing was read."""
    r = station.reduced
    out: Means = {}
    for name in dict.fromkeys(r.targets):
        rows = [i for i, t in enumerate(r.targets) if t == name and i not in station.off]
        if not rows:
            continue
        first = r.direction[rows[0]]
        direction = wrap_positive(float(first + np.mean(wrap_all(r.direction[rows] - first))))
        hd, dh = _mean(r.hd[rows]), _mean(r.dh[rows])
        rise = 0.0 if math.isnan(dh) else dh
        out[name] = (direction, hd * (1.0 + rise / (2.0 * EARTH_RADIUS_M)), dh)
    return out


def _mean(values: FloatArray) -> float:
    fine = values[np.isfinite(values)]
    return float(fine.mean()) if fine.size else math.nan


def _first(mean: Means, but: str, known: Collection[str]) -> str:
    return next((name for name in mean if name != but and name in known), "")


def _end(seen: list[Means], names: list[str], known: Collection[str]) -> tuple[str, str]:
    """Where the walk closes, and what the closing angle leads to."""
    last, before = seen[-1], names[-2]
    if names[0] in last and names[0] != before:
        return names[0], ""
    if names[-1] in known:
        return names[-1], _first(last, before, known)
    ends = [n for n, (_, hd, _) in last.items() if n != before and n in known and math.isfinite(hd)]
    return (ends[0] if ends else ""), ""


def _legs(seen: list[Means], names: list[str], back: str, end: str) -> tuple[list[Sight], list[Apart]]:
    """Legs from station to station, and to the mark that the walk ends at, if that is none of them."""
    walk = [*names, end] if end else names
    walk = [*walk, names[0]] if names[0] in seen[-1] and names[0] != names[-2] and not end else walk
    rows, apart = [], []
    for k, (here, there) in enumerate(pairwise(walk)):
        behind = back if k == 0 else walk[k - 1]
        direction, hd, dh = seen[k][there]
        angle = wrap_positive(direction - seen[k][behind][0])
        # From the other end, which the last leg of a loop has at the first setup.
        other = seen[k + 1] if k + 1 < len(seen) else seen[0] if there == names[0] else {}
        _, hd_back, dh_back = other.get(here, NOTHING)
        distance, rise = _both(hd, hd_back), _both(dh, -dh_back)
        if math.isnan(distance):
            raise ProcedureError(f"no distance from {here} to {there}", hint="Measure it from either end")
        apart.append(Apart(here=here, there=there, distance=hd - hd_back, dh=dh + dh_back))
        rows.append(Sight(here=here, there=there, kind="right", direction=angle, distance=distance, dh=rise))
    return rows, apart


NOTHING = (math.nan, math.nan, math.nan)


def _both(one: float, other: float) -> float:
    """The mean of two, or the one there is."""
    fine = [v for v in (one, other) if math.isfinite(v)]
    return sum(fine) / len(fine) if fine else math.nan


def _shots(
    seen: list[Means], names: list[str], behind: list[str], taken: set[tuple[str, str]]
) -> list[Sight]:
    """What else was measured with a distance, as side shots."""
    out = []
    for mean, here, back in zip(seen, names, behind, strict=True):
        for there, (direction, hd, dh) in mean.items():
            if there in (*names, back) or (here, there) in taken or math.isnan(hd):
                continue
            angle = wrap_positive(direction - mean[back][0])
            out.append(Sight(here=here, there=there, kind="right", direction=angle, distance=hd, dh=dh))
    return out
