"""Grid and ground of a job's marks: their factors in a frame, and systems that lie on the ground there."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
import pyproj
from numpy.typing import NDArray

from fenwind.errors import FrameError, ProcedureError
from fenwind.geodesy.frames import Frame, FrameSpec, find_crs, open_frame
from fenwind.geodesy.ground_frame import GroundScale, derived_wkt
from fenwind.job.adopted import Adopted
from fenwind.job.reader import with_grid_folder
from fenwind.procedures.own_projection import KINDS, Aim, Area, Candidate, design, in_unit, projected_crs
from fenwind.progress import NULL_PROGRESS, Progress
from fenwind.quantities.lengths import UNITS

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True, eq=False)
class Marks:
    """Marks (k,) of a frame with a place on the earth: ids, names, plane (2, k) and height in metres,
    latitude, longitude, ellipsoidal height (nan where it is not known)."""

    ids: tuple[str, ...]
    names: tuple[str, ...]
    plane: FloatArray
    height_m: FloatArray
    lat: FloatArray
    lon: FloatArray
    h_m: FloatArray


@dataclass(frozen=True, kw_only=True, eq=False)
class Distortion:
    """How a system lies on the ground at marks (k,): point scale, elevation factor, their product less one
    (nan without a height), convergence (rad), plane coordinates (2, k) in metres."""

    scale: FloatArray
    elevation: FloatArray
    off: FloatArray
    convergence: FloatArray
    plane: FloatArray

    @property
    def largest(self) -> float:
        """The largest distortion, nan where no height is known."""
        fine = np.abs(self.off[np.isfinite(self.off)])
        return float(fine.max()) if fine.size else float("nan")

    @property
    def rms(self) -> float:
        """Root of the mean square."""
        fine = self.off[np.isfinite(self.off)]
        return float(np.sqrt(np.mean(fine**2))) if fine.size else float("nan")


def marks_of(frame: Frame, adopted: Adopted) -> Marks:
    """The marks of a frame with a datum. Raises FrameError without one."""
    if not frame.has_datum:
        raise FrameError(
            f"{frame.spec.name} has no known relation to the earth", hint="Show a frame that has a datum"
        )
    lat, lon = frame.inverse(adopted.e_m, adopted.n_m)
    fine = np.flatnonzero(np.isfinite(lat + lon))
    h = adopted.height_m + frame.geoid_height(lat, lon)
    return Marks(
        ids=tuple(adopted.ids[i] for i in fine), names=tuple(adopted.names[i] for i in fine),
        plane=np.stack([adopted.e_m, adopted.n_m])[:, fine], height_m=adopted.height_m[fine], lat=lat[fine],
        lon=lon[fine], h_m=h[fine],
    )  # fmt: skip


def distortion(frame: Frame, marks: Marks) -> Distortion:
    """How a system of the marks' own datum lies on the ground."""
    scale, convergence = frame.point_scale(marks.lat, marks.lon)
    elevation = frame.elevation_factor(marks.lat, marks.h_m)
    return Distortion(
        scale=scale, elevation=elevation, off=scale * elevation - 1.0, convergence=convergence,
        plane=np.stack(frame.forward(marks.lat, marks.lon)),
    )  # fmt: skip


def factor_at(own: Distortion, marks: Marks, at: str) -> float:
    """The factor from grid to ground at a mark by its id, or the mean of all for "mean". Raises
    ProcedureError where a height is lacking."""
    factors = 1.0 / (own.off + 1.0)
    if at == "mean":
        fine = factors[np.isfinite(factors)]
        if not fine.size:
            raise ProcedureError("no mark has a height to take a factor at", hint="Give heights")
        return float(fine.mean())
    found = float(factors[marks.ids.index(at)]) if at in marks.ids else float("nan")
    if not np.isfinite(found):
        raise ProcedureError("that mark has no height to take a factor at", hint="Give its height")
    return found


def scaled_spec(frame: Frame, scale: GroundScale, name: str) -> FrameSpec:
    """A frame's grid scaled to the ground, as the recipe of a frame; scale in the frame's unit."""
    return replace(frame.spec, name=name, crs=derived_wkt(frame, scale))


def area_of_marks(frame: Frame, marks: Marks, weight: FloatArray) -> Area:
    """The marks that have a height, as an area with weights (k,). Raises ProcedureError without one."""
    rows = np.flatnonzero(np.isfinite(marks.h_m))
    if not rows.size:
        raise ProcedureError("no mark has a height", hint="Give heights, so that the ground is known")
    return _area(frame, marks.lat[rows], marks.lon[rows], marks.h_m[rows], weight[rows])


def area_at(frame: Frame, places: FloatArray, height_m: FloatArray, weight: FloatArray) -> Area:
    """Places (2, k) of a frame's plane with its heights and weights (k,), as an area. Raises ProcedureError
    where none of them lies on the earth."""
    lat, lon = frame.inverse(*places)
    h = height_m + frame.geoid_height(lat, lon)
    fine = np.isfinite(lat + lon + h)
    if not fine.any():
        raise ProcedureError("no place of the area has a height", hint="Choose an area that the geoid covers")
    return _area(frame, lat[fine], lon[fine], h[fine], weight[fine])


