"""Geodetic positions of any system onto the plane of a frame, and positions of one frame on the plane of
another."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.conversion import Conversion, convert
from fenwind.geodesy.datum_change import ConversionNote
from fenwind.geodesy.frames import Frame, find_crs
from fenwind.procedures.positions import Positions

FloatArray = NDArray[np.float64]


def operation_words(done: Conversion) -> str:
    """The operation of a conversion with its stated accuracy."""
    return done.operation + (
        f", {done.accuracy_m:g} m" if done.accuracy_m is not None else ", accuracy not stated"
    )


def tied(frame: Frame) -> bool:
    """Whether heights of a frame are tied to the ellipsoid."""
    return frame.spec.height.kind in ("ellipsoid", "geoid", "vertical")


def between_frames(
    known: Positions, source: Frame, target: Frame
) -> tuple[Positions, tuple[ConversionNote, ...], str]:
    """Positions of one frame (k,) on the plane of another, those alone that have a place there; heights
    come along where both are tied to the ellipsoid. Sigmas are kept. Also notes on the conversion and its
    operation in words."""
    lat, lon = source.inverse(known.e_m, known.n_m)
    h = known.height_m + source.geoid_height(lat, lon) if tied(source) else np.full(len(known), np.nan)
    system = source.geodetic_crs.to_3d().to_wkt()
    epoch = source.spec.epoch_year or target.spec.epoch_year
    values, notes, operation = onto_plane(lat, lon, h, system, target, epoch)
    rows = np.flatnonzero(np.isfinite(values[:2]).all(axis=0))
    e, n, height = values[:, rows]
    points = Positions(
        names=tuple(known.names[i] for i in rows),
        e_m=e,
        n_m=n,
        height_m=height,
        covariance=known.covariance[:, :, rows],
    )
    return points, notes, operation


def onto_plane(
    lat_rad: FloatArray,
    lon_rad: FloatArray,
    h_ell_m: FloatArray,
    system: str,
    target: Frame,
    epoch_year: float | None,
) -> tuple[FloatArray, tuple[ConversionNote, ...], str]:
    """E, N and height (3, k) in a frame of geodetic positions in `system`, notes on the conversion, and its
    operation in words. What cannot be projected is nan, and so are heights in a frame whose heights are not
    tied to the ellipsoid."""
    done = into_datum(lat_rad, lon_rad, h_ell_m, system, target, epoch_year)
    e, n = target.forward(done.lat_rad, done.lon_rad)
    fine = np.isfinite(e) & np.isfinite(n)
    undulation = target.geoid_height(done.lat_rad, done.lon_rad) if tied(target) else np.nan
    values = np.stack([e, n, done.h_ell_m - undulation])
    return np.where(fine, values, np.nan), done.notes, done.operation or "the same datum"


@dataclass(frozen=True, kw_only=True, eq=False)
class InDatum:
    """Geodetic positions (k,) in the datum of a frame; operation: how they came there, empty where they
    were."""

    lat_rad: FloatArray
    lon_rad: FloatArray
    h_ell_m: FloatArray
    notes: tuple[ConversionNote, ...] = ()
    operation: str = ""


def into_datum(
    lat_rad: FloatArray,
    lon_rad: FloatArray,
    h_ell_m: FloatArray,
    system: str,
    target: Frame,
    epoch_year: float | None,
) -> InDatum:
    """Geodetic positions (k,) in `system` as positions in the datum of a frame, nan where no way leads
    there. Raises FrameError when there is none at all."""
    base = target.geodetic_crs
    if find_crs(system).to_2d().equals(base.to_2d(), ignore_axis_order=True):
        return InDatum(lat_rad=lat_rad, lon_rad=lon_rad, h_ell_m=h_ell_m)
    done = convert(
        system, base.to_3d().to_wkt(), np.degrees(lon_rad), np.degrees(lat_rad), h_ell_m, epoch_year
    )
    return InDatum(
        lat_rad=np.radians(done.second),
        lon_rad=np.radians(done.first),
        h_ell_m=done.height,
        notes=done.notes,
        operation=operation_words(done),
    )
