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
from fenwind.estimation.distributions import f_tail
from fenwind.estimation.engine import Problem, adjust
from fenwind.quantities.numbers import counted

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

    def point_covariance(self, xyz: FloatArray) -> FloatArray:
        """Covariance (3, 3, k) that the fit gives positions (3, k) it carries, geocentric; nan without
        redundancy."""
        if self.covariance is None:
            return np.full((3, 3, xyz.shape[1]), np.nan)
        x = xyz - self.centre[:, None]
        rows = np.zeros((3, 7, xyz.shape[1]))
        rows[:, :3] = np.eye(3)[:, :, None]
        for k in range(3):
            rows[:, 3 + k] = np.cross(np.eye(3)[k], x.T).T
        rows[:, 6] = x
        return np.asarray(np.einsum("iak,ab,jbk->ijk", rows, self.covariance, rows))

    def carry(self, xyz: FloatArray) -> FloatArray:
        """Positions (3, k) carried."""
        return self.shift[:, None] + (1.0 + self.scale) * (xyz + np.cross(self.rotation, xyz.T).T)

    def back(self, xyz: FloatArray) -> FloatArray:
        """What `carry` makes of the answer: positions (3, k) carried the other way."""
        turned = np.eye(3) + np.cross(self.rotation, np.eye(3)).T
        return np.asarray(np.linalg.solve((1.0 + self.scale) * turned, xyz - self.shift[:, None]))


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
            f"{counted(count, 'pair')} found, {parameters} parameters need {needed}",
            hint="Give more marks in both",
        )
    centre = source.mean(axis=1)
    spreads = principal_spreads(source)
    if parameters == 7 and not spreads[1] > LINE * max(spreads[0], 1e-3 / LINE):
        raise ProcedureError(
            "the pairs are on one line or at one point, so 7 parameters are not determined",
            hint="Give a mark off the line, or take 3 parameters",
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


# What the others say, and which model
# ---------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, kw_only=True, eq=False)
class WithoutIt:
    """What each pair (3, k) misses by when the others alone carry it, geocentric, nan where these are too
    few; test (k,): that against what the others and the prediction are good for, F with 3 and dof degrees of
    freedom, nan without redundancy."""

    away: FloatArray
    test: FloatArray
    dof: int


def leave_one_out(source: FloatArray, target: FloatArray, parameters: int) -> WithoutIt:
    """Every pair (3, k) from the others: F = d^T S^-1 d / 3, S the covariance of its prediction plus that of
    a coordinate, both by what the others leave over."""
    count = source.shape[1]
    away, test = np.full((3, count), np.nan), np.full(count, np.nan)
    for i in range(count):  # a fit each: pairs are tens
        rest, one = np.arange(count) != i, source[:, [i]]
        try:
            found = datum_fit(source[:, rest], target[:, rest], parameters)
        except ProcedureError:
            continue
        away[:, i] = (found.carry(one) - target[:, [i]])[:, 0]
        if found.sigma0_m:
            spread = found.point_covariance(one)[:, :, 0] + found.sigma0_m**2 * np.eye(3)
            test[i] = float(away[:, i] @ np.linalg.solve(spread, away[:, i])) / 3.0
    return WithoutIt(away=away, test=test, dof=3 * (count - 1) - parameters)


@dataclass(frozen=True, kw_only=True)
class Compared:
    """Root mean square residual of a shift alone and of seven parameters, metres, nan where one is not
    determined; p_value: how likely the gain is chance, nan without redundancy left."""

    shift_rms_m: float
    seven_rms_m: float
    p_value: float


def compared(source: FloatArray, target: FloatArray) -> Compared:
    """A shift alone against seven parameters: F = ((S3 - S7) / 4) / (S7 / (3k - 7))."""
    squares, count = {}, source.shape[1]
    for parameters in (3, 7):
        try:
            residuals = datum_fit(source, target, parameters).residuals
        except ProcedureError:
            residuals = np.full((3, count), np.nan)
        squares[parameters] = float(np.sum(residuals**2))
    dof, p_value = 3 * count - 7, math.nan
    if dof > 0 and squares[7] > 0.0:
        p_value = float(f_tail((squares[3] - squares[7]) / 4.0 / (squares[7] / dof), 4, dof))
    three, seven = (math.sqrt(squares[k] / (3 * count)) for k in (3, 7))
    return Compared(shift_rms_m=three, seven_rms_m=seven, p_value=p_value)
