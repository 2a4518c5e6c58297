"""The trail of a coordinate: records, steps and values with their uncertainty, down to the raw reading."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import Literal

import numpy as np

from fenwind.job.derive import Derived, FitOutcome, Occupied
from fenwind.job.state import JobState
from fenwind.quantities.geographic import format_latitude, format_longitude
from fenwind.quantities.lengths import METRE, LengthUnit
from fenwind.quantities.numbers import format_fixed
from fenwind.records.records import GivenPosition, Mark, MeasuredPosition
from fenwind.reports.fit_report import MODEL_WORDS, mm


@dataclass(frozen=True, slots=True, kw_only=True)
class Link:
    """One link: a record, a step or the adopted value. values: lines of figures; note: what is said in
    grey."""

    kind: Literal["record", "amendment", "step", "adopted"]
    title: str
    note: str = ""
    values: tuple[str, ...] = ()


def _triple(e_m: float, n_m: float, h_m: float | None, unit: LengthUnit, decimals: int = 4) -> str:
    values = (v / unit.metres for v in (e_m, n_m, h_m) if v is not None and np.isfinite(v))
    return "   ".join(format_fixed(v, decimals) for v in values)


def trail(
    state: JobState, derived: Derived, mark: Mark, frame: str, unit: LengthUnit = METRE
) -> tuple[Link, ...]:
    """Trail of a mark's adopted position in a frame, from records to value; empty when it has none there."""
    return tuple(_links(state, derived, mark, frame, unit))


def _links(state: JobState, derived: Derived, mark: Mark, frame: str, unit: LengthUnit) -> Iterator[Link]:
    frame_name = state.frames[frame].spec.name if frame in state.frames else frame
    for given in state.given.values():
        if given.mark == mark.id and given.frame == frame:
            off = "" if given.active else "switched off"
            note = ", ".join(part for part in (given.source, off) if part)
            values = (_triple(given.e_m, given.n_m, given.height_m, unit),)
            yield Link(kind="record", title=f"Given in {frame_name}", note=note, values=values)
            yield from _amendments(state, given)
    yield from _converted(derived, mark.name, frame, unit)
    outcome = next(
        (
            o
            for o in reversed(derived.fits.values())
            if o.step.target_frame == frame and _carries(o, mark.name)
        ),
        None,
    )
    used = set(outcome.occupied.occupations.get(mark.name, ())) if outcome and outcome.occupied else None
    for measured in state.measured.values():
        if measured.mark == mark.id:
            yield _raw(measured, used is None or measured.id in used)
            yield from _amendments(state, measured)
    if outcome is not None:
        yield from _fit_links(state, outcome, mark.name, unit)
    else:
        yield from _measured(derived, mark.name, frame_name, frame, unit)
    adopted = derived.adopted.get(frame)
    if adopted is not None and mark.name in adopted.index:
        row = adopted.index[mark.name]
        yield Link(
            kind="adopted",
            title="Adopted",
            note=adopted.why[row],
            values=(_triple(adopted.e_m[row], adopted.n_m[row], adopted.height_m[row], unit),),
        )


def _converted(derived: Derived, name: str, frame: str, unit: LengthUnit) -> Iterator[Link]:
    """Positions given in other frames and how they came over."""
    found = derived.elsewhere.get(frame)
    for source, points in found.by_frame if found is not None else ():
        row = points.index.get(name)
        if row is not None and found is not None:
            values = (_triple(points.e_m[row], points.n_m[row], points.height_m[row], unit),)
            yield Link(
                kind="step",
                title=f"Given in {source}",
                note=f"converted by {found.operations[source]}",
                values=values,
            )


def _measured(derived: Derived, name: str, frame_name: str, frame: str, unit: LengthUnit) -> Iterator[Link]:
    """What was measured on the plane of the frame itself, and by which operations it came there."""
    found = derived.measured.get(frame)
    row = found.plane.index.get(name) if isinstance(found, Occupied) else None
    if isinstance(found, Occupied) and row is not None:
        mean = f"mean of {len(found.occupations[name])} occupations, " if name in found.averages else ""
        note = f"{mean}into {frame_name}" + (
            f"; datum by {'; '.join(found.operations)}" if found.operations else ""
        )
        plane = found.plane
        values = (_triple(plane.e_m[row], plane.n_m[row], plane.height_m[row], unit),)
        yield Link(kind="step", title="Projected", note=note, values=values)


