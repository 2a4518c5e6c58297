"""Base and rover: where a base is by the word it stands on, where the marks are that were measured from
it, and which errors they share.

All in one geocentric system, that of the receivers. A position's error is kept as what it is made of
(`shared_errors`), so that what two marks share falls out of their difference.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.geodesy.geocentric import enu_axes, from_xyz, to_xyz
from fenwind.procedures.shared_errors import Errors, combined

FloatArray = NDArray[np.float64]

#: Sigma of an antenna height as it is measured with a rule, metres (common practice, no source).
ANTENNA_SIGMA_M = 0.001
#: Correlation times of a receiver's errors by solution, seconds (common practice, no source).
CORRELATED_S = {"autonomous": 900.0, "code": 300.0, "float": 120.0, "fixed": 60.0}


@dataclass(frozen=True, kw_only=True, eq=False)
class Point:
    """A geocentric position (3,), metres, with its errors by source."""

    xyz: FloatArray
    errors: Errors = field(default_factory=Errors)

    @property
    def geodetic(self) -> tuple[float, float, float]:
        """Latitude, longitude (radians) and ellipsoidal height (metres)."""
        lat, lon, h = from_xyz(self.xyz)
        return float(lat), float(lon), float(h)

    def covariance(self) -> FloatArray:
        """Covariance (3, 3) in local east, north, up, m^2."""
        lat, lon, _ = self.geodetic
        axes = enu_axes(lat, lon)
        return np.asarray(axes @ self.errors.total @ axes.T)


def given_point(
    lat: float, lon: float, h: float, sigma_h: float | None, sigma_v: float | None, source: str
) -> Point:
    """A point that somebody gave, exact where nothing is said of its errors."""
    errors = Errors()
    if sigma_h or sigma_v:
        axes = enu_axes(lat, lon)
        variance = np.diag([(sigma_h or 0.0) ** 2, (sigma_h or 0.0) ** 2, (sigma_v or 0.0) ** 2])
        errors = Errors({source: (np.eye(3), axes.T @ variance @ axes)})
    return Point(xyz=to_xyz(lat, lon, h), errors=errors)


def raised(point: Point, height_m: float, source: str, sign: float = 1.0) -> Point:
    """The antenna over a ground point (sign 1), or the ground under an antenna (-1), along the normal of the
    ellipsoid; the height's own error is a source."""
    lat, lon, _ = point.geodetic
    up = enu_axes(lat, lon)[2]
    errors = point.errors
    if height_m:
        errors = errors.plus({source: (sign * np.outer(up, up), np.eye(3) * ANTENNA_SIGMA_M**2)})
    return Point(xyz=point.xyz + sign * height_m * up, errors=errors)


@dataclass(frozen=True, kw_only=True, eq=False)
class Measured:
    """One occupation: id, mark, base, vector (3,) geocentric, its covariance (3, 3) in local east, north,
    up at the rover, height of the rover's ARP over the mark."""

    id: str
    mark: str
    base: str
    vector: FloatArray
    covariance: FloatArray
    height_m: float


def ground_of(base_arp: Point, one: Measured) -> Point:
    """The mark that an occupation measured, from a base's ARP."""
    return grounds_of(base_arp, [one])[0]


def grounds_of(base_arp: Point, every: Sequence[Measured]) -> list[Point]:
    """The marks that occupations measured, from the ARP of their base."""
    if not every:
        return []
    xyz = base_arp.xyz[:, None] + np.stack([one.vector for one in every], axis=1)
    lat, lon, _ = from_xyz(xyz)
    axes = enu_axes(lat, lon)
    covariance = np.stack([one.covariance for one in every], axis=2)
    vectors = np.einsum("aik,abk,bjk->kij", axes, covariance, axes)
    heights = np.array([one.height_m for one in every])
    ground = (xyz - heights * axes[2]).T
    down = -np.einsum("ik,jk->kij", axes[2], axes[2])
    whole, pole = np.eye(3), np.eye(3) * ANTENNA_SIGMA_M**2
    out, of_base = [], ((whole, base_arp.errors),)
    for k, one in enumerate(every):
        own = {f"vector {one.id}": (whole, vectors[k])}
        if one.height_m:
            own[f"rover antenna {one.id}"] = (down[k], pole)
        out.append(Point(xyz=ground[k], errors=Errors(own, of_base)))
    return out


