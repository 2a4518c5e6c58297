"""Which single blunder explains a network: an error in one value, one that several values share, or one of
meaning (a unit, a sign, two targets exchanged, a control mark elsewhere).

An error that several observations share, by c times its size, is tested as Baarda has it: T = (c' P v)^2 /
(c' P Qvv P c), chi-square with as many degrees of freedom as there are sizes.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenwind.doubts.registry import Doubt
from fenwind.errors import FenwindError
from fenwind.estimation.distributions import chi2_tail
from fenwind.procedures.network import NetworkResult, RowFigures, solve
from fenwind.procedures.network_model import Marks, Network, Row, computed, positions_of
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.quantities.lengths import FEET, format_way
from fenwind.quantities.numbers import format_fixed

FloatArray = NDArray[np.float64]
WORDS = {"height_difference": "height difference", "zenith": "zenith angle"}
LENGTHS = ("distance", "height_difference", "vector")
#: How near a ratio must be to a unit's, or an error to twice the value.
NEAR = 2e-3
#: Values of this share of the largest w are as likely.
EQUAL = 0.999
#: A shared error must beat the best single one by so much in the sum of squares, for each size it has more.
MORE = 8.0
#: Networks of more observations are not solved again for errors of meaning.
MOST_ROWS = 2000
#: Variance factor under which distances are not all in another unit.
HUGE = 1000.0
#: Iterations that a changed network has to settle in.
TRIED = 8
#: Differences of observations by heights of instruments, metres.
STEP_M = 0.01


@dataclass(frozen=True)
class Cause:
    """An explanation: the sum of squares that it leaves, and the doubt about it."""

    left: float
    doubt: Doubt


def _kind(kind: str) -> str:
    return WORDS.get(kind, kind)


def _grave(
    rule: str, names: tuple[str, ...], text: str, value: float | None = None, unit: str = "m"
) -> Doubt:
    return Doubt(rule=rule, subject="adjust", names=names, text=text, value=value, unit=unit, grave=True)


def blunder(result: NetworkResult, figures: Mapping[int, RowFigures], alpha: float) -> Doubt | None:
    """The blunder that explains the network best, None where none does."""
    assert result.found is not None
    found = result.found
    whole = found.sum_squares
    single = _single(result, figures)
    if single is None:
        return None
    causes = [single, *_heights(result)]
    if len(result.net.rows) <= MOST_ROWS:
        causes += [*_renamed(result), *_controls(result), *_units(result)]
    best = min(causes, key=lambda c: c.left)
    dof = max(found.dof - 1, 1)
    if float(chi2_tail(best.left, dof)) < alpha and best.left > 0.5 * whole:
        return single.doubt
    return best.doubt


def _single(result: NetworkResult, figures: Mapping[int, RowFigures]) -> Cause | None:
    """The value with the largest w, told as what it most likely is; among equals one that would be a unit
    or a sign, since that says why."""
    ranked: list[tuple[float, int, int]] = []
    for row, one in figures.items():
        w = np.where(_possible(result.net.rows[row], one), np.abs(np.nan_to_num(one.w)), 0.0)
        c = int(w.argmax())
        ranked.append((float(w[c]), row, c))
    if not ranked or result.found is None:
        return None
    best = max(ranked)[0]
    told = [_told(result.net.rows[row], figures[row], c) for w, row, c in ranked if w >= EQUAL * best]
    telling = [doubt for doubt in told if doubt.rule in ("adjust.unit", "adjust.sign")]
    return Cause(result.found.sum_squares - best**2, (telling or told)[0])


def _possible(observed: Row, one: RowFigures) -> NDArray[np.bool_]:
    """Whether a value can be wrong by what would have to be: no angle is by more than half a turn."""
    error = np.abs(one.residual) / np.maximum(one.redundancy, 1e-12)
    return np.asarray((error < math.pi) | (observed.kind in LENGTHS))


def _told(observed: Row, one: RowFigures, c: int) -> Doubt:
    error = -float(one.residual[c]) / float(one.redundancy[c])
    names, kind = (observed.at, observed.to), observed.kind
    value = float(observed.value[c])
    if kind == "distance":
        for words, metres in FEET.items():
            for ratio in (metres, 1.0 / metres):
                if abs((value - error) / value / ratio - 1.0) < NEAR:
                    return _grave(
                        "adjust.unit", names, f"The distance {names[0]} – {names[1]} is in {words}.", error
                    )
    if kind in ("height_difference", "vector") and abs(error - 2.0 * value) < 0.02 * abs(value):
        text = f"The sign of the {_kind(kind)} {names[0]} – {names[1]} is reversed."
        return _grave("adjust.sign", names, text, error)
    if kind in LENGTHS:
        size, unit = format_way(error), "m"
    else:
        error /= RAD_PER_SECOND
        size, unit = f"{format_fixed(error, 1)} s", "s"
    return _grave(
        f"adjust.{kind}", names, f"The {_kind(kind)} {names[0]} – {names[1]} is off by {size}.", error, unit
    )


# Errors that several values share
# ---------------------------------------------------------------------------------------------------------


def _heights(result: NetworkResult) -> Iterator[Cause]:
    """The height of an instrument, or of one target: every value of a set-up, or of a line, that it
    changes."""
    if result.net.dimensions != 3:
        return
    by_hi, by_ht = _by_heights(result, "hi"), _by_heights(result, "ht")
    stations: dict[str, list[int]] = {}
    lines: dict[tuple[str, str], list[int]] = {}
    for i, row in enumerate(result.net.rows):
        if row.kind in ("zenith", "distance"):
            stations.setdefault(row.at, []).append(i)
            lines.setdefault((row.at, row.to), []).append(i)
    for name, rows in stations.items():
        if sum(result.net.rows[i].kind == "zenith" for i in rows) >= 2:
            tested = _shared(result, {i: by_hi[i] for i in rows if i in by_hi})
            if tested is not None:
                size = -tested[1]
                text = f"The instrument height at {name} is off by {format_way(size)}."
                yield Cause(tested[0] + MORE, _grave("adjust.instrument-height", (name,), text, size))
    for (a, b), rows in lines.items():
        if len(rows) >= 2:
            tested = _shared(result, {i: by_ht[i] for i in rows if i in by_ht})
            if tested is not None:
                size = -tested[1]
                text = f"The target height at {b} from {a} is off by {format_way(size)}."
                yield Cause(tested[0] + MORE, _grave("adjust.target-height", (a, b), text, size))


def _by_heights(result: NetworkResult, which: str) -> dict[int, FloatArray]:
    """How values change by a metre more of hi or ht, by row."""
    net, p = result.net, result.about.positions(result.x)
    out: dict[int, FloatArray] = {}
    for part in result.parts:
        if part.kind not in ("zenith", "distance"):
            continue
        at, to, back = (p[:, e] for e in part.ends)
        values = []
        for step in (-STEP_M, STEP_M):
            hi = part.hi + (step if which == "hi" else 0.0)
            ht = part.ht + (step if which == "ht" else 0.0)
            values.append(computed(net, part.kind, at, to, back, hi, ht))
        slope = (values[1] - values[0]) / (2.0 * STEP_M)
        for k, row in enumerate(part.rows.tolist()):
            out[row] = slope[:, k]
    return out


def _shared(result: NetworkResult, by_row: Mapping[int, FloatArray]) -> tuple[float, float] | None:
    """What is left when values may be off by c times a size, and that size; None where it is not
    controlled."""
    assert result.found is not None
    n = len(result.setup.names)
    right, cpc, cpv = np.zeros(n), 0.0, 0.0
    for part, group in zip(result.parts, result.found.groups, strict=False):
        rows = [k for k, row in enumerate(part.rows.tolist()) if row in by_row]
        if not rows:
            continue
        _, design = group.group.model(result.x)
        for k in rows:
            c = by_row[int(part.rows[k])]
            weight = np.linalg.inv(part.covariance[:, :, k])
            cpc += float(c @ weight @ c)
            cpv += float(c @ weight @ group.residuals[:, k])
            np.add.at(right, part.unknowns[:, k], design[:, :, k].T @ weight @ c)
    constraints = np.zeros(_constraints(result))
    left = cpc - float(right @ result.found.factor.solve(right, constraints))
    if left <= 1e-9 * cpc or cpc == 0.0:
        return None
    return result.found.sum_squares - cpv**2 / left, -cpv / left


def _constraints(result: NetworkResult) -> int:
    assert result.found is not None
    observations = sum(part.observed.size for part in result.parts) + len(result.weighted)
    return result.found.dof - observations + len(result.setup.names)


# Errors of meaning, solved again
# ---------------------------------------------------------------------------------------------------------


def _again(net: Network, marks: Marks) -> float:
    """The sum of squares of a changed network, from where its marks are."""
    try:
        result = solve(net, marks, TRIED)
    except FenwindError:
        return math.inf
    return math.inf if result.found is None else result.found.sum_squares


def _renamed(result: NetworkResult) -> Iterator[Cause]:
    """Two targets of one set-up exchanged: looked for where directions are worst."""
    worst: dict[str, float] = {}
    assert result.found is not None
    for part, group in zip(result.parts, result.found.groups, strict=False):
        if part.kind == "direction":
            for k, row in enumerate(part.rows.tolist()):
                name = result.net.rows[row].at
                worst[name] = max(
                    worst.get(name, 0.0), float(np.abs(np.nan_to_num(group.standardised[0, k])))
                )
    for name in sorted(worst, key=lambda n: -worst[n])[:2]:
        if worst[name] < 5.0:
            continue
        targets = list(dict.fromkeys(r.to for r in result.net.rows if r.at == name and r.kind == "direction"))
        for i, a in enumerate(targets[:8]):
            for b in targets[i + 1 : 8]:
                other = {a: b, b: a}
                rows = tuple(
                    replace(r, to=other.get(r.to, r.to)) if r.at == name else r for r in result.net.rows
                )
                left = _again(replace(result.net, rows=rows), result.marks)
                if left < math.inf:
                    text = f"The targets {a} and {b} were exchanged at {name}."
                    yield Cause(left + MORE, _grave("adjust.names", (a, b, name), text))


def _controls(result: NetworkResult) -> Iterator[Cause]:
    """A control mark that is elsewhere than given: let go of it, one at a time."""
    net = result.net
    if net.datum == "free":
        return
    held = [n for n in net.control if n in result.marks.index and any(net.held(n))]
    if len(held) < 2:
        return
    for name in held[:30]:
        control = dict(net.control)
        control[name] = replace(control[name], planned=True)
        try:
            freed = solve(replace(net, control=control), result.marks, TRIED)
        except FenwindError:
            continue
        if freed.found is None:
            continue
        i, j = freed.marks.index[name], result.marks.index[name]
        d = positions_of(net, freed.marks.place[:, [i]]) - positions_of(net, result.marks.place[:, [j]])
        size = float(np.linalg.norm(d))
        text = f"The control mark {name} is {format_way(size)} from where the observations put it."
        sizes = sum(net.held(name))
        yield Cause(freed.found.sum_squares + MORE * sizes, _grave("adjust.control", (name,), text, size))


def _units(result: NetworkResult) -> Iterator[Cause]:
    """All distances in feet."""
    factor = result.found.variance_factor if result.found is not None else None
    if sum(r.kind == "distance" for r in result.net.rows) < 2 or (factor or 0.0) < HUGE:
        return
    for words, metres in FEET.items():
        for factor in (metres, 1.0 / metres):
            rows = tuple(
                replace(r, value=r.value * factor) if r.kind == "distance" else r for r in result.net.rows
            )
            left = _again(replace(result.net, rows=rows), result.marks)
            if left < 0.1 * (result.found.sum_squares if result.found is not None else 0.0):
                yield Cause(left, _grave("adjust.unit", (), f"All distances are in {words}.", factor, ""))
                return
