"""A raw table into point rows: which column means what, and every row that cannot be read with the reason."""

from __future__ import annotations

import math
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FormatError, ParseError
from fenwind.exchange.raw_table import RawTable, is_number
from fenwind.geodesy.axes import ShownAxis, shown_axes
from fenwind.progress import NULL_PROGRESS, Progress
from fenwind.quantities.angles import RAD_PER_DEGREE, RAD_PER_GON, AngleStyle
from fenwind.quantities.geographic import parse_latitude, parse_longitude
from fenwind.quantities.lengths import METRE, UNITS, LengthUnit, unit_named
from fenwind.quantities.numbers import counted

#: Coordinates beyond this are absurd on the earth, metres.
MAX_COORDINATE_M = 1e8
#: Sigmas beyond this are no sigmas, metres.
MAX_SIGMA_M = 1000.0

_HEIGHTS = ("h", "height", "hgt", "ht", "elevation", "elev")
_ELLIPSOIDAL = (
    *(f"{kind} {height}" for kind in ("ell", "ellipsoid", "ellipsoidal") for height in _HEIGHTS),
    *("h ell", "hell", "ellh", "height ellipsoid", "height (ellipsoid)", "h (ellipsoid)"),
    *("ellipsoidische höhe", "hauteur ellipsoidale", "altura elipsoidal", "quota ellissoidica",
      "ellipsoidisk høyde", "ellipsoidhöjd"),
)  # fmt: skip
_NUMBERS = ("no", "nr", "num", "number", "id", "name")
#: What a column can mean, with the words that say so in a header: English, German, French, Spanish, Italian,
#: Norwegian and Swedish as lists have them (common practice, no source). Dots, hyphens and signs for
#: "number" do not count.
MEANINGS: dict[str, tuple[str, ...]] = {
    "name": (
        *_NUMBERS, "p", "pt", "pnt", "point", "mark", "station", "target", "stn", "pointno", "ptno", "pno",
        *(f"{what} {no}" for what in ("point", "pt", "mark", "station", "target") for no in _NUMBERS),
        *("punkt", "punkt nr", "punktnr", "punktnummer", "nummer", "bezeichnung"),
        *("matricule", "numéro", "n point", "point n", "nom", "repère"),
        *("punto", "n punto", "nombre", "número", "nome", "numero", "punt", "ponto"),
        *("punktnavn", "punktnamn", "navn", "namn"),
    ),
    "e": (
        "e", "east", "easting", "x", "eastings", "grid e", "grid east", "rechtswert", "ost", "ostwert",
        "rechts", "est", "este", "easting x", "øst", "öst", "östlig",
    ),
    "n": (
        "n", "north", "northing", "y", "northings", "grid n", "grid north", "hochwert", "nord", "nordwert",
        "hoch", "norte", "northing y", "nordlig",
    ),
    "h": (
        *_HEIGHTS, "z", "level", "rl", "reduced level", "ortho ht", "orthometric height", "höhe", "hoehe",
        "altitude", "alt", "cote", "cota", "altura", "quota", "høyde", "höjd", "kote",
    ),
    "h_ell": _ELLIPSOIDAL,
    "lat": ("lat", "latitude", "phi", "breite", "latitud", "latitudine", "bredde", "latitud n"),
    "lon": ("lon", "long", "longitude", "lambda", "lng", "länge", "longitud", "longitudine", "lengde"),
    "sh": ("sh", "sigma h", "sigma horizontal", "sigma plan"),
    "sv": ("sv", "sigma v", "sigma vertical", "sigma height"),
    "class": ("class", "order", "mark class", "type", "art", "klasse", "ordnung", "ordre", "tipo", "classe"),
    "code": ("code", "feature", "feature code", "kode", "código", "codice", "kod"),
    "monument": ("monument", "monumentation", "mark type", "vermarkung", "borne"),
    "source": ("source", "origin", "quelle", "fuente", "fonte", "kilde"),
    "description": (
        "description", "desc", "descr", "remark", "remarks", "comment", "note", "notes", "d", "beschreibung",
        "bemerkung", "nature", "remarque", "descripción", "descripcion", "descrizione", "observaciones",
        "beskrivelse", "beskrivning", "merknad",
    ),
}  # fmt: skip
FloatArray = NDArray[np.float64]
#: Heads of coordinates that are counted the other way: what they mean with the sign changed.
_OPPOSITE = {
    **dict.fromkeys(("westing", "westings", "west"), "e"),
    **dict.fromkeys(("southing", "southings", "south"), "n"),
}
_WORDS = _OPPOSITE | {word: meaning for meaning, words in MEANINGS.items() for word in words}
_UNIT_IN_HEADER = re.compile(
    r"^(?P<word>.*?)(?:[\s,_]+[\[(]?|[\[(])(?P<unit>m|ft|ftUS|usft|km|mm)[\])]?\s*$", re.IGNORECASE
)


