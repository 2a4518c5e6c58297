"""The second demo job: Ketterly levee, along a made-up river near 44.6 N 104.2 W at 3,870 ft. All of it is
made up.

Its grid is a Lambert conformal in international feet, laid as a state's would be; the drawing of 1994 is
that grid scaled to the ground about K-01 and moved. Of the three pairs of figures that people quarrel
about one has no cause: it is wrong.
"""

from __future__ import annotations

import math
from pathlib import Path

import numpy as np
import pyproj

from fenwind.geodesy.frames import FrameSpec, HeightReference, open_frame
from fenwind.geodesy.ground_frame import GroundScale, derived_wkt
from fenwind.job.file import JobFile
from fenwind.job.job import Job
from fenwind.quantities.lengths import FOOT
from fenwind.records.entries import Add
from fenwind.records.records import FrameRecord, GivenPosition, JobInfo, Mark, Record, TwoFigures

JOB_NAME = "Ketterly levee"
_ORIGIN = (math.radians(44.60), math.radians(-104.20))
_COUNT = 12
_INFO = JobInfo(
    name=JOB_NAME, frame="grid", angle_style="degrees", decimals=3, client="Levee district (made up)",
    notes="The drawing is in ground feet, the receiver works on the grid, the tape is on the ground.",
)  # fmt: skip


def grid_spec() -> FrameSpec:
    """The made-up grid: Lambert conformal with two parallels on NAD83, in feet."""
    crs = pyproj.CRS(
        "+proj=lcc +lat_1=43.9 +lat_2=45.1 +lat_0=43.5 +lon_0=-103.5 +x_0=609600 +y_0=0 +datum=NAD83 "
        "+units=ft"
    )
    parts = crs.to_json_dict()
    parts["name"] = parts["conversion"]["name"] = "Ketterly grid (made up)"
    wkt = pyproj.CRS.from_json_dict(parts).to_wkt("WKT2_2019")
    return FrameSpec(
        name="Ketterly grid (made up)", crs=wkt, unit="ft", height=HeightReference(kind="ellipsoid")
    )


def positions() -> np.ndarray:
    """True e, n, h (3, 12) of the marks in the grid, in metres: a levee that bends, 500 ft from mark to
    mark."""
    along = 500.0 * FOOT.metres * np.arange(_COUNT)
    turn = np.radians(62.0 - 4.5 * np.arange(_COUNT))
    e0, n0 = (float(v) for v in open_frame(grid_spec()).forward(*_ORIGIN))
    steps = np.diff(along, prepend=0.0)
    e, n = e0 + np.cumsum(steps * np.sin(turn)), n0 + np.cumsum(steps * np.cos(turn))
    h = (3870.0 - 0.6 * np.arange(_COUNT) + np.tile([0.0, 1.4, -0.7], 4)) * FOOT.metres
    return np.round(np.stack([e, n, h]) / FOOT.metres, 3) * FOOT.metres


def factor() -> float:
    """Ground over grid at K-01."""
    frame, (e, n, h) = open_frame(grid_spec()), positions()[:, 0]
    lat, lon = frame.inverse(e, n)
    return 1.0 / float(frame.point_scale(lat, lon)[0] * frame.elevation_factor(lat, h))


def records() -> list[Record]:
    """All records of the job, the same at every call."""
    grid, true = grid_spec(), positions()
    frame, feet = open_frame(grid), true / FOOT.metres
    offset = tuple(float(-np.floor(v / 10_000.0) * 10_000.0) for v in feet[:2, 0])
    scale = GroundScale(
        factor=factor(), origin=(float(feet[0, 0]), float(feet[1, 0])), offset=(offset[0], offset[1])
    )
    spec = FrameSpec(
        name="Levee drawing, ground feet", crs=derived_wkt(frame, scale), unit="ft",
        height=HeightReference(kind="ellipsoid"),
    )  # fmt: skip
    out: list[Record] = [FrameRecord(id="grid", spec=grid), FrameRecord(id="drawing", spec=spec)]
    drawn = scale.forward(feet[:2])
    for i in range(_COUNT):
        name = f"K-{i + 1:02d}"
        out.append(
            Mark(
                id=name,
                name=name,
                mark_class="main",
                code="CAP",
                monument="cap on rod",
                description=_where(i),
            )
        )
        if i % 3 == 0 or i == _COUNT - 1:
            out.append(_given(name, "grid", true[:2, i], true[2, i], f"control list, row {2 + i}"))
        at = np.round(drawn[:, i], 2) * FOOT.metres
        out.append(_given(name, "drawing", at, true[2, i], "sheet 4 of 1994"))
    return [*out, *_figures()]


def _where(i: int) -> str:
    return f"levee crown, station {5 * i}+00"


def _given(name: str, frame: str, place: np.ndarray, height: float, source: str) -> GivenPosition:
    return GivenPosition(
        id=f"{frame}-{name}", mark=name, frame=frame, e_m=float(place[0]), n_m=float(place[1]),
        height_m=float(height), source=source,
    )  # fmt: skip


def _figures() -> list[Record]:
    """The quarrel: tape against grid, deed against drawing, and one figure that is simply wrong."""
    taped = 1640.0 * factor()
    rows = (
        ("1640.00", f"{taped:.2f}", "K-01 to K-04, grid and tape"),
        ("26400.00", "26399.95", "section line, drawing and deed"),
        ("812.40", "813.10", "pump house to K-06, drawing and tape"),
    )  # fmt: skip
    return [
        TwoFigures(id=f"figures-{i}", mark="K-01", first=first, second=second, line=line)
        for i, (first, second, line) in enumerate(rows, 1)
    ]


def make_ketterly(path: Path) -> Job:
    """The job in a new file. Raises JobError."""
    job = Job(JobFile(path, create=True))
    job.record("New job", [Add(record=record) for record in (_INFO, *records())])
    return job
