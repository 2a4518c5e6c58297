"""Rules about grid and ground: factors from paper, factors the wrong way, coordinates that overlap."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from fenwind.doubts.registry import Doubt
from fenwind.quantities.lengths import format_way

FloatArray = NDArray[np.float64]

ROUNDED_M = 0.001
#: A factor is the mean's, or its reciprocal's, within this.
SAME = 10e-6


def ground_doubts(
    factor: float, half_digit: float, own: FloatArray, farthest_m: float, grid: FloatArray, ground: FloatArray
) -> Iterator[Doubt]:
    """half_digit: half a unit of the last digit of a typed factor, 0 for one that was computed; own: the
    marks' factors (k,); farthest_m: from the origin to the farthest mark; grid, ground (2, k)."""
    off = half_digit * farthest_m
    if off > ROUNDED_M:
        yield Doubt(
            rule="factor-rounded", subject="ground", names=(), value=off, limit=ROUNDED_M,
            text=f"The factor is rounded: half a unit of its last digit is {format_way(off)} at the farthest "
            "mark. Give more digits.",
        )  # fmt: skip
    if half_digit and own.size:
        mean = float(own.mean())
        if abs(factor * mean - 1.0) <= SAME < abs(factor / mean - 1.0):
            yield Doubt(
                rule="factor-inverted", subject="ground", names=(), value=factor, limit=mean, unit="",
                text=f"The factor {factor:.9f} is the reciprocal of the marks' mean {mean:.9f}: it goes from "
                "ground to grid.",
            )  # fmt: skip
    low, high = (
        np.maximum(grid.min(axis=1), ground.min(axis=1)),
        np.minimum(grid.max(axis=1), ground.max(axis=1)),
    )
    if (low <= high).all():
        yield Doubt(
            rule="overlaps-grid", subject="ground", names=(), unit="",
            text="Ground and grid coordinates overlap: one can be taken for the other. Add an offset.",
        )  # fmt: skip
