"""What instruments and targets that do not stand exactly over their marks add to the sigmas of a network.

An axis off its mark by e in any direction moves a direction by e / S, an angle over a base line S12 by
e S12 / (S1 S2), and a distance by e (Ghilani, Adjustment Computations, chapter 7, from memory: there with
e as the radius, here as the sigma along each axis). What it does to several observations of one setup is the
same, which this leaves out, as is usual: the sigmas are enlarged.
"""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fenwind.procedures.network_model import Marks, Network, Row, positions_of, verticals

FloatArray = NDArray[np.float64]


def centred(net: Network, marks: Marks, instrument_m: float, target_m: float) -> Network:
    """The network with sigmas enlarged by the centring of instruments and targets, metres along each axis;
    levelling is left as it is, and vectors get both ends' in plan."""
    xyz = positions_of(net, marks.place)
    up = verticals(net, xyz)[2]
    rows = tuple(_enlarged(row, marks, xyz, up, instrument_m, target_m) for row in net.rows)
    return replace(net, rows=rows)


def _enlarged(
    row: Row, marks: Marks, xyz: FloatArray, up: FloatArray, instrument_m: float, target_m: float
) -> Row:
    if not {row.at, row.to, row.back or row.to} <= set(marks.index):
        return row
    at, to, back = (marks.index[n] for n in (row.at, row.to, row.back or row.to))
    own = up[:, at]
    if row.kind == "vector":
        plan = (instrument_m**2 + target_m**2) * (np.eye(3) - np.outer(own, own))
        return replace(row, covariance=row.covariance + plan)
    first, second = _level(xyz[:, to] - xyz[:, at], own), _level(xyz[:, back] - xyz[:, at], own)
    s, s0 = float(np.linalg.norm(first)), float(np.linalg.norm(second))
    if row.kind in ("distance", "horizontal_distance"):
        more = instrument_m**2 + target_m**2
    elif row.kind in ("direction", "azimuth"):
        more = (instrument_m**2 + target_m**2) / s**2
    elif row.kind == "angle":
        across = float(np.linalg.norm(first - second))
        more = (instrument_m * across / (s * s0)) ** 2 + target_m**2 * (1.0 / s**2 + 1.0 / s0**2)
    else:
        return row
    return replace(row, covariance=row.covariance + more)


def _level(way: FloatArray, up: FloatArray) -> FloatArray:
    return np.asarray(way - (way @ up) * up)
