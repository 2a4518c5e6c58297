"""A set of named positions on a plane, the currency between procedures."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenwind.procedures.joint import Joint, Taken

FloatArray = NDArray[np.float64]

#: Sigmas taken when none are given, metres per axis: what a fixed GNSS position is commonly worth (common
#: practice, no source).
ASSUMED_SIGMA_H_M = 0.010
ASSUMED_SIGMA_V_M = 0.020

#: Positions that are looked at to see what all of some share.
MOST_BESIDE = 8


@dataclass(frozen=True, kw_only=True, eq=False)
class Positions:
    """k positions: e_m, n_m (k,) and height_m (k,), nan where there is none; covariance (3, 3, k) of e, n,
    height in square metres, nan where not known. Names are unique: names of marks in files,
    ids of marks in a job. joint: how they vary together, None where each has errors of its own only."""

    names: tuple[str, ...]
    e_m: FloatArray
    n_m: FloatArray
    height_m: FloatArray
    covariance: FloatArray
    joint: Joint | None = None

    def __post_init__(self) -> None:
        for array in (self.e_m, self.n_m, self.height_m, self.covariance):
            array.flags.writeable = False

    def __len__(self) -> int:
        return len(self.names)

    @cached_property
    def index(self) -> dict[str, int]:
        """Row of every name."""
        return {name: i for i, name in enumerate(self.names)}

    def take(self, rows: NDArray[np.intp]) -> Positions:
        """The positions of some rows, in that order."""
        return Positions(
            names=tuple(self.names[i] for i in rows),
            e_m=self.e_m[rows],
            n_m=self.n_m[rows],
            height_m=self.height_m[rows],
            covariance=self.covariance[:, :, rows],
            joint=Taken(whole=self.joint, rows=rows) if self.joint is not None else None,
        )

    def difference_covariance(self, first: int, second: int) -> FloatArray:
        """Covariance (3, 3) of position `second` less position `first`, in square metres: what both share
        falls out. nan where one is not known."""
        if first == second:
            return np.zeros((3, 3))
        own = self.covariance[:, :, first] + self.covariance[:, :, second]
        if self.joint is None:
            return np.asarray(own)
        cross = self.joint.between(np.array([first]), np.array([second]))[:, :, 0]
        return np.asarray(own - cross - cross.T)

    def beside(self, rows: NDArray[np.intp], heights: bool) -> Positions:
        """The same positions as known beside those of `rows`: a shift that all of these share, such as the
        error of the base they were measured from, is left to whoever fits a shift to them, in plan and, with
        `heights`, in height. The covariance is that of a position less the shift shared by the rows, which is
        their mean covariance with one another."""
        if self.joint is None or rows.size < 2:
            return self
        chosen = rows[np.unique(np.linspace(0, rows.size - 1, MOST_BESIDE).round().astype(np.intp))]
        every = np.arange(len(self))
        shared = np.zeros((3, 3, len(self)))
        count = np.zeros(len(self))
        for row in chosen.tolist():
            others = every[every != row]
            shared[:, :, others] += self.joint.between(others, np.full(others.size, row))
            count[others] += 1
        shared /= count
        common = shared[:, :, chosen].mean(axis=2)
        axes = slice(0, 3 if heights else 2)
        covariance = np.array(self.covariance)
        less = covariance - shared - shared.transpose(1, 0, 2) + common[:, :, None]
        covariance[axes, axes] = less[axes, axes]
        covariance[2, :2] = covariance[:2, 2] = 0.0
        if np.nanmin(covariance[[0, 1, 2], [0, 1, 2]], initial=1.0) <= 0.0:
            return self
        return replace(self, covariance=covariance, joint=None)

    @cached_property
    def sigma_h_m(self) -> FloatArray:
        """Horizontal sigma per axis (k,): the root of the mean of both variances."""
        # A pair that alone fixes a fit has a variance of zero, which rounding may leave just below it.
        return np.asarray(np.sqrt(np.maximum(0.5 * (self.covariance[0, 0] + self.covariance[1, 1]), 0.0)))

    @cached_property
    def sigma_v_m(self) -> FloatArray:
        """Vertical sigma (k,)."""
        return np.asarray(np.sqrt(np.maximum(self.covariance[2, 2], 0.0)))


def positions(
    names: Iterable[str],
    e_m: FloatArray,
    n_m: FloatArray,
    height_m: FloatArray,
    sigma_h_m: FloatArray | None = None,
    sigma_v_m: FloatArray | None = None,
) -> Positions:
    """Positions from arrays (k,); sigmas per horizontal axis and vertical, nan or None where not known."""
    names = tuple(names)
    k = len(names)
    covariance = np.full((3, 3, k), np.nan)
    if sigma_h_m is not None:
        covariance[0, 0] = covariance[1, 1] = np.square(sigma_h_m)
        covariance[0, 1] = covariance[1, 0] = np.where(np.isfinite(sigma_h_m), 0.0, np.nan)
    if sigma_v_m is not None:
        covariance[2, 2] = np.square(sigma_v_m)
    covariance[0:2, 2] = covariance[2, 0:2] = np.where(
        np.isfinite(covariance[0, 0] + covariance[2, 2]), 0.0, np.nan
    )
    arrays = [np.array(a, dtype=float) for a in (e_m, n_m, height_m)]
    return Positions(names=names, e_m=arrays[0], n_m=arrays[1], height_m=arrays[2], covariance=covariance)


def scaled(points: Positions, factor: float) -> Positions:
    """Coordinates (k,) times a factor, as those of another unit; sigmas stay metres."""
    return Positions(
        names=points.names,
        e_m=points.e_m * factor,
        n_m=points.n_m * factor,
        height_m=points.height_m * factor,
        covariance=points.covariance,
    )
