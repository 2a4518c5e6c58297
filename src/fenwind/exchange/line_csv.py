"""Traverses and levelling from CSV files: a book of from, to, direction_kind, direction_dms, distance and dh;
runs of from, to, dh and distance_km or setups."""

from __future__ import annotations

import math

import numpy as np

from fenwind.errors import FormatError, ParseError
from fenwind.exchange.list_units import METRIC, ListUnits
from fenwind.exchange.named_csv import NamedRow, read_named
from fenwind.procedures.levelling import Levelling
from fenwind.procedures.resection import level_at_mean
from fenwind.procedures.traverse import KINDS, Kind, Sight
from fenwind.quantities.angles import AngleStyle, parse_angle
from fenwind.quantities.bearings import parse_bearing
from fenwind.quantities.lengths import KILOMETRE, METRE, LengthUnit, parse_length
from fenwind.records.lines import LengthKind, LevelBook, TraverseBook

BOOK_NEEDED = ("from", "to", "direction_kind", "direction_dms", "distance")
#: Of a row that was read on a slope, in place of distance and dh.
SLOPE = ("za", "sd", "hi", "ht")


def read_book(path: str, units: ListUnits = METRIC) -> list[Sight]:
    """The rows of a traverse, in their order; units: of columns whose heads state none.
    Raises FormatError with the place of the first bad cell."""
    out = []
    for row in read_named(path, BOOK_NEEDED, ("dh", *SLOPE), units)[1]:
        word = row.text("direction_kind")
        if word not in (*KINDS, "bearing"):
            raise row.bad("direction_kind", ", ".join((*KINDS, "bearing")))
        # A bearing counts from north or south; it is an azimuth once it is read.
        kind: Kind = "azimuth" if word == "bearing" else word  # type: ignore[assignment]
        direction = row.bearing("direction_dms") if word == "bearing" else row.angle("direction_dms")
        if math.isnan(direction):
            raise row.bad("direction_dms", "an angle such as 117.5979 or 117-35-52.5")
        if kind == "deflection" and abs(direction) > math.pi:
            raise row.bad("direction_dms", "a deflection from -180 to 180")
        here, there = row.text("from"), row.text("to")
        if here == there:
            raise row.bad("to", "another mark than from")
        distance, dh = _measured(row)
        out.append(Sight(here=here, there=there, kind=kind, direction=direction, dh=dh, distance=distance))
    return out


def _measured(row: NamedRow) -> tuple[float, float]:
    """Horizontal distance and height difference of a row, from zenith angle and slope distance where it has
    them. Raises FormatError."""
    above = lambda v: v > 0.0  # noqa: E731 - one word for both columns
    za, sd = row.angle("za"), row.length("sd", "a distance above 0", above)
    if math.isnan(sd) and math.isnan(za):
        return row.needed_length("distance", "a distance above 0", above), row.length("dh")
    if not 0.0 < za < math.pi:
        raise row.bad("za", "a zenith angle above 0 and below 180 beside sd")
    if math.isnan(sd):
        raise row.bad("sd", "a slope distance beside za")
    for name in ("distance", "dh"):
        if not math.isnan(row.number(name)):
            raise row.bad(name, "nothing beside za and sd")
    hi, ht = (0.0 if math.isnan(v) else v for v in (row.length("hi"), row.length("ht")))
    return level_at_mean(sd, za, hi, ht)


def typed_row(text: str, style: AngleStyle = "degrees", unit: LengthUnit = METRE) -> Sight:
    """A row as it is typed: from, to, direction, distance and, if there is one, height difference; a word
    before the direction says its kind, `right` without one. Raises ParseError."""
    parts = [part.strip() for part in text.replace(";", ",").replace("\t", ",").split(",")]
    if len(parts) not in (4, 5) or not all(parts[:4]) or parts[0] == parts[1]:
        raise ParseError(
            f"{text.strip()!r} is no row of a traverse",
            hint="Type from, to, direction, distance, height difference: P-1, P-2, right 117-35-52, 84.213",
        )
    word, _, rest = parts[2].partition(" ")
    kind: Kind = next((k for k in KINDS if k == word.lower()), "right")
    if word.lower() == "bearing":
        kind, direction = "azimuth", parse_bearing(rest, style)
    else:
        direction = parse_angle(rest if word.lower() in KINDS else parts[2], style)
    distance = parse_length(parts[3], unit)
    if not distance > 0.0:
        raise ParseError("a distance is above 0", hint="Type the horizontal distance")
    dh = parse_length(parts[4], unit) if len(parts) == 5 and parts[4] else math.nan
    return Sight(
        here=parts[0],
        there=parts[1],
        kind=kind,
        direction=direction,
        distance=distance,
        dh=dh,
    )


def check_heights(legs: tuple[Sight, ...], book: str) -> None:
    """Raise FormatError when some legs have a height difference and others none."""
    given = [not math.isnan(leg.dh) for leg in legs]
    if any(given) and not all(given):
        leg = legs[given.index(False)]
        raise FormatError(
            f"column dh: empty in the leg {leg.here} to {leg.there}, expected in all legs or in none",
            where=book, hint="Give the height differences of all legs",
        )  # fmt: skip


def book_record(rows: list[Sight], source: str) -> TraverseBook:
    """Rows as a record whose marks are still names; it has no id, no name and no ends yet."""
    return TraverseBook(
        id="", name="", frame="", source=source, here=tuple(r.here for r in rows),
        there=tuple(r.there for r in rows), kind=tuple(r.kind for r in rows),
        direction_rad=tuple(r.direction for r in rows), distance_m=tuple(r.distance for r in rows),
        dh_m=tuple(None if math.isnan(r.dh) else r.dh for r in rows),
    )  # fmt: skip


def read_runs(path: str, units: ListUnits = METRIC) -> Levelling:
    """The runs of a levelling, without control; units: of columns whose heads state none. Raises
    FormatError with the place of the first bad cell."""
    heads, rows = read_named(path, ("from", "to", "dh"), ("distance_km", "setups"), units)
    by = [name for name in ("distance_km", "setups") if name in heads]
    if len(by) != 1:
        raise FormatError(
            "expected one of the columns distance_km and setups", where=f"{path}, line 1",
            hint="Give the lengths of the runs, or their set-ups",
        )  # fmt: skip
    first, second, dh, length = [], [], [], []
    for row in rows:
        first.append(row.text("from"))
        second.append(row.text("to"))
        if first[-1] == second[-1]:
            raise row.bad("to", "another mark than from")
        dh.append(row.needed_length("dh"))
        number = row.needed_number(by[0], "a number above 0", lambda v: v > 0.0)
        kilometres = row.unit("distance_km", KILOMETRE).exact / KILOMETRE.exact
        length.append(number if by[0] == "setups" else number * float(kilometres))
    return Levelling(
        first=tuple(first), second=tuple(second), dh_m=np.array(dh), length=np.array(length), control={},
        by_setups=by[0] == "setups",
    )  # fmt: skip


def runs_record(runs: Levelling, source: str) -> LevelBook:
    """Runs as a record whose marks are still names; it has no id and no name yet."""
    kind: LengthKind = "setups" if runs.by_setups else "km"
    return LevelBook(
        id="", name="", frame="", source=source, first=runs.first, second=runs.second,
        dh_m=tuple(runs.dh_m.tolist()), length=tuple(runs.length.tolist()), length_kind=kind,
    )  # fmt: skip
