"""A raw table: cells as text, as any reader of lists finds them, before columns have a meaning."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from fenwind.errors import ParseError
from fenwind.quantities.numbers import parse_number


@dataclass(frozen=True, kw_only=True)
class RawTable:
    """Cells as text. headers is empty where there are none; lines holds the number of every row in its file,
    counted from 1 in what `place` names. unit: key of the length unit the file states, crs: the system it
    states, both empty where it states none. parts: names of the tables the file holds, `part` the one read.
    remarks: what the reader left out, in sentences."""

    source: str
    headers: tuple[str, ...]
    rows: list[list[str]]
    lines: Sequence[int]
    delimiter: str = ","
    decimal_comma: bool = False
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


def is_number(text: str, decimal_comma: bool = False) -> bool:
    """Whether a cell reads as a plain number."""
    try:
        parse_number(text, decimal_comma=decimal_comma)
    except ParseError:
        return False
    return True


def plain(value: float | None) -> str:
    """A number as a cell: every digit, empty for None and nan."""
    return "" if value is None or value != value else repr(float(value))
