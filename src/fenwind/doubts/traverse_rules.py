"""Rules about traverses: what is over its limit, and the one angle or distance that explains it."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from fenwind.doubts.registry import Doubt
from fenwind.procedures.traverse import Traverse, TraverseResult, closing_kind, known_closing, solve
from fenwind.quantities.angles import RAD_PER_SECOND, wrap_signed
from fenwind.quantities.lengths import FEET, format_way
from fenwind.quantities.numbers import format_fixed

#: How near a ratio must be to the length of a foot.
NEAR_UNIT = 1e-3
#: What is left after one error is taken out must be under this share of what there was.
EXPLAINED = 0.25
#: Explanations that leave at most this many times the least are named too.
AS_LIKELY = 2.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Limits:
    """The n of 1:n, and the angular limit in radians."""

    spec: float
    angle: float


@dataclass(frozen=True, slots=True)
class _Cause:
    """An error that explains the misclosure: what would be left in plan, and the doubt about it."""

    left: float
    doubt: Doubt


def traverse_doubts(work: Traverse, found: TraverseResult, limits: Limits) -> list[Doubt]:
    """Blunders, the likeliest first, then what is over its limit, then what is missing."""
    if work.ends.close is None:
        return [
            Doubt(
                rule="traverse.unchecked", subject="traverse", names=(work.names[-1],), unit="",
                text="The traverse is open: nothing checks it.",
            )
        ]  # fmt: skip
    raw = solve(replace(work, options=replace(work.options, balance=False, method="none")))
    over_angle = abs(found.angular) > limits.angle
    over_plan = found.linear * limits.spec > found.length
    raw_over = raw.linear * limits.spec > raw.length
    out: list[Doubt] = []
    if over_angle or raw_over:
        out += [c.doubt for c in _causes(work, raw, limits, over_angle)]
    if over_angle:
        out.append(_angular(work, found, limits))
    if over_plan:
        out.append(_ratio(work, found, limits))
    return out + list(_left_out(work, raw))


def _angular(work: Traverse, found: TraverseResult, limits: Limits) -> Doubt:
    seconds, most = found.angular / RAD_PER_SECOND, limits.angle / RAD_PER_SECOND
    return Doubt(
        rule="traverse.angular", subject="traverse", names=(work.names[-1],), value=seconds, limit=most,
        unit="s", grave=True,
        text=f"The angles miss by {format_fixed(seconds, 1)} s; {format_fixed(most, 1)} s is allowed.",
    )  # fmt: skip


def _ratio(work: Traverse, found: TraverseResult, limits: Limits) -> Doubt:
    return Doubt(
        rule="traverse.ratio", subject="traverse", names=(work.names[-1],), value=found.ratio,
        limit=limits.spec, unit="", grave=True,
        text=f"The traverse misses by {format_way(found.linear)}, 1:{found.ratio:.0f}; 1:{limits.spec:.0f} "
        "is asked for.",
    )  # fmt: skip


def _left_out(work: Traverse, raw: TraverseResult) -> Iterator[Doubt]:
    """The closing angle, where a closing line is known and was not sighted."""
    angles = any(leg.kind != "azimuth" for leg in work.legs)
    if work.ends.closing_angle is None and angles and known_closing(work, raw.azimuths) is not None:
        name = work.names[-1]
        yield Doubt(
            rule="traverse.closing-angle", subject="traverse", names=(name,), unit="", grave=True,
            text=f"The closing angle at {name} is left out: without it nothing checks the angles.",
        )  # fmt: skip


def _causes(work: Traverse, raw: TraverseResult, limits: Limits, over_angle: bool) -> list[_Cause]:
    """Single errors that explain what is over, the likeliest first."""
    most = max(raw.length / limits.spec, EXPLAINED * 1e-3)
    if over_angle:
        found = list(_angles_by_sum(work, raw))
    else:
        found = [*_units(work, raw), *_distances(work, raw)]
        if math.isnan(raw.angular):
            found += list(_angles_by_place(work, raw))
    found = [c for c in found if c.left <= most and (over_angle or c.left <= EXPLAINED * raw.linear)]
    found.sort(key=lambda c: c.left)
    least = max(found[0].left, 0.002) if found else 0.0
    return [c for c in found if c.left <= AS_LIKELY * least]


def _angle_doubt(work: Traverse, i: int, error: float) -> Doubt:
    """The doubt about the angle at station i, whose azimuth is too large by `error`."""
    name, last = work.names[i], i == len(work.legs)
    kind = closing_kind(work) if last else work.legs[i].kind
    seconds = error / RAD_PER_SECOND * (-1.0 if kind == "left" else 1.0)
    what = "closing angle" if last else "angle"
    return Doubt(
        rule="traverse.closing-angle" if last else "traverse.angle", subject="traverse", names=(name,),
        value=seconds, limit=2.0 * work.options.sigma_angle / RAD_PER_SECOND, unit="s", grave=True,
        text=f"The {what} at {name} is too {'large' if seconds > 0.0 else 'small'} by "
        f"{format_fixed(abs(seconds), 0)} s.",
    )  # fmt: skip


def _angles_by_sum(work: Traverse, raw: TraverseResult) -> Iterator[_Cause]:
    """Each angle in turn takes the whole angular misclosure: the right one brings the end to its place, and
    the closing angle leaves it there."""
    assert work.ends.close is not None
    start = max((k for k, leg in enumerate(work.legs) if leg.kind == "azimuth"), default=-1) + 1
    for i in range(start, len(work.legs) + 1):
        gap = _end_turned(raw, i, -raw.angular) - np.array(work.ends.close[:2])
        yield _Cause(float(np.hypot(*gap)), _angle_doubt(work, i, raw.angular))


def _end_turned(raw: TraverseResult, i: int, turn: float) -> np.ndarray:
    """The end (2,) when everything after station i is turned clockwise by an angle."""
    about, end = raw.unadjusted[:2, i], raw.unadjusted[:2, -1]
    c, s = math.cos(turn), math.sin(turn)
    return np.asarray(about + np.array([[c, s], [-s, c]]) @ (end - about))


def _angles_by_place(work: Traverse, raw: TraverseResult) -> Iterator[_Cause]:
    """Without a closing angle: the turn at each station that brings the end nearest to its place."""
    assert work.ends.close is not None
    known = np.array(work.ends.close[:2])
    for i, leg in enumerate(work.legs):
        if leg.kind == "azimuth":
            continue
        a, b = raw.unadjusted[:2, -1] - raw.unadjusted[:2, i], known - raw.unadjusted[:2, i]
        error = wrap_signed(math.atan2(a[0], a[1]) - math.atan2(b[0], b[1]))
        gap = _end_turned(raw, i, -error) - known
        yield _Cause(float(np.hypot(*gap)), _angle_doubt(work, i, error))


def _distances(work: Traverse, raw: TraverseResult) -> Iterator[_Cause]:
    """Each distance in turn takes what lies along its leg."""
    e, n = raw.misclosure[:2]
    for k, leg in enumerate(work.legs):
        sin, cos = math.sin(raw.azimuths[k]), math.cos(raw.azimuths[k])
        error = float(e * sin + n * cos)
        left = abs(float(e * cos - n * sin))
        sigma = work.options.sigma_distance_m + work.options.sigma_distance_ppm * 1e-6 * leg.distance
        yield _Cause(
            left,
            Doubt(
                rule="traverse.distance", subject="traverse", names=(leg.here, leg.there), value=error,
                limit=3.0 * sigma, grave=True,
                text=f"The distance {leg.here} – {leg.there} is too long by {format_way(error)}."
                if error > 0 else
                f"The distance {leg.here} – {leg.there} is too short by {format_way(-error)}.",
            ),
        )  # fmt: skip


def _units(work: Traverse, raw: TraverseResult) -> Iterator[_Cause]:
    """All distances in feet that were read as metres, or the other way."""
    if work.ends.loop or work.ends.close is None:
        return
    start = np.array(work.ends.start[:2])
    walked = raw.unadjusted[:2, -1] - start
    known = np.array(work.ends.close[:2]) - start
    size = float(np.hypot(*walked))
    if size == 0.0:
        return
    ratio = float(np.hypot(*known)) / size
    for words, metres in FEET.items():
        for factor in (metres, 1.0 / metres):
            if abs(ratio / factor - 1.0) < NEAR_UNIT:
                left = float(np.hypot(*(walked * factor - known)))
                text = (
                    f"The distances are in {words}." if factor < 1.0 else f"The coordinates are in {words}."
                )
                yield _Cause(
                    left,
                    Doubt(
                        rule="traverse.unit", subject="traverse", names=(work.names[-1],), value=ratio,
                        limit=NEAR_UNIT, unit="", grave=True, text=text,
                    ),
                )  # fmt: skip
                return
