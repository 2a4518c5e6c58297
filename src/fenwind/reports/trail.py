"""The trail of a coordinate: records, steps and values with their uncertainty, down to the raw reading."""

from __future__ import annotations

import math
import re
from collections.abc import Iterator
from dataclasses import dataclass
from typing import Any, Literal

import numpy as np

from fenwind.geodesy.axes import ShownAxis, shown_axes
from fenwind.geodesy.frames import FrameSpec, axes_of
from fenwind.job.adopted import Adopted
from fenwind.job.derive import Derived
from fenwind.job.session_view import rover_of
from fenwind.job.state import JobState
from fenwind.job.steps.carried_on import carried_on
from fenwind.job.steps.elsewhere import elsewhere
from fenwind.job.steps.fit import fit_node
from fenwind.job.steps.kinds import STEP_KINDS
from fenwind.job.steps.network import network_node
from fenwind.job.steps.occupied import occupied
from fenwind.job.steps.outcome import Figures, Node
from fenwind.job.trail import session_trail
from fenwind.quantities.angles import RAD_PER_SECOND, AngleStyle, format_angle, usual_decimals
from fenwind.quantities.geographic import format_latitude, format_longitude
from fenwind.quantities.lengths import METRE, UNITS, LengthUnit
from fenwind.quantities.numbers import format_fixed
from fenwind.records.records import GivenPosition, Mark, MeasuredPosition
from fenwind.reports.fit_report import mm


@dataclass(frozen=True, slots=True, kw_only=True)
class Link:
    """One link: a record, a step or the adopted value. values: lines of figures; note: what is said in
    grey."""

    kind: Literal["record", "amendment", "step", "adopted", "other"]
    title: str
    note: str = ""
    values: tuple[str, ...] = ()


Axes = tuple[ShownAxis, ShownAxis]
PLAIN = shown_axes(None)


def triple(
    values: tuple[float, float, float], unit: LengthUnit, axes: Axes = PLAIN, decimals: int = 4
) -> str:
    """Easting, northing and height for people, in the order and with the signs of their system; letters where
    these are not easting, northing, height, a word where there is a height alone."""
    e, n, h = (math.nan if v is None else v / unit.metres for v in values)
    height = format_fixed(h, decimals)
    if math.isnan(e):
        return f"height {height}" if height else ""
    texts = [("" if axes == PLAIN else f"{a.title} ") + format_fixed(a.of(e, n), decimals) for a in axes]
    return "   ".join([*texts, height] if height else texts)


def _way(values: tuple[float, ...], axes: Axes) -> str:
    """Differences (e, n, height) in millimetres, in the order and with the signs of a system; nan is left
    out."""
    e, n, h = values
    texts = [(("" if axes == PLAIN else f"{a.title} "), a.of(e, n)) for a in axes]
    letter = "" if axes == PLAIN else "H "
    shown = [f"{t}{mm(float(v), sign=True)}" for t, v in (*texts, (letter, h)) if np.isfinite(v)]
    return f"{'  '.join(shown)} mm"


def trail(
    state: JobState,
    derived: Derived,
    mark: Mark,
    frame: str,
    unit: LengthUnit = METRE,
    axes: Axes = PLAIN,
) -> tuple[Link, ...]:
    """Trail of a mark's adopted position in a frame, from records to value; empty when it has none there."""
    look = _Look(unit=unit, axes=axes, style=state.info.angle_style)
    return tuple(_links(state, derived, mark, frame, look))


@dataclass(frozen=True, slots=True, kw_only=True)
class _Look:
    """How coordinates of the frame shown, and angles, are written."""

    unit: LengthUnit
    axes: Axes
    style: AngleStyle


def _links(state: JobState, derived: Derived, mark: Mark, frame: str, look: _Look) -> Iterator[Link]:
    frame_name = state.frames[frame].spec.name if frame in state.frames else frame
    for given in state.given.values():
        if given.mark == mark.id and given.frame == frame:
            off = "" if given.active else "switched off"
            note = ", ".join(part for part in (given.source, off) if part)
            values = (triple(given.values, look.unit, look.axes),)
            yield Link(kind="record", title=f"Given in {frame_name}", note=note, values=values)
            yield from _amendments(state, given, look.unit, look.axes)
    yield from _steps(state, derived, elsewhere(frame), mark, look)
    nodes = list(_behind(derived, mark, frame))
    used = _occupations(derived, nodes, mark)
    for measured in state.measured.values():
        if measured.mark == mark.id:
            yield _raw(measured, used is None or measured.id in used)
            yield from _amendments(state, measured, METRE, PLAIN)
    yield from _session_links(state, derived, mark)
    for node in (*nodes, *(n for n in derived.outcomes if n.kind == "levelling")):
        yield from _steps(state, derived, node, mark, look, frame)
    adopted = derived.adopted.get(frame)
    if adopted is not None and mark.name in adopted.index:
        row = adopted.index[mark.name]
        place = (float(adopted.e_m[row]), float(adopted.n_m[row]), float(adopted.height_m[row]))
        values = (triple(place, look.unit, look.axes),)
        yield Link(kind="adopted", title="Adopted", note=adopted.why[row], values=values)
        yield from _others(adopted, mark, look)


