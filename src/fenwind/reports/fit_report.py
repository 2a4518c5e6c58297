"""The report of one fit: statement, parameters, pairs, models, doubts, carried positions, plan."""

from __future__ import annotations

import math
from collections.abc import Sequence

import numpy as np

from fenwind.doubts.registry import Doubt
from fenwind.estimation.engine import LOCAL_ALPHA, LOCAL_POWER
from fenwind.geodesy.axes import ShownAxis, shown_axes
from fenwind.job.steps.fit import MODEL_WORDS
from fenwind.procedures.fit import FitResult
from fenwind.procedures.fit_case import FitCase
from fenwind.quantities.angles import AngleStyle, format_angle
from fenwind.quantities.lengths import METRE, LengthUnit, format_way
from fenwind.quantities.numbers import counted, format_fixed
from fenwind.records.records import Acceptance
from fenwind.reports.evidence import doubt_blocks
from fenwind.reports.figure import fit_figure
from fenwind.reports.model import Figure, Paragraph, Report, Section, Table, Tone
from fenwind.reports.statement import Part, fit_statement, model_words, price_words, sentence


def mm(value: float, *, sign: bool = False, decimals: int = 1) -> str:
    """Millimetres of a length in metres, empty for nan and inf."""
    return format_fixed(value * 1000.0, decimals, sign=sign)


def small(value: float, *, sign: bool = False) -> str:
    """A length in the unit that it reads best in: millimetres without their name, from a metre on metres with
    it."""
    return f"{format_fixed(value, 3, sign=sign)} m" if abs(value) >= 1.0 else mm(value, sign=sign)


def of_one(factor: float | None, decimals: int) -> str:
    """A variance factor, which says nothing more once it is over ten thousand."""
    if factor is None:
        return ""
    return "over 10\u2009000" if factor > 1e4 else format_fixed(factor, decimals)


def role_of(used_h: bool, used_v: bool, has_height: bool) -> str:
    """Part a pair takes, in words."""
    if used_h and used_v:
        return "held"
    if used_h:
        return "held, not in height" if has_height else "held, no height"
    return "held in height" if used_v else "check"


def fit_report(
    case: FitCase,
    doubts: Sequence[Doubt],
    *,
    title: str,
    unit: LengthUnit = METRE,
    statement: Sequence[Part] | None = None,
    accepted: Sequence[tuple[Doubt, Acceptance]] = (),
    angle_style: AngleStyle = "degrees",
    subtitle: str = "",
    axes: tuple[ShownAxis, ShownAxis] = shown_axes(None),
) -> Report:
    """Report of a fit; coordinates in `unit`, residuals in millimetres. accepted: doubts with how they were
    accepted."""
    result = case.result
    used = result.pairs.used_h | result.pairs.used_v
    checks = [n for n, u in zip(result.pairs.names, used, strict=True) if not u]
    parts = statement or fit_statement(
        source=f"measured positions ({len(case.measured)})",
        target=f"known positions ({len(case.known)})",
        horizontal=result.options.horizontal,
        model=result.model,
        height=result.height.model,
        over="the geoid grid" if case.over_geoid else "the ellipsoid" if case.lat_rad is not None else "",
        pivot=result.options.pivot,
        checks=checks,
        fits=model_words(result.models),
        price=price_words(result),
    )
    return Report(
        title=title,
        subtitle=subtitle
        or f"{counted(len(result.pairs.names), 'pair')}, {counted(len(case.measured), 'mark')} carried",
        statement=sentence(parts),
        sections=(
            Section(title="Doubts", blocks=doubt_blocks(doubts, accepted)),
            Section(
                title="Parameters", blocks=(parameter_table(result, unit, angle_style), _quality(result))
            ),
            Section(
                title="Pairs, computed - known",
                blocks=(_pair_table(result), Figure(svg=fit_figure(result, unit), caption=_caption(result))),
            ),
            *((Section(title="Models", blocks=(_model_table(result),)),) if result.models else ()),
            Section(title="Positions", blocks=(_position_table(result, unit, axes),)),
        ),
    )


