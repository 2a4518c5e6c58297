"""Elevation grids: GeoTIFF of one band of heights in metres, in any system, voids allowed (OGC 19-008r4)."""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Any

import numpy as np
import pyproj
from numpy.typing import NDArray

from fenwind.errors import FormatError
from fenwind.exchange.backdrop import MOST_PIXELS, geo_keys, geotiff_place
from fenwind.exchange.files import check_size, foreign_reader
from fenwind.geodesy.frames import find_crs

FloatArray = NDArray[np.float64]

_HINT = "Give a GeoTIFF of heights in metres that states its system"
#: The tag of the value of void cells (GDAL's, common practice), and the keys of the systems.
VOID, GEOGRAPHIC, PROJECTED = 42113, 2048, 3072


@dataclass(frozen=True, kw_only=True, eq=False)
class Elevation:
    """values (r, c), nan where void; place: e = a + b column + c row, n = d + f column + g row of the upper
    left corner of the upper left cell; crs: the system of e and n."""

    values: FloatArray
    place: tuple[float, float, float, float, float, float]
    crs: pyproj.CRS

    def heights(self, lat: FloatArray, lon: FloatArray, datum: pyproj.CRS) -> FloatArray:
        """Heights (k,) at latitudes and longitudes (radians) on a datum, between middles of four cells; nan
        outside and beside a void."""
        way = pyproj.Transformer.from_crs(datum.to_2d(), self.crs, always_xy=True)
        e, n = way.transform(np.degrees(lon), np.degrees(lat))
        a, b, c, d, f, g = self.place
        both = np.linalg.solve(np.array([[b, c], [f, g]]), np.stack([np.asarray(e) - a, np.asarray(n) - d]))
        column, row = both - 0.5
        rows, columns = self.values.shape
        inside = (column >= 0) & (row >= 0) & (column <= columns - 1) & (row <= rows - 1)
        i = np.clip(np.floor(np.where(inside, row, 0)).astype(int), 0, max(rows - 2, 0))
        j = np.clip(np.floor(np.where(inside, column, 0)).astype(int), 0, max(columns - 2, 0))
        u, v = column - j, row - i
        i2, j2 = np.minimum(i + 1, rows - 1), np.minimum(j + 1, columns - 1)
        z = self.values
        top, bottom = z[i, j] * (1 - u) + z[i, j2] * u, z[i2, j] * (1 - u) + z[i2, j2] * u
        return np.where(inside, top * (1 - v) + bottom * v, np.nan)


def read_elevation(path: str) -> Elevation:
    """A grid of heights. Raises FormatError for what is none, states no system, or is void throughout."""
    from PIL import Image

    check_size(path)
    with foreign_reader(path, "the elevation grid", _HINT):
        Image.MAX_IMAGE_PIXELS = MOST_PIXELS
        with Image.open(path) as image:
            if image.mode not in ("F", "I", "I;16", "I;16B", "I;16L", "I;16S", "L"):
                raise FormatError("it is a picture, not a grid of heights", where=path, hint=_HINT)
            place = geotiff_place(image)
            if place is None:
                raise FormatError("nothing says where it lies", where=path, hint=_HINT)
            tags: Any = getattr(image, "tag_v2", {})
            stated, void = geo_keys(tags), str(tags.get(VOID, "")).strip("\x00 ")
            if image.width * image.height > MOST_PIXELS:
                raise FormatError("the grid is too large", where=path, hint="Give a part of it")
            values = np.array(image, dtype=float)
    code = stated.get(PROJECTED) or stated.get(GEOGRAPHIC)
    if not code or code == 32767:
        raise FormatError("it does not state its system by an EPSG code", where=path, hint=_HINT)
    values[~np.isfinite(values) | (np.abs(values) > 12_000.0)] = np.nan
    if void:
        values[values == _number(void)] = np.nan
    if not np.isfinite(values).any():
        raise FormatError("every cell of it is void", where=path, hint=_HINT)
    return Elevation(values=values, place=place, crs=find_crs(f"EPSG:{code}"))


def _number(text: str) -> float:
    try:
        return float(text)
    except ValueError:
        return math.nan