#: Occupations of a mark that its trail goes into.
MOST = 12
#: Steps of a session's trail as they are headed.
HEADS = {
    "known": "Known mark", "average": "Average of the base", "place": "Typed place", "tie": "Tie",
    "base": "Base", "antenna": "Antenna height", "vector": "Vector", "occupation": "Occupation",
    "position": "Measured from a base",
}  # fmt: skip


def _session_links(state: JobState, derived: Derived, mark: Mark) -> Iterator[Link]:
    """What a mark measured from bases stands on, from the known mark or the average up to its occupations."""
    if mark.id not in rover_of(derived).used:
        return
    for step in reversed(session_trail(state, derived, mark.id, MOST)):
        values: tuple[str, ...] = ()
        if step["what"] == "vector":
            values = ("   ".join(format_fixed(step[key], 4) for key in ("dx", "dy", "dz")) + " m",)
        names, text = step["names"], step["text"]
        named = ", ".join(names[1:] if step["what"] == "occupation" else names)
        note = text if any(name in text for name in names) else f"{named}: {text}"
        yield Link(kind="record", title=HEADS[step["what"]], note=note, values=values)


def _others(adopted: Adopted, mark: Mark, look: _Look) -> Iterator[Link]:
    """The other positions the mark could have, each with its difference from the adopted one."""
    row = adopted.index[mark.name]
    own = (float(adopted.e_m[row]), float(adopted.n_m[row]), float(adopted.height_m[row]))
    for other in adopted.candidates(mark.id):
        gave_height = not np.isfinite(other.e_m) and other.height_m == own[2]
        if not other.adopted and not gave_height:
            way = (other.e_m - own[0], other.n_m - own[1], other.height_m - own[2])
            text = f"{_way(way, look.axes)} from it"
            yield Link(kind="other", title="Not adopted", note=other.why, values=(text,))


def _behind(derived: Derived, mark: Mark, frame: str) -> Iterator[Node]:
    """The steps that lead to a mark's position in a frame: the last fit onto it and what that carried,
    else the network that moved it or the setup that sighted it, else what was measured in the frame
    itself."""
    adopted = derived.adopted.get(frame)
    row = adopted.place.get(mark.id) if adopted is not None else None
    origin = adopted.sets[adopted.set_row[row]] if adopted is not None and row is not None else None
    if origin is not None and origin.behind:
        yield from (*origin.behind, carried_on(frame))
    elif origin is not None and origin.basis == "adjusted":
        yield network_node(origin.key)
    elif origin is not None and (kinds := _STEPS_OF.get(origin.basis)) is not None:
        here = [n for n in derived.outcomes if n.detail[:1] in ((), (frame,))]
        yield from (node for kind in kinds for node in here if node.kind == kind)
    else:
        yield from _fit_behind(derived, mark, frame)


#: Kinds of step that lead to positions of a basis.
_STEPS_OF = {"observed": ("setup", "sighted"), "traversed": ("traverse",), "centre": ("centre",)}


def _fit_behind(derived: Derived, mark: Mark, frame: str) -> Iterator[Node]:
    """The last fit onto a frame that carried a mark and what it carried, else what was measured there."""
    fits = [o for o in derived.fits.values() if o.raw is not None and o.step.target_frame == frame]
    last = next((o for o in reversed(fits) if o.raw and mark.id in o.raw.occupied.plane.index), None)
    if last is None:
        yield occupied(frame)
    else:
        yield occupied(last.step.source_frame, last.step.sessions)
        yield fit_node(last.step.id)


def _occupations(derived: Derived, nodes: list[Node], mark: Mark) -> set[str] | None:
    """Ids of the occupations that a fit stands on; None where no fit does."""
    outcome = derived.outcomes.get(nodes[0])
    if len(nodes) < 2 or nodes[1].kind != "fit" or outcome is None or outcome.result is None:
        return None
    return set(outcome.result.occupations(outcome.result.plane.index[mark.id]))


def _own_frame(node: Node, result: object) -> str:
    """The frame of a network, a setup, a traverse, or of what setups sighted; empty for any other step."""
    if node.kind == "sighted":
        return node.subject
    record = next((getattr(result, n) for n in ("setup", "book", "step") if hasattr(result, n)), None)
    return str(getattr(record, "frame", ""))


