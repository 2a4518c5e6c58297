"""The control network of the Tarnholt demo, made up: static vectors between the dam's marks, rounds of
directions, zenith angles and distances at the portal, and levelling along the access road, from a seed."""

from __future__ import annotations

import math
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.geoid import GeoidGrid
from fenwind.procedures.network_model import Network, computed, positions_of
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.records.network import DesignStep, NetworkStep, ObservationSet
from fenwind.records.records import Mark, Record
from fenwind.standins.tarnholt import GRID_FILE, records
from fenwind.standins.tarnholt_days import true_places

FloatArray = NDArray[np.float64]

SEED = 1251
_VECTORS = (
    "T-01 T-02", "T-02 T-03", "T-03 T-07", "T-07 T-09", "T-09 T-08", "T-08 T-06", "T-06 T-05", "T-05 T-01",
    "T-02 T-04", "T-04 T-07", "T-04 T-05", "T-05 T-08", "T-04 T-09", "T-01 T-06",
)  # fmt: skip
#: Instrument height and what was sighted, with target heights, at the setups around the portal.
_SETUPS: dict[str, tuple[float, dict[str, float]]] = {
    "T-09": (1.561, {"T-04": 1.3, "P-11": 1.6, "P-12": 1.6, "T-07": 1.3}),
    "P-11": (1.612, {"T-09": 1.3, "P-12": 1.6, "T-08": 1.3, "T-04": 1.3}),
    "P-12": (1.588, {"P-11": 1.6, "T-09": 1.3, "T-08": 1.3}),
}
_LEVELLED = ("T-09 P-11", "P-11 P-12", "P-12 T-08", "T-08 T-09")
DIRECTION_S, ZENITH_S = 3.0, 4.0


def network(folder: Path) -> list[Record]:
    """The observations and the step that adjusts them on the map."""
    places = true_places()
    net = Network(
        rows=(), control={}, dimensions=3, plane=False, geoid=GeoidGrid(str(folder / GRID_FILE)).height
    )
    rng = np.random.default_rng(SEED)
    rows: list[dict[str, Any]] = []

    def value(kind: str, at: str, to: str, hi: float, ht: float) -> FloatArray:
        ends = [np.array(places[n])[:, None] for n in (at, to)]
        a, b = (positions_of(net, end) for end in ends)
        found = computed(net, kind, a, b, a, np.array([hi]), np.array([ht]))
        return np.asarray(found)[:, 0]

    def observed(kind: str, at: str, to: str, sigma: float, hi: float = 0.0, ht: float = 0.0, setup: str = "",
                 turn: float = 0.0) -> None:  # fmt: skip
        true = float(value(kind, at, to, hi, ht)[0]) + turn
        noisy = true + sigma * rng.standard_normal()
        noisy = noisy % (2.0 * math.pi) if kind == "direction" else noisy
        rows.append(
            dict(kind=kind, at=at, to=to, hi=hi, ht=ht, setup=setup, value=(noisy,), covariance=(sigma**2,))
        )

    for pair in _VECTORS:
        at, to = pair.split()
        true = value("vector", at, to, 0.0, 0.0)
        sigma = 0.003 + 0.5e-6 * float(np.linalg.norm(true))
        c = sigma**2
        noisy = true + sigma * rng.standard_normal(3)
        rows.append(
            dict(kind="vector", at=at, to=to, hi=0.0, ht=0.0, setup="", value=tuple(noisy.tolist()),
                 covariance=(c, 0.0, 0.0, c, 0.0, c))
        )  # fmt: skip
    for at, (hi, targets) in _SETUPS.items():
        turn = float(rng.uniform(0.0, 2.0 * math.pi))
        for to, ht in targets.items():
            observed("direction", at, to, DIRECTION_S * RAD_PER_SECOND, hi, ht, f"{at} 1", turn)
            observed("zenith", at, to, ZENITH_S * RAD_PER_SECOND, hi, ht)
            observed("distance", at, to, 0.002, hi, ht)
    for pair in _LEVELLED:
        at, to = pair.split()
        observed("height_difference", at, to, 0.0012)
    return [_set(rows), NetworkStep(id="net-1", name="Network 1", frame="map", observations="net-1-rows")]


#: Pillars that are planned over the east slope, on the map.
_PILLARS = {
    "W-1": (464_180.0, 6_796_880.0, 1271.0), "W-2": (464_260.0, 6_796_420.0, 1266.5),
    "W-3": (463_990.0, 6_796_590.0, 1252.0),
}  # fmt: skip
_PLANNED = (
    "vector T-02 W-1", "vector T-01 W-1", "vector T-02 W-2", "vector W-1 W-2", "vector W-2 W-3",
    "sighting W-1 W-2", "sighting W-1 W-3", "sighting W-2 W-3", "levelling W-1 W-3",
)  # fmt: skip


def design() -> list[Record]:
    """Three pillars to watch the east slope from, planned and not observed yet."""
    known = {mark.name: mark.id for mark in records(planted=True) if isinstance(mark, Mark)}
    marks = [Mark(id=f"pillar-{name}", name=name, code="PL") for name in _PILLARS]
    ids = known | {mark.name: mark.id for mark in marks}
    kind, at, to = zip(*(line.split() for line in _PLANNED), strict=True)
    step = DesignStep(
        id="design-1", name="Design 1", frame="map", kind=kind, at=tuple(ids[n] for n in at),
        to=tuple(ids[n] for n in to), marks=tuple((ids[n], *where) for n, where in _PILLARS.items()),
        limit_m=0.006,
    )  # fmt: skip
    return [*marks, step]


def _set(rows: list[dict[str, Any]]) -> ObservationSet:
    def column(key: str) -> tuple[Any, ...]:
        return tuple(row[key] for row in rows)

    one = ObservationSet(id="net-1-rows", name="Tarnholt 2026", source="field book 3 (made up)")
    empty = ("",) * len(rows)
    return replace(
        one, line=tuple(range(2, len(rows) + 2)), kind=column("kind"), at=column("at"), to=column("to"),
        back=empty, setup=column("setup"), group=column("kind"), hi_m=column("hi"), ht_m=column("ht"),
        value=column("value"), covariance=column("covariance"),
    )  # fmt: skip
