"""CSV files whose columns are found by name, in any order: what is not known, what stands twice and what
cannot be read is refused with its line, its column and what was expected."""

from __future__ import annotations

import csv
import io
import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass

from fenwind.errors import FormatError, ParseError
from fenwind.exchange.delimited import decode
from fenwind.exchange.files import read_bytes
from fenwind.quantities.angles import parse_angle
from fenwind.quantities.bearings import parse_bearing

#: Nothing that is measured on earth is larger, in whatever unit; and a sigma below the other says nothing.
LARGEST, LEAST_SIGMA = 1e12, 1e-12


@dataclass(frozen=True, slots=True, kw_only=True)
class NamedRow:
    """One row: where it stands (line 1 is the header), and its cells by column."""

    source: str
    line: int
    cells: dict[str, str]

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
        """A number; nan for an empty cell. Raises FormatError for anything else."""
        found = self.cells.get(column, "")
        if not found:
            return math.nan
        try:
            value = float(found)
        except ValueError:
            raise self.bad(column, expected) from None
        if not abs(value) <= LARGEST or "_" in found or (fine is not None and not fine(value)):
            raise self.bad(column, expected)
        return value

    def sigma(self, column: str) -> float:
        """A sigma above zero; nan for an empty cell."""
        return self.number(column, "a sigma above 0", lambda v: v > LEAST_SIGMA)

    def needed_number(
        self, column: str, expected: str = "a number", fine: Callable[[float], bool] | None = None
    ) -> float:
        """A number that must be there."""
        value = self.number(column, expected, fine)
        if math.isnan(value):
            raise self.bad(column, expected)
        return value

    def angle(self, column: str) -> float:
        """An angle in radians, decimal degrees or degrees, minutes and seconds; nan for an empty cell."""
        found = self.cells.get(column, "")
        if not found:
            return math.nan
        try:
            return parse_angle(found)
        except ParseError:
            raise self.bad(column, "an angle such as 117.5979 or 117-35-52.5") from None

    def bearing(self, column: str) -> float:
        """An azimuth in radians, of an azimuth or of a quadrant bearing such as N 45-30 E."""
        try:
            return parse_bearing(self.text(column))
        except ParseError:
            raise self.bad(column, "a bearing such as N 45-30-15 E") from None


def read_named(
    path: str, needed: Sequence[str], optional: Sequence[str] = ()
) -> tuple[tuple[str, ...], list[NamedRow]]:
    """Columns and rows of a file. A column `note` may stand in any. Raises FormatError."""
    text, _ = decode(read_bytes(path), path)
    found = [row for row in _rows(text, path) if any(cell.strip() for cell in row[1])]
    if not found:
        raise FormatError("there is nothing in it", where=path, hint=f"Give {','.join(needed)}")
    line, head = found[0]
    heads = [cell.strip() for cell in head]
    where, hint = f"{path}, line {line}", f"The columns are {','.join([*needed, *optional, 'note'])}"
    for name in heads:
        if heads.count(name) > 1:
            raise FormatError(f"column {name} stands twice, expected once", where=where, hint=hint)
        if name not in (*needed, *optional, "note"):
            raise FormatError(f"column {name!r} found, expected a known one", where=where, hint=hint)
    for name in needed:
        if name not in heads:
            raise FormatError(f"column {name} is missing", where=where, hint=hint)
    rows = []
    for line, cells in found[1:]:
        if len(cells) > len(heads):
            raise FormatError(
                f"{len(cells)} cells found, expected {len(heads)}", where=f"{path}, line {line}", hint=hint
            )
        values = [cell.strip() for cell in cells] + [""] * (len(heads) - len(cells))
        rows.append(NamedRow(source=path, line=line, cells=dict(zip(heads, values, strict=True))))
    if not rows:
        raise FormatError("there are no rows in it", where=path, hint=f"Give {','.join(needed)}")
    return tuple(heads), rows


def _rows(text: str, path: str) -> list[tuple[int, list[str]]]:
    reader = csv.reader(io.StringIO(text), strict=True)
    out: list[tuple[int, list[str]]] = []
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


def read_control(path: str, heights_only: bool = False, weighted: bool = False) -> dict[str, KnownMark]:
    """Given marks of name,e,n,h (h may be empty), or of name,h where only heights count; weighted: with sh,
    sv where the file has them. Raises FormatError."""
    needed: tuple[str, ...] = ("name", "h") if heights_only else ("name", "e", "n", "h")
    optional = ("e", "n") if heights_only else ("sh", "sv") if weighted else ()
    _, rows = read_named(path, needed, optional)
    out: dict[str, KnownMark] = {}
    for row in rows:
        name = row.text("name")
        if name in out:
            raise FormatError(
                f"column name: {name!r} found again, expected every name once",
                where=f"{path}, line {row.line}", hint="Take one of them out",
            )  # fmt: skip
        if heights_only:
            out[name] = KnownMark(name=name, h=row.needed_number("h"))
        else:
            e, n = row.needed_number("e"), row.needed_number("n")
            sh, sv = (
                row.number(c, "a sigma of 0 or more", lambda v: v >= 0.0) if weighted else 0.0
                for c in ("sh", "sv")
            )
            out[name] = KnownMark(name=name, e=e, n=n, h=row.number("h"), sh=_or_zero(sh), sv=_or_zero(sv))
    return out


def _or_zero(sigma: float) -> float:
    return 0.0 if math.isnan(sigma) else sigma


def typed_mark(text: str, option: str) -> KnownMark:
    """A mark of an option, NAME,E,N or NAME,E,N,H. Raises ParseError."""
    parts = [part.strip() for part in text.split(",")]
    try:
        values = [float(part) for part in parts[1:]]
    except ValueError:
        values = []
    if len(values) not in (2, 3) or not parts[0] or not all(map(math.isfinite, values)):
        raise ParseError(f"{option} {text!r}: expected NAME,E,N or NAME,E,N,H", hint="Correct it")
    return KnownMark(name=parts[0], e=values[0], n=values[1], h=values[2] if len(values) == 3 else math.nan)
