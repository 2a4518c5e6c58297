"""Regions that hold the true position with 95 %: an ellipse in plan, an interval in height, each with the
statistic that its own evidence allows."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.estimation.distributions import f_quantile, normal_quantile, plan_reach, t_quantile
from fenwind.procedures.fit import FitResult

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True, eq=False)
class Regions:
    """Semi-axes a >= b of the ellipses in metres, bearing of a in [0, pi) from grid north, half-width v of
    the height intervals in metres; each (k,), nan where it is not known."""

    a_m: FloatArray
    b_m: FloatArray
    bearing_rad: FloatArray
    v_m: FloatArray


def factors95(result: FitResult) -> tuple[float, float]:
    """What standard deviations in plan and in height are multiplied by.

    With given sigmas sqrt(chi2(0.95; 2)) and the normal quantile. With a variance factor estimated from dof
    degrees of freedom sqrt(2 F(0.95; 2, dof)) and t(0.975; dof): the factor is itself uncertain; nan for dof
    0. Source: Koch, Parameter Estimation and Hypothesis Testing in Linear Models, 2nd edition 1999,
    confidence regions (from memory).
    """
    if not result.sigmas_assumed:
        return plan_reach(), normal_quantile(0.975)
    plan = result.plan_adjustment.dof
    height = result.height_adjustment.dof if result.height_adjustment is not None else 0
    return (
        math.sqrt(2.0 * f_quantile(0.95, 2, plan)) if plan > 0 else math.nan,
        t_quantile(0.975, height) if height > 0 else math.nan,
    )


def ellipses(covariance: FloatArray) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Semi-axes a >= b of covariances (2, 2, k) at one sigma, and the bearing of a in [0, pi).

    Source: Mikhail and Ackermann, Observations and Least Squares, 1976 (from memory).
    """
    cee, cen, cnn = covariance[0, 0], covariance[0, 1], covariance[1, 1]
    mean, half = 0.5 * (cee + cnn), 0.5 * (cee - cnn)
    reach = np.hypot(half, cen)
    bearing = 0.5 * np.arctan2(2.0 * cen, cnn - cee)
    return np.sqrt(mean + reach), np.sqrt(np.maximum(mean - reach, 0.0)), np.mod(bearing, math.pi)


def regions95(result: FitResult) -> Regions:
    """Regions of all carried marks. A mark that itself gave the variance factor has none: its misfit is not
    independent of it."""
    plan, height = factors95(result)
    a, b, bearing = ellipses(result.carried.covariance[:2, :2])
    v = np.sqrt(result.carried.covariance[2, 2])
    a, b, v = plan * a, plan * b, height * v
    bearing = np.where(np.isfinite(a), bearing, np.nan)
    if result.sigmas_assumed:
        table = result.pairs
        for array in (a, b, bearing):
            array[table.measured_rows[table.used_h]] = np.nan
        v[table.measured_rows[table.used_v]] = np.nan
    return Regions(a_m=a, b_m=b, bearing_rad=bearing, v_m=v)
