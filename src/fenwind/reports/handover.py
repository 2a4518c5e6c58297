"""What a job hands over: its positions in any of the formats, its target list, its report."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from datetime import datetime

import numpy as np

from fenwind.errors import FormatError
from fenwind.exchange.columns import BUILT_IN, DEFAULT, list_columns, list_text
from fenwind.exchange.csv_out import csv_text
from fenwind.exchange.files import write_bytes, write_text
from fenwind.exchange.outgoing import Outgoing
from fenwind.job.state import JobState
from fenwind.procedures.coverage import Coverage, coverage
from fenwind.quantities.lengths import UNITS
from fenwind.records.records import Layout
from fenwind.reports.html import to_html
from fenwind.reports.model import Report
from fenwind.reports.pdf import to_pdf


@dataclass(frozen=True, slots=True, kw_only=True)
class Format:
    """A format by its key: in words, the usual ending, and whether it is a report."""

    key: str
    words: str
    ending: str
    report: bool = False


FORMATS: dict[str, Format] = {
    f.key: f
    for f in (
        Format(key="csv", words="a list (CSV)", ending=".csv"),
        Format(key="xlsx", words="a spreadsheet (XLSX)", ending=".xlsx"),
        Format(key="landxml", words="points (LandXML 1.2)", ending=".xml"),
        Format(key="dxf", words="a drawing (DXF)", ending=".dxf"),
        Format(key="geojson", words="features (GeoJSON)", ending=".geojson"),
        Format(key="kml", words="placemarks (KML)", ending=".kml"),
        Format(key="geopackage", words="a layer (GeoPackage)", ending=".gpkg"),
        Format(key="targets", words="a target list for photo control and scans (CSV)", ending=".csv"),
        Format(key="html", words="a report (HTML)", ending=".html", report=True),
        Format(key="pdf", words="a report (PDF)", ending=".pdf", report=True),
    )
}


def format_named(key: str) -> Format:
    """The format of a key. Raises FormatError."""
    key = {"gpkg": "geopackage", "xml": "landxml"}.get(key, key)
    if key not in FORMATS:
        raise FormatError(f"there is no format {key!r}", hint=f"Choose one of {', '.join(FORMATS)}")
    return FORMATS[key]


def layout_named(state: JobState, name: str) -> Layout:
    """A layout of the job or a built-in one by its name or id, the full list for an empty name. Raises
    FormatError."""
    if not name:
        return DEFAULT
    known = [layout for layout in (*state.layouts.values(), *BUILT_IN) if layout.active]
    for layout in known:
        if name in (layout.name, layout.id):
            return layout
    raise FormatError(
        f"there is no layout {name!r}", hint=f"Choose one of {', '.join(x.name for x in known)}"
    )


def write_positions(
    path: str, key: str, out: Outgoing, layout: Layout, checks: frozenset[str], made: datetime
) -> None:
    """Write positions in the format of a key that is no report; `checks` names the targets kept out. Raises
    FormatError."""
    if not out.names:
        raise FormatError(
            "there are no positions to hand over",
            where=out.title,
            hint="Take in control, or make a fit first",
        )
    if key == "csv":
        write_text(path, list_text(out, layout))
    elif key == "targets":
        write_text(path, targets_text(out, checks))
    elif key == "xlsx":
        from fenwind.exchange.xlsx import write_xlsx

        columns = list_columns(out, layout)
        write_xlsx(
            path,
            [c.head for c in columns],
            zip(*(c.cells for c in columns), strict=True),
            out.title,
            out.system_words,
        )
    elif key == "landxml":
        from fenwind.exchange.landxml import write_landxml

        write_landxml(path, out, made)
    elif key == "dxf":
        from fenwind.exchange.dxf import write_dxf

        write_dxf(path, out)
    elif key == "kml":
        from fenwind.exchange.kml import write_kml

        write_kml(path, out)
    else:
        from fenwind.exchange.features import write_geojson, write_geopackage

        {"geojson": write_geojson, "geopackage": write_geopackage}[key](path, out)


def write_report(path: str, key: str, report: Report) -> None:
    """Write a report as HTML or PDF. Raises FormatError when the file cannot be written."""
    write_bytes(path, to_pdf(report) if key == "pdf" else to_html(report).encode())


# Targets
# ------------------------------------------------------------------------------------------------------


def checks_of(state: JobState) -> frozenset[str]:
    """Names of marks held neither in plan nor in height: as targets they are kept out as checks."""
    return frozenset(m.name for m in state.marks.values() if not (m.hold_horizontal or m.hold_height))


def target_names(out: Outgoing, mark_class: str = "") -> frozenset[str]:
    """Names of the targets: marks of a class or code, else those whose class or code speaks of targets, else
    all."""
    words = list(zip(out.names, out.words["class"], out.words["code"], strict=True))
    if mark_class:
        return frozenset(n for n, *own in words if mark_class in own)
    spoken = frozenset(
        n for n, *own in words if any("target" in w.lower() or "gcp" in w.lower() for w in own)
    )
    return spoken or frozenset(out.names)


def judge_targets(out: Outgoing, names: Iterable[str], checks: frozenset[str]) -> Coverage:
    """Coverage of the named targets over the ground of all positions handed over. Raises FormatError without
    any."""
    chosen = set(names)
    fine = np.isfinite(out.e_m) & np.isfinite(out.n_m)
    if not fine.any():
        raise FormatError(
            "there are no positions to judge", where=out.title, hint="Take in control, or make a fit first"
        )
    table = np.stack([out.e_m, out.n_m, out.height_m])
    rows = [i for i, name in enumerate(out.names) if name in chosen and fine[i]]
    return coverage(
        table[:, rows], np.array([out.names[i] in checks for i in rows], dtype=bool), table[:, fine]
    )


def targets_text(out: Outgoing, checks: frozenset[str]) -> str:
    """Target list: name, E, N, height in the frame's unit and axis order, sigmas, role, what marks it, the
    system."""
    unit = UNITS[out.spec.unit]
    suffix = "" if unit.key == "m" else f" ({unit.key})"
    axes = [(f"e{suffix}", out.e_m), (f"n{suffix}", out.n_m)]
    if out.spec.axis_order == "NE":
        axes.reverse()
    columns = [*((head, v / unit.metres) for head, v in axes), (f"h{suffix}", out.height_m / unit.metres)]
    columns += [("sh", out.sigma_h_m), ("sv", out.sigma_v_m)]
    rows = []
    for i, name in enumerate(out.names):
        numbers = ["" if np.isnan(v[i]) else f"{v[i]:.{out.decimals}f}" for _, v in columns]
        marker = out.words["monument"][i] or out.words["description"][i]
        rows.append([name, *numbers, "check" if name in checks else "control", marker, out.system_words])
    return csv_text(["name", *(head for head, _ in columns), "role", "marker", "system"], rows)
