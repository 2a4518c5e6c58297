"""What explains a network: an error in one value, one that several values share (network_causes), or one of
meaning: a unit, a sign, two targets exchanged, another mark sighted, one name for two places, a control mark
elsewhere. All are judged by what they leave (procedures/causes)."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import replace
from itertools import combinations

import numpy as np
from numpy.typing import NDArray

from fenwind.doubts.network_causes import DISTANCES, SIGHTED, TRIED, causes, grave, is_bent, shared, squares
from fenwind.doubts.registry import Doubt
from fenwind.errors import FenwindError
from fenwind.estimation.distributions import chi2_tail
from fenwind.procedures.causes import Cause, likely
from fenwind.procedures.network import NetworkResult, solve
from fenwind.procedures.network_figures import RowFigures, row_figures
from fenwind.procedures.network_model import Given, Network, Row, positions_of
from fenwind.procedures.network_start import starting_marks
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.quantities.lengths import FEET, format_way
from fenwind.quantities.numbers import format_fixed

FloatArray = NDArray[np.float64]
WORDS = {"zenith": "zenith angle"}
LENGTHS = (*DISTANCES, "height_difference", "vector")
#: How near a ratio must be to a unit's, or an error to twice the value.
NEAR = 1e-2
#: Networks of more observations are not solved again for errors of meaning.
MOST_ROWS = 2000
#: Variance factor under which distances are not all in another unit.
HUGE = 1000.0
#: From so many sigmas on a value bends the network, and what its variance is multiplied by to let go.
BENT, SLACK = 100.0, 1e10
#: -2 log of the odds of an error of meaning against one wrong value.
OF_MEANING, TWO_PLACES = 2.0, 8.0
#: In a network that is not bent another mark was sighted only where it is near the one booked, metres.
NEAR_BY_M = 3.0
#: An error so gross that it makes all but this part of the sum of squares is told, though more is wrong.
MOST_OF_IT = 1e-4
#: Values that are wrong at once, at most.
MOST_WRONG = 4
#: Each of several wrong values is off by so many sigmas at least; less than that many sigmas too small do.
LEAST_OF_SEVERAL = 6.0
#: Lines, and values, that are looked at one by one, those with the largest residuals.
MOST_LINES, MOST_SINGLE = 6, 12


def _kind(kind: str) -> str:
    return WORDS.get(kind, kind.replace("_", " "))


def explanations(result: NetworkResult, figures: Mapping[int, RowFigures], alpha: float) -> list[Doubt]:
    """What explains the network: the likeliest first, then what is as likely; nothing where what is left
    fails the global test with every explanation."""
    assert result.found is not None
    found = [*_singles(result, figures), *causes(result)]
    if len(result.net.rows) <= MOST_ROWS:
        found += [*_two_rounds(result), *_controls(result), *_other_marks(result), *_two_places(result)]
        if is_bent(result):  # errors of meaning are not small
            found += [*_exchanged_targets(result), *_units(result), *_reversed(result, figures)]
    best = likely(found, result.found.sum_squares, alpha, most_left=1.0)
    told: list[Doubt] = []
    for cause in best:
        if not any((cause.told.rule, cause.told.names) == (d.rule, d.names) for d in told):
            told.append(cause.told)
    if not told:
        most = min(found, key=lambda c: c.score, default=None)
        if most is not None and most.squares < MOST_OF_IT * result.found.sum_squares:
            return [most.told]
        return _several(result, alpha)
    return [told[0], *(replace(d, text=f"As likely: {d.text}") for d in told[1:])]


def _several(result: NetworkResult, alpha: float) -> list[Doubt]:
    """Several values that are wrong, where one explanation is not enough: the one with the largest
    standardised residual is let go until what is left passes the test (data snooping, Baarda 1968); nothing
    where that takes more than a few."""
    net, off = result.net, []
    for _ in range(MOST_WRONG):
        figures = row_figures(result, alpha, 0.8)
        worst = {i: float(np.abs(np.nan_to_num(one.w)).max()) for i, one in figures.items()}
        off.append(max(worst, key=worst.__getitem__))
        if worst[off[-1]] < LEAST_OF_SEVERAL:
            return []
        rows = tuple(replace(r, covariance=r.covariance * SLACK) if i in off else r
                     for i, r in enumerate(net.rows))  # fmt: skip
        try:
            result = solve(replace(net, rows=rows), starting_marks(net)[0], TRIED)
        except FenwindError:
            return []
        assert result.found is not None
        dof = result.found.dof - sum(net.rows[i].value.size for i in off)
        if dof > 0 and float(chi2_tail(result.found.sum_squares, dof)) >= alpha:
            return [_told(net.rows[i], *_largest(result, i)) for i in off]
    return []


def _largest(result: NetworkResult, row: int) -> tuple[int, float]:
    """Which part of a value that takes no part is off most, and by how much."""
    assert result.found is not None
    for part, group in zip(result.parts, result.found.groups, strict=False):
        for k in np.flatnonzero(part.rows == row).tolist():
            c = int(np.abs(group.residuals[:, k]).argmax())
            return c, -float(group.residuals[c, k])
    return 0, math.nan


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
    return grave("adjust.control", (name,), text, size)


def _cause(result: NetworkResult, left: float, doubt: Doubt, parameters: int, prior: float) -> Cause[Doubt]:
    assert result.found is not None
    return Cause(told=doubt, parameters=parameters, squares=left, dof=result.found.dof - parameters,
                 prior=prior)  # fmt: skip


def _singles(result: NetworkResult, figures: Mapping[int, RowFigures]) -> Iterator[Cause[Doubt]]:
    """Values with the largest w, each told as what it most likely is."""
    ranked: list[tuple[float, int, int]] = []
    for row, one in figures.items():
        w = np.where(_possible(result.net.rows[row], one), np.abs(np.nan_to_num(one.w)), 0.0)
        ranked += [(size, row, c) for c, size in enumerate(w.tolist()) if size > 0.0]
    assert result.found is not None
    for size, row, c in sorted(ranked, reverse=True)[:MOST_SINGLE]:
        error, freed = _error(result, row, c, figures[row])
        doubt = _told(result.net.rows[row], c, error)
        if doubt.rule in ("adjust.unit", "adjust.sign") and doubt.value is not None:
            yield from _put_right(result, row, c, doubt)
        left = result.found.sum_squares - size**2 if freed is None else freed
        yield _cause(result, left, doubt, 1, 0.0)


def _put_right(result: NetworkResult, row: int, c: int, doubt: Doubt) -> Iterator[Cause[Doubt]]:
    """A value in another unit or with the other sign, put right: that takes no parameter."""
    one = result.net.rows[row]
    value, truth = one.value.copy(), float(one.value[c]) - float(doubt.value or 0.0)
    ratios = (
        [m**power for m in FEET.values() for power in (1.0, -1.0)] if doubt.rule == "adjust.unit" else [-1.0]
    )
    value[c] *= min(ratios, key=lambda ratio: abs(float(one.value[c]) * ratio - truth))
    rows = tuple(replace(r, value=value) if i == row else r for i, r in enumerate(result.net.rows))
    left, dof = squares(replace(result.net, rows=rows))
    yield Cause(told=doubt, parameters=0, squares=left, dof=dof, prior=OF_MEANING)


def _possible(observed: Row, one: RowFigures) -> NDArray[np.bool_]:
    """Whether a value can be wrong by what would have to be: no angle is by more than half a turn."""
    error = np.abs(one.residual) / np.maximum(one.redundancy, 1e-12)
    return np.asarray((error < math.pi) | (observed.kind in LENGTHS))


def _error(result: NetworkResult, row: int, c: int, one: RowFigures) -> tuple[float, float | None]:
    """How far off a value is: as the slopes have it, and where it bends the network, against one that it does
    not pull, with the sum of squares that this leaves."""
    error = -float(one.residual[c]) / float(one.redundancy[c])
    if abs(float(one.w[c])) < BENT and not is_bent(result):
        return error, None
    rows = tuple(replace(r, covariance=r.covariance * SLACK) if i == row else r
                 for i, r in enumerate(result.net.rows))  # fmt: skip
    net = replace(result.net, rows=rows)
    try:
        free = solve(net, starting_marks(net)[0], TRIED)
    except FenwindError:
        return error, None
    if free.found is None:
        return error, None
    for part, group in zip(free.parts, free.found.groups, strict=False):
        for k in np.flatnonzero(part.rows == row).tolist():
            error = -float(group.residuals[c, k])
    return error, free.found.sum_squares


def _told(observed: Row, c: int, error: float) -> Doubt:
    names, kind = (observed.at, observed.to), observed.kind
    value = float(observed.value[c])
    if kind in DISTANCES:
        for words, metres in FEET.items():
            for ratio in (metres, 1.0 / metres):
                if abs((value - error) / value / ratio - 1.0) < NEAR:
                    text = f"The {_kind(kind)} {names[0]} – {names[1]} is in {words}."
                    return grave("adjust.unit", names, text, error)
    if kind in ("height_difference", "vector") and abs(error - 2.0 * value) < 0.02 * abs(value):
        text = f"The sign of the {_kind(kind)} {names[0]} – {names[1]} is reversed."
        return grave("adjust.sign", names, text, error)
    if kind in LENGTHS:
        size, unit = format_way(error), "m"
    else:
        error /= RAD_PER_SECOND
        size, unit = f"{format_fixed(error, 1)} s", "s"
    return grave(
        f"adjust.{kind}", names, f"The {_kind(kind)} {names[0]} – {names[1]} is off by {size}.", error, unit
    )


# Errors of meaning, solved again
# ---------------------------------------------------------------------------------------------------------


def _exchanged_targets(result: NetworkResult) -> Iterator[Cause[Doubt]]:
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


def _exchanged(result: NetworkResult, at: str, name: str) -> Iterator[Cause[Doubt]]:
    """Any two targets of a set exchanged: in all that was read at the station, or in this set alone."""
    rows, marks = result.net.rows, result.marks
    mine = [r.at == at and r.kind in SIGHTED for r in rows]
    other = [yes and (r.kind != "direction" or r.set == name) for yes, r in zip(mine, rows, strict=True)]
    alone = [r.at == at and r.kind == "direction" and r.set == name for r in rows]
    ways = [way for k, way in enumerate((mine, other, alone)) if way not in (mine, other, alone)[:k]]
    targets = list(dict.fromkeys(r.to for r in rows if (r.at, r.set, r.kind) == (at, name, "direction")))[:8]
    for a, b in combinations(targets, 2):
        swap = {a: b, b: a}
        for which in ways:
            changed = tuple(
                replace(r, to=swap.get(r.to, r.to)) if yes else r for r, yes in zip(rows, which, strict=True)
            )
            left, dof = squares(replace(result.net, rows=changed), marks)
            text = f"The targets {a} and {b} were exchanged at {at}."
            doubt = grave("adjust.names", (a, b, at), text)
            yield Cause(told=doubt, parameters=0, squares=left, dof=dof, prior=OF_MEANING)


def _reversed(result: NetworkResult, figures: Mapping[int, RowFigures]) -> Iterator[Cause[Doubt]]:
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
        left, dof = squares(replace(result.net, rows=rows), result.marks)
        text = f"The sign of the {_kind(one.kind)} {one.at} – {one.to} is reversed."
        doubt = grave("adjust.sign", (one.at, one.to), text, float(2.0 * one.value[0]))
        yield Cause(told=doubt, parameters=0, squares=left, dof=dof, prior=OF_MEANING)


def _two_rounds(result: NetworkResult) -> Iterator[Cause[Doubt]]:
    """Directions of two rounds under one set number: those after some row, or of targets met again, have
    another orientation."""
    sets: dict[tuple[str, str], list[int]] = {}
    for i, row in enumerate(result.net.rows):
        if row.kind == "direction":
            sets.setdefault((row.at, row.set), []).append(i)
    for (at, name), rows in sets.items():
        tried = [(tested[0], part) for part in _parts_of_set(result, rows)
                 if (tested := shared(result, {i: np.ones(1) for i in part})) is not None]  # fmt: skip
        best = min(tried, key=lambda one: one[0], default=None)
        if best is None or best[0] > 0.5 * _whole(result):
            continue
        apart = {i: replace(result.net.rows[i], set=f"{name} second round") for i in best[1]}
        changed = tuple(apart.get(i, row) for i, row in enumerate(result.net.rows))
        left, dof = squares(replace(result.net, rows=changed), result.marks)
        text = f"The directions at {at} under one set number are of two rounds: set {name or '(no name)'}."
        yield Cause(told=grave("adjust.set", (at,), text), parameters=1, squares=left, dof=dof,
                    prior=OF_MEANING)  # fmt: skip


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


def _controls(result: NetworkResult) -> Iterator[Cause[Doubt]]:
    """A control mark that is elsewhere than given: let go of it, one at a time."""
    net = result.net
    if net.datum == "free":
        return
    held = [n for n in net.control if n in result.marks.index and any(net.held(n))]
    if len(held) < 2:
        return
    for name in held[:30]:
        given = net.control[name]
        freed = [(replace(given, first=math.nan, second=math.nan, h=math.nan), "is")]
        if all(net.held(name)):
            freed += [(replace(given, h=math.nan), "is in height"),
                      (replace(given, first=math.nan, second=math.nan), "is in plan")]  # fmt: skip
        for other, words in freed:
            yield from _freed(result, name, other, words)


def _freed(result: NetworkResult, name: str, other: Given, words: str) -> Iterator[Cause[Doubt]]:
    """A control mark without some of its coordinates."""
    net = replace(result.net, control={**result.net.control, name: other})
    if not any(other.has):
        net = replace(net, control={n: g for n, g in net.control.items() if n != name})
    try:
        start = starting_marks(net)[0] if is_bent(result) else result.marks
        freed = solve(net, start, TRIED)
    except FenwindError:
        return
    if freed.found is None:
        return
    i, j = freed.marks.index[name], result.marks.index[name]
    d = positions_of(net, freed.marks.place[:, [i]]) - positions_of(net, result.marks.place[:, [j]])
    size = float(np.linalg.norm(d))
    text = f"The control mark {name} {words} {format_way(size)} from where the observations put it."
    doubt = grave("adjust.control", (name,), text, size)
    yield Cause(told=doubt, parameters=sum(result.net.held(name)) - sum(net.held(name)),
                squares=freed.found.sum_squares, dof=freed.found.dof)  # fmt: skip


def _units(result: NetworkResult) -> Iterator[Cause[Doubt]]:
    """All distances in feet."""
    factor = result.found.variance_factor if result.found is not None else None
    if sum(r.kind in DISTANCES for r in result.net.rows) < 2 or (factor or 0.0) < HUGE:
        return
    for words, metres in FEET.items():
        for factor in (metres, 1.0 / metres):
            rows = tuple(
                replace(r, value=r.value * factor) if r.kind in DISTANCES else r for r in result.net.rows
            )
            left, dof = squares(replace(result.net, rows=rows))
            doubt = grave("adjust.unit", (), f"All distances are in {words}.", factor, "")
            yield Cause(told=doubt, parameters=0, squares=left, dof=dof, prior=0.0)


# Another mark, or two
# ---------------------------------------------------------------------------------------------------------


def _worst_lines(result: NetworkResult) -> list[tuple[str, str]]:
    """Lines, from where to what, with the largest standardised residuals."""
    worst: dict[tuple[str, str], float] = {}
    assert result.found is not None
    for part, group in zip(result.parts, result.found.groups, strict=False):
        sizes = np.abs(np.nan_to_num(group.standardised)).max(axis=0)
        for row, size in zip(part.rows.tolist(), sizes.tolist(), strict=True):
            one = result.net.rows[row]
            worst[one.at, one.to] = max(worst.get((one.at, one.to), 0.0), size)
    ranked = sorted(worst, key=lambda line: -worst[line])
    return [line for line in ranked if worst[line] >= 3.0][:MOST_LINES]


def _renamed(net: Network, line: tuple[str, str], name: str) -> Network:
    """The network with another name for what was observed along a line."""
    rows = tuple(replace(r, to=name) if (r.at, r.to) == line else r for r in net.rows)
    return replace(net, rows=rows)


def _other_marks(result: NetworkResult) -> Iterator[Cause[Doubt]]:
    """Another mark sighted than the one booked: each of the network is tried that lies as far as was
    measured, from places that the line has no part in."""
    for at, to in _worst_lines(result):
        net = result.net
        lengths = [float(np.linalg.norm(r.value)) for r in net.rows
                   if (r.at, r.to) == (at, to) and r.kind in (*DISTANCES, "vector")]  # fmt: skip
        marks = result.marks
        if is_bent(result):
            rest = replace(net, rows=tuple(r for r in net.rows if (r.at, r.to) != (at, to)))
            try:
                marks = solve(rest, starting_marks(rest)[0], TRIED).marks
            except (FenwindError, KeyError):
                continue
        if at not in marks.index:
            continue
        p = positions_of(net, marks.place)
        for name, away in zip(marks.names, np.linalg.norm(p - p[:, [marks.index[at]]], axis=0).tolist(),
                              strict=True):  # fmt: skip
            if name in (at, to) or (lengths and abs(away - lengths[0]) > 0.5 + 0.005 * away):
                continue
            apart = float(np.linalg.norm(p[:, marks.index[name]] - p[:, result.marks.index[to]]))
            if not is_bent(result) and apart > NEAR_BY_M:
                continue
            left, dof = squares(_renamed(net, (at, to), name))
            text = f"What was sighted from {at} as {to} is {name}."
            yield Cause(told=grave("adjust.wrong-mark", (at, to, name), text), parameters=0, squares=left,
                        dof=dof, prior=OF_MEANING)  # fmt: skip


def _two_places(result: NetworkResult) -> Iterator[Cause[Doubt]]:
    """One name for two places: a mark that some of its observers saw elsewhere than the others."""
    ends = {name for line in _worst_lines(result) for name in line}
    for name in ends:
        at = {r.at for r in result.net.rows if r.to == name}
        parts: list[frozenset[str]] = [frozenset((one,)) for one in at] if len(at) > 2 else []
        parts += [frozenset(pair) for pair in combinations(sorted(at), 2)] if 3 < len(at) < 7 else []
        for some in parts:
            yield from _apart(result, name, some)


def _apart(result: NetworkResult, name: str, some: frozenset[str]) -> Iterator[Cause[Doubt]]:
    """A mark as two: as some observers saw it, and as all others did."""
    other = f"{name} elsewhere"
    rows = tuple(replace(r, to=other) if r.to == name and r.at in some else r for r in result.net.rows)
    net = replace(result.net, rows=rows)
    try:
        found = solve(net, starting_marks(net)[0], TRIED)
    except (FenwindError, KeyError):
        return
    if found.found is None or other not in found.marks.index or found.lost:
        return
    p = positions_of(net, found.marks.place)
    size = float(np.linalg.norm(p[:, found.marks.index[other]] - p[:, found.marks.index[name]]))
    text = f"{name} is two places, {format_way(size)} apart: {', '.join(sorted(some))} saw another."
    yield Cause(told=grave("adjust.two-places", (name,), text, size), parameters=len(net.axes),
                squares=found.found.sum_squares, dof=found.found.dof, prior=TWO_PLACES)  # fmt: skip
