"""Gestures on what is measured with: instruments kept and used, distances by tape."""

from __future__ import annotations

import math
from typing import Any

from fenwind.errors import ParseError, ProcedureError
from fenwind.job.gestures import marks_named
from fenwind.job.job import new_id
from fenwind.job.setup_gestures import change
from fenwind.job.state import JobState
from fenwind.job.steps.setup import Placed
from fenwind.quantities.lengths import LengthUnit, parse_length
from fenwind.quantities.numbers import parse_number
from fenwind.records.entries import Add, Gesture, amend
from fenwind.records.setups import Setup
from fenwind.records.tools import InstrumentModel, TapedDistance

#: What a setup has from the instrument that it was observed with.
OF_INSTRUMENT = (
    "sigma_direction_s", "sigma_zenith_s", "sigma_distance_m", "sigma_distance_ppm", "collimation_rad",
    "index_rad",
)  # fmt: skip


def keep_instrument(state: JobState, placed: Placed, name: str) -> Gesture:
    """Keep the instrument of a setup under a name: its sigmas, and the collimation and index that both faces
    gave; one of that name is amended, and with it the setups that have from it what it was. Raises
    ProcedureError without a name."""
    name, setup, r = name.strip(), placed.setup, placed.reduced
    if not name:
        raise ProcedureError("the instrument has no name", hint="Type one, such as its number")
    values: dict[str, Any] = {
        "sigma_direction_s": setup.sigma_direction_s, "sigma_zenith_s": setup.sigma_zenith_s,
        "sigma_distance_m": setup.sigma_distance_m, "sigma_distance_ppm": setup.sigma_distance_ppm,
        "collimation_rad": None if math.isnan(r.collimation) else r.collimation,
        "index_rad": None if math.isnan(r.index) else r.index,
    }  # fmt: skip
    old = instrument_named(state, name)
    if old is not None:
        followers = [
            one for one in state.of(Setup).values()
            if one.instrument == old.id and one.id != setup.id and _is_of(one, old)
        ]  # fmt: skip
        also = (
            f", and of {len(followers)} more setup{'' if len(followers) == 1 else 's'}" if followers else ""
        )
        entries = [amend(old, **values), amend(setup, instrument=old.id)]
        return Gesture(f"Instrument {name}{also}", (*entries, *(amend(one, **values) for one in followers)))
    record = InstrumentModel(id=new_id(), name=name, **values)
    return Gesture(f"Instrument {name}", (Add(record=record), amend(setup, instrument=record.id)))


def _is_of(setup: Setup, one: InstrumentModel) -> bool:
    """Whether what a setup says of its instrument is all from the one that is kept."""
    return all(getattr(setup, name) == getattr(one, name) for name in OF_INSTRUMENT)


def instrument_named(state: JobState, name: str) -> InstrumentModel | None:
    """The instrument of a name."""
    wanted = name.strip().lower()
    every = state.of(InstrumentModel).values()
    return next((one for one in every if one.active and one.name.lower() == wanted), None)


def observed_with(state: JobState, setup: Setup, name: str) -> Gesture:
    """Say with which kept instrument a setup was observed: its sigmas are that instrument's, and what is
    known of its collimation and index is taken off. Raises ProcedureError for a name that nothing is kept
    under."""
    one = instrument_named(state, name)
    if one is None:
        known = ", ".join(i.name for i in state.of(InstrumentModel).values() if i.active) or "none yet"
        raise ProcedureError(f"no instrument {name.strip()} is kept", hint=f"There are: {known}")
    return change(
        setup, f"Observed with {one.name}", instrument=one.id,
        **{name: getattr(one, name) for name in OF_INSTRUMENT},
    )  # fmt: skip


def tape(state: JobState, text: str, unit: LengthUnit) -> Gesture:
    """A distance by tape, of a text: from, to, distance, then at will h for a horizontal one and the tape's
    temperature. New marks for names that the job has not. Raises ParseError."""
    parts = [part.strip() for part in text.split(",")]
    if len(parts) < 3 or not all(parts[:3]) or parts[0] == parts[1] or len(parts) > 5:
        raise ParseError(
            f"{text.strip()!r} is no taped distance",
            hint="Type from, to, distance: T-01, P-02, 28.412, h, 14",
        )
    length, rest = parse_length(parts[2], unit), [part for part in parts[3:] if part]
    if not 0.0 < length < 10_000.0:
        raise ParseError(f"{parts[2]} is no taped distance", hint="Type what was read on the tape")
    flat = [part for part in rest if part.lower() == "h"]
    warm = [parse_number(part) for part in rest if part.lower() != "h"]
    if len(flat) > 1 or len(warm) > 1 or any(abs(t) > 80.0 for t in warm):
        raise ParseError(
            f"{', '.join(rest)} will not do", hint="After the distance: h, and the temperature in degrees C"
        )
    ids, entries = marks_named(state, parts[:2])
    record = TapedDistance(
        id=new_id(), first=ids[parts[0]], second=ids[parts[1]], length_m=length, slope=not flat,
        temperature_c=warm[0] if warm else None,
    )  # fmt: skip
    return Gesture(f"Tape {parts[0]} to {parts[1]}", (*entries, Add(record=record)))
