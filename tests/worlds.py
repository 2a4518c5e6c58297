"""Six small jobs in six conventions, made by code: the demo; control only; US survey feet and degrees; axes
that count south and west; grads from Paris; a plane of its own without datum or heights.

Four of them hold one survey (`survey`): the same marks, readings and blunders-free noise, at a place of its
own in the frame of each, so that every kind of record stands in every convention.
"""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass, replace
from itertools import pairwise
from pathlib import Path

import numpy as np

from fenwind.geodesy.frames import FrameSpec, HeightReference, find_crs, open_frame
from fenwind.geodesy.geocentric import to_xyz
from fenwind.job.job import Job
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.records.lines import LevelBook, TraverseBook
from fenwind.records.network import DesignStep, EpochsStep, NetworkStep, ObservationSet
from fenwind.records.records import (
    FitStep,
    FrameRecord,
    GivenPosition,
    JobInfo,
    Mark,
    MeasuredPosition,
    Record,
)
from fenwind.records.sessions import Antenna, BaseSetup, Equipment, Occupation
from fenwind.records.setups import Setup
from fenwind.records.tools import InstrumentModel, TapedDistance
from fenwind.records.velocities import MarkVelocity
from fenwind.standins import tarnholt
from fenwind.standins.demo import make_demo

#: Where the marks of the survey lie from its middle: east, north, height in metres.
PLACES = {
    "A1": (-410.0, 320.0, 12.4),
    "A2": (385.0, 402.0, 18.9),
    "A3": (440.0, -350.0, 9.7),
    "A4": (-362.0, -391.0, 15.2),
    "B1": (-120.0, 95.0, 13.3),
    "B2": (75.0, 160.0, 14.8),
    "B3": (210.0, -60.0, 11.6),
    "C1": (20.0, -240.0, 10.9),
}
CONTROL = ("A1", "A2", "A3", "A4")
WALK = ("A1", "B1", "B2", "B3", "A3")
#: Height of the middle above the ellipsoid, metres.
LEVEL_M = 120.0


@dataclass(frozen=True)
class World:
    """A job by its name and the function that makes it in a new file."""

    name: str
    make: Callable[[Path], Job]


def _demo(path: Path) -> Job:
    tarnholt.write_grid(path.parent)
    return make_demo(path)


def _control_only(path: Path) -> Job:
    """The first hour of a job: marks given, nothing measured."""
    spec = FrameSpec(name="ETRS89 / UTM zone 32N", crs="EPSG:25832", height=HeightReference(kind="ellipsoid"))
    records = [FrameRecord(id="map", spec=spec), *_control(spec, (463_000.0, 6_796_000.0), heights=True)]
    return Job.create(path, "Control only", records, frame="map")


def _control(spec: FrameSpec, middle: tuple[float, float], heights: bool) -> list[Record]:
    out: list[Record] = []
    for name, (e, n, h) in PLACES.items():
        out.append(Mark(id=name, name=name, mark_class="control" if name in CONTROL else "", code="CP"))
        if name in CONTROL:
            out.append(
                GivenPosition(
                    id=f"given-{name}",
                    mark=name,
                    frame="map",
                    e_m=middle[0] + e,
                    n_m=middle[1] + n,
                    height_m=LEVEL_M + h if heights else None,
                    sigma_h_m=0.003,
                    sigma_v_m=0.005,
                    source="list 1",
                )
            )
    return out


