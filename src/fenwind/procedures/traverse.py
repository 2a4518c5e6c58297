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
from fenwind.estimation.engine import Problem, adjust
from fenwind.quantities.angles import wrap_all, wrap_positive, wrap_signed

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
    """How it is adjusted. sigmas: of an angle (radians), of a distance as a part and a part of its length."""

    method: Method = "compass"
    balance: bool = False
    heights_by: Literal["distance", "setups"] = "distance"
    sigma_angle: float = 5.0 * math.pi / 648000.0
    sigma_distance_m: float = 0.003
    sigma_distance_ppm: float = 2.0


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
    """What is taken off each station (3, n+1)."""
    by_length = np.concatenate([[0.0], np.cumsum(lengths) / lengths.sum()])
    even = np.arange(lengths.size + 1) / lengths.size
    shares = [by_length, by_length, by_length if work.options.heights_by == "distance" else even]
    if work.options.method == "transit":
        for k, part in enumerate((np.abs(lengths * np.sin(azimuths)), np.abs(lengths * np.cos(azimuths)))):
            if part.sum() > 0.0:
                shares[k] = np.concatenate([[0.0], np.cumsum(part) / part.sum()])
    return np.stack([g * share for g, share in zip(gap, shares, strict=True)])


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
    n = len(work.legs)
    close = work.ends.close
    assert close is not None
    o = work.options
    lengths = np.array([leg.distance for leg in work.legs])
    angles = [leg.direction for leg in work.legs]
    if work.ends.closing_angle is not None:
        angles.append(work.ends.closing_angle)
    sigma = np.concatenate(
        [np.full(len(angles), o.sigma_angle), o.sigma_distance_m + o.sigma_distance_ppm * 1e-6 * lengths]
    )
    booked = np.array([*angles, *lengths])

    def points(x: FloatArray) -> FloatArray:
        ends = np.array([work.ends.start[:2], close[:2]]).T
        return np.concatenate([ends[:, :1], x.reshape(2, n - 1), ends[:, 1:]], axis=1)

    def model(x: FloatArray) -> tuple[FloatArray, FloatArray]:
        p = points(x)
        d = np.diff(p, axis=1)
        length = np.hypot(*d)
        azimuth = np.arctan2(d[0], d[1])
        grad = np.zeros((n, 2, n + 1))  # of azimuths by stations
        way = np.zeros((n, 2, n + 1))  # of lengths
        k = np.arange(n)
        turn = np.stack([d[1], -d[0]]) / length**2
        for sign, at in ((-1.0, k), (1.0, k + 1)):
            grad[k, :, at] = sign * turn.T
            way[k, :, at] = sign * (d / length).T
        computed, rows = _angle_rows(work, azimuth, grad)
        rows = np.concatenate([rows, way])[:, :, 1:n].reshape(len(booked), -1)
        values = np.concatenate([computed, length])
        off = values - booked
        off[: len(angles)] = wrap_all(off[: len(angles)])
        return off[None], rows.T[None]

    if n == 1:
        off, _ = model(np.zeros(0))
        squares = float(np.sum((off[0] / sigma) ** 2))
        return points(np.zeros(0)), booked.size, squares / booked.size
    found = adjust(
        Problem(
            names=tuple(f"{axis} {name}" for axis in "en" for name in work.names[1:-1]),
            start=start[:, 1:n].ravel(),
            observed=np.zeros((1, booked.size)),
            covariance=(sigma**2)[None, None],
            model=model,
        )
    )
    return points(found.x), found.dof, found.variance_factor


def _angle_rows(work: Traverse, azimuth: FloatArray, grad: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Angles and azimuths of the book as the stations give them, and their derivatives."""
    zero = np.zeros(grad.shape[1:])
    back, back_rows = work.ends.start_line or 0.0, zero
    values, rows = [], []
    for k, leg in enumerate(work.legs):
        value, row = _angle(leg.kind, azimuth[k], grad[k], back, back_rows)
        values.append(value)
        rows.append(row)
        back, back_rows = azimuth[k] + math.pi, grad[k]
    if work.ends.closing_angle is not None:
        line, line_rows = work.ends.closing_line, zero
        if line is None and work.legs[0].kind == "azimuth":
            line, line_rows = float(azimuth[0]), grad[0]
        elif line is None:
            line = work.ends.start_line or 0.0
        value, row = _angle(closing_kind(work), line, line_rows, back, back_rows)
        values.append(value)
        rows.append(row)
    return np.array(values), np.stack(rows)


def _angle(
    kind: Kind, forward: float, forward_rows: FloatArray, back: float, back_rows: FloatArray
) -> tuple[float, FloatArray]:
    if kind == "azimuth":
        return forward, forward_rows
    if kind == "left":
        return back - forward, back_rows - forward_rows
    shift = math.pi if kind == "deflection" else 0.0
    return wrap_positive(forward - back - shift), forward_rows - back_rows