def _known(sigma: float, words: str) -> str:
    """An uncertainty in words, where there is one."""
    return words if np.isfinite(sigma) else "not known"


def parameter_rows(result: FitResult, unit: LengthUnit, style: AngleStyle) -> list[tuple[str, str, str]]:
    """Name, value and one-sigma uncertainty of every parameter, as text."""
    plan, height = result.plan, result.height
    sigma = np.sqrt(np.diag(plan.covariance))
    shift_e, shift_n = plan.shift
    free_turn, free_scale = sigma[2] != 0, sigma[3] != 0  # not known is not held
    turn = format_angle(plan.rotation_rad, style, 2 if style == "degrees" else 6)
    seconds = math.degrees(sigma[2]) * 3600.0
    turn_sigma = (
        f'{format_fixed(seconds, 2)}"'
        if style == "degrees"
        else f"{format_fixed(sigma[2] * 200000.0 / math.pi, 3)} mgon"
    )
    scale_sigma = f"{format_fixed(sigma[3] * 1e6, 2)} ppm"
    rows = [
        (
            "shift E",
            f"{format_fixed(shift_e / unit.metres, 4)} {unit.key}",
            _known(sigma[0], f"{mm(sigma[0])} mm at the centre"),
        ),
        (
            "shift N",
            f"{format_fixed(shift_n / unit.metres, 4)} {unit.key}",
            _known(sigma[1], f"{mm(sigma[1])} mm at the centre"),
        ),
        ("turn, clockwise", turn, _known(sigma[2], turn_sigma) if free_turn else "held"),
        ("scale", f"{plan.scale:.9f}", _known(sigma[3], scale_sigma) if free_scale else "held"),
    ]
    if height.model != "none":
        sigma_h = np.sqrt(np.diag(height.covariance))
        rows.append(
            (
                "height shift",
                f"{format_fixed(height.shift_m / unit.metres, 4, sign=True)} {unit.key}",
                _known(sigma_h[0], f"{mm(sigma_h[0])} mm"),
            )
        )
        if height.model == "plane":
            for word, slope, s in (
                ("slope to the east", height.slope_e, sigma_h[1]),
                ("slope to the north", height.slope_n, sigma_h[2]),
            ):
                rows.append(
                    (
                        word,
                        f"{format_fixed(slope * 1e6, 2, sign=True)} mm/km",
                        _known(s, f"{format_fixed(s * 1e6, 2)} mm/km"),
                    )
                )
    return rows


def parameter_table(result: FitResult, unit: LengthUnit = METRE, style: AngleStyle = "degrees") -> Table:
    """Parameters of a fit as a table."""
    rows = tuple(parameter_rows(result, unit, style))
    return Table(headers=(("parameter", ""), ("value", ""), ("uncertainty", "1 sigma")), rows=rows)


def _quality(result: FitResult) -> Paragraph:
    return Paragraph(text=quality_line(result))


def quality_line(result: FitResult) -> str:
    """Global tests and checks in a line."""
    words = []
    for what, adjustment in (("plan", result.plan_adjustment), ("height", result.height_adjustment)):
        test = adjustment.global_test if adjustment is not None and result.model != "pivot" else None
        if what == "height" and adjustment is not None:
            test = adjustment.global_test
        if test is None or adjustment is None:
            continue
        factor, limit = test.statistic / adjustment.dof, test.limit / adjustment.dof
        judged = "assumed sigmas" if result.sigmas_assumed else f"{format_fixed(limit, 2)} allowed"
        words.append(
            f"variance factor in {what} {of_one(factor, 2)} ({judged}, {adjustment.dof} degrees of freedom)"
        )
    if result.sigmas_assumed:
        words.append("no sigmas were given, so uncertainties follow the residuals")
    checks = np.flatnonzero(~result.pairs.used_h & ~result.pairs.used_v)
    if checks.size:
        worst = checks[int(np.argmax(result.pairs.misfit_h_m[checks]))]
        dh = result.pairs.dh_m[worst]
        words.append(
            f"check {result.pairs.names[worst]} misses by {format_way(result.pairs.misfit_h_m[worst])} "
            "in plan" + (f", {format_way(abs(dh))} in height" if math.isfinite(dh) else "")
        )
    line = "; ".join(words) + "."
    return line[0].upper() + line[1:] if words else "Nothing in this fit can be tested."


