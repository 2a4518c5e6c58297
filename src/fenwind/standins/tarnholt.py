"""The demo job: Tarnholt pumped storage, an upper reservoir on a plateau near 1,240 m. All of it is made up.

The generator starts from a fixed seed and a known truth, so that what Fenwind computes can be judged against
it: the dam grid of 1968 is the map grid shifted and turned (TRUTH), its heights lie HEIGHT_SHIFT_M below
those over the geoid grid.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.frames import FrameSpec, HeightReference, open_frame
from fenwind.records.records import FitStep, FrameRecord, GivenPosition, Mark, MeasuredPosition, Record
from fenwind.standins.geoid_grid import undulation, write_gtx

FloatArray = NDArray[np.float64]

JOB_NAME = "Tarnholt pumped storage"
GRID_FILE = "tarnholt-geoid-made-up.gtx"
SEED = 1977

#: Turn of the dam grid (bearings in it are larger), and where the map point CENTRE lies in it.
TURN_RAD = math.radians(11.8966)
CENTRE_EN = (463_050.0, 6_796_150.0)
CENTRE_DAM = (1250.0, 2050.0)
HEIGHT_SHIFT_M = -0.4173
SIGMA_H_M, SIGMA_V_M = 0.004, 0.008

#: name: class, code, description, offsets east and north of CENTRE (m), height over the geoid (m), known in:
#: e n h of the dam grid.
_MARKS: tuple[tuple[str, str, str, str, float, float, float, str], ...] = (
    ("T-01", "main", "BB", "bronze bolt, west abutment", -790.0, 1050.0, 1241.5, "enh"),
    ("T-02", "main", "BB", "bronze bolt, spillway crest", 10.0, 1300.0, 1240.1, "enh"),
    ("T-03", "main", "BB", "bronze bolt, east abutment", 740.0, 1000.0, 1240.6, "enh"),
    ("T-04", "main", "RD", "rock drill, gauge house", 410.0, 400.0, 1238.8, "enh"),
    ("T-05", "main", "PP", "pipe in gravel, plan only", -290.0, 150.0, 1236.9, "en"),
    ("T-06", "main", "RD", "rock drill, south shore", -840.0, -250.0, 1237.4, "enh"),
    ("T-07", "main", "RD", "rock drill, intake tower", 790.0, -110.0, 1239.2, "enh"),
    ("T-08", "main", "BB", "bronze bolt, boat ramp", 20.0, -430.0, 1235.7, "enh"),
    ("T-09", "main", "RD", "rock drill, pump station", 545.0, -240.0, 1236.1, "enh"),
    ("P-13", "secondary", "NL", "nail, keeper's house", 120.0, 860.0, 1243.3, ""),
    ("P-01", "secondary", "NL", "nail, crest road", -410.0, 1130.0, 1242.0, ""),
    ("P-02", "secondary", "NL", "nail, crest road", -60.0, 1190.0, 1242.1, ""),
    ("P-03", "secondary", "NL", "nail, crest road", 330.0, 1120.0, 1242.2, ""),
    ("P-04", "secondary", "NL", "nail, spillway channel", 160.0, 690.0, 1231.4, ""),
    ("P-05", "secondary", "NL", "nail, quarry", 560.0, 760.0, 1252.8, ""),
    ("P-06", "secondary", "PL", "plate, east shore", 620.0, 260.0, 1237.9, ""),
    ("P-07", "secondary", "PL", "plate, island", 60.0, 300.0, 1236.2, ""),
    ("P-08", "secondary", "PL", "plate, west shore", -610.0, 480.0, 1238.0, ""),
    ("P-09", "secondary", "PL", "plate, south shore", -420.0, -180.0, 1236.5, ""),
    ("P-10", "secondary", "PL", "plate, camp", -120.0, 760.0, 1246.6, ""),
    ("P-11", "portal", "PL", "plate, headrace portal", 350.0, -240.0, 1228.3, ""),
    ("P-12", "portal", "PL", "plate, headrace portal", 420.0, -290.0, 1227.9, ""),
)


@dataclass(frozen=True, kw_only=True, eq=False)
class Truth:
    """True positions of the marks, arrays (k,) in metres: map grid e, n, height over the geoid; dam grid e,
    n, height."""

    names: tuple[str, ...]
    e_m: FloatArray
    n_m: FloatArray
    height_m: FloatArray
    dam_e_m: FloatArray
    dam_n_m: FloatArray
    dam_height_m: FloatArray


def truth() -> Truth:
    """The truth behind the demo job."""
    east, north, height = (np.array([m[i] for m in _MARKS], dtype=float) for i in (4, 5, 6))
    c, s = math.cos(TURN_RAD), math.sin(TURN_RAD)
    return Truth(
        names=tuple(m[0] for m in _MARKS),
        e_m=CENTRE_EN[0] + east,
        n_m=CENTRE_EN[1] + north,
        height_m=height,
        dam_e_m=CENTRE_DAM[0] + east * c + north * s,
        dam_n_m=CENTRE_DAM[1] - east * s + north * c,
        dam_height_m=height + HEIGHT_SHIFT_M,
    )


def map_frame() -> FrameSpec:
    """The working frame, with the made-up geoid grid beside the job."""
    geoid = HeightReference(kind="geoid", grid=GRID_FILE, name="TN geoid (made up)")
    return FrameSpec(name="ETRS89 / UTM 32N", crs="EPSG:25832", height=geoid)


def dam_frame() -> FrameSpec:
    """The old dam's own grid."""
    return FrameSpec(name="Dam grid 1968", height=HeightReference(kind="local", name="dam datum"))


