"""Traverses: coordinates along a chain of stations, its misclosures, and their adjustment by the compass
rule, the transit rule or least squares.

Formulas: Ghilani and Wolf, Elementary Surveying, 13th edition, chapter 10 (from memory). Radians, metres;
azimuths clockwise from grid north.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from itertools import pairwise
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.procedures.traverse_squares import Turn, least_squares
from fenwind.quantities.angles import wrap_signed

FloatArray = NDArray[np.float64]
Kind = Literal["azimuth", "right", "left", "deflection"]
Method = Literal["none", "compass", "transit", "lsq"]
KINDS: tuple[Kind, ...] = ("azimuth", "right", "left", "deflection")


@dataclass(frozen=True, slots=True, kw_only=True)
class Sight:
    """One row of the book: from, to, direction of its kind, horizontal distance, dh = height of `to` less
    that of `from` (nan without)."""

    here: str
    there: str
    kind: Kind
    direction: float
    distance: float
    dh: float = math.nan


@dataclass(frozen=True, slots=True, kw_only=True)
class Ends:
    """What a traverse hangs on. start, close: e, n, h (nan without), close None for an open one. start_line,
    closing_line: azimuths from the start to its backsight, from the closing mark to its foresight. loop:
    it ends where it started. closing_angle: of the last row's kind, right after an azimuth."""

    start: tuple[float, float, float]
    close: tuple[float, float, float] | None = None
    start_line: float | None = None
    closing_line: float | None = None
    closing_angle: float | None = None
    loop: bool = False


@dataclass(frozen=True, slots=True, kw_only=True)
class Options:
    """How it is adjusted. sigmas: of an angle (radians), of a distance as a part and a part of its length, of
    a height difference over a kilometre (metres; it grows with the root of the length)."""

    method: Method = "compass"
    balance: bool = False
    heights_by: Literal["distance", "setups"] = "distance"
    sigma_angle: float = 5.0 * math.pi / 648000.0
    sigma_distance_m: float = 0.003
    sigma_distance_ppm: float = 2.0
    sigma_height: float = 0.003


@dataclass(frozen=True, kw_only=True, eq=False)
class Traverse:
    """A book taken apart: stations in order, the legs between them, everything else as side shots."""

    names: tuple[str, ...]
    legs: tuple[Sight, ...]
    shots: tuple[Sight, ...]
    ends: Ends
    options: Options = field(default_factory=Options)


@dataclass(frozen=True, kw_only=True, eq=False)
class TraverseResult:
    """Stations (3, n+1) e, n, h; misclosures computed - known, nan where there is none. azimuths (n,) as
    they were computed, balanced where that was asked for."""

    unadjusted: FloatArray
    adjusted: FloatArray
    shots: FloatArray
    azimuths: FloatArray
    angles: int
    angular: float
    misclosure: FloatArray
    length: float
    dof: int | None = None
    variance_factor: float | None = None

    @property
    def linear(self) -> float:
        """Misclosure in plan; nan for an open traverse."""
        return float(math.hypot(self.misclosure[0], self.misclosure[1]))

    @property
    def ratio(self) -> float:
        """The n of 1:n; nan when open, or without a misclosure."""
        return self.length / self.linear if self.linear > 0.0 else math.nan


def taken_apart(
    rows: Sequence[Sight], start: str, closing: str | None
) -> tuple[tuple[str, ...], tuple[Sight, ...], tuple[Sight, ...]]:
    """Stations, legs and side shots of a book. closing: the name of the closing mark, else the last row's
    `to`. Raises ProcedureError when the walk breaks off."""
    stations = list(dict.fromkeys(row.here for row in rows))
    if stations[0] != start:
        raise ProcedureError(
            f"the walk begins at {stations[0]}, expected the start {start}",
            hint="Name the start as in the book",
        )
    end = closing if closing is not None else rows[-1].there
    if len(stations) > 1 and stations[-1] == end != start:
        stations.pop()
    names = [*stations, end]
    legs: list[Sight] = []
    for here, there in pairwise(names):
        found = next((r for r in rows if (r.here, r.there) == (here, there)), None)
        if found is None:
            raise ProcedureError(
                f"no row leads from {here} to {there}", hint="Book the legs in the order of the walk"
            )
        legs.append(found)
    mine = {id(leg) for leg in legs}
    return tuple(names), tuple(legs), tuple(r for r in rows if id(r) not in mine)


