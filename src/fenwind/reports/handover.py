"""What a job hands over: its positions in any of the formats, its target list, its report."""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from datetime import datetime

import numpy as np

from fenwind.errors import FormatError
from fenwind.exchange.columns import BUILT_IN, DEFAULT
from fenwind.exchange.csv_out import csv_text
from fenwind.exchange.files import write_bytes, write_text
from fenwind.exchange.formats import FILE_FORMATS, FileFormat, Handing
from fenwind.exchange.outgoing import Outgoing
from fenwind.geodesy.frames import axes_of
from fenwind.job.state import JobState
from fenwind.procedures.coverage import Coverage, coverage
from fenwind.quantities.lengths import UNITS
from fenwind.records.records import Layout
from fenwind.reports.html import to_html
from fenwind.reports.model import Report
from fenwind.reports.pdf import to_pdf


@dataclass(frozen=True, slots=True, kw_only=True)
class Format:
    """A format things are handed over in: its key, what it is called, the usual ending; the file format
    that writes positions, or what makes the bytes of a report."""

    key: str
    words: str
    ending: str
    positions: FileFormat | None = None
    report: Callable[[Report], bytes] | None = None


#: Every format positions can be written in, the target list, and the forms of a report.
FORMATS: dict[str, Format] = {
    f.key: f
    for f in (
        *(
            Format(key=f.key, words=f.words, ending=f.endings[0], positions=f)
            for f in sorted(FILE_FORMATS, key=lambda f: f.key != "csv")
            if f.write is not None
        ),
        Format(key="targets", words="a target list for photo control and scans (CSV)", ending=".csv"),
        Format(key="html", words="a report (HTML)", ending=".html", report=lambda r: to_html(r).encode()),
        Format(key="pdf", words="a report (PDF)", ending=".pdf", report=to_pdf),
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
    wanted = FORMATS[key].positions
    if wanted is None or wanted.write is None:
        write_text(path, targets_text(out, checks))
    else:
        wanted.write(path, out, Handing(layout=layout, made=made))


def write_report(path: str, key: str, report: Report) -> None:
    """Write a report as HTML or PDF. Raises FormatError when the file cannot be written."""
    make = FORMATS[key].report
    assert make is not None
    write_bytes(path, make(report))


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
    """Target list: name, E, N, height, sigmas in the frame's unit and axis order, role, what marks it, the
    system."""
    unit = UNITS[out.spec.unit]
    suffix = f" ({unit.key})"
    axes = [
        (f"{a.component if a.sign > 0 else a.word}{suffix}", a.of(out.e_m, out.n_m))
        for a in axes_of(out.spec)
    ]
    columns = [*((head, v / unit.metres) for head, v in axes), (f"h{suffix}", out.height_m / unit.metres)]
    columns += [(f"sh{suffix}", out.sigma_h_m / unit.metres), (f"sv{suffix}", out.sigma_v_m / unit.metres)]
    rows = []
    for i, name in enumerate(out.names):
        numbers = ["" if np.isnan(v[i]) else f"{v[i]:.{out.decimals}f}" for _, v in columns]
        marker = out.words["monument"][i] or out.words["description"][i]
        rows.append([name, *numbers, "check" if name in checks else "control", marker, out.system_words])
    return csv_text(["name", *(head for head, _ in columns), "role", "marker", "system"], rows)
