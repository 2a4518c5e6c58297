"""One page about a frame: its definition in words, as WKT2 and as a PROJ string, and marks with
coordinates both ways and factors, so that anybody can set the system up elsewhere and see that it is the
same."""

from __future__ import annotations

import warnings
from collections.abc import Sequence

import numpy as np
import pyproj
from numpy.typing import NDArray
from pyproj.exceptions import ProjError

from fenwind.doubts.of_job import Findings
from fenwind.errors import FenwindError
from fenwind.geodesy.frames import Frame, FrameSpec, axes_of
from fenwind.job.derive import Derived
from fenwind.job.distortion_map import distortion_map, words
from fenwind.job.ground_view import Marks, distortion, marks_of, opened
from fenwind.job.state import JobState
from fenwind.quantities.angles import AngleStyle, format_angle, usual_decimals
from fenwind.quantities.geographic import format_latitude, format_longitude
from fenwind.quantities.lengths import UNITS
from fenwind.quantities.numbers import format_fixed
from fenwind.reports import evidence
from fenwind.reports.model import Figure, Paragraph, Report, Section, Table
from fenwind.reports.plan_figure import PlanContent, plan_figure

FloatArray = NDArray[np.float64]
#: Marks that stand on the page.
MOST = 4
#: A PROJ string says the same as the system when both put the marks at places this near each other, metres.
SAME_M = 1e-4
#: Distortion that the map looks for the passing of.
LIMIT = 20e-6
_STATEMENT = (
    "Who sets this system up elsewhere gets the coordinates below from the latitudes and longitudes beside "
    "them, to the last digit or one next to it. Where that fails, another datum, unit or order of axes was "
    "chosen. Longitudes are counted from Greenwich."
)


def frame_sheet(
    state: JobState, derived: Derived, findings: Findings, key: str, computed: str
) -> Report | None:
    """The page of a frame with a datum. None for a local plane and where no mark has a position."""
    adopted, record = derived.adopted.get(key), state.frames.get(key)
    if adopted is None or record is None or not record.spec.crs:
        return None
    try:
        frame = opened(record.spec, derived.folder)
    except FenwindError:
        return None
    marks = marks_of(frame, adopted)
    chosen = far_apart(marks.plane)
    if not chosen:
        return None
    assert frame.crs is not None
    return Report(
        title=record.spec.name, subtitle=f"a system of {state.info.name}", statement=_STATEMENT,
        facts=evidence.facts(state, computed),
        sections=(
            evidence.frames_section(state, [key]),
            Section(title="Marks to check by", blocks=(_places(record.spec, marks, chosen),)),
            Section(
                title="Factors there",
                blocks=(
                    _factors(frame, marks, chosen, state.info.angle_style), *_map(frame, marks, record.spec)
                ),
            ),
            *(
                Section(title=f"As {form}", blocks=(Paragraph(text=text, tone="code"),))
                for form, text in (("a PROJ string", proj_string(frame, marks)), ("WKT2", _wkt(frame.crs)))
            ),
        ),
    )  # fmt: skip


def _map(frame: Frame, marks: Marks, spec: FrameSpec) -> tuple[Figure, ...]:
    """Lines of equal distortion between the marks; nothing where fewer than three have a height."""
    found = distortion_map(frame, frame, marks, lambda at: at, LIMIT)
    if found is None:
        return ()
    ways = [(words(value), way) for value, lines in found.lines for way in lines]
    figure = plan_figure(
        PlanContent(names=marks.names, at=marks.plane, ways=ways, unit=UNITS[spec.unit]),
        f"Distortion of {spec.name}",
    )
    caption = "Plane less ground, parts per million."
    return (Figure(svg=figure, caption=caption, size=0.3),)


def far_apart(plane: FloatArray, most: int = MOST) -> list[int]:
    """Rows of at most so many places (2, k) far from each other: the first, then ever the one farthest from
    all that are taken."""
    taken: list[int] = [0] if plane.shape[1] else []
    near = np.full(plane.shape[1], np.inf)
    while taken and len(taken) < min(most, plane.shape[1]):
        near = np.minimum(near, np.hypot(*(plane - plane[:, taken[-1:]])))
        near[taken] = -1.0
        taken.append(int(np.argmax(near)))
    return sorted(taken)


def proj_string(frame: Frame, marks: Marks) -> str:
    """The system as a PROJ string; a sentence instead where one cannot hold it."""
    crs = frame.crs
    assert crs is not None
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")  # that a string may lose something; the marks are what shows it
        try:
            text = str(crs.to_proj4())
            other = Frame(FrameSpec(name="string", crs=text)).forward(marks.lat, marks.lon)
        except (FenwindError, ProjError):
            other, text = (np.full(marks.lat.size, np.nan),) * 2, ""
    same = bool(np.all(np.hypot(other[0] - marks.plane[0], other[1] - marks.plane[1]) < SAME_M))
    return text if same else "A PROJ string cannot hold this system; use the WKT2."


def _wkt(crs: pyproj.CRS) -> str:
    """WKT2 without what a system is said to be for, which defines nothing and is long."""
    parts = crs.to_json_dict()
    for key in ("usages", "scope", "area", "bbox"):
        parts.pop(key, None)
    return str(pyproj.CRS.from_json_dict(parts).to_wkt("WKT2_2019"))


def _places(spec: FrameSpec, marks: Marks, chosen: Sequence[int]) -> Table:
    unit, axes = UNITS[spec.unit], axes_of(spec)
    headers = (
        ("mark", ""), ("latitude", ""), ("longitude", ""), ("h", "m"), *((a.title, unit.key) for a in axes),
        ("H", unit.key),
    )  # fmt: skip
    rows = tuple(
        (marks.names[i], format_latitude(float(marks.lat[i])), format_longitude(float(marks.lon[i])),
         _number(marks.h_m[i], 4),
         *(format_fixed(float(a.of(*marks.plane[:, i])) / unit.metres, 4) for a in axes),
         _number(marks.height_m[i] / unit.metres, 4))
        for i in chosen
    )  # fmt: skip
    return Table(headers=headers, rows=rows)


def _factors(frame: Frame, marks: Marks, chosen: Sequence[int], style: AngleStyle) -> Table:
    found = distortion(frame, marks)
    headers = (
        ("mark", ""), ("point scale", ""), ("convergence", ""), ("elevation factor", ""),
        ("combined factor", ""), ("distortion", "ppm"),
    )  # fmt: skip
    rows = tuple(
        (marks.names[i], _number(found.scale[i], 9),
         format_angle(float(found.convergence[i]), style, usual_decimals(style)),
         _number(found.elevation[i], 9), _number(1.0 + found.off[i], 9),
         "" if np.isnan(found.off[i]) else format_fixed(float(found.off[i]) * 1e6, 2, sign=True))
        for i in chosen
    )  # fmt: skip
    return Table(headers=headers, rows=rows)


def _number(value: float, decimals: int) -> str:
    return "" if np.isnan(value) else format_fixed(float(value), decimals)
