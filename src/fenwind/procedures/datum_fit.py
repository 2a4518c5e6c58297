"""A fit in space: from one set of geocentric positions onto another by three or seven parameters.

X' = T + (1 + m)(X + r x X), small rotations in the position-vector sense, as PROJ and EPSG (method 1033)
have it; solved about the mean of the pairs, so that the shift there is not entangled with the rotations.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.estimation.engine import Problem, adjust

FloatArray = NDArray[np.float64]

#: Pairs whose second principal spread is under this part of the first are on a line.
LINE = 1e-5


@dataclass(frozen=True, kw_only=True, eq=False)
class DatumFit:
    """shift at the geocentre and at the centre (3,), metres; rotation (3,) radians, position vector; scale m.
    residuals (3, k) carried - given, geocentric. covariance (7, 7) of the shift at the centre, rotations
    and scale, times the variance factor; None without redundancy. spreads: the principal ones (3,)."""

    shift: FloatArray
    centre: FloatArray
    shift_at_centre: FloatArray
    rotation: FloatArray
    scale: float
    residuals: FloatArray
    sigma0_m: float | None
    covariance: FloatArray | None
    spreads: FloatArray

    def carry(self, xyz: FloatArray) -> FloatArray:
        """Positions (3, k) carried."""
        return self.shift[:, None] + (1.0 + self.scale) * (xyz + np.cross(self.rotation, xyz.T).T)


def principal_spreads(xyz: FloatArray) -> FloatArray:
    """Root mean squares (3,) of positions (3, k) along their principal axes, the largest first."""
    centred = xyz - xyz.mean(axis=1, keepdims=True)
    values = np.linalg.svd(centred, compute_uv=False) / math.sqrt(xyz.shape[1])
    return np.concatenate([values, np.zeros(3 - values.size)])


def datum_fit(source: FloatArray, target: FloatArray, parameters: int = 7) -> DatumFit:
    """Fit pairs (3, k). Raises ProcedureError when there are too few, or all on a line or at a point."""
    count = source.shape[1]
    needed = 3 if parameters == 7 else 1
    if count < needed:
        raise ProcedureError(
            f"{count} pairs found, {parameters} parameters need {needed}", hint="Give more marks in both"
        )
    centre = source.mean(axis=1)
    spreads = principal_spreads(source)
    if parameters == 7 and not spreads[1] > LINE * max(spreads[0], 1e-3 / LINE):
        raise ProcedureError(
            "the pairs are on one line or at one point, so 7 parameters are not determined",
            hint="Give a mark off the line, or take --parameters 3",
        )
    x = source - centre[:, None]
    size = max(float(spreads[0]), 1.0)

    def model(p: FloatArray) -> tuple[FloatArray, FloatArray]:
        # Rotations and scale in units of 1 m over the size of the figure.
        turn, scale = (p[3:6] / size, p[6] / size) if p.size == 7 else (np.zeros(3), 0.0)
        turned = x + np.cross(turn, x.T).T
        value = centre[:, None] + p[:3, None] + (1.0 + scale) * turned
        rows = np.zeros((3, p.size, count))
        rows[:, :3] = np.eye(3)[:, :, None]
        if p.size == 7:
            for k in range(3):
                rows[:, 3 + k] = (1.0 + scale) * np.cross(np.eye(3)[k], x.T).T / size
            rows[:, 6] = turned / size
        return value, rows

    names = ("tx", "ty", "tz", "rx", "ry", "rz", "m")[:parameters]
    found = adjust(
        Problem(
            names=names, start=np.concatenate([(target - source).mean(axis=1), np.zeros(parameters - 3)]),
            observed=target, covariance=np.repeat(np.eye(3)[:, :, None], count, axis=2), model=model,
        )
    )  # fmt: skip
    whole = np.zeros(7)
    whole[:parameters] = found.x / np.array([1.0, 1.0, 1.0, *[size] * 4])[:parameters]
    turn, scale, at_centre = whole[3:6], float(whole[6]), whole[:3]
    covariance = None
    if found.dof:
        units = np.array([1.0, 1.0, 1.0, *[size] * 4])[:parameters]
        covariance = np.zeros((7, 7))
        q = found.cofactors / units / units[:, None] * (found.variance_factor or 0.0)
        covariance[:parameters, :parameters] = q
    return DatumFit(
        shift=centre + at_centre - (1.0 + scale) * (centre + np.cross(turn, centre)), centre=centre,
        shift_at_centre=at_centre, rotation=turn, scale=scale, residuals=found.residuals,
        sigma0_m=math.sqrt(found.variance_factor or 0.0) if found.dof else None, covariance=covariance,
        spreads=spreads,
    )  # fmt: skip
