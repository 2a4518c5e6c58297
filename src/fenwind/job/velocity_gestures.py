"""Gestures on velocities of marks: typed, from a list, withdrawn."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ParseError, ProcedureError
from fenwind.job.job import new_id
from fenwind.job.state import JobState
from fenwind.quantities.numbers import format_fixed, parse_number
from fenwind.records.entries import Add, Entry, Gesture, amend
from fenwind.records.velocities import FASTEST_M, MarkVelocity

FloatArray = NDArray[np.float64]


def velocities_in(state: JobState, frame: str) -> dict[str, MarkVelocity]:
    """What is given in a frame, by mark id."""
    every = state.of(MarkVelocity).values()
    return {one.mark: one for one in every if one.active and one.frame == frame}


def type_velocity(state: JobState, frame: str, text: str) -> Gesture:
    """One velocity of a text: a mark, then east, north and at will up in mm a year; or the mark and `none`,
    which withdraws it. Raises ParseError, ProcedureError."""
    name, *parts = (part.strip() for part in text.split(","))
    if [part.lower() for part in parts] == ["none"]:
        mark = state.mark_named(name)
        old = velocities_in(state, frame).get(mark.id) if mark is not None else None
        if old is None:
            raise ProcedureError(f"no velocity of {name} is given in this frame", hint="Name a mark with one")
        return Gesture(f"No velocity of {name}", (amend(old, active=False),))
    values = [1e-3 * parse_number(part) for part in parts]
    if not name or len(values) not in (2, 3):
        raise ParseError(f"{text.strip()!r} is no velocity", hint="Type T-01, 14.2, 15.1, -0.3")
    if max(map(abs, values)) > FASTEST_M:
        raise ParseError("no mark moves that fast", hint="Type millimetres a year")
    return give_velocities(state, frame, {name: np.array([*values, 0.0][:3])}, "typed")


def as_typed(one: MarkVelocity, name: str) -> str:
    """A velocity as it is typed."""
    values = (one.east_m, one.north_m, one.up_m)
    return ", ".join([name, *(f"{1e3 * v:.6g}" for v in values)])


def velocity_words(state: JobState, frame: str) -> str:
    """What is given in a frame in a sentence, empty where nothing is."""
    found = [*velocities_in(state, frame).values()]
    if not found:
        return ""
    values = 1e3 * np.array([(one.east_m, one.north_m, one.up_m) for one in found])
    mean = ", ".join(
        f"{axis} {format_fixed(v, 1, sign=True)}"
        for axis, v in zip(("east", "north", "up"), values.mean(axis=0).tolist(), strict=True)
    )
    if len(found) == 1:
        return f"{state.mark_name(found[0].mark)} moves {mean} mm a year."
    most = format_fixed(float(np.ptp(values, axis=0).max()), 1)
    return f"{len(found)} marks have velocities: {mean} mm a year in the mean, up to {most} apart."


def give_velocities(state: JobState, frame: str, values: Mapping[str, FloatArray], source: str) -> Gesture:
    """Velocities (3,) east, north, up in metres a year by the name of a mark, in a frame; those of names that
    the job has not are left out. Raises ProcedureError where it has none of them."""
    known = {name: mark for name in values if (mark := state.mark_named(name)) is not None}
    if not known:
        raise ProcedureError(
            f"no mark of the job is among {', '.join([*values][:4])}", hint="Give velocities of its marks"
        )
    old, entries = velocities_in(state, frame), list[Entry]()
    for name, mark in known.items():
        east, north, up = (float(v) for v in values[name])
        if mark.id in old:
            entries.append(amend(old[mark.id], east_m=east, north_m=north, up_m=up, source=source))
            continue
        one = MarkVelocity(
            id=new_id(), mark=mark.id, frame=frame, east_m=east, north_m=north, up_m=up, source=source
        )
        entries.append(Add(record=one))
    what = f"Velocity of {next(iter(known))}" if len(known) == 1 else f"Velocities of {len(known)} marks"
    return Gesture(what, tuple(entries))


def without_velocities(state: JobState, frame: str) -> Gesture:
    """Switch off all velocities given in a frame. Raises ProcedureError where there are none."""
    found = velocities_in(state, frame)
    if not found:
        raise ProcedureError("no velocity is given in this frame", hint="Type one, or take a list in")
    return Gesture("Without velocities", tuple(amend(one, active=False) for one in found.values()))
