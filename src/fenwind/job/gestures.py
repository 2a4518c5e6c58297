"""What a user can do to a job, as the entries that do it: each function gives a text for undo and the entries
of one gesture."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import Any, Literal

import numpy as np

from fenwind.errors import ProcedureError
from fenwind.geodesy.frames import FrameSpec
from fenwind.job.adopted import Adopted
from fenwind.job.job import new_id
from fenwind.job.state import JobState
from fenwind.job.steps.fit import default_use
from fenwind.records.entries import Add, Entry, Gesture, amend
from fenwind.records.records import (
    FitStep,
    FrameRecord,
    GivenPosition,
    Mark,
    MarkRule,
    PositionChoice,
    Record,
    Use,
)


def set_field(records: Iterable[Record], field: str, value: Any, what: str, reason: str = "") -> Gesture:
    """Set one field of several records, where it differs."""
    return Gesture(
        what, tuple(amend(r, reason=reason, **{field: value}) for r in records if getattr(r, field) != value)
    )


def rename_mark(state: JobState, mark: Mark, name: str) -> Gesture:
    """Give a mark another name. Raises ProcedureError when it is empty or taken."""
    name = name.strip()
    if not name:
        raise ProcedureError("a mark needs a name", hint="Type a name")
    other = state.mark_named(name)
    if other is not None and other.id != mark.id:
        raise ProcedureError(f"{name} is another mark's name", hint="Choose a name that is not taken")
    return Gesture(f"Rename {mark.name} to {name}", (amend(mark, name=name),) if name != mark.name else ())


def new_mark(state: JobState, name: str) -> tuple[Mark, Gesture]:
    """A new mark. Raises ProcedureError when the name is empty or taken."""
    name = name.strip()
    if not name or state.mark_named(name) is not None:
        raise ProcedureError(
            f"{name or 'an empty name'} cannot be used", hint="Choose a name that is not taken"
        )
    mark = Mark(id=new_id(), name=name)
    return mark, Gesture(f"New mark {name}", (Add(record=mark),))


def marks_named(state: JobState, names: Iterable[str]) -> tuple[dict[str, str], tuple[Entry, ...]]:
    """Ids by name, and the entries that make the marks the job has not. Raises ProcedureError."""
    ids: dict[str, str] = {}
    entries: list[Entry] = []
    for name in names:
        if name in ids:
            continue
        mark = state.mark_named(name)
        if mark is None:
            mark, gesture = new_mark(state, name)
            entries += gesture.entries
        ids[name] = mark.id
    return ids, tuple(entries)


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
    what = words.get(use, "Switch {} off in the fit").format(
        ", ".join(names[:3]) + (" and more" if len(names) > 3 else "")
    )
    return Gesture(what, _amend_step(step, uses=tuple(sorted(uses.items()))))


def change_step(step: FitStep, what: str, **changes: Any) -> Gesture:
    """Change options of a fit."""
    return Gesture(what, _amend_step(step, **changes))


def _amend_step(step: FitStep, **changes: Any) -> tuple[Entry, ...]:
    differing = {k: v for k, v in changes.items() if getattr(step, k) != v}
    return (amend(step, **differing),) if differing else ()


def set_given(
    state: JobState, mark: Mark, frame: str, field: str, value_m: float | None, reason: str
) -> Gesture:
    """Amend easting, northing or height of a mark's given position in a frame.

    Raises ProcedureError for an empty easting or northing, and where the mark has no given position in the
    frame.
    """
    given = next(
        (g for g in reversed(state.given.values()) if g.mark == mark.id and g.frame == frame and g.active),
        None,
    )
    if given is None:
        raise ProcedureError(
            f"{mark.name} has no given position in this frame", hint="Paste it, for instance from a list"
        )
    if value_m is None and (field != "height_m" or given.e_m is None):
        raise ProcedureError("a position cannot be emptied", hint="Switch it off instead")
    if given.e_m is None and field != "height_m":
        raise ProcedureError(
            f"{mark.name} is given by its height alone", hint="Take easting and northing in as a list"
        )
    words = {"e_m": "easting", "n_m": "northing", "height_m": "height"}
    return Gesture(
        f"Amend {words[field]} of {mark.name}",
        (amend(given, reason=reason, **{field: value_m}),) if getattr(given, field) != value_m else (),
    )


def make_control(state: JobState, adopted: Adopted, marks: Iterable[Mark], frame: str) -> Gesture:
    """Give derived marks the position they have now in a frame, with its uncertainty, so that later fits may
    hold it.

    Raises ProcedureError when none of them has a derived position there.
    """
    given = {g.mark for g in state.given.values() if g.active and g.frame == frame}
    entries: list[Entry] = []
    names = []
    for mark in marks:
        row = adopted.index.get(mark.name)
        if row is None or mark.id in given:
            continue
        numbers = (
            adopted.e_m[row],
            adopted.n_m[row],
            adopted.height_m[row],
            adopted.sigma_h_m[row],
            adopted.sigma_v_m[row],
        )
        e, n, height, sigma_h, sigma_v = (float(v) if np.isfinite(v) else None for v in numbers)
        source = f"made control, {adopted.why[row]}"
        entries.append(
            Add(
                record=GivenPosition(
                    id=new_id(), mark=mark.id, frame=frame, e_m=e, n_m=n, height_m=height,
                    sigma_h_m=sigma_h, sigma_v_m=sigma_v, source=source,
                )
            )
        )  # fmt: skip
        entries += [amend(mark, hold_horizontal=e is not None, hold_height=height is not None)]
        names.append(mark.name)
    if not entries:
        raise ProcedureError(
            "none of these marks has a derived position to make control of", hint="Select derived marks"
        )
    return Gesture(
        f"Make control of {', '.join(names[:3])}{' and more' if len(names) > 3 else ''}", tuple(entries)
    )


def release_control(state: JobState, marks: Iterable[Mark], frame: str) -> Gesture:
    """Switch the given positions of marks in a frame off, so that they are derived again. Raises
    ProcedureError when there are none."""
    chosen = {m.id: m.name for m in marks}
    given = [g for g in state.given.values() if g.active and g.frame == frame and g.mark in chosen]
    if not given:
        raise ProcedureError("none of these marks is given in the frame shown", hint="Select control")
    names = [chosen[g.mark] for g in given]
    what = f"Derive {', '.join(names[:3])}{' and more' if len(names) > 3 else ''} again"
    return Gesture(what, tuple(amend(g, reason="control no longer", active=False) for g in given))


def set_rule(state: JobState, by: Literal["class", "code"], value: str, what: str, **changes: Any) -> Gesture:
    """Set parts of the rule of a class or a code; it is made when there is none."""
    rule = state.rule_of(by, value)
    if rule is None:
        return Gesture(what, (Add(record=MarkRule(id=new_id(), by=by, value=value, **changes)),))
    return Gesture(what, (amend(rule, **changes),))


def choose_position(state: JobState, mark: Mark, frame: str, origin: str, words: str, reason: str) -> Gesture:
    """Adopt a mark's position of one origin (see PositionChoice) in a frame from now on, whatever the
    usual order says; `words` name it. An empty origin goes back to that order. Raises ProcedureError
    without a reason."""
    earlier = [c for c in state.choices.values() if c.active and (c.mark, c.frame) == (mark.id, frame)]
    entries: list[Entry] = [amend(c, reason=reason, active=False) for c in earlier]
    if not origin:
        return Gesture(f"Adopt {mark.name} in the usual order", tuple(entries))
    if not reason.strip():
        raise ProcedureError("a position is chosen for a reason", hint="Type why it is to be this one")
    choice = PositionChoice(id=new_id(), mark=mark.id, frame=frame, origin=origin, reason=reason.strip())
    return Gesture(f"Adopt {mark.name} as {words}", (*entries, Add(record=choice)))


def add_frame(spec: FrameSpec) -> tuple[str, Gesture]:
    """A new frame and its id."""
    record = FrameRecord(id=new_id(), spec=spec)
    return record.id, Gesture(f"Add frame {spec.name}", (Add(record=record),))


def change_frame(record: FrameRecord, what: str, **changes: Any) -> Gesture:
    """Change parts of a frame's recipe."""
    spec = replace(record.spec, **changes)
    return Gesture(what, (amend(record, spec=spec),) if spec != record.spec else ())
