"""Rules about what a fit can prove: checks, redundancy, tolerances and the scale."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from fenwind.doubts.registry import Doubt, Remedy
from fenwind.procedures.fit_case import FitCase
from fenwind.procedures.ratio_causes import fitting, ratios
from fenwind.quantities.lengths import format_way
from fenwind.quantities.numbers import format_fixed

#: Multiple of its sigma a scale must be off before it is believed; two-sided 0.1 %.
SCALE_REACH = 3.29
#: Effect of a scale over the pairs below which it does not matter, metres.
SCALE_EFFECT_M = 0.005


def residual_over_tolerance(case: FitCase) -> Iterator[Doubt]:
    """Residuals, of pairs held and of checks, over the tolerance."""
    table, options = case.result.pairs, case.result.options
    for what, size, limit in (
        ("plan", table.misfit_h_m, options.tolerance_h_m),
        ("height", np.abs(table.dh_m), options.tolerance_v_m),
    ):
        over = np.flatnonzero(size > limit)
        if not over.size:
            continue
        over = over[np.argsort(-size[over])]
        names = tuple(table.names[i] for i in over)
        worst = float(size[over[0]])
        listed = ", ".join(names[:4]) + (f" and {len(names) - 4} more" if len(names) > 4 else "")
        yield Doubt(
            rule=f"fit.residual-{what}",
            subject=case.subject,
            names=names,
            text=f"Over the tolerance of {format_fixed(limit * 1000, 0)} mm in {what}: {listed}; the "
            "worst by "
            f"{format_way(worst)}.",
            value=worst,
            limit=limit,
            limit_source="tolerance of this fit; 10 and 20 mm are common practice, no source",
            grave=True,
            remedies=(Remedy(kind="check", label=f"hold out {names[0]} as a check", names=(names[0],)),),
        )


def no_check(case: FitCase) -> Iterator[Doubt]:
    """No pair took no part, so nothing outside the fit confirms it."""
    table = case.result.pairs
    if case.result.model != "pivot" and (~table.used_h & np.isfinite(table.de_m) & ~(table.used_v)).any():
        return
    if case.result.model == "pivot" and (~table.used_h).any():
        return
    yield Doubt(
        rule="fit.no-check",
        subject=case.subject,
        names=(),
        text="No pair is left to check with: hold one out, or measure another known mark.",
        value=0.0,
        limit=1.0,
        unit="pairs",
    )


def no_redundancy(case: FitCase) -> Iterator[Doubt]:
    """As many observations as unknowns: residuals are zero whatever is wrong."""
    result = case.result
    # A pivot is without redundancy by its nature; the other pairs stand beside it as checks.
    plan = result.plan_adjustment.dof <= 0 and not (result.model == "pivot" and (~result.pairs.used_h).any())
    height = result.height_adjustment is not None and result.height_adjustment.dof <= 0
    if not (plan or height):
        return
    where = "plan and height" if plan and height else "plan" if plan else "height"
    yield Doubt(
        rule="fit.no-redundancy",
        subject=case.subject,
        names=(),
        text=f"In {where} the pairs held just suffice: their residuals are zero whatever is wrong with "
        "them. Hold another pair.",
        value=0.0,
        limit=1.0,
        unit="degrees of freedom",
        limit_source="least squares",
    )


def pair_scale(case: FitCase) -> tuple[float, float, float] | None:
    """The scale that the pairs of a fit show in plan, its sigma, and their extent (m); None where they show
    none."""
    trial = next((t for t in case.result.models if t.model == "scale"), None)
    if trial is None or trial.dof <= 0 or trial.variance_factor is None:
        return None
    if case.majority is not None and not case.majority.agrees[case.result.pairs.used_h].all():
        return None  # a pair that stands out bends the scale; it has its own doubt
    used = case.pairs.source[:, case.result.pairs.used_h]
    spread = float(np.sqrt(np.sum((used - used.mean(axis=1)[:, None]) ** 2)))
    if spread == 0.0:
        return None
    sigma = trial.rms_m / np.sqrt(2.0) / spread * np.sqrt(2.0 * used.shape[1] / trial.dof)
    return trial.scale, float(sigma), float(np.ptp(used, axis=1).max(initial=0.0))


def scale_reason(case: FitCase) -> Iterator[Doubt]:
    """A scale that the pairs show, or that the fit uses, without a reason that somebody gave; told with what
    explains it."""
    case = case.in_plan
    found, used = pair_scale(case), case.result.plan.scale
    if case.scale_reason:
        return
    scale, sigma = used, 0.0
    if found is not None:
        shown = abs(found[0] - 1.0) > max(SCALE_REACH * found[1], SCALE_EFFECT_M / max(found[2], 1.0))
        sigma = found[1]
        scale = found[0] if shown and used == 1.0 else used
    if scale == 1.0:
        return
    ppm, words = (scale - 1.0) * 1e6, "nothing known explains it"
    if case.place is not None:
        fit = fitting(scale, max(SCALE_REACH * sigma * 1e6, 1.0), ratios(case.place))
        likely = sorted(fit, key=lambda c: c.key != "combined-factor")
        words = f"it is {likely[0].text}" if likely else words
    yield Doubt(
        rule="fit.scale-reason",
        subject=case.subject,
        names=(),
        text=f"A scale of {format_fixed(ppm, 1, sign=True)} ppm and no reason given: {words}. Give the "
        "reason, or hold the scale at 1.",
        value=ppm,
        limit=0.0,
        unit="ppm",
    )


def scale_unexplained(case: FitCase) -> Iterator[Doubt]:
    """A scale off 1 by more than lies between grid and ground in this frame."""
    case = case.in_plan
    found = pair_scale(case)
    if found is None:
        return
    scale, sigma, extent = found
    ground = 1.0 / case.combined_factor if case.combined_factor else 1.0
    low, high = min(1.0, ground), max(1.0, ground)
    off = max(low - scale, scale - high, 0.0)
    if off <= SCALE_REACH * sigma or off * extent < SCALE_EFFECT_M:
        return
    explained = (
        f"; the combined factor of the frame explains {format_fixed((ground - 1) * 1e6, 1)} ppm"
        if case.combined_factor
        else ""
    )
    if case.place is not None:
        others = fitting(scale, SCALE_REACH * sigma * 1e6, ratios(case.place))
        explained += "".join(f"; it is {c.text}" for c in others[:2])
    yield Doubt(
        rule="fit.scale",
        subject=case.subject,
        names=(),
        text=f"The pairs want a scale of {format_fixed((scale - 1) * 1e6, 1, sign=True)} ± "
        f"{format_fixed(sigma * 1e6, 1)} ppm"
        f"{explained}.",
        value=(scale - 1.0) * 1e6,
        limit=(ground - 1.0) * 1e6,
        unit="ppm",
        limit_source="combined factor at the pairs" if case.combined_factor else "scale 1",
        grave=True,
    )
