"""What is wanted on the Ground stage, what it comes to, and the rows of its table."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column
from fenwind.desk.distortion_layer import DistortionLayer
from fenwind.desk.stages.ground_area import Wanted
from fenwind.geodesy.axes import ShownAxis
from fenwind.geodesy.frames import Frame, FrameSpec
from fenwind.job.distortion_map import carried, distortion_map, valid_radius
from fenwind.job.ground_view import Distortion, Marks, opened, worst_line
from fenwind.quantities.lengths import UNITS, LengthUnit, format_length, format_way
from fenwind.quantities.numbers import format_fixed

FloatArray = NDArray[np.float64]
#: Distortion that is drawn as a whole bar unless another is chosen, parts per million.
LIMIT_PPM = 20.0

KIND_WORDS = {"tm": "a transverse Mercator", "lcc": "a Lambert conformal", "om": "an oblique Mercator"}


@dataclass(frozen=True, kw_only=True)
class Draft:
    """What is wanted: a method; where the factor is taken (id of a mark, "mean", or what was typed);
    origin: id of a mark, empty for zero; offset in the frame's unit; kind of projection; what it is laid
    for."""

    frame: str = ""
    method: str = "factor"
    at: str = "mean"
    origin: str = ""
    offset: tuple[float, float] = (0.0, 0.0)
    kind: str = ""
    limit_ppm: float = LIMIT_PPM
    area: Wanted = field(default_factory=Wanted)


@dataclass(frozen=True, kw_only=True, eq=False)
class Found:
    """The marks of the frame, how its own grid lies on the ground, and the system that is wanted."""

    frame: Frame
    marks: Marks
    grid: Distortion
    factor: float
    spec: FrameSpec | None = None
    wanted: Distortion | None = None
    doubts: tuple[str, ...] = ()
    error: str = ""


def as_written(offset: tuple[float, float], axes: tuple[ShownAxis, ShownAxis]) -> list[float]:
    """An offset (east, north) in the order and with the signs that the frame's coordinates are written."""
    return [axis.of(*offset) + 0.0 for axis in axes]


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    i: int
    name: str
    found: Found = field(repr=False)

    @property
    def shown(self) -> Distortion:
        """The system that is looked at."""
        return self.found.wanted or self.found.grid


def mark_columns(
    axes: tuple[ShownAxis, ShownAxis], unit: LengthUnit, limit_ppm: float, angle: Callable[[float], str]
) -> list[Column]:
    """Columns of the marks, with coordinates in a unit and what is over the limit standing out."""

    def ppm(key: str, title: str, get: Callable[[Row], float], tip: str) -> Column:
        return Column(
            key=key, title=title, unit="ppm", right=True, width=76, value=lambda r: get(r) * 1e6,
            text=lambda r: format_fixed(get(r) * 1e6, 1, sign=True), tip=tip,
        )  # fmt: skip

    def place(axis: ShownAxis) -> Column:
        row, size = "en".index(axis.component), axis.sign / unit.metres
        return Column(
            key=axis.component, title=axis.title, unit=unit.key, right=True, width=106,
            text=lambda r: format_fixed(float(r.shown.plane[row, r.i]) * size, 3),
            value=lambda r: float(r.shown.plane[row, r.i]) * size,
        )  # fmt: skip

    return [
        Column(
            key="mark", title="mark", text=lambda r: r.name, tone=lambda r: "bold", whole=True, width=62
        ),
        ppm("scale", "projection", lambda r: float(r.shown.scale[r.i]) - 1.0, "Point scale less one"),
        ppm("elevation", "height", lambda r: float(r.shown.elevation[r.i]) - 1.0, "R / (R + h) less one"),
        Column(
            key="off", title="off", unit="ppm", right=True, width=76,
            value=lambda r: float(r.shown.off[r.i]) * 1e6,
            text=lambda r: format_fixed(float(r.shown.off[r.i]) * 1e6, 1, sign=True),
            bar=lambda r: float(r.shown.off[r.i]) * 1e6 / limit_ppm,
            tone=lambda r: "doubt" if abs(r.shown.off[r.i]) * 1e6 > limit_ppm else "",
            tip="Plane distance less ground distance, parts per million",
        ),
        Column(
            key="combined", title="combined", unit="factor", right=True, width=104,
            value=lambda r: float(r.shown.off[r.i]) + 1.0,
            text=lambda r: format_fixed(float(r.shown.off[r.i]) + 1.0, 9), tip="Plane over ground",
        ),
        *(place(axis) for axis in axes),
        Column(
            key="turn", title="convergence", right=True, width=104,
            value=lambda r: float(r.shown.convergence[r.i]),
            text=lambda r: angle(float(r.shown.convergence[r.i])),
        ),
    ]  # fmt: skip


