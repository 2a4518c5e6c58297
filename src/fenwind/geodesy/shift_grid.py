"""Shift grids of others, named by file: the way from a frame's datum to another one is read from an NTv2 or
GeoTIFF grid, as a system bound to that other one (ISO 19162; EPSG method 9615)."""

from __future__ import annotations

import os
import re
from pathlib import Path

import numpy as np
import pyproj
from numpy.typing import NDArray
from pyproj.exceptions import CRSError, ProjError

from fenwind.errors import FrameError
from fenwind.geodesy.axes import GRID_PARAMETER, bound_grid, from_greenwich, geodetic_of, parts_of
from fenwind.geodesy.frames import find_crs
from fenwind.geodesy.grid_check import check_grid

FloatArray = NDArray[np.float64]

_PLAIN = re.compile(r"[\w./-]+")
_HINT = "Use an NTv2 (.gsb) or GeoTIFF shift grid"


def with_shift_grid(crs: str, path: str | os.PathLike[str], target: str) -> str:
    """WKT2 of a projected system that a grid leads from, to the geographic system of `target`. Raises
    FrameError for a file that is no such grid, for a path that PROJ cannot read, and for systems that cannot
    be."""
    file = Path(path).resolve()
    if not file.is_file():
        raise FrameError("shift grid not found", where=str(path), hint=_HINT)
    if not _PLAIN.fullmatch(str(file)):
        raise FrameError(
            "the grid's path has blanks or signs in it that PROJ cannot read", where=str(file),
            hint="Move the grid to a folder with a plain name",
        )  # fmt: skip
    check_grid(file)
    source, parts = without_shift_grid(crs), parts_of(find_crs(target))
    if parts is None:
        raise FrameError(f"{target} is no system that a grid leads to", hint="Name a geographic system")
    there = geodetic_of(parts.geodetic).to_2d()
    wkt = (
        f"BOUNDCRS[SOURCECRS[{find_crs(source).to_wkt('WKT2_2019')}],"
        f"TARGETCRS[{there.to_wkt('WKT2_2019')}],"
        f'ABRIDGEDTRANSFORMATION["{file.stem}",METHOD["NTv2",ID["EPSG",9615]],'
        f'PARAMETERFILE["{GRID_PARAMETER}","{file}",ID["EPSG",8656]]]]'
    )
    try:
        bound = pyproj.CRS.from_wkt(wkt)
        _way(bound)
    except (CRSError, ProjError) as error:
        raise FrameError("PROJ cannot use it as a shift grid", where=str(file), hint=_HINT) from error
    return str(bound.to_wkt("WKT2_2019"))


def without_shift_grid(crs: str) -> str:
    """The same system without a way to another that was bound to it."""
    found = find_crs(crs)
    own = found.source_crs if found.is_bound else None
    return crs if own is None else str(own.to_wkt("WKT2_2019"))


def shift_grid_of(crs: str) -> tuple[str, str] | None:
    """Path of the grid that a system is bound by, and the name of the system that it leads to; None for any
    other."""
    if not crs:
        return None
    found = find_crs(crs)
    if not found.is_bound:
        return None
    file, there = bound_grid(found), found.target_crs
    return (file, there.name if there is not None else "") if file else None


def reached(crs: str, lat_rad: FloatArray, lon_rad: FloatArray) -> NDArray[np.bool_]:
    """Which places (k,), in the datum of a bound system, the grid reaches."""
    geodetic, way = _way(find_crs(crs))
    x, y = way.transform(*from_greenwich(geodetic, lat_rad, lon_rad))
    return np.asarray(np.isfinite(np.asarray(x) + np.asarray(y)))


def _way(bound: pyproj.CRS) -> tuple[pyproj.CRS, pyproj.Transformer]:
    """The geographic system below a bound one, and the way to what it is bound to. Raises ProjError."""
    parts = parts_of(bound)
    assert parts is not None
    return parts.geodetic, pyproj.Transformer.from_crs(parts.geodetic, bound.target_crs, always_xy=True)
