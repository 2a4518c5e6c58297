"""Causes that many values of a network share, each a small model fitted together with the unknowns: scale
and constant of distances, heights of antennas and instruments, centring, a geoid left out, coordinates of
another frame, sigmas of a group.

An error that several observations share, by c times its sizes, is tested as Baarda has it:
T = (c' P v)' (c' P Qvv P c)^-1 (c' P v), chi-square with as many degrees of freedom as there are sizes
(Baarda, A testing procedure for use in geodetic networks, Netherlands Geodetic Commission, 1968).
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fenwind.doubts.registry import Doubt
from fenwind.errors import FenwindError
from fenwind.procedures import similarity
from fenwind.procedures.causes import Cause
from fenwind.procedures.network import NetworkResult, solve
from fenwind.procedures.network_meaning import other_meanings
from fenwind.procedures.network_model import (
    Given,
    Marks,
    Network,
    base_axes,
    computed,
    positions_of,
)
from fenwind.procedures.network_start import starting_marks
from fenwind.quantities.lengths import format_way
from fenwind.quantities.numbers import format_fixed

FloatArray = NDArray[np.float64]
#: How each value (b,) of a row changes with each of m sizes, (b, m), by row.
Slopes = Mapping[int, FloatArray]

DISTANCES = ("distance", "horizontal_distance")
SIGHTED = (*DISTANCES, "direction", "angle", "azimuth", "zenith")
#: Iterations that a changed network has to settle in.
TRIED = 10
#: Variance factor from which an error bends the network, so that its size is worked out step by step.
BENT = 30.0
#: What leaves a larger part of the sum of squares by its slopes is not looked at closer.
HOPELESS = 0.2
#: Steps to the size of an error that bends the network.
STEPS = 4
#: Differences of observations by heights and places, metres.
STEP_M = 0.01
#: -2 log of the odds of a cause against one wrong value: marks and stations are many.
ONE_OF_MANY, RARE = 2.0, 4.0
#: Factors by which sigmas may be too small: below the first a few values may do it, above the second it is
#: something else.
LEAST_FACTOR, LARGEST_FACTOR = 1.3, 20.0
#: A residual that is larger still, in sigmas that were made to fit, is not one of sigmas that are too small.
LARGEST_W = 4.0


def grave(rule: str, names: tuple[str, ...], text: str, value: float | None = None, unit: str = "m") -> Doubt:
    """A grave doubt about a network."""
    return Doubt(rule=rule, subject="adjust", names=names, text=text, value=value, unit=unit, grave=True)


def shared(result: NetworkResult, slopes: Slopes) -> tuple[float, FloatArray] | None:
    """The sum of squares that is left when observed values may be off by `slopes` times some sizes, and the
    sizes (m,); None where the observations do not control them."""
    assert result.found is not None
    m = next((c.reshape(c.shape[0], -1).shape[1] for c in slopes.values()), 0)
    right, cpc, cpv = np.zeros((len(result.setup.names), m)), np.zeros((m, m)), np.zeros(m)
    for part, group in zip(result.parts, result.found.groups, strict=False):
        rows = [k for k, row in enumerate(part.rows.tolist()) if row in slopes]
        if not rows:
            continue
        _, design = group.group.model(result.x)
        for k in rows:
            c = slopes[int(part.rows[k])].reshape(-1, m)
            weighted = np.linalg.solve(part.covariance[:, :, k], c)
            cpc += c.T @ weighted
            cpv += weighted.T @ group.residuals[:, k]
            np.add.at(right, part.unknowns[:, k], design[:, :, k].T @ weighted)
    if not m or not (np.diag(cpc) > 0.0).all():
        return None
    zeros = np.zeros(result.found.constraints)
    moved = np.column_stack([result.found.factor.solve(column, zeros) for column in right.T])
    left, scale = cpc - right.T @ moved, 1.0 / np.sqrt(np.diag(cpc))
    if float(np.linalg.eigvalsh(left * np.outer(scale, scale))[0]) <= 1e-6:
        return None
    sizes = np.asarray(-np.linalg.solve(left, cpv), dtype=float)
    return result.found.sum_squares + float(cpv @ sizes), sizes


def is_bent(result: NetworkResult) -> bool:
    """Whether what is wrong bends the network, so that slopes do not say how large it is."""
    return result.found is not None and (result.found.variance_factor or 0.0) > BENT


def squares(net: Network, marks: Marks | None = None) -> tuple[float, int]:
    """Sum of squares and degrees of freedom of a changed network, from where marks are, else from where they
    are found (what is held stays where it starts, so after a change of the control from there); infinite
    where it has no solution."""
    for start in (marks, None) if marks is not None else (None,):
        try:
            result = solve(net, start if start is not None else starting_marks(net)[0], TRIED)
        except (FenwindError, KeyError):
            continue
        if result.found is not None:
            return result.found.sum_squares, result.found.dof
    return math.inf, 0


def fitted(result: NetworkResult, slopes: Slopes) -> tuple[float, FloatArray] | None:
    """As `shared`; where the error bends the network its sizes are taken off and worked out again until they
    stay."""
    found = shared(result, slopes)
    whole = result.found.sum_squares if result.found is not None else 0.0
    if found is None or not is_bent(result) or found[0] > HOPELESS * whole:
        return found
    left, sizes = found
    net = result.net
    for _ in range(STEPS):
        rows = tuple(
            replace(row, value=row.value - slopes[i].reshape(row.value.size, -1) @ sizes)
            if i in slopes else row for i, row in enumerate(net.rows)
        )  # fmt: skip
        changed = replace(net, rows=rows)
        try:
            again = solve(changed, starting_marks(changed)[0], TRIED)
        except FenwindError:
            return found
        more = shared(again, slopes) if again.found is not None else None
        if more is None:
            return found
        left, sizes = more[0], sizes + more[1]
        if float(np.abs(more[1]).max()) < 1e-3 * float(np.abs(sizes).max()):
            break
    return left, sizes


def causes(result: NetworkResult) -> Iterator[Cause[Doubt]]:
    """What many values may share, each with what it leaves."""
    for search in (_distances, _instruments, _antennas, _centring, _geoid, _frame, _sigmas):
        yield from search(result)


def _cause(result: NetworkResult, left: float, doubt: Doubt, parameters: int, prior: float) -> Cause[Doubt]:
    assert result.found is not None
    return Cause(told=doubt, parameters=parameters, squares=left, dof=result.found.dof - parameters,
                 prior=prior)  # fmt: skip


# Distances
# ---------------------------------------------------------------------------------------------------------


def _distances(result: NetworkResult) -> Iterator[Cause[Doubt]]:
    """A scale or a constant of all distances, of those of a group, or of those of one station."""
    for whose, names, rows in _distance_parts(result):
        prior = ONE_OF_MANY if names else 0.0
        found = fitted(result, {i: result.net.rows[i].value * 1e-6 for i in rows})
        if found is not None:
            ppm = float(found[1][0])
            text = (
                f"All {whose} are too {_way(ppm)} by a scale of {format_fixed(abs(ppm), 1)} ppm: air, or a "
                "grid or ground factor."
            )
            yield _cause(result, found[0], grave("adjust.scale", names, text, ppm, "ppm"), 1, prior)
        found = fitted(result, {i: np.ones(1) for i in rows})
        if found is not None:
            size = float(found[1][0])
            text = f"All {whose} are too {_way(size)} by {format_way(abs(size))}: the constant of the prism."
            yield _cause(result, found[0], grave("adjust.constant", names, text, size), 1, prior)


def _way(size: float) -> str:
    return "long" if size > 0.0 else "short"


def _distance_parts(result: NetworkResult) -> Iterator[tuple[str, tuple[str, ...], list[int]]]:
    """Distances that may share an error: in words, whom that names, and their rows."""
    stations: dict[str, list[int]] = {}
    groups: dict[str, list[int]] = {}
    for i, row in enumerate(result.net.rows):
        if row.kind in DISTANCES:
            stations.setdefault(row.at, []).append(i)
            groups.setdefault(row.group, []).append(i)
    if len(stations) > 1:
        yield "distances", (), [i for some in stations.values() for i in some]
    for name, rows in groups.items():
        if len(groups) > 1 and len(rows) > 2:
            yield f"distances of {name or 'no group'}", (), rows
    for name, rows in stations.items():
        if len(rows) > 2:
            yield f"distances from {name}", (name,), rows


# Heights and centring
# ---------------------------------------------------------------------------------------------------------


def _changed_by(
    result: NetworkResult,
    kinds: tuple[str, ...],
    *,
    hi: float = 0.0,
    ht: float = 0.0,
    axis: int | None = None,
) -> dict[int, FloatArray]:
    """How values (b,) change by a metre, by row: of the instrument's height, the target's, or of the place of
    the instrument along east (axis 0) or north (1)."""
    net, p = result.net, result.about.positions(result.x)
    axes = base_axes(net, result.marks.place)
    out: dict[int, FloatArray] = {}
    for part in result.parts:
        if part.kind not in kinds:
            continue
        at, to, back = (p[:, e] for e in part.ends)
        way = axes[axis][:, part.ends[0]] if axis is not None else np.zeros((3, 1))
        values = [
            computed(net, part.kind, at + s * way, to, back, part.hi + s * hi, part.ht + s * ht)
            for s in (-STEP_M, STEP_M)
        ]
        change = values[1] - values[0]
        if part.kind in ("direction", "angle", "azimuth"):
            change = (change + math.pi) % math.tau - math.pi
        for k, row in enumerate(part.rows.tolist()):
            out[row] = change[:, k] / (2.0 * STEP_M)
    return out


def _instruments(result: NetworkResult) -> Iterator[Cause[Doubt]]:
    """The height of an instrument, or of one target: every value of a set-up, or of a line, that it
    changes."""
    if result.net.dimensions != 3:
        return
    kinds = ("zenith", "distance")
    by_hi, by_ht = _changed_by(result, kinds, hi=1.0), _changed_by(result, kinds, ht=1.0)
    stations: dict[str, list[int]] = {}
    lines: dict[tuple[str, str], list[int]] = {}
    for i, row in enumerate(result.net.rows):
        if row.kind in kinds:
            stations.setdefault(row.at, []).append(i)
            lines.setdefault((row.at, row.to), []).append(i)
    for name, rows in stations.items():
        if sum(result.net.rows[i].kind == "zenith" for i in rows) >= 2:
            found = fitted(result, {i: by_hi[i] for i in rows})
            if found is not None:
                size = -float(found[1][0])
                text = f"The instrument height at {name} is off by {format_way(size)}."
                doubt = grave("adjust.instrument-height", (name,), text, size)
                yield _cause(result, found[0], doubt, 1, ONE_OF_MANY)
    for (a, b), rows in lines.items():
        if len(rows) >= 2:
            found = fitted(result, {i: by_ht[i] for i in rows})
            if found is not None:
                size = -float(found[1][0])
                text = f"The target height at {b} from {a} is off by {format_way(size)}."
                doubt = grave("adjust.target-height", (a, b), text, size)
                yield _cause(result, found[0], doubt, 1, ONE_OF_MANY)


def _antennas(result: NetworkResult) -> Iterator[Cause[Doubt]]:
    """The height of an antenna: all vectors of a mark, or those of one group of them."""
    ends: dict[tuple[str, str], dict[int, float]] = {}
    for i, row in enumerate(result.net.rows):
        if row.kind == "vector":
            for name, sign in ((row.at, 1.0), (row.to, -1.0)):
                for group in {"", row.group}:
                    ends.setdefault((name, group), {})[i] = sign
    # All vectors of a control mark have its given height to share, too, which is likelier.
    all_of = {name: rows.keys() for (name, group), rows in ends.items() if not group}
    axes = base_axes(result.net, result.marks.place)
    seen: set[tuple[str, frozenset[int]]] = set()
    for (name, _), rows in ends.items():
        key = name, frozenset(rows)
        if len(rows) < 2 or key in seen:
            continue
        seen.add(key)
        up = axes[2][:, result.marks.index[name]]
        found = fitted(result, {i: sign * up for i, sign in rows.items()})
        if found is not None:
            size = float(found[1][0])
            text = f"The antenna height at {name} is off by {format_way(size)}."
            prior = ONE_OF_MANY if rows.keys() < all_of[name] or not result.net.held(name)[2] else RARE
            yield _cause(result, found[0], grave("adjust.antenna", (name,), text, size), 1, prior)


def _centring(result: NetworkResult) -> Iterator[Cause[Doubt]]:
    """An instrument, or an antenna, that did not stand over its mark."""
    if result.net.dimensions == 1:
        return
    axes = base_axes(result.net, result.marks.place)
    ways = [_changed_by(result, SIGHTED, axis=axis) for axis in (0, 1)]
    stations: dict[str, dict[int, FloatArray]] = {}
    for i in ways[0]:
        stations.setdefault(result.net.rows[i].at, {})[i] = np.stack([way[i] for way in ways], axis=1)
    vectors: dict[str, dict[int, FloatArray]] = {}
    for i, row in enumerate(result.net.rows):
        if row.kind == "vector":
            for name, sign in ((row.at, -1.0), (row.to, 1.0)):
                plan = axes[:2, :, result.marks.index[name]].T
                vectors.setdefault(name, {})[i] = sign * plan
    for what, places in (("instrument", stations), ("antenna", vectors)):
        for name, own in places.items():
            if len(own) < 3:
                continue
            found = fitted(result, own)
            if found is not None:
                e, n = (float(v) for v in found[1])
                size = math.hypot(e, n)
                text = (
                    f"The {what} at {name} stood {format_way(size)} beside its mark, "
                    f"{format_way(abs(e))} {'east' if e > 0 else 'west'} and "
                    f"{format_way(abs(n))} {'north' if n > 0 else 'south'}."
                )
                yield _cause(result, found[0], grave("adjust.centring", (name,), text, size), 2, RARE)


# Geoid, frame
# ---------------------------------------------------------------------------------------------------------


def _geoid(result: NetworkResult) -> Iterator[Cause[Doubt]]:
    """Heights of the control without the geoid, or with it twice; height differences of the geoid that were
    left out, as a plane."""
    net = result.net
    if net.plane or net.dimensions == 2:
        return
    if net.geoid is not None:
        yield from _geoid_of_control(result, net)
        return
    levelled = [i for i, row in enumerate(net.rows) if row.kind == "height_difference"]
    if len(levelled) < 3 or not any(row.kind == "vector" for row in net.rows):
        return
    p = result.about.positions(result.x)
    axes = base_axes(net, result.marks.place).mean(axis=2)
    slopes = {}
    for i in levelled:
        a, b = (result.marks.index[n] for n in (net.rows[i].at, net.rows[i].to))
        slopes[i] = (axes[:2] @ (p[:, b] - p[:, a]))[None] * 1e-6
    found = fitted(result, slopes)
    if found is not None:
        size = max(abs(float((c @ found[1])[0])) for c in slopes.values())
        slope = float(np.hypot(*found[1]))
        text = (
            "Height differences and vectors are apart by a geoid that is left out: it slopes by "
            f"{format_fixed(slope, 1)} mm/km. Name a geoid grid."
        )
        yield _cause(result, found[0], grave("adjust.geoid", (), text, size), 2, RARE)


def _geoid_of_control(result: NetworkResult, net: Network) -> Iterator[Cause[Doubt]]:
    assert net.geoid is not None
    heights = {n: g for n, g in net.control.items() if g.has[0] and g.has[2] and any(net.held(n))}
    if len(heights) < 2:
        return
    place = np.array([[g.first, g.second] for g in heights.values()]).T
    size = dict(zip(heights, net.geoid(place[0], place[1]).tolist(), strict=True))
    for sign, words in ((1.0, "without the geoid"), (-1.0, "with the geoid twice")):
        ones = [(name,) for name in heights] if is_bent(result) else []
        for some in (tuple(heights), *ones):
            moved = {n: replace(heights[n], h=heights[n].h + sign * size[n]) for n in some}
            left, dof = squares(replace(net, control={**net.control, **moved}))
            if left < math.inf:
                whose = "The heights of the control are" if len(some) > 1 else f"The height of {some[0]} is"
                doubt = grave("adjust.geoid", (), f"{whose} {words}, {format_way(size[some[0]])} apart.",
                              size[some[0]])  # fmt: skip
                yield Cause(told=doubt, parameters=0, squares=left, dof=dof, prior=RARE)


def _frame(result: NetworkResult) -> Iterator[Cause[Doubt]]:
    """Coordinates of the control with axes exchanged, a longitude's sign lost, or of another frame: the
    free network fits them when they are turned."""
    net = result.net
    if net.datum == "free" or net.dimensions == 1:
        return
    control = {n: g for n, g in net.control.items() if g.has[0] and any(net.held(n))}
    if len(control) < 3:
        return
    if not is_bent(result):
        return
    for words, other in other_meanings(net):
        left, dof = squares(other)
        if left < math.inf:
            doubt = grave("adjust.frame", (), f"The given coordinates have {words}.", None, "")
            yield Cause(told=doubt, parameters=0, squares=left, dof=dof, prior=RARE)
    yield from _turned(result, control)


#: A network that is turned against its control by more, radians, stands in another frame or zone.
TURNED_RAD = 1e-3


def _turned(result: NetworkResult, control: Mapping[str, Given]) -> Iterator[Cause[Doubt]]:
    """The free network against the control by a similarity in plan."""
    net = result.net
    try:
        free = solve(replace(net, datum="free", joint=None), starting_marks(net)[0], TRIED)
    except (FenwindError, KeyError):
        return
    if free.found is None or not free.found.converged:
        return
    names = [n for n in control if n in free.marks.index]
    given = np.array([[g.first, g.second, g.h if g.has[2] else 0.0] for g in map(control.get, names) if g]).T
    there = free.marks.place[:, [free.marks.index[n] for n in names]]
    axes = base_axes(net, given).mean(axis=2)
    plans = [axes[:2] @ positions_of(net, place) for place in (there, given)]
    plans = [plan - plan.mean(axis=1, keepdims=True) for plan in plans]
    plan, adjustment = similarity.estimate(similarity.alike(plans[0], plans[1]), "scale")
    turn = math.remainder(float(plan.rotation_rad), math.tau)
    rms = float(np.sqrt(np.mean(adjustment.residuals**2)))
    if abs(turn) < TURNED_RAD or rms > 0.05 or len(names) < 3:
        return
    text = (
        f"The given coordinates are turned by {format_fixed(math.degrees(turn), 3)}° against what was "
        "observed: another zone, another central meridian, or another frame."
    )
    doubt = grave("adjust.frame", (), text, None, "")
    yield Cause(told=doubt, parameters=2, squares=free.found.sum_squares, dof=free.found.dof, prior=RARE)


# Sigmas
# ---------------------------------------------------------------------------------------------------------


def _sigmas(result: NetworkResult) -> Iterator[Cause[Doubt]]:
    """The sigmas of a group, or of all, wrong by a factor."""
    assert result.found is not None
    whole, dof, worst = result.found.sum_squares, result.found.dof, 0.0
    by_group: dict[str, list[float]] = {}
    for part, group in zip(result.parts, result.found.groups, strict=False):
        weights = np.linalg.inv(part.covariance.transpose(2, 0, 1))
        drop = np.einsum("ik,kij,jk->k", group.residuals, weights, group.residuals)
        worst = max(worst, float(np.abs(np.nan_to_num(group.standardised)).max(initial=0.0)))
        for k, row in enumerate(part.rows.tolist()):
            name = result.net.rows[row].group or part.kind.replace("_", " ")
            known = by_group.setdefault(name, [0.0, 0.0])
            known[0] += float(drop[k])
            known[1] += float(np.sum(group.redundancy[:, k]))
    for name, (some, redundancy) in by_group.items():
        if len(by_group) > 1 and redundancy > 3.0:
            factor = math.sqrt(some / redundancy)
            if LEAST_FACTOR < factor < LARGEST_FACTOR and worst < factor * LARGEST_W:
                yield _of_sigma(result, name, factor, whole - some + redundancy, redundancy)
    factor = math.sqrt(whole / dof) if dof > 3 else 0.0
    if LEAST_FACTOR < factor < LARGEST_FACTOR and worst < factor * LARGEST_W:
        yield _of_sigma(result, "", factor, float(dof), float(dof))


def _of_sigma(
    result: NetworkResult, name: str, factor: float, left: float, redundancy: float
) -> Cause[Doubt]:
    """Larger sigmas make every residual likelier and all values less so: -2 log of the likelihood grows by
    twice the logarithm of the factor for each degree of freedom."""
    whose = f"The sigmas of {name}" if name else "The sigmas"
    text = f"{whose} are too small, by a factor of {format_fixed(factor, 2)}."
    doubt = grave("adjust.sigma", (name,) if name else (), text, factor, "")
    return _cause(result, left, doubt, 1, RARE + 2.0 * redundancy * math.log(factor))
