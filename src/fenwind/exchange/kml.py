"""KML (OGC 12-007r2): placemarks with a point in and out. KML is always in WGS 84, longitude before
latitude."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import Any

from fenwind.errors import FormatError
from fenwind.exchange.files import write_bytes
from fenwind.exchange.outgoing import Outgoing
from fenwind.exchange.raw_table import RawTable
from fenwind.exchange.xml_in import child_text, elements, local, parse_xml
from fenwind.quantities.numbers import counted

NAMESPACE = "http://www.opengis.net/kml/2.2"


def read_kml(path: str, part: str = "") -> RawTable:
    """Placemarks with a point as a raw table of latitude and longitude. Heights are taken only where
    altitudeMode is absolute, since the others are counted from a terrain model. Raises FormatError when the
    file is damaged or holds no points."""
    root = parse_xml(path, "the KML file")
    rows: list[list[str]] = []
    without_height = 0
    for mark in elements(root, "Placemark"):
        points = list(_points(mark))
        if not points:
            continue
        name, description = child_text(mark, "name"), child_text(mark, "description")
        code, monument, source = (_data(mark, key) for key in ("code", "monument", "source"))
        for point in points:
            text = child_text(point, "coordinates")
            lon, lat, h = (*(c.strip() for c in text.split(",")), "", "", "")[:3]
            if len(text.split()) > 1 and len(text.split(",")) > 3:
                lat = text  # a point has one position: which is meant, the reader of the list shall see
            absolute = child_text(point, "altitudeMode") == "absolute"
            without_height += bool(h and not absolute)
            rows.append([name, lat, lon, h if absolute else "", code, monument, source, description])
    if not rows:
        raise FormatError(
            "there are no placemarks with a point in it", where=path, hint="Export points, not lines or areas"
        )
    remarks = (
        (f"{counted(without_height, 'height')} above terrain, not the ellipsoid: left out.",)
        if without_height
        else ()
    )
    return RawTable(
        source=path,
        headers=("name", "lat", "lon", "h", "code", "monument", "source", "description"),
        rows=rows,
        lines=range(1, len(rows) + 1),
        place="placemark",
        crs="EPSG:4979",
        remarks=remarks,
    )


def _points(mark: Any) -> Iterator[Any]:
    """Points of a placemark, in groups of geometries too; those of a placemark in it are that one's own."""
    for child in mark:
        name = local(child.tag)
        if name == "Point":
            yield child
        elif name != "Placemark":
            yield from _points(child)


def _data(mark: Any, name: str) -> str:
    """Value of an ExtendedData entry."""
    for data in elements(mark, "Data"):
        if data.get("name") == name:
            return child_text(data, "value")
    return next(((e.text or "").strip() for e in elements(mark, "SimpleData") if e.get("name") == name), "")


def write_kml(path: str, out: Outgoing) -> None:
    """Write positions as placemarks in WGS 84; ellipsoidal heights as absolute altitudes (KML counts them
    from the sea, which is said in the document). Raises FormatError when the frame has no datum, or the file
    cannot be written."""
    from xml.etree import ElementTree as Tree

    lat, lon, h = out.wgs84()
    root = Tree.Element("kml", {"xmlns": NAMESPACE})
    document = Tree.SubElement(root, "Document")
    Tree.SubElement(document, "name").text = out.title
    Tree.SubElement(
        document, "description"
    ).text = f"{out.system_words} Altitudes are heights above the ellipsoid. {out.wgs84_words}"
    for i, name in enumerate(out.names):
        if not math.isfinite(lat[i] + lon[i]):
            continue
        mark = Tree.SubElement(document, "Placemark")
        Tree.SubElement(mark, "name").text = name
        if out.words["description"][i]:
            Tree.SubElement(mark, "description").text = out.words["description"][i]
        extended = Tree.SubElement(mark, "ExtendedData")
        for key in ("code", "class", "monument", "source"):
            if out.words[key][i]:
                Tree.SubElement(Tree.SubElement(extended, "Data", {"name": key}), "value").text = out.words[
                    key
                ][i]
        point = Tree.SubElement(mark, "Point")
        if math.isfinite(h[i]):
            Tree.SubElement(point, "altitudeMode").text = "absolute"
        text = f"{math.degrees(lon[i]):.10f},{math.degrees(lat[i]):.10f}"
        Tree.SubElement(point, "coordinates").text = text + (f",{h[i]:.4f}" if math.isfinite(h[i]) else "")
    Tree.indent(root)
    write_bytes(path, Tree.tostring(root, encoding="utf-8", xml_declaration=True))