def survey(
    spec: FrameSpec, middle: tuple[float, float], angle_style: str = "degrees", seed: int = 12
) -> list[Record]:
    """Everything that can be measured of the marks, on a frame with a datum, and a second, plain frame that a
    fit leads to."""
    rng, frame = np.random.default_rng(seed), open_frame(spec)
    plane = FrameSpec(name="Works grid", unit=spec.unit, height=HeightReference(kind="local"))
    known = _control(spec, middle, heights=True)
    out: list[Record] = [
        JobInfo(name="Survey", frame="map", angle_style=angle_style),  # type: ignore[arg-type]
        FrameRecord(id="map", spec=spec),
        FrameRecord(id="works", spec=plane),
        *known,
    ]
    for name in CONTROL:  # the works grid: moved, turned by 0.02 rad, not scaled
        e, n, h = PLACES[name]
        c, s = math.cos(0.02), math.sin(0.02)
        out.append(
            GivenPosition(
                id=f"works-{name}",
                mark=name,
                frame="works",
                e_m=1000.0 + c * e + s * n,
                n_m=2000.0 - s * e + c * n,
                height_m=h + float(rng.normal(0, 0.002)),
                source="drawing",
            )
        )
    true = {name: np.array([middle[0] + e, middle[1] + n, LEVEL_M + h]) for name, (e, n, h) in PLACES.items()}
    geodetic = {n: (*(float(v) for v in frame.inverse(p[0], p[1])), float(p[2])) for n, p in true.items()}
    ellipsoid = find_crs(spec.crs).ellipsoid
    assert ellipsoid is not None
    out += _occupations(geodetic, (ellipsoid.semi_major_metre, 1.0 / ellipsoid.inverse_flattening), rng)
    scale = {
        name: float(frame.factors(np.array([lat]), np.array([lon]), np.array([h])).combined[0])
        for name, (lat, lon, h) in geodetic.items()
    }
    return [
        *out,
        *_by_hand(true, scale, rng),
        *_network(true, scale, rng),
        *_steps({n: tuple(p.tolist()) for n, p in true.items()}),
    ]


def _occupations(
    geodetic: dict[str, tuple[float, float, float]], figure: tuple[float, float], rng: np.random.Generator
) -> list[Record]:
    """Marks measured by a rover: as positions of a list, and as vectors from a base on A1."""
    out: list[Record] = [
        Antenna(id="ant", model="RIM", radius_m=0.1, rim_offset_m=0.05, arp_to_l1_m=0.08),
        Equipment(antenna="ant", height_m=2.0),
        BaseSetup(
            id="base",
            name="Base 1",
            antenna="ant",
            height_m=1.5,
            word="known",
            mark="A1",
            started="2026-11-02T07:00:00+00:00",
        ),
    ]
    start = to_xyz(geodetic["A1"][0], geodetic["A1"][1], geodetic["A1"][2] + 1.5, *figure)
    for k, (name, (lat, lon, h)) in enumerate(geodetic.items()):
        noise = rng.normal(0, 1, 3) * (0.004, 0.004, 0.008) / 6.371e6
        out.append(
            MeasuredPosition(
                id=f"list-{name}",
                mark=name,
                lat_rad=lat + noise[0],
                lon_rad=lon + noise[1],
                h_m=h + float(rng.normal(0, 0.008)),
                sigma_h_m=0.006,
                sigma_v_m=0.01,
                session="list",
            )
        )
        if name != "A1":
            dx, dy, dz = (
                float(v) for v in to_xyz(lat, lon, h + 2.0, *figure) - start + rng.normal(0, 0.004, 3)
            )
            out.append(
                Occupation(
                    id=f"rover-{name}",
                    mark=name,
                    base="base",
                    antenna="ant",
                    height_m=2.0,
                    epochs=60,
                    started=f"2026-11-02T08:{k:02d}:00+00:00",
                    ended=f"2026-11-02T08:{k:02d}:59+00:00",
                    dx_m=dx,
                    dy_m=dy,
                    dz_m=dz,
                    cee_m2=4e-6,
                    cnn_m2=4e-6,
                    cuu_m2=1.6e-5,
                    solution="fixed",
                    pdop=1.6,
                    age_s=1.0,
                    spread_e_m=0.004,
                    spread_n_m=0.004,
                    spread_u_m=0.008,
                    effective=4.0,
                    check=name == "A3",
                )
            )
    return out


def _azimuth(true: dict[str, np.ndarray], here: str, there: str) -> float:
    de, dn, _ = true[there] - true[here]
    return math.atan2(de, dn) % (2.0 * math.pi)


def _ground(true: dict[str, np.ndarray], scale: dict[str, float], here: str, there: str) -> float:
    """Horizontal distance on the ground."""
    de, dn, _ = true[there] - true[here]
    return math.hypot(de, dn) / (0.5 * (scale[here] + scale[there]))


