"""Gestures on bases and occupations: what a base stands on, which occupations take part, antenna heights."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace
from typing import Any

from fenwind.errors import FenwindError, ParseError, ProcedureError
from fenwind.geodesy.antenna import METHODS, MOST_M, AntennaModel, Method, reduced
from fenwind.job.derive import Solve
from fenwind.job.job import new_id
from fenwind.job.measuring import own_plane
from fenwind.job.state import JobState
from fenwind.job.steps.base import antenna_model, base_node
from fenwind.quantities.lengths import METRE, LengthUnit, parse_length
from fenwind.records.entries import Add, Entry, Gesture, amend
from fenwind.records.records import Mark
from fenwind.records.sessions import Antenna, BaseSetup, BaseWord, Equipment, Occupation


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


def equipment_of(state: JobState) -> Equipment:
    """What the job says of the equipment, else the usual."""
    return next(iter(state.of(Equipment).values()), Equipment())


def set_equipment(state: JobState, **changes: Any) -> Gesture:
    """Change what the job says of the equipment."""
    old = state.of(Equipment).get("equipment")
    if old is None:
        return Gesture("Equipment", (Add(record=replace(Equipment(), **changes)),))
    return Gesture("Equipment", (amend(old, **changes),))


def antenna_height(text: str, method: Method, unit: LengthUnit = METRE) -> tuple[float, Method]:
    """Metres and method of a text such as `1.802 slant`; the method given where the text has none. Raises
    FenwindError."""
    value, _, word = text.strip().rpartition(" ") if text.strip().endswith(METHODS) else (text, "", "")
    height, chosen = parse_length(value, unit), word or method
    if chosen not in METHODS:
        raise ProcedureError(
            f"{word!r} is no way to measure an antenna height", hint=f"Use {', '.join(METHODS)}"
        )
    return height, chosen


def set_height(state: JobState, one: BaseSetup | Occupation, text: str, unit: LengthUnit = METRE) -> Gesture:
    """Put an antenna height right from a text such as `1.802 slant`, or `1.802 slant ANT-2` where the model
    was another. Raises FenwindError."""
    models = [a.model for a in state.of(Antenna).values() if a.active]
    model = next((m for m in models if text.strip().lower().endswith(f" {m.lower()}")), None)
    if model is not None:
        text = text.strip()[: -len(model)]
    height, chosen = antenna_height(text, one.method, unit)
    reduced(height, chosen, antenna_model(state, model or one.antenna))
    changes: dict[str, Any] = {"height_m": height, "method": chosen}
    if model is not None:
        changes["antenna"] = model
    return Gesture("Antenna height", (amend(one, **changes),))


def antenna_of_text(text: str) -> AntennaModel:
    """A model as it is typed: its name, then at will radius, rim over the reference point, that over the
    bottom of the mount, and L1 over it, metres or with a unit. Raises ParseError."""
    name, *rest = (part.strip() for part in text.split(","))
    if not name or len(rest) > 4:
        raise ParseError(
            f"{text.strip()!r} is no antenna model",
            hint="Type its name and up to four lengths, as ANT-2, 0.075, 0.025, 0.04",
        )
    values = [parse_length(part) for part in rest] + [0.0] * (4 - len(rest))
    if not all(abs(v) < MOST_M for v in values):
        raise ParseError(
            f"{text.strip()!r} has a length that no antenna has", hint="Type metres: 75 mm is 0.075"
        )
    radius, rim, mount, l1 = values
    return AntennaModel(model=name, radius_m=radius, rim_offset_m=rim, mount_offset_m=mount, arp_to_l1_m=l1)


def add_antennas(state: JobState, models: Sequence[AntennaModel]) -> Gesture:
    """Tell the job of antenna models; one that it has by that name is amended."""
    entries: list[Entry] = []
    for one in models:
        values: dict[str, Any] = {
            "radius_m": one.radius_m, "rim_offset_m": one.rim_offset_m, "mount_offset_m": one.mount_offset_m,
            "arp_to_l1_m": one.arp_to_l1_m,
        }  # fmt: skip
        old = next((a for a in state.of(Antenna).values() if a.active and a.model == one.model), None)
        differing = {k: v for k, v in values.items() if old is not None and getattr(old, k) != v}
        if old is None:
            entries.append(Add(record=Antenna(id=new_id(), model=one.model, **values)))
        elif differing:
            entries.append(amend(old, reason="", **differing))
    return Gesture(f"Antenna {', '.join(m.model for m in models)}"[:80], tuple(entries))


def check_base_name(state: JobState, name: str) -> None:
    """Raises ProcedureError for a name that a new base cannot have."""
    if not name.strip() or "=" in name:
        raise ProcedureError(f"{name!r} is no name for a base", hint="Choose another name")
    if any(b.active and b.name == name for b in state.of(BaseSetup).values()):
        raise ProcedureError(
            f"the job has a base {name} already", hint="Every start is a base of its own: choose another name"
        )


def standing_on(record: BaseSetup, mark: Mark, state: JobState, solve: Solve) -> BaseSetup:
    """A new base on a known mark, with where its ARP then is, which is what it should broadcast. solve:
    what a step of a state comes to. Raises FenwindError when the mark is not known."""
    record = replace(record, word="known", mark=mark.id)
    trial = state.snapshot()
    trial.apply(Add(record=replace(record, id="trial")))
    outcome = solve(trial, base_node("trial"))
    if isinstance(outcome.error, FenwindError):
        raise outcome.error
    x, y, z = (float(v) for v in outcome.result.arp.xyz)
    return replace(record, broadcast_x_m=x, broadcast_y_m=y, broadcast_z_m=z)


def start_base(state: JobState, record: BaseSetup) -> Gesture:
    """Keep a base that was started; in a job without a frame its positions get a plane of its own. Raises
    ProcedureError for a name that cannot be."""
    check_base_name(state, record.name)
    entries: list[Entry] = []
    if not state.frames and record.average_lat_rad is not None and record.average_lon_rad is not None:
        entries = own_plane(record.average_lat_rad, record.average_lon_rad, record.average_h_m or 0.0)
    return Gesture(f"Start base {record.name}", (*entries, Add(record=replace(record, id=new_id()))))
