"""A traverse to the tunnel portal and levelling along the crest road of the Tarnholt demo, made up, from a
seed. One booked angle has two of its digits exchanged."""

from __future__ import annotations

import math
from itertools import pairwise

import numpy as np

from fenwind.quantities.angles import RAD_PER_GON, RAD_PER_SECOND
from fenwind.records.lines import LevelBook, TraverseBook
from fenwind.records.records import Mark, Record
from fenwind.standins.tarnholt import truth

SEED = 1968
#: Stations of the traverse and a side shot: places in the dam grid and heights in its datum, metres.
PLACES = {
    "V-01": (1938.0, 1700.0, 1236.28), "V-02": (1771.6, 1648.3, 1231.07),
    "V-03": (1588.2, 1721.9, 1228.61), "V-04": (1430.5, 1679.7, 1232.44), "V-11": (1612.9, 1702.4, 1229.30),
}  # fmt: skip
WALK = ("T-07", "V-01", "V-02", "V-03", "V-04", "T-08")
BACK, FORE = "T-03", "T-06"
#: The station whose angle was booked wrong, and which two of its digits (counted from the first).
SLIP = ("V-02", 5)
ROAD = ("T-01", "P-01", "P-02", "T-02", "P-03", "T-03")


def lines() -> list[Record]:
    """The traverse and the levelling with their marks."""
    rng = np.random.default_rng(SEED)
    true = truth()
    rows = zip(true.names, true.dam_e_m, true.dam_n_m, true.dam_height_m, strict=True)
    at = {name: np.array([e, n, h]) for name, e, n, h in rows}
    at |= {name: np.array(place) for name, place in PLACES.items()}
    marks: list[Record] = [
        Mark(id=n, name=n, mark_class="traverse", monument="stud", description="road to the portal")
        for n in PLACES
    ]
    return [*marks, _traverse(rng, at), _levelling(rng, at)]


def _azimuth(at: dict[str, np.ndarray], here: str, there: str) -> float:
    de, dn, _ = at[there] - at[here]
    return math.atan2(de, dn)


def _angle(rng: np.random.Generator, at: dict[str, np.ndarray], back: str, here: str, there: str) -> float:
    turned = (_azimuth(at, here, there) - _azimuth(at, here, back)) % (2.0 * math.pi)
    gon = (turned + 2.0 * RAD_PER_SECOND * rng.standard_normal()) / RAD_PER_GON
    return round(gon, 4)


def _traverse(rng: np.random.Generator, at: dict[str, np.ndarray]) -> TraverseBook:
    sights = [(b, h, t) for b, h, t in zip((BACK, *WALK), WALK, WALK[1:], strict=False)]
    sights.insert(4, ("V-02", "V-03", "V-11"))
    angles, distances, heights = [], [], []
    for back, here, there in sights:
        gon = _angle(rng, at, back, here, there)
        angles.append((_slipped(gon) if here == SLIP[0] else gon) * RAD_PER_GON)
        e, n, h = (float(v) for v in at[there] - at[here])
        distances.append(round(math.hypot(e, n) + 0.002 * rng.standard_normal(), 4))
        root_km = math.sqrt(distances[-1] / 1000.0)
        heights.append(round(h + 0.003 * root_km * rng.standard_normal(), 4))
    return TraverseBook(
        id="traverse-1", name="Traverse 1", frame="dam", source="field book 5 (made up)",
        here=tuple(s[1] for s in sights), there=tuple(s[2] for s in sights),
        kind=tuple("right" for _ in sights),
        direction_rad=tuple(angles), distance_m=tuple(distances), dh_m=tuple(heights), back=BACK,
        close=WALK[-1], fore=FORE,
        closing_angle_rad=_angle(rng, at, WALK[-2], WALK[-1], FORE) * RAD_PER_GON, balance=True,
    )  # fmt: skip


def _slipped(gon: float) -> float:
    digits, k = list(f"{gon:08.4f}"), SLIP[1]
    digits[k], digits[k + 1] = digits[k + 1], digits[k]
    return float("".join(digits))


def _levelling(rng: np.random.Generator, at: dict[str, np.ndarray]) -> LevelBook:
    runs = [*pairwise(ROAD), *pairwise(reversed(ROAD))]
    lengths = [float(np.hypot(*(at[b] - at[a])[:2])) * 1.2e-3 for a, b in runs]
    dh = [
        float(at[b][2] - at[a][2] + 0.0007 * math.sqrt(k) * rng.standard_normal())
        for (a, b), k in zip(runs, lengths, strict=True)
    ]
    return LevelBook(
        id="levelling-1", name="Levelling 1", frame="dam", source="level book 2 (made up)",
        first=tuple(a for a, _ in runs), second=tuple(b for _, b in runs),
        dh_m=tuple(round(v, 4) for v in dh), length=tuple(round(v, 3) for v in lengths),
    )  # fmt: skip
