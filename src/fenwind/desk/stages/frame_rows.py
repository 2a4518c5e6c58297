"""Rows of the frame's two tables: factors at places, and ways to other systems."""

from __future__ import annotations

import math
from contextlib import suppress
from dataclasses import dataclass

from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column
from fenwind.errors import FrameError
from fenwind.geodesy.axes import parts_of
from fenwind.geodesy.frames import (
    FrameSpec,
    find_crs,
    open_frame,
)
from fenwind.geodesy.operations import Operation, operations
from fenwind.procedures.frame_meaning import FrameMeaning
from fenwind.progress import Progress
from fenwind.quantities.angles import format_dms
from fenwind.quantities.numbers import format_fixed


@dataclass(frozen=True, slots=True)
class Place:
    """One row of the meaning: a place of the job."""

    name: str
    of: FrameMeaning
    row: int

    def __getattr__(self, key: str) -> float:
        return float(getattr(self.of, key)[self.row])


@dataclass(frozen=True, slots=True)
class Way:
    """One way from another system into the frame."""

    source: str
    operation: Operation


def find_ways(
    crs: str, others: tuple[str, ...], area: tuple[float, float, float, float] | None, progress: Progress
) -> list[Way]:
    """Ways into the datum of a system from those of others; none where they share it, and none where PROJ
    knows none."""
    base = open_frame(FrameSpec(name="", crs=crs)).geodetic_crs
    rows: list[Way] = []
    for text in others:
        progress.check()
        parts = parts_of(find_crs(text))
        if parts is None:
            continue
        source = parts.geodetic
        if not source.to_2d().equals(base.to_2d(), ignore_axis_order=True):
            with suppress(FrameError):  # the doubts say that there is no way
                rows += [Way(source.name, way) for way in operations(source.to_3d(), base.to_3d(), area)]
    return rows


def place_columns(bridge: JobBridge) -> list[Column]:
    unit, style = bridge.unit, bridge.angle_style

    def length(key: str, title: str, decimals: int, width: int) -> Column:
        return Column(
            key=key,
            title=title,
            unit=unit.key,
            text=lambda r: format_fixed(getattr(r, key) / unit.metres, decimals),
            value=lambda r: getattr(r, key) / unit.metres,
            right=True,
            width=width,
        )

    def ppm(key: str, title: str, tip: str) -> Column:
        return Column(
            key=key,
            title=title,
            unit="ppm",
            text=lambda r: format_fixed((getattr(r, key) - 1.0) * 1e6, 2, sign=True),
            value=lambda r: getattr(r, key),
            right=True,
            width=76,
            tip=tip,
        )

    def angle(value: float) -> str:
        return format_fixed(value * 200 / math.pi, 4, sign=True) if style == "gon" else format_dms(value, 1)

    return [
        Column(
            key="name", title="at the", text=lambda r: r.name, tone=lambda r: "bold", whole=True, width=88
        ),
        ppm("point_scale", "scale", "Point scale factor less 1"),
        ppm("elevation", "elevation", "Elevation factor R / (R + h) less 1"),
        ppm("combined", "combined", "Combined factor less 1"),
        Column(
            key="per",
            title="on 100 m",
            unit="mm",
            text=lambda r: format_fixed((r.combined - 1.0) * 1e5, 1, sign=True),
            right=True,
            width=66,
            tip="How much longer 100 m on the ground are on the grid",
        ),
        Column(
            key="convergence",
            title="convergence",
            unit="gon" if style == "gon" else "dms",
            text=lambda r: angle(r.convergence_rad),
            right=True,
            width=88,
            tip="Positive where grid north lies east of true north",
        ),
        length("h_ell_m", "h", 1, 62),
        length("geoid_m", "geoid", 2, 60),
        length("height_m", "height", 1, 66),
    ]


def way_columns() -> list[Column]:
    def used(row: Way) -> str:
        return "used" if row.operation.chosen else "lacks a grid" if not row.operation.present else ""

    def grids(row: Way) -> str:
        return (
            ", ".join(f"{name}{'' if here else ' (missing)'}" for name, here in row.operation.grids) or "none"
        )

    return [
        Column(
            key="used",
            title="",
            text=used,
            tone=lambda r: "reed" if r.operation.chosen else "sun" if not r.operation.present else "",
            width=84,
        ),
        Column(key="source", title="from", text=lambda r: r.source, width=110),
        Column(
            key="name",
            title="operation",
            text=lambda r: r.operation.name + (" (datums taken as equal)" if r.operation.assumed else ""),
            tone=lambda r: "" if r.operation.present else "faint",
            width=250,
        ),
        Column(
            key="accuracy",
            title="accuracy",
            unit="m",
            text=lambda r: "" if r.operation.accuracy_m is None else f"{r.operation.accuracy_m:g}",
            right=True,
            width=66,
        ),
        Column(key="grids", title="grids", text=grids, tone=lambda r: "faint", width=120),
        Column(key="area", title="for", text=lambda r: r.operation.area, tone=lambda r: "faint", width=140),
    ]
