"""Rules about base and rover sessions: bases that stand on nothing, antenna heights, checks, repeated
occupations."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from datetime import datetime
from functools import lru_cache
from itertools import pairwise
from typing import Any, NamedTuple
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

from fenwind.doubts.base_rules import LEAST_H_M, LEAST_V_M, REACH, shared_offsets, variances, wrong_base
from fenwind.doubts.registry import Doubt, Remedy
from fenwind.errors import FenwindError
from fenwind.geodesy.antenna import AntennaModel, reduced
from fenwind.geodesy.geocentric import enu_axes, to_xyz
from fenwind.job.derive import Derived
from fenwind.job.session_view import known_of, rover_of
from fenwind.job.state import JobState
from fenwind.job.steps.base import base_node, model_of
from fenwind.job.steps.rover import RoverMarks
from fenwind.procedures.rover import MOST_SCATTER_M, SCATTER_M, Point, mean
from fenwind.procedures.shared_errors import shared_by, totals
from fenwind.quantities.lengths import format_way
from fenwind.quantities.numbers import counted
from fenwind.records.sessions import Antenna, BaseSetup, Equipment, Occupation

FloatArray = NDArray[np.float64]

#: Broadcast positions that differ by more are different ones, metres.
BROADCAST_M = 0.005
#: Digits of a receiver's sentences that are worth more are too few, metres.
COARSE_M = 0.003
#: Occupations nearer in time than these see the same satellites in nearly the same place, seconds (common
#: practice).
TOO_SOON_S, SAME_S = 1200.0, 300.0
#: Fewer epochs prove nothing, whoever asks for how many (common practice, no source).
FEW_EPOCHS = 4
#: Heights of a mark that are told as wrong, at most.
MOST_WRONG = 8
#: How near an excess must be to what a slant would make, metres.
SLANT_M = 0.006


#: A remedy of every doubt about one occupation.
LEAVE_OUT = Remedy(kind="leave-out", label="leave it out")


def bases(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """Bases that are nowhere, that stand on an autonomous average beside something firmer, or that send
    something else than the job says."""
    rover, known = rover_of(derived), known_of(derived)
    every = [b for b in state.of(BaseSetup).values() if b.active]
    for base in every:
        outcome = derived.outcomes.get(base_node(base.id))
        if outcome is not None and isinstance(outcome.error, FenwindError):
            yield Doubt(
                rule="base.nowhere", subject=base.id, names=(base.name,), grave=True, unit="",
                text=f"Base {base.name} is nowhere: {outcome.error}. {outcome.error.hint}.",
            )  # fmt: skip
            continue
        yield from _broadcast(base, rover)
        if base.word == "average" and (len(every) > 1 or known):
            yield _untied(state, base, rover, known)


def _untied(state: JobState, base: BaseSetup, rover: RoverMarks, known: Mapping[str, Point]) -> Doubt:
    carried = [
        o for o in state.of(Occupation).values() if o.base == base.id and o.active and o.id in rover.each
    ]
    marks = tuple(dict.fromkeys(state.mark_name(o.mark) for o in carried))
    jumps, shared_marks = [], []
    for one in carried:
        others = [known[one.mark]] if one.mark in known else [
            rover.each[o.id] for o in state.of(Occupation).values()
            if o.mark == one.mark and o.base != base.id and o.id in rover.each
        ]  # fmt: skip
        if others:
            shared_marks.append(state.mark_name(one.mark))
            jumps.append(float(np.linalg.norm(rover.each[one.id].xyz - mean(others).xyz)))
    jump = max(jumps, default=None)
    size = f"; a common mark shows a jump of {format_way(jump)}" if jump is not None else ""
    stand = "stands" if len(marks) == 1 else "stand"
    standing = f"{counted(len(marks), 'mark')} {stand} on it" if marks else "no mark stands on it yet"
    return Doubt(
        rule="base.untied",
        subject=base.id,
        names=(base.name, *marks),
        text=f"Base {base.name} was restarted on an autonomous average and is tied to nothing: "
        f"{standing}{size}. Tie it to a mark, or place it.",
        value=jump,
        limit=0.0,
        grave=True,
        remedies=tuple(
            Remedy(kind="tie-base", label=f"tie it to {name}", names=(name,))
            for name in list(dict.fromkeys(shared_marks))[:2]
        ),
    )


def _broadcast(base: BaseSetup, rover: RoverMarks) -> Iterator[Doubt]:
    sent = (base.broadcast_x_m, base.broadcast_y_m, base.broadcast_z_m)
    placed = rover.bases.get(base.id)
    if placed is None or None in sent or not base.read_back:
        return
    if base.average_lat_rad is not None and base.average_lon_rad is not None and base.average_h_m is not None:
        wanted = to_xyz(base.average_lat_rad, base.average_lon_rad, base.average_h_m)
    elif base.word == "known":
        wanted = placed.arp.xyz
    else:
        return
    off = float(np.linalg.norm(np.array(sent, dtype=float) - wanted))
    if off > BROADCAST_M:
        yield Doubt(
            rule="base.broadcast", subject=base.id, names=(base.name,), value=off,
            limit=BROADCAST_M, grave=True,
            text=f"The stream of base {base.name} says another position than the job, {format_way(off)} "
                "away: set it, "
            "or start the base again.",
        )  # fmt: skip


def occupations(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """Bases that their occupations say are wrong, antenna heights, checks, repeated occupations, and what
    their epochs were like."""
    rover, known = rover_of(derived), known_of(derived)
    rows = [o for o in state.of(Occupation).values() if o.active and o.mark in state.marks]
    explained: set[str] = set()
    for offset in shared_offsets(state, derived):
        explained.update(offset.occupations)  # what a wrong base makes of them is told of the base
        yield from wrong_base(state, offset, known)
    for doubt, ids in _moved(state, [o for o in rows if o.id not in explained], rover, known):
        explained.update(ids)
        yield doubt
    apart = _APART.setdefault(rover, _Apart(rover.each))
    for doubt in _heights(state, [o for o in rows if o.id not in explained], apart, known):
        explained.add(doubt.names[0])
        yield doubt
    yield from _checks(state, rows, rover, known, explained)
    yield from _spreads(state, rover, apart, explained)
    yield from _too_near(state, rows)
    for one in rows:
        if _of_note(state, one):
            yield from _epochs(state, one)


def _difference(point: Point, reference: Point) -> tuple[Any, Any]:
    """East, north, up (3,) of a point from another, and the sigmas of that (3,), metres."""
    lat, lon, _ = reference.geodetic
    axes = enu_axes(lat, lon)
    d = axes @ (point.xyz - reference.xyz)
    return d, np.sqrt(np.maximum(variances(point, reference, axes), 0.0))


class _Off(NamedTuple):
    """How far n occupations lie from where they should, in plan and up (n,), and what is allowed (n,)."""

    plan: FloatArray
    up: FloatArray
    most_plan: FloatArray
    most_up: FloatArray

    @classmethod
    def by(cls, d: FloatArray, sigma: FloatArray) -> _Off:
        """From east, north, up (n, 3) and the sigmas of that (n, 3), metres."""
        plan = REACH * np.hypot(sigma[:, 0], sigma[:, 1])
        return cls(
            np.hypot(d[:, 0], d[:, 1]), d[:, 2], np.fmax(LEAST_H_M, plan),
            np.fmax(LEAST_V_M, REACH * sigma[:, 2]),
        )  # fmt: skip

    @property
    def shares(self) -> FloatArray:
        """Of what is allowed in plan and up (n, 2)."""
        return np.stack([self.plan / self.most_plan, np.abs(self.up) / self.most_up], axis=1)


def _from_reference(point: Point, reference: Point) -> _Off:
    d, sigma = _difference(point, reference)
    return _Off.by(d[None], sigma[None])


def _from_others(points: Sequence[Point]) -> _Off:
    """Of each of n points, from the mean of the others: n / (n - 1) times what it differs from the mean of
    all by, and the errors of that likewise. A mean of the others for each would take n times as long."""
    whole, many = mean(points), len(points) / (len(points) - 1.0)
    lat, lon, _ = whole.geodetic
    axes, errors = enu_axes(lat, lon), [point.errors for point in points]
    cross = shared_by(errors, whole.errors)
    total = totals(errors) + whole.errors.total - cross - cross.transpose(0, 2, 1)
    spread = np.einsum("ij,njk,ik->ni", axes, total, axes)
    apart = (np.array([p.xyz for p in points]) - whole.xyz) @ axes.T
    return _Off.by(many * apart, many * np.sqrt(np.maximum(spread, 0.0)))


class _Apart:
    """How far occupations, each a point by its id, lie from the mean of the others at their mark, worked out
    once for each group."""

    def __init__(self, each: Mapping[str, Point]) -> None:
        self.each = each
        self._known: dict[tuple[str, ...], _Off] = {}

    def of(self, ids: Sequence[str]) -> _Off:
        """See `_from_others`."""
        key = tuple(ids)
        if key not in self._known:
            self._known[key] = _from_others([self.each[i] for i in ids])
        return self._known[key]


#: Of marks measured by rovers, as long as they are those of the job: most changes leave them as they are.
_APART: WeakKeyDictionary[RoverMarks, _Apart] = WeakKeyDictionary()


def _by_mark(rows: Iterable[Occupation]) -> dict[str, list[Occupation]]:
    out: dict[str, list[Occupation]] = {}
    for one in rows:
        out.setdefault(one.mark, []).append(one)
    return out


def _moved(
    state: JobState, rows: Iterable[Occupation], rover: RoverMarks, known: Mapping[str, Point]
) -> Iterator[tuple[Doubt, list[str]]]:
    """Known marks that occupations from two bases or more place elsewhere, and alike: the mark has moved, or
    its coordinate is another's. With each doubt the occupations that it explains."""
    for mark, every in _by_mark(rows).items():
        some = [o for o in every if o.finished and o.id in rover.each]
        reference = known.get(mark)
        if reference is None or len({o.base for o in some}) < 2:
            continue
        found = [_difference(rover.each[o.id], reference) for o in some]
        d, sigma = np.array([f[0] for f in found]), np.array([f[1] for f in found])
        off, middle = _Off.by(d, sigma), d.mean(axis=0)
        alike = _Off.by(d - middle, sigma)
        if (off.plan > off.most_plan).all() and (alike.shares <= 1.0).all():
            name, way = state.mark_name(mark), float(np.linalg.norm(middle))
            yield Doubt(
                rule="marks.moved", subject=mark, names=(name,), value=way, limit=float(off.most_plan.max()),
                grave=True, text=f"{name} has moved, or its coordinate is wrong: from "
                f"{counted(len({o.base for o in some}), 'base')} it lies {format_way(way)} from where it is "
                "given, alike.",
            ), [o.id for o in some]  # fmt: skip


