"""A list that came in, against the job: what each row would do, before anything is done; and the entries that do it."""

from __future__ import annotations

import math
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from typing import Literal

from fenwind.job.job import new_id
from fenwind.job.state import JobState
from fenwind.records.entries import Add, Entry, amend
from fenwind.records.records import GivenPosition, Mark, MeasuredPosition

Verdict = Literal["new", "new position", "same", "differs", "another occupation"]


@dataclass(frozen=True, slots=True, kw_only=True)
class IncomingPoint:
    """One point as it comes in: metres and radians, nan where there is none; first, second are e, n or lat, lon."""

    name: str
    first: float
    second: float
    height_m: float
    sigma_h_m: float
    sigma_v_m: float
    mark_class: str
    code: str
    description: str
    source: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Comparison:
    """A row against the job: the verdict, and how far the position differs (metres) in e, n and height. exchanged: with e and n
    exchanged it would be near (within EXCHANGED_M)."""

    verdict: Verdict
    de_m: float = math.nan
    dn_m: float = math.nan
    dh_m: float = math.nan
    exchanged: bool = False


#: How near an exchanged position must come to say so, metres.
EXCHANGED_M = 1.0


def compare(
    state: JobState, points: Sequence[IncomingPoint], frame: str, measured: bool, least_m: float = 5e-5
) -> list[Comparison]:
    """Compare rows with what the job knows in `frame`; differences under `least_m` are the same."""
    marks = {m.name: m for m in state.marks.values()}
    given = {g.mark: g for g in state.given.values() if g.active and g.frame == frame}
    occupied = {m.mark for m in state.measured.values()}
    out = []
    for point in points:
        mark = marks.get(point.name)
        if mark is None:
            out.append(Comparison(verdict="new"))
        elif measured:
            out.append(Comparison(verdict="another occupation" if mark.id in occupied else "new position"))
        elif mark.id not in given:
            out.append(Comparison(verdict="new position"))
        else:
            out.append(_against(point, given[mark.id], least_m))
    return out


def _against(point: IncomingPoint, known: GivenPosition, least_m: float) -> Comparison:
    known_height = math.nan if known.height_m is None else known.height_m
    de, dn, dh = point.first - known.e_m, point.second - known.n_m, point.height_m - known_height
    one_height = math.isnan(point.height_m) != math.isnan(known_height)
    same = max(abs(de), abs(dn), 0.0 if math.isnan(dh) else abs(dh)) <= least_m and not one_height
    across = math.hypot(point.second - known.e_m, point.first - known.n_m)
    exchanged = across < EXCHANGED_M < math.hypot(de, dn)
    return Comparison(verdict="same" if same else "differs", de_m=de, dn_m=dn, dh_m=dh, exchanged=exchanged)


def take_in(
    state: JobState, points: Iterable[IncomingPoint], *, measured: bool, frame: str, crs: str = "", session: str = ""
) -> tuple[Entry, ...]:
    """Entries that take rows in: new marks, given positions in `frame` (amended where the mark has one), or occupations.

    Occupations are geodetic in `crs` when `frame` is empty, else on the plane of that frame.
    """
    marks = {m.name: m for m in state.marks.values()}
    given = {g.mark: g for g in state.given.values() if g.active and g.frame == frame}
    entries: list[Entry] = []
    for point in points:
        mark = marks.get(point.name)
        if mark is None:
            mark = Mark(id=new_id(), name=point.name, mark_class=point.mark_class, code=point.code, description=point.description)
            marks[point.name] = mark
            entries.append(Add(record=mark))
        elif fresh := _new_words(mark, point):
            entries.append(amend(mark, reason=point.source, **fresh))
        if measured:
            entries.append(Add(record=_occupation(mark, point, frame, crs, session)))
        elif mark.id in given:
            entries += _amended(given[mark.id], point)
        else:
            record = _given(mark, point, frame)
            given[mark.id] = record
            entries.append(Add(record=record))
    return tuple(entries)


def _new_words(mark: Mark, point: IncomingPoint) -> dict[str, str]:
    words = {"mark_class": point.mark_class, "code": point.code, "description": point.description}
    return {field: text for field, text in words.items() if text and text != getattr(mark, field)}


def _number(value: float) -> float | None:
    return None if math.isnan(value) else value


def _given(mark: Mark, point: IncomingPoint, frame: str) -> GivenPosition:
    return GivenPosition(
        id=new_id(),
        mark=mark.id,
        frame=frame,
        e_m=point.first,
        n_m=point.second,
        height_m=_number(point.height_m),
        sigma_h_m=_number(point.sigma_h_m),
        sigma_v_m=_number(point.sigma_v_m),
        source=point.source,
    )


def _amended(known: GivenPosition, point: IncomingPoint) -> list[Entry]:
    values = {"e_m": point.first, "n_m": point.second, "height_m": _number(point.height_m), "source": point.source}
    return [amend(known, reason=f"came in again, {point.source}", **values)]


def _occupation(mark: Mark, point: IncomingPoint, frame: str, crs: str, session: str) -> MeasuredPosition:
    plane = bool(frame)
    return MeasuredPosition(
        id=new_id(),
        mark=mark.id,
        lat_rad=None if plane else point.first,
        lon_rad=None if plane else point.second,
        e_m=point.first if plane else None,
        n_m=point.second if plane else None,
        h_m=_number(point.height_m),
        frame=frame,
        crs="" if plane else crs,
        sigma_h_m=_number(point.sigma_h_m),
        sigma_v_m=_number(point.sigma_v_m),
        session=session,
        source=point.source,
    )