def _by_hand(true: dict[str, np.ndarray], scale: dict[str, float], rng: np.random.Generator) -> list[Record]:
    """A free setup at C1, one on B2, a traverse and a levelling."""
    out: list[Record] = [
        InstrumentModel(id="ts", name="TS 1"),
        TapedDistance(
            id="tape", first="B1", second="B2", length_m=_ground(true, scale, "B1", "B2"), temperature_c=9.0
        ),
    ]
    for number, (station, word) in enumerate((("C1", "free"), ("B2", "known")), 1):
        targets = [n for n in (*CONTROL, "B1", "B3") if n != station]
        turn = float(rng.uniform(0, 2 * math.pi))
        directions, zeniths, distances = [], [], []
        for name in targets:
            hd = _ground(true, scale, station, name)
            # Curvature and refraction (1 - k) / 2R; reduced by the same formula when it is read.
            dh = float(true[name][2] - true[station][2]) - 0.87 * hd**2 / (2 * 6.38e6)
            directions.append(
                (_azimuth(true, station, name) - turn + rng.normal(0, 3) * RAD_PER_SECOND) % (2 * math.pi)
            )
            zeniths.append(math.atan2(hd, dh) + float(rng.normal(0, 3)) * RAD_PER_SECOND)
            distances.append(math.hypot(hd, dh) + float(rng.normal(0, 0.002)))
        out.append(
            Setup(
                id=f"setup-{number}",
                name=f"Setup {number}",
                frame="map",
                station=station,
                word=word,
                height_m=0.0,
                target=tuple(targets),  # type: ignore[arg-type]
                direction_rad=tuple(directions),
                zenith_rad=tuple(zeniths),
                distance_m=tuple(distances),
                target_height_m=(0.0,) * len(targets),
                prism_m=(0.0,) * len(targets),
                face=(1,) * len(targets),
                use=((1, "check"),),
            )
        )
    legs = list(zip(("A4", *WALK), WALK, WALK[1:], strict=False))

    def angle(back: str, here: str, there: str) -> float:
        turned = _azimuth(true, here, there) - _azimuth(true, here, back)
        return (turned + float(rng.normal(0, 2)) * RAD_PER_SECOND) % (2 * math.pi)

    out.append(
        TraverseBook(
            id="traverse",
            name="Traverse 1",
            frame="map",
            here=tuple(h for _, h, _ in legs),
            there=tuple(t for _, _, t in legs),
            kind=("right",) * len(legs),
            direction_rad=tuple(angle(*leg) for leg in legs),
            distance_m=tuple(_ground(true, scale, h, t) + float(rng.normal(0, 0.002)) for _, h, t in legs),
            dh_m=tuple(float(true[t][2] - true[h][2]) for _, h, t in legs),
            back="A4",
            close="A3",
            fore="A2",
            closing_angle_rad=angle("B3", "A3", "A2"),
            balance=True,
        )
    )
    runs = [*pairwise(WALK), *pairwise(reversed(WALK))]
    out.append(
        LevelBook(
            id="levels",
            name="Levelling 1",
            frame="map",
            first=tuple(a for a, _ in runs),
            second=tuple(b for _, b in runs),
            length=(0.3,) * len(runs),
            dh_m=tuple(float(true[b][2] - true[a][2] + rng.normal(0, 0.0005)) for a, b in runs),
        )
    )
    return out