class _Suspect(NamedTuple):
    """An occupation that departs in height alone: by how much its antenna height would be too large, what
    is allowed, and the excess of a slant that explains it."""

    one: Occupation
    excess: float
    limit: float
    slant: float | None


def _heights(
    state: JobState, rows: list[Occupation], apart: _Apart, known: Mapping[str, Point]
) -> Iterator[Doubt]:
    """Heights that depart where the plan agrees: the antenna height is another."""
    models = {a.model: model_of(a) for a in state.of(Antenna).values()}
    heights = Counter((o.height_m, o.method) for o in rows)
    for mark, there in _by_mark(rows).items():
        if len(there) == 1 and mark not in known:
            continue  # nothing to hold it against
        placed = [one for one in there if one.id in apart.each]
        for suspect in _suspects(placed, apart, known.get(mark), models, heights):
            yield _about_height(suspect, state.mark_name(mark))


def _suspects(
    placed: list[Occupation],
    apart: _Apart,
    known: Point | None,
    models: Mapping[str, AntennaModel],
    heights: Mapping[tuple[float, Any], int],
) -> Iterator[_Suspect]:
    """Those of a mark that depart, from where it is known to be, else from the mean of the others: a wrong
    one makes all others depart from a mean that it is in, so they go one at a time, the farthest first; one
    that departs in plan as well goes untold here."""
    each = apart.each
    if known is not None:
        for one in placed:
            yield from _held_against([one], _from_reference(each[one.id], known), models)
        return
    rest, gone = list(placed), list[_Suspect]()
    while len(rest) > 1 and len(placed) - len(rest) < MOST_WRONG:
        off = apart.of([one.id for one in rest])
        found = _held_against(rest, off, models)
        if not found:
            break
        farthest = rest[int(off.shares.max(axis=1).argmax())]
        if len(rest) == 2:
            farthest = _of_two(found, heights).one
        gone += [suspect for suspect in found if suspect.one is farthest]
        rest.remove(farthest)
    if len(placed) - len(rest) < 2:
        yield from gone
        return
    middle = mean([each[one.id] for one in rest])  # the first was held against the others that are gone
    for suspect in gone:
        yield from _held_against([suspect.one], _from_reference(each[suspect.one.id], middle), models)


