"""Settling doubts: accepting them for a reason, or carrying out what they propose."""

from __future__ import annotations

import math

from fenwind.doubts.registry import Doubt, Remedy
from fenwind.errors import ProcedureError
from fenwind.job.gestures import Gesture, change_step, set_use
from fenwind.job.job import new_id
from fenwind.job.state import JobState
from fenwind.records.entries import Add, amend
from fenwind.records.records import Acceptance, GivenPosition, Mark


def accept(doubt: Doubt, reason: str) -> Gesture:
    """Accept a doubt. Raises ProcedureError without a reason."""
    if not reason.strip():
        raise ProcedureError("a doubt is accepted for a reason", hint="Type why it may stand")
    value = doubt.value if doubt.value is not None and math.isfinite(doubt.value) else None
    return "Accept a doubt", (
        Add(record=Acceptance(id=new_id(), doubt=doubt.key, reason=reason.strip(), value=value)),
    )


def settle(state: JobState, doubt: Doubt, remedy: Remedy) -> Gesture:
    """Carry out a remedy. Raises ProcedureError when what it speaks of is gone."""
    step = state.fits.get(doubt.subject)
    marks = [m for n in remedy.names if (m := state.mark_named(n)) is not None]
    if step is None or len(marks) != len(remedy.names):
        raise ProcedureError("what this doubt speaks of is gone", hint="Look at the doubts again")
    if remedy.kind in ("check", "off"):
        return set_use(state, step, marks, "check" if remedy.kind == "check" else "off")
    if remedy.kind == "one-shift":
        return change_step(step, "Use one height shift", height="shift")
    given = [_given_of(state, mark, step.target_frame) for mark in marks]
    if remedy.kind == "swap-axes":
        entries = tuple(amend(g, reason=doubt.text, e_m=g.n_m, n_m=g.e_m) for g in given)
        names = ", ".join(remedy.names[:3]) + (" and more" if len(remedy.names) > 3 else "")
        return f"Exchange E and N of {names}", entries
    first, second = given
    return (
        f"Exchange {remedy.names[0]} and {remedy.names[1]}",
        (
            amend(first, reason=doubt.text, mark=second.mark),
            amend(second, reason=doubt.text, mark=first.mark),
        ),
    )


def _given_of(state: JobState, mark: Mark, frame: str) -> GivenPosition:
    for given in reversed(state.given.values()):
        if given.mark == mark.id and given.frame == frame and given.active:
            return given
    raise ProcedureError(f"{mark.name} has no given position any more", hint="Look at the doubts again")
