"""A raw table: cells as text, as any reader of lists finds them, before columns have a meaning."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from fenwind.errors import ParseError
from fenwind.quantities.numbers import parse_number


@dataclass(frozen=True, kw_only=True)
class RawTable:
    """Cells as text. headers is empty where there are none; lines holds the number of every row in its file,
    counted from 1 in what `place` names. decimal_comma, grouped: how numbers are written. unit: key of the
    length unit the file states, crs: the system it
    states, both empty where it states none. parts: names of the tables the file holds, `part` the one read.
    remarks: what the reader left out, in sentences."""

    source: str
    headers: tuple[str, ...]
    rows: list[list[str]]
    lines: Sequence[int]
    delimiter: str = ","
    decimal_comma: bool = False
    grouped: bool = False
    encoding: str = "utf-8"
    place: str = "line"
    unit: str = ""
    crs: str = ""
    part: str = ""
    parts: tuple[str, ...] = ()
    remarks: tuple[str, ...] = field(default=())

    @property
    def width(self) -> int:
        """Columns of the widest row."""
        return max([len(self.headers), *(len(r) for r in self.rows[:1000])])

    def number(self, text: str) -> float:
        """A number as this list writes them. Raises ParseError."""
        return parse_number(text, decimal_comma=self.decimal_comma, grouped=self.grouped)


@dataclass(frozen=True, slots=True, kw_only=True)
class NumberStyle:
    """Notation of the numbers of a list: with a decimal comma, with a sign between thousands."""

    decimal_comma: bool = False
    grouped: bool = False


_SHAPES = {
    "comma": re.compile(r"[+\-−]?(?:\d+,\d+|[1-9]\d{0,2}(?:\.\d{3})+,\d+)"),
    "dot": re.compile(r"[+\-−]?(?:\d+\.\d+|[1-9]\d{0,2}(?:,\d{3})+\.\d+)"),
    "groups of commas": re.compile(r"[+\-−]?[1-9]\d{0,2}(?:,\d{3})+(?:\.\d*)?"),
    "groups of dots": re.compile(r"[+\-−]?[1-9]\d{0,2}(?:\.\d{3})+(?:,\d*)?"),
    "long": re.compile(r"[+\-−]?\d{4,}[.,]\d+"),
}


def number_style(rows: Iterable[Sequence[str]]) -> NumberStyle:
    """Notation of the numbers among all cells of a list. A comma or dot counts as a sign of thousands only
    where every number of the list that could be written with one is; cells that are written otherwise than
    most are no numbers then."""
    cells = Counter(cell for row in rows for cell in row if "," in cell or "." in cell)
    found = {shape: {cell for cell in cells if pattern.fullmatch(cell)} for shape, pattern in _SHAPES.items()}

    def many(*sets: set[str]) -> int:
        return sum(cells[cell] for cell in set().union(*sets))

    only_comma = found["comma"] - found["groups of commas"]
    only_dot = found["dot"] - found["groups of dots"]
    whole_groups = found["groups of commas"] - found["comma"]
    if only_comma or only_dot or whole_groups:
        comma = many(only_comma) > many(only_dot, whole_groups)
    else:
        comma = many(found["comma"]) > many(found["dot"])
    groups = found["groups of dots" if comma else "groups of commas"]
    return NumberStyle(decimal_comma=comma, grouped=bool(groups) and not found["long"])


def is_number(text: str, decimal_comma: bool = False, grouped: bool = True) -> bool:
    """Whether a cell reads as a plain number."""
    try:
        parse_number(text, decimal_comma=decimal_comma, grouped=grouped)
    except ParseError:
        return False
    return True


def plain(value: float | None) -> str:
    """A number as a cell: every digit, empty for None and nan."""
    return "" if value is None or value != value else repr(float(value))
