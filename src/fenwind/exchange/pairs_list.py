"""Lists of pairs: the same marks in two systems, one a row."""

from __future__ import annotations

import numpy as np

from fenwind.errors import FormatError, ParseError
from fenwind.exchange.delimited import read_file
from fenwind.exchange.point_list import head_and_unit
from fenwind.exchange.raw_table import RawTable
from fenwind.procedures.positions import Positions, positions
from fenwind.quantities.lengths import LengthUnit

PAIR_COLUMNS = ("name", "from_e", "from_n", "from_h", "to_e", "to_n", "to_h")


PairUnits = tuple[LengthUnit, LengthUnit] | None


def read_pairs(path: str) -> tuple[Positions, Positions, PairUnits]:
    """Source and target positions of a list of pairs, in the units that its heads state, metres where they
    state none; and those units. Raises FormatError with the place of the first bad cell."""
    table = read_file(path)
    place, units = _columns(table, path)
    names: list[str] = []
    rows: list[list[float]] = []
    for line, cells in zip(table.lines, table.rows, strict=True):
        name = cells[place["name"]] if place["name"] < len(cells) else ""
        if not name or name in names:
            raise FormatError(
                f"column name: {name!r} found, expected every name once",
                where=f"{path}, line {line}",
                hint="Name each pair",
            )
        names.append(name)
        rows.append(
            [_cell(table, cells, place, column, f"{path}, line {line}") for column in PAIR_COLUMNS[1:]]
        )
    values = np.array(rows, dtype=float).reshape(-1, 6).T
    source, target = (u.metres for u in units) if units is not None else (1.0, 1.0)
    return positions(names, *values[:3] * source), positions(names, *values[3:] * target), units


def _columns(table: RawTable, path: str) -> tuple[dict[str, int], PairUnits]:
    """Places of the columns, and the units that their heads state, from and to."""
    heads = [head_and_unit(h) for h in table.headers] or [(c, None) for c in PAIR_COLUMNS[: table.width]]
    words = [word.replace(" ", "_") for word, _ in heads]
    missing = [c for c in ("name", "from_e", "from_n", "to_e", "to_n") if c not in words]
    where = f"{path}, line 1"
    if missing:
        raise FormatError(
            f"no column for {' and '.join(missing)}", where=where, hint=f"Expected {','.join(PAIR_COLUMNS)}"
        )
    place = {c: words.index(c) for c in PAIR_COLUMNS if c in words}
    units = {c: heads[place[c]][1] for c in PAIR_COLUMNS[1:] if c in place}
    return place, _both_units(units, where)


def _both_units(units: dict[str, LengthUnit | None], where: str) -> PairUnits:
    """The one unit that the columns of each side state, None where none does. Raises FormatError."""
    source, target = ({u for c, u in units.items() if c.startswith(side)} for side in ("from", "to"))
    if len(source) > 1 or len(target) > 1 or (None in source) != (None in target):
        stated = ", ".join(u.key if u is not None else "none" for u in dict.fromkeys(units.values()))
        raise FormatError(
            f"the columns are in different units: {stated}", where=where,
            hint="State one unit for the marks as they are, and one for where they go",
        )  # fmt: skip
    one, other = source.pop(), target.pop()
    return None if one is None or other is None else (one, other)


def _cell(table: RawTable, cells: list[str], place: dict[str, int], column: str, where: str) -> float:
    index = place.get(column, len(cells))
    text = cells[index] if index < len(cells) else ""
    if not text and column.endswith("_h"):
        return float("nan")
    try:
        return table.number(text)
    except ParseError as error:
        raise FormatError(
            f"column {column}: {text[:40]!r} found, expected a number", where=where, hint="Correct the cell"
        ) from error
