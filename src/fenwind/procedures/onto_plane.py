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
from fenwind.quantities.numbers import counted

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
    known: Positions, source: Frame, target: Frame, velocities: FloatArray | None = None
) -> tuple[Positions, tuple[ConversionNote, ...], str]:
    """Positions of one frame (k,) on the plane of another, those alone that have a place there; heights
    come along where both are tied to the ellipsoid. Sigmas are kept. Also notes on the conversion and its
    operation in words. velocities: see `into_datum`."""
    lat, lon = source.inverse(known.e_m, known.n_m)
    h = known.height_m + source.geoid_height(lat, lon) if tied(source) else np.full(len(known), np.nan)
    system = source.geodetic_crs.to_3d().to_wkt()
    epoch = source.spec.epoch_year or target.spec.epoch_year
    values, notes, operation = onto_plane(lat, lon, h, system, target, epoch, velocities)
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
    velocities: FloatArray | None = None,
) -> tuple[FloatArray, tuple[ConversionNote, ...], str]:
    """E, N and height (3, k) in a frame of geodetic positions in `system`, notes on the conversion, and its
    operation in words. What cannot be projected is nan, and so are heights in a frame whose heights are not
    tied to the ellipsoid. velocities: see `into_datum`."""
    done = into_datum(lat_rad, lon_rad, h_ell_m, system, target, epoch_year, velocities)
    e, n = target.forward(done.lat_rad, done.lon_rad)
    fine = np.isfinite(e) & np.isfinite(n)
    undulation = target.geoid_height(done.lat_rad, done.lon_rad) if tied(target) else np.nan
    values = np.stack([e, n, done.h_ell_m - undulation])
    return np.where(fine, values, np.nan), done.notes, done.operation or SAME_DATUM


#: What a frame moves with where the mean of its marks' velocities stands for marks without their own.
MARKS_MEAN = "the marks' mean"

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
def same_datum(system: str, base: str) -> bool:
    """Whether two systems, codes or WKT, stand on one datum in one geodetic system."""
    return bool(find_crs(system).to_2d().equals(find_crs(base).to_2d(), ignore_axis_order=True))


def into_datum(
    lat_rad: FloatArray,
    lon_rad: FloatArray,
    h_ell_m: FloatArray,
    system: str,
    target: Frame,
    epoch_year: float | None,
    velocities: FloatArray | None = None,
) -> InDatum:
    """Geodetic positions (k,) in `system` as positions in the datum of a frame, nan where no way leads
    there. velocities (3, k): of these positions in that datum, local east, north, up, metres a year, nan
    where nobody knows them; they win over the frame's plate. Raises FrameError when there is no way at
    all."""
    base = target.geodetic_crs
    moves = is_dynamic(base.to_wkt())
    if moves and not is_dynamic(system):
        epoch_year = target.spec.epoch_year or epoch_year  # what stands still is the same at any time
    if same_datum(system, base.to_wkt()):
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
    own = target.spec.epoch_year
    if own is None or epoch_year is None or own == epoch_year or not (moves or velocities is not None):
        return found
    return _at_epoch(found, target, own - epoch_year, moves, velocities)


def _at_epoch(
    found: InDatum, target: Frame, years: float, moves: bool, velocities: FloatArray | None
) -> InDatum:
    """Positions in the datum of a frame as they are some years later, at its own epoch: moved with their own
    velocities, the others with the plate that the frame names; with a note of those that stay."""
    placed = np.isfinite(found.lat_rad + found.lon_rad)
    velocity = np.full((3, placed.size), np.nan) if velocities is None else velocities.copy()
    given = np.isfinite(velocity).all(axis=0) & placed
    words = [f"velocities of {counted(int(given.sum()), 'mark')}"] if given.any() else []
    rest, notes = np.flatnonzero(placed & ~given), found.notes
    base, named = target.geodetic_crs, target.spec.plate
    if rest.size and moves and named and named != MARKS_MEAN:
        plate = find_plate(named, base.name)
        at = found.lat_rad[rest], found.lon_rad[rest], found.h_ell_m[rest]
        velocity[:, rest] = rates(base, plate, *at)
        words.append(f"the plate {plate.name} ({plate.model})")
    elif rest.size and moves:
        notes = (*notes, _unmoved(found, target, years, rest))
    if not words:
        return replace(found, notes=notes)
    go = np.flatnonzero(np.isfinite(velocity).all(axis=0) & placed)
    lat, lon, up = found.lat_rad.copy(), found.lon_rad.copy(), found.h_ell_m.copy()
    lat[go], lon[go], up[go] = moved(base, velocity[:, go], lat[go], lon[go], up[go], years)
    operation = f"{years:+g} years of {' and '.join(words)}"
    operation = f"{found.operation} + {operation}" if found.operation else operation
    return replace(found, lat_rad=lat, lon_rad=lon, h_ell_m=up, notes=notes, operation=operation)


def _unmoved(found: InDatum, target: Frame, years: float, rows: NDArray[np.intp]) -> ConversionNote:
    """What to know of positions (rows of them) of another epoch that nothing moves: how far that may be."""
    first, own = rows[:1], target.spec.epoch_year
    assert own is not None
    plate = likely_plate(float(found.lat_rad[first[0]]), float(found.lon_rad[first[0]]))
    rate = rates(target.geodetic_crs, plate, found.lat_rad[first], found.lon_rad[first], np.zeros(1))
    text = (
        f"Positions of {own - years:g} stand in {target.spec.name} at {own:g} unmoved: the plates move "
        f"some {float(np.linalg.norm(rate) * abs(years)):.2f} m in that time. Name the frame's plate, or the "
        "velocities of its marks."
    )
    return ConversionNote(rule="convert.other-epoch", text=text)
