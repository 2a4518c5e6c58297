"""The price of the simplest model: what a scale, or a turn, too small for the pairs to show would do to marks
far from them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.estimation.distributions import normal_quantile, t_quantile
from fenwind.procedures.fit import FitResult
from fenwind.procedures.hull import distance_outside
from fenwind.procedures.model_choice import MODEL_ALPHA, ModelTrial
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.quantities.numbers import format_fixed

FloatArray = NDArray[np.float64]

#: Power with which a model's test must find what is called detectable.
POWER = 0.80
#: How far outside the pairs a mark may lie, as part of the pairs' extent, before it is far.
OUTSIDE_PART = 0.5


@dataclass(frozen=True, kw_only=True, eq=False)
class Unseen:
    """The smallest scale (as a ratio less 1) and turn (radians) that the choice of the model would have
    found; 0 where the model has it free. Over the carried marks (n,): outside_m how far they lie outside the
    pairs, and effect_m what both could do there."""

    scale: float
    turn_rad: float
    outside_m: FloatArray
    effect_m: FloatArray


def unseen(result: FitResult) -> Unseen | None:
    """None where the model was not chosen among simpler and richer ones, frees all, or cannot be tested.

    Detectable is what a two-sided test of the freed unknown at MODEL_ALPHA finds with POWER: its sigma times
    the sum of both quantiles (Baarda, A testing procedure for use in geodetic networks, 1968, in one
    dimension); of t in place of the normal where sigmas come from the residuals.
    """
    rows = result.pairs.measured_rows[result.pairs.used_h]
    trials = {t.model: t for t in result.models}
    if result.options.horizontal != "auto" or result.model == "scale" or rows.size < 2:
        return None
    freed = {"scale": trials.get("scale"), "turn": trials.get("turn") if result.model == "shift" else None}
    sizes: dict[str, float] = {}
    for name, trial in freed.items():
        sigma = None if trial is None else trial.sigma_scale if name == "scale" else trial.sigma_turn_rad
        sizes[name] = 0.0
        if trial is not None and sigma is not None:
            sizes[name] = sigma * _detectable(trial, result.sigmas_assumed)
    if not any(sizes.values()):
        return None
    carried = result.carried
    e, n = carried.e_m[rows], carried.n_m[rows]
    away = np.hypot(carried.e_m - e.mean(), carried.n_m - n.mean())
    return Unseen(
        scale=sizes["scale"],
        turn_rad=sizes["turn"],
        outside_m=distance_outside(carried.e_m, carried.n_m, e, n),
        effect_m=away * float(np.hypot(sizes["scale"], sizes["turn"])),
    )


def _detectable(trial: ModelTrial, assumed: bool) -> float:
    """Sigmas that are detectable; 0 where nothing tests them."""
    levels = (1.0 - MODEL_ALPHA / 2, POWER)
    if trial.fits and not assumed:
        return sum(normal_quantile(p) for p in levels)
    return sum(t_quantile(p, trial.dof) for p in levels) if trial.dof > 0 else 0.0


def unseen_words(found: Unseen) -> str:
    """What could hide, in words: a scale of up to 17.2 ppm, a turn of up to 3.1 seconds."""
    parts = [f"a scale of up to {format_fixed(found.scale * 1e6, 1)} ppm"] if found.scale else []
    seconds = format_fixed(found.turn_rad / RAD_PER_SECOND, 1)
    parts += [f"a turn of up to {seconds} seconds"] if found.turn_rad else []
    return " and ".join(parts).capitalize()
