"""A raw table into point rows: which column means what, and every row that cannot be read with the reason."""

from __future__ import annotations

import math
import re
from dataclasses import dataclass, field

from fenwind.errors import FormatError, ParseError
from fenwind.exchange.delimited import RawTable, is_number
from fenwind.quantities.geographic import parse_latitude, parse_longitude
from fenwind.quantities.lengths import METRE, LengthUnit, unit_named
from fenwind.quantities.numbers import parse_number

#: Coordinates beyond this are absurd on the earth, metres.
MAX_COORDINATE_M = 1e8

#: What a column can mean, with the words that say so in a header.
MEANINGS: dict[str, tuple[str, ...]] = {
    "name": ("name", "point", "pt", "pt.", "point id", "id", "no", "nr", "number", "mark", "station", "punkt"),
    "e": ("e", "east", "easting", "x", "eastings"),
    "n": ("n", "north", "northing", "y", "northings"),
    "h": ("h", "z", "height", "elev", "elevation", "hgt", "level"),
    "lat": ("lat", "latitude", "phi"),
    "lon": ("lon", "long", "longitude", "lambda", "lng"),
    "sh": ("sh", "sigma h", "sigma horizontal", "sigma plan"),
    "sv": ("sv", "sigma v", "sigma vertical", "sigma height"),
    "class": ("class", "order", "mark class"),
    "code": ("code", "feature", "feature code"),
    "description": ("description", "desc", "remark", "remarks", "comment", "monument", "note"),
}
_WORDS = {word: meaning for meaning, words in MEANINGS.items() for word in words}
_UNIT_IN_HEADER = re.compile(r"^(?P<word>.*?)[\s,]*[\[(]?\b(?P<unit>m|ft|ftUS|usft|km|mm)\b[\])]?\s*$", re.IGNORECASE)


@dataclass(frozen=True, slots=True, kw_only=True)
class ColumnMatch:
    """Column index of every meaning found, and the length unit of the columns whose header states one."""

    columns: dict[str, int]
    units: dict[str, LengthUnit] = field(default_factory=dict)


@dataclass(frozen=True, slots=True, kw_only=True)
class PointRow:
    """One point as read; metres and radians, nan where a cell was empty. first, second are e, n or, when the list is
    geographic, lat, lon."""

    line: int
    name: str
    first: float
    second: float
    height_m: float
    sigma_h_m: float = math.nan
    sigma_v_m: float = math.nan
    mark_class: str = ""
    code: str = ""
    description: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class RowProblem:
    """A row that could not be read: its line, the raw text, and why."""

    line: int
    column: str
    raw: str
    why: str


@dataclass(frozen=True, slots=True, kw_only=True)
class PointList:
    """What a table holds once its columns have meanings."""

    source: str
    geographic: bool
    points: tuple[PointRow, ...]
    problems: tuple[RowProblem, ...]
    columns: ColumnMatch


def match_header(table: RawTable, *, northing_first: bool = False) -> ColumnMatch:
    """Meanings by header words; without a header by place: name, then e, n (or n, e) and h in that order."""
    if not table.headers:
        axes = ("n", "e") if northing_first else ("e", "n")
        order = ("name", *axes, "h", "code", "description") if table.width > 2 else axes
        return ColumnMatch(columns={meaning: i for i, meaning in enumerate(order[: table.width])})
    columns: dict[str, int] = {}
    units: dict[str, LengthUnit] = {}
    for index, header in enumerate(table.headers):
        meaning, unit = _meaning_of(header)
        if meaning and meaning not in columns:
            columns[meaning] = index
            if unit is not None:
                units[meaning] = unit
    return ColumnMatch(columns=columns, units=units)


def _meaning_of(header: str) -> tuple[str, LengthUnit | None]:
    plain = re.sub(r"[_\s]+", " ", header.strip().lower())
    if plain in _WORDS:
        return _WORDS[plain], None
    stated = _UNIT_IN_HEADER.match(header.strip())
    if stated is None:
        return "", None
    word = re.sub(r"[_\s]+", " ", stated["word"].strip().lower())
    return _WORDS.get(word, ""), unit_named(stated["unit"])