def boxes_of_others(bridge: JobBridge, frame: str) -> list[FloatArray]:
    """Lowest and highest e, then n, (2, 2) of the marks in every frame of the job, its own among them: as
    metres that give the same numbers in the unit of a frame."""
    unit, out = UNITS[bridge.state.frames[frame].spec.unit].metres, []
    for key, adopted in bridge.derived.adopted.items():
        places = np.stack([adopted.e_m, adopted.n_m])
        places = places[:, np.isfinite(places).all(axis=0)]
        record = bridge.state.frames.get(key)
        if places.size and record is not None:
            places = places * (unit / UNITS[record.spec.unit].metres)
            out.append(np.stack([places.min(axis=1), places.max(axis=1)], axis=1))
    return out


def worst_words(found: Found, folder: str, unit: LengthUnit) -> str:
    """The line between marks that comes out worst; empty where there is none."""
    assert found.spec is not None
    line = worst_line(opened(found.spec, folder), found.marks)
    if line is None:
        return ""
    names = found.marks.names
    return (
        f"The line that comes out worst: {names[line.first]} to {names[line.second]}, "
        f"{format_length(line.ground_m, unit, 2)} on the ground, {format_way(abs(line.ground_m * line.off))} "
        f"too {'long' if line.off > 0 else 'short'} on the plane."
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class Reach:
    """How far a system that stands on a corner or two serves: the mark's name and place (latitude, longitude,
    radians), metres, the limit."""

    name: str
    at: tuple[float, float]
    way_m: float
    limit_ppm: float

    @property
    def words(self) -> str:
        """In a sentence."""
        if not self.way_m:
            return f"It is over {self.limit_ppm:g} ppm at {self.name} itself."
        return (
            f"At the height of {self.name} it stays within {self.limit_ppm:g} ppm out to "
            f"{self.way_m / 1000.0:.3g} km."
        )


def reach_of(found: Found, folder: str, limit_ppm: float) -> Reach | None:
    """How far the system that is wanted serves around its first mark with a height; None with three or more,
    whose map says it."""
    fine = np.flatnonzero(np.isfinite(found.marks.h_m))
    if found.spec is None or not 0 < fine.size < 3:
        return None
    i, m = int(fine[0]), found.marks
    at = float(m.lat[i]), float(m.lon[i])
    way = valid_radius(opened(found.spec, folder), *at, float(m.h_m[i]), limit_ppm * 1e-6)
    return Reach(name=m.names[i], at=at, way_m=way, limit_ppm=limit_ppm)


def figure_words(found: Distortion | None) -> str:
    """The largest distortion and the rms."""
    if found is None or math.isnan(found.largest):
        return "not known"
    return f"at most {ppm_words(found.largest)} ppm, rms {ppm_words(found.rms)}"


def ppm_words(part: float) -> str:
    """The size of a distortion."""
    return format_fixed(abs(float(part)) * 1e6, 1)


def layer_of(bridge: JobBridge, found: Found, limit_ppm: float) -> DistortionLayer | None:
    """The map of the system that is wanted, in the frame shown; None where there is none."""
    assert found.spec is not None
    shown = bridge.derived.adopted.get(bridge.frame_id)
    there = np.full(found.marks.plane.shape, np.nan)
    for i, mark in enumerate(found.marks.ids):
        row = shown.place.get(mark) if shown is not None else None
        if shown is not None and row is not None:
            there[:, i] = shown.e_m[row], shown.n_m[row]
    record = bridge.frame
    here = opened(record.spec, bridge.folder) if record is not None else None
    carry, limit = carried(found.frame, here, found.marks.plane, there), limit_ppm * 1e-6
    made = distortion_map(found.frame, opened(found.spec, bridge.folder), found.marks, carry, limit)
    return DistortionLayer(made, limit) if made is not None else None
