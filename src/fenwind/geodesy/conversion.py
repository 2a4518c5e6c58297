"""Conversion between two known systems, with the words for what was done and what may be wrong with it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyproj
from numpy.typing import NDArray

from fenwind.errors import FrameError
from fenwind.geodesy.axes import (
    Parts,
    from_greenwich,
    height_scale,
    is_plane,
    own_axes,
    parts_of,
    to_greenwich,
    true_axes,
    wrapped,
)
from fenwind.geodesy.datum_change import ConversionNote, change_datum
from fenwind.geodesy.frames import crs_unit_metres, find_crs, is_dynamic
from fenwind.geodesy.geoid import VerticalRelation
from fenwind.geodesy.plate_motion import Plate, moved, rates
from fenwind.quantities.numbers import counted

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class Conversion:
    """Result of convert: `first`, `second` are longitude, latitude (degrees from Greenwich) or easting,
    northing (unit of the target); `height` likewise, nan where none was given or none is known; accuracy in
    metres as EPSG states it, None where not stated."""

    first: FloatArray
    second: FloatArray
    height: FloatArray
    geographic: bool
    operation: str
    accuracy_m: float | None
    notes: tuple[ConversionNote, ...]


def convert(
    source_text: str,
    target_text: str,
    first: FloatArray,
    second: FloatArray,
    height: FloatArray,
    epoch_year: float | None = None,
) -> Conversion:
    """Convert arrays (n,) of longitude, latitude in degrees from Greenwich, or true easting, northing in the
    source's unit, and heights: of the height system of a compound system in its own unit (depths downwards),
    else above the ellipsoid, in metres for geographic systems, in the unit of the axes for projected ones.

    The best operation that needs no missing grid is used for where each position lies. Notes tell of a
    missing better grid, of a shift that PROJ only assumes to be zero ("ballpark"), of heights that are not
    known, of a missing epoch, and of points that could not be converted (nan in the result). Raises
    FrameError when no operation exists or a system is geocentric.
    """
    here, there = _parts(source_text), _parts(target_text)
    notes: list[ConversionNote] = []
    # Between projected systems PROJ may miss the published datum operation, and in compound ones forget it
    # when a grid of heights is missing: projections and heights are taken off and put on apart.
    lat, lon = _geographic(here.plain, first, second)
    levelled = height * _height_unit(here)
    same_zero = _same_zero(here, there)
    up = levelled if same_zero else levelled + _undulation(here, lat, lon, height, notes)
    done = change_datum(here.geodetic, there.geodetic, lat, lon, up, epoch_year)
    up = levelled if same_zero else done.h_m - _undulation(there, done.lat_rad, done.lon_rad, up, notes)
    out = _written(there.plain, done.lat_rad, done.lon_rad)
    if epoch_year is None and (is_dynamic(source_text) or is_dynamic(target_text)):
        text = "A system in this conversion moves with time and no epoch was given; the operation's own "
        notes.append(ConversionNote(rule="convert.no-epoch", text=text + "epoch was assumed."))
    bad = int((~np.isfinite(out[0])).sum())
    if bad:
        text = f"{counted(bad, 'position')} outside where the operation is defined."
        notes.append(ConversionNote(rule="convert.outside", text=text))
    return Conversion(
        first=out[0],
        second=out[1],
        height=np.where(np.isfinite(out[0]), up / _height_unit(there), np.nan),
        geographic=bool(there.plain.is_geographic),
        operation=_words(here.plain, done.operation, there.plain),
        accuracy_m=done.accuracy_m,
        notes=(*done.notes, *notes),
    )


def moved_in_time(
    system: str,
    plate: Plate | None,
    first: FloatArray,
    second: FloatArray,
    height: FloatArray,
    years: float,
    velocities: FloatArray | None = None,
) -> tuple[FloatArray, FloatArray, FloatArray, FloatArray]:
    """Positions (n,) of a system, as convert takes them, after some years on a plate: first, second, height;
    and the rates (3, n) in local east, north, up, metres a year. velocities (3, n): such rates, which win
    over the plate where they are no nan. Of the height only its change counts."""
    parts = _parts(system)
    unit = _height_unit(parts)
    lat, lon = _geographic(parts.plain, first, second)
    up = np.zeros(lat.shape) if parts.vertical is not None else np.nan_to_num(height * unit)
    rate = np.full((3, lat.size), np.nan) if plate is None else rates(parts.geodetic, plate, lat, lon, up)
    if velocities is not None:
        rate = np.where(np.isfinite(velocities), velocities, rate)
    new_lat, new_lon, new_up = moved(parts.geodetic, rate, lat, lon, up, years)
    e, n = _written(parts.plain, new_lat, new_lon)
    return e, n, height + (new_up - up) / unit, rate


def _parts(text: str) -> Parts:
    crs = find_crs(text)
    parts = parts_of(crs)
    if parts is None:
        raise FrameError(
            f"{crs.name} is neither geographic nor projected",
            hint="Choose a geographic or a projected system",
        )
    return parts


def _geographic(plain: pyproj.CRS, first: FloatArray, second: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Latitude and longitude in radians from Greenwich."""
    if plain.is_geographic:
        return np.radians(second), wrapped(np.radians(first))
    base, projection = _projection(plain)
    return to_greenwich(base, *projection.transform(*own_axes(plain, first, second), direction="INVERSE"))