def interpret(table: RawTable, match: ColumnMatch | None = None, unit: LengthUnit = METRE) -> PointList:
    """Point rows of a table; `unit` is that of e, n and h where the header states none. Latitude and longitude may be
    typed in any spelling of an angle, their heights are metres unless the header says otherwise.

    Raises FormatError when no column can serve as name or as coordinates, when a header stands twice, or when no row can be read.
    """
    match = match or match_header(table)
    columns = match.columns
    geographic = "lat" in columns and "lon" in columns
    axes = ("lat", "lon") if geographic else ("e", "n")
    missing = [m for m in ("name", *axes) if m not in columns]
    if missing:
        found = ", ".join(table.headers) or f"{table.width} columns without a header"
        raise FormatError(
            f"no column for {' and '.join(missing)}; found {found}",
            where=f"{table.source}, line 1",
            hint="Expected name,e,n,h or name,lat,lon,h",
        )
    repeated = [h for h in table.headers if h and table.headers.count(h) > 1 and _meaning_of(h)[0]]
    if repeated:
        raise FormatError(
            f"the column {repeated[0]!r} stands twice", where=f"{table.source}, line 1", hint="Name every column once"
        )
    points, problems = [], []
    reader = _RowReader(table, match, geographic, METRE if geographic else unit)
    for line, row in zip(table.lines, table.rows, strict=True):
        try:
            points.append(reader.read(line, row))
        except _BadCell as bad:
            problems.append(RowProblem(line=line, column=bad.column, raw=table.delimiter.join(row)[:200], why=bad.why))
    if not points and problems:
        first = problems[0]
        raise FormatError(
            f"column {first.column}: {first.why}", where=f"{table.source}, line {first.line}", hint="No row could be read"
        )
    return PointList(source=table.source, geographic=geographic, points=tuple(points), problems=tuple(problems), columns=match)


class _BadCell(Exception):
    def __init__(self, column: str, why: str) -> None:
        super().__init__(why)
        self.column, self.why = column, why


class _RowReader:
    """Reads the cells of one row after the other by their meanings."""

    def __init__(self, table: RawTable, match: ColumnMatch, geographic: bool, unit: LengthUnit) -> None:
        self._columns, self._units, self._unit = match.columns, match.units, unit
        self._geographic, self._comma = geographic, table.decimal_comma
        self._needed = 1 + max(match.columns[m] for m in (("name", "lat", "lon") if geographic else ("name", "e", "n")))

    def read(self, line: int, row: list[str]) -> PointRow:
        if len(row) < self._needed:
            raise _BadCell("last", f"has {len(row)} columns, expected at least {self._needed}")
        name = self._text(row, "name")
        if not name:
            raise _BadCell("name", "is empty, expected the name of a mark")
        if self._geographic:
            first, second = self._angle(row, "lat"), self._angle(row, "lon")
        else:
            first, second = self._length(row, "e"), self._length(row, "n")
        return PointRow(
            line=line,
            name=name,
            first=first,
            second=second,
            height_m=self._length(row, "h", needed=False),
            sigma_h_m=self._sigma(row, "sh"),
            sigma_v_m=self._sigma(row, "sv"),
            mark_class=self._text(row, "class"),
            code=self._text(row, "code"),
            description=self._text(row, "description"),
        )

    def _text(self, row: list[str], meaning: str) -> str:
        index = self._columns.get(meaning)
        text = row[index] if index is not None and index < len(row) else ""
        return text[1:] if text[:2] in GUARDED else text

    def _length(self, row: list[str], meaning: str, *, needed: bool = True) -> float:
        text = self._text(row, meaning)
        if not text and not needed:
            return math.nan
        value = self._number(text, meaning) * self._units.get(meaning, self._unit).metres
        if abs(value) > MAX_COORDINATE_M:
            raise _BadCell(meaning, f"{text} is beyond any place on the earth")
        return value

    def _number(self, text: str, meaning: str) -> float:
        try:
            return float(text) if text.isascii() and _PLAIN.fullmatch(text) else parse_number(text, decimal_comma=self._comma)
        except ParseError as error:
            raise _BadCell(meaning, f"{text[:40]!r} found, expected a number") from error

    def _sigma(self, row: list[str], meaning: str) -> float:
        text = self._text(row, meaning)
        if not text:
            return math.nan
        value = self._number(text, meaning)
        if not 0.0 < value < 1000.0:
            raise _BadCell(meaning, f"{text} found, expected a sigma above 0 in metres")
        return value

    def _angle(self, row: list[str], meaning: str) -> float:
        text = self._text(row, meaning)
        parse = parse_latitude if meaning == "lat" else parse_longitude
        try:
            if self._comma and is_number(text, True):
                text = repr(parse_number(text, decimal_comma=True))
            return parse(text)
        except ParseError as error:
            raise _BadCell(
                meaning, f"{text[:40]!r} found, expected a {'latitude' if meaning == 'lat' else 'longitude'}"
            ) from error


_PLAIN = re.compile(r"[+-]?(\d+\.?\d*|\.\d+)([eE][+-]?\d{1,2})?")
#: What a cell begins with when an apostrophe was put before it so that a spreadsheet does not run it.
GUARDED = tuple("'" + c for c in "=+-@\t\r")
