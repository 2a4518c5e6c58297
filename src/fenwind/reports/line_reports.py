"""Reports of traverses and of levelling, for a signature."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from fenwind.doubts.of_job import Findings
from fenwind.errors import FenwindError
from fenwind.estimation.distributions import plan_reach
from fenwind.geodesy.axes import ShownAxis
from fenwind.job.derive import Derived
from fenwind.job.state import JobState
from fenwind.job.steps.levelled import Levelled
from fenwind.job.steps.traverse import Walked
from fenwind.procedures.regions import ellipses
from fenwind.quantities.angles import RAD_PER_SECOND, format_angle, usual_decimals
from fenwind.quantities.lengths import LengthUnit
from fenwind.quantities.numbers import format_fixed
from fenwind.reports import evidence
from fenwind.reports.fit_report import mm
from fenwind.reports.model import Figure, Paragraph, Report, Section, Table
from fenwind.reports.plan_figure import PlanContent, plan_figure

FloatArray = NDArray[np.float64]
UnitAxes = tuple[LengthUnit, tuple[ShownAxis, ShownAxis]]
METHODS = {
    "compass": "the compass rule", "transit": "the transit rule", "lsq": "least squares",
    "none": "no adjustment",
}  # fmt: skip
KINDS = {"right": "angle right", "left": "angle left", "deflection": "deflection", "azimuth": "azimuth"}


def traverse_report(
    state: JobState, derived: Derived, findings: Findings, key: str, computed: str
) -> Report | None:
    """What was booked, its misclosures against their limits, stations before and after with corrections."""
    found = derived.of_kind("traverse").get(key)
    if found is None or isinstance(found, FenwindError):
        return None
    book, unit_axes = found.book, evidence.unit_and_axes(state, found.book.frame)
    known = {*book.here, *book.there, book.back, book.close, book.fore} - set(found.new.names)
    return Report(
        title=state.info.name, subtitle=f"{book.name}, from {book.source}" if book.source else book.name,
        statement=_traverse_words(found), facts=evidence.facts(state, computed), signed=evidence.SIGNED,
        sections=(
            evidence.doubts_section(findings, key),
            Section(title="Misclosures", blocks=(_misclosures(found, unit_axes),)),
            Section(title="As it was booked", blocks=(_booked(state, found, unit_axes[0]),)),
            Section(
                title="Stations, walked and adjusted",
                blocks=(
                    _stations(found, unit_axes),
                    Figure(svg=_figure(found, unit_axes[0]), caption=_CAPTION),
                ),
            ),
            *_side_shots(found, unit_axes),
            evidence.frames_section(state, [book.frame]),
            evidence.control_section(state, book.frame, known),
            *evidence.equipment_section(state),
        ),
    )  # fmt: skip


_CAPTION = "Triangles are known marks, rings stations; lines are legs and side shots, ellipses hold 95 %."


def _traverse_words(found: Walked) -> str:
    book, work = found.book, found.work
    figure = "open" if work.ends.close is None else "a loop" if work.ends.loop else "a link"
    grid = (
        f", distances brought to the grid by {found.factor:.7f} in the middle, each by its own line's"
        if found.factor != 1.0
        else ""
    )
    return (
        f"{book.name} from {work.names[0]} to {work.names[-1]} over {len(work.legs)} legs, {figure}, "
        "adjusted "
        f"by {METHODS[book.method]}, angles {'balanced' if book.balance else 'as booked'}{grid}; angles of "
        f"{book.sigma_angle_s:g}″, distances of {book.sigma_distance_m * 1000:g} mm + "
        f"{book.sigma_distance_ppm:g} ppm."
    )


def _misclosures(found: Walked, unit_axes: UnitAxes) -> Table | Paragraph:
    r, book, (unit, axes) = found.found, found.book, unit_axes
    if found.work.ends.close is None:
        return Paragraph(text="The traverse is open: nothing checks it.", tone="caution")
    rows = []
    if not math.isnan(r.angular):
        seconds, limit = r.angular / RAD_PER_SECOND, found.angle_limit / RAD_PER_SECOND
        rows.append(("angles", f"{format_fixed(seconds, 1, sign=True)}″", f"{format_fixed(limit, 1)}″"))
    e, n, h = (float(v) for v in r.misclosure)
    rows += [(a.title, f"{mm(a.of(e, n), sign=True)} mm", "") for a in axes]
    rows += [] if math.isnan(h) else [("H", f"{mm(h, sign=True)} mm", "")]
    allowed = r.length / book.spec
    rows.append(("in plan", f"{mm(r.linear)} mm", f"{mm(allowed)} mm"))
    ratio = f"1:{r.ratio:.0f}" if not math.isnan(r.ratio) else "none"
    rows.append(
        (
            "of the length",
            f"{ratio} of {format_fixed(r.length / unit.metres, 3)} {unit.key}",
            f"1:{book.spec:.0f}",
        )
    )
    return Table(
        headers=(("misclosure", "computed - known"), ("value", ""), ("allowed", "")), rows=tuple(rows)
    )


def _booked(state: JobState, found: Walked, unit: LengthUnit) -> Table:
    book, style = found.book, state.info.angle_style
    here, there = evidence.names_of(state, book.here), evidence.names_of(state, book.there)
    rows = [
        (here[i], there[i], KINDS[book.kind[i]],
         format_angle(book.direction_rad[i], style, usual_decimals(style)),
         format_fixed(book.distance_m[i] / unit.metres, 4),
         "" if dh is None else format_fixed(dh / unit.metres, 4, sign=True),
         "side shot" if found.leg[i] < 0 else "")
        for i, dh in enumerate(book.dh_m)
    ]  # fmt: skip
    headers = (("from", ""), ("to", ""), ("direction", ""), ("value", ""), ("distance", unit.key),
               ("dh", unit.key), ("", ""))  # fmt: skip
    return Table(headers=headers, rows=tuple(rows), text_columns=3)


def _stations(found: Walked, unit_axes: UnitAxes) -> Table:
    unit, axes = unit_axes
    r, index = found.found, found.new.index
    flat = bool(np.isnan(r.adjusted[2]).all())
    which = [("en".index(a.component), a.title, a.sign) for a in axes] + ([] if flat else [(2, "H", 1.0)])
    rows = []
    for i, (name, key) in enumerate(zip(found.work.names, found.stations, strict=True)):
        row = index.get(key)
        sigma = "held" if row is None else mm(float(found.new.sigma_h_m[row]))
        rows.append(
            (name,
             *(format_fixed(sign * float(r.unadjusted[k, i]) / unit.metres, 4) for k, _, sign in which),
             *(mm(sign * float(r.adjusted[k, i] - r.unadjusted[k, i]), sign=True) for k, _, sign in which),
             *(format_fixed(sign * float(r.adjusted[k, i]) / unit.metres, 4) for k, _, sign in which),
             sigma)
        )  # fmt: skip
    headers = (
        ("station", ""), *((f"{t} walked", unit.key) for _, t, _ in which),
        *((f"Δ{t}", "mm") for _, t, _ in which), *((t, unit.key) for _, t, _ in which),
        ("sigma plan", "mm"),
    )  # fmt: skip
    return Table(headers=headers, rows=tuple(rows))


def _side_shots(found: Walked, unit_axes: UnitAxes) -> tuple[Section, ...]:
    if not found.work.shots:
        return ()
    unit, axes = unit_axes
    rows = [
        (shot.here, shot.there,
         *(format_fixed(float(a.of(at[0], at[1])) / unit.metres, 4) for a in axes),
         format_fixed(float(at[2]) / unit.metres, 4))
        for shot, at in zip(found.work.shots, found.found.shots.T, strict=True)
    ]  # fmt: skip
    headers = (("from", ""), ("to", ""), *((a.title, unit.key) for a in axes), ("H", unit.key))
    return (Section(title="Side shots", blocks=(Table(headers=headers, rows=tuple(rows), text_columns=2),)),)


def _figure(found: Walked, unit: LengthUnit) -> str:
    work, index = found.work, found.new.index
    names = [*work.names, *(s.there for s in work.shots)]
    at = np.concatenate([found.found.adjusted[:2], found.found.shots[:2]], axis=1)
    shape = np.full((3, len(names)), np.nan)
    for i, key in enumerate((*found.stations, *found.shots)):
        row = index.get(key)
        if row is not None:
            a, b, azimuth = ellipses(found.new.covariance[:2, :2, [row]])
            shape[:, i] = plan_reach() * a[0], plan_reach() * b[0], azimuth[0]
    held = frozenset(n for n, key in zip(work.names, found.stations, strict=True) if key not in index)
    lines = [*zip(work.names, work.names[1:], strict=False), *((s.here, s.there) for s in work.shots)]
    content = PlanContent(names=tuple(names), at=at, held=held, lines=lines, ellipses=shape, unit=unit)
    return plan_figure(content, "Plan of the traverse")


# Levelling
# ---------------------------------------------------------------------------------------------------------


def levelling_report(
    state: JobState, derived: Derived, findings: Findings, key: str, computed: str
) -> Report | None:
    """Loops and lines against their limit, runs with what is left over, heights with their sigmas."""
    found = derived.of_kind("levelling").get(key)
    if found is None or isinstance(found, FenwindError):
        return None
    book = found.book
    unit, _ = evidence.unit_and_axes(state, book.frame)
    held = [k for k in found.known if k not in book.free]
    heights = [
        (name, format_fixed(float(h) / unit.metres, 4), mm(float(s)) if s else "held")
        for name, h, s in zip(found.found.names, found.found.height_m, found.found.sigma_m, strict=True)
    ]  # fmt: skip
    table = Table(headers=(("mark", ""), ("height", unit.key), ("sigma", "mm")), rows=tuple(heights))
    return Report(
        title=state.info.name, subtitle=f"{book.name}, from {book.source}" if book.source else book.name,
        statement=_levelling_words(found), facts=evidence.facts(state, computed), signed=evidence.SIGNED,
        sections=(
            evidence.doubts_section(findings, key),
            Section(title="Loops and lines", blocks=(_loops(found),)),
            Section(title="Runs", blocks=(_runs(state, found, unit),)),
            Section(title="Heights", blocks=(table,)),
            evidence.frames_section(state, [book.frame]),
            evidence.control_section(state, book.frame, held),
        ),
    )  # fmt: skip


def _levelling_words(found: Levelled) -> str:
    book, size = found.book, _size(found)
    factor = found.found.variance_factor
    rest = f"; {found.found.dof} left over, variance factor {format_fixed(factor, 2)}" if factor else ""
    return (
        f"{book.name}: {len(found.rows)} runs, heights of {', '.join(found.work.control)} held, a run "
        "good to "
        f"{mm(book.sigma_m)} mm and a loop allowed {mm(book.limit_m)} mm a root {size}{rest}."
    )


def _size(found: Levelled) -> str:
    return "set-up" if found.book.length_kind == "setups" else "km"


def _loops(found: Levelled) -> Table | Paragraph:
    if not found.found.loops:
        return Paragraph(text="Nothing closes: there is no loop and no second benchmark.", tone="caution")
    rows = [
        (" – ".join(loop.names), format_fixed(loop.length, 3), mm(loop.misclosure_m, sign=True, decimals=2),
         mm(loop.limit_m, decimals=2))
        for loop in found.found.loops
    ]  # fmt: skip
    over = [abs(loop.misclosure_m) > loop.limit_m for loop in found.found.loops]
    headers = (("way", ""), ("length", _size(found)), ("misclosure", "mm"), ("allowed", "mm"))
    return Table(headers=headers, rows=tuple(rows), tones=tuple("doubt" if o else "" for o in over))


def _runs(state: JobState, found: Levelled, unit: LengthUnit) -> Table:
    book, place = found.book, {i: k for k, i in enumerate(found.rows)}
    first, second = evidence.names_of(state, book.first), evidence.names_of(state, book.second)
    rows = []
    for i, dh in enumerate(book.dh_m):
        k = place.get(i)
        left = "left out" if k is None else mm(float(found.found.residuals_m[k]), sign=True, decimals=2)
        rows.append(
            (
                first[i],
                second[i],
                format_fixed(dh / unit.metres, 4, sign=True),
                format_fixed(book.length[i], 3),
                left,
            )
        )
    headers = (
        ("from", ""),
        ("to", ""),
        ("dh", unit.key),
        ("length", _size(found)),
        ("adjusted - observed", "mm"),
    )
    return Table(headers=headers, rows=tuple(rows), text_columns=2)
