"""What every report for a signature says beside its own figures: job and dates, the frames in full, where
control comes from, equipment, doubts open and accepted."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import fenwind
from fenwind.doubts.of_job import Findings
from fenwind.doubts.registry import Doubt
from fenwind.errors import FenwindError
from fenwind.geodesy.axes import ShownAxis
from fenwind.geodesy.frames import FrameSpec, axes_of, find_crs
from fenwind.job.state import JobState
from fenwind.quantities.lengths import METRE, UNITS, LengthUnit, format_length
from fenwind.quantities.numbers import format_fixed
from fenwind.records.records import Acceptance
from fenwind.records.sessions import Antenna, Equipment, Occupation
from fenwind.reports.model import Paragraph, Section, Table, Tone

HEIGHTS = {
    "ellipsoid": "above the ellipsoid", "geoid": "above the geoid of a grid",
    "vertical": "of a vertical system", "local": "counted from a zero of their own",
    "unknown": "of an origin that nobody stated",
}  # fmt: skip
SIGNED = ("Surveyor", "Place and date", "Signature")


def facts(state: JobState, computed: str) -> tuple[tuple[str, str], ...]:
    """Job, client, surveyor, when the field work was done and when it was computed, by which version."""
    info = state.info
    days = sorted(o.started[:10] for o in state.of(Occupation).values() if o.active and o.started)
    field = "" if not days else days[0] if days[0] == days[-1] else f"{days[0]} to {days[-1]}"
    rows = (
        ("Job", info.name), ("Client", info.client), ("Surveyor", info.surveyor), ("Field work", field),
        ("Computed", computed), ("With", f"Fenwind {fenwind.__version__}"), ("Notes", info.notes),
    )  # fmt: skip
    return tuple((label, text) for label, text in rows if text)


def unit_and_axes(state: JobState, frame: str) -> tuple[LengthUnit, tuple[ShownAxis, ShownAxis]]:
    """Unit and axes that a frame's coordinates are written in."""
    record = state.frames.get(frame)
    spec = record.spec if record is not None else FrameSpec(name="")
    return (UNITS[spec.unit] if record is not None else METRE), axes_of(spec)


def frames_section(state: JobState, keys: Iterable[str]) -> Section:
    """The frames that a report's figures are in, each in full."""
    rows: list[tuple[str, ...]] = []
    for key in dict.fromkeys(keys):
        record = state.frames.get(key)
        if record is not None:
            rows += [
                (record.spec.name if i == 0 else "", *row) for i, row in enumerate(_in_full(record.spec))
            ]
    table = Table(headers=(("frame", ""), ("", ""), ("", "")), rows=tuple(rows), text_columns=3)
    return Section(title="Frames", blocks=(table,))


def _in_full(spec: FrameSpec) -> list[tuple[str, str]]:
    """A frame's definition, each a label and a text."""
    rows = (
        list(_system(spec)) if spec.crs else [("System", "a local plane with no known relation to the earth")]
    )
    height = spec.height
    named = " ".join(part for part in (height.name, height.crs, height.grid and f"({height.grid})") if part)
    rows.append(("Heights", f"{HEIGHTS[height.kind]}{f': {named}' if named else ''}"))
    first, second = axes_of(spec)
    rows.append(("Written", f"{first.title}, {second.title}, in {UNITS[spec.unit].plural}"))
    return rows


