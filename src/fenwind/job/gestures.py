"""What a user can do to a job, as the entries that do it: each function gives a text for undo and the entries of one gesture."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Any

from fenwind.errors import ProcedureError
from fenwind.geodesy.frames import FrameSpec
from fenwind.job.derive import default_use
from fenwind.job.job import new_id
from fenwind.job.state import JobState
from fenwind.records.entries import Add, Entry, amend
from fenwind.records.records import FitStep, FrameRecord, Mark, Record, Use

Gesture = tuple[str, tuple[Entry, ...]]


def set_field(records: Iterable[Record], field: str, value: Any, what: str, reason: str = "") -> Gesture:
    """Set one field of several records, where it differs."""
    return what, tuple(amend(r, reason=reason, **{field: value}) for r in records if getattr(r, field) != value)


def rename_mark(state: JobState, mark: Mark, name: str) -> Gesture:
    """Give a mark another name. Raises ProcedureError when it is empty or taken."""
    name = name.strip()
    if not name:
        raise ProcedureError("a mark needs a name", hint="Type a name")
    other = state.mark_named(name)
    if other is not None and other.id != mark.id:
        raise ProcedureError(f"{name} is another mark's name", hint="Choose a name that is not taken")
    return f"Rename {mark.name} to {name}", (amend(mark, name=name),) if name != mark.name else ()


def new_mark(state: JobState, name: str) -> tuple[Mark, Gesture]:
    """A new mark. Raises ProcedureError when the name is empty or taken."""
    name = name.strip()
    if not name or state.mark_named(name) is not None:
        raise ProcedureError(f"{name or 'an empty name'} cannot be used", hint="Choose a name that is not taken")
    mark = Mark(id=new_id(), name=name)
    return mark, (f"New mark {name}", (Add(record=mark),))


def use_of(state: JobState, step: FitStep, mark: Mark) -> Use:
    """Use of a mark's pair in a fit."""
    use = dict(step.uses).get(mark.id)
    return use or default_use(mark.hold_horizontal, mark.hold_height)  # type: ignore[return-value]


def set_use(state: JobState, step: FitStep, marks: Iterable[Mark], use: Use) -> Gesture:
    """Set the use of pairs in a fit."""
    uses = dict(step.uses)
    names = []
    for mark in marks:
        uses[mark.id] = use
        names.append(mark.name)
    words = {
        "both": "Hold {}",
        "horizontal": "Hold {} in plan only",
        "height": "Hold {} in height only",
        "check": "Hold out {} as a check",
    }
    what = words.get(use, "Switch {} off in the fit").format(", ".join(names[:3]) + (" and more" if len(names) > 3 else ""))
    return what, _amend_step(step, uses=tuple(sorted(uses.items())))


def change_step(step: FitStep, what: str, **changes: Any) -> Gesture:
    """Change options of a fit."""
    return what, _amend_step(step, **changes)


def _amend_step(step: FitStep, **changes: Any) -> tuple[Entry, ...]:
    differing = {k: v for k, v in changes.items() if getattr(step, k) != v}
    return (amend(step, **differing),) if differing else ()


def set_given(state: JobState, mark: Mark, frame: str, field: str, value_m: float | None, reason: str) -> Gesture:
    """Amend easting, northing or height of a mark's given position in a frame.

    Raises ProcedureError for an empty easting or northing, and where the mark has no given position in the frame.
    """
    given = next((g for g in reversed(state.given.values()) if g.mark == mark.id and g.frame == frame and g.active), None)
    if given is None:
        raise ProcedureError(f"{mark.name} has no given position in this frame", hint="Paste it, for instance from a list")
    if value_m is None and field != "height_m":
        raise ProcedureError("an easting or northing cannot be empty", hint="Switch the position off instead")
    words = {"e_m": "easting", "n_m": "northing", "height_m": "height"}
    return f"Amend {words[field]} of {mark.name}", (amend(given, reason=reason, **{field: value_m}),) if getattr(
        given, field
    ) != value_m else ()


def add_frame(spec: FrameSpec) -> tuple[str, Gesture]:
    """A new frame and its id."""
    record = FrameRecord(id=new_id(), spec=spec)
    return record.id, (f"Add frame {spec.name}", (Add(record=record),))


def change_frame(record: FrameRecord, what: str, **changes: Any) -> Gesture:
    """Change parts of a frame's recipe."""
    spec = replace(record.spec, **changes)
    return what, (amend(record, spec=spec),) if spec != record.spec else ()
