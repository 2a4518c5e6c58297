"""CSV files whose columns are found by name, in any order: what is not known, what stands twice and what
cannot be read is refused with its line, its column and what was expected."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field

from fenwind.errors import FormatError, ParseError
from fenwind.exchange.delimited import DELIMITERS, decode
from fenwind.exchange.files import read_bytes
from fenwind.exchange.list_units import ANGLES, METRIC, ListUnits, column_of, is_angle
from fenwind.exchange.raw_table import NumberStyle, number_style
from fenwind.quantities.angles import AngleStyle, parse_angle
from fenwind.quantities.bearings import parse_bearing
from fenwind.quantities.lengths import METRE, UNITS, LengthUnit
from fenwind.quantities.numbers import parse_number

#: Nothing that is measured on earth is larger, in whatever unit; and a sigma below the other says nothing.
LARGEST, LEAST_SIGMA = 1e12, 1e-12
#: Numbers with a decimal point and nothing between thousands.
POINTS = NumberStyle()


@dataclass(frozen=True, slots=True, kw_only=True)
class NamedRow:
    """One row: where it stands (the header is line 1 where no title stands before it), its cells by column,
    and the units that the heads state; `read_in` for columns whose heads state none."""

    source: str
    line: int
    cells: dict[str, str]
    stated: Mapping[str, str] = field(default_factory=dict)
    read_in: ListUnits = METRIC
    style: NumberStyle = POINTS

    def text(self, column: str, needed: bool = True) -> str:
        """A cell without blanks around it. Raises FormatError when it is needed and empty."""
        found = self.cells.get(column, "")
        if needed and not found:
            raise self.bad(column, "a value")
        return found

    def bad(self, column: str, expected: str) -> FormatError:
        """The error about a cell."""
        found = self.cells.get(column, "")
        return FormatError(
            f"column {column}: {found!r} found, expected {expected}" if found
            else f"column {column}: empty, expected {expected}",
            where=f"{self.source}, line {self.line}", hint="Correct the cell",
        )  # fmt: skip

    def number(
        self, column: str, expected: str = "a number", fine: Callable[[float], bool] | None = None
    ) -> float:
        """A number without a unit; nan for an empty cell. Raises FormatError for anything else, and where the
        head states a unit."""
        if column in self.stated:
            raise self.bad(column, f"no unit in its head ({self.stated[column]})")
        return self._number(column, expected, fine)

    def _number(self, column: str, expected: str, fine: Callable[[float], bool] | None) -> float:
        found = self.cells.get(column, "")
        if not found:
            return math.nan
        try:
            value = self._plain(found)
        except (ValueError, ParseError):
            raise self.bad(column, expected) from None
        if not abs(value) <= LARGEST or "_" in found or (fine is not None and not fine(value)):
            raise self.bad(column, expected)
        return value

    def _plain(self, text: str) -> float:
        if not (self.style.decimal_comma or self.style.grouped):
            return float(text)
        return parse_number(text, decimal_comma=self.style.decimal_comma, grouped=self.style.grouped)

    def unit(self, column: str, default: LengthUnit | None = None) -> LengthUnit:
        """The unit of a column of lengths: its head's, else `default`, else that of the list."""
        key = self.stated.get(column)
        return UNITS[key] if key else default or self.read_in.length

    def length(
        self, column: str, expected: str = "a number", fine: Callable[[float], bool] | None = None,
        default: LengthUnit | None = None,
    ) -> float:  # fmt: skip
        """A length in metres; nan for an empty cell. `fine` judges it as it is written."""
        return self._number(column, expected, fine) * self.unit(column, default).metres

    def coordinate(self, column: str) -> float:
        """A plane coordinate or a height in metres; nan for an empty cell."""
        return self._number(column, "a number", None) * self.unit(column, self.read_in.coordinate).metres

    def needed_coordinate(self, column: str) -> float:
        """A plane coordinate or a height in metres that must be there."""
        return self._there(column, self.coordinate(column), "a number")

    def square(self, column: str) -> float:
        """A covariance that must be there, in square metres."""
        return self._there(column, self.length(column), "a number") * self.unit(column).metres

    def needed_length(
        self, column: str, expected: str = "a number", fine: Callable[[float], bool] | None = None,
        default: LengthUnit | None = None,
    ) -> float:  # fmt: skip
        """A length in metres that must be there."""
        return self._there(column, self.length(column, expected, fine, default), expected)

    def sigma(self, column: str) -> float:
        """A sigma above zero, in metres; nan for an empty cell."""
        return self.length(column, "a sigma above 0", lambda v: v > LEAST_SIGMA)

    def needed_number(
        self, column: str, expected: str = "a number", fine: Callable[[float], bool] | None = None
    ) -> float:
        """A number that must be there."""
        return self._there(column, self.number(column, expected, fine), expected)

    def _there(self, column: str, value: float, expected: str) -> float:
        if math.isnan(value):
            raise self.bad(column, expected)
        return value

    def angle(self, column: str) -> float:
        """An angle in radians, decimal in the unit of its column or degrees, minutes and seconds; nan for an
        empty cell."""
        found = self.cells.get(column, "")
        if not found:
            return math.nan
        try:
            return parse_angle(found, self.angle_style(column))
        except ParseError:
            raise self.bad(column, "an angle such as 117.5979 or 117-35-52.5") from None

    def angle_style(self, column: str) -> AngleStyle:
        """The unit of a column of angles: its head's, else that of the list."""
        return ANGLES.get(self.stated.get(column, ""), self.read_in.angle)

    def bearing(self, column: str) -> float:
        """An azimuth in radians, of an azimuth or of a quadrant bearing such as N 45-30 E."""
        try:
            return parse_bearing(self.text(column), self.angle_style(column))
        except ParseError:
            raise self.bad(column, "a bearing such as N 45-30-15 E") from None