#: Letters of a head that may state a unit.
MOST_LETTERS = 80
_ANGLE_IN_HEADER = re.compile(
    r"^(?P<word>.*?)[\s,_]*[\[(]?(?P<unit>°|\bdeg|\bdms|\bgon|\bgrad)[\])]?\s*$", re.I
)


@dataclass(frozen=True, slots=True, kw_only=True)
class ColumnMatch:
    """Column index of every meaning found, the length unit of the columns whose header states one, those of
    easting and northing that are counted westwards and southwards, and the unit of angle of latitude and
    longitude whose header states one."""

    columns: dict[str, int]
    units: dict[str, LengthUnit] = field(default_factory=dict)
    opposite: frozenset[str] = frozenset()
    angles: dict[str, AngleStyle] = field(default_factory=dict)

    def factor(self, meaning: str, unit: LengthUnit) -> float:
        """What a number of a column is multiplied by to give metres; `unit` where its head states none."""
        return self.units.get(meaning, unit).metres * (-1.0 if meaning in self.opposite else 1.0)


@dataclass(frozen=True, slots=True, kw_only=True)
class PointRow:
    """One point as read; metres and radians, nan where a cell was empty. first, second are e, n or, when the
    list is geographic, lat, lon."""

    line: int
    name: str
    first: float
    second: float
    height_m: float
    sigma_h_m: float = math.nan
    sigma_v_m: float = math.nan
    mark_class: str = ""
    code: str = ""
    monument: str = ""
    description: str = ""
    source: str = ""


@dataclass(frozen=True, slots=True, kw_only=True)
class RowProblem:
    """A row that could not be read: its line, the raw text, and why."""

    line: int
    column: str
    raw: str
    why: str


@dataclass(frozen=True, kw_only=True, eq=False)
class PointList:
    """What a table holds once its columns have meanings, as columns over its k readable rows.

    lines (k,): the line of each; values (5, k): first, second (e, n in metres, or lat, lon in radians),
    height and the sigmas in plan and height in metres, nan where a cell was empty; words: texts of the
    columns of words that are there.
    """

    source: str
    geographic: bool
    lines: NDArray[np.intp]
    names: tuple[str, ...]
    values: FloatArray
    words: dict[str, tuple[str, ...]]
    problems: tuple[RowProblem, ...]
    columns: ColumnMatch

    @property
    def ellipsoidal(self) -> bool:
        """Whether its heights are above the ellipsoid: those of latitude and longitude are, those of a plane
        where they say so and no others are there."""
        return height_meaning(self.columns.columns, self.geographic) == "h_ell" or self.geographic

    def row(self, i: int) -> PointRow:
        """One point of it."""
        words = {("mark_class" if key == "class" else key): texts[i] for key, texts in self.words.items()}
        first, second, height, sigma_h, sigma_v = self.values[:, i].tolist()
        return PointRow(
            line=int(self.lines[i]), name=self.names[i], first=first, second=second,
            height_m=height, sigma_h_m=sigma_h, sigma_v_m=sigma_v, **words,
        )  # fmt: skip

    @cached_property
    def points(self) -> tuple[PointRow, ...]:
        """All points, one by one."""
        return tuple(self.row(i) for i in range(len(self.names)))


