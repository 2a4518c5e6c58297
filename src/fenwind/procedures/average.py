"""The weighted mean of several occupations of one mark."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.estimation.engine import Adjustment, Problem, adjust

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True, eq=False)
class Average:
    """Mean (d,), its covariance (d, d) from the given sigmas, largest departure from the mean per axis (d,),
    and the adjustment."""

    mean: FloatArray
    covariance: FloatArray
    departure: FloatArray
    adjustment: Adjustment


def average(values: FloatArray, covariance: FloatArray) -> Average:
    """Weighted mean of k occupations: values (d, k) in metres, covariance (d, d, k), d = 1, 2 or 3.

    Raises ProcedureError for no occupation, EstimationError for a covariance that is not positive definite.
    """
    d, k = values.shape
    if k == 0:
        raise ProcedureError("there is nothing to average", hint="Measure the mark at least once")
    centre = values.mean(axis=1)
    design = np.repeat(np.eye(d)[:, :, None], k, axis=2)
    result = adjust(
        Problem(
            names=("e", "n", "h")[:d],
            start=np.zeros(d),
            observed=values - centre[:, None],
            covariance=covariance,
            model=lambda x: (np.repeat(x[:, None], k, axis=1), design),
            linear=True,
        )
    )
    mean = centre + result.x
    return Average(
        mean=mean,
        covariance=result.cofactors,
        departure=np.abs(values - mean[:, None]).max(axis=1),
        adjustment=result,
    )
