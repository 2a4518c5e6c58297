"""Weighted least squares, linear or iterated, with exact constraints and the statistics of the result.

Model: k blocks of b correlated observations each, m = b k in all; the block index is the last axis. Observed
l (b, k), computed f(x) (b, k) with design A = df/dx (b, n, k), covariance of the observations (b, b, k); b is
1 for uncorrelated ones. Residuals are v = adjusted - observed = f(x) - l, and v^T P v is made smallest with P
the inverse of the covariance (Mikhail and Ackermann, Observations and Least Squares, 1976, chapters 6 to 9;
Koch, Parameter Estimation and Hypothesis Testing in Linear Models, 2nd edition 1999). All matrices are
whitened by the Cholesky factor of the blocks first: Aw = L^-1 A, vw = L^-1 v, which keeps correlated
observations exact.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import EstimationError
from fenwind.estimation import blocks
from fenwind.estimation.distributions import chi2_quantile, chi2_tail, detectable_shift
from fenwind.estimation.solver import DenseSolver, Factorisation, NormalSolver

FloatArray = NDArray[np.float64]
Model = Callable[[FloatArray], tuple[FloatArray, FloatArray]]

#: Level of the global test, and level and power behind the smallest detectable error (Baarda's customary
#: values).
GLOBAL_ALPHA = 0.05
LOCAL_ALPHA = 0.001
LOCAL_POWER = 0.80
#: A step that changes whitened residuals by less than this in all (squared) is a millionth of a sigma.
NEGLIGIBLE = 1e-12


@dataclass(frozen=True, kw_only=True, eq=False)
class Problem:
    """What to adjust.

    names: the n unknowns. start: (n,). observed: (b, k). covariance: (b, b, k), in squared units of the
    observations, or its whitening where several problems share it. model: x -> (computed (b, k), design (b,
    n, k)). constraints: x -> (value (c,), rows (c, n)), made exactly zero; None for none. linear: the design
    does not depend on x, so one step solves it.
    """

    names: tuple[str, ...]
    start: FloatArray
    observed: FloatArray
    covariance: FloatArray | blocks.Whitening
    model: Model
    constraints: Model | None = None
    linear: bool = False


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
class Adjustment:
    """Result of adjust. Statistics are computed when first asked for, so a model comparison pays only for
    what it reads.

    x (n,); cofactors (n, n) is the covariance of x when the given sigmas hold; residuals (b, k); dof = m + c
    - n; sum_squares = v^T P v.
    """

    names: tuple[str, ...]
    x: FloatArray
    cofactors: FloatArray
    residuals: FloatArray
    sum_squares: float
    dof: int
    iterations: int
    whitened_design: FloatArray = field(repr=False)
    whitened_residuals: FloatArray = field(repr=False)
    whitening: blocks.Whitening = field(repr=False)

    @property
    def variance_factor(self) -> float | None:
        """v^T P v / dof; None without redundancy."""
        return self.sum_squares / self.dof if self.dof > 0 else None

    def sigma_of(self, name: str) -> float:
        """One-sigma uncertainty of an unknown from the given sigmas."""
        index = self.names.index(name)
        return float(np.sqrt(max(self.cofactors[index, index], 0.0)))

    @cached_property
    def hat_blocks(self) -> FloatArray:
        """Diagonal blocks (b, b, k) of Aw Qx Aw^T: how far each block determines its own adjusted value."""
        return blocks.hat(self.whitened_design, self.cofactors)

    @cached_property
    def _free_blocks(self) -> FloatArray:
        return np.eye(self.whitening.b)[:, :, None] - self.hat_blocks

    @cached_property
    def redundancy(self) -> FloatArray:
        """Redundancy numbers (b, k), the diagonal of Qvv P = L (I - H) L^-1; they add up to dof."""
        return self.whitening.similar_diagonal(self._free_blocks)

    @cached_property
    def _sensitivity(self) -> FloatArray:
        """Square roots of the diagonal of P Qvv P = L^-T (I - H) L^-1 (b, k)."""
        return np.sqrt(np.maximum(self.whitening.weight_diagonal(self._free_blocks), 0.0))

    def _controlled(self) -> NDArray[np.bool_]:
        return self.redundancy > 1e-9

    @cached_property
    def standardised(self) -> FloatArray:
        """Standardised residuals (b, k): (P v)_i / sqrt((P Qvv P)_ii), standard normal when all is well; nan
        where the observation has no redundancy. Source: Baarda 1968."""
        weighted = self.whitening.weigh(self.whitened_residuals)
        with np.errstate(invalid="ignore", divide="ignore"):
            return np.where(self._controlled(), weighted / self._sensitivity, np.nan)

    @cached_property
    def detectable(self) -> FloatArray:
        """Smallest error (b, k) in one observation that its standardised residual finds at LOCAL_ALPHA with
        LOCAL_POWER; inf where the observation has no redundancy."""
        shift = detectable_shift(LOCAL_ALPHA, LOCAL_POWER)
        with np.errstate(divide="ignore"):
            return np.where(self._controlled(), shift / self._sensitivity, np.inf)

    @cached_property
    def _free_inverse(self) -> FloatArray:
        """Inverse Cholesky factors of I - H (b, b, k); nan where the block has no redundancy."""
        factor = blocks.cholesky(self._free_blocks)
        bad = ~(np.einsum("iik->ik", factor).min(axis=0) > 1e-6)
        if bad.any():
            factor[:, :, bad] = np.nan
        return blocks.lower_inverse(factor)

    @cached_property
    def deleted_residuals(self) -> FloatArray:
        """Residuals (b, k) each block would have had, had it not taken part: L (I - H)^-1 vw; exact for
        linear models, first order otherwise; nan where the rest cannot be solved. Source: Cook and Weisberg,
        Residuals and Influence in Regression, 1982, section 2.2."""
        return self.whitening.unwhiten(blocks.apply_lower_transposed(self._free_inverse, self._half_solved))

    @cached_property
    def _half_solved(self) -> FloatArray:
        return blocks.apply_lower(self._free_inverse, self.whitened_residuals)

    @cached_property
    def deleted_statistic(self) -> FloatArray:
        """Drop of v^T P v (k,) when the block is taken out; chi-square with b degrees of freedom when the
        sigmas hold."""
        return np.asarray((self._half_solved**2).sum(axis=0))

    @cached_property
    def global_test(self) -> GlobalTest | None:
        """Chi-square test of the whole; None without redundancy."""
        if self.dof <= 0:
            return None
        limit = chi2_quantile(1.0 - GLOBAL_ALPHA, self.dof)
        p_value = float(chi2_tail(self.sum_squares, self.dof))
        return GlobalTest(statistic=self.sum_squares, limit=limit, p_value=p_value, alpha=GLOBAL_ALPHA)


def adjust(problem: Problem, solver: NormalSolver | None = None, max_iterations: int = 50) -> Adjustment:
    """Solve a problem by Gauss-Newton steps, halved while they make v^T P v larger.

    Raises DatumDefectError when unknowns are not determined, EstimationError when a covariance block is not
    positive definite, a value is not finite, or the iteration does not settle within `max_iterations`.
    """
    solver = solver or DenseSolver()
    given = problem.covariance
    whitening = (
        given if isinstance(given, blocks.Whitening) else blocks.Whitening(np.asarray(given, dtype=float))
    )
    if not whitening.sound:
        raise EstimationError(
            "a covariance is not positive definite", hint="Give every observation a sigma above zero"
        )
    x = np.array(problem.start, dtype=float)
    residuals, design_w, sum_squares = _whiten(problem, whitening, *problem.model(x))
    for iteration in range(1, max_iterations + 1):
        gap, rows = problem.constraints(x) if problem.constraints else (np.zeros(0), np.zeros((0, x.size)))
        normal, right_side = _normal_equations(design_w, residuals)
        factor = solver.factorise(normal, rows, problem.names)
        step = factor.solve(-right_side, -gap)
        predicted = float(step @ normal @ step)
        if problem.linear or predicted <= NEGLIGIBLE + 1e-16 * sum_squares:
            # The step is exact, or too small for the design to change under it.
            residuals = residuals + np.stack([step @ component for component in design_w])
            return _finish(
                problem, factor, rows.shape[0], x + step, residuals, design_w, whitening, iteration
            )
        forced = bool(np.abs(gap).max(initial=0.0) > 1e-12)
        x, residuals, design_w, new_squares = _damped_step(problem, whitening, x, step, sum_squares, forced)
        if iteration > 1 and abs(sum_squares - new_squares) <= 1e-15 * new_squares:
            return _finish(problem, factor, rows.shape[0], x, residuals, design_w, whitening, iteration)
        sum_squares = new_squares
    raise EstimationError(
        f"the adjustment did not settle in {max_iterations} iterations",
        hint="Look for a gross blunder or give better starting values",
    )


def _normal_equations(design: FloatArray, residuals: FloatArray) -> tuple[FloatArray, FloatArray]:
    """A^T A (n, n) and A^T v (n,) of whitened arrays (b, n, k) and (b, k)."""
    normal, right_side = design[0] @ design[0].T, design[0] @ residuals[0]
    for component, v in zip(design[1:], residuals[1:], strict=True):
        normal += component @ component.T
        right_side += component @ v
    return normal, right_side


def _whiten(
    problem: Problem, whitening: blocks.Whitening, computed: FloatArray, design: FloatArray
) -> tuple[FloatArray, FloatArray, float]:
    residuals = whitening.whiten(computed - problem.observed)
    sum_squares = float(np.vdot(residuals, residuals))
    if not np.isfinite(sum_squares) or not np.isfinite(np.vdot(design, design)):
        raise EstimationError(
            "a value in the adjustment is not finite",
            hint="Look for empty or absurd values among the observations",
        )
    return residuals, whitening.whiten(design), sum_squares


def _damped_step(
    problem: Problem,
    whitening: blocks.Whitening,
    x: FloatArray,
    step: FloatArray,
    before: float,
    constrained: bool,
) -> tuple[FloatArray, FloatArray, FloatArray, float]:
    """Take the step, halved up to 30 times while the sum of squares grows; a step onto the constraints is
    always whole."""
    trial = x + step
    for _ in range(30):
        with np.errstate(all="ignore"):
            computed, design = problem.model(trial)
        fine = np.isfinite(computed).all() and np.isfinite(design).all()
        if fine:
            residuals, design_w, squares = _whiten(problem, whitening, computed, design)
            if constrained or squares <= before * (1.0 + 1e-12) + 1e-20:
                return trial, residuals, design_w, squares
        step = 0.5 * step
        trial = x + step
    computed, design = problem.model(x)
    residuals, design_w, squares = _whiten(problem, whitening, computed, design)
    return x, residuals, design_w, squares


def _finish(
    problem: Problem,
    factor: Factorisation,
    constraints: int,
    x: FloatArray,
    residuals: FloatArray,
    design_w: FloatArray,
    whitening: blocks.Whitening,
    iterations: int,
) -> Adjustment:
    """The result; cofactors are those of the last iteration, under whose step the design hardly changed."""
    return Adjustment(
        names=problem.names,
        x=x,
        cofactors=factor.cofactors(),
        residuals=whitening.unwhiten(residuals),
        sum_squares=float(np.vdot(residuals, residuals)),
        dof=problem.observed.size + constraints - x.size,
        iterations=iterations,
        whitened_design=design_w,
        whitened_residuals=residuals,
        whitening=whitening,
    )
