"""Geodetic positions of any system onto the plane of a frame, and positions of one frame on the plane of
another."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.conversion import Conversion, convert
from fenwind.geodesy.datum_change import ConversionNote
from fenwind.geodesy.frames import Frame, find_crs, is_dynamic
from fenwind.geodesy.plate_motion import find_plate, likely_plate, moved, rates
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


def in_space(frame: Frame) -> bool:
    """Whether a frame places its marks on the earth in all three dimensions: it has a datum, and its heights
    are tied to the ellipsoid."""
    return frame.has_datum and tied(frame)


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
    return np.where(fine, values, np.nan), done.notes, done.operation or SAME_DATUM


#: What stands for an operation where none is needed.
SAME_DATUM = "the same datum"


@dataclass(frozen=True, kw_only=True, eq=False)
class InDatum:
    """Geodetic positions (k,) in the datum of a frame; operation: how they came there, empty where they
    were."""

    lat_rad: FloatArray
    lon_rad: FloatArray
    h_ell_m: FloatArray
    notes: tuple[ConversionNote, ...] = ()
    operation: str = ""


@lru_cache(maxsize=256)  # a rover asks several times a second
def _same_datum(system: str, base: str) -> bool:
    return bool(find_crs(system).to_2d().equals(find_crs(base).to_2d(), ignore_axis_order=True))


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
    moves = is_dynamic(base.to_wkt())
    if moves and not is_dynamic(system):
        epoch_year = target.spec.epoch_year or epoch_year  # what stands still is the same at any time
    if _same_datum(system, base.to_wkt()):
        found = InDatum(lat_rad=lat_rad, lon_rad=lon_rad, h_ell_m=h_ell_m)
    else:
        done = convert(
            system, base.to_3d().to_wkt(), np.degrees(lon_rad), np.degrees(lat_rad), h_ell_m, epoch_year
        )
        found = InDatum(
            lat_rad=np.radians(done.second),
            lon_rad=np.radians(done.first),
            h_ell_m=done.height,
            notes=done.notes,
            operation=operation_words(done),
        )
    return _at_epoch(found, target, epoch_year) if moves else found


def _at_epoch(found: InDatum, target: Frame, epoch_year: float | None) -> InDatum:
    """Positions in the datum of a frame at one epoch as those at the frame's own: moved with the plate that
    the frame names, else with a note of how far that may be."""
    own = target.spec.epoch_year
    fine = np.flatnonzero(np.isfinite(found.lat_rad + found.lon_rad))
    if own is None or epoch_year is None or own == epoch_year or not fine.size:
        return found
    base, years = target.geodetic_crs, own - epoch_year
    if not target.spec.plate:
        first = fine[:1]
        plate = likely_plate(float(found.lat_rad[first[0]]), float(found.lon_rad[first[0]]))
        rate = rates(base, plate, found.lat_rad[first], found.lon_rad[first], np.zeros(1))
        text = (
            f"Positions of {epoch_year:g} stand in {target.spec.name} at {own:g} unmoved: the plates move "
            f"some {float(np.linalg.norm(rate) * abs(years)):.2f} m in that time. Name the frame's plate."
        )
        return replace(found, notes=(*found.notes, ConversionNote(rule="convert.other-epoch", text=text)))
    plate = find_plate(target.spec.plate, base.name)
    lat, lon, up = moved(base, plate, found.lat_rad, found.lon_rad, found.h_ell_m, years)
    words = f"{years:+g} years of the plate {plate.name} ({plate.model})"
    operation = f"{found.operation} + {words}" if found.operation else words
    return replace(found, lat_rad=lat, lon_rad=lon, h_ell_m=up, operation=operation)
