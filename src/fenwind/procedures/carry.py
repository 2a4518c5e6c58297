"""Carrying positions by a fit, with a covariance that contains the fit's own."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from fenwind.estimation import blocks
from fenwind.estimation.engine import Adjustment
from fenwind.procedures.heights import HeightCorrection
from fenwind.procedures.positions import Positions
from fenwind.procedures.similarity import PairSet, Similarity, turn_covariance

FloatArray = NDArray[np.float64]


def carry(plan: Similarity, height: HeightCorrection, points: Positions, covariance: FloatArray) -> Positions:
    """Positions of marks whose own observations took no part: C' = R C R^T s^2 + A Q A^T, covariance (3, 3,
    k) being C."""
    e, n = plan.forward(points.e_m, points.n_m)
    h = height.forward(e, n, points.height_m)
    out = np.zeros((3, 3, len(points)))
    out[:2, :2] = turn_covariance(covariance[:2, :2], plan.rotation_rad, plan.scale)
    out[:2, :2] += blocks.hat(plan.design(points.e_m, points.n_m), plan.covariance)
    out[2, 2] = covariance[2, 2] + blocks.hat(height.design(e, n)[None], height.covariance)[0, 0]
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
