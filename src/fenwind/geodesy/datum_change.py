"""From one datum into another, by the operation that is best for where each position lies."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
import pyproj
from numpy.typing import NDArray

from fenwind.errors import FrameError
from fenwind.geodesy.axes import from_greenwich, to_greenwich
from fenwind.geodesy.operations import Way, Ways, areas_of, is_assumed, plain_name, stated_accuracy, ways
from fenwind.quantities.numbers import counted

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True)
class ConversionNote:
    """One thing to know about a conversion: stable `rule` key and a sentence."""

    rule: str
    text: str


@dataclass(frozen=True, kw_only=True, eq=False)
class Changed:
    """Positions (n,) in the other datum, nan where no operation leads there; operation in words; accuracy
    the worst that is stated, metres, None where one is not."""

    lat_rad: FloatArray
    lon_rad: FloatArray
    h_m: FloatArray
    operation: str
    accuracy_m: float | None
    notes: tuple[ConversionNote, ...]


def change_datum(
    source: pyproj.CRS,
    target: pyproj.CRS,
    lat_rad: FloatArray,
    lon_rad: FloatArray,
    h_m: FloatArray,
    epoch_year: float | None,
) -> Changed:
    """Positions (n,) of one geographic system in another, radians from Greenwich; h_m above the ellipsoid,
    nan where there is none. One position never decides about another: each goes by the best operation that
    is here for its own place. Raises FrameError when there is none."""
    spatial = bool(np.isfinite(h_m).any())
    one, other = (source.to_3d(), target.to_3d()) if spatial else (source, target)
    out = np.full((3, lat_rad.size), np.nan)
    used: dict[str, int] = {}
    accuracies: list[float | None] = []
    notes: dict[str, ConversionNote] = {}
    for rows, place in _by_place(one, other, lat_rad, lon_rad):
        found = ways(one, other, place)
        chosen = _best(found, target)
        own = from_greenwich(source, lat_rad[rows], lon_rad[rows])
        times = (np.full(rows.size, epoch_year),) if epoch_year is not None else ()
        first, second, up = chosen.transform(*own, np.nan_to_num(h_m[rows]), *times)[:3]
        lat, lon = to_greenwich(target, first, second)
        fine = np.isfinite(lat) & np.isfinite(lon)
        out[:, rows] = np.where(fine, np.stack([lat, lon, np.asarray(up)]), np.nan)
        words = plain_name(chosen.description)
        used[words] = used.get(words, 0) + rows.size
        accuracies.append(stated_accuracy(chosen.accuracy))
        notes |= {note.text: note for note in _notes(found, chosen, source, target)}
    out[2] = np.where(np.isfinite(h_m), out[2], np.nan)
    stated = [a for a in accuracies if a is not None]
    return Changed(
        lat_rad=out[0],
        lon_rad=out[1],
        h_m=out[2],
        operation="; ".join(
            f"{way} ({counted(k, 'position')})" if len(used) > 1 else way for way, k in used.items()
        ),
        accuracy_m=max(stated) if len(stated) == len(accuracies) else None,
        notes=tuple(notes.values()),
    )


def _by_place(
    source: pyproj.CRS, target: pyproj.CRS, lat: FloatArray, lon: FloatArray
) -> list[tuple[NDArray[np.intp], tuple[float, float, float, float] | None]]:
    """Rows of positions for which the same operations are meant, each with a place (west, south, east, north
    in degrees) that stands for them. Without any position, no rows and no place: there is still an operation
    to name."""
    found = list(_places(areas_of(source, target), np.degrees(lon), np.degrees(lat)))
    return [*found] or [(np.zeros(0, dtype=np.intp), None)]


def _places(
    areas: FloatArray, lon: FloatArray, lat: FloatArray
) -> Iterator[tuple[NDArray[np.intp], tuple[float, float, float, float]]]:
    west, south, east, north = areas[:, :, None]
    across = west > east
    between = np.where(across, (lon >= west) | (lon <= east), (lon >= west) & (lon <= east))
    inside = between & (lat >= south) & (lat <= north)
    fine = np.flatnonzero(np.isfinite(lon) & np.isfinite(lat))
    if not fine.size:
        return
    _, first, group = np.unique(inside[:, fine], axis=1, return_index=True, return_inverse=True)
    for number, at in enumerate(first.tolist()):
        rows = fine[group.reshape(-1) == number]
        x, y = float(lon[fine[at]]), float(lat[fine[at]])
        yield rows, (x, y, x, y)


def _best(found: Ways, target: pyproj.CRS) -> Way:
    if not found.present:
        raise FrameError(
            f"every way to {target.name} needs a grid that is not here: {', '.join(found.missing_grids)}",
            hint="Provide that grid file",
        )
    return found.present[0]


def _notes(found: Ways, chosen: Way, source: pyproj.CRS, target: pyproj.CRS) -> Iterator[ConversionNote]:
    grids = ", ".join(found.missing_grids[:4])
    if is_assumed(chosen) and grids:
        text = (
            f"The published relation from {source.name} to {target.name} needs a grid that is not here: "
            f"{grids}; the datums were taken as equal."
        )
        yield ConversionNote(rule="convert.grid-missing", text=text)
    elif is_assumed(chosen):
        text = (
            f"No published relation from {source.name} to {target.name} was found; the datums were taken "
            "as equal."
        )
        yield ConversionNote(rule="convert.assumed-equal", text=text)
    elif grids and not found.best_present:
        text = f"A better operation needs a grid that is not here: {grids}."
        yield ConversionNote(rule="convert.grid-missing", text=text)
    if found.elsewhere:
        area = chosen.area_of_use.name if chosen.area_of_use is not None else "elsewhere"
        text = f"The best operation that is here is meant for another area ({area[:80]})."
        yield ConversionNote(rule="convert.elsewhere", text=text)