def turned(kind: Kind, direction: float, to_back: float) -> float:
    """The azimuth of a sight, from the azimuth of the backsight."""
    if kind == "azimuth":
        return direction
    if kind == "right":
        return to_back + direction
    if kind == "left":
        return to_back - direction
    return to_back + math.pi + direction


def solve(work: Traverse) -> TraverseResult:
    """Compute and adjust. Raises ProcedureError when a line that is needed is not given."""
    azimuths = _azimuths(work)
    count, angular = _angular(work, azimuths)
    if work.options.balance and not math.isnan(angular):
        azimuths = _balanced(work, azimuths, angular)
    unadjusted = _walk(work, azimuths)
    gap = np.full(3, np.nan)
    if work.ends.close is not None:
        gap = unadjusted[:, -1] - np.array(work.ends.close)
    lengths = np.array([leg.distance for leg in work.legs])
    dof: int | None = None
    factor: float | None = None
    adjusted = unadjusted
    if work.options.method != "none" and work.ends.close is not None:
        adjusted = unadjusted - _rule(work, azimuths, lengths, gap)
        if work.options.method == "lsq":
            plan, dof, factor = _least_squares(work, adjusted[:2])
            adjusted = np.vstack([plan, adjusted[2:]])
    elif work.options.method == "lsq":
        dof = 0
    return TraverseResult(
        unadjusted=unadjusted, adjusted=adjusted, shots=_side_shots(work, adjusted), azimuths=azimuths,
        angles=count, angular=angular, misclosure=gap, length=float(lengths.sum()), dof=dof,
        variance_factor=factor,
    )  # fmt: skip


def _azimuths(work: Traverse) -> FloatArray:
    out: list[float] = []
    back = work.ends.start_line
    for leg in work.legs:
        if leg.kind != "azimuth" and back is None:
            raise ProcedureError(
                f"the {leg.kind} angle at {leg.here} has no start line",
                hint="Give the azimuth of the start line, or the mark of the backsight",
            )
        out.append(turned(leg.kind, leg.direction, back if back is not None else 0.0))
        back = out[-1] + math.pi
    return np.array(out)


def closing_kind(work: Traverse) -> Kind:
    """The kind of the closing angle."""
    last = work.legs[-1].kind
    return "right" if last == "azimuth" else last


def known_closing(work: Traverse, azimuths: FloatArray) -> float | None:
    """The known azimuth of the closing line: in a loop without one, what the traverse began with."""
    if work.ends.closing_line is not None or not work.ends.loop:
        return work.ends.closing_line
    return float(azimuths[0]) if work.legs[0].kind == "azimuth" else work.ends.start_line


def _angular(work: Traverse, azimuths: FloatArray) -> tuple[int, float]:
    """How many angles there are, and the angular misclosure, nan without."""
    count = sum(leg.kind != "azimuth" for leg in work.legs)
    angle = work.ends.closing_angle
    if angle is None:
        return count, math.nan
    known = known_closing(work, azimuths)
    if known is None:
        raise ProcedureError("the closing angle has no closing line", hint="Give its azimuth, or a foresight")
    computed = turned(closing_kind(work), angle, float(azimuths[-1]) + math.pi)
    return count + 1, wrap_signed(computed - known)


def last_chain(work: Traverse) -> list[int]:
    """Legs with an angle since the last azimuth row."""
    out: list[int] = []
    for k, leg in enumerate(work.legs):
        out = [] if leg.kind == "azimuth" else [*out, k]
    return out


def _balanced(work: Traverse, azimuths: FloatArray, angular: float) -> FloatArray:
    """Azimuths with the misclosure spread evenly over the angles since the last azimuth row and the closing
    angle."""
    chain = last_chain(work)
    out = azimuths.copy()
    for place, k in enumerate(chain, 1):
        out[k] -= angular * place / (len(chain) + 1)
    return out


def _walk(work: Traverse, azimuths: FloatArray) -> FloatArray:
    lengths = np.array([leg.distance for leg in work.legs])
    dh = np.array([leg.dh for leg in work.legs])
    steps = np.stack([lengths * np.sin(azimuths), lengths * np.cos(azimuths), dh])
    start = np.array(work.ends.start)[:, None]
    return np.concatenate([start, start + np.cumsum(steps, axis=1)], axis=1)


