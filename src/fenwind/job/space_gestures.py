"""Gestures on fits in space."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from fenwind.errors import ProcedureError
from fenwind.geodesy.frames import open_frame
from fenwind.job.job import new_id
from fenwind.job.state import JobState
from fenwind.records.entries import Add, Gesture, amend
from fenwind.records.space_fits import SpaceFit


def new_space_fit(state: JobState, target: str) -> Gesture:
    """A fit in space onto a frame (id), from the first other one with a datum. Raises ProcedureError where
    there are no two."""
    tied = [k for k, f in state.frames.items() if f.active and open_frame(f.spec).has_datum]
    target = target if target in tied else next(iter(tied), "")
    others = [key for key in tied if key != target]
    if not others:
        raise ProcedureError(
            "a fit in space needs two frames with a datum",
            hint="Add the other frame and give positions in it",
        )
    name = f"Space fit {len(state.of(SpaceFit)) + 1}"
    record = SpaceFit(id=new_id(), name=name, source_frame=others[0], target_frame=target)
    return Gesture(f"New {name}", (Add(record=record),))


def change(fit: SpaceFit, what: str, **changes: Any) -> Gesture:
    """Change what a fit in space carries, and how."""
    differing = {k: v for k, v in changes.items() if getattr(fit, k) != v}
    return Gesture(what, (amend(fit, **differing),) if differing else ())


def set_off(fit: SpaceFit, marks: Collection[str], off: bool) -> Gesture:
    """Compare pairs (ids of marks) only, or let them take part again."""
    now = set(fit.off) | set(marks) if off else set(fit.off) - set(marks)
    return change(fit, "Pairs in space", off=tuple(sorted(now)))