def unit_stated(table: RawTable, match: ColumnMatch) -> LengthUnit | None:
    """The unit of easting and northing that a list states, in its heads or as a file."""
    return match.units.get("e") or (UNITS[table.unit] if table.unit else None)


def columns_said(table: RawTable, match: ColumnMatch) -> dict[str, str]:
    """The head of the column that each meaning was taken from."""
    return {
        meaning: table.headers[i] if i < len(table.headers) else f"column {i + 1}"
        for meaning, i in match.columns.items()
    }


def height_meaning(columns: Mapping[str, int], geographic: bool) -> str:
    """The meaning that heights are read from: beside latitude and longitude those above the ellipsoid, on a
    plane the others, where both are there."""
    order = ("h_ell", "h") if geographic else ("h", "h_ell")
    return next((m for m in order if m in columns), "h")


def match_header(table: RawTable, axes: Sequence[ShownAxis] = shown_axes(None)) -> ColumnMatch:
    """Meanings by header words; without a header by place: name, then the plane coordinates as `axes` has
    them, and h. Of a system that counts west or south its own letters are known too."""
    if not table.headers:
        return _by_place(table, axes)
    turned = {a.title.lower(): a for a in axes if any(other.sign < 0 for other in axes)}
    columns: dict[str, int] = {}
    units: dict[str, LengthUnit] = {}
    opposite: set[str] = set()
    angles: dict[str, AngleStyle] = {}
    for index, header in enumerate(table.headers):
        meaning, unit = _meaning_of(header)
        if not meaning:
            meaning, style = _angle_of(header)
            angles |= {meaning: style} if style is not None and meaning not in columns else {}
        axis = turned.get(_plain(header))
        meaning = axis.component if axis is not None else meaning
        if meaning and meaning not in columns:
            columns[meaning] = index
            if unit is not None:
                units[meaning] = unit
            if _plain(header) in _OPPOSITE or (axis is not None and axis.sign < 0):
                opposite.add(meaning)
    return ColumnMatch(columns=columns, units=units, opposite=frozenset(opposite), angles=angles)


def _by_place(table: RawTable, axes: Sequence[ShownAxis]) -> ColumnMatch:
    plane = tuple(a.component for a in axes)
    order = ("name", *plane, "h", "code", "description") if table.width > 2 else plane
    against = frozenset(a.component for a in axes if a.sign < 0)
    return ColumnMatch(columns={m: i for i, m in enumerate(order[: table.width])}, opposite=against)


def _angle_of(header: str) -> tuple[str, AngleStyle | None]:
    """Latitude or longitude with the unit of angle that a header states; empty and None for any other."""
    found = _ANGLE_IN_HEADER.match(header.strip()) if len(header) <= MOST_LETTERS else None
    meaning = _meaning_of(found["word"])[0] if found is not None else ""
    if found is None or meaning not in ("lat", "lon"):
        return "", None
    return meaning, "gon" if found["unit"].lower() in ("gon", "grad") else "degrees"


def head_and_unit(header: str) -> tuple[str, LengthUnit | None]:
    """The word of a header in small letters, and the unit it states."""
    stated = _UNIT_IN_HEADER.match(header.strip()) if len(header) <= MOST_LETTERS else None
    word = stated["word"] if stated else header
    return _bare(word), unit_named(stated["unit"]) if stated else None


def _bare(word: str) -> str:
    """A word of a header in small letters without what lists put around it: dots, hyphens, signs for
    "number"."""
    return re.sub(r"[_\s]+", " ", re.sub(r"[.\-:#°º№]", " ", word.lower())).strip()


def _plain(header: str) -> str:
    return head_and_unit(header)[0]


def _meaning_of(header: str) -> tuple[str, LengthUnit | None]:
    plain = _bare(header)
    if plain in _WORDS:
        return _WORDS[plain], None
    word, unit = head_and_unit(header)
    return (_WORDS.get(word, ""), unit) if unit is not None else ("", None)


