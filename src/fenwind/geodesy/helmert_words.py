"""A shift, turn and scale in space as a PROJ string and as a bound system, for others to compute with."""

from __future__ import annotations

import numpy as np
import pyproj
from numpy.typing import NDArray
from pyproj.crs import BoundCRS
from pyproj.crs.coordinate_operation import ToWGS84Transformation

from fenwind.quantities.angles import RAD_PER_SECOND

FloatArray = NDArray[np.float64]


def helmert_proj(shift: FloatArray, rotation: FloatArray, scale: float, parameters: int = 7) -> str:
    """PROJ string between geocentric positions: shift (3,) metres, rotation (3,) radians in the
    position-vector sense, scale as a part; three parameters are the shift alone."""
    x, y, z = (float(v) for v in shift)
    text = f"+proj=helmert +x={x!r} +y={y!r} +z={z!r}"
    if parameters == 3:
        return text
    rx, ry, rz = (float(v) for v in rotation / RAD_PER_SECOND)
    return f"{text} +rx={rx!r} +ry={ry!r} +rz={rz!r} +s={scale * 1e6!r} +convention=position_vector"


def bound_wkt(
    shift: FloatArray, rotation: FloatArray, scale: float, source: pyproj.CRS, target: pyproj.CRS
) -> str:
    """WKT2 of a geographic system bound to another by the same."""
    values = (*(float(v) for v in shift), *(float(v) for v in rotation / RAD_PER_SECOND), scale * 1e6)
    way = ToWGS84Transformation(source, *values)
    return BoundCRS(source_crs=source, target_crs=target, transformation=way).to_wkt("WKT2_2019")