def _rule(work: Traverse, azimuths: FloatArray, lengths: FloatArray, gap: FloatArray) -> FloatArray:
    """Corrections that are taken off each station (3, n+1); none in height where the end has no height."""
    return np.asarray(np.nan_to_num(gap)[:, None] * shares_of(work, azimuths, lengths))


def shares_of(work: Traverse, azimuths: FloatArray, lengths: FloatArray) -> FloatArray:
    """Shares of the misclosure (3, n+1) in e, n, h that a rule takes off each station, 1 at the end."""
    by_length = np.concatenate([[0.0], np.cumsum(lengths) / lengths.sum()])
    even = np.arange(lengths.size + 1) / lengths.size
    shares = [by_length, by_length, by_length if work.options.heights_by == "distance" else even]
    if work.options.method == "transit":
        for k, part in enumerate((np.abs(lengths * np.sin(azimuths)), np.abs(lengths * np.cos(azimuths)))):
            if part.sum() > 0.0:
                shares[k] = np.concatenate([[0.0], np.cumsum(part) / part.sum()])
    return np.stack(shares)


def _side_shots(work: Traverse, adjusted: FloatArray) -> FloatArray:
    place = {name: i for i, name in reversed(list(enumerate(work.names)))}
    out = np.full((3, len(work.shots)), np.nan)
    for k, shot in enumerate(work.shots):
        i = place[shot.here]
        if i == 0 and shot.kind != "azimuth" and work.ends.start_line is None:
            raise ProcedureError(
                f"the side shot from {shot.here} has no start line", hint="Give the azimuth of the start line"
            )
        if i == 0:
            back = work.ends.start_line or 0.0
        else:
            de, dn = adjusted[:2, i - 1] - adjusted[:2, i]
            back = math.atan2(de, dn)
        azimuth = turned(shot.kind, shot.direction, back)
        step = (shot.distance * math.sin(azimuth), shot.distance * math.cos(azimuth), shot.dh)
        out[:, k] = adjusted[:, i] + np.array(step)
    return out


# Least squares
# ---------------------------------------------------------------------------------------------------------


def _least_squares(work: Traverse, start: FloatArray) -> tuple[FloatArray, int, float | None]:
    """Stations (2, n+1) from angles, azimuths and distances as booked; both ends are held."""
    close, o = work.ends.close, work.options
    assert close is not None
    stations = start.copy()
    stations[:, 0], stations[:, -1] = work.ends.start[:2], close[:2]
    lengths = np.array([leg.distance for leg in work.legs])
    sigmas = o.sigma_distance_m + o.sigma_distance_ppm * 1e-6 * lengths
    found = least_squares(work.names, stations, _turns(work), o.sigma_angle, lengths, sigmas)
    return found.stations, found.dof, found.variance_factor


def _turns(work: Traverse) -> list[Turn]:
    """What each booked direction is of azimuths, the closing angle last."""
    back, known = -1, work.ends.start_line or 0.0
    turns = []
    for k, leg in enumerate(work.legs):
        turns.append(_turn(leg.kind, leg.direction, k, 0.0, back, known))
        back, known = k, math.pi
    if work.ends.closing_angle is not None:
        forward, line = -1, work.ends.closing_line
        if line is None and work.legs[0].kind == "azimuth":
            forward, line = 0, 0.0
        elif line is None:
            line = work.ends.start_line or 0.0
        turns.append(_turn(closing_kind(work), work.ends.closing_angle, forward, line, back, known))
    return turns


def _turn(kind: Kind, value: float, forward: int, ahead: float, back: int, behind: float) -> Turn:
    """A direction from a forward line (its number and what is added to its azimuth) and a back one."""
    signs = {"azimuth": (1.0, 0.0), "left": (-1.0, 1.0)}.get(kind, (1.0, -1.0))
    offset = signs[0] * ahead + signs[1] * behind - (math.pi if kind == "deflection" else 0.0)
    return Turn(ahead=signs[0], behind=signs[1], offset=offset, forward=forward, back=back, value=value)