WORD_MEANINGS = ("class", "code", "monument", "description", "source")
#: Rows read together.
BLOCK = 4096


def interpret(
    table: RawTable,
    match: ColumnMatch | None = None,
    unit: LengthUnit = METRE,
    progress: Progress = NULL_PROGRESS,
    heights_alone: bool = False,
    others: LengthUnit = METRE,
    angle: AngleStyle = "degrees",
) -> PointList:
    """Point rows of a table; heights_alone: rows, or a whole list, may have a name and a height and no place.
    Where the header states no unit, `unit` is that of e, n and h, `others` that of heights beside latitudes
    and of sigmas, `angle` that of plain numbers for latitude and longitude, which may be typed in any
    spelling of an angle.

    Raises FormatError when no column can serve as name or as coordinates, when a header stands twice or
    easting and northing state different units, or when no row can be read.
    """
    match = match or match_header(table)
    geographic = "lat" in match.columns and "lon" in match.columns
    _check_columns(table, match, geographic, heights_alone)
    reader = _RowReader(table, match, geographic, others if geographic else unit, heights_alone)
    reader.read_in(others, angle)
    blocks: list[_Block] = []
    problems: list[RowProblem] = []
    for start in range(0, len(table.rows), BLOCK):
        progress.check()
        rows, lines = table.rows[start : start + BLOCK], table.lines[start : start + BLOCK]
        try:
            blocks.append(reader.read_block(rows, lines))
        except (_BadCell, ValueError, IndexError):
            blocks.append(_one_by_one(reader, table, rows, lines, problems))
        progress.report(min(start + BLOCK, len(table.rows)), len(table.rows), "reading")
    if problems and not any(b.names for b in blocks):
        first = problems[0]
        raise FormatError(
            f"column {first.column}: {first.why}",
            where=f"{table.source}, {table.place} {first.line}",
            hint="No row could be read",
        )
    return _joined(table, geographic, match, reader, blocks, problems)


def _joined(
    table: RawTable,
    geographic: bool,
    match: ColumnMatch,
    reader: _RowReader,
    blocks: list[_Block],
    problems: list[RowProblem],
) -> PointList:
    """Blocks of rows as one list."""
    return PointList(
        source=table.source,
        geographic=geographic,
        lines=np.array([n for b in blocks for n in b.lines], dtype=np.intp),
        names=tuple(n for b in blocks for n in b.names),
        values=np.hstack([b.values for b in blocks]) if blocks else np.zeros((5, 0)),
        words={m: tuple(t for b in blocks for t in b.words[m]) for m in reader.word_meanings},
        problems=tuple(problems),
        columns=match,
    )


def _check_columns(table: RawTable, match: ColumnMatch, geographic: bool, heights_alone: bool) -> None:
    where = f"{table.source}, {table.place} 1"
    axes = ("lat", "lon") if geographic else ("e", "n")
    placeless = heights_alone and "h" in match.columns and not {"e", "n", "lat", "lon"} & set(match.columns)
    needed = ("name",) if placeless else ("name", *axes)
    missing = [m for m in needed if m not in match.columns]
    if missing:
        found = ", ".join(table.headers) or f"{counted(table.width, 'column')} without a header"
        raise FormatError(
            f"no column for {' and '.join(missing)}; found {found[:300]}",
            where=where,
            hint="Expected name,e,n,h or name,lat,lon,h",
        )
    _check_heads(table, match, axes, where)


def _check_heads(table: RawTable, match: ColumnMatch, axes: tuple[str, str], where: str) -> None:
    often = Counter(table.headers)
    repeated = [h for h, count in often.items() if h and count > 1 and _meaning_of(h)[0]]
    if repeated:
        raise FormatError(
            f"the column {repeated[0]!r} stands twice", where=where, hint="Name every column once"
        )
    stated = [match.units[m].key if m in match.units else "" for m in axes]
    if stated[0] != stated[1]:
        raise FormatError(
            f"easting and northing are in different units: {stated[0] or 'none stated'} and "
            f"{stated[1] or 'none stated'}",
            where=where,
            hint="State one unit for both in the header",
        )