def read_named(
    path: str, needed: Sequence[str], optional: Sequence[str] = (), units: ListUnits = METRIC
) -> tuple[tuple[str, ...], list[NamedRow]]:
    """Columns and rows of a file; rows of titles may stand before the heads, and a column `note` in any file.
    units: of columns whose heads state none. Raises FormatError."""
    known = (*needed, *optional, "note")
    text, _ = decode(read_bytes(path), path)
    found = _rows_of(text, path, known)
    if not found:
        raise FormatError("there is nothing in it", where=path, hint=f"Give {','.join(needed)}")
    line, head = found[0]
    where, hint = f"{path}, line {line}", f"The columns are {','.join(known)}"
    while len(head) > 1 and not head[-1].strip():
        head = head[:-1]
    heads, stated = _heads(head, known, where, hint)
    for name in needed:
        if name not in heads:
            raise FormatError(f"column {name} is missing", where=where, hint=hint)
    style = POINTS
    if any("," in cell for _, cells in found[1:] for cell in cells):
        style = number_style([cells for _, cells in found[1:]])
    rows = []
    for line, cells in found[1:]:
        if any(cell.strip() for cell in cells[len(heads) :]) or (len(cells) > len(head) == len(heads)):
            raise FormatError(
                f"{len(cells)} cells found, expected {len(heads)}", where=f"{path}, line {line}", hint=hint
            )
        values = [cell.strip() for cell in cells[: len(heads)]] + [""] * (len(heads) - len(cells))
        rows.append(
            NamedRow(
                source=path, line=line, cells=dict(zip(heads, values, strict=True)), stated=stated,
                read_in=units, style=style,
            )
        )  # fmt: skip
    if not rows:
        raise FormatError("there are no rows in it", where=path, hint=f"Give {','.join(needed)}")
    return tuple(heads), rows


def _heads(
    head: Sequence[str], known: tuple[str, ...], where: str, hint: str
) -> tuple[list[str], dict[str, str]]:
    """The known columns of a row of heads, and the units stated. Raises FormatError."""
    heads: list[str] = []
    stated: dict[str, str] = {}
    for text in head:
        name, unit = column_of(text, known)
        if not name:
            raise FormatError(f"column {text.strip()!r} found, expected a known one", where=where, hint=hint)
        if name in heads:
            raise FormatError(f"column {name} stands twice, expected once", where=where, hint=hint)
        if unit and (unit in ANGLES) != is_angle(name):
            kind = "an angle" if is_angle(name) else "a length"
            raise FormatError(
                f"column {text.strip()!r} found, expected a unit of {kind}", where=where, hint=hint
            )
        heads.append(name)
        if unit:
            stated[name] = unit
    return heads, stated


