"""How good the figure of a resection is: what gap its targets leave around the instrument, and what one more
target would bring."""

from __future__ import annotations

import math

import numpy as np
from numpy.typing import NDArray

from fenwind.procedures.resection import Case, Resection, ResectionOptions

FloatArray = NDArray[np.float64]


def largest_gap(case: Case, found: Resection) -> float:
    """The largest angle (radians) around the instrument in which no target stands; above pi it is outside
    the net of its targets."""
    azimuth = np.sort(np.arctan2(case.known[0] - found.e, case.known[1] - found.n))
    gaps = np.diff(np.concatenate([azimuth, azimuth[:1] + 2.0 * math.pi]))
    return float(gaps.max())


def plan_sigma(covariance: FloatArray) -> float:
    """One sigma in plan per axis of a covariance whose first two are easting and northing."""
    return math.sqrt(max(0.5 * float(covariance[0, 0] + covariance[1, 1]), 0.0))


def with_one_more(
    found: Resection, places: FloatArray, sigma_m: FloatArray, options: ResectionOptions
) -> FloatArray:
    """The sigma in plan (k,) that a free instrument would have with one more sighting, direction and
    distance, to each of some places (2, k) known in plan to a sigma per axis (k,): Q - Q a^T (R + a Q
    a^T)^-1 a Q."""
    q = found.whole[:3, :3]
    de, dn = places[0] - found.e, places[1] - found.n
    d2 = de * de + dn * dn
    d, zero = np.sqrt(d2), np.zeros(de.size)
    a = np.array([[-dn / d2, de / d2, zero - 1.0], [-de / d, -dn / d, zero]])
    r = np.zeros((2, 2, de.size))
    r[0, 0] = options.sigma_direction**2 + sigma_m**2 / d2
    r[1, 1] = (options.sigma_distance_m + options.sigma_distance_ppm * 1e-6 * d) ** 2 + sigma_m**2
    aq = np.einsum("iak,ab->kib", a, q)
    inner = np.moveaxis(r, 2, 0) + np.einsum("kib,jbk->kij", aq, a)
    less = np.einsum("kia,kib->kab", aq, np.linalg.solve(inner, aq))
    return np.asarray(np.sqrt(np.maximum(0.5 * (q[0, 0] + q[1, 1] - less[:, 0, 0] - less[:, 1, 1]), 0.0)))