@dataclass(slots=True)
class _Block:
    """Columns of some rows."""

    lines: list[int]
    names: list[str]
    values: FloatArray
    words: dict[str, list[str]]


def _one_by_one(
    reader: _RowReader,
    table: RawTable,
    rows: list[list[str]],
    lines: Sequence[int],
    problems: list[RowProblem],
) -> _Block:
    """The readable ones of some rows; the others become problems."""
    kept: list[int] = []
    cells: list[tuple[float, ...]] = []
    words: list[tuple[str, ...]] = []
    for line, row in zip(lines, rows, strict=True):
        try:
            texts, values = reader.read(row)
        except _BadCell as bad:
            problems.append(
                RowProblem(line=line, column=bad.column, raw=table.delimiter.join(row)[:200], why=bad.why)
            )
            continue
        kept.append(line)
        words.append(texts)
        cells.append(values)
    turned = [list(column) for column in zip(*words, strict=True)] or [
        [] for _ in range(1 + len(reader.word_meanings))
    ]
    return _Block(
        kept,
        turned[0],
        np.array(cells, dtype=np.float64).reshape(-1, 5).T,
        dict(zip(reader.word_meanings, turned[1:], strict=True)),
    )


class _BadCell(Exception):
    def __init__(self, column: str, why: str) -> None:
        super().__init__(why)
        self.column, self.why = column, why


