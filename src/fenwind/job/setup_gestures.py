"""Gestures on setups: sightings taken in with their marks, what each does, where the instrument stands."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Sequence
from dataclasses import dataclass, fields, replace
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


@dataclass(frozen=True, slots=True, kw_only=True)
class Sighted:
    """One sighting as it comes from an instrument: a row of a setup, its target by name."""

    target: str
    direction_rad: float
    zenith_rad: float | None
    distance_m: float | None
    target_height_m: float
    prism_m: float
    face: int
    round: int
    time: str


def add_sightings(
    state: JobState,
    setup: Setup,
    sighted: Sequence[Sighted],
    use: ShotUse = "used",
    known: Collection[str] = (),
) -> Gesture:
    """Add what was sighted to a setup, with new marks for names that the job has not; use: what that does. A
    setup that is not in the job yet, whose station is a name, begins with it. Raises ProcedureError without a
    frame or a name, and for a setup that is sighted from itself."""
    sighted = [replace(one, target=one.target.strip()) for one in sighted]
    rows = len(setup.target)
    said = {} if use == "used" else dict.fromkeys(range(rows, rows + len(sighted)), use)
    changes: dict[str, Any] = {"use": (*setup.use, *said.items())}
    if setup.id not in state.of(Setup):
        changes |= {f.name: tuple(getattr(one, f.name) for one in sighted) for f in fields(Sighted)}
        return take_setups(state, [replace(setup, **changes)], setup.frame, known)
    names = [one.target for one in sighted]
    station = state.marks[setup.station].name if setup.station in state.marks else ""
    if station in names:
        raise ProcedureError(f"{station} is sighted from itself", hint="Give the target another name")
    ids, entries = marks_named(state, names)
    for one in fields(Sighted):
        before = getattr(setup, one.name) or ((0,) if one.name == "round" else ("",)) * rows
        fresh = [getattr(row, one.name) for row in sighted]
        changes[one.name] = (*before, *([ids[n] for n in names] if one.name == "target" else fresh))
    return Gesture(f"Sight {', '.join(dict.fromkeys(names))}", (*entries, amend(setup, **changes)))


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


def set_azimuth(setup: Setup, rows: Iterable[int], azimuth_rad: float | None) -> Gesture:
    """Say what azimuth the lines of some sightings have on the grid, so that they turn the circle; None takes
    it away."""
    said = dict(setup.azimuths)
    for row in rows:
        if azimuth_rad is None:
            said.pop(row, None)
        else:
            said[row] = azimuth_rad
    return change(setup, "Azimuth of a sighting", azimuths=tuple(sorted(said.items())))


def change(setup: Setup, what: str, **changes: Any) -> Gesture:
    """Change options of a setup."""
    differing = {k: v for k, v in changes.items() if getattr(setup, k) != v}
    return Gesture(what, (amend(setup, **differing),) if differing else ())