def _carries(outcome: FitOutcome, name: str) -> bool:
    return outcome.case is not None and name in outcome.case.result.carried.index


def _raw(measured: MeasuredPosition, used: bool) -> Link:
    state = "" if measured.active else "switched off"
    note = ", ".join(
        part
        for part in (measured.session, measured.source, state if state or used else "not used here")
        if part
    )
    sigma = "" if measured.sigma_h_m is None else f"± {mm(measured.sigma_h_m)} mm"
    if measured.sigma_v_m is not None:
        sigma += f", height ± {mm(measured.sigma_v_m)} mm"
    if measured.lat_rad is not None and measured.lon_rad is not None:
        place = f"{format_latitude(measured.lat_rad)}   {format_longitude(measured.lon_rad)}"
    else:
        place = f"{format_fixed(measured.e_m, 4)}   {format_fixed(measured.n_m, 4)}"
    height = "" if measured.h_m is None else f"h {format_fixed(measured.h_m, 4)} m"
    values = (place, "   ".join(v for v in (height, sigma) if v))
    return Link(kind="record", title="Occupation", note=note, values=tuple(v for v in values if v))


def _amendments(state: JobState, record: GivenPosition | MeasuredPosition) -> Iterator[Link]:
    for entry in state.amendments.get(record.id, ()):
        changes = ", ".join(
            f"{field.removesuffix('_m')} {entry.old[field]} → {entry.new[field]}" for field in entry.new
        )
        yield Link(
            kind="amendment", title="Amended", note=entry.reason or "no reason given", values=(changes,)
        )


def _fit_links(state: JobState, outcome: FitOutcome, name: str, unit: LengthUnit) -> Iterator[Link]:
    assert outcome.case is not None and outcome.occupied is not None
    case, occupied = outcome.case, outcome.occupied
    source = state.frames[outcome.step.source_frame].spec
    row = occupied.plane.index[name]
    plane = occupied.plane
    over = f" over {source.height.name or 'its geoid grid'}" if source.height.kind == "geoid" else ""
    average = occupied.averages.get(name)
    sigmas = f"± {mm(plane.sigma_h_m[row])} mm" + (
        f", height ± {mm(plane.sigma_v_m[row])} mm" if np.isfinite(plane.sigma_v_m[row]) else ""
    )
    if average is not None:
        count = len(occupied.occupations[name])
        title = f"Mean of {count} occupations"
        apart = float(np.hypot(average.departure[0], average.departure[1]))
        note = f"in {source.name}{over}; at most {mm(apart)} mm from it" + (
            f", {mm(average.departure[2])} mm in height" if average.departure.size == 3 else ""
        )
    else:
        title, note = "Projected", f"into {source.name}{over}"
    if occupied.operations:
        note += f"; datum by {'; '.join(occupied.operations)}"
    yield Link(
        kind="step",
        title=title,
        note=note,
        values=(_triple(plane.e_m[row], plane.n_m[row], plane.height_m[row], METRE), sigmas),
    )
    result = case.result
    carried = result.carried
    place = carried.index[name]
    values = [_triple(carried.e_m[place], carried.n_m[place], carried.height_m[place], unit)]
    values.append(
        f"± {mm(carried.sigma_h_m[place])} mm"
        + (f", height ± {mm(carried.sigma_v_m[place])} mm" if np.isfinite(carried.sigma_v_m[place]) else "")
    )
    if name in result.pairs.names:
        i = result.pairs.names.index(name)
        parts = (result.pairs.de_m[i], result.pairs.dn_m[i], result.pairs.dh_m[i])
        values.append(
            "against given  " + "  ".join(mm(v, sign=True) for v in parts if np.isfinite(v)) + " mm"
        )
    yield Link(kind="step", title=outcome.step.name, note=MODEL_WORDS[result.model], values=tuple(values))