class _RowReader:
    """Reads the cells of rows by their meanings: many plain ones at once, else one after the other."""

    def __init__(
        self, table: RawTable, match: ColumnMatch, geographic: bool, unit: LengthUnit, heights_alone: bool
    ) -> None:
        self._columns, self._match, self._unit = match.columns, match, unit
        self._geographic, self._comma, self._table = geographic, table.decimal_comma, table
        self._most = len(table.headers)
        self._axes = ("lat", "lon") if geographic else ("e", "n")
        self._heights_alone = heights_alone
        self._needed = 1 + max(match.columns[m] for m in ("name", *self._axes) if m in match.columns)
        self._height = height_meaning(match.columns, geographic)
        self.word_meanings = tuple(m for m in WORD_MEANINGS if m in match.columns)

    def read_in(self, sigmas: LengthUnit, angle: AngleStyle) -> None:
        """The units of sigmas and of plain angles where the heads state none."""
        self._sigma_m = {m: self._match.units.get(m, sigmas).metres for m in ("sh", "sv")}
        self._style = {m: self._match.angles.get(m, angle) for m in ("lat", "lon")}

    # Many at once
    # ------------------------------------------------------------------------------------------------

    def read_block(self, rows: list[list[str]], lines: Sequence[int]) -> _Block:
        """Columns of rows whose numbers are all plain; ValueError, IndexError or _BadCell when one is not."""
        names = self._texts(rows, "name")
        if self._comma or not all(names) or (self._most and max(map(len, rows)) > self._most):
            raise ValueError
        values = np.full((5, len(rows)), np.nan)
        for axis, meaning in enumerate((*self._axes, self._height, "sh", "sv")):
            if meaning in self._columns:
                values[axis] = self._numbers(rows, meaning, needed=axis < 2)
        return _Block(list(lines), names, values, {m: self._texts(rows, m) for m in self.word_meanings})

    def _texts(self, rows: list[list[str]], meaning: str) -> list[str]:
        index = self._columns[meaning]
        texts = [row[index] for row in rows]
        return [_unguarded(t) for t in texts] if "\n'" in "\n".join(["", *texts]) else texts

    def _numbers(self, rows: list[list[str]], meaning: str, *, needed: bool) -> FloatArray:
        index = self._columns[meaning]
        texts = [row[index] for row in rows]
        empty = 0 if needed else texts.count("")
        values = np.array([float(t) if t else math.nan for t in texts] if empty else list(map(float, texts)))
        if np.count_nonzero(np.isfinite(values)) != len(texts) - empty or "_" in "".join(texts):
            raise ValueError
        if meaning in ("lat", "lon"):
            limit, scale = (90.0 if meaning == "lat" else 360.0), RAD_PER_DEGREE
            if self._style[meaning] == "gon":
                limit, scale = limit / 0.9, RAD_PER_GON
        elif meaning in ("sh", "sv"):
            if np.nanmin(values, initial=1.0) <= 0.0:
                raise ValueError
            scale = self._sigma_m[meaning]
            limit = MAX_SIGMA_M / scale
        else:
            scale = self._match.factor(meaning, self._unit)
            limit = MAX_COORDINATE_M / abs(scale)
        if np.nanmax(np.abs(values), initial=0.0) > limit:
            raise ValueError
        return values * scale

    # One by one
    # --------------------------------------------------------------------------------------------------

    def read(self, row: list[str]) -> tuple[tuple[str, ...], tuple[float, ...]]:
        """Texts (name first) and the five numbers of one row. Raises _BadCell."""
        if self._most and any(row[self._most :]):
            raise _BadCell("last", f"has {len(row)} cells, expected {self._most} as in the head")
        if len(row) < self._needed:
            raise _BadCell("last", f"has {len(row)} columns, expected at least {self._needed}")
        name = self._text(row, "name")
        if not name:
            raise _BadCell("name", "is empty, expected the name of a mark")
        read = self._angle if self._geographic else self._length
        height = self._length(row, self._height, needed=False)
        if self._heights_alone and math.isfinite(height) and not any(self._text(row, m) for m in self._axes):
            first = second = math.nan
        else:
            first, second = (read(row, meaning) for meaning in self._axes)
        texts = (name, *(self._text(row, m) for m in self.word_meanings))
        return texts, (first, second, height, self._sigma(row, "sh"), self._sigma(row, "sv"))

    def _text(self, row: list[str], meaning: str) -> str:
        index = self._columns.get(meaning)
        return _unguarded(row[index]) if index is not None and index < len(row) else ""

    def _length(self, row: list[str], meaning: str, *, needed: bool = True) -> float:
        text = self._text(row, meaning)
        if not text and not needed:
            return math.nan
        value = self._number(text, meaning) * self._match.factor(meaning, self._unit)
        if abs(value) > MAX_COORDINATE_M:
            raise _BadCell(meaning, f"{text} is beyond any place on the earth")
        return value

    def _number(self, text: str, meaning: str) -> float:
        try:
            return self._table.number(text)
        except ParseError as error:
            sign = "with a decimal comma" if self._comma else "with a decimal point"
            raise _BadCell(meaning, f"{text[:40]!r} found, expected a number {sign}") from error

    def _sigma(self, row: list[str], meaning: str) -> float:
        text = self._text(row, meaning)
        if not text:
            return math.nan
        value = self._number(text, meaning) * self._sigma_m[meaning]
        if not 0.0 < value <= MAX_SIGMA_M:
            raise _BadCell(meaning, f"{text} found, expected a sigma above 0, at most {MAX_SIGMA_M:g} m")
        return value

    def _angle(self, row: list[str], meaning: str) -> float:
        text = self._text(row, meaning)
        parse = parse_latitude if meaning == "lat" else parse_longitude
        try:
            if self._comma and is_number(text, True):
                text = repr(self._table.number(text))
            return parse(text, self._style[meaning])
        except ParseError as error:
            raise _BadCell(
                meaning, f"{text[:40]!r} found, expected a {'latitude' if meaning == 'lat' else 'longitude'}"
            ) from error


#: What a cell begins with when an apostrophe was put before it so that a spreadsheet does not run it.
GUARDED = tuple("'" + c for c in "=+-@\t\r")


def _unguarded(text: str) -> str:
    return text[1:] if text[:2] in GUARDED else text
