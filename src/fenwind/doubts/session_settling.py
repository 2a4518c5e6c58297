"""What the remedies of doubts about sessions do."""

from __future__ import annotations

from collections.abc import Callable
from typing import TypeVar

from fenwind.doubts.registry import Doubt, Remedy
from fenwind.errors import ProcedureError
from fenwind.geodesy.antenna import reduced
from fenwind.job.session_gestures import stand_on
from fenwind.job.state import JobState
from fenwind.job.steps.base import antenna_model
from fenwind.records.entries import Gesture, amend
from fenwind.records.sessions import Antenna, BaseSetup, Occupation

R = TypeVar("R", Occupation, BaseSetup)


def _about(state: JobState, kind: type[R], doubt: Doubt) -> R:
    """The record that a doubt is about. Raises ProcedureError where it is there no more."""
    found = state.of(kind).get(doubt.subject)
    if found is None or not found.active:
        raise ProcedureError("what this doubt speaks of is gone", hint="Look at the doubts again")
    return found


def _as_slant(state: JobState, doubt: Doubt, remedy: Remedy) -> Gesture:
    """The height was a slant; of the job's only antenna where the occupation names none."""
    one = _about(state, Occupation, doubt)
    models = [a.model for a in state.of(Antenna).values() if a.active]
    model = one.antenna or (models[0] if len(models) == 1 else "")
    reduced(one.height_m, "slant", antenna_model(state, model))
    return Gesture("Antenna height", (amend(one, reason=doubt.text, method="slant", antenna=model),))


def _other_height(state: JobState, doubt: Doubt, remedy: Remedy) -> Gesture:
    """The height that agrees, to a tenth of a millimetre."""
    one = _about(state, Occupation, doubt)
    height = round(one.height_m - (doubt.value or 0.0), 4)
    reduced(height, one.method, antenna_model(state, one.antenna))
    return Gesture("Antenna height", (amend(one, reason=doubt.text, height_m=height),))


def _leave_out(state: JobState, doubt: Doubt, remedy: Remedy) -> Gesture:
    return Gesture(
        "Leave an occupation out", (amend(_about(state, Occupation, doubt), reason=doubt.text, active=False),)
    )


def _tie_base(state: JobState, doubt: Doubt, remedy: Remedy) -> Gesture:
    base, mark = state.of(BaseSetup).get(doubt.subject), state.mark_named(remedy.names[0])
    if base is None or mark is None:
        raise ProcedureError("what this doubt speaks of is gone", hint="Look at the doubts again")
    return stand_on(base, "tie", mark)


def _base_height(state: JobState, doubt: Doubt, remedy: Remedy) -> Gesture:
    """The height of a base's antenna that agrees, to a tenth of a millimetre."""
    base = _about(state, BaseSetup, doubt)
    height = round(base.height_m - (doubt.value or 0.0), 4)
    reduced(height, base.method, antenna_model(state, base.antenna))
    return Gesture("Antenna height", (amend(base, reason=doubt.text, height_m=height),))


def _base_stands_on(state: JobState, doubt: Doubt, remedy: Remedy) -> Gesture:
    base, mark = _about(state, BaseSetup, doubt), state.mark_named(remedy.names[0])
    if mark is None:
        raise ProcedureError("what this doubt speaks of is gone", hint="Look at the doubts again")
    return stand_on(base, base.word, mark)


SESSION_REMEDIES: dict[str, Callable[[JobState, Doubt, Remedy], Gesture]] = {
    "as-slant": _as_slant,
    "other-height": _other_height,
    "leave-out": _leave_out,
    "tie-base": _tie_base,
    "base-height": _base_height,
    "base-stands-on": _base_stands_on,
}
