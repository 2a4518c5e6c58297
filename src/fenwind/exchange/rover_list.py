"""Occupations of rovers as CSV, one a row: the vector from a base, or the position it led to, how precise it
is, when it was, how high the antenna stood (docs/formats/rover-list.md)."""

from __future__ import annotations

import math
from collections.abc import Sequence
from datetime import UTC, datetime

import numpy as np
from numpy.typing import NDArray

from fenwind.exchange.csv_out import csv_text
from fenwind.exchange.list_units import METRIC, ListUnits
from fenwind.exchange.named_csv import NamedRow, read_named
from fenwind.geodesy.antenna import METHODS
from fenwind.job.rover_lists import RoverRow
from fenwind.quantities.angles import RAD_PER_DEGREE
from fenwind.quantities.lengths import METRE, LengthUnit

FloatArray = NDArray[np.float64]

SOLUTIONS = ("fixed", "float", "code", "autonomous")
USES = ("used", "check", "out")
VECTOR, PLACE = ("dx", "dy", "dz"), ("lat", "lon", "h")
COVARIANCE = ("sxx", "sxy", "sxz", "syy", "syz", "szz")
_BASE = ("base_lat", "base_lon", "base_h", "base_height")
COLUMNS = (
    "base", "mark", *VECTOR, *COVARIANCE, *PLACE, "sh", "sv", "start", "end", "epochs", "solution", "pdop",
    "height", "method", "antenna", "use", *_BASE,
)  # fmt: skip


def read_rover_list(path: str, units: ListUnits = METRIC) -> list[RoverRow]:
    """The occupations of a file; units: of columns whose heads state none. Raises FormatError with the place
    of the first bad cell."""
    _, rows = read_named(path, ("base", "mark"), COLUMNS[2:], units)
    return [_row(row) for row in rows]


def _row(row: NamedRow) -> RoverRow:
    vector, place = _vector(row), _place(row, *PLACE)
    if (vector is None) == (place is None):
        raise row.bad("dx", "a vector dx, dy, dz or a position lat, lon, h")
    covariance = _covariance(row)
    plan, up = (row.sigma(c) for c in ("sh", "sv"))
    method = row.text("method", needed=False) or "vertical"
    if method not in METHODS:
        raise row.bad("method", ", ".join(METHODS))
    start = _moment(row, "start")
    return RoverRow(
        base=row.text("base"), mark=row.text("mark"), vector=vector,
        covariance=covariance, place=place,
        sigma=None if math.isnan(plan) or math.isnan(up) else (plan, up),
        start=start, end=_moment(row, "end") or start,
        epochs=int(_or(row.number("epochs", "a whole number", lambda v: v >= 0 and v == int(v)), 0.0)),
        solution=_one_of(row, "solution", SOLUTIONS), pdop=_some(row.number("pdop")),
        height_m=_or(row.length("height"), 0.0), method=method, antenna=row.text("antenna", needed=False),
        use=_one_of(row, "use", USES), base_place=_place(row, *_BASE[:3]),
        base_height_m=_or(row.length("base_height"), 0.0), line=row.line,
    )  # fmt: skip


def _vector(row: NamedRow) -> FloatArray | None:
    if not any(row.text(c, needed=False) for c in VECTOR):
        return None
    return np.array([row.needed_length(c) for c in VECTOR])


def _place(row: NamedRow, lat: str, lon: str, h: str) -> tuple[float, float, float] | None:
    if not any(row.text(c, needed=False) for c in (lat, lon, h)):
        return None
    found = row.angle(lat), row.angle(lon), row.needed_length(h)
    if not abs(found[0]) <= 90.0 * RAD_PER_DEGREE:
        raise row.bad(lat, "a latitude from -90 to 90 degrees")
    if not abs(found[1]) <= 360.0 * RAD_PER_DEGREE:
        raise row.bad(lon, "a longitude from -180 to 180 degrees")
    return found


def _covariance(row: NamedRow) -> FloatArray | None:
    if not any(row.text(c, needed=False) for c in COVARIANCE):
        return None
    xx, xy, xz, yy, yz, zz = (row.square(c) for c in COVARIANCE)
    found = np.array([[xx, xy, xz], [xy, yy, yz], [xz, yz, zz]])
    if not np.linalg.eigvalsh(found)[0] > 0.0:
        raise row.bad("sxx", "a covariance that is positive definite, all six in the square of one unit")
    return found


def _moment(row: NamedRow, column: str) -> str:
    """A time as ISO in UTC; without a zone it is taken as UTC."""
    text = row.text(column, needed=False)
    if not text:
        return ""
    try:
        found = datetime.fromisoformat(text.replace("Z", "+00:00"))
    except ValueError:
        raise row.bad(column, "a time such as 2026-06-01T08:30:00Z") from None
    return (found if found.tzinfo is not None else found.replace(tzinfo=UTC)).astimezone(UTC).isoformat()


def _one_of(row: NamedRow, column: str, words: Sequence[str]) -> str:
    found = row.text(column, needed=False) or words[0]
    if found not in words:
        raise row.bad(column, ", ".join(words))
    return found


def _or(value: float, absent: float) -> float:
    return absent if math.isnan(value) else value


def _some(value: float) -> float | None:
    return None if math.isnan(value) else value


def rover_list_csv(rows: Sequence[RoverRow], unit: LengthUnit = METRE) -> str:
    """CSV that `read_rover_list` takes in, lengths in `unit`; vectors to 0.01 mm."""
    return csv_text([_head(c, unit) for c in COLUMNS], [_cells(row, unit.metres) for row in rows])


def _head(column: str, unit: LengthUnit) -> str:
    """A column with its unit: of length, its square, or degrees."""
    if column.endswith(("lat", "lon")):
        return f"{column}_deg"
    if column in COVARIANCE:
        return f"{column}_{unit.key}2"
    lengths = (*VECTOR, "h", "sh", "sv", "height", "base_h", "base_height")
    return f"{column}_{unit.key}" if column in lengths else column


def _cells(one: RoverRow, metres: float) -> list[str]:
    upper = np.triu_indices(3)
    vector = [""] * 3 if one.vector is None else [f"{v / metres:.5f}" for v in one.vector]
    squares = [""] * 6 if one.covariance is None else [f"{v / metres**2:.6e}" for v in one.covariance[upper]]
    sigma = ("", "") if one.sigma is None else tuple(f"{v / metres:.5f}" for v in one.sigma)
    return [
        one.base, one.mark, *vector, *squares, *_degrees(one.place, metres), *sigma, one.start, one.end,
        f"{one.epochs}", one.solution, "" if one.pdop is None else f"{one.pdop:.2f}",
        f"{one.height_m / metres:.4f}", one.method, one.antenna, one.use,
        *_degrees(one.base_place, metres), f"{one.base_height_m / metres:.4f}",
    ]  # fmt: skip


def _degrees(place: tuple[float, float, float] | None, metres: float) -> list[str]:
    if place is None:
        return [""] * 3
    return [*(f"{v / RAD_PER_DEGREE:.10f}" for v in place[:2]), f"{place[2] / metres:.4f}"]