def _written(plain: pyproj.CRS, lat: FloatArray, lon: FloatArray) -> tuple[FloatArray, FloatArray]:
    """What `_geographic` undoes, nan where undefined."""
    if plain.is_geographic:
        return np.degrees(lon), np.degrees(lat)
    base, projection = _projection(plain)
    east, north = true_axes(plain, *projection.transform(*from_greenwich(base, lat, lon)))
    fine = np.isfinite(east) & np.isfinite(north)
    return np.where(fine, east, np.nan), np.where(fine, north, np.nan)


def _projection(plain: pyproj.CRS) -> tuple[pyproj.CRS, pyproj.Transformer]:
    """The geographic system below a projected one, and the projection."""
    base = plain.geodetic_crs
    assert base is not None
    return base, pyproj.Transformer.from_crs(base.to_2d(), plain.to_2d(), always_xy=True)


def _height_unit(parts: Parts) -> float:
    """Metres upwards in one unit of heights as the system writes them."""
    if parts.vertical is not None:
        return height_scale(parts.vertical)
    return crs_unit_metres(parts.plain) if is_plane(parts.plain) else 1.0


def units_of_system(text: str) -> tuple[float, float]:
    """Metres in one unit of the axes of a system (1 where they are angles), and in one of its heights,
    upwards."""
    parts = _parts(text)
    return crs_unit_metres(parts.plain) if is_plane(parts.plain) else 1.0, _height_unit(parts)


def _same_zero(here: Parts, there: Parts) -> bool:
    """Whether heights of both are counted from the same surface of a height system."""
    if here.vertical is None or there.vertical is None:
        return False
    one, other = here.vertical.datum, there.vertical.datum
    return one is not None and other is not None and one.name == other.name


def _undulation(
    parts: Parts, lat: FloatArray, lon: FloatArray, height: FloatArray, notes: list[ConversionNote]
) -> FloatArray:
    """Height (n,) of the zero of the system's heights above the ellipsoid, metres; nan where it is not
    known, which becomes a note."""
    if parts.vertical is None or not np.isfinite(height).any():
        return np.zeros(lat.shape)
    name = parts.vertical.name
    try:
        relation = VerticalRelation(parts.geodetic, parts.vertical)
    except FrameError as error:
        notes.append(ConversionNote(rule="convert.heights-unknown", text=f"Heights are not known: {error}."))
        return np.full(lat.shape, np.nan)
    found = relation.height(lat, lon)
    if not np.isfinite(found[np.isfinite(lat)]).all():
        grids = f" needs a grid that is not here: {', '.join(relation.missing[:4])}"
        why = grids if relation.missing else " is not known at all places"
        text = f"Some heights are not known: the relation to {name}{why}."
        notes.append(ConversionNote(rule="convert.grid-missing", text=text))
    return found


def _words(source: pyproj.CRS, operation: str, target: pyproj.CRS) -> str:
    """The steps in order: projection taken off, datum operation, projection put on."""
    words = [operation]
    for crs, lead in ((source, "inverse of "), (target, "")):
        if is_plane(crs):
            name = crs.coordinate_operation.name if crs.coordinate_operation else "projection"
            words.insert(0 if lead else len(words), lead + name)
    return " + ".join(words)
