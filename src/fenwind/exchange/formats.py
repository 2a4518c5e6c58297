"""File formats of lists of marks, a line each: how a file is recognised, who reads and who writes it.

Readers and writers load their libraries when they are used. The window, the command line and a file
dropped on it all go through this table.
"""

from __future__ import annotations

import os
from collections.abc import Callable
from dataclasses import dataclass
from datetime import datetime
from typing import TYPE_CHECKING

from fenwind.errors import FormatError
from fenwind.exchange.files import check_size, read_head

if TYPE_CHECKING:
    from fenwind.exchange.outgoing import Outgoing
    from fenwind.exchange.raw_table import RawTable
    from fenwind.records.records import Layout


@dataclass(frozen=True, slots=True, kw_only=True)
class Handing:
    """How a list is handed over: its layout, for formats that have one, and the time stated in the file."""

    layout: Layout
    made: datetime


@dataclass(frozen=True, slots=True, kw_only=True)
class FileFormat:
    """One format. key, and what it is called when written; endings, the usual one first. recognise: by the
    first bytes as text, None to go by the ending alone. read: (path, part) -> raw table; write: (path,
    positions, how). geographic: it holds latitude and longitude, so that a frame needs a datum. layout:
    its columns can be chosen."""

    key: str
    words: str
    endings: tuple[str, ...]
    recognise: Callable[[str], bool] | None = None
    read: Callable[[str, str], RawTable] | None = None
    write: Callable[[str, Outgoing, Handing], None] | None = None
    geographic: bool = False
    layout: bool = False


def _read_text(path: str, part: str) -> RawTable:
    from fenwind.exchange.delimited import read_file

    return read_file(path)


def _read_xlsx(path: str, part: str) -> RawTable:
    from fenwind.exchange.xlsx import read_xlsx

    return read_xlsx(path, part)


def _read_landxml(path: str, part: str) -> RawTable:
    from fenwind.exchange.landxml import read_landxml

    return read_landxml(path, part)


def _read_dxf(path: str, part: str) -> RawTable:
    from fenwind.exchange.dxf import read_dxf

    return read_dxf(path, part)


def _read_geojson(path: str, part: str) -> RawTable:
    from fenwind.exchange.features import read_geojson

    return read_geojson(path, part)


def _read_kml(path: str, part: str) -> RawTable:
    from fenwind.exchange.kml import read_kml

    return read_kml(path, part)


def _read_geopackage(path: str, part: str) -> RawTable:
    from fenwind.exchange.features import read_geopackage

    return read_geopackage(path, part)


def _read_other_xml(path: str, part: str) -> RawTable:
    raise FormatError(
        "this XML is neither LandXML nor KML", where=path, hint="Export the points as LandXML, KML or CSV"
    )


def _write_text(path: str, out: Outgoing, how: Handing) -> None:
    from fenwind.exchange.columns import list_text
    from fenwind.exchange.files import write_text

    write_text(path, list_text(out, how.layout))


def _write_xlsx(path: str, out: Outgoing, how: Handing) -> None:
    from fenwind.exchange.columns import list_columns
    from fenwind.exchange.xlsx import write_xlsx

    columns = list_columns(out, how.layout)
    rows = zip(*(c.cells for c in columns), strict=True)
    write_xlsx(path, [c.head for c in columns], rows, out.title, out.system_words)


def _write_landxml(path: str, out: Outgoing, how: Handing) -> None:
    from fenwind.exchange.landxml import write_landxml

    write_landxml(path, out, how.made)


def _write_dxf(path: str, out: Outgoing, how: Handing) -> None:
    from fenwind.exchange.dxf import write_dxf

    write_dxf(path, out)


def _write_geojson(path: str, out: Outgoing, how: Handing) -> None:
    from fenwind.exchange.features import write_geojson

    write_geojson(path, out)


def _write_kml(path: str, out: Outgoing, how: Handing) -> None:
    from fenwind.exchange.kml import write_kml

    write_kml(path, out)


def _write_geopackage(path: str, out: Outgoing, how: Handing) -> None:
    from fenwind.exchange.features import write_geopackage

    write_geopackage(path, out)


def _is_xml(text: str, mark: str) -> bool:
    return text.startswith("<") and mark in text


#: In the order they are tried; delimited text is what nothing else is.
FILE_FORMATS: tuple[FileFormat, ...] = (
    FileFormat(
        key="xlsx",
        words="a spreadsheet (XLSX)",
        endings=(".xlsx",),
        recognise=lambda text: text.startswith("PK\x03\x04"),
        read=_read_xlsx,
        write=_write_xlsx,
        layout=True,
    ),
    FileFormat(
        key="geopackage",
        words="a layer (GeoPackage)",
        endings=(".gpkg",),
        recognise=lambda text: text.startswith("SQLite format 3\x00"),
        read=_read_geopackage,
        write=_write_geopackage,
    ),
    FileFormat(
        key="dxf",
        words="a drawing (DXF)",
        endings=(".dxf",),
        recognise=lambda text: text.split()[:2] == ["0", "SECTION"],
        read=_read_dxf,
        write=_write_dxf,
    ),
    FileFormat(
        key="kml",
        words="placemarks (KML)",
        endings=(".kml",),
        recognise=lambda text: _is_xml(text, "<kml"),
        read=_read_kml,
        write=_write_kml,
        geographic=True,
    ),
    FileFormat(
        key="landxml",
        words="points (LandXML 1.2)",
        endings=(".xml", ".landxml"),
        recognise=lambda text: _is_xml(text, "<LandXML"),
        read=_read_landxml,
        write=_write_landxml,
    ),
    FileFormat(
        key="geojson",
        words="features (GeoJSON)",
        endings=(".geojson", ".json"),
        recognise=lambda text: text.startswith("{"),
        read=_read_geojson,
        write=_write_geojson,
        geographic=True,
    ),
    FileFormat(
        key="xml", words="", endings=(), recognise=lambda text: text.startswith("<"), read=_read_other_xml
    ),
    FileFormat(
        key="csv",
        words="a list (CSV)",
        endings=(".csv", ".txt"),
        recognise=lambda text: True,
        read=_read_text,
        write=_write_text,
        layout=True,
    ),
)
#: Endings of formats that are known by them alone, whatever else the first bytes might be taken for.
_BY_ENDING = (".xlsx", ".gpkg", ".dxf", ".kml", ".geojson", ".landxml")
#: Formats with their usual endings, as a file dialogue offers them.
ENDINGS = " ".join(f"*{e}" for f in FILE_FORMATS if f.read is not None for e in f.endings)


def format_of(path: str) -> FileFormat:
    """Format of a file by its first bytes; the ending decides where these leave it open. Raises
    FormatError when it cannot be read."""
    text = read_head(path, 4096).decode("latin-1")
    binary = next(f for f in FILE_FORMATS if f.recognise is not None and f.recognise(text))
    if binary.key in ("xlsx", "geopackage"):
        return binary
    ending = os.path.splitext(path)[1].lower()
    if ending in _BY_ENDING:
        return next(f for f in FILE_FORMATS if ending in f.endings)
    text = text.lstrip("\xef\xbb\xbf \r\n\t")
    return next(f for f in FILE_FORMATS if f.recognise is not None and f.recognise(text))


def read_table(path: str | os.PathLike[str], part: str = "") -> RawTable:
    """Raw table of a file of any format in the table. `part` names a sheet, a layer or a group.

    Raises FormatError when the file is missing, damaged, of no format known here, or holds no marks.
    """
    name = str(path)
    check_size(name)
    found = format_of(name)
    assert found.read is not None
    return found.read(name, part)
