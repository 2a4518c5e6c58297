"""Settling doubts: accepting them for a reason, or carrying out what they propose."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from typing import Any

from fenwind.doubts.job_rules import stranded
from fenwind.doubts.registry import Doubt, Remedy
from fenwind.doubts.session_settling import SESSION_REMEDIES
from fenwind.errors import ProcedureError
from fenwind.job.gestures import change_step, set_use
from fenwind.job.job import new_id
from fenwind.job.line_gestures import set_cell, set_runs_off
from fenwind.job.network_gestures import set_off
from fenwind.job.setup_gestures import set_prism
from fenwind.job.setup_gestures import set_use as use_sightings
from fenwind.job.state import JobState
from fenwind.quantities.numbers import counted
from fenwind.records.entries import Add, Gesture, amend
from fenwind.records.lines import LevelBook, TraverseBook
from fenwind.records.network import NetworkStep
from fenwind.records.records import Acceptance, FitStep, GivenPosition, Mark
from fenwind.records.setups import Setup


def accept(doubt: Doubt, reason: str, by: str = "") -> Gesture:
    """Accept a doubt, by whoever answers for the job. Raises ProcedureError without a reason."""
    if not reason.strip():
        raise ProcedureError("a doubt is accepted for a reason", hint="Type why it may stand")
    value = doubt.value if doubt.value is not None and math.isfinite(doubt.value) else None
    return Gesture(
        "Accept a doubt",
        (Add(record=Acceptance(id=new_id(), doubt=doubt.key, reason=reason.strip(), value=value, by=by)),),
    )


def settle(state: JobState, doubt: Doubt, remedy: Remedy) -> Gesture:
    """Carry out a remedy. Raises ProcedureError when what it speaks of is gone."""
    if remedy.kind in ROW_REMEDIES:
        kind, act = ROW_REMEDIES[remedy.kind]
        record = state.of(kind).get(doubt.subject)
        if record is None:
            raise ProcedureError("what this doubt speaks of is gone", hint="Look at the doubts again")
        return act(record, doubt, remedy.names)
    if remedy.kind in SESSION_REMEDIES:
        return SESSION_REMEDIES[remedy.kind](state, doubt, remedy)
    if remedy.kind in RECORD_REMEDIES:
        return RECORD_REMEDIES[remedy.kind](state, doubt)
    step = state.fits.get(doubt.subject)
    marks = [m for n in remedy.names if (m := state.mark_named(n)) is not None]
    if step is None or len(marks) != len(remedy.names) or remedy.kind not in REMEDIES:
        raise ProcedureError("what this doubt speaks of is gone", hint="Look at the doubts again")
    return REMEDIES[remedy.kind](state, doubt, step, marks)


def _observation_off(step: NetworkStep, doubt: Doubt, rows: Sequence[str]) -> Gesture:
    return set_off(step, [int(row) if row.isdecimal() else row for row in rows], True)


def _sighting_check(setup: Setup, doubt: Doubt, rows: Sequence[str]) -> Gesture:
    return use_sightings(setup, map(int, rows), "check")


def _sighted_prism(setup: Setup, doubt: Doubt, names: Sequence[str]) -> Gesture:
    constant, *rows = names
    return set_prism(setup, map(int, rows), float(constant), doubt.text)


def _run_off(book: LevelBook, doubt: Doubt, rows: Sequence[str]) -> Gesture:
    return set_runs_off(book, map(int, rows), True)


def _booked_angle(book: TraverseBook, doubt: Doubt, names: Sequence[str]) -> Gesture:
    row, angle = names
    return set_cell(book, "direction_rad", int(row), float(angle), doubt.text)


#: What each kind of remedy does that is about rows of one record, and the kind of that.
ROW_REMEDIES: dict[str, tuple[type[Any], Callable[[Any, Doubt, Sequence[str]], Gesture]]] = {
    "observation-off": (NetworkStep, _observation_off),
    "sighting-check": (Setup, _sighting_check),
    "sighted-prism": (Setup, _sighted_prism),
    "run-off": (LevelBook, _run_off),
    "booked-angle": (TraverseBook, _booked_angle),
}


def _hold_out(state: JobState, doubt: Doubt, step: FitStep, marks: list[Mark]) -> Gesture:
    return set_use(state, step, marks, "check")


def _switch_off(state: JobState, doubt: Doubt, step: FitStep, marks: list[Mark]) -> Gesture:
    return set_use(state, step, marks, "off")


def _one_shift(state: JobState, doubt: Doubt, step: FitStep, marks: list[Mark]) -> Gesture:
    return change_step(step, "Use one height shift", height="shift")


def _swap_axes(state: JobState, doubt: Doubt, step: FitStep, marks: list[Mark]) -> Gesture:
    given = [_given_of(state, mark, step.target_frame) for mark in marks]
    names = ", ".join(m.name for m in marks[:3]) + (" and more" if len(marks) > 3 else "")
    entries = tuple(amend(g, reason=doubt.text, e_m=g.n_m, n_m=g.e_m) for g in given if g.e_m is not None)
    return Gesture(f"Exchange E and N of {names}", entries)


def _exchange(state: JobState, doubt: Doubt, step: FitStep, marks: list[Mark]) -> Gesture:
    first, second = (_given_of(state, mark, step.target_frame) for mark in marks)
    return Gesture(
        f"Exchange {marks[0].name} and {marks[1].name}",
        (
            amend(first, reason=doubt.text, mark=second.mark),
            amend(second, reason=doubt.text, mark=first.mark),
        ),
    )


def _given_here(state: JobState, doubt: Doubt) -> Gesture:
    """What was given in the frame doubted was given in the frame shown; a mark that has a given position
    there keeps that one."""
    shown = state.info.frame
    there = {g.mark for g in state.given.values() if g.active and g.frame == shown}
    entries = tuple(amend(g, reason=doubt.text, frame=shown) for g in stranded(state, doubt.subject, there))
    if shown not in state.frames or not entries:
        raise ProcedureError("what this doubt speaks of is gone", hint="Look at the doubts again")
    name = state.frames[shown].spec.name
    return Gesture(f"Take {counted(len(entries), 'mark')} as given in {name}", entries)


def _tie(state: JobState, doubt: Doubt) -> Gesture:
    """A fit of what was measured onto the frame doubted, which is then the one shown."""
    here, there = state.info.frame, doubt.subject
    measured = {m.mark for m in state.measured.values() if m.active}
    if not any(g.mark in measured for g in state.given.values() if g.active and g.frame == there):
        raise ProcedureError(
            "none of these marks was measured yet", hint="Take in what was measured at some of them first"
        )
    step = FitStep(id=new_id(), name=f"Fit {len(state.fits) + 1}", source_frame=here, target_frame=there)
    return Gesture(f"Tie by {step.name}", (Add(record=step), amend(state.info, frame=there)))


#: What each kind of remedy does that is about records, not about a fit.
RECORD_REMEDIES: dict[str, Callable[[JobState, Doubt], Gesture]] = {"given-here": _given_here, "tie": _tie}


#: What each kind of remedy does.
REMEDIES: dict[str, Callable[[JobState, Doubt, FitStep, list[Mark]], Gesture]] = {
    "check": _hold_out,
    "off": _switch_off,
    "one-shift": _one_shift,
    "swap-axes": _swap_axes,
    "exchange": _exchange,
}


def _given_of(state: JobState, mark: Mark, frame: str) -> GivenPosition:
    for given in reversed(state.given.values()):
        if given.mark == mark.id and given.frame == frame and given.active:
            return given
    raise ProcedureError(f"{mark.name} has no given position any more", hint="Look at the doubts again")
