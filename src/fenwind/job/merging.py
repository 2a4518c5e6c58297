"""Two marks that are one: all that was given, measured and booked of one goes over to the other, and is
kept."""

from __future__ import annotations

from typing import Any

from fenwind.errors import ProcedureError
from fenwind.job.state import JobState
from fenwind.records.centres import Centre
from fenwind.records.entries import Entry, Gesture, amend
from fenwind.records.lines import LevelBook, TraverseBook
from fenwind.records.network import DesignStep, EpochsStep, NetworkStep, ObservationSet
from fenwind.records.records import (
    FitStep,
    GivenPosition,
    Mark,
    MeasuredPosition,
    PositionChoice,
    Record,
    TwoFigures,
)
from fenwind.records.sessions import BaseSetup, Occupation
from fenwind.records.setups import Setup
from fenwind.records.space_fits import SpaceFit
from fenwind.records.tools import TapedDistance
from fenwind.records.velocities import MarkVelocity

#: Fields that hold the id of a mark, or several, by kind of record.
MARK_FIELDS: dict[type[Record], tuple[str, ...]] = {
    GivenPosition: ("mark",),
    MeasuredPosition: ("mark",),
    PositionChoice: ("mark",),
    BaseSetup: ("mark",),
    Occupation: ("mark",),
    ObservationSet: ("at", "to", "back"),
    NetworkStep: ("hold",),
    DesignStep: ("at", "to", "marks"),
    EpochsStep: ("stable",),
    Setup: ("station", "target"),
    TraverseBook: ("here", "there", "back", "close", "fore"),
    LevelBook: ("first", "second", "free"),
    FitStep: ("uses", "pivot"),
    TwoFigures: ("mark",),
    Centre: ("mark", "rim"),
    SpaceFit: ("off",),
    TapedDistance: ("first", "second"),
    MarkVelocity: ("mark",),
}


def merge_marks(state: JobState, kept: Mark, other: Mark) -> Gesture:
    """Let one mark take over all records of another, which is switched off. What is given of both in one
    frame stays that of the mark kept; the other's is switched off. Raises ProcedureError for a mark and
    itself, and where something was observed between the two."""
    if kept.id == other.id:
        raise ProcedureError(f"{kept.name} is one mark already", hint="Select two marks")
    why = f"{other.name} is {kept.name}"
    given = {g.frame for g in state.given.values() if g.mark == kept.id and g.active}
    entries: list[Entry] = []
    for kind, fields in MARK_FIELDS.items():
        for record in state.of(kind).values():
            changes = {
                f: v for f in fields if (v := _replaced(getattr(record, f), other.id, kept.id)) is not None
            }
            if not changes:
                continue
            if isinstance(record, GivenPosition) and record.active and record.frame in given:
                changes["active"] = False
            _check_between(record, changes, kept, other)
            entries.append(amend(record, reason=why, **changes))
    entries.append(amend(other, reason=why, active=False))
    return Gesture(f"Merge {other.name} into {kept.name}", tuple(entries))


def _replaced(value: Any, old: str, new: str) -> Any:
    """A field with one id for another; None where the old one does not stand in it."""
    if isinstance(value, str):
        return new if value == old else None
    if isinstance(value, tuple):
        found = [_replaced(part, old, new) for part in value]
        if any(part is not None for part in found):
            return tuple(p if f is None else f for p, f in zip(value, found, strict=True))
    return None


def _check_between(record: Record, changes: dict[str, Any], kept: Mark, other: Mark) -> None:
    """Raise ProcedureError where a record would lead from a mark to itself."""
    ends = {
        ObservationSet: ("at", "to"),
        DesignStep: ("at", "to"),
        TraverseBook: ("here", "there"),
        LevelBook: ("first", "second"),
    }
    a, b = ends.get(type(record), ("", ""))
    if isinstance(record, TapedDistance) and changes.get("first", record.first) == changes.get(
        "second", record.second
    ):
        raise ProcedureError(
            f"a distance was taped from {kept.name} to {other.name}: they are two marks",
            hint="Look at what was taped",
        )
    if a:
        first, second = changes.get(a, getattr(record, a)), changes.get(b, getattr(record, b))
        if any(x == y for x, y in zip(first, second, strict=True)):
            raise ProcedureError(
                f"{kept.name} and {other.name} were observed from one to the other: they are two marks",
                hint="Look at what was observed between them",
            )
    if isinstance(record, Setup):
        target = changes.get("target", record.target)
        if changes.get("station", record.station) in target:
            raise ProcedureError(
                f"{kept.name} and {other.name} were sighted from one another: they are two marks",
                hint="Look at the setup",
            )
