"""Columns that a list can have, by key: what stands in the head and what in each cell."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FormatError
from fenwind.exchange.csv_out import csv_text
from fenwind.exchange.outgoing import Outgoing
from fenwind.geodesy.frames import FrameSpec, axes_of
from fenwind.quantities.lengths import UNITS
from fenwind.records.records import Layout

Cell = str | float
FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True)
class ListColumn:
    """A head and the cells under it; numbers with their decimals, nan where there is none."""

    head: str
    cells: Sequence[Cell]
    decimals: int = 0


#: What each key means, for those who choose.
COLUMNS: dict[str, str] = {
    "name": "name",
    "e": "easting",
    "n": "northing",
    "h": "height",
    "lat": "latitude, degrees",
    "lon": "longitude, degrees",
    "h_ell": "ellipsoidal height",
    "sh": "sigma in plan",
    "sv": "sigma in height",
    "class": "class",
    "code": "code",
    "monument": "monument",
    "description": "description",
    "source": "source of the given position",
    "because": "why this position is adopted",
    "system": "the system in words",
    "others": "the other frames of the job, side by side",
}
DEFAULT = Layout(
    id="default",
    name="full list",
    columns=("name", "e", "n", "h", "sh", "sv", "class", "code", "because", "system"),
)
PLAIN = Layout(id="plain", name="name, E, N, H", columns=("name", "e", "n", "h", "system"))
BESIDE = Layout(
    id="beside", name="both systems side by side", columns=("name", "e", "n", "h", "others", "system")
)
BUILT_IN = (DEFAULT, PLAIN, BESIDE)


def list_columns(out: Outgoing, layout: Layout) -> list[ListColumn]:
    """Columns of a layout; plane coordinates in the unit and axis order of the frame. Raises FormatError for
    a key that is not known, and for latitudes in a frame without a datum."""
    keys = list(layout.columns)
    unknown = [k for k in keys if k not in COLUMNS]
    if unknown or not keys:
        what = f"there is no column {unknown[0]!r}" if unknown else "the layout has no columns"
        raise FormatError(what, where=layout.name, hint=f"Choose among {', '.join(COLUMNS)}")
    axes = axes_of(out.spec)
    if "e" in keys and "n" in keys and keys.index("n") == keys.index("e") + 1:
        at = keys.index("e")
        keys[at : at + 2] = [axis.component for axis in axes]
    makers: dict[str, Callable[[], list[ListColumn]]] = {
        "others": lambda: [
            c
            for spec, values in out.others.values()
            for c in _plane(spec, values, layout.decimals, beside=True).values()
        ],
        "lat": lambda: [ListColumn(head="lat (deg)", cells=_degrees(out.geodetic()[0]), decimals=10)],
        "lon": lambda: [ListColumn(head="lon (deg)", cells=_degrees(out.geodetic()[1]), decimals=10)],
        "h_ell": lambda: [_length("h_ell", out.geodetic()[2], out.spec, layout)],
        "name": lambda: [ListColumn(head="name", cells=out.names)],
        "sh": lambda: [_length("sh", out.sigma_h_m, out.spec, layout)],
        "sv": lambda: [_length("sv", out.sigma_v_m, out.spec, layout)],
        "system": lambda: [ListColumn(head="system", cells=[out.system_words] * len(out.names))],
    }
    own = _plane(out.spec, (out.e_m, out.n_m, out.height_m), layout.decimals)
    found: list[ListColumn] = []
    for key in keys:
        if key in own:
            found.append(own[key])
        elif key in makers:
            found += makers[key]()
        else:
            found.append(
                ListColumn(head="adopted because" if key == "because" else key, cells=out.words[key])
            )
    return found


def _length(head: str, values_m: FloatArray, spec: FrameSpec, layout: Layout) -> ListColumn:
    """A column of lengths in the unit of the frame."""
    unit = UNITS[spec.unit]
    cells = (values_m / unit.metres).tolist()
    return ListColumn(head=f"{head} ({unit.key})", cells=cells, decimals=max(4, layout.decimals))


def _plane(
    spec: FrameSpec, values: Iterable[FloatArray], decimals: int, beside: bool = False
) -> dict[str, ListColumn]:
    """Columns of the plane coordinates and the height by "e", "n", "h", in the order and with the signs of
    the frame; one that counts west or south is headed so."""
    unit = UNITS[spec.unit]
    suffix = f" ({unit.key})"
    name = f" {spec.name}" if beside else ""
    e, n, h = values
    found = {}
    for axis in axes_of(spec):
        head = axis.component if axis.sign > 0 else axis.word
        cells = (axis.of(e, n) / unit.metres).tolist()
        found[axis.component] = ListColumn(head=f"{head}{name}{suffix}", cells=cells, decimals=decimals)
    height = (h / unit.metres).tolist()
    return found | {"h": ListColumn(head=f"h{name}{suffix}", cells=height, decimals=decimals)}


def _degrees(angle_rad: FloatArray) -> list[float]:
    return [math.degrees(v) for v in angle_rad.tolist()]


def text_rows(columns: list[ListColumn]) -> Iterator[list[str]]:
    """Rows as text, numbers with fixed decimals, empty for nan."""
    for row in zip(*(c.cells for c in columns), strict=True):
        yield [
            v if isinstance(v, str) else "" if math.isnan(v) else f"{v:.{c.decimals}f}"
            for c, v in zip(columns, row, strict=True)
        ]


def list_text(out: Outgoing, layout: Layout) -> str:
    """The list as delimited text."""
    columns = list_columns(out, layout)
    return csv_text([c.head for c in columns], text_rows(columns), layout.delimiter)
