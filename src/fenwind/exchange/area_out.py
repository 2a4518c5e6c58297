"""The area that a projection serves, as a polygon for other programs: GeoJSON (RFC 7946) or GeoPackage, in
longitude and latitude of WGS 84, with what describes the projection beside it."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Mapping
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FormatError
from fenwind.exchange.files import foreign_reader, write_bytes

FloatArray = NDArray[np.float64]

_HINT = "Check the folder and the name"


def write_area(path: str, lon_deg: FloatArray, lat_deg: FloatArray, words: Mapping[str, str | float]) -> None:
    """Write a polygon through corners (k,); words: what is told of it, a column each. By the ending .gpkg a
    GeoPackage, else GeoJSON. Raises FormatError for fewer than three corners and a file that cannot be
    written."""
    if np.unique(np.stack([lon_deg, lat_deg]), axis=1).shape[1] < 3:
        raise FormatError("three corners make an area", where=path, hint="Choose an area with an extent")
    import pyogrio
    import shapely

    ring = shapely.Polygon(np.stack([lon_deg, lat_deg], axis=1))
    shape = shapely.to_wkb(np.array([shapely.geometry.polygon.orient(ring)]))
    package = path.lower().endswith(".gpkg")
    options = {} if package else {"RFC7946": "YES", "COORDINATE_PRECISION": "9"}
    values = [np.array([v], dtype=object if isinstance(v, str) else float) for v in words.values()]
    with tempfile.TemporaryDirectory() as folder:
        name = os.path.join(folder, "area.gpkg" if package else "area.geojson")
        with foreign_reader(path, "the area", _HINT, "written"):
            pyogrio.raw.write(
                name, shape, values, list(words), geometry_type="Polygon", crs="EPSG:4326",
                driver="GPKG" if package else "GeoJSON", layer="area", dataset_options={},
                layer_options=options,
            )  # fmt: skip
        write_bytes(path, Path(name).read_bytes())