Rows = list[tuple[int, list[str]]]


def _rows_of(text: str, path: str, known: tuple[str, ...]) -> Rows:
    """Rows that are not blank from the heads on, with their lines: those of the delimiter and the row, among
    the first twenty, that name most columns."""
    best: Rows = []
    most = 0
    for delimiter in DELIMITERS:
        if delimiter != "," and delimiter not in text:
            continue
        try:
            rows = [row for row in _rows(text, path, delimiter) if any(cell.strip() for cell in row[1])]
        except FormatError:
            if delimiter == "," and not best:
                raise
            continue
        best = best or rows
        for start, (_, cells) in enumerate(rows[:20]):
            named = sum(1 for cell in cells[: 2 * len(known)] if column_of(cell, known)[0])
            if named > most:
                best, most = rows[start:], named
    return best


def _rows(text: str, path: str, delimiter: str) -> Rows:
    reader = csv.reader(io.StringIO(text), strict=True, delimiter=delimiter)
    out: Rows = []
    try:
        out.extend((reader.line_num, row) for row in reader)
    except csv.Error as error:
        raise FormatError(
            f"{error}, expected comma-separated values",
            where=f"{path}, line {reader.line_num}",
            hint="Correct it",
        ) from error
    return out


@dataclass(frozen=True, slots=True, kw_only=True)
class KnownMark:
    """A given mark; nan for what is not given. sh, sv: what it is known to, 0 for held."""

    name: str
    e: float = math.nan
    n: float = math.nan
    h: float = math.nan
    sh: float = 0.0
    sv: float = 0.0


def read_control(
    path: str, heights_only: bool = False, weighted: bool = False, units: ListUnits = METRIC
) -> dict[str, KnownMark]:
    """Given marks of name,e,n,h (h may be empty), or of name,h where only heights count; weighted: with sh,
    sv where the file has them. Raises FormatError."""
    needed: tuple[str, ...] = ("name", "h") if heights_only else ("name", "e", "n", "h")
    optional = ("e", "n") if heights_only else ("sh", "sv") if weighted else ()
    _, rows = read_named(path, needed, optional, units)
    out: dict[str, KnownMark] = {}
    for row in rows:
        name = row.text("name")
        if name in out:
            raise FormatError(
                f"column name: {name!r} found again, expected every name once",
                where=f"{path}, line {row.line}", hint="Take one of them out",
            )  # fmt: skip
        if heights_only:
            out[name] = KnownMark(name=name, h=row.needed_coordinate("h"))
        else:
            e, n = row.needed_coordinate("e"), row.needed_coordinate("n")
            sh, sv = (
                row.length(c, "a sigma of 0 or more", lambda v: v >= 0.0) if weighted else 0.0
                for c in ("sh", "sv")
            )
            out[name] = KnownMark(
                name=name, e=e, n=n, h=row.coordinate("h"), sh=_or_zero(sh), sv=_or_zero(sv)
            )
    return out


def _or_zero(sigma: float) -> float:
    return 0.0 if math.isnan(sigma) else sigma


def typed_mark(text: str, option: str, unit: LengthUnit = METRE) -> KnownMark:
    """A mark of an option, NAME,E,N or NAME,E,N,H in `unit`. Raises ParseError."""
    parts = [part.strip() for part in text.split(",")]
    try:
        values = [float(part) * unit.metres for part in parts[1:]]
    except ValueError:
        values = []
    if len(values) not in (2, 3) or not parts[0] or not all(map(math.isfinite, values)):
        raise ParseError(f"{option} {text!r}: expected NAME,E,N or NAME,E,N,H", hint="Correct it")
    return KnownMark(name=parts[0], e=values[0], n=values[1], h=values[2] if len(values) == 3 else math.nan)