def _pair_table(result: FitResult) -> Table:
    t, options = result.pairs, result.options
    rows: list[tuple[str, ...]] = []
    tones: list[Tone] = []
    for i, name in enumerate(t.names):
        red = t.redundancy[:, i]
        rows.append(
            (
                name,
                role_of(bool(t.used_h[i]), bool(t.used_v[i]), bool(np.isfinite(t.dh_m[i]))),
                small(t.de_m[i], sign=True),
                small(t.dn_m[i], sign=True),
                small(t.dh_m[i], sign=True),
                small(t.loo_h_m[i]),
                small(t.loo_v_m[i], sign=True),
                *(format_fixed(v, 2) for v in red),
                mm(t.detectable[:2, i].max()) if np.isfinite(t.detectable[:2, i]).all() else "",
            )
        )
        over = t.misfit_h_m[i] > options.tolerance_h_m or abs(t.dh_m[i]) > options.tolerance_v_m
        tones.append("doubt" if over else "")
    headers = (
        ("mark", ""),
        ("part", ""),
        ("dE", "mm"),
        ("dN", "mm"),
        ("dH", "mm"),
        ("left out, plan", "mm"),
        ("left out, height", "mm"),
        ("redundancy E", ""),
        ("N", ""),
        ("H", ""),
        ("detectable, plan", "mm"),
    )
    return Table(headers=headers, rows=tuple(rows), tones=tuple(tones), text_columns=2)


def _caption(result: FitResult) -> str:
    words = (
        "Triangles are pairs held in plan, squares checks, rings the other marks carried; lines are "
        "residuals, computed - known."
    )
    if result.model != "pivot":
        words += (
            f" Detectable: the smallest error in one coordinate that a test at {LOCAL_ALPHA:.1%} finds "
            f"with a power of {LOCAL_POWER:.0%}."
        )
    return words


def _model_table(result: FitResult) -> Table:
    rows = tuple(
        (
            MODEL_WORDS[t.model],
            str(t.dof),
            small(t.rms_m),
            of_one(t.variance_factor, 3),
            "" if t.p_value is None else "<0.0001" if t.p_value < 1e-4 else f"{t.p_value:.4f}",
            f"{format_fixed((t.scale - 1) * 1e6, 2, sign=True)}",
            model_words(result.models) if t.recommended else "",
        )
        for t in result.models
    )
    headers = (
        ("model", ""),
        ("dof", ""),
        ("rms", "mm"),
        ("variance factor", ""),
        ("p of what it frees", ""),
        ("scale - 1", "ppm"),
        ("", ""),
    )
    return Table(
        headers=headers, rows=rows, tones=tuple("settled" if t.recommended else "" for t in result.models)
    )


def _position_table(result: FitResult, unit: LengthUnit, axes: tuple[ShownAxis, ShownAxis]) -> Table:
    c = result.carried
    sh, sv = c.sigma_h_m, c.sigma_v_m
    plan = [axis.of(c.e_m, c.n_m) for axis in axes]
    rows = tuple(
        (
            name,
            *(format_fixed(values[i] / unit.metres, 4) for values in plan),
            format_fixed(c.height_m[i] / unit.metres, 4),
            mm(sh[i]),
            mm(sv[i]),
        )
        for i, name in enumerate(c.names)
    )
    headers = (
        ("mark", ""),
        *((axis.title, unit.key) for axis in axes),
        ("H", unit.key),
        ("sigma plan", "mm"),
        ("sigma H", "mm"),
    )
    return Table(headers=headers, rows=rows)
