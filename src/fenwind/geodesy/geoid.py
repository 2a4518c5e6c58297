"""Geoid heights from a grid file in GTX or GeoTIFF form, or from the published relation to a vertical system;
both through PROJ."""

from __future__ import annotations

import hashlib
import math
import os
import re
import stat
import warnings
from pathlib import Path

import numpy as np
import pyproj
from numpy.typing import ArrayLike, NDArray
from pyproj.crs import CompoundCRS
from pyproj.exceptions import ProjError
from pyproj.transformer import TransformerGroup

from fenwind.errors import FrameError
from fenwind.geodesy.axes import from_greenwich, height_scale
from fenwind.geodesy.grid_check import check_grid

_SAFE = re.compile(r"[\w./-]+")
_PLAIN_HINT = "Set XDG_CACHE_HOME to a folder of your own, or give the grid a path without blanks"


class GeoidGrid:
    """Geoid heights N above the ellipsoid, so that h = H + N."""

    def __init__(self, path: str | os.PathLike[str]) -> None:
        """Open a grid. Raises FrameError when the file is missing, damaged or of another form."""
        self.path = Path(path).resolve()
        if not self.path.is_file():
            raise FrameError(
                "geoid grid not found", where=str(path), hint="Name an existing GTX or GeoTIFF file"
            )
        check_grid(self.path)
        try:
            self._shift = pyproj.Transformer.from_pipeline(
                f"+proj=vgridshift +grids={_plain_path(self.path)} +multiplier=1"
            )
        except ProjError as error:
            raise FrameError(
                "not a readable geoid grid", where=str(path), hint="Use a whole GTX or GeoTIFF grid file"
            ) from error

    def height(self, lat_rad: ArrayLike, lon_rad: ArrayLike) -> NDArray[np.float64]:
        """Geoid height in metres, shape of the broadcast inputs; nan outside the grid and where it has no
        data.

        Bilinear between the nodes, as PROJ's vgridshift does it.
        """
        lat, lon = np.broadcast_arrays(np.asarray(lat_rad, dtype=float), np.asarray(lon_rad, dtype=float))
        _, _, z = self._shift.transform(lon.ravel(), lat.ravel(), np.zeros(lat.size), radians=True)
        result = np.asarray(z, dtype=float).reshape(lat.shape)
        return np.where(np.isfinite(result), result, math.nan)


class VerticalRelation:
    """Heights N of a vertical system's zero surface above the ellipsoid, by the best operation that is here.
    `missing` names the grids of the better ones that are not; with none to be had, N is nan everywhere, never
    zero."""

    def __init__(self, geodetic: pyproj.CRS, vertical: pyproj.CRS) -> None:
        """Look the relation up. Raises FrameError when `vertical` is no vertical system or no relation is
        known."""
        if not vertical.is_vertical:
            raise FrameError(
                f"{vertical.name} is not a height system", hint="Choose a vertical system, such as EPSG:5941"
            )
        compound = CompoundCRS(
            name=f"{geodetic.name} + {vertical.name}", components=[geodetic.to_2d(), vertical]
        )
        try:
            with warnings.catch_warnings():
                warnings.simplefilter("ignore")
                group = TransformerGroup(geodetic.to_3d(), compound, always_xy=True, allow_ballpark=False)
        except ProjError as error:
            raise FrameError(
                f"no relation is known from {geodetic.name} to {vertical.name}", hint="Choose other heights"
            ) from error
        self.missing = tuple(
            sorted({g.short_name for op in group.unavailable_operations for g in op.grids if not g.available})
        )
        fine = [t for t in group.transformers if "ballpark" not in t.description.lower()]
        self._transformer = fine[0] if fine else None
        self._geodetic, self._scale = geodetic, height_scale(vertical)
        self.operation = fine[0].description if fine else ""

    def height(self, lat_rad: ArrayLike, lon_rad: ArrayLike) -> NDArray[np.float64]:
        """Height of the zero surface in metres, shape of the broadcast inputs; nan where it is not known."""
        lat, lon = np.broadcast_arrays(np.asarray(lat_rad, dtype=float), np.asarray(lon_rad, dtype=float))
        if self._transformer is None:
            return np.full(lat.shape, math.nan)
        own = from_greenwich(self._geodetic, lat.ravel(), lon.ravel())
        _, _, z = self._transformer.transform(*own, np.zeros(lat.size))
        result = -self._scale * np.asarray(z, dtype=float).reshape(lat.shape)
        return np.where(np.isfinite(result), result, math.nan)


def _plain_path(path: Path) -> str:
    """A path PROJ can take in a pipeline text: blanks and commas in it would end the word, so link to it by a
    plain name, in a folder that is the user's alone. Raises FrameError when there can be none."""
    if _SAFE.fullmatch(str(path)):
        return str(path)
    stamp = path.stat()
    name = hashlib.sha256(f"{path}{stamp.st_mtime_ns}{stamp.st_size}".encode()).hexdigest()[:20]
    link = _own_folder() / (name + path.suffix.lower())
    if link.is_symlink() and link.readlink() != path:
        link.unlink()
    if not link.is_symlink():
        link.symlink_to(path)
    if not _SAFE.fullmatch(str(link)):
        raise FrameError(
            "the grid's path has blanks or commas in it, and so has the cache folder's",
            where=str(path),
            hint="Move the grid to a folder with a plain name",
        )
    return str(link)


def _own_folder() -> Path:
    """The folder for links to grids: in the user's cache folder, nobody else's, nobody else may write."""
    cache = Path(os.environ.get("XDG_CACHE_HOME") or Path.home() / ".cache")
    folder = cache / "fenwind" / "grids"
    try:
        folder.mkdir(mode=0o700, parents=True, exist_ok=True)
        own = folder.lstat()
    except OSError as error:
        raise FrameError(
            f"the cache folder cannot be made: {error.strerror}", where=str(folder), hint=_PLAIN_HINT
        ) from error
    if not stat.S_ISDIR(own.st_mode) or own.st_uid != os.getuid() or own.st_mode & 0o022:
        raise FrameError("the cache folder is not yours alone", where=str(folder), hint=_PLAIN_HINT)
    return folder
