"""The weighted mean of several occupations: of one mark with all statistics, and of many marks at once."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import EstimationError, ProcedureError
from fenwind.estimation.blocks import cholesky, lower_inverse, multiply
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


@dataclass(frozen=True, kw_only=True, eq=False)
class Means:
    """Means of m marks: mean (3, m) of e, n, height, nan where a mark has none; covariance (3, 3, m) from
    the given sigmas; departure (3, m): largest departure of an occupation from the mean on each axis;
    count (m,)."""

    mean: FloatArray
    covariance: FloatArray
    departure: FloatArray
    count: NDArray[np.intp]


def means(values: FloatArray, covariance: FloatArray, group: NDArray[np.intp]) -> Means:
    """Weighted means of k occupations of m marks: values (3, k) in metres, height nan where there is none,
    covariance (3, 3, k) known throughout, group (k,) the mark of each, 0 to m - 1, each at least once.

    The normal equations N x = sum of P l of `average`, all marks at once; an occupation without a height
    weighs in plan alone. Raises EstimationError for a covariance that is not positive definite.
    """
    order = np.argsort(group, kind="stable")
    starts = np.searchsorted(group[order], np.arange(int(group.max(initial=-1)) + 1))
    count = np.diff(np.append(starts, group.size))
    centre = np.stack([_sums(v, order, starts) / count for v in np.nan_to_num(values)])
    weight = _weights(covariance, np.isfinite(values[2]))
    offset = np.nan_to_num(values - centre[:, group])
    right = np.einsum("ijk,jk->ik", weight, offset)
    normal = np.stack([[_sums(weight[i, j], order, starts) for j in range(3)] for i in range(3)])
    no_height = normal[2, 2] <= 0.0
    normal[2, 2, no_height] = 1.0
    inverse = lower_inverse(cholesky(normal))
    cofactors = multiply(inverse.transpose(1, 0, 2), inverse)
    shift = np.einsum("ijk,jk->ik", cofactors, np.stack([_sums(r, order, starts) for r in right]))
    mean = centre + shift
    mean[2, no_height] = np.nan
    cofactors[2, :, no_height] = cofactors[:, 2, no_height] = np.nan
    away = np.abs(np.nan_to_num(values - mean[:, group]))
    departure = np.stack([np.maximum.reduceat(a[order], starts) if starts.size else a for a in away])
    return Means(mean=mean, covariance=cofactors, departure=departure, count=count)


def _sums(values: FloatArray, order: NDArray[np.intp], starts: NDArray[np.intp]) -> FloatArray:
    """Sums (m,) over groups of sorted values (k,)."""
    return np.asarray(np.add.reduceat(values[order], starts)) if starts.size else np.zeros(0)


def _weights(covariance: FloatArray, with_height: NDArray[np.bool_]) -> FloatArray:
    """Weights (3, 3, k): the inverse of a covariance, of its part in plan where there is no height."""
    weight = np.zeros(covariance.shape)
    for axes, rows in ((3, np.flatnonzero(with_height)), (2, np.flatnonzero(~with_height))):
        if rows.size:
            inverse = lower_inverse(cholesky(covariance[:axes, :axes, rows]))
            if not np.isfinite(inverse).all():
                raise EstimationError(
                    "a covariance is not positive definite", hint="Give every occupation a sigma above zero"
                )
            weight[:axes, :axes, rows] = multiply(inverse.transpose(1, 0, 2), inverse)
    return weight