def _steps(
    state: JobState, derived: Derived, node: Node, mark: Mark, look: _Look, frame: str = ""
) -> Iterator[Link]:
    """What a step did for a mark, as links."""
    outcome = derived.outcomes.get(node)
    if outcome is None or outcome.result is None:
        return
    own = _own_frame(node, outcome.result)
    spec = state.frames[own].spec if own in state.frames and own != frame else None
    if spec is not None:  # carried from there, and told as it is there
        look = _Look(unit=UNITS[spec.unit], axes=axes_of(spec), style=look.style)
    for step in STEP_KINDS[node.kind].trail(node, outcome.result, mark.id):
        note, native = step.note, PLAIN
        if spec is not None and step.figures[:1] and step.figures[0].kind == "position":
            note = f"in {spec.name} ({spec.unit}); {note}"
        if step.frame:
            there = state.frames[step.frame].spec
            native, where = axes_of(there), _where(step.title, there)
            note = f"{where}; {note}" if note else where
        values = tuple(text for f in step.figures if (text := _figures_text(f, look, native)))
        yield Link(kind="step", title=step.title or outcome.title, note=note, values=values)


def _where(title: str, spec: FrameSpec) -> str:
    over = f" over {spec.height.name or 'its geoid grid'}" if spec.height.kind == "geoid" else ""
    return f"{'into' if title == 'Projected' else 'in'} {spec.name}{over}"


def _figures_text(figures: Figures, look: _Look, native: Axes) -> str:
    if figures.kind == "terms":
        return "   ".join(_term(word, value, kind, look) for word, value, kind in figures.terms)
    values = [v for v in figures.values if np.isfinite(v)]
    if figures.kind == "position":
        e, n, h = figures.values
        if figures.native:  # said where all else here is in another unit
            return triple((e, n, h), METRE, native) + (" m" if look.unit != METRE else "")
        return triple((e, n, h), look.unit, look.axes)
    if figures.kind == "difference":
        return f"{figures.words}  {_way(figures.values, look.axes)}"
    if not values:
        return ""
    return f"± {mm(values[0])} mm" + (f", height ± {mm(values[1])} mm" if len(values) > 1 else "")


def _term(word: str, value: float, kind: str, look: _Look) -> str:
    """A word of arithmetic with its value."""
    style = look.style
    texts = {
        "angle": lambda: format_angle(value, style, usual_decimals(style)),
        "seconds": lambda: f"{format_fixed(value / RAD_PER_SECOND, 1, sign=True)}″",
        "length": lambda: format_fixed(value / look.unit.metres, 4),
        "mm": lambda: f"{mm(value, sign=True)} mm", "ppm": lambda: f"{format_fixed(value, 1, sign=True)} ppm",
        "factor": lambda: f"{value:.7f}", "number": lambda: f"{value:g}",
    }  # fmt: skip
    return f"{word} {texts[kind]()}"


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
        place = triple((measured.e_m or 0.0, measured.n_m or 0.0, math.nan), METRE)
    height = "" if measured.h_m is None else f"h {format_fixed(measured.h_m, 4)} m"
    values = (place, "   ".join(v for v in (height, sigma) if v))
    return Link(kind="record", title="Occupation", note=note, values=tuple(v for v in values if v))


def _amendments(
    state: JobState, record: GivenPosition | MeasuredPosition, unit: LengthUnit, axes: Axes
) -> Iterator[Link]:
    written = {f"{axis.component}_m": axis for axis in axes}
    for entry in state.amendments.get(record.id, ()):
        changes = ", ".join(
            f"{written[field].title if field in written else _plainly(field)} "
            f"{_written(field, entry.old[field], unit, written)} → "
            f"{_written(field, entry.new[field], unit, written)}"
            for field in entry.new
        )
        yield Link(
            kind="amendment", title="Amended", note=entry.reason or "no reason given", values=(changes,)
        )


def _plainly(field: str) -> str:
    return re.sub("_(m|rad)$", "", field).replace("_", " ")


def _written(field: str, value: Any, unit: LengthUnit, axes: dict[str, ShownAxis]) -> str:
    """A value that was amended, with its unit; a coordinate with its sign on the axis it is written on."""
    if value is None or isinstance(value, bool):
        return {None: "none", True: "yes", False: "no"}[value]
    if field.endswith("_m"):
        sign = axes[field].sign if field in axes else 1.0
        return f"{format_fixed(sign * value / unit.metres, 4)} {unit.key}"
    if field.endswith("_rad"):
        return format_latitude(value) if field == "lat_rad" else format_longitude(value)
    return str(value)
