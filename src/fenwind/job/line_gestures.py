"""Gestures on traverses and levelling: books taken in with their marks, rows booked, what they hang on."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import replace
from typing import Any

from fenwind.errors import ProcedureError
from fenwind.job.gestures import marks_named
from fenwind.job.job import new_id
from fenwind.job.state import JobState
from fenwind.procedures.collected import Collected
from fenwind.procedures.traverse import Sight
from fenwind.records.entries import Add, Gesture, amend
from fenwind.records.lines import LevelBook, TraverseBook
from fenwind.records.setups import Setup


def take_book(state: JobState, found: TraverseBook, frame: str, known: Collection[str]) -> Gesture:
    """Take in a traverse whose marks are names, with new marks for names that the job has not. It closes
    where its last leg leads to a mark that is known (names), or back to its start; a last row from there to
    another known mark is the closing angle. Raises ProcedureError without a frame or a row."""
    if frame not in state.frames:
        raise ProcedureError("the job has no frame to compute it in", hint="Set up a frame first")
    if not found.here:
        raise ProcedureError("no leg is booked in it", hint="Choose another file")
    ids, entries = marks_named(state, (*found.here, *found.there))
    end, fore, angle, rows = found.there[-1], "", None, len(found.here)
    if rows > 1 and end in known and found.here[-1] in known and found.there[-2] == found.here[-1]:
        end, fore, angle, rows = found.here[-1], end, found.direction_rad[-1], rows - 1
    closes = end in known or end == found.here[0]
    kept = replace(
        found, id=new_id(), name=f"Traverse {len(state.of(TraverseBook)) + 1}", frame=frame,
        here=tuple(ids[n] for n in found.here[:rows]), there=tuple(ids[n] for n in found.there[:rows]),
        kind=found.kind[:rows], direction_rad=found.direction_rad[:rows], dh_m=found.dh_m[:rows],
        distance_m=found.distance_m[:rows], close=ids[end] if closes else "",
        fore=ids.get(fore, ""), closing_angle_rad=angle,
    )  # fmt: skip
    return Gesture(f"Take in {kept.name}", (*entries, Add(record=kept)))


def start_book(state: JobState, frame: str) -> Gesture:
    """A traverse with nothing booked yet. Raises ProcedureError without a frame."""
    if frame not in state.frames:
        raise ProcedureError("the job has no frame to compute it in", hint="Set up a frame first")
    name = f"Traverse {len(state.of(TraverseBook)) + 1}"
    return Gesture(f"Start {name}", (Add(record=TraverseBook(id=new_id(), name=name, frame=frame)),))


def collect_book(state: JobState, frame: str, setups: Sequence[Setup], ends: Collected) -> Gesture:
    """A traverse whose rows are collected from setups, hung on what that found (marks by their names).
    Raises ProcedureError without a frame."""
    start = start_book(state, frame)
    (entry,) = start.entries
    assert isinstance(entry, Add) and isinstance(entry.record, TraverseBook)
    key = {name: mark.id for name in (ends.back, ends.close, ends.fore) if (mark := state.mark_named(name))}
    record = replace(
        entry.record, setups=tuple(s.id for s in setups), back=key.get(ends.back, ""),
        close=key.get(ends.close, ""), fore=key.get(ends.fore, ""), closing_angle_rad=ends.closing_angle,
    )  # fmt: skip
    return Gesture(f"Collect {record.name}", (Add(record=record),))


def book_row(state: JobState, book: TraverseBook, row: Sight) -> Gesture:
    """Book another row at the end of a traverse, marks by their names."""
    ids, entries = marks_named(state, (row.here, row.there))
    dh = None if row.dh != row.dh else row.dh
    fresh = amend(
        book, here=(*book.here, ids[row.here]), there=(*book.there, ids[row.there]),
        kind=(*book.kind, row.kind), direction_rad=(*book.direction_rad, row.direction),
        distance_m=(*book.distance_m, row.distance), dh_m=(*book.dh_m, dh),
    )  # fmt: skip
    return Gesture(f"Book {row.here} to {row.there}", (*entries, fresh))


def drop_rows(book: TraverseBook, rows: Collection[int]) -> Gesture:
    """Take rows out of a book; the rows as they were stay in its history."""
    kept = [i for i in range(len(book.here)) if i not in rows]
    columns = ("here", "there", "kind", "direction_rad", "distance_m", "dh_m")
    changes = {name: tuple(getattr(book, name)[i] for i in kept) for name in columns}
    return change(book, "Take rows out of the book", **changes)


def set_cell(book: TraverseBook | LevelBook, column: str, row: int, value: Any, reason: str = "") -> Gesture:
    """Put one reading of a book right."""
    values = list(getattr(book, column))
    values[row] = value
    return Gesture("Put a reading right", (amend(book, reason=reason, **{column: tuple(values)}),))


def take_levelling(state: JobState, found: LevelBook, frame: str) -> Gesture:
    """Take in levelling whose marks are names, with new marks for names that the job has not. Raises
    ProcedureError without a frame or a run."""
    if frame not in state.frames:
        raise ProcedureError("the job has no frame to compute it in", hint="Set up a frame first")
    if not found.first:
        raise ProcedureError("there is no run in it", hint="Choose another file")
    ids, entries = marks_named(state, (*found.first, *found.second))
    kept = replace(
        found, id=new_id(), name=f"Levelling {len(state.of(LevelBook)) + 1}", frame=frame,
        first=tuple(ids[n] for n in found.first), second=tuple(ids[n] for n in found.second),
    )  # fmt: skip
    return Gesture(f"Take in {kept.name}", (*entries, Add(record=kept)))


def set_runs_off(book: LevelBook, rows: Iterable[int], off: bool) -> Gesture:
    """Leave runs out, or take them in again."""
    now = set(book.off)
    fresh = now | set(rows) if off else now - set(rows)
    return change(book, "Leave runs out" if off else "Use runs again", off=tuple(sorted(fresh)))


def change(book: TraverseBook | LevelBook, what: str, **changes: Any) -> Gesture:
    """Change options of a traverse or of a levelling."""
    differing = {k: v for k, v in changes.items() if getattr(book, k) != v}
    return Gesture(what, (amend(book, **differing),) if differing else ())
