"""The outline of an area from a file: the largest polygon of GeoJSON, a GeoPackage or KML."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import pyproj
from numpy.typing import NDArray

from fenwind.errors import FormatError
from fenwind.exchange.files import check_size, foreign_reader, read_head
from fenwind.geodesy.frames import find_crs

FloatArray = NDArray[np.float64]

ENDINGS = (".geojson", ".json", ".gpkg", ".kml")
MOST_FEATURES, MOST_CORNERS = 10_000, 200_000
_HINT = "Give a polygon as GeoJSON, GeoPackage or KML"


@dataclass(frozen=True, kw_only=True, eq=False)
class Outline:
    """Corners (2, m) in a system, easting or longitude first."""

    corners: FloatArray
    crs: pyproj.CRS


def read_outline(path: str) -> Outline:
    """The largest polygon of a file. Raises FormatError where there is none."""
    if Path(path).suffix.lower() not in ENDINGS:
        raise FormatError("this is no file of areas", where=path, hint=_HINT)
    check_size(path)
    read_head(path, 16)
    with foreign_reader(path, "the outline", _HINT):
        import pyogrio.raw
        import shapely

        meta, _, geometry, _ = pyogrio.raw.read(path, columns=[], max_features=MOST_FEATURES, force_2d=True)
        parts = shapely.get_parts(shapely.from_wkb(geometry)) if geometry is not None else np.zeros(0)
        polygons = [p for p in parts.tolist() if isinstance(p, shapely.Polygon) and not p.is_empty]
    if not polygons:
        raise FormatError("there is no polygon in it", where=path, hint=_HINT)
    largest = max(polygons, key=shapely.area)
    corners = np.asarray(shapely.get_coordinates(largest.exterior), dtype=float).T[:, :-1]
    if corners.shape[1] > MOST_CORNERS or not np.isfinite(corners).all():
        raise FormatError("its outline cannot be used", where=path, hint="Give one with fewer corners")
    return Outline(corners=corners, crs=find_crs(meta.get("crs") or "EPSG:4326"))
