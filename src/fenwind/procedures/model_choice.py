"""Which of the nested plane models the data need: the simplest that they accept."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from fenwind.estimation.distributions import chi2_tail, f_tail
from fenwind.estimation.engine import Adjustment
from fenwind.procedures.similarity import Similarity

#: Level at which a richer model must be better before it is recommended.
MODEL_ALPHA = 0.01
#: Differences below this are rounding, never evidence for a richer model, metres.
ROUNDING_M = 1e-6


@dataclass(frozen=True, slots=True, kw_only=True)
class ModelTrial:
    """One nested model: dof, variance factor (None without redundancy), root mean square of the residuals in
    metres, and the p-value of the test of what it frees beyond the next simpler one (None for the simplest
    or when untestable). fits: the global test does not reject it, or cannot be made since no sigmas were
    given. sigma_scale, sigma_turn_rad: of these unknowns, None where they are held or it is not known."""

    model: str
    dof: int
    variance_factor: float | None
    rms_m: float
    p_value: float | None
    recommended: bool
    fits: bool
    scale: float
    rotation_rad: float
    sigma_scale: float | None = None
    sigma_turn_rad: float | None = None


def compare_models(
    tried: dict[str, tuple[Similarity, Adjustment]], assumed: bool, sigma_m: float
) -> tuple[ModelTrial, ...]:
    """Compare nested models from simple to rich; the richest whose freed unknown is significant is
    recommended.

    Each is tested against the next simpler one. Where sigmas were given and hold, which is where the richer
    one passes its global test or has no redundancy: the drop of v^T P v is chi-square of the unknowns freed.
    Otherwise F = (drop / unknowns freed) / (variance factor of the richer) (Koch, Parameter Estimation and
    Hypothesis Testing in Linear Models, 2nd edition 1999, section 4.2). The scale is recommended only at
    MODEL_ALPHA.
    """
    floor = (ROUNDING_M / sigma_m) ** 2
    p_values: dict[str, float | None] = {}
    simpler: Adjustment | None = None
    recommended = next(iter(tried))
    for model, (_, adjustment) in tried.items():
        p_values[model] = None if simpler is None else _p_value(simpler, adjustment, assumed, floor)
        p = p_values[model]
        if p is not None and p < MODEL_ALPHA:
            recommended = model
        simpler = adjustment
    return tuple(
        ModelTrial(
            model=model,
            dof=adjustment.dof,
            variance_factor=adjustment.variance_factor,
            rms_m=float(np.sqrt(np.mean(adjustment.residuals**2) * 2.0)),
            p_value=p_values[model],
            recommended=model == recommended,
            fits=assumed or adjustment.global_test is None or adjustment.global_test.accepted,
            scale=plan.scale,
            rotation_rad=plan.rotation_rad,
            sigma_scale=_sigma(plan, adjustment, 3, assumed),
            sigma_turn_rad=_sigma(plan, adjustment, 2, assumed),
        )
        for model, (plan, adjustment) in tried.items()
    )


def _sigma(plan: Similarity, adjustment: Adjustment, unknown: int, assumed: bool) -> float | None:
    """Sigma of an unknown of a similarity; None where it is held or nothing tells how large it is."""
    factor = adjustment.variance_factor if assumed else 1.0
    variance = float(plan.covariance[unknown, unknown])
    return float(np.sqrt(variance * factor)) if factor is not None and variance > 0.0 else None


def _p_value(simple: Adjustment, rich: Adjustment, assumed: bool, floor: float) -> float | None:
    freed = simple.dof - rich.dof
    drop = max(simple.sum_squares - rich.sum_squares, 0.0)
    if freed <= 0:
        return None
    if not assumed and (rich.global_test is None or rich.global_test.accepted):
        return float(chi2_tail(drop / max(floor, 1.0), freed))
    if rich.dof <= 0:
        return None
    factor = max(rich.sum_squares / rich.dof, floor)
    return float(f_tail(drop / freed / factor, freed, rich.dof))
