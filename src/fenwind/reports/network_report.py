"""Reports of networks and of setups, for a signature: datum, weights, tests, residuals, coordinates,
ellipses, the figure."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from fenwind.doubts.of_job import Findings
from fenwind.errors import FenwindError
from fenwind.estimation.distributions import plan_reach
from fenwind.job.derive import Derived
from fenwind.job.state import JobState
from fenwind.job.steps.network import Adjusted
from fenwind.job.steps.setup import Placed
from fenwind.procedures.positions import Positions
from fenwind.procedures.regions import ellipses
from fenwind.quantities.angles import RAD_PER_SECOND, format_angle, usual_decimals
from fenwind.quantities.bearings import format_azimuth
from fenwind.quantities.lengths import format_length
from fenwind.quantities.numbers import format_fixed
from fenwind.reports import evidence
from fenwind.reports.fit_report import mm
from fenwind.reports.model import Figure, Paragraph, Report, Section, Table
from fenwind.reports.network_words import missing_words, opinion_words, weighing_words
from fenwind.reports.plan_figure import PlanContent, plan_figure
from fenwind.reports.setup_words import grid_words, rounds_words, scale_words, treated_words

FloatArray = NDArray[np.float64]
ANGLES = ("direction", "angle", "azimuth", "zenith")
DATUM = {"hold": "is held", "weighted": "has weight", "free": "only says where the free network lies"}


def network_report(
    state: JobState, derived: Derived, findings: Findings, key: str, computed: str
) -> Report | None:
    """What was observed with residual, test and reliability, and where the marks came to lie."""
    found = derived.of_kind("network").get(key)
    if found is None or isinstance(found, FenwindError):
        return None
    step, names = found.step, [state.mark_name(k) for k in found.positions.names]
    held = frozenset(n for n in names if n in found.result.net.control)
    at = np.stack([found.positions.e_m, found.positions.n_m])
    content = PlanContent(
        names=tuple(names), at=at, held=held, lines=[(r.at, r.to) for r in found.result.net.rows],
        ellipses=_shapes(found.positions), unit=evidence.unit_and_axes(state, step.frame)[0],
    )  # fmt: skip
    figure = plan_figure(content, "Plan of the network")
    caption = "Triangles are given marks, rings the others; lines are observations, ellipses hold 95 %."
    return Report(
        title=state.info.name, subtitle=step.name, statement=_network_words(state, found),
        facts=evidence.facts(state, computed), signed=evidence.SIGNED,
        sections=(
            evidence.doubts_section(findings, key),
            Section(title="Test of the whole", blocks=(Paragraph(text=_whole(found)),)),
            Section(title="Observations", blocks=(_observations(found),)),
            Section(
                title="Positions",
                blocks=(_positions(state, step.frame, found.positions, names),
                        *((Figure(svg=figure, caption=caption),) if figure else ())),
            ),
            evidence.frames_section(state, [step.frame]),
            evidence.control_section(state, step.frame, found.positions.names),
            *evidence.equipment_section(state),
        ),
    )  # fmt: skip


def _network_words(state: JobState, found: Adjusted) -> str:
    step, kinds = found.step, [row.kind for row in found.result.net.rows]
    many = {"zenith": "zenith angles"}
    count = ", ".join(
        f"{kinds.count(k)} {many.get(k, k.replace('_', ' ') + 's')}" for k in dict.fromkeys(kinds)
    )
    source = f" from {found.observations.source}" if found.observations.source else ""
    plumb = ", directions and heights reduced to the plumb line of its geoid" if (
        found.result.net.geoid is not None) else ""  # fmt: skip
    frame = state.frames[step.frame].spec.name if step.frame in state.frames else "?"
    return (
        f"{step.name} adjusts {count}{source} in {frame} in {_dimensions(found)}; what is given there "
        f"{DATUM[step.datum]}{plumb}.{_weighing(found)} " + missing_words(found)
    ).rstrip()


def _weighing(found: Adjusted) -> str:
    """How observations are weighed, where that is not as they state."""
    step, said = found.step, weighing_words(found)
    if step.centring_m:
        said += f"Instruments and targets are taken as centred to {mm(step.centring_m)} mm. "
    if step.down:
        many = len(step.down)
        said += f"{many} observation{'s are' if many > 1 else ' is'} weighed down. "
    return f" {said}".rstrip()


def _dimensions(found: Adjusted) -> str:
    return {1: "height", 2: "plan", 3: "three dimensions"}[found.result.net.dimensions]


def _whole(found: Adjusted) -> str:
    step, dof = found.step, found.result.found.dof if found.result.found is not None else 0
    if found.variance_factor is None or found.p_value is None:
        return "Nothing is left over: nothing can be tested."
    p = "under 0.0001" if found.p_value < 1e-4 else f"{found.p_value:.4f}"
    lost = f" Not determined: {', '.join(found.result.lost)}." if found.result.lost else ""
    return (
        f"Variance factor {format_fixed(found.variance_factor, 2)} with {dof} degrees of freedom, "
        "probability "
        f"{p} (global test, chi-square). Observations are tested by w with alpha {step.alpha:g}; the "
        "smallest "
        f"error stated is found with power {step.power:.0%} (Baarda). Sigmas are those of the "
        "observations, not "
        f"multiplied by the variance factor.{lost} {opinion_words(found)}".rstrip()
    )


def _observations(found: Adjusted) -> Table:
    rows = []
    for i, row in enumerate(found.result.net.rows):
        figures = found.figures.get(i)
        if figures is None:
            continue
        c = int(np.abs(np.nan_to_num(figures.w)).argmax())
        angle = row.kind in ANGLES

        def shown(value: float, sign: bool = False, angle: bool = angle) -> str:
            if math.isnan(value):
                return ""
            if angle:
                return f"{format_fixed(value / RAD_PER_SECOND, 1, sign=sign)}″"
            return f"{mm(value, sign=sign)} mm"

        kind = row.kind.replace("zenith", "zenith angle").replace("_", " ")
        rows.append(
            (kind, row.at, row.to, shown(float(figures.residual[c]), True),
             format_fixed(float(figures.w[c]), 2, sign=True), format_fixed(float(figures.redundancy[c]), 2),
             shown(float(figures.mdb[c])), shown(float(figures.external[c]), angle=False))
        )  # fmt: skip
    headers = (("kind", ""), ("at", ""), ("to", ""), ("adjusted - observed", ""), ("w", ""),
               ("redundancy", ""), ("smallest error found", ""), ("moves its mark", ""))  # fmt: skip
    return Table(headers=headers, rows=tuple(rows), text_columns=3)


def _positions(state: JobState, frame: str, points: Positions, names: list[str]) -> Table:
    unit, axes = evidence.unit_and_axes(state, frame)
    shapes = _shapes(points)
    rows = []
    for i, name in enumerate(names):
        a, b, azimuth = (float(v) for v in shapes[:, i])
        ellipse = "" if math.isnan(a) else f"{mm(a)} × {mm(b)}"
        circle = math.isnan(a) or mm(a) == mm(b)  # a circle points nowhere
        turn = "" if circle else format_azimuth(azimuth, state.info.angle_style, 0)
        rows.append(
            (name, *(format_fixed(float(x.of(points.e_m[i], points.n_m[i])) / unit.metres, 4) for x in axes),
             format_fixed(float(points.height_m[i]) / unit.metres, 4), mm(float(points.sigma_h_m[i])),
             mm(float(points.sigma_v_m[i])), ellipse, turn)
        )  # fmt: skip
    headers = (("mark", ""), *((x.title, unit.key) for x in axes), ("H", unit.key), ("sigma plan", "mm"),
               ("sigma H", "mm"), ("ellipse 95 %", "mm"), ("its azimuth", ""))  # fmt: skip
    return Table(headers=headers, rows=tuple(rows))


def _shapes(points: Positions) -> FloatArray:
    """Semi-axes and azimuth (3, k) of the 95 % ellipses, nan where there are none."""
    a, b, azimuth = ellipses(np.nan_to_num(points.covariance[:2, :2]))
    shapes = np.stack([plan_reach() * a, plan_reach() * b, azimuth])
    return np.where((shapes[0] > 1e-9) & np.isfinite(points.covariance[0, 0]), shapes, np.nan)


# Setups
# ---------------------------------------------------------------------------------------------------------


def setup_report(
    state: JobState, derived: Derived, findings: Findings, key: str, computed: str
) -> Report | None:
    """What was sighted, reduced, what each sighting leaves over, checks, and where what is new came to
    lie."""
    found = derived.of_kind("setup").get(key)
    if found is None or isinstance(found, FenwindError):
        return None
    setup, names = found.setup, [state.mark_name(k) for k in found.new.names]
    blocks = [_sightings(state, found)]
    new = (_positions(state, setup.frame, found.new, names),) if names else (
        Paragraph(text="It gives no new position.", tone="faint"),)  # fmt: skip
    known = [k for k in (setup.station, *setup.target) if k in found.known]
    return Report(
        title=state.info.name, subtitle=f"{setup.name}, from {setup.source}" if setup.source else setup.name,
        statement=_setup_words(state, found), facts=evidence.facts(state, computed), signed=evidence.SIGNED,
        sections=(
            evidence.doubts_section(findings, key),
            Section(title="Sightings", blocks=tuple(blocks)),
            Section(title="Positions", blocks=new),
            evidence.frames_section(state, [setup.frame]),
            evidence.control_section(state, setup.frame, known),
        ),
    )  # fmt: skip


def _setup_words(state: JobState, found: Placed) -> str:
    s, f = found.setup, found.found
    place = "placed by what it sighted" if s.word == "free" else "over a known mark"
    unit, axes = evidence.unit_and_axes(state, s.frame)
    at = [f"{a.title} {format_fixed(a.of(f.e, f.n) / unit.metres, 4)}" for a in axes]
    at += [] if math.isnan(f.h) else [f"H {format_fixed(f.h / unit.metres, 4)}"]
    factor = f"; {f.dof} left over, variance factor {format_fixed(f.variance_factor, 2)}" if (
        f.variance_factor is not None) else ""  # fmt: skip
    own = " in the middle, each by its own line's" if s.grid and found.factor != 1.0 else ""
    return (
        f"{s.name} at {state.mark_name(s.station)}, {place}, {format_length(s.height_m, unit, 3)} high: "
        f"{', '.join(at)} {unit.key}{factor}{scale_words(found)}; distances "
        f"{grid_words(s.grid, found.factor)}{own}, {treated_words(s)}; "
        f"refraction {s.k:g}, directions of {s.sigma_direction_s:g}″, "
        f"zenith angles of {s.sigma_zenith_s:g}″, distances of {s.sigma_distance_m * 1000:g} mm + "
        f"{s.sigma_distance_ppm:g} ppm. {rounds_words(found)}"
    ).rstrip()


def _sightings(state: JobState, found: Placed) -> Table:
    s, style = found.setup, state.info.angle_style
    unit, _ = evidence.unit_and_axes(state, s.frame)

    def length(value: float | None, decimals: int = 4, sign: bool = False) -> str:
        return "" if value is None else format_fixed(value / unit.metres, decimals, sign=sign)

    rows = []
    for i, key in enumerate(s.target):
        k = found.rows[i]
        left = [""] * 3
        if k >= 0:
            v = found.found.residuals[:, k]
            left = [
                "" if math.isnan(v[0]) else f"{format_fixed(float(v[0]) / RAD_PER_SECOND, 1, sign=True)}″",
                mm(float(v[1]), sign=True), mm(float(v[2]), sign=True),
            ]  # fmt: skip
        zenith, distance = s.zenith_rad[i], s.distance_m[i]
        rows.append(
            (state.mark_name(key), found.part[i],
             format_angle(s.direction_rad[i], style, usual_decimals(style)),
             "" if zenith is None else format_angle(zenith, style, usual_decimals(style)),
             length(distance), length(s.target_height_m[i], 3), mm(s.prism_m[i]),
             length(float(found.reduced.hd[i])), length(float(found.reduced.dh[i]), sign=True), *left)
        )  # fmt: skip
    headers = (
        ("target", ""), ("part", ""), ("circle", ""), ("zenith angle", ""), ("slope distance", unit.key),
        ("target height", unit.key), ("prism", "mm"), ("horizontal distance", unit.key), ("dh", unit.key),
        ("left over, direction", ""), ("distance", "mm"), ("height", "mm"),
    )  # fmt: skip
    return Table(headers=headers, rows=tuple(rows), text_columns=2)
