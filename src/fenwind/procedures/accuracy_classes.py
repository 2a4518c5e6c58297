"""How well two marks are known to each other, against classes of relative accuracy.

The classes are those of the Federal Geodetic Control Committee, Geometric Geodetic Accuracy Standards and
Specifications for Using GPS Relative Positioning Techniques, 1989 (from memory): a base error and a part of
the distance, at 95 %.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.estimation.distributions import normal_quantile, plan_reach
from fenwind.procedures.network import NetworkResult
from fenwind.procedures.network_model import positions_of
from fenwind.procedures.network_whole import joint_positions
from fenwind.procedures.regions import ellipses

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, slots=True)
class AccuracyClass:
    """A class: base error in metres and a part of the distance, at 95 %."""

    name: str
    base_m: float
    part: float

    def allowed_m(self, distance_m: float) -> float:
        """What it allows over a distance."""
        return math.hypot(self.base_m, self.part * distance_m)


CLASSES = (
    AccuracyClass("AA", 0.003, 0.01e-6),
    AccuracyClass("A", 0.005, 0.1e-6),
    AccuracyClass("B", 0.008, 1e-6),
    AccuracyClass("1", 0.010, 10e-6),
    AccuracyClass("2-I", 0.020, 20e-6),
    AccuracyClass("2-II", 0.030, 50e-6),
    AccuracyClass("3", 0.050, 100e-6),
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Relative:
    """Two marks: their distance; semi-axes of the 95 % ellipse of one about the other and the bearing of the
    longer (radians), nan in heights alone; 95 % of the difference in height, nan in plan; the best class
    that the ellipse keeps, None for none."""

    distance_m: float
    a_m: float
    b_m: float
    bearing_rad: float
    height_m: float
    accuracy: AccuracyClass | None


def between(result: NetworkResult, first: str, second: str) -> Relative:
    """How well a mark is known from another, in the axes of the first."""
    net = result.net
    _, joint = joint_positions(result, [first, second])
    n = len(net.axes)
    d = np.concatenate([-np.eye(n), np.eye(n)], axis=1)
    covariance = d @ joint @ d.T
    columns = [result.marks.index[name] for name in (first, second)]
    xyz = positions_of(net, result.marks.place[:, columns])
    axes = 2 if net.dimensions == 2 else 3
    distance = float(np.linalg.norm((xyz[:, 1] - xyz[:, 0])[:axes]))
    height = math.nan if net.dimensions == 2 else normal_quantile(0.975) * math.sqrt(covariance[-1, -1])
    if net.dimensions == 1:
        nan = math.nan
        return Relative(
            distance_m=distance, a_m=nan, b_m=nan, bearing_rad=nan, height_m=height, accuracy=None
        )
    a, b, bearing = (float(v[0]) for v in ellipses(covariance[:2, :2, None]))
    a, b = plan_reach() * a, plan_reach() * b
    kept = next((c for c in CLASSES if a <= c.allowed_m(distance)), None)
    return Relative(distance_m=distance, a_m=a, b_m=b, bearing_rad=bearing, height_m=height, accuracy=kept)
