"""How far a system is from the ground over the area of the marks: heights between them, bands and lines of
equal distortion, in the frame that is shown."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise
from typing import Any

import contourpy
import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.frames import Frame
from fenwind.job.ground_view import Marks
from fenwind.procedures.design_area import between_marks
from fenwind.quantities.numbers import format_fixed

FloatArray = NDArray[np.float64]
Carry = Callable[[FloatArray], FloatArray]

#: Cells along the longer side of the area.
CELLS = 72
#: Lines of equal distortion that are drawn, about.
LINES = 6
#: Farthest that a radius of validity is looked for, metres.
FARTHEST_M = 500_000.0


@dataclass(frozen=True, kw_only=True, eq=False)
class DistortionMap:
    """Bands: lower and upper value with outlines, each (2, m), holes among them. lines: value with its ways
    (2, m). Values in parts, places in metres of the frame shown. limit: where the distortion passes it.
    outline (2, m): between the marks; what is outside is not known."""

    bands: tuple[tuple[float, float, tuple[FloatArray, ...]], ...]
    lines: tuple[tuple[float, tuple[FloatArray, ...]], ...]
    limit: tuple[FloatArray, ...]
    outline: FloatArray


def distortion_map(
    frame: Frame, wanted: Frame, marks: Marks, carry: Carry, limit: float
) -> DistortionMap | None:
    """The map of a system over marks of a frame: heights are taken linearly between the marks. carry: from
    the frame's plane (2, m) to that shown. None where fewer than three marks that are not in line have a
    height."""
    found = _values(frame, wanted, marks)
    if found is None:
        return None
    x, y, off, outline = found
    levels = _levels(float(off.min()), float(off.max()))
    maker: Any = contourpy.contour_generator(x, y, off, fill_type=contourpy.FillType.OuterOffset)
    bands = []
    for low, high in pairwise(levels):
        parts = zip(*maker.filled(low, high), strict=True)
        outlines = [carry(part[a:b].T) for part, ends in parts for a, b in pairwise(ends)]
        bands.append((low, high, tuple(outlines)))
    lines = [(level, tuple(carry(way.T) for way in maker.lines(level))) for level in levels[1:-1]]
    passes = [carry(way.T) for value in (-limit, limit) for way in maker.lines(value)]
    return DistortionMap(bands=tuple(bands), lines=tuple(lines), limit=tuple(passes), outline=carry(outline))


def _values(
    frame: Frame, wanted: Frame, marks: Marks
) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray] | None:
    """Cells x (w,), y (h,) of the frame's plane, the distortion there (h, w), and the outline (2, m) of the
    marks with heights; beyond it the height is that of the nearest mark."""
    from scipy.spatial import ConvexHull, QhullError

    rows = np.flatnonzero(np.isfinite(marks.h_m))
    if rows.size < 3:
        return None
    at = marks.plane[:, rows]
    low, extent = at.min(axis=1), np.ptp(at, axis=1)
    step = float(extent.max()) / CELLS
    try:
        outline = at[:, ConvexHull((at - low[:, None]).T).vertices]
    except QhullError:
        return None
    x, y = (low[k] + step * np.arange(math.ceil(extent[k] / step) + 1) for k in (0, 1))
    e, n = (v.ravel() for v in np.meshgrid(x, y))
    h = between_marks(at, marks.h_m[rows])(np.stack([e, n]))
    lat, lon = frame.inverse(e, n)
    scale, _ = wanted.point_scale(lat, lon)
    off = (scale * wanted.elevation_factor(lat, h) - 1.0).reshape(y.size, x.size)
    return (x, y, off, outline) if np.isfinite(off).all() else None


def words(value: float) -> str:
    """A value in parts per million, with as many decimals as it needs."""
    ppm = value * 1e6
    decimals = next((d for d in (0, 1, 2) if abs(ppm - round(ppm, d)) < 10.0 ** -(d + 2)), 2)
    return format_fixed(ppm + 0.0, decimals, sign=True)


def _levels(low: float, high: float) -> list[float]:
    """Round values that hold a range, 1, 2 or 5 times a power of ten apart."""
    size = max(high - low, 1e-9) / LINES
    power = 10.0 ** math.floor(math.log10(size))
    step = next(power * m for m in (1.0, 2.0, 5.0, 10.0) if power * m >= size)
    first, last = math.floor(low / step), math.ceil(high / step)
    return [k * step for k in range(first, max(last, first + 1) + 1)]


def carried(frame: Frame, shown: Frame | None, plane: FloatArray, there: FloatArray) -> Carry:
    """How places of a frame's plane come to the frame shown: through the earth where both have a datum, else
    by the similarity that the marks, at `plane` and `there` (2, k), follow best."""
    if shown is not None and shown.has_datum and shown.geodetic_name == frame.geodetic_name:
        same = shown.spec == frame.spec
        return lambda at: at if same else np.stack(shown.forward(*frame.inverse(at[0], at[1])))
    fine = np.isfinite(plane).all(axis=0) & np.isfinite(there).all(axis=0)
    z, w = plane[0, fine] + 1j * plane[1, fine], there[0, fine] + 1j * there[1, fine]
    if z.size < 2:
        return lambda at: np.full(at.shape, np.nan)
    dz, dw = z - z.mean(), w - w.mean()
    turn = complex(np.vdot(dz, dw) / np.vdot(dz, dz).real)

    def carry(at: FloatArray) -> FloatArray:
        found = w.mean() + turn * (at[0] + 1j * at[1] - z.mean())
        return np.stack([found.real, found.imag])

    return carry


def ring(frame: Frame, lat: float, lon: float, radius_m: float) -> FloatArray:
    """Places (2, k) of a frame's plane so far from a place, all around."""
    from pyproj import Geod

    ellipsoid = frame.geodetic_crs.ellipsoid
    assert ellipsoid is not None
    geod = Geod(a=ellipsoid.semi_major_metre, b=ellipsoid.semi_minor_metre)
    azimuth = np.linspace(0.0, 2.0 * math.pi, 90, endpoint=False)
    start = np.full(azimuth.size, lon), np.full(azimuth.size, lat)
    x, y, _ = geod.fwd(*start, azimuth, np.full(azimuth.size, radius_m), radians=True)
    return np.stack(frame.forward(y, x))


def valid_radius(wanted: Frame, lat: float, lon: float, h: float, limit: float) -> float:
    """How far from a place, at its height, the distortion stays within a limit in every direction, metres;
    at most FARTHEST_M, 0 where it does not at the place itself."""
    from pyproj import Geod

    ellipsoid = wanted.geodetic_crs.ellipsoid
    assert ellipsoid is not None
    geod = Geod(a=ellipsoid.semi_major_metre, b=ellipsoid.semi_minor_metre)
    ways = np.geomspace(10.0, FARTHEST_M, 400)
    azimuth = np.repeat(np.linspace(0.0, 2.0 * math.pi, 24, endpoint=False), ways.size)
    many = np.tile(ways, 24)
    start = np.full(many.size, lon), np.full(many.size, lat)
    x, y, _ = geod.fwd(*start, azimuth, many, radians=True)
    at_lat, at_lon = np.append(y, lat), np.append(x, lon)
    scale, _ = wanted.point_scale(at_lat, at_lon)
    off = np.abs(scale * wanted.elevation_factor(at_lat, np.full(at_lat.size, h)) - 1.0)
    over = ~(off <= limit)
    if over[-1]:
        return 0.0
    return float(many[over[:-1]].min()) if over[:-1].any() else FARTHEST_M
