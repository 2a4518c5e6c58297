"""Gestures on bases and occupations: what a base stands on, which occupations take part, antenna heights."""

from __future__ import annotations

from collections.abc import Iterable

from fenwind.errors import ProcedureError
from fenwind.geodesy.antenna import METHODS, reduced
from fenwind.job.state import JobState
from fenwind.job.steps.base import antenna_model
from fenwind.quantities.lengths import METRE, LengthUnit, parse_length
from fenwind.records.entries import Gesture, amend
from fenwind.records.records import Mark
from fenwind.records.sessions import BaseSetup, BaseWord, Occupation


def stand_on(base: BaseSetup, word: BaseWord, mark: Mark | None = None) -> Gesture:
    """Let a base stand on something else. The last word holds; the earlier ones are kept."""
    on = f" {mark.name}" if mark is not None else ""
    changes = {"word": word} | ({"mark": mark.id} if mark is not None else {})
    return Gesture(f"Base {base.name}: {word}{on}", (amend(base, **changes),))


def set_active(rows: Iterable[Occupation], active: bool) -> Gesture:
    """Leave occupations out, or take them in again."""
    what = "Use occupations" if active else "Leave occupations out"
    return Gesture(what, tuple(amend(o, active=active) for o in rows if o.active != active))


def set_check(rows: Iterable[Occupation], check: bool) -> Gesture:
    """Make occupations checks, that are compared only, or let them take part."""
    what = "Occupations as checks" if check else "Let occupations take part"
    return Gesture(what, tuple(amend(o, check=check) for o in rows if o.check != check))


def set_height(state: JobState, one: BaseSetup | Occupation, text: str, unit: LengthUnit = METRE) -> Gesture:
    """Put an antenna height right from a text such as `1.802 slant`. Raises FenwindError."""
    value, _, method = text.strip().rpartition(" ") if text.strip().endswith(METHODS) else (text, "", "")
    height = parse_length(value, unit)
    chosen = method or one.method
    if chosen not in METHODS:
        raise ProcedureError(
            f"{method!r} is no way to measure an antenna height", hint=f"Use {', '.join(METHODS)}"
        )
    reduced(height, chosen, antenna_model(state, one.antenna))
    return Gesture("Antenna height", (amend(one, height_m=height, method=chosen),))
