"""Carrying positions by a fit, with a covariance that contains the fit's own."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenwind.estimation import blocks
from fenwind.estimation.engine import Adjustment
from fenwind.procedures.heights import HeightCorrection
from fenwind.procedures.joint import SharedErrors, scaled
from fenwind.procedures.positions import Positions
from fenwind.procedures.similarity import PairSet, Similarity, turn_covariance

FloatArray = NDArray[np.float64]


def carry(
    plan: Similarity,
    height: HeightCorrection,
    points: Positions,
    covariance: FloatArray,
    apart: tuple[NDArray[np.bool_], NDArray[np.bool_]] | None = None,
) -> Positions:
    """Positions of marks whose own observations took no part: C' = R C R^T s^2 + A Q A^T, covariance (3,
    3, k) being C.

    apart: marks (k,) that took part in plan and in height; their covariance is left zero for others to
    fill in.
    """
    e, n = plan.forward(points.e_m, points.n_m)
    h = height.forward(e, n, points.height_m)
    out = np.zeros((3, 3, len(points)))
    every = np.zeros(len(points), dtype=bool)
    in_plan, in_height = (np.flatnonzero(~a) for a in apart or (every, every))
    if in_plan.size:
        own = turn_covariance(covariance[:2, :2, in_plan], plan.rotation_rad, plan.scale)
        own += blocks.hat(plan.design(points.e_m[in_plan], points.n_m[in_plan]), plan.covariance)
        out[:2, :2, in_plan] = own
    if in_height.size:
        fitted = blocks.hat(height.design(e[in_height], n[in_height])[None], height.covariance)[0, 0]
        out[2, 2, in_height] = covariance[2, 2, in_height] + fitted
    out[2, 2] = np.where(np.isfinite(h), out[2, 2], np.nan)
    return Positions(names=points.names, e_m=e, n_m=n, height_m=h, covariance=out)


def used_pair_covariance(
    plan: Similarity, adjustment: Adjustment, source_covariance: FloatArray
) -> FloatArray:
    """Covariance (2, 2, k) in the target system of the marks that took part, in the order of the adjustment.

    A mark's error dm also moves the fit: x = T(p, m) with dp = -Q A^T P (dm - dk) gives
    A Q A^T + C - A Q A^T P C - C P A Q A^T, C being the mark's own covariance turned into the target system.
    """
    own = turn_covariance(source_covariance, plan.rotation_rad, plan.scale)
    fitted = adjustment.whitening.colour(adjustment.hat_blocks)
    cross = blocks.multiply(adjustment.whitening.projector(adjustment.hat_blocks), own)
    return np.asarray(fitted + own - cross - cross.transpose(1, 0, 2))


def pivot_pair_covariance(plan: Similarity, pairs: PairSet) -> FloatArray:
    """Covariance (2, 2, 2) in the target system of the pivot and of the mark that gives the direction, in
    that order.

    The pivot is its known position. The second mark lies in the known direction at the measured distance:
    with w = dk - dm' its error is w1 + t (a w1 - a w2) + dm2', t = dT/dr and a the derivative of the
    direction by the pivot.
    """
    own = turn_covariance(pairs.source_covariance, plan.rotation_rad, plan.scale)
    known = pairs.target_covariance
    e, n = plan.forward(pairs.source[0], pairs.source[1])
    de, dn = float(e[1] - e[0]), float(n[1] - n[0])
    direction, length = math.atan2(de, dn), math.hypot(de, dn)
    by_pivot = np.array([-math.cos(direction), math.sin(direction)]) / length
    by_turn = np.array([dn, -de])
    first = np.eye(2) + np.outer(by_turn, by_pivot)
    second = -np.outer(by_turn, by_pivot)
    rest = np.eye(2) - second
    covariance = first @ (own[:, :, 0] + known[:, :, 0]) @ first.T
    covariance += second @ known[:, :, 1] @ second.T + rest @ own[:, :, 1] @ rest.T
    return np.stack([known[:, :, 0], covariance], axis=2)


@dataclass(frozen=True, kw_only=True, eq=False)
class CarriedTogether:
    """Joint covariance of n carried positions, worked out when it is asked for.

    plan, height, their adjustments and `variance_scale` are those of the fit, before scaling. points: the
    measured positions; own (3, 3, n) their covariances; used_h, used_v: rows that took part. pivot_known
    (2, 2, 2): covariances of the known positions of the two marks of a pivot, None for other models.
    """

    plan: Similarity
    height: HeightCorrection
    plan_adjustment: Adjustment
    height_adjustment: Adjustment | None
    variance_scale: tuple[float, float]
    points: Positions
    own: FloatArray
    used_h: NDArray[np.intp]
    used_v: NDArray[np.intp]
    pivot_known: FloatArray | None = None

    @cached_property
    def _plan(self) -> SharedErrors:
        own = self.own[:2, :2]
        if self.pivot_known is not None:
            errors = pivot_errors(self.plan, self.points, own, self.pivot_known, self.used_h)
        else:
            errors = plan_errors(self.plan, self.plan_adjustment, self.points, own, self.used_h)
        return scaled(errors, self.variance_scale[0])

    @cached_property
    def _height(self) -> SharedErrors | None:
        if self.height_adjustment is None:
            return None
        e, n = self.plan.forward(self.points.e_m, self.points.n_m)
        design = self.height.design(e, n)[None]
        own = self.own[2:, 2:]
        errors = height_errors(self.height, self.height_adjustment, design, own, self.used_v)
        return scaled(errors, self.variance_scale[1])

    def between(self, first: NDArray[np.intp], second: NDArray[np.intp]) -> FloatArray:
        """See Joint."""
        out = np.zeros((3, 3, len(first)))
        out[:2, :2] = self._plan.between(first, second)
        if self._height is not None:
            out[2, 2] = self._height.between(first, second)[0, 0]
        return out


def plan_errors(
    plan: Similarity, adjustment: Adjustment, points: Positions, own: FloatArray, used: NDArray[np.intp]
) -> SharedErrors:
    """What the positions carried by a least-squares fit share in plan: `own` (2, 2, n) are their
    covariances in the source system, `used` the rows that took part, in the order of the adjustment."""
    design = plan.design(points.e_m, points.n_m)
    gain = np.zeros((4, 2, len(points)))
    gain[:, :, used] = _gain(plan.covariance, design[:, :, used], adjustment.whitening.weight())
    turned = turn_covariance(own, plan.rotation_rad, plan.scale)
    return SharedErrors(design=design, cofactors=plan.covariance, gain=gain, own=turned)


def pivot_errors(
    plan: Similarity, points: Positions, own: FloatArray, known: FloatArray, used: NDArray[np.intp]
) -> SharedErrors:
    """The same for a pivot: `used` are the rows of the pivot and of the mark that gives the direction,
    `known` (2, 2, 2) the covariances of their known positions. The pivot is the centre that the similarity
    turns about."""
    design = plan.design(points.e_m, points.n_m)
    e, n = plan.forward(points.e_m[used], points.n_m[used])
    de, dn = float(e[1] - e[0]), float(n[1] - n[0])
    by_pivot = np.array([-dn, de]) / (de * de + dn * dn)
    gain = np.zeros((4, 2, len(points)))
    gain[:2, :, used[0]] = np.eye(2)
    gain[2, :, used[0]], gain[2, :, used[1]] = by_pivot, -by_pivot
    turned = turn_covariance(own, plan.rotation_rad, plan.scale)
    chosen = gain[:, :, used]
    cofactors = np.einsum("pxk,xyk,qyk->pq", chosen, turned[:, :, used] + known, chosen)
    return SharedErrors(design=design, cofactors=cofactors, gain=gain, own=turned)


def height_errors(
    height: HeightCorrection,
    adjustment: Adjustment,
    design: FloatArray,
    own: FloatArray,
    used: NDArray[np.intp],
) -> SharedErrors:
    """What carried heights share; design (1, 3, n), own (1, 1, n): variances of the measured heights."""
    gain = np.zeros((design.shape[1], 1, design.shape[2]))
    gain[:, :, used] = _gain(height.covariance, design[:, :, used], adjustment.whitening.weight())
    return SharedErrors(design=design, cofactors=height.covariance, gain=gain, own=own)


def _gain(cofactors: FloatArray, design: FloatArray, weight: FloatArray) -> FloatArray:
    """Q A^T P (p, b, k): how each observation moves the unknowns."""
    return np.asarray(np.einsum("pq,xqk,xyk->pyk", cofactors, design, weight))
