"""Three setups of the Tarnholt demo, made up: free ones between the dam's marks and in the pit of the
powerhouse, and one over the mark at the portal, with points of the portal's lining sighted from two of them,
from a seed. In the pit one target stood on another prism than was booked."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.frames import open_frame
from fenwind.job.reader import with_grid_folder
from fenwind.procedures.resection import ResectionOptions, Sighting, reduce
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.records.records import Mark, Record
from fenwind.records.setups import Setup
from fenwind.standins.tarnholt import CENTRE_EN, map_frame, truth

FloatArray = NDArray[np.float64]

SEED = 4711
#: Points that only the instrument sees: offsets east and north of CENTRE_EN and heights, metres.
POINTS = {
    "K-01": (382.4, -251.7, 1229.14), "K-02": (390.1, -263.9, 1231.62), "K-03": (396.8, -246.2, 1229.37),
}  # fmt: skip
STATION = (300.0, -120.0, 1236.40)
PIT = (470.0, -185.0, 1229.85)
#: By how much the prism on a mark was another than booked, metres.
OTHER_PRISM = ("setup-3", "T-08", 0.0344)
#: Station, height of the instrument, what was sighted with target heights, and which is a check.
_SETUPS: tuple[tuple[str, float, dict[str, float], str], ...] = (
    (
        "St-1",
        0.0,
        {"T-04": 1.3, "T-07": 1.3, "T-08": 1.3, "T-09": 1.3, "P-11": 1.6, "K-01": 0.0, "K-03": 0.0},
        "T-09",
    ),
    ("P-12", 1.593, {"T-08": 1.3, "T-09": 1.3, "K-01": 0.0, "K-02": 0.0, "K-03": 0.0}, "T-09"),
    ("St-2", 0.0, {"T-04": 1.3, "T-07": 1.3, "T-08": 1.3, "T-09": 1.3, "P-11": 1.6, "P-12": 1.6}, "P-12"),
)


def setups(folder: Path) -> list[Record]:
    """The setups with their marks."""
    rng = np.random.default_rng(SEED)
    true = truth()
    rows = zip(true.names, true.e_m.tolist(), true.n_m.tolist(), true.height_m.tolist(), strict=True)
    places = {name: np.array(row) for name, *row in rows}
    for name, (east, north, height) in {**POINTS, "St-1": STATION, "St-2": PIT}.items():
        places[name] = np.array([CENTRE_EN[0] + east, CENTRE_EN[1] + north, height])
    out: list[Record] = [
        Mark(
            id=n,
            name=n,
            mark_class="lining",
            code="KP",
            monument="bolt",
            description="east wall of the tunnel",
        )
        for n in POINTS
    ]
    out += [Mark(id=n, name=n, mark_class="station", monument="none") for n in ("St-1", "St-2")]
    frame = open_frame(with_grid_folder(map_frame(), str(folder)))
    for number, (station, hi, targets, check) in enumerate(_SETUPS, 1):
        at = places[station]
        lat, lon = frame.inverse(at[:1], at[1:2])
        factor = float(frame.factors(lat, lon, at[2:] + frame.geoid_height(lat, lon)).combined[0])
        turn = float(rng.uniform(0.0, 2.0 * math.pi))
        shots = [_shot(rng, at, places[n], hi, ht, factor, turn, n) for n, ht in targets.items()]
        setup, target, short = OTHER_PRISM
        if setup == f"setup-{number}":
            k = list(targets).index(target)
            shots[k] = replace(shots[k], distance=shots[k].distance - short)
        names = list(targets)
        out.append(
            Setup(
                id=f"setup-{number}", name=f"Setup {number}", frame="map", station=station,
                word="free" if station.startswith("St") else "known", height_m=hi,
                source="field book 4 (made up)", target=tuple(names), use=((names.index(check), "check"),),
                direction_rad=tuple(s.direction for s in shots), zenith_rad=tuple(s.zenith for s in shots),
                distance_m=tuple(s.distance for s in shots), prism_m=(0.0,) * len(shots),
                face=(1,) * len(shots),
                target_height_m=tuple(s.target_height for s in shots),
            )
        )  # fmt: skip
    return out


def _shot(
    rng: np.random.Generator, at: FloatArray, to: FloatArray, hi: float, ht: float, factor: float,
    turn: float, name: str,
) -> Sighting:  # fmt: skip
    """What the instrument reads of a point: the slope distance and zenith angle that reduce to the truth,
    with noise of 3 seconds and 2 mm."""
    e, n, dh = (float(v) for v in to - at)
    hd, z, s = math.hypot(e, n), math.pi / 2, math.hypot(e, n)
    options = ResectionOptions(instrument_height=hi, heights=True, factor=factor)
    for _ in range(20):
        one = Sighting(target=name, direction=0.0, zenith=z, distance=s, target_height=ht)
        found = reduce([one], options)
        s += (hd - float(found.hd[0])) / factor
        z -= (dh - float(found.dh[0])) / s
    angle = 3.0 * RAD_PER_SECOND
    return Sighting(
        target=name,
        direction=(math.atan2(e, n) - turn + angle * rng.standard_normal()) % (2.0 * math.pi),
        zenith=z + angle * rng.standard_normal(), distance=s + 0.002 * rng.standard_normal(),
        target_height=ht,
    )  # fmt: skip
