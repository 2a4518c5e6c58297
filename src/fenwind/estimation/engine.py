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
from typing import overload

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import EstimationError
from fenwind.estimation import blocks
from fenwind.estimation.few import FEW, NEGLIGIBLE, STEPS, settle
from fenwind.estimation.groups import (
    DenseNormal,
    GroupProblem,
    ObservationGroup,
    gradient,
    moved_by,
    sparse_normal,
)
from fenwind.estimation.solver import (
    DENSE_UNKNOWNS,
    DenseSolver,
    Factorisation,
    NormalSolver,
    SparseSolver,
    Spreading,
    hat_of,
)
from fenwind.estimation.statistics import (
    GLOBAL_ALPHA,
    LOCAL_ALPHA,
    LOCAL_POWER,
    BlockStatistics,
    GlobalTest,
    Solution,
)

__all__ = [
    "GLOBAL_ALPHA",
    "LOCAL_ALPHA",
    "LOCAL_POWER",
    "Adjustment",
    "GlobalTest",
    "GroupAdjustment",
    "GroupProblem",
    "ObservationGroup",
    "Problem",
    "adjust",
]

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.intp]
Model = Callable[[FloatArray], tuple[FloatArray, FloatArray]]

#: After a step whose predicted gain is under this for each unknown (a hundredth of a sigma each) the next is
#: likely to be negligible, which is worth asking before equations are formed anew.
SLIGHT = 1e-4
#: A step whose predicted gain is under this for each unknown is taken whole, and is the last if the one
#: before was such too: what the sum of squares does under it is the rounding of places far from their origin.
ROUNDING = 1e-7
#: After so many iterations steps that lower the sum of squares by less than this part of it are the creep of
#: a gross blunder, which the place they have come to is good enough to name.
CREEPS, CREEP = 12, 1e-6
#: What another step would lower the sum of squares by where the iteration has converged: a tenth of a sigma.
SETTLED = 0.01


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


@dataclass(frozen=True, kw_only=True, eq=False)
class Adjustment(Solution, BlockStatistics):
    """Result of adjusting a Problem; cofactors (n, n) is the covariance of x when the given sigmas hold."""

    factor: Factorisation = field(repr=False)
    whitened_design: FloatArray = field(repr=False)

    @cached_property
    def cofactors(self) -> FloatArray:
        """Cofactor matrix of the unknowns (n, n)."""
        return self.factor.cofactors()

    def sigma_of(self, name: str) -> float:
        """One-sigma uncertainty of an unknown from the given sigmas."""
        index = self.names.index(name)
        return float(np.sqrt(max(self.cofactors[index, index], 0.0)))

    @cached_property
    def hat_blocks(self) -> FloatArray:
        """See BlockStatistics."""
        return blocks.hat(self.whitened_design, self.cofactors)


@dataclass(frozen=True, kw_only=True, eq=False)
class GroupStatistics(BlockStatistics):
    """Statistics of one group of observations; only the cofactors of the unknowns of each block are worked
    out."""

    group: ObservationGroup
    factor: Factorisation = field(repr=False)
    whitened_design: FloatArray = field(repr=False)

    @cached_property
    def cofactors(self) -> FloatArray:
        """Cofactors (p, p, k) of the unknowns of each block; of a group that touches all unknowns (n, n)."""
        unknowns = self.group.unknowns
        if unknowns is None:
            return self.factor.cofactors()
        return self.factor.cofactor_blocks(unknowns, unknowns)

    @property
    def has_cofactors(self) -> bool:
        """Whether they have been asked for already."""
        return "cofactors" in self.__dict__

    @cached_property
    def hat_blocks(self) -> FloatArray:
        """See BlockStatistics."""
        design = self.whitened_design
        if self.group.unknowns is None:
            return blocks.hat(design, self.cofactors)
        if not self.has_cofactors and isinstance(self.factor, Spreading):
            return self.factor.hat_blocks(design, self.group.unknowns)
        return hat_of(design, self.cofactors)


@dataclass(frozen=True, kw_only=True, eq=False)
class GroupAdjustment(Solution):
    """Result of adjusting a GroupProblem: the statistics of each group, in their order, and the factorised
    normal equations, which answer for covariances."""

    groups: tuple[GroupStatistics, ...]
    factor: Factorisation = field(repr=False)


@dataclass(eq=False)
class _Linearised:
    """A problem about one x: whitened residuals (b, k) and designs (b, p, k) of every group."""

    residuals: list[FloatArray]
    designs: list[FloatArray]

    @property
    def sum_squares(self) -> float:
        return float(sum(np.vdot(v, v) for v in self.residuals))