def write_grid(folder: Path) -> None:
    """Put the geoid grid beside the job."""
    write_gtx(folder / GRID_FILE)


def records(*, planted: bool = False) -> list[Record]:
    """All records of the demo job, the same at every call; `planted` exchanges E and N of the given position
    of T-09."""
    rng = np.random.default_rng(SEED)
    true = truth()
    plain = open_frame(FrameSpec(name="map", crs="EPSG:25832"))
    lat, lon = plain.inverse(true.e_m, true.n_m)
    ellipsoidal = true.height_m + undulation(np.degrees(lat), np.degrees(lon))
    meridian, prime = plain.radii(lat)
    out: list[Record] = [
        FrameRecord(id="map", spec=map_frame()),
        FrameRecord(id="dam", spec=dam_frame()),
    ]
    for i, (name, mark_class, code, description, *_rest, known) in enumerate(_MARKS):
        monument, place = description.split(", ", 1)
        out.append(
            Mark(id=name, name=name, mark_class=mark_class, code=code, monument=monument, description=place)
        )
        if "e" in known:
            height = round(float(true.dam_height_m[i]), 3) if "h" in known else None
            position = (round(float(true.dam_e_m[i]), 3), round(float(true.dam_n_m[i]), 3))
            if planted and name == "T-09":
                position = position[::-1]
            row = f"main list, sheet 2, row {5 + i}"
            out.append(
                GivenPosition(
                    id=f"g-{name}",
                    mark=name,
                    frame="dam",
                    e_m=position[0],
                    n_m=position[1],
                    height_m=height,
                    source=row,
                )
            )
        days = ("day 1", "day 2") if mark_class != "secondary" else ("day 1",)
        for day in days:
            noise = rng.normal(0.0, (SIGMA_H_M, SIGMA_H_M, SIGMA_V_M))
            out.append(
                MeasuredPosition(
                    id=f"m-{name}-{day[-1]}",
                    mark=name,
                    lat_rad=float(lat[i] + noise[1] / meridian[i]),
                    lon_rad=float(lon[i] + noise[0] / (prime[i] * math.cos(lat[i]))),
                    h_m=float(ellipsoidal[i] + noise[2]),
                    crs="EPSG:4937",
                    sigma_h_m=SIGMA_H_M,
                    sigma_v_m=SIGMA_V_M,
                    session=day,
                    source=f"rover on base D{day[-1]}, fixed, 180 epochs",
                )
            )
    out.append(
        FitStep(id="fit-1", name="Fit 1", source_frame="map", target_frame="dam", uses=(("T-07", "check"),)),
    )
    return out