def tied_arp(target: Point, there: Sequence[Measured]) -> Point:
    """The base's ARP such that occupations of a mark from it agree, in the mean, with the mark's position.
    Raises ProcedureError without any."""
    if not there:
        raise ProcedureError(
            "no occupation from it ties the base to the mark", hint="Measure the mark from this base"
        )
    each, hung = [], Point(xyz=target.xyz, errors=Errors(common=((np.eye(3), target.errors),)))
    for one in there:
        rover = raised(hung, one.height_m, f"rover antenna {one.id}")
        lat, lon, _ = rover.geodetic
        axes = enu_axes(lat, lon)
        vector = {f"vector {one.id}": (-np.eye(3), axes.T @ one.covariance @ axes)}
        each.append(Point(xyz=rover.xyz - one.vector, errors=rover.errors.plus(vector)))
    return mean(each)


def mean(points: Sequence[Point], weights: Sequence[FloatArray] | None = None) -> Point:
    """The mean of points; weights (3, 3) each, equal without."""
    if weights is None:
        weights = [np.eye(3)] * len(points)
    whole = np.linalg.inv(np.sum(weights, axis=0))
    shares = [whole @ weight for weight in weights]
    return Point(
        xyz=sum((share @ p.xyz for share, p in zip(shares, points, strict=True)), np.zeros(3)),
        errors=combined((share, p.errors) for share, p in zip(shares, points, strict=True)),
    )


# Epochs
# ---------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, kw_only=True, eq=False)
class EpochMean:
    """Mean of epochs: geocentric (3,), and how many independent ones they are worth."""

    xyz: FloatArray
    effective: float


#: A gap counts as so many steps of the epochs at most: a clock that leaps observes nothing meanwhile.
LONGEST_GAP = 10.0


def observed_span_s(seconds: FloatArray) -> float:
    """Seconds that epochs at times (k,) cover: the sum of their steps and one more. A time that stands still
    or goes back adds nothing, a leap LONGEST_GAP usual steps."""
    steps = np.diff(seconds)
    ahead = steps[steps > 0.0]
    if not ahead.size:
        return 0.0
    usual = float(np.median(ahead))
    return float(np.minimum(ahead, LONGEST_GAP * usual).sum()) + usual


#: What epochs of a solution scatter by at most, metres: more, and some lie in another place.
SCATTER_M = {"fixed": 0.1, "float": 1.0, "code": 5.0}
MOST_SCATTER_M = 15.0
#: Epochs over so many robust sigmas from the median lie apart.
APART = 8.0


def epochs_together(xyz: FloatArray, solution: str) -> NDArray[np.bool_]:
    """Which of k epochs (3, k) lie about their median, as far as the solution may scatter or as the others
    do."""
    away = np.linalg.norm(xyz - np.median(xyz, axis=1, keepdims=True), axis=0)
    limit = max(APART * 1.4826 * float(np.median(away)), SCATTER_M.get(solution, MOST_SCATTER_M))
    return np.asarray(away <= limit)


def mean_of_epochs(xyz: FloatArray, seconds: FloatArray, solution: str) -> EpochMean:
    """Mean of k epochs (3, k) at times (k,).

    A receiver's errors are correlated in time: the mean over T seconds of an error with correlation time t
    has the variance 2 (t/T) (1 - (t/T) (1 - exp(-T/t))) of one epoch's (first-order Gauss-Markov process;
    Papoulis, Probability, Random Variables and Stochastic Processes, from memory).
    """
    k = xyz.shape[1]
    span = observed_span_s(seconds)
    share = 1.0
    if k > 1 and span > 0.0:
        ratio = CORRELATED_S.get(solution, 60.0) / span
        share = 2.0 * ratio * (1.0 - ratio * (1.0 - math.exp(-1.0 / ratio)))
    return EpochMean(xyz=xyz.mean(axis=1), effective=1.0 / min(max(share, 1.0 / k), 1.0))
