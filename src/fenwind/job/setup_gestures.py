"""Gestures on setups: sightings taken in with their marks, what each does, where the instrument stands."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import replace
from typing import Any

from fenwind.errors import ProcedureError
from fenwind.job.gestures import marks_named
from fenwind.job.job import new_id
from fenwind.job.state import JobState
from fenwind.records.entries import Add, Gesture, amend
from fenwind.records.setups import Setup, ShotUse


def take_setup(
    state: JobState, found: Setup, station: str, height_m: float, frame: str, known: Collection[str]
) -> Gesture:
    """Take in a setup whose targets are names, with the instrument so high over the mark named, and new marks
    for names that the job has not. On one of the marks known (names) it only turns the circle. Raises
    ProcedureError without a frame or a name."""
    return take_setups(state, [replace(found, station=station.strip(), height_m=height_m)], frame, known)


def take_setups(state: JobState, found: Sequence[Setup], frame: str, known: Collection[str]) -> Gesture:
    """Take in setups whose stations and targets are names. Raises as `take_setup` does."""
    if frame not in state.frames:
        raise ProcedureError("the job has no frame to place it in", hint="Set up a frame first")
    if not found or not all(setup.target for setup in found):
        raise ProcedureError("nothing was sighted", hint="Choose another file")
    for setup in found:
        if setup.station in setup.target:
            raise ProcedureError(
                f"{setup.station} is sighted from itself", hint="Give the station another name"
            )
    ids, entries = marks_named(state, (n for s in found for n in (s.station, *s.target)))
    first = len(state.of(Setup)) + 1
    kept = [
        replace(
            setup, id=new_id(), name=f"Setup {first + i}", frame=frame, station=ids[setup.station],
            word="known" if setup.station in known else "free",
            target=tuple(ids[n] for n in setup.target),
        )
        for i, setup in enumerate(found)
    ]  # fmt: skip
    what = kept[0].name if len(kept) == 1 else f"{len(kept)} setups"
    return Gesture(f"Take in {what}", (*entries, *(Add(record=setup) for setup in kept)))


def set_use(setup: Setup, rows: Iterable[int], use: ShotUse) -> Gesture:
    """Let sightings take part, be compared only, or be left out."""
    said = dict(setup.use) | dict.fromkeys(rows, use)
    kept = tuple(sorted((row, word) for row, word in said.items() if word != "used"))
    return change(setup, "What sightings do", use=kept)


def set_prism(setup: Setup, rows: Iterable[int], constant_m: float, reason: str) -> Gesture:
    """Put the prism constant of some sightings right."""
    values = list(setup.prism_m)
    for row in rows:
        values[row] = constant_m
    return Gesture("Another prism constant", (amend(setup, reason=reason, prism_m=tuple(values)),))


def change(setup: Setup, what: str, **changes: Any) -> Gesture:
    """Change options of a setup."""
    differing = {k: v for k, v in changes.items() if getattr(setup, k) != v}
    return Gesture(what, (amend(setup, **differing),) if differing else ())