class _System:
    """A problem as the iteration sees it."""

    def __init__(self, problem: Problem | GroupProblem, solver: NormalSolver | None) -> None:
        if isinstance(problem, Problem):
            only = ObservationGroup(
                observed=problem.observed, covariance=problem.covariance, model=problem.model
            )
            self.groups: tuple[ObservationGroup, ...] = (only,)
        else:
            self.groups = problem.groups
        self.problem, self.n = problem, len(problem.start)
        large = self.n > DENSE_UNKNOWNS
        self.solver = solver or (SparseSolver() if large else DenseSolver())
        self.sparse = isinstance(self.solver, SparseSolver)
        self.whitenings = [group.whitened_by() for group in self.groups]
        if not all(whitening.sound for whitening in self.whitenings):
            raise EstimationError(
                "a covariance is not positive definite", hint="Give every observation a sigma above zero"
            )

    @property
    def places(self) -> list[IntArray | None]:
        """Unknowns of each group."""
        return [group.unknowns for group in self.groups]

    def at(self, x: FloatArray) -> _Linearised:
        """The problem about x. Raises EstimationError for values that are not finite."""
        residuals, designs = [], []
        for group, whitening in zip(self.groups, self.whitenings, strict=True):
            computed, design = group.model(x)
            v = whitening.whiten(computed - group.observed)
            if not np.isfinite(np.vdot(v, v)) or not np.isfinite(np.vdot(design, design)):
                raise _not_finite()
            residuals.append(v)
            designs.append(whitening.whiten(design))
        return _Linearised(residuals, designs)

    def gradient(self, about: _Linearised) -> FloatArray:
        """A^T v (n,)."""
        return gradient(about.designs, about.residuals, self.places, self.n)

    def moved(self, about: _Linearised, step: FloatArray) -> _Linearised:
        """The problem after a step so small, or so exact, that the design stays as it is."""
        parts = zip(about.residuals, about.designs, self.places, strict=True)
        return _Linearised([v + moved_by(a, u, step) for v, a, u in parts], about.designs)


def _not_finite() -> EstimationError:
    return EstimationError(
        "a value in the adjustment is not finite",
        hint="Look for empty or absurd values among the observations",
    )


@overload
def adjust(problem: Problem, solver: NormalSolver | None = None, max_iterations: int = 50) -> Adjustment: ...


@overload
def adjust(
    problem: GroupProblem, solver: NormalSolver | None = None, max_iterations: int = 50
) -> GroupAdjustment: ...


def adjust(
    problem: Problem | GroupProblem, solver: NormalSolver | None = None, max_iterations: int = 50
) -> Adjustment | GroupAdjustment:
    """Solve a problem by Gauss-Newton steps, halved while they make v^T P v larger; with many unknowns by
    the sparse solver, unless another is given.

    Raises DatumDefectError when unknowns are not determined, EstimationError when a covariance block is
    not positive definite, a value is not finite, or the iteration does not settle within `max_iterations`.
    """
    system = _System(problem, solver)
    dense = None if system.sparse else DenseNormal(system.places, system.n)
    x = np.array(problem.start, dtype=float)
    x, about, gone = _begun(system, x, min(STEPS, max_iterations - 1))
    before, fine = about.sum_squares, False
    for iteration in range(1 + gone, max_iterations + 1):
        gap, rows = problem.constraints(x) if problem.constraints else (np.zeros(0), np.zeros((0, x.size)))
        normal = dense(about.designs) if dense else sparse_normal(about.designs, system.places, system.n)
        factor = system.solver.factorise(normal, rows, problem.names)
        step = factor.solve(-system.gradient(about), -gap)
        predicted = float(step @ (normal @ step))
        last, fine = fine, predicted <= ROUNDING * x.size
        if problem.linear or predicted <= NEGLIGIBLE + 1e-16 * before or (fine and last):
            x, about = _refined(system, factor, x + step, system.moved(about, step))
            return _finish(system, factor, rows.shape[0], x, about, iteration)
        forced = bool(fine | (np.abs(gap).max(initial=0.0) > 1e-12))
        x, about = _damped_step(system, x, step, before, forced)
        after = about.sum_squares
        if predicted <= SLIGHT * x.size and problem.constraints is None and iteration < max_iterations:
            # Where the next step is negligible the equations are those of this one.
            step = factor.solve(-system.gradient(about), -gap)
            if float(step @ (normal @ step)) <= NEGLIGIBLE + 1e-16 * after:
                x, about = _refined(system, factor, x + step, system.moved(about, step))
                return _finish(system, factor, rows.shape[0], x, about, iteration + 1)
        if iteration > 1 + gone and abs(before - after) <= (1e-15 if iteration < CREEPS else CREEP) * after:
            left = -float(system.gradient(about) @ factor.solve(-system.gradient(about), -gap))
            settled = abs(left) <= SETTLED
            return _finish(system, factor, rows.shape[0], x, about, iteration, settled)
        before = after
    raise EstimationError(
        f"the adjustment did not settle in {max_iterations} iterations",
        hint="Look for a gross blunder or give better starting values",
    )


