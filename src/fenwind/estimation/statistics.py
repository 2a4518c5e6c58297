"""What the residuals of an adjustment say: tests of the whole and of each observation, and how well each
is controlled."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenwind.estimation import blocks
from fenwind.estimation.distributions import chi2_quantile, chi2_tail, detectable_shift

FloatArray = NDArray[np.float64]

#: Level of the global test, and level and power behind the smallest detectable error (Baarda's customary
#: values).
GLOBAL_ALPHA = 0.05
LOCAL_ALPHA = 0.001
LOCAL_POWER = 0.80


@dataclass(frozen=True, slots=True, kw_only=True)
class GlobalTest:
    """Sum of weighted squares against chi-square: accepted when `statistic` <= `limit`; upper tail at
    `alpha`."""

    statistic: float
    limit: float
    p_value: float
    alpha: float

    @property
    def accepted(self) -> bool:
        """Whether the residuals are as small as the given sigmas promise."""
        return self.statistic <= self.limit


@dataclass(frozen=True, kw_only=True, eq=False)
class Solution:
    """An adjustment as a whole: names of the unknowns, x (n,), sum_squares = v^T P v, dof = m + c - n with
    c constraints. converged: another step would not lower the sum of squares by a hundredth."""

    names: tuple[str, ...]
    x: FloatArray
    sum_squares: float
    dof: int
    constraints: int
    iterations: int
    converged: bool = field(default=True)

    @property
    def variance_factor(self) -> float | None:
        """v^T P v / dof; None without redundancy."""
        return self.sum_squares / self.dof if self.dof > 0 else None

    @cached_property
    def global_test(self) -> GlobalTest | None:
        """Chi-square test of the whole; None without redundancy."""
        if self.dof <= 0:
            return None
        limit = chi2_quantile(1.0 - GLOBAL_ALPHA, self.dof)
        p_value = float(chi2_tail(self.sum_squares, self.dof))
        return GlobalTest(statistic=self.sum_squares, limit=limit, p_value=p_value, alpha=GLOBAL_ALPHA)


@dataclass(frozen=True, kw_only=True, eq=False)
class BlockStatistics:
    """Statistics of k blocks of b correlated observations: residuals (b, k), whitened ones, and the
    whitening. Computed when first asked for, so that a comparison of models pays only for what it reads."""

    residuals: FloatArray
    whitened_residuals: FloatArray = field(repr=False)
    whitening: blocks.Whitening = field(repr=False)

    @cached_property
    def hat_blocks(self) -> FloatArray:
        """Diagonal blocks (b, b, k) of Aw Qx Aw^T: how far each block determines its own adjusted value."""
        raise NotImplementedError

    @cached_property
    def _free_blocks(self) -> FloatArray:
        return np.eye(self.whitening.b)[:, :, None] - self.hat_blocks

    @cached_property
    def redundancy(self) -> FloatArray:
        """Redundancy numbers (b, k), the diagonal of Qvv P = L (I - H) L^-1; they add up to dof."""
        return self.whitening.similar_diagonal(self._free_blocks)

    @cached_property
    def sensitivity(self) -> FloatArray:
        """Square roots of the diagonal of P Qvv P = L^-T (I - H) L^-1 (b, k)."""
        return np.sqrt(np.maximum(self.whitening.weight_diagonal(self._free_blocks), 0.0))

    @cached_property
    def _controlled(self) -> NDArray[np.bool_]:
        return self.redundancy > 1e-9

    @cached_property
    def standardised(self) -> FloatArray:
        """Standardised residuals (b, k): (P v)_i / sqrt((P Qvv P)_ii), standard normal when all is well; nan
        where the observation has no redundancy. Source: Baarda 1968."""
        weighted = self.whitening.weigh(self.whitened_residuals)
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(self._controlled, weighted / self.sensitivity, np.nan)

    @cached_property
    def detectable(self) -> FloatArray:
        """Smallest error (b, k) in one observation that its standardised residual finds at LOCAL_ALPHA with
        LOCAL_POWER; inf where the observation has no redundancy."""
        shift = detectable_shift(LOCAL_ALPHA, LOCAL_POWER)
        with np.errstate(divide="ignore"):
            return np.where(self._controlled, shift / self.sensitivity, np.inf)

    @cached_property
    def _freed(self) -> FloatArray:
        """(I - H)^-1 vw (b, k); nan where the block has no redundancy."""
        return blocks.solve(self._free_blocks, self.whitened_residuals, least_pivot=1e-12)

    @cached_property
    def deleted_residuals(self) -> FloatArray:
        """Residuals (b, k) each block would have had, had it not taken part: L (I - H)^-1 vw; exact for
        linear models, first order otherwise; nan where the rest cannot be solved. Source: Cook and Weisberg,
        Residuals and Influence in Regression, 1982, section 2.2."""
        return self.whitening.unwhiten(self._freed)

    @cached_property
    def deleted_statistic(self) -> FloatArray:
        """Drop of v^T P v (k,) when the block is taken out; chi-square with b degrees of freedom when the
        sigmas hold."""
        return np.asarray((self._freed * self.whitened_residuals).sum(axis=0))