def _held_against(
    every: Sequence[Occupation], off: _Off, models: Mapping[str, AntennaModel]
) -> list[_Suspect]:
    """Those that depart in height alone."""
    places = np.flatnonzero((off.plan <= off.most_plan) & (np.abs(off.up) > off.most_up)).tolist()
    return [
        _Suspect(every[k], excess, float(off.most_up[k]), _slant_excess(every[k], excess, models))
        for k in places
        for excess in [-float(off.up[k])]
    ]


def _of_two(found: list[_Suspect], heights: Mapping[tuple[float, Any], int]) -> _Suspect:
    """Either of two may be the wrong one: the one that a slant explains, else the one whose height nothing
    else was measured with, else the later."""
    fits = [suspect for suspect in found if suspect.slant is not None]
    if len(fits) == 1:
        return fits[0]
    return min(reversed(found), key=lambda s: heights[s.one.height_m, s.one.method])


def _about_height(suspect: _Suspect, name: str) -> Doubt:
    one, excess = suspect.one, suspect.excess
    lies = f"{name} lies {format_way(abs(excess))} too {'low' if excess > 0 else 'high'}"
    given = f"the antenna height {one.height_m:.4f} m"
    if suspect.slant is not None:
        text = f"{lies}: {given} given as {one.method} was a slant to the rim."
    else:
        text = f"{lies} where its plan agrees: {given} ({one.method}) is another."
    return Doubt(
        rule="occupation.slant" if suspect.slant is not None else "occupation.antenna", subject=one.id,
        names=(one.id, name), text=text, value=excess, limit=suspect.limit, grave=True,
        remedies=(_remedy(suspect), LEAVE_OUT),
    )  # fmt: skip


