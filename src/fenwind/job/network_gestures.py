"""Gestures on networks: observations taken in with their marks, what is held, rows left out."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from typing import Any

from fenwind.errors import ProcedureError
from fenwind.job.gestures import marks_named
from fenwind.job.job import new_id
from fenwind.job.state import JobState
from fenwind.quantities.numbers import counted
from fenwind.records.entries import Add, Gesture, amend
from fenwind.records.network import EVERYTHING, NetworkDatum, NetworkStep, ObservationSet, RowKey


def take_observations(state: JobState, found: ObservationSet, frame: str) -> Gesture:
    """Take in observations whose at, to and back are names, with new marks for names that are not known, and
    adjust them in a frame. Raises ProcedureError without a frame or an observation."""
    if frame not in state.frames:
        raise ProcedureError("the job has no frame to adjust in", hint="Set up a frame first")
    if not found.kind:
        raise ProcedureError("there is no observation in it", hint="Choose another file")
    ids, entries = marks_named(state, (name for name in (*found.at, *found.to, *found.back) if name))
    ids[""] = ""
    kept = replace(
        found, id=new_id(), at=tuple(ids[n] for n in found.at), to=tuple(ids[n] for n in found.to),
        back=tuple(ids[n] for n in found.back),
    )  # fmt: skip
    name = f"Network {len(state.of(NetworkStep)) + 1}"
    step = NetworkStep(id=new_id(), name=name, frame=frame, observations=kept.id)
    return Gesture(
        f"Take in {counted(len(kept.kind), 'observation')}", (*entries, Add(record=kept), Add(record=step))
    )


def adjust_everything(state: JobState, frame: str) -> Gesture:
    """Adjust all that the job has observed in a frame. Raises ProcedureError without one."""
    if frame not in state.frames:
        raise ProcedureError("the job has no frame to adjust in", hint="Set up a frame first")
    name = f"Network {len(state.of(NetworkStep)) + 1}"
    step = NetworkStep(id=new_id(), name=name, frame=frame, observations=EVERYTHING)
    return Gesture("Adjust everything observed", (Add(record=step),))


def set_off(step: NetworkStep, rows: Iterable[RowKey], off: bool) -> Gesture:
    """Leave observations out, or take them in again, by what they are left out by."""
    now = set(step.off)
    fresh = now | set(rows) if off else now - set(rows)
    what = "Leave observations out" if off else "Use observations again"
    return change(step, what, off=tuple(sorted(fresh, key=_order)))


def weigh_down(step: NetworkStep, rows: Iterable[RowKey], factor: float) -> Gesture:
    """Enlarge the sigmas of observations by a factor; 1 gives them their own weight back."""
    chosen = list(rows)
    fresh = {row: f for row, f in step.down if row not in chosen}
    fresh |= dict.fromkeys(chosen, factor) if factor != 1.0 else {}
    down = tuple(sorted(fresh.items(), key=lambda pair: _order(pair[0])))
    return change(step, "Weigh observations down", down=down)


def _order(key: RowKey) -> tuple[bool, RowKey]:
    return isinstance(key, str), key


def hold(step: NetworkStep, datum: NetworkDatum, marks: Sequence[str] = ()) -> Gesture:
    """What the network lies on: marks by id, none for all that are given."""
    return change(step, "What the network lies on", datum=datum, hold=tuple(marks))


def change(step: NetworkStep, what: str, **changes: Any) -> Gesture:
    """Change options of a network."""
    differing = {k: v for k, v in changes.items() if getattr(step, k) != v}
    return Gesture(what, (amend(step, **differing),) if differing else ())