def _begun(system: _System, x: FloatArray, most: int) -> tuple[FloatArray, _Linearised, int]:
    """Where the iteration begins: for a small problem without constraints as many whole steps on as lower
    the sum of squares; they are those that would be taken anyway, without all that a last one is asked for.
    Returns how many."""
    problem = system.problem
    few = isinstance(problem, Problem) and x.size <= FEW and problem.constraints is None
    if not few or problem.linear or system.sparse:
        with np.errstate(all="ignore"):  # what is not finite is told as an error
            return x, system.at(x), 0
    assert isinstance(problem, Problem)
    (whitening,) = system.whitenings
    b, k = problem.observed.shape

    def rows_at(x: FloatArray) -> FloatArray:
        computed, design = problem.model(x)
        flat = whitening.whiten(design).transpose(1, 0, 2).reshape(x.size, b * k)
        return np.concatenate([flat, whitening.whiten(computed - problem.observed).reshape(1, b * k)])

    gone = settle(rows_at, x, most, last=False)
    if not np.isfinite(np.vdot(gone.rows, gone.rows)):
        raise _not_finite()
    rows = gone.rows.reshape(x.size + 1, b, k)
    return gone.x, _Linearised([rows[-1]], [rows[:-1].transpose(1, 0, 2)]), gone.steps


def _refined(
    system: _System, factor: Factorisation, x: FloatArray, about: _Linearised
) -> tuple[FloatArray, _Linearised]:
    """Many unknowns, or what is solved from far away in one step, lose digits in the solution; solving again
    for what is left over gives them back (Golub and Van Loan, 4th edition, section 3.5.3)."""
    if isinstance(system.problem, Problem) or not (system.sparse or system.problem.linear):
        return x, about
    constraints = system.problem.constraints
    for _ in range(2):
        gap = constraints(x)[0] if constraints else np.zeros(0)
        step = factor.solve(-system.gradient(about), -gap)
        x, about = x + step, system.moved(about, step)
    return x, about


def _damped_step(
    system: _System, x: FloatArray, step: FloatArray, before: float, constrained: bool
) -> tuple[FloatArray, _Linearised]:
    """Take the step, halved up to 30 times while the sum of squares grows or has no value; a step onto the
    constraints is always whole."""
    for _ in range(30):
        try:
            with np.errstate(all="ignore"):
                about = system.at(x + step)
        except EstimationError:
            step = 0.5 * step
            continue
        if constrained or about.sum_squares <= before * (1.0 + 1e-12) + 1e-20:
            return x + step, about
        step = 0.5 * step
    return x, system.at(x)


def _finish(
    system: _System,
    factor: Factorisation,
    constraints: int,
    x: FloatArray,
    about: _Linearised,
    iterations: int,
    converged: bool = True,
) -> Adjustment | GroupAdjustment:
    """The result; cofactors are those of the last iteration, under whose step the design hardly changed."""
    whole = {
        "names": system.problem.names,
        "x": x,
        "sum_squares": about.sum_squares,
        "dof": sum(group.observed.size for group in system.groups) + constraints - x.size,
        "constraints": constraints,
        "iterations": iterations,
        "converged": converged,
        "factor": factor,
    }
    parts = [
        {
            "residuals": whitening.unwhiten(v),
            "whitened_design": design,
            "whitened_residuals": v,
            "whitening": whitening,
        }
        for whitening, v, design in zip(system.whitenings, about.residuals, about.designs, strict=True)
    ]
    if isinstance(system.problem, Problem):
        return Adjustment(**whole, **parts[0])  # type: ignore[arg-type]
    groups = tuple(
        GroupStatistics(group=group, factor=factor, **part)  # type: ignore[arg-type]
        for group, part in zip(system.groups, parts, strict=True)
    )
    return GroupAdjustment(**whole, groups=groups)  # type: ignore[arg-type]
