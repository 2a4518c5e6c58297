"""Positions outside the area that a system is meant for, with what would bring them inside."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence

import numpy as np
from numpy.typing import NDArray

from fenwind.doubts.fit_geometry import PAST_EDGE_M
from fenwind.doubts.registry import Doubt
from fenwind.errors import FenwindError
from fenwind.geodesy.area import beyond_area_m, inside_area
from fenwind.geodesy.catalogue import neighbouring_zones
from fenwind.geodesy.frames import Frame, open_frame, working_frame_spec
from fenwind.quantities.numbers import format_fixed

FloatArray = NDArray[np.float64]
#: Names that are told, at most.
MOST_NAMES = 10
#: Positions farther into a neighbouring zone belong there, metres: a job at the edge of a zone may go
#: a little past it.
INTO_ZONE_M = 50_000.0


def outside_area(
    subject: str, names: Sequence[str], frame: Frame, lat_rad: FloatArray, lon_rad: FloatArray
) -> Iterator[Doubt]:
    """A doubt about positions (k,) outside the area of a frame; grave unless they lie a little past its edge
    and nothing brings them inside."""
    area = frame.area_of_use() if frame.has_datum else None
    if area is None:
        return
    rows = np.flatnonzero(~inside_area(area, lat_rad, lon_rad))
    if not rows.size:
        return
    lat, lon = np.asarray(lat_rad)[rows], np.asarray(lon_rad)[rows]
    beyond = float(beyond_area_m(area, lat, lon).max())
    meaning = _meaning(area, lat, lon)
    zone = "" if meaning else _zone(frame, lat, lon)
    who = tuple(names[k] for k in rows[:MOST_NAMES].tolist())
    more = f" and {rows.size - 1} more" if rows.size > 1 else ""
    place = f"{format_fixed(math.degrees(lat[0]), 4)}°, {format_fixed(math.degrees(lon[0]), 4)}°"
    yield Doubt(
        rule="frame.area", subject=subject, names=who, value=math.degrees(float(lon[0])),
        limit=math.degrees(area[0] if lon[0] < area[0] else area[2]), unit="deg",
        limit_source="area of use in the EPSG dataset",
        grave=bool(meaning) or beyond > (INTO_ZONE_M if zone else PAST_EDGE_M),
        text=f"{who[0]}{more} at {place} lies outside the area of {frame.spec.name}: "
        f"{meaning or zone or 'another zone, the sign of the longitude, or exchanged axes?'}",
    )  # fmt: skip


def _meaning(area: tuple[float, float, float, float], lat: FloatArray, lon: FloatArray) -> str:
    """How positions would have to be read to lie inside, in words; empty for nothing."""
    if inside_area(area, lat, -lon).all():
        return "with the other sign of the longitude it is inside."
    if inside_area(area, lon, lat).all():
        return "with latitude and longitude exchanged it is inside."
    return ""


def _zone(frame: Frame, lat: FloatArray, lon: FloatArray) -> str:
    """The neighbouring zone that all positions lie in, in words; empty for none."""
    for code in neighbouring_zones(frame.spec.crs):
        try:
            other = open_frame(working_frame_spec(code))
        except FenwindError:
            continue
        beside = other.area_of_use()
        if beside is not None and inside_area(beside, lat, lon).all():
            return f"it is in the zone of {other.spec.name}."
    return ""
