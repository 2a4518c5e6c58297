"""Which single blunder explains a network: an error in one value, one that several values share, or one of
meaning (a unit, a sign, two targets exchanged, a control mark elsewhere).

An error that several observations share, by c times its size, is tested as Baarda has it: T = (c' P v)^2 /
(c' P Qvv P c), chi-square with as many degrees of freedom as there are sizes.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, replace
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from fenwind.doubts.registry import Doubt
from fenwind.errors import FenwindError
from fenwind.estimation.distributions import chi2_tail
from fenwind.procedures.network import NetworkResult, solve
from fenwind.procedures.network_figures import RowFigures
from fenwind.procedures.network_model import Marks, Network, Row, computed, positions_of
from fenwind.procedures.network_start import starting_marks
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.quantities.lengths import FEET, format_way
from fenwind.quantities.numbers import format_fixed

FloatArray = NDArray[np.float64]
WORDS = {"zenith": "zenith angle"}
DISTANCES = ("distance", "horizontal_distance")
LENGTHS = (*DISTANCES, "height_difference", "vector")
#: How near a ratio must be to a unit's, or an error to twice the value.
NEAR = 1e-2
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
#: From so many sigmas on a value bends the network, and what its variance is multiplied by to let go.
BENT, SLACK = 100.0, 1e10
#: Differences of observations by heights of instruments, metres.
STEP_M = 0.01


@dataclass(frozen=True)
class Cause:
    """An explanation: the sum of squares that it leaves, and the doubt about it."""

    left: float
    doubt: Doubt


def _kind(kind: str) -> str:
    return WORDS.get(kind, kind.replace("_", " "))


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
        causes += [*_renamed(result), *_two_rounds(result), *_controls(result), *_units(result)]
        causes += _reversed(result, figures)
    best = min(causes, key=lambda c: c.left)
    dof = max(found.dof - 1, 1)
    if float(chi2_tail(best.left, dof)) < alpha and best.left > 0.5 * whole:
        return single.doubt
    return best.doubt


def let_go(result: NetworkResult) -> Doubt:
    """The control mark without which alone the network settles."""
    net, name = result.net, result.let_go
    given = net.control[name]
    there = np.array([[given.first], [given.second], [given.h if given.has[2] else 0.0]])
    i = result.marks.index[name]
    away = positions_of(net, result.marks.place[:, [i]]) - positions_of(net, there)
    size = float(np.linalg.norm(away))
    text = (
        f"The control mark {name} is {format_way(size)} from where the observations put it. Nothing settles "
        "with it, so it was let go of."
    )
    return _grave("adjust.control", (name,), text, size)


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
    told = [
        _told(result.net.rows[row], c, _error(result, row, c, figures[row]))
        for w, row, c in ranked if w >= EQUAL * best
    ]  # fmt: skip
    telling = [doubt for doubt in told if doubt.rule in ("adjust.unit", "adjust.sign")]
    return Cause(result.found.sum_squares - best**2, (telling or told)[0])


def _possible(observed: Row, one: RowFigures) -> NDArray[np.bool_]:
    """Whether a value can be wrong by what would have to be: no angle is by more than half a turn."""
    error = np.abs(one.residual) / np.maximum(one.redundancy, 1e-12)
    return np.asarray((error < math.pi) | (observed.kind in LENGTHS))


def _error(result: NetworkResult, row: int, c: int, one: RowFigures) -> float:
    """How far off a value is: as the slopes have it, and where it bends the network, against one that it does
    not pull."""
    error = -float(one.residual[c]) / float(one.redundancy[c])
    if abs(float(one.w[c])) < BENT:
        return error
    rows = tuple(replace(r, covariance=r.covariance * SLACK) if i == row else r
                 for i, r in enumerate(result.net.rows))  # fmt: skip
    net = replace(result.net, rows=rows)
    try:
        free = solve(net, starting_marks(net)[0], TRIED)
    except FenwindError:
        return error
    for part, group in zip(free.parts, free.found.groups if free.found else (), strict=False):
        for k in np.flatnonzero(part.rows == row).tolist():
            error = -float(group.residuals[c, k])
    return error


def _told(observed: Row, c: int, error: float) -> Doubt:
    names, kind = (observed.at, observed.to), observed.kind
    value = float(observed.value[c])
    if kind in DISTANCES:
        for words, metres in FEET.items():
            for ratio in (metres, 1.0 / metres):
                if abs((value - error) / value / ratio - 1.0) < NEAR:
                    text = f"The {_kind(kind)} {names[0]} – {names[1]} is in {words}."
                    return _grave("adjust.unit", names, text, error)
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
    moved = result.found.factor.solve(right, np.zeros(result.found.constraints))
    left = cpc - float(right @ moved)
    if left <= 1e-9 * cpc or cpc == 0.0:
        return None
    return result.found.sum_squares - cpv**2 / left, -cpv / left


# Errors of meaning, solved again
# ---------------------------------------------------------------------------------------------------------


def _again(net: Network, marks: Marks) -> float:
    """The sum of squares of a changed network, from where its marks are, else from where they are found."""
    for again in (False, True):
        try:
            result = solve(net, starting_marks(net)[0] if again else marks, TRIED)
        except FenwindError:
            continue
        return math.inf if result.found is None else result.found.sum_squares
    return math.inf


def _renamed(result: NetworkResult) -> Iterator[Cause]:
    """Two targets of one set-up exchanged: looked for where directions are worst."""
    worst: dict[tuple[str, str], float] = {}
    assert result.found is not None
    for part, group in zip(result.parts, result.found.groups, strict=False):
        if part.kind == "direction":
            w = np.abs(np.nan_to_num(group.standardised[0]))
            for size, row in zip(w.tolist(), part.rows.tolist(), strict=True):
                key = result.net.rows[row].at, result.net.rows[row].set
                worst[key] = max(worst.get(key, 0.0), size)
    for at, name in sorted(worst, key=lambda key: -worst[key])[:2]:
        if worst[at, name] >= 5.0:
            yield from _exchanged(result, at, name)


def _exchanged(result: NetworkResult, at: str, name: str) -> Iterator[Cause]:
    """Any two targets of a set exchanged: in all that was read at the station, or in this set alone."""
    rows, marks = result.net.rows, result.marks
    mine = [r.at == at for r in rows]
    other = [r.at == at and (r.kind != "direction" or r.set == name) for r in rows]
    ways = [mine, other] if mine != other else [mine]
    targets = list(dict.fromkeys(r.to for r in rows if (r.at, r.set, r.kind) == (at, name, "direction")))[:8]
    for a, b in combinations(targets, 2):
        swap = {a: b, b: a}
        for which in ways:
            changed = tuple(
                replace(r, to=swap.get(r.to, r.to)) if yes else r for r, yes in zip(rows, which, strict=True)
            )
            left = _again(replace(result.net, rows=changed), marks)
            if left < math.inf:
                text = f"The targets {a} and {b} were exchanged at {at}."
                yield Cause(left + MORE, _grave("adjust.names", (a, b, at), text))


def _reversed(result: NetworkResult, figures: Mapping[int, RowFigures]) -> Iterator[Cause]:
    """A vector or a height difference with its sign turned round: tried where w is largest."""
    ranked = sorted(
        (float(np.abs(np.nan_to_num(one.w)).max()), row) for row, one in figures.items()
        if result.net.rows[row].kind in ("vector", "height_difference")
    )  # fmt: skip
    for w, row in ranked[-3:]:
        if w < 5.0:
            continue
        one = result.net.rows[row]
        rows = tuple(replace(r, value=-r.value) if i == row else r for i, r in enumerate(result.net.rows))
        left = _again(replace(result.net, rows=rows), result.marks)
        text = f"The sign of the {_kind(one.kind)} {one.at} – {one.to} is reversed."
        yield Cause(left + MORE, _grave("adjust.sign", (one.at, one.to), text, float(2.0 * one.value[0])))


def _two_rounds(result: NetworkResult) -> Iterator[Cause]:
    """Directions of two rounds under one set number: those after some row, or of targets met again, have
    another orientation."""
    sets: dict[tuple[str, str], list[int]] = {}
    for i, row in enumerate(result.net.rows):
        if row.kind == "direction":
            sets.setdefault((row.at, row.set), []).append(i)
    for (at, name), rows in sets.items():
        tried = [(tested[0], part) for part in _parts_of_set(result, rows)
                 if (tested := _shared(result, {i: np.ones(1) for i in part})) is not None]  # fmt: skip
        best = min(tried, key=lambda one: one[0], default=None)
        if best is None or best[0] > 0.5 * _whole(result):
            continue
        apart = {i: replace(result.net.rows[i], set=f"{name} second round") for i in best[1]}
        changed = tuple(apart.get(i, row) for i, row in enumerate(result.net.rows))
        left = _again(replace(result.net, rows=changed), result.marks)
        if left < math.inf:
            text = (
                f"The directions at {at} under one set number are of two rounds: set {name or '(no name)'}."
            )
            yield Cause(left + MORE, _grave("adjust.set", (at,), text))


def _parts_of_set(result: NetworkResult, rows: list[int]) -> Iterator[list[int]]:
    """What may be the second round: two directions or more, which leave two or more."""
    met: set[str] = set()
    again = []
    for i in rows:
        to = result.net.rows[i].to
        if to in met:
            again.append(i)
        met.add(to)
    for part in (again, *(rows[k:] for k in range(2, len(rows) - 1))):
        if 2 <= len(part) <= len(rows) - 2:
            yield part


def _whole(result: NetworkResult) -> float:
    return result.found.sum_squares if result.found is not None else 0.0


def _controls(result: NetworkResult) -> Iterator[Cause]:
    """A control mark that is elsewhere than given: let go of it, one at a time."""
    net = result.net
    if net.datum == "free":
        return
    held = [n for n in net.control if n in result.marks.index and any(net.held(n))]
    if len(held) < 2:
        return
    for name in held[:30]:
        freed_net = replace(net, control={n: g for n, g in net.control.items() if n != name})
        try:
            start = starting_marks(freed_net)[0] if _bent(result) else result.marks
            freed = solve(freed_net, start, TRIED)
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


def _bent(result: NetworkResult) -> bool:
    """Whether what is wrong has drawn marks so far away that nothing can start from them."""
    return result.found is not None and (result.found.variance_factor or 0.0) > HUGE


def _units(result: NetworkResult) -> Iterator[Cause]:
    """All distances in feet."""
    factor = result.found.variance_factor if result.found is not None else None
    if sum(r.kind in DISTANCES for r in result.net.rows) < 2 or (factor or 0.0) < HUGE:
        return
    for words, metres in FEET.items():
        for factor in (metres, 1.0 / metres):
            rows = tuple(
                replace(r, value=r.value * factor) if r.kind in DISTANCES else r for r in result.net.rows
            )
            left = _again(replace(result.net, rows=rows), result.marks)
            if left < 0.1 * (result.found.sum_squares if result.found is not None else 0.0):
                yield Cause(left, _grave("adjust.unit", (), f"All distances are in {words}.", factor, ""))
                return