def _area(frame: Frame, lat: FloatArray, lon: FloatArray, h: FloatArray, weight: FloatArray) -> Area:
    ellipsoid = frame.geodetic_crs.ellipsoid
    assert ellipsoid is not None
    return Area(
        lat=lat, lon=lon, h=h, weight=weight, a=ellipsoid.semi_major_metre,
        b=ellipsoid.semi_minor_metre,
    )  # fmt: skip


def designs(area: Area, aim: Aim, limit: float, progress: Progress = NULL_PROGRESS) -> dict[str, Candidate]:
    """The best projection of each kind for an area and an aim."""
    out: dict[str, Candidate] = {}
    for done, kind in enumerate(KINDS):
        progress.report(done, len(KINDS), kind)
        out[kind] = design(area, kind, aim, limit, progress)
    return out


def projection_spec(frame: Frame, one: Candidate, name: str, others: Sequence[FloatArray] = ()) -> FrameSpec:
    """A projection of one's own on a frame's datum, in that frame's unit, as the recipe of a frame. Its false
    origin is in whole thousands of the unit, and farther out where the area would else have coordinates that
    it has in another frame too: others, boxes (2, 2) of lowest and highest e, then n, metres."""
    datum: pyproj.CRS = find_crs(frame.geodetic_name).to_2d()
    unit = UNITS[frame.spec.unit]
    step = 1000.0 * unit.metres
    fe, fn = (math.ceil(round(v / step, 9)) * step for v in (one.fe, one.fn))
    moved = one.box + np.array([[fe - one.fe], [fn - one.fn]])
    while any(_meet(moved, box) for box in others) and fe < MOST_FALSE_M:
        fe, moved = fe + 100.0 * step, moved + np.array([[100.0 * step], [0.0]])
    crs = in_unit(projected_crs(replace(one, fe=fe, fn=fn), datum, name), unit)
    return replace(frame.spec, name=name, crs=crs.to_wkt("WKT2_2019"), axis_order="EN")


#: No false easting beyond this, metres.
MOST_FALSE_M = 9_000_000.0


def _meet(one: FloatArray, other: FloatArray) -> bool:
    return bool((one[:, 0] <= other[:, 1]).all() and (other[:, 0] <= one[:, 1]).all())


def off_over(frame: Frame, area: Area) -> FloatArray:
    """How far a system of an area's datum is from the ground at its places (k,), parts."""
    return np.asarray(frame.point_scale(area.lat, area.lon)[0] * area.elevation - 1.0)


@dataclass(frozen=True, slots=True, kw_only=True)
class Line:
    """A line between two marks: their rows, its length on the ground in metres, and how far its length on a
    plane is from that, parts."""

    first: int
    second: int
    ground_m: float
    off: float


def worst_line(frame: Frame, marks: Marks) -> Line | None:
    """The line between marks whose length on a frame's plane is farthest from that on the ground, in metres:
    among all lines of up to MOST_MARKS marks, else among those between neighbours. By the mean of ends and
    middle (Simpson's rule) at heights along the line. None for fewer than two marks with heights."""
    rows = np.flatnonzero(np.isfinite(marks.h_m))
    if rows.size < 2:
        return None
    i, j = (rows[k] for k in _pairs(marks.plane[:, rows]))
    turned = np.remainder(marks.lon[j] - marks.lon[i] + np.pi, 2.0 * np.pi) - np.pi
    off = np.zeros(i.size)
    for part, weight in ((0.0, 1.0), (0.5, 4.0), (1.0, 1.0)):
        lat, h = ((1.0 - part) * v[i] + part * v[j] for v in (marks.lat, marks.h_m))
        scale, _ = frame.point_scale(lat, marks.lon[i] + part * turned)
        off += weight * (scale * frame.elevation_factor(lat, h) - 1.0) / 6.0
    plane = np.stack(frame.forward(marks.lat, marks.lon))
    ground = np.hypot(*(plane[:, j] - plane[:, i])) / (1.0 + off)
    worst = int(np.argmax(np.abs(ground * off)))
    return Line(
        first=int(i[worst]), second=int(j[worst]), ground_m=float(ground[worst]), off=float(off[worst])
    )


#: Marks of which every line is looked at.
MOST_MARKS = 120


def _pairs(plane: FloatArray) -> tuple[NDArray[np.intp], NDArray[np.intp]]:
    """Rows of both ends of the lines (l,) between places (2, k) that are looked at."""
    count = plane.shape[1]
    if count > MOST_MARKS:
        from scipy.spatial import Delaunay, QhullError

        try:
            begins, near = Delaunay(plane.T - plane.mean(axis=1)).vertex_neighbor_vertices
        except QhullError:  # all on one line
            order = np.lexsort(plane)
            return order[:-1], order[1:]
        first = np.repeat(np.arange(count), np.diff(begins))
        once = first < near
        return first[once], near[once].astype(np.intp)
    first, second = np.triu_indices(count, 1)
    return first, second


def opened(spec: FrameSpec, folder: str) -> Frame:
    """The live frame of a recipe of a job. Raises FrameError."""
    return open_frame(with_grid_folder(spec, folder))


def frames_with_datum(specs: Mapping[str, FrameSpec], folder: str) -> dict[str, Frame]:
    """Those of a job's frames that can be put on the ground, by id."""
    out = {}
    for key, spec in specs.items():
        try:
            frame = opened(spec, folder)
        except FrameError:
            continue
        if frame.has_datum:
            out[key] = frame
    return out
