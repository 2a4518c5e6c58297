"""Any file with marks into a raw table: the format is found by what the file holds, then by its name."""

from __future__ import annotations

import os

from fenwind.errors import FormatError
from fenwind.exchange import delimited
from fenwind.exchange.files import check_size, read_head
from fenwind.exchange.raw_table import RawTable

#: Formats with their usual endings, as a file dialogue offers them.
ENDINGS = "*.csv *.txt *.xlsx *.xml *.landxml *.dxf *.geojson *.json *.gpkg *.kml"


def read_table(path: str | os.PathLike[str], part: str = "") -> RawTable:
    """Raw table of a file: delimited text, XLSX, LandXML, DXF, GeoJSON, GeoPackage or KML. `part` names a
    sheet, a layer or a group.

    Raises FormatError when the file is missing, damaged, of no format known here, or holds no marks.
    """
    name = str(path)
    check_size(name)
    kind = format_of(name)
    if kind == "xlsx":
        from fenwind.exchange.xlsx import read_xlsx

        return read_xlsx(name, part)
    if kind == "dxf":
        from fenwind.exchange.dxf import read_dxf

        return read_dxf(name, part)
    if kind in ("geopackage", "geojson"):
        from fenwind.exchange import features

        return (features.read_geopackage if kind == "geopackage" else features.read_geojson)(name, part)
    if kind in ("kml", "landxml"):
        if kind == "kml":
            from fenwind.exchange.kml import read_kml

            return read_kml(name, part)
        from fenwind.exchange.landxml import read_landxml

        return read_landxml(name, part)
    if kind == "xml":
        raise FormatError(
            "this XML is neither LandXML nor KML", where=name, hint="Export the points as LandXML, KML or CSV"
        )
    return delimited.read_file(name)


def format_of(path: str) -> str:
    """Key of a file's format by its first bytes; the ending decides where these leave it open. Raises
    FormatError when it cannot be read."""
    head = read_head(path, 4096)
    ending = os.path.splitext(path)[1].lower()
    by_ending = {
        ".xlsx": "xlsx",
        ".gpkg": "geopackage",
        ".dxf": "dxf",
        ".kml": "kml",
        ".geojson": "geojson",
        ".landxml": "landxml",
    }
    if head.startswith(b"PK\x03\x04"):
        return "xlsx"
    if head.startswith(b"SQLite format 3\x00"):
        return "geopackage"
    if ending in by_ending:
        return by_ending[ending]
    text = head.decode("latin-1").lstrip("\xef\xbb\xbf \r\n\t")
    if text.startswith("<"):
        return "landxml" if "<LandXML" in text else "kml" if "<kml" in text else "xml"
    if text.startswith("{"):
        return "geojson"
    if text.split()[:2] == ["0", "SECTION"]:
        return "dxf"
    return "text"
