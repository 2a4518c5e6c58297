"""Velocities of marks as CSV (docs/formats/velocities.md)."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FormatError
from fenwind.exchange.named_csv import NamedRow, read_named
from fenwind.records.velocities import FASTEST_M

FloatArray = NDArray[np.float64]
#: Columns east, north, up with how long their unit is, metres a year.
HEADS: tuple[tuple[str, str, str, float], ...] = (
    ("ve", "vn", "vu", 1e-3), ("ve_m", "vn_m", "vu_m", 1.0),
)  # fmt: skip


def read_velocities(path: str) -> dict[str, FloatArray]:
    """Velocities (3,) east, north, up, metres a year, by the name of a mark; up is 0 where it is not given.
    Raises FormatError."""
    heads, rows = read_named(path, ("name",), [name for head in HEADS for name in head[:3]])
    kinds = [head for head in HEADS if set(head[:3]) & set(heads)]
    if len(kinds) != 1 or not set(kinds[0][:2]) <= set(heads):
        raise FormatError(
            f"columns {', '.join(heads)} found, expected name,ve,vn,vu (mm a year) or "
            "name,ve_m,vn_m,vu_m (metres a year)",
            where=f"{path}, line 1", hint="Give east, north and up in one unit",
        )  # fmt: skip
    out: dict[str, FloatArray] = {}
    for row in rows:
        name = row.text("name")
        if name in out:
            raise row.bad("name", "every name once")
        out[name] = _velocity(row, *kinds[0])
    return out


def _velocity(row: NamedRow, east: str, north: str, up: str, unit: float) -> FloatArray:
    most = f"a velocity below {FASTEST_M / unit:g}"

    def fine(value: float) -> bool:
        return abs(value) * unit <= FASTEST_M

    values = [row.needed_number(column, most, fine) for column in (east, north)]
    return np.asarray(np.nan_to_num([*values, row.number(up, most, fine)])) * unit
