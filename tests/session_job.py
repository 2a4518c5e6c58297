"""A job of two days whose truth is known: base D1 on the known mark A; D2 on an average 3, -2, 1.5 m off;
B and C from both. C was measured from D1 with an antenna height given too large by `blunder`."""

import math

import numpy as np

from fenwind.geodesy.frames import open_frame
from fenwind.geodesy.geocentric import enu_axes, from_xyz, to_xyz
from fenwind.geodesy.own_plane import plane_through
from fenwind.job.job import Job
from fenwind.records.records import FrameRecord, GivenPosition, Mark, Record
from fenwind.records.sessions import Antenna, BaseSetup, Occupation

MARKS = {"A": (-33.5, -70.6, 812.0), "B": (-33.509, -70.61, 820.0), "C": (-33.495, -70.595, 801.5)}
JUMP = np.array([3.0, -2.0, 1.5])
VARIANCE = dict(cee_m2=4e-6, cnn_m2=9e-6, cuu_m2=1.6e-5)


def place(name: str) -> tuple[float, float, float]:
    """Latitude, longitude (radians) and height of a mark."""
    lat, lon, h = MARKS[name]
    return math.radians(lat), math.radians(lon), h


def arp(name: str, height: float) -> np.ndarray:
    """The antenna over a mark, geocentric."""
    lat, lon, h = place(name)
    return to_xyz(lat, lon, h + height)


def session_job(path: str, blunder: float = 0.06, slant: float | None = None) -> Job:
    """The job. slant: C's second look was given this slant as vertical."""
    lat, lon, h = place("A")
    spec = plane_through("EPSG:4979", np.array([lat]), np.array([lon]), np.array([h]))
    e, n = open_frame(spec).forward(np.array([lat]), np.array([lon]))
    records: list[Record] = [FrameRecord(id="f", spec=spec)]
    records += [Mark(id=name.lower(), name=name) for name in MARKS]
    records.append(
        GivenPosition(
            id="g", mark="a", frame="f", e_m=float(e[0]), n_m=float(n[0]), height_m=h, sigma_h_m=0.004,
            sigma_v_m=0.006,
        )
    )  # fmt: skip
    off = arp("A", 1.5) + enu_axes(lat, lon).T @ JUMP
    average = [float(v) for v in from_xyz(off)]
    records += [
        Antenna(id="r", model="RIM", radius_m=0.15, rim_offset_m=0.06),
        BaseSetup(
            id="d1", name="D1", height_m=1.5, started="2026-05-01T08:00:00+00:00", word="known", mark="a"
        ),
        BaseSetup(
            id="d2", name="D2", height_m=1.5, started="2026-05-02T08:00:00+00:00", word="average",
            average_lat_rad=average[0], average_lon_rad=average[1], average_h_m=average[2],
            average_sigma_h_m=1.5, average_sigma_v_m=2.5, average_epochs=50,
        ),
    ]  # fmt: skip
    for key, name, base, given in (
        ("o1", "B", "d1", 2.0), ("o2", "C", "d1", 2.0 + blunder), ("o3", "B", "d2", 2.0),
        ("o4", "C", "d2", slant or 2.0),
    ):  # fmt: skip
        dx, dy, dz = (float(v) for v in arp(name, 2.0) - arp("A", 1.5))
        day = "1" if base == "d1" else "2"
        records.append(
            Occupation(
                id=key, mark=name.lower(), base=base, height_m=given, antenna="RIM", dx_m=dx, dy_m=dy,
                dz_m=dz, started=f"2026-05-0{day}T0{8 + (name == 'C')}:10:00+00:00", solution="fixed",
                epochs=60, effective=3.0, **VARIANCE,
            )
        )  # fmt: skip
    return Job.create(path, "two days", records, "f")