def _remedy(suspect: _Suspect) -> Remedy:
    if suspect.slant is not None:
        return Remedy(kind="as-slant", label="it was a slant")
    return Remedy(kind="other-height", label=f"amend to {suspect.one.height_m - suspect.excess:.4f} m")


def _slant_excess(one: Occupation, excess: float, models: Mapping[str, AntennaModel]) -> float | None:
    """The excess that a slant given as vertical would make, where it is the one seen."""
    model = models.get(one.antenna) or (next(iter(models.values())) if len(models) == 1 else None)
    if one.method != "vertical" or model is None or model.radius_m <= 0.0:
        return None
    try:
        would = one.height_m - reduced(one.height_m, "slant", model)
    except FenwindError:
        return None
    return would if abs(would - excess) <= max(SLANT_M, 0.25 * abs(would)) else None


def _checks(
    state: JobState,
    rows: list[Occupation],
    rover: RoverMarks,
    known: Mapping[str, Point],
    explained: set[str],
) -> Iterator[Doubt]:
    for one in rows:
        if not one.check or one.id in explained or one.id not in rover.each:
            continue
        reference = known.get(one.mark) or rover.marks.get(one.mark)
        if reference is None:
            continue
        off = _from_reference(rover.each[one.id], reference)
        plan, height = float(off.most_plan[0]), float(off.most_up[0])
        over_plan, over_height = bool(off.plan[0] > plan), bool(abs(off.up[0]) > height)
        if over_plan or over_height:
            size = float(off.plan[0]) if over_plan else abs(float(off.up[0]))
            yield Doubt(
                rule="occupation.check", subject=one.id, grave=True,
                names=(one.id, state.mark_name(one.mark)),
                text=f"The check on {state.mark_name(one.mark)} misses by {format_way(size)} in "
                f"{'plan' if over_plan else 'height'}.",
                value=size, limit=plan if over_plan else height, remedies=(LEAVE_OUT,),
            )  # fmt: skip


