"""A made-up geoid grid, written as a GTX file."""

from __future__ import annotations

import struct
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]

#: South-west corner and spacing in degrees, rows and columns of the Tarnholt grid.
SOUTH, WEST, STEP, ROWS, COLUMNS = 61.0, 8.0, 0.02, 36, 46


def undulation(lat_deg: FloatArray, lon_deg: FloatArray) -> FloatArray:
    """The invented geoid height in metres: a tilt of about 20 mm/km and a gentle dome."""
    x, y = lon_deg - 8.4, lat_deg - 61.3
    return np.asarray(45.2 + 0.9 * x - 1.7 * y + 0.35 * np.exp(-((x / 0.15) ** 2) - (y / 0.09) ** 2))


def write_gtx(path: Path) -> None:
    """Write the grid: header of four doubles and two integers, big endian, then rows of float32 from the
    south.

    Layout of the format: PROJ documentation, GTX grids (NOAA's vertical datum grid form).
    """
    lat = SOUTH + STEP * np.arange(ROWS, dtype=np.float64)[:, None]
    lon = WEST + STEP * np.arange(COLUMNS, dtype=np.float64)[None, :]
    header = struct.pack(">4d2i", SOUTH, WEST, STEP, STEP, ROWS, COLUMNS)
    path.write_bytes(header + np.broadcast_to(undulation(lat, lon), (ROWS, COLUMNS)).astype(">f4").tobytes())
