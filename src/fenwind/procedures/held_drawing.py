"""A drawing held against positions of the same marks: its scale on their grid by a similarity, how well that
is known, and what is left at each mark, so that what explains its scale can be looked for."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.estimation.distributions import t_quantile
from fenwind.geodesy.frames import Frame
from fenwind.procedures.fit_case import find_majority
from fenwind.procedures.ratio_causes import Explained, explained_ratio, place_at, zone_scales
from fenwind.procedures.similarity import PairSet, Similarity, alike, estimate
from fenwind.quantities.lengths import FOOT

FloatArray = NDArray[np.float64]

#: Marks that a drawing needs for its scale to be known with an uncertainty.
LEAST_MARKS = 3
#: Better than this, metres a coordinate, no drawing is taken to be however well it fits (half a millimetre is
#: the rounding of three decimals).
LEAST_SIGMA_M = 0.0005
#: A drawing is in another unit than was said where its size is this far off, as a part of it.
_OTHER_UNIT = 0.01
#: How well a drawing may hold its points, metres: plotted by coordinates, digitised, sketched. What lies over
#: three times as far off is another place.
TOLERANCES_M = (0.02, 0.1, 0.5)


@dataclass(frozen=True, kw_only=True, eq=False)
class HeldDrawing:
    """A drawing on the marks it has in common with a grid. ratio: its lengths over the grid's; limit_ppm: how
    well that is known (95 %); unit: "feet taken for metres" and the like where another unit than was said
    makes it fit, empty else, and then taken out of the ratio; left_m (k,): what is left at each mark in
    plan; off (k,): marks so far from the rest that they took no part."""

    names: tuple[str, ...]
    ratio: float
    limit_ppm: float
    unit: str
    left_m: FloatArray
    off: NDArray[np.bool_]
    found: Explained

    @property
    def worst(self) -> int:
        """Row of the mark with the most left over of those that took part."""
        return int(np.argmax(np.where(self.off, -1.0, self.left_m)))

    @property
    def rms_m(self) -> float:
        """Root of the mean square of what is left where marks took part."""
        return float(np.sqrt(np.mean(self.left_m[~self.off] ** 2)))


def hold_drawing(
    frame: Frame,
    names: Sequence[str],
    drawn: FloatArray,
    grid: FloatArray,
    h_m: FloatArray,
    undulation_m: FloatArray | None = None,
) -> HeldDrawing:
    """Hold a drawing (2, k) against a grid's positions (2, k) of the same marks, metres, with heights above
    the ellipsoid (k,), nan where unknown: causes that need a height are left out where none is known, and one
    factor for all is known no better than factors differ from mark to mark.

    Raises ProcedureError for fewer than three marks, marks at one place, or a drawing that is the grid's
    mirror image.
    """
    if len(names) < LEAST_MARKS or not np.ptp(drawn, axis=1).any():
        raise ProcedureError(
            f"the drawing has {len(names)} of the marks, {LEAST_MARKS} at different places are needed",
            hint="Give its points the marks' names",
        )
    pairs = alike(grid, drawn)
    _refuse_mirrored(pairs, _left(pairs, estimate(pairs, "scale")[0]))
    off = _far_off(pairs)
    turned, _ = estimate(pairs.take(np.flatnonzero(~off)), "scale")
    left = _left(pairs, turned)
    redundancy = 2 * int(np.sum(~off)) - 4
    sigma = max(float(np.sqrt(np.sum(left[~off] ** 2) / redundancy)), LEAST_SIGMA_M)
    known = t_quantile(0.975, redundancy) * sigma * float(np.sqrt(turned.covariance[3, 3])) / turned.scale
    unit, size = _unit(turned.scale)
    ratio = turned.scale / size
    found = _explained(frame, grid, h_m, undulation_m, ratio, known * 1e6)
    return HeldDrawing(
        names=tuple(names), ratio=ratio, limit_ppm=found.rounding_ppm, unit=unit,
        left_m=left / turned.scale, off=off, found=found,
    )  # fmt: skip


def _explained(
    frame: Frame,
    grid: FloatArray,
    h_m: FloatArray,
    undulation_m: FloatArray | None,
    ratio: float,
    known: float,
) -> Explained:
    """What explains a ratio that is known to so many parts per million, at the middle of the marks."""
    tall = np.isfinite(h_m)
    height = float(np.mean(h_m[tall])) if tall.any() else float("nan")
    lat, lon = frame.inverse(*grid)
    limit = known + _spread(frame, lat, lon, np.where(tall, h_m, height if tall.any() else 0.0))
    # On the plane: a mean of longitudes lies elsewhere where marks are on both sides of 180 degrees.
    middle = [float(v) for v in frame.inverse(*grid.mean(axis=1))]
    undulation = None if undulation_m is None else float(np.mean(undulation_m))
    here = place_at(frame, middle[0], middle[1], height, undulation)
    zones = zone_scales(frame, middle[0], middle[1])
    return explained_ratio(ratio, limit, abs(ratio - 1.0) * 1e6 <= limit, here, zones)


def _left(pairs: PairSet, turned: Similarity) -> FloatArray:
    return np.asarray(np.hypot(*(np.stack(turned.forward(*pairs.source)) - pairs.target)))


def _far_off(pairs: PairSet) -> NDArray[np.bool_]:
    """Marks that do not lie as the majority does (k,), by the closest tolerance that has one; none where
    there is no majority."""
    for tolerance in TOLERANCES_M:
        found = find_majority(pairs, tolerance)
        if found is not None and int(found.agrees.sum()) > 0.6 * found.agrees.size:
            return ~found.agrees
    return np.zeros(pairs.source.shape[1], dtype=bool)


def _refuse_mirrored(pairs: PairSet, left: FloatArray) -> None:
    mirrored, _ = estimate(replace(pairs, target=pairs.target[::-1]), "scale")
    other = np.hypot(*(np.stack(mirrored.forward(*pairs.source)) - pairs.target[::-1]))
    if float(np.sum(left**2)) > 100.0 * max(float(np.sum(other**2)), left.size * LEAST_SIGMA_M**2):
        raise ProcedureError(
            "the drawing is a mirror image of the marks",
            hint="Exchange its easting and northing, or turn one of them round",
        )


def _unit(scale: float) -> tuple[str, float]:
    """What was taken for what, and by how much that changes lengths."""
    for words, size in (("metres taken for feet", FOOT.metres), ("feet taken for metres", 1.0 / FOOT.metres)):
        if abs(scale / size - 1.0) < _OTHER_UNIT:
            return words, size
    return "", 1.0


def _spread(frame: Frame, lat: FloatArray, lon: FloatArray, h_m: FloatArray) -> float:
    """How far the combined factor of a mark is from their middle at most, parts per million."""
    combined = frame.point_scale(lat, lon)[0] * frame.elevation_factor(lat, h_m)
    return float(np.max(np.abs(combined / np.mean(combined) - 1.0)) * 1e6)