def _spreads(state: JobState, rover: RoverMarks, apart: _Apart, explained: set[str]) -> Iterator[Doubt]:
    for mark, ids in rover.used.items():
        if len(ids) < 2 or explained & set(ids):
            continue
        off = apart.of(ids)
        worst, way = divmod(int(off.shares.argmax()), 2)
        size, limit = ((off.plan, off.most_plan), (np.abs(off.up), off.most_up))[way]
        if size[worst] > limit[worst]:
            name = state.mark_name(mark)
            yield Doubt(
                rule="occupation.spread", subject=ids[worst], names=(ids[worst], name), grave=True,
                text=f"Occupations of {name} lie {format_way(float(size[worst]))} apart in "
                f"{('plan', 'height')[way]}.",
                value=float(size[worst]), limit=float(limit[worst]), remedies=(LEAVE_OUT,),
            )  # fmt: skip


def _too_near(state: JobState, rows: list[Occupation]) -> Iterator[Doubt]:
    for mark, found in _by_mark(o for o in rows if o.started and o.finished).items():
        found.sort(key=lambda o: o.started)
        for first, second in pairwise(found):
            apart = (_time(second.started) - _time(first.started)).total_seconds()
            same = (first.height_m, first.method, first.base) == (second.height_m, second.method, second.base)
            if apart >= TOO_SOON_S:
                continue
            setup = same and apart < SAME_S
            yield Doubt(
                rule="occupation.same-setup" if setup else "occupation.too-soon",
                subject=second.id,
                names=(second.id, state.mark_name(mark)),
                text=f"{state.mark_name(mark)} was measured again after {apart / 60.0:.0f} min"
                + (", in the same set-up: not independent." if setup else ": nearly the same satellites."),
                value=apart,
                limit=SAME_S if setup else TOO_SOON_S,
                unit="s",
            )


@lru_cache(maxsize=10_000)
def _time(text: str) -> datetime:
    return datetime.fromisoformat(text)


def _scattered(one: Occupation) -> float:
    """How far the epochs of an occupation scatter, metres, where that is too far; 0 where it is not, or where
    the base's leap says why."""
    parts = (one.spread_e_m, one.spread_n_m, one.spread_u_m)
    spread = math.sqrt(sum(v * v for v in parts if v is not None))
    over = spread > SCATTER_M.get(one.solution, MOST_SCATTER_M) and one.moved_m <= BROADCAST_M
    return spread if over else 0.0


def _scatter(one: Occupation, names: tuple[str, str]) -> Iterator[Doubt]:
    """A doubt about epochs that lie in two places, or scatter over what their solution does."""
    spread = _scattered(one)
    if spread:
        limit = SCATTER_M.get(one.solution, MOST_SCATTER_M)
        yield Doubt(
            rule="occupation.scatter", subject=one.id, names=names, value=spread, limit=limit, grave=True,
            text=f"The epochs at {names[1]} lie in two places, or scatter by {format_way(spread)}: those "
            "apart from most take no part.",
            remedies=(LEAVE_OUT,),
        )  # fmt: skip


