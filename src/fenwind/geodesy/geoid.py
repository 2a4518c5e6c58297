"""Geoid heights from a grid file in GTX or GeoTIFF form, read by PROJ."""

from __future__ import annotations

import hashlib
import math
import os
import re
import tempfile
from pathlib import Path

import numpy as np
import pyproj
from numpy.typing import ArrayLike, NDArray
from pyproj.exceptions import ProjError

from fenwind.errors import FrameError

_SAFE = re.compile(r"[\w./-]+")


class GeoidGrid:
    """Geoid heights N above the ellipsoid, so that h = H + N."""

    def __init__(self, path: str | os.PathLike[str]) -> None:
        """Open a grid. Raises FrameError when the file is missing, damaged or of another form."""
        self.path = Path(path).resolve()
        if not self.path.is_file():
            raise FrameError("geoid grid not found", where=str(path), hint="Name an existing GTX or GeoTIFF file")
        try:
            self._shift = pyproj.Transformer.from_pipeline(f"+proj=vgridshift +grids={_plain_path(self.path)} +multiplier=1")
        except ProjError as error:
            raise FrameError("not a readable geoid grid", where=str(path), hint="Use a whole GTX or GeoTIFF grid file") from error

    def height(self, lat_rad: ArrayLike, lon_rad: ArrayLike) -> NDArray[np.float64]:
        """Geoid height in metres, shape of the broadcast inputs; nan outside the grid and where it has no data.

        Bilinear between the nodes, as PROJ's vgridshift does it.
        """
        lat, lon = np.broadcast_arrays(np.asarray(lat_rad, dtype=float), np.asarray(lon_rad, dtype=float))
        _, _, z = self._shift.transform(lon.ravel(), lat.ravel(), np.zeros(lat.size), radians=True)
        result = np.asarray(z, dtype=float).reshape(lat.shape)
        return np.where(np.isfinite(result), result, math.nan)


def _plain_path(path: Path) -> str:
    """A path PROJ can take in a pipeline text: blanks and commas in it would end the word, so link to it by a plain name."""
    if _SAFE.fullmatch(str(path)):
        return str(path)
    folder = Path(tempfile.gettempdir()) / f"fenwind-grids-{os.getuid()}"
    folder.mkdir(exist_ok=True)
    stamp = path.stat()
    name = hashlib.sha256(f"{path}{stamp.st_mtime_ns}{stamp.st_size}".encode()).hexdigest()[:20]
    link = folder / (name + path.suffix.lower())
    if not link.exists():
        link.symlink_to(path)
    return str(link)
