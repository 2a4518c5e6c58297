"""Point files for the command line: every row must be readable, every name must stand once."""

from __future__ import annotations

import json
import math
from typing import TYPE_CHECKING, Any

from fenwind.errors import FormatError

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from fenwind.exchange.list_units import ListUnits
    from fenwind.exchange.point_list import PointList
    from fenwind.exchange.raw_table import RawTable
    from fenwind.procedures.positions import Positions
    from fenwind.quantities.lengths import LengthUnit


def read_points(path: str, unit: LengthUnit | None = None, units: ListUnits | None = None) -> PointList:
    """Points of a file; units: of columns whose heads state none; `unit` alone: of e, n and h, the others in
    metres. Raises FormatError with the place of the first bad cell."""
    return read_list(path, unit, units)[1]


def read_list(
    path: str, unit: LengthUnit | None = None, units: ListUnits | None = None
) -> tuple[RawTable, PointList]:
    """A file as it is, and its points; as read_points."""
    from fenwind.exchange.formats import read_table
    from fenwind.exchange.list_units import ListUnits
    from fenwind.exchange.point_list import interpret
    from fenwind.quantities.lengths import METRE, UNITS

    raw = read_table(path)
    units = units or ListUnits(coordinate=unit or METRE)
    own = UNITS[raw.unit] if raw.unit else units.coordinate  # a file that says its unit knows it
    points = interpret(raw, unit=own, others=units.length, angle=units.angle)
    if points.problems:
        bad = points.problems[0]
        raise FormatError(
            f"column {bad.column}: {bad.why}",
            where=f"{path}, {raw.place} {bad.line}",
            hint="Correct the row, or remove it",
        )
    if points.ellipsoidal and not points.geographic:
        raise FormatError(
            f"column {raw.headers[points.columns.columns['h_ell']]!r}: heights above the ellipsoid found, "
            "expected h in the heights of the frame",
            where=f"{path}, {raw.place} 1",
            hint="Give latitude and longitude with them, or take the geoid heights off",
        )
    seen: dict[str, int] = {}
    for point in points.points:
        if point.name in seen:
            raise FormatError(
                f"column name: {point.name!r} stands in {raw.place} {seen[point.name]} already, "
                "expected every "
                "name once",
                where=f"{path}, {raw.place} {point.line}",
                hint="Average repeated occupations first, or rename one",
            )
        seen[point.name] = point.line
    return raw, points


def point_columns(points: PointList) -> NDArray[np.float64]:
    """The numbers of a list (5, n): first and second coordinate (e, n in metres or lat, lon in radians),
    height and its standard deviations h, v in metres; nan where there are none."""
    import numpy as np

    rows = [(p.first, p.second, p.height_m, p.sigma_h_m, p.sigma_v_m) for p in points.points]
    return np.array(rows, dtype=np.float64).reshape(-1, 5).T


def plane_positions(points: PointList) -> Positions:
    """The rows of a list of e, n. Raises FormatError for one of latitude and longitude."""
    from fenwind.procedures.positions import positions

    if points.geographic:
        raise FormatError(
            "positions are geographic, expected name,e,n,h",
            where=points.source,
            hint="Give a list with name,e,n,h",
        )
    return positions([p.name for p in points.points], *point_columns(points))


def split_names(text: str | None) -> tuple[str, ...]:
    """Names of a comma-separated option."""
    return tuple(part.strip() for part in (text or "").split(",") if part.strip())


def place_of(text: str, option: str, unit: LengthUnit | None = None) -> tuple[float, float, float]:
    """Latitude and longitude in radians and ellipsoidal height in metres of LAT,LON,H; H is typed in `unit`,
    metres when None. Raises FenwindError."""
    from fenwind.quantities.geographic import parse_latitude, parse_longitude
    from fenwind.quantities.lengths import METRE, parse_length

    parts = text.split(",")
    if len(parts) != 3:
        raise FormatError(
            f"{option} {text!r}, expected three values",
            hint=f"Write {option} LAT,LON,H, for instance {option} 61.3,8.4,1240",
        )
    return parse_latitude(parts[0]), parse_longitude(parts[1]), parse_length(parts[2], unit or METRE)


def number(value: float | None) -> float | None:
    """A float for JSON: null where there is no finite value."""
    return None if value is None or not math.isfinite(value) else float(value)


def dump(payload: dict[str, Any]) -> str:
    """One JSON object; floats keep every digit they have, one that is not finite is null."""
    try:
        return json.dumps(payload, ensure_ascii=False, allow_nan=False)
    except ValueError:
        return json.dumps(_finite(payload), ensure_ascii=False, allow_nan=False)


def _finite(value: Any) -> Any:
    if isinstance(value, dict):
        return {k: _finite(v) for k, v in value.items()}
    if isinstance(value, list | tuple):
        return [_finite(v) for v in value]
    return None if isinstance(value, float) and not math.isfinite(value) else value
