"""Gestures on centres: a mark in the middle of others, and no longer."""

from __future__ import annotations

from collections.abc import Sequence

from fenwind.errors import ProcedureError
from fenwind.job.gestures import marks_named
from fenwind.job.job import new_id
from fenwind.job.state import JobState
from fenwind.records.centres import Centre
from fenwind.records.entries import Add, Gesture, amend
from fenwind.records.records import Mark


def make_centre(state: JobState, rim: Sequence[Mark], name: str) -> Gesture:
    """Let a mark of a name be the middle of others: of two opposite ones, or of the circle through three or
    more. Raises ProcedureError for fewer, for a name that cannot be, and for one of them."""
    if len(rim) < 2:
        raise ProcedureError(
            "a centre needs two marks or more", hint="Select two opposite ones, or three on its rim"
        )
    if name.strip() in [mark.name for mark in rim]:
        raise ProcedureError(f"{name.strip()} is one of the points around it", hint="Give another name")
    ids, entries = marks_named(state, [name.strip()])
    mark = ids[name.strip()]
    before = [amend(c, active=False) for c in state.of(Centre).values() if c.active and c.mark == mark]
    record = Centre(id=new_id(), name=f"Centre {name.strip()}", mark=mark, rim=tuple(m.id for m in rim))
    return Gesture(f"Centre {name.strip()}", (*entries, *before, Add(record=record)))


def no_centre(state: JobState, marks: Sequence[Mark]) -> Gesture:
    """Let marks be centres no longer. Raises ProcedureError where none is one."""
    keys = {mark.id for mark in marks}
    found = [c for c in state.of(Centre).values() if c.active and c.mark in keys]
    if not found:
        raise ProcedureError("none of these is the centre of others", hint="Select a centre")
    return Gesture("No centre any more", tuple(amend(c, active=False) for c in found))
