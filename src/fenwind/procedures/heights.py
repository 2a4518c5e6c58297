"""The height part of a fit: H = h + shift + slope_e (E - e0) + slope_n (N - n0)."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import DatumDefectError, ProcedureError
from fenwind.estimation.engine import Adjustment, Problem, adjust
from fenwind.quantities.numbers import counted

FloatArray = NDArray[np.float64]
NAMES = ("height shift", "slope E", "slope N")


@dataclass(frozen=True, kw_only=True, eq=False)
class HeightCorrection:
    """Shift in metres at (e0_m, n0_m) of the target system, slopes in metres per metre; covariance (3, 3) of
    the three."""

    model: str
    shift_m: float
    slope_e: float
    slope_n: float
    e0_m: float
    n0_m: float
    covariance: FloatArray

    def design(self, e_m: FloatArray, n_m: FloatArray) -> FloatArray:
        """Derivatives (3, k) of H by shift and slopes."""
        return np.stack([np.ones_like(e_m), e_m - self.e0_m, n_m - self.n0_m])

    def forward(self, e_m: FloatArray, n_m: FloatArray, height_m: FloatArray) -> FloatArray:
        """Heights (k,) in the target system of marks at target coordinates e_m, n_m."""
        return np.asarray(height_m + self.correction(e_m, n_m))

    def correction(self, e_m: FloatArray, n_m: FloatArray) -> FloatArray:
        """What is added to a height at target coordinates (k,), metres."""
        return np.asarray(np.array([self.shift_m, self.slope_e, self.slope_n]) @ self.design(e_m, n_m))

    @property
    def tilt(self) -> float:
        """Steepest slope of the plane, metres per metre."""
        return float(np.hypot(self.slope_e, self.slope_n))


def no_correction() -> HeightCorrection:
    """Heights carried unchanged."""
    return HeightCorrection(
        model="none", shift_m=0.0, slope_e=0.0, slope_n=0.0, e0_m=0.0, n0_m=0.0, covariance=np.zeros((3, 3))
    )


def estimate(
    model: str,
    e_m: FloatArray,
    n_m: FloatArray,
    height_m: FloatArray,
    known_m: FloatArray,
    variance: FloatArray,
) -> tuple[HeightCorrection, Adjustment]:
    """Height correction "shift" or "plane" from pairs (k,): target coordinates, measured and known heights,
    variances in m².

    Residuals of the adjustment are computed - known (1, k). Raises ProcedureError for too few pairs or pairs
    on a line.
    """
    if e_m.size == 0:
        raise ProcedureError(
            "no pair is held in height", hint="Hold a pair with a known height, or carry heights unchanged"
        )
    e0, n0 = float(e_m.mean()), float(n_m.mean())
    n = 3 if model == "plane" else 1
    correction = HeightCorrection(
        model=model, shift_m=0.0, slope_e=0.0, slope_n=0.0, e0_m=e0, n0_m=n0, covariance=np.zeros((3, 3))
    )
    design = correction.design(e_m, n_m)[:n]
    problem = Problem(
        names=NAMES[:n],
        start=np.zeros(n),
        observed=(known_m - height_m)[None],
        covariance=variance[None, None],
        model=lambda x: ((x @ design)[None], design[None]),
        linear=True,
    )
    try:
        result = adjust(problem)
    except DatumDefectError as error:
        raise ProcedureError(
            f"a tilted plane cannot be found from {counted(e_m.size, 'pair')} held in height: "
            f"{error.message}",
            hint="Hold three or more pairs in height that do not lie on one line, or choose one shift",
        ) from error
    x = np.zeros(3)
    x[:n] = result.x
    covariance = np.zeros((3, 3))
    covariance[:n, :n] = result.cofactors
    values = dict(shift_m=float(x[0]), slope_e=float(x[1]), slope_n=float(x[2]))
    return HeightCorrection(model=model, e0_m=e0, n0_m=n0, covariance=covariance, **values), result