def _system(spec: FrameSpec) -> Iterable[tuple[str, str]]:
    try:
        crs = find_crs(spec.crs)
    except FenwindError as error:
        yield "System", error.message
        return
    code = crs.to_authority()
    yield "System", f"{crs.name}{f' ({code[0]}:{code[1]})' if code else ''}"
    geodetic = crs.geodetic_crs
    if geodetic is not None and geodetic.datum is not None:
        epoch = "" if spec.epoch_year is None else f", epoch {spec.epoch_year:g}"
        plate = f", moving with {spec.plate}" if spec.plate else ""
        yield "Datum", f"{geodetic.datum.name}{epoch}{plate}"
    if crs.ellipsoid is not None:
        a, f = crs.ellipsoid.semi_major_metre, crs.ellipsoid.inverse_flattening
        yield "Ellipsoid", f"{crs.ellipsoid.name}, a = {a:.3f} m, 1/f = {f:.9f}"
    operation = crs.coordinate_operation
    if operation is not None:
        values = [f"{p.name} {p.value:.12g}{_unit_sign(p.unit_name)}" for p in operation.params]
        yield "Projection", f"{operation.method_name}: {', '.join(values)}"


def _unit_sign(unit: str) -> str:
    return {"degree": "°", "metre": " m", "unity": ""}.get(unit, f" {unit}")


def control_section(state: JobState, frame: str, marks: Iterable[str]) -> Section:
    """What is given of some marks (ids) in a frame, and where it comes from."""
    wanted, rows = set(marks), []
    unit, axes = unit_and_axes(state, frame)
    for given in state.given.values():
        if given.mark in wanted and given.frame == frame and given.active and given.mark in state.marks:
            place = {"e": given.e_m, "n": given.n_m}
            mark = state.marks[given.mark]
            rows.append(
                (mark.name, given.source, *(_length(place[a.component], a.sign, unit) for a in axes),
                 _length(given.height_m, 1.0, unit))
            )  # fmt: skip
    if not rows:
        return Section(
            title="Control", blocks=(Paragraph(text="Nothing is given in this frame.", tone="faint"),)
        )
    headers = (("mark", ""), ("source", ""), *((a.title, unit.key) for a in axes), ("H", unit.key))
    return Section(title="Control", blocks=(Table(headers=headers, rows=tuple(rows), text_columns=2),))


def _length(value: float | None, sign: float, unit: LengthUnit) -> str:
    return "" if value is None else format_fixed(sign * value / unit.metres, 4)


def equipment_section(state: JobState) -> tuple[Section, ...]:
    """Antennas that were measured with, and how high they stood by default; none where there are none."""
    rows = [
        (a.model, format_length(a.radius_m, decimals=4), format_length(a.arp_to_l1_m, decimals=4))
        for a in state.of(Antenna).values() if a.active
    ]  # fmt: skip
    if not rows:
        return ()
    table = Table(
        headers=(("antenna", ""), ("radius to the rim", ""), ("L1 over its reference point", "")),
        rows=tuple(rows),
    )  # fmt: skip
    used = state.of(Equipment).get("equipment")
    words = "" if used is None else (
        f"Epochs count while the solution is {used.solution}, {used.epochs} to an occupation."
    )  # fmt: skip
    return (Section(title="Equipment", blocks=(table, *((Paragraph(text=words),) if words else ()))),)


def doubts_section(findings: Findings, key: str) -> Section:
    """Doubts about a step that are open, and those accepted, by whom and why."""
    mine = [d for d in findings.open if d.subject == key]
    accepted = [(d, a) for d, a in findings.accepted if d.subject == key]
    return Section(title="Doubts", blocks=doubt_blocks(mine, accepted))


def doubt_blocks(
    doubts: Sequence[Doubt], accepted: Sequence[tuple[Doubt, Acceptance]]
) -> tuple[Paragraph, ...]:
    """Doubts as paragraphs."""
    tones: dict[bool, Tone] = {True: "doubt", False: "caution"}
    blocks = [Paragraph(text=("Grave: " if d.grave else "") + d.text, tone=tones[d.grave]) for d in doubts]
    blocks += [
        Paragraph(text=f"Accepted{f' by {a.by}' if a.by else ''}: {d.text} Reason: {a.reason}", tone="faint")
        for d, a in accepted
    ]
    return tuple(blocks) or (Paragraph(text="None.", tone="settled"),)


def names_of(state: JobState, keys: Sequence[str]) -> list[str]:
    """Names of marks."""
    return [state.mark_name(key) for key in keys]
