"""LandXML 1.2, the part about points: CgPoint elements in and out.

Source: schema LandXML-1.2 (landxml.org, 2008; from memory). A CgPoint holds northing, easting and, where
there is one, elevation, parted by blanks, in the linear unit of the Units element; its attributes are name,
code, desc, oID, pntRef.
"""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from datetime import datetime
from typing import Any

from fenwind.errors import FormatError
from fenwind.exchange.files import write_bytes
from fenwind.exchange.outgoing import Outgoing
from fenwind.exchange.raw_table import RawTable
from fenwind.exchange.xml_in import elements, parse_xml
from fenwind.quantities.lengths import UNITS

NAMESPACE = "http://www.landxml.org/schema/LandXML-1.2"
#: linearUnit of the schema to our keys.
LINEAR_UNITS = {
    "meter": "m",
    "millimeter": "mm",
    "kilometer": "km",
    "foot": "ft",
    "USSurveyFoot": "ftUS",
}


def read_landxml(path: str, part: str = "") -> RawTable:
    """All CgPoint elements with a position as a raw table; `part` names one CgPoints group. A point that only
    refers to another (pntRef) takes that one's position. Raises FormatError when the file is damaged, states
    a unit Fenwind does not know, or holds no points."""
    root = parse_xml(path, "the LandXML file")
    groups = list(elements(root, "CgPoints"))
    names = tuple(dict.fromkeys(g.get("name", "") for g in groups if g.get("name")))
    chosen = [g for g in groups if not part or g.get("name") == part]
    # A group in a group is met twice; elements are the same objects then.
    points = list(dict.fromkeys(p for group in chosen for p in elements(group, "CgPoint")))
    by_name = {p.get("name"): p for p in elements(root, "CgPoint") if (p.text or "").strip()}
    rows = [_row(point, by_name) for point in points]
    if not rows:
        raise FormatError(
            "there are no CgPoint elements in it",
            where=path,
            hint="Export the points, not only surfaces or alignments",
        )
    crs = next((s.get("epsgCode", "") for s in elements(root, "CoordinateSystem")), "")
    return RawTable(
        source=path,
        headers=("name", "e", "n", "h", "code", "description"),
        rows=rows,
        lines=range(1, len(rows) + 1),
        place="point",
        unit=_unit(root, path),
        crs=f"EPSG:{crs}" if crs.isdigit() else "",
        part=part,
        parts=names if len(names) > 1 else (),
        remarks=_twice(rows),
    )


def _twice(rows: list[list[str]]) -> tuple[str, ...]:
    """A sentence that names the points whose name stands twice, none where none does."""
    found = [name for name, count in Counter(row[0] for row in rows).items() if name and count > 1]
    return (f"Names that stand twice: {', '.join(found[:8])}.",) if found else ()


def _row(point: Any, by_name: dict[Any, Any]) -> list[str]:
    """Name, E, N, height, code and description of a point, or of the one it refers to."""
    text = (point.text or "").split()
    if not text:
        other = by_name.get(point.get("pntRef"))
        text = (other.text or "").split() if other is not None else []
    n, e, h = (*text, "", "", "")[:3]
    name = point.get("name", "") or point.get("oID", "")
    return [name, e, n, h, point.get("code", ""), point.get("desc", "")]


def _unit(root: object, path: str) -> str:
    for name in ("Metric", "Imperial"):
        for element in elements(root, name):
            stated = element.get("linearUnit", "")
            if stated not in LINEAR_UNITS:
                raise FormatError(
                    f"the linear unit {stated!r} is not known",
                    where=f"{path}, element {name}",
                    hint=f"Known are {', '.join(LINEAR_UNITS)}",
                )
            return LINEAR_UNITS[stated]
    return ""


def write_landxml(path: str, out: Outgoing, made: datetime) -> None:
    """Write positions as CgPoints in the unit of their frame. `made` is the time stated in the file. Raises
    FormatError for a unit the schema has no word for, and when the file cannot be written."""
    from xml.etree import ElementTree as Tree

    unit = UNITS[out.spec.unit]
    word = next((w for w, key in LINEAR_UNITS.items() if key == unit.key), "")
    root = Tree.Element(
        "LandXML",
        {
            "xmlns": NAMESPACE,
            "version": "1.2",
            "date": made.strftime("%Y-%m-%d"),
            "time": made.strftime("%H:%M:%S"),
            "readOnly": "false",
        },
    )
    units = Tree.SubElement(root, "Units")
    imperial = unit.key in ("ft", "ftUS")
    volume = (
        ("squareFoot", "cubicFeet", "fahrenheit", "inHG")
        if imperial
        else ("squareMeter", "cubicMeter", "celsius", "mmHG")
    )
    Tree.SubElement(
        units,
        "Imperial" if imperial else "Metric",
        {
            "linearUnit": word,
            "areaUnit": volume[0],
            "volumeUnit": volume[1],
            "temperatureUnit": volume[2],
            "pressureUnit": volume[3],
        },
    )
    code = out.spec.crs.upper().removeprefix("EPSG:")
    system = {"name": out.spec.name, "desc": out.system_words}
    Tree.SubElement(root, "CoordinateSystem", system | ({"epsgCode": code} if code.isdigit() else {}))
    Tree.SubElement(root, "Application", {"name": "Fenwind"})
    group = Tree.SubElement(root, "CgPoints", {"name": out.title})
    for i, name in enumerate(out.names):
        if not math.isfinite(out.e_m[i] + out.n_m[i]):
            continue  # told with what is left out
        attributes = {"name": name, "code": out.words["code"][i], "desc": out.words["description"][i]}
        point = Tree.SubElement(group, "CgPoint", {k: v for k, v in attributes.items() if v})
        values = [out.n_m[i] / unit.metres, out.e_m[i] / unit.metres, out.height_m[i] / unit.metres]
        point.text = " ".join(f"{v:.{out.decimals}f}" for v in _present(values))
    Tree.indent(root)
    write_bytes(path, Tree.tostring(root, encoding="utf-8", xml_declaration=True))


def _present(values: Sequence[float]) -> list[float]:
    return [v for v in values if not math.isnan(v)]