def _network(true: dict[str, np.ndarray], scale: dict[str, float], rng: np.random.Generator) -> list[Record]:
    """Directions, distances and height differences among the inner marks, observed twice."""
    pairs = [
        ("A1", "B1"),
        ("A1", "B2"),
        ("A2", "B2"),
        ("A2", "B3"),
        ("A3", "B3"),
        ("A3", "C1"),
        ("A4", "C1"),
        ("A4", "B1"),
        ("B1", "B2"),
        ("B2", "B3"),
        ("B3", "C1"),
        ("C1", "B1"),
        ("A1", "A2"),
        ("A2", "A3"),
        ("A3", "A4"),
        ("A4", "A1"),
        ("A2", "B1"),
        ("A3", "B2"),
    ]
    out: list[Record] = []
    for epoch in (1, 2):
        kind, at, to, value, variance = [], [], [], [], []
        for here, there in pairs:
            hd = _ground(true, scale, here, there)
            rows = (
                ("distance", math.hypot(hd, float(true[there][2] - true[here][2])), 0.002),
                ("height_difference", float(true[there][2] - true[here][2]), 0.001),
            )
            for word, exact, sigma in rows:
                kind.append(word)
                at.append(here)
                to.append(there)
                value.append((exact + sigma * float(rng.standard_normal()),))
                variance.append((sigma**2,))
        count, name = len(kind), f"rows-{epoch}"
        out.append(
            ObservationSet(
                id=name,
                name=f"Epoch {epoch}",
                line=tuple(range(2, count + 2)),
                kind=tuple(kind),
                at=tuple(at),
                to=tuple(to),
                back=("",) * count,
                setup=("",) * count,
                group=tuple(kind),
                hi_m=(0.0,) * count,
                ht_m=(0.0,) * count,
                value=tuple(value),
                covariance=tuple(variance),
            )
        )
        out.append(
            NetworkStep(
                id=f"net-{epoch}", name=f"Network {epoch}", frame="map", observations=name, datum="free"
            )
        )
    return out


def _steps(places: dict[str, tuple[float, ...]]) -> list[Record]:
    return [
        FitStep(id="fit", name="Fit 1", source_frame="map", target_frame="works"),
        EpochsStep(id="epochs", name="Two epochs", first="net-1", second="net-2"),
        DesignStep(
            id="design",
            name="Design 1",
            frame="map",
            kind=("vector", "vector", "vector", "sighting"),
            at=("A1", "A2", "A3", "B1"),
            to=("B1", "B2", "B3", "B3"),
            marks=tuple((name, *places[name]) for name in ("B1", "B2", "B3")),
        ),
        MarkVelocity(id="velocity", mark="B1", frame="map", east_m=0.0, north_m=0.0, up_m=0.001),
    ]


def _in_frame(spec: FrameSpec, middle: tuple[float, float], angle_style: str) -> Callable[[Path], Job]:
    def make(path: Path) -> Job:
        info, *records = survey(spec, middle, angle_style)
        job = Job.create(path, "Survey", records, frame="map")
        from fenwind.records.entries import amend

        job.record("Angles", [amend(job.state.info, angle_style=info.angle_style)])  # type: ignore
        return job

    return make


def _own_plane(path: Path) -> Job:
    """No datum, no heights: setups and a traverse on a plane that nobody tied to the earth."""
    spec = FrameSpec(name="Site plane", unit="m")
    every = _by_hand(
        {n: np.array(p) for n, p in PLACES.items()}, dict.fromkeys(PLACES, 1.0), np.random.default_rng(12)
    )
    kept: list[Record] = [FrameRecord(id="map", spec=spec), *_control(spec, (5000.0, 8000.0), heights=False)]
    for record in every:
        if isinstance(record, TraverseBook):
            kept.append(replace(record, dh_m=(None,) * len(record.here), grid=False))
        elif isinstance(record, Setup):
            kept.append(replace(record, heights=False, grid=False, word="free"))
        elif isinstance(record, InstrumentModel | TapedDistance):
            kept.append(record)
    return Job.create(path, "Own plane", kept, frame="map")


US_FEET = FrameSpec(name="NAD83 / Colorado North", crs="EPSG:2231", unit="ftUS")
SOUTH_WEST = FrameSpec(name="Hartebeesthoek94 / Lo29", crs="EPSG:2053", axis_order="EN")
PARIS = FrameSpec(name="NTF (Paris) / Lambert zone II", crs="EPSG:27572")
WORLDS: tuple[World, ...] = (
    World("demo", _demo),
    World("control only", _control_only),
    World("us feet", _in_frame(US_FEET, (950_000.0, 380_000.0), "degrees")),
    World("south west", _in_frame(SOUTH_WEST, (-20_000.0, -2_860_000.0), "degrees")),
    World("paris grads", _in_frame(PARIS, (600_000.0, 2_200_000.0), "gon")),
    World("own plane", _own_plane),
)
