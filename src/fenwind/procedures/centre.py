"""The centre of what cannot be occupied: the middle of two opposite points, or of the circle through three or
more on its rim, each with its uncertainty."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError

FloatArray = NDArray[np.float64]

#: Steps of the circle at most, and when it stands still, metres.
STEPS, STILL_M = 50, 1e-9
#: A circle whose centre moves so many times as far as its rim points do is no circle.
MOST_SPREAD = 50.0


@dataclass(frozen=True, kw_only=True, eq=False)
class Middle:
    """The centre (3,) with its covariance (3, 3), the radius with its sigma, and how far each rim point lies
    outside the circle (k,): zeros for two and for three."""

    at: FloatArray
    covariance: FloatArray
    radius_m: float
    sigma_radius_m: float
    residuals: FloatArray


def middle(rim: FloatArray, covariance: FloatArray) -> Middle:
    """The middle of rim points (3, k): e, n, height; covariance (3k, 3k) of all of them, point after point.
    A circle is the one whose distances to its points in plan are least in their squares. Raises
    ProcedureError for fewer than two points, and for points of a circle that lie on a line."""
    count = rim.shape[1]
    if count < 2:
        raise ProcedureError("a centre needs two points or more", hint="Choose two opposite ones, or three")
    centre, radius, slope = _opposite(rim[:2]) if count == 2 else _circle(rim[:2])
    ways = np.zeros((4, 3 * count))  # of e, n, height and radius
    for row in (0, 1, 3):
        ways[row, 0::3], ways[row, 1::3] = slope[min(row, 2), 0], slope[min(row, 2), 1]
    ways[2, 2::3] = 1.0 / count
    every = ways @ covariance @ ways.T
    return Middle(
        at=np.array([*centre, rim[2].mean()]), covariance=every[:3, :3], radius_m=radius,
        sigma_radius_m=float(np.sqrt(max(every[3, 3], 0.0))),
        residuals=np.hypot(*(rim[:2] - centre[:, None])) - radius,
    )  # fmt: skip


def _opposite(rim: FloatArray) -> tuple[FloatArray, float, FloatArray]:
    """Centre and radius, and how they move with the points: (3, 2, 2)."""
    way = rim[:, 1] - rim[:, 0]
    length = float(np.hypot(*way))
    if length == 0.0:
        raise ProcedureError("the two points are one", hint="Choose two opposite ones")
    slope = np.zeros((3, 2, 2))
    slope[0, 0] = slope[1, 1] = 0.5
    slope[2] = 0.5 * np.stack([-way, way], axis=1) / length
    return rim.mean(axis=1), 0.5 * length, slope


def _circle(rim: FloatArray) -> tuple[FloatArray, float, FloatArray]:
    """The same of a circle, by Gauss-Newton steps from the circle of least algebraic distance."""
    mean = rim.mean(axis=1)
    x = rim - mean[:, None]
    design = np.vstack([2.0 * x, np.ones(x.shape[1])]).T
    if np.linalg.matrix_rank(x, tol=1e-6 * max(float(np.abs(x).max()), 1e-9)) < 2:
        raise ProcedureError("the points lie on one line", hint="Choose points all around the rim")
    a, b, c = np.linalg.lstsq(design, (x**2).sum(axis=0), rcond=None)[0]
    found = np.array([a, b, np.sqrt(max(c + a * a + b * b, 0.0))])
    for _ in range(STEPS):
        away = x - found[:2, None]
        distance = np.hypot(*away)
        rows = np.vstack([away / distance, np.ones(distance.size)]).T
        step = np.linalg.lstsq(rows, distance - found[2], rcond=None)[0]
        found = found + step
        if float(np.abs(step).max()) < STILL_M:
            break
    inverse = np.linalg.pinv(rows)
    if float(np.abs(inverse[:2]).sum(axis=1).max()) > MOST_SPREAD:
        raise ProcedureError(
            "the points lie too close together on the rim to say where its centre is",
            hint="Choose points all around it",
        )
    # How far a point moves outwards is all that counts: d(centre, radius) = rows^+ (u . dx).
    slope = np.einsum("ik,jk->ijk", inverse, rows[:, :2].T)
    return mean + found[:2], float(found[2]), slope
