"""Rules about traverses: what is over its limit, and the one angle or distance that explains it."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from fenwind.doubts.registry import Doubt
from fenwind.estimation.distributions import chi2_quantile
from fenwind.procedures.causes import Cause, likely
from fenwind.procedures.traverse import Traverse, TraverseResult, closing_kind, known_closing, solve
from fenwind.procedures.traverse_errors import closure_sigma
from fenwind.quantities.angles import RAD_PER_SECOND, wrap_signed
from fenwind.quantities.lengths import FEET, format_way
from fenwind.quantities.numbers import format_fixed

#: How near a ratio must be to the length of a foot.
NEAR_UNIT = 1e-3
#: What is left after one error is taken out must be under this share of what there was.
EXPLAINED = 0.25
#: Explanations that leave at most this many times the least are named too.
AS_LIKELY = 2.0


#: Sigmas of the angular misclosure that 99.9 % of clean traverses keep.
CHANCE = 3.29
#: Level of the test of what a cause leaves.
WHOLE_ALPHA = 0.001
#: Heights carried along a traverse: one sigma of one reading, and how many are allowed.
READ_HEIGHT_M, HEIGHT_SIGMAS = 0.002, 3.29


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
    chance = CHANCE * max(closure_sigma(work), work.options.sigma_angle)
    over_plan = found.linear * limits.spec > found.length
    raw_over = raw.linear * limits.spec > raw.length
    out: list[Doubt] = []
    if over_angle and abs(found.angular) > chance:
        out += [c.doubt for c in _causes(work, raw, limits)]
    elif raw_over:
        out += _in_plan(work, raw)
    if over_angle:
        usual = math.isclose(limits.angle, 2.0 / CHANCE * chance, rel_tol=1e-6)
        out.append(_angular(work, found, limits, grave=abs(found.angular) > chance or not usual))
    if over_plan:
        out.append(_ratio(work, found, limits))
    return out + list(_height(work, raw)) + list(_left_out(work, raw))


def _angular(work: Traverse, found: TraverseResult, limits: Limits, grave: bool) -> Doubt:
    """The misclosure of the angles; over the usual limit of two sigmas alone, which one clean traverse in
    twenty is, it is not grave."""
    seconds, most = found.angular / RAD_PER_SECOND, limits.angle / RAD_PER_SECOND
    return Doubt(
        rule="traverse.angular", subject="traverse", names=(work.names[-1],), value=seconds, limit=most,
        unit="s", grave=grave,
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


def _causes(work: Traverse, raw: TraverseResult, limits: Limits) -> list[_Cause]:
    """Single angles that explain an angular misclosure, the likeliest first."""
    most = max(raw.length / limits.spec, EXPLAINED * 1e-3)
    found = sorted((c for c in _angles_by_sum(work, raw) if c.left <= most), key=lambda c: c.left)
    least = max(found[0].left, 0.002) if found else 0.0
    return [c for c in found if c.left <= AS_LIKELY * least]


def _in_plan(work: Traverse, raw: TraverseResult) -> list[Doubt]:
    """Causes of a misclosure in plan where the angles close: a unit, one distance, what all distances
    share, without a closing angle one angle, at last the coordinates of a known mark. The misclosure has two
    components: what has one parameter is judged by the other."""
    sigma = _sigma_plan(work, raw)
    one = list(_distances(work, raw))
    if math.isnan(raw.angular):
        one += list(_angles_by_place(work, raw))
    # One of many readings: as many ways to be right by chance.
    many = 2.0 * math.log(len(work.legs))
    squares = (raw.linear / sigma) ** 2
    if squares <= chi2_quantile(1.0 - WHOLE_ALPHA, 2):
        return []  # noise alone leaves as much
    found = [_judged(c, sigma, 0, 2) for c in _units(work, raw)]
    found += [_judged(c, sigma, 1, 1) for c in _shared(work, raw)]
    found += [_judged(c, sigma, 1, 1, many) for c in one]
    told = [c.told for c in likely(found, squares, WHOLE_ALPHA)]
    return told or [_control(work, raw)]


def _judged(cause: _Cause, sigma: float, parameters: int, dof: int, prior: float = 0.0) -> Cause[Doubt]:
    squares = (cause.left / sigma) ** 2
    return Cause(told=cause.doubt, parameters=parameters, squares=squares, dof=dof, prior=prior)


def _sigma_plan(work: Traverse, raw: TraverseResult) -> float:
    """Sigma of a component of the misclosure, metres: of every distance, and of every angle over the way from
    its station to the end."""
    o = work.options
    along = sum((o.sigma_distance_m + o.sigma_distance_ppm * 1e-6 * leg.distance) ** 2 for leg in work.legs)
    way = raw.unadjusted[:2] - raw.unadjusted[:2, -1:]
    across = float((way**2).sum()) * o.sigma_angle**2
    return math.sqrt(0.5 * (along + across))


def _shared(work: Traverse, raw: TraverseResult) -> Iterator[_Cause]:
    """A scale of all distances, or one prism constant in all of them."""
    gap = raw.misclosure[:2]
    walked = raw.unadjusted[:2, -1] - raw.unadjusted[:2, 0]
    ways = np.array([[math.sin(a), math.cos(a)] for a in raw.azimuths[: len(work.legs)]]).sum(axis=0)
    for rule, by in (("traverse.scale", walked), ("traverse.constant", ways)):
        length = float(by @ by)
        if length < 1.0 or (rule == "traverse.scale" and work.ends.loop):
            continue
        value = float(gap @ by) / length
        left = float(np.hypot(*(gap - value * by)))
        if rule == "traverse.scale":
            words = f"{format_fixed(value * 1e6, 0, sign=True)} ppm"
            text = f"All distances are off by {words}: a scale that nobody took into account, air or grid."
            shown = value * 1e6
        else:
            text = f"All distances are off by {format_way(value)}: another prism constant than was set."
            shown = value
        yield _Cause(
            left,
            Doubt(
                rule=rule, subject="traverse", names=(), value=shown, grave=True, text=text,
                unit="ppm" if rule == "traverse.scale" else "m",
            ),
        )  # fmt: skip


def _control(work: Traverse, raw: TraverseResult) -> Doubt:
    """The closing mark, where no reading explains what is left and the angles close."""
    name = work.names[-1]
    return Doubt(
        rule="traverse.control", subject="traverse", names=(name,), value=raw.linear, grave=True,
        text=f"No single reading explains the misclosure of {format_way(raw.linear)}: is the given "
        f"coordinate of {name}, or of {work.names[0]}, right?",
    )  # fmt: skip


def _height(work: Traverse, raw: TraverseResult) -> Iterator[Doubt]:
    """The misclosure in height, where both ends have one."""
    miss = float(raw.misclosure[2])
    if math.isnan(miss):
        return
    readings = len(work.legs) * READ_HEIGHT_M**2
    most = HEIGHT_SIGMAS * math.sqrt(work.options.sigma_height**2 * raw.length / 1000.0 + readings)
    if abs(miss) > most:
        ends = (work.names[-1], work.names[0]) if work.names[-1] != work.names[0] else (work.names[0],)
        yield Doubt(
            rule="traverse.height", subject="traverse", names=ends, value=miss, limit=most, grave=True,
            text=f"The heights miss by {format_way(miss)} at {work.names[-1]}; {format_way(most)} is "
            "allowed. A height difference of a leg, or a known height, is wrong.",
        )  # fmt: skip


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
