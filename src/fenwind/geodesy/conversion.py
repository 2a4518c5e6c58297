"""Conversion between two known systems, with the words for what was done and what may be wrong with it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import pyproj
from numpy.typing import NDArray

from fenwind.errors import FrameError
from fenwind.geodesy.frames import crs_unit_metres, find_crs, is_dynamic
from fenwind.geodesy.operations import Ways, is_assumed, plain_name, ways

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class ConversionNote:
    """One thing to know about a conversion: stable `rule` key and a sentence."""

    rule: str
    text: str


@dataclass(frozen=True, slots=True, kw_only=True)
class Conversion:
    """Result of convert: `first`, `second` are longitude, latitude (degrees) or easting, northing (unit of
    the target); `height` likewise, nan where none was given; accuracy in metres as EPSG states it, None where
    not stated."""

    first: FloatArray
    second: FloatArray
    height: FloatArray
    geographic: bool
    operation: str
    accuracy_m: float | None
    notes: tuple[ConversionNote, ...]


def _three_dimensional(crs: pyproj.CRS) -> pyproj.CRS:
    return crs if crs.is_compound or crs.is_geocentric else crs.to_3d()


def convert(
    source_text: str,
    target_text: str,
    first: FloatArray,
    second: FloatArray,
    height: FloatArray,
    epoch_year: float | None = None,
) -> Conversion:
    """Convert arrays (n,) of longitude, latitude in degrees or easting, northing in the source's unit, and
    heights (metres for geographic systems, the unit of the axes for projected ones).

    The best operation for where the positions lie that needs no missing grid is used. Notes tell of a missing
    better grid, of a shift that PROJ only assumes to be zero ("ballpark"), of a missing epoch, and of points
    that could not be converted (nan in the result). Raises FrameError when no operation exists or a system is
    geocentric.
    """
    source, target = _system(source_text), _system(target_text)
    has_height = bool(np.isfinite(height).any())
    z = np.where(np.isfinite(height), height, 0.0)
    # Between projected systems PROJ may miss the published datum operation, so projections are taken off and
    # put on apart.
    source_base, east, north = _unprojected(source, first, second)
    target_base = _base(target)
    if has_height:
        source_base, target_base = _three_dimensional(source_base), _three_dimensional(target_base)
        z = z * (crs_unit_metres(source) if _is_plain_projected(source) else 1.0)
    found = ways(source_base, target_base, _area(source_base, east, north))
    chosen = _best(found, target)
    times = np.full(z.shape, epoch_year) if epoch_year is not None else None
    east, north, up = map(_finite, chosen.transform(east, north, z, times)[:3])
    if _is_plain_projected(target):
        projection = pyproj.Transformer.from_crs(target_base.to_2d(), target, always_xy=True)
        east, north = map(_finite, projection.transform(east, north))
        up = up / crs_unit_metres(target)
    # PROJ numbers an operation's accuracy -1 where the registry states none.
    accuracy = chosen.accuracy if chosen.accuracy is not None and chosen.accuracy >= 0 else None
    return Conversion(
        first=east,
        second=north,
        height=np.where(np.isfinite(height), up, np.nan),
        geographic=target.is_geographic or (target.is_compound and target.sub_crs_list[0].is_geographic),
        operation=_words(source, chosen, target),
        accuracy_m=accuracy,
        notes=tuple(_notes(found, chosen, source, target, epoch_year, int((~np.isfinite(east)).sum()))),
    )


def _system(text: str) -> pyproj.CRS:
    crs = find_crs(text)
    if crs.is_geocentric or not (crs.is_geographic or crs.is_projected or crs.is_compound):
        raise FrameError(
            f"{crs.name} is neither geographic nor projected",
            hint="Choose a geographic or a projected system",
        )
    return crs


def _is_plain_projected(crs: pyproj.CRS) -> bool:
    return bool(crs.is_projected and not crs.is_compound)


def _finite(values: object) -> FloatArray:
    """With nan for the infinity that PROJ gives where it could not convert."""
    array = np.asarray(values, dtype=float)
    return np.where(np.isfinite(array), array, np.nan)


def _best(found: Ways, target: pyproj.CRS) -> pyproj.Transformer:
    if not found.present:
        raise FrameError(
            f"every way to {target.name} needs a grid that is not here: {', '.join(found.missing_grids)}",
            hint="Provide that grid file",
        )
    return found.present[0]


def _words(source: pyproj.CRS, chosen: pyproj.Transformer, target: pyproj.CRS) -> str:
    """The steps in order: projection taken off, datum operation, projection put on."""
    words = [plain_name(chosen.description)]
    for crs, lead in ((source, "inverse of "), (target, "")):
        if _is_plain_projected(crs):
            name = crs.coordinate_operation.name if crs.coordinate_operation else "projection"
            words.insert(0 if lead else len(words), lead + name)
    return " + ".join(words)


def _base(crs: pyproj.CRS) -> pyproj.CRS:
    """The geographic system under a plain projected one; other systems as they are."""
    base = crs.geodetic_crs
    return base if crs.is_projected and not crs.is_compound and base is not None else crs


def _unprojected(
    crs: pyproj.CRS, first: FloatArray, second: FloatArray
) -> tuple[pyproj.CRS, FloatArray, FloatArray]:
    base = _base(crs)
    if base is crs:
        return crs, first, second
    lon, lat = pyproj.Transformer.from_crs(crs, base, always_xy=True).transform(first, second)
    return base, np.asarray(lon), np.asarray(lat)


def _area(base: pyproj.CRS, lon: FloatArray, lat: FloatArray) -> tuple[float, float, float, float] | None:
    """West, south, east, north in degrees of what is converted, for the choice among operations; None where
    that is not known."""
    fine = np.isfinite(lon) & np.isfinite(lat)
    if not base.is_geographic or not fine.any():
        return None
    west, east, south, north = (float(f(v[fine])) for v in (lon, lat) for f in (np.min, np.max))
    inside = -180.0 <= west <= east <= 180.0 and -90.0 <= south <= north <= 90.0
    # A single place is widened a little: an area of no size is contained in none.
    return (
        (max(west - 1e-4, -180.0), max(south - 1e-4, -90.0), min(east + 1e-4, 180.0), min(north + 1e-4, 90.0))
        if inside
        else None
    )


def _notes(
    found: Ways,
    chosen: pyproj.Transformer,
    source: pyproj.CRS,
    target: pyproj.CRS,
    epoch_year: float | None,
    bad: int,
) -> list[ConversionNote]:
    notes = []
    if is_assumed(chosen):
        text = (
            f"No published relation from {source.name} to {target.name} was found; the datums were taken "
            "as equal."
        )
        notes.append(ConversionNote(rule="convert.assumed-equal", text=text))
    if found.elsewhere:
        area = chosen.area_of_use.name if chosen.area_of_use is not None else "elsewhere"
        text = f"The best operation that is here is meant for another area ({area[:80]})."
        notes.append(ConversionNote(rule="convert.elsewhere", text=text))
    if not found.best_present:
        names = found.missing_grids
        if names:
            text = f"A better operation needs a grid that is not here: {', '.join(names[:4])}."
            notes.append(ConversionNote(rule="convert.grid-missing", text=text))
    if epoch_year is None and (is_dynamic(source.to_wkt()) or is_dynamic(target.to_wkt())):
        text = (
            "A system in this conversion moves with time and no epoch was given; the operation's own "
            "epoch was assumed."
        )
        notes.append(ConversionNote(rule="convert.no-epoch", text=text))
    if bad:
        notes.append(
            ConversionNote(
                rule="convert.outside", text=f"{bad} positions lie where the operation is not defined."
            )
        )
    return notes