def _asked(state: JobState) -> int:
    """Epochs that the job asks for, of an occupation; where nobody said so more than a few."""
    said = [one.epochs for one in state.of(Equipment).values() if one.active]
    return max(said, default=FEW_EPOCHS)


def _of_note(state: JobState, one: Occupation) -> bool:
    """Whether there is anything to say of an occupation's epochs."""
    fine = one.finished and one.solution in ("", "fixed") and one.height_m != 0.0
    fine = fine and not 0 < one.epochs < _asked(state) and not _scattered(one)
    return not fine or one.step_m > COARSE_M or max(one.moved_m, one.off_m) > BROADCAST_M


def _epochs(state: JobState, one: Occupation) -> Iterator[Doubt]:
    names = (one.id, state.mark_name(one.mark))
    if not one.finished:
        yield Doubt(
            rule="occupation.unfinished", subject=one.id, names=names, unit="",
            text=f"The occupation of {names[1]} was not finished: it is kept and not used. Finish it, or "
                "measure again.",
        )  # fmt: skip
        return
    if one.solution and one.solution != "fixed":
        yield Doubt(
            rule="occupation.float", subject=one.id, names=names, unit="",
            text=f"{names[1]} was measured with a {one.solution} solution: decimetres.",
        )  # fmt: skip
    asked = _asked(state)
    if 0 < one.epochs < asked:
        yield Doubt(
            rule="occupation.epochs", subject=one.id, names=names, value=float(one.epochs),
            limit=float(asked), unit="", grave=True,
            text=f"{names[1]} was measured for {counted(one.epochs, 'epoch')}; "
                f"{f'the job asks for {asked}' if asked > FEW_EPOCHS else 'so few prove nothing'}.",
            remedies=(LEAVE_OUT,),
        )  # fmt: skip
    yield from _scatter(one, names)
    if one.height_m == 0.0:
        yield Doubt(
            rule="occupation.no-height", subject=one.id, names=names, unit="",
            text=f"No antenna height was given: {names[1]} is the reference point of the antenna.",
        )  # fmt: skip
    if one.step_m > COARSE_M:
        yield Doubt(
            rule="occupation.coarse", subject=one.id, names=names, value=one.step_m, limit=COARSE_M,
            text=f"The receiver's sentences have too few decimals: a step is {format_way(one.step_m)}.",
        )  # fmt: skip
    base = state.of(BaseSetup).get(one.base)
    what = base.name if base is not None else "its base"
    if one.moved_m > BROADCAST_M:
        yield Doubt(
            rule="base.moved", subject=one.base, names=(what, *names), value=one.moved_m,
            limit=BROADCAST_M, grave=True,
            text=f"The position that {what} broadcasts leapt by {format_way(one.moved_m)} while {names[1]} "
                "was measured.",
        )  # fmt: skip
    elif one.off_m > BROADCAST_M:
        yield Doubt(
            rule="base.broadcast", subject=one.base, names=(what, *names), value=one.off_m,
            limit=BROADCAST_M, grave=True,
            text=f"{what} broadcasts another position than before while {names[1]} was measured, "
                f"{format_way(one.off_m)} "
            "away: it was restarted, and is a base of its own.",
        )  # fmt: skip


def sessions(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """What a day's work from a base lacks: a check on a known mark, enough satellites."""
    known = known_of(derived)
    for base in state.of(BaseSetup).values():
        mine = [o for o in state.of(Occupation).values() if o.base == base.id and o.active and o.finished]
        if not base.active or not mine:
            continue
        if base.message_set == "legacy" or any(o.message_set == "legacy" for o in mine):
            yield Doubt(
                rule="session.legacy", subject=base.id, names=(base.name,), unit="",
                text=f"Base {base.name} sends the older messages: fewer satellites than there could be.",
            )  # fmt: skip
        if not any(o.check and o.mark in known for o in mine):
            yield Doubt(
                rule="session.unchecked", subject=base.id, names=(base.name,), unit="",
                text=f"Nothing measured from base {base.name} was checked on a known mark.",
            )  # fmt: skip
