"""Quantiles and tail probabilities; SciPy is loaded on first use so that the window does not wait for it."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import ArrayLike, NDArray

FloatArray = NDArray[np.float64]


def chi2_tail(value: ArrayLike, dof: float) -> FloatArray:
    """Probability that chi-square with `dof` degrees of freedom exceeds `value`."""
    from scipy import special

    return np.asarray(special.chdtrc(dof, value))


def chi2_quantile(probability: float, dof: float) -> float:
    """Value that chi-square with `dof` degrees of freedom stays below with `probability`."""
    from scipy import special

    return float(special.chdtri(dof, 1.0 - probability))


def plan_reach() -> float:
    """What the standard deviations of a plan ellipse are multiplied by so that it holds 95 %: the root of the
    chi-square quantile with two degrees of freedom."""
    return math.sqrt(chi2_quantile(0.95, 2))


def f_tail(value: ArrayLike, dof1: float, dof2: float) -> FloatArray:
    """Probability that F with (dof1, dof2) degrees of freedom exceeds `value`."""
    from scipy import special

    return np.asarray(special.fdtrc(dof1, dof2, value))


def f_quantile(probability: float, dof1: float, dof2: float) -> float:
    """Value that F with (dof1, dof2) degrees of freedom stays below with `probability`."""
    from scipy import special

    return float(special.fdtri(dof1, dof2, probability))


def t_quantile(probability: float, dof: float) -> float:
    """Value that Student's t with `dof` degrees of freedom stays below with `probability`."""
    from scipy import special

    return float(special.stdtrit(dof, probability))


def normal_quantile(probability: float) -> float:
    """Quantile of the standard normal distribution."""
    from scipy import special

    return float(special.ndtri(probability))


def detectable_shift(alpha: float, power: float) -> float:
    """Non-centrality a two-sided test at level `alpha` finds with probability `power`; 4.13 for 0.001 and
    0.80.

    Source: Baarda, A testing procedure for use in geodetic networks, 1968 (from memory; the far tail is
    neglected).
    """
    return normal_quantile(1.0 - 0.5 * alpha) + normal_quantile(power)
