"""Geodetic positions onto the plane of a frame, heights onto its reference, covariances with them."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.geodesy.frames import Frame
from fenwind.geodesy.geoid import VerticalRelation
from fenwind.procedures.positions import Positions, positions
from fenwind.procedures.ratio_causes import Place, place_at

FloatArray = NDArray[np.float64]


def to_plane(
    frame: Frame,
    names: Iterable[str],
    lat_rad: FloatArray,
    lon_rad: FloatArray,
    h_ell_m: FloatArray,
    sigma_h_m: FloatArray | None = None,
    sigma_v_m: FloatArray | None = None,
    lenient: bool = False,
) -> Positions:
    """Positions (k,) in the frame: e, n by projection; height = ellipsoidal height less the geoid height
    where the frame has a grid.

    Horizontal sigmas are equal in all directions, so the point scale factor alone carries them. Raises
    ProcedureError when the projection is not defined at a position, or when a geoid grid covers none;
    `lenient` gives nan for these instead, so that one of them keeps nobody else from having a position.
    """
    names = tuple(names)
    lat, lon = np.asarray(lat_rad, dtype=float), np.asarray(lon_rad, dtype=float)
    e, n = frame.forward(lat, lon)
    fine = np.isfinite(e) & np.isfinite(n)
    e, n = np.where(fine, e, np.nan), np.where(fine, n, np.nan)
    _require(
        fine | lenient,
        names,
        f"cannot be projected into {frame.spec.name}",
        "Check latitude and longitude, or choose another frame",
    )
    plane = positions(
        names, e, n, geoid_reduced(frame, names, lat, lon, h_ell_m, lenient), sigma_h_m, sigma_v_m
    )
    if sigma_h_m is None or not len(names):
        return plane
    covariance = np.array(plane.covariance)
    rows = np.flatnonzero(fine)
    covariance[:2, :2, rows] *= frame.point_scale(lat[rows], lon[rows])[0] ** 2
    return replace(plane, covariance=covariance)


def geoid_reduced(
    frame: Frame,
    names: tuple[str, ...],
    lat_rad: FloatArray,
    lon_rad: FloatArray,
    h_ell_m: FloatArray,
    lenient: bool = False,
) -> FloatArray:
    """Ellipsoidal heights (k,) less the geoid heights of the frame's grid; unchanged without a grid, nan
    stays nan, and is given off the grid where it covers any of them. Raises ProcedureError where it covers
    none, unless `lenient`."""
    height = np.asarray(h_ell_m, dtype=float)
    if frame.geoid is None:
        return height
    undulation = frame.geoid_height(lat_rad, lon_rad)
    if np.isfinite(height - undulation).any():
        lenient = True  # one mark off the grid has no height; it keeps nobody else from having one
    if lenient or isinstance(frame.geoid, VerticalRelation):
        # Without its grid the heights are not known; that is a doubt about the frame and no reason to lose
        # the plan.
        return height - undulation
    _require(
        np.isfinite(undulation) | ~np.isfinite(height),
        names,
        "lies outside the geoid grid",
        "Use a grid that covers the job, or no grid",
    )
    return height - undulation


def _require(fine: NDArray[np.bool_], names: tuple[str, ...], problem: str, hint: str) -> None:
    bad = np.flatnonzero(~fine)
    if bad.size:
        more = f" and {bad.size - 1} more" if bad.size > 1 else ""
        raise ProcedureError(f"{names[bad[0]]}{more} {problem}", hint=hint, marks=(names[bad[0]],))


def mean_place(frame: Frame, plane: Positions) -> Place | None:
    """Factors at the mean of some positions; None without a datum, without any height, or where they are not
    defined."""
    if not frame.has_datum or not np.isfinite(plane.height_m).any():
        return None
    lat, lon = frame.inverse(float(np.nanmean(plane.e_m)), float(np.nanmean(plane.n_m)))
    undulation = float(np.nan_to_num(frame.geoid_height(lat, lon)))
    place = place_at(frame, float(lat), float(lon), float(np.nanmean(plane.height_m)) + undulation)
    known = replace(place, undulation_m=undulation) if frame.geoid is not None else place
    return known if np.isfinite(place.combined) else None
