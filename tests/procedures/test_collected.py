"""Traverses collected from setups: every angle and leg from simulated sightings of a known truth."""

import math
import unittest

import numpy as np

from fenwind.errors import ProcedureError
from fenwind.geodesy.refraction import EARTH_RADIUS_M
from fenwind.procedures.collected import Station, collect
from fenwind.procedures.resection import ResectionOptions, Sighting, reduce
from fenwind.procedures.traverse import Ends, Traverse, solve, taken_apart

#: South and west of the origin, with slopes.
TRUTH = {
    "A": (-800.0, -500.0, 95.0), "S1": (-500.0, -480.0, 100.0), "S2": (-210.0, -300.0, 131.0),
    "S3": (95.0, -410.0, 118.0), "S4": (420.0, -250.0, 90.0), "B": (700.0, -10.0, 101.0),
    "P": (-200.0, -100.0, 140.0),
}  # fmt: skip
HI = {"S1": 1.52, "S2": 1.61, "S3": 1.48, "S4": 1.55}
#: Refraction that there is, and the one that is assumed.
TRUE_K, K = 0.33, 0.13
SIGHTS = {"S1": ("A", "S2"), "S2": ("S1", "S3", "P"), "S3": ("S2", "S4"), "S4": ("S3", "B")}


def sighted(here: str, there: str, circle: float, face: int = 1) -> Sighting:
    """A sighting without noise; the ray is bent by TRUE_K, the target stands 1.3 m high."""
    a, b = (np.array(TRUTH[name]) for name in (here, there))
    de, dn, rise = b - a + np.array([0.0, 0.0, 1.3 - HI[here]])
    flat = math.hypot(de, dn)  # at the mean height, which is what the plane has
    mean = 0.5 * (a[2] + b[2] + HI[here] + 1.3)
    flat *= 1.0 + (0.5 * (a[2] + b[2]) - mean) / EARTH_RADIUS_M
    slope = math.hypot(flat, rise)
    zenith = math.atan2(flat, rise) + (1.0 - TRUE_K) * slope / (2.0 * EARTH_RADIUS_M)
    direction = math.atan2(de, dn) - circle
    if face == 2:
        direction, zenith = direction + math.pi, 2.0 * math.pi - zenith
    return Sighting(
        target=there, direction=direction % (2.0 * math.pi), zenith=zenith, distance=slope,
        target_height=1.3, face=face,
    )  # fmt: skip


def station(here: str, sights: tuple[str, ...], circle: float = 0.7) -> Station:
    shots = [sighted(here, there, circle, face) for there in sights for face in (1, 2)]
    return Station(
        name=here, reduced=reduce(shots, ResectionOptions(instrument_height=HI[here], heights=True, k=K))
    )


def walk(**changes: tuple[str, ...]) -> list[Station]:
    sights = SIGHTS | changes
    return [station(name, sights[name], 0.3 * k) for k, name in enumerate(sights)]


class Collecting(unittest.TestCase):
    def test_a_link_between_known_marks(self) -> None:
        found = collect(walk(), {"A", "S1", "S4", "B"})
        self.assertEqual((found.back, found.close, found.fore), ("A", "S4", "B"))
        self.assertEqual([(r.here, r.there) for r in found.rows], [
            ("S1", "S2"), ("S2", "S3"), ("S3", "S4"), ("S2", "P"),
        ])  # fmt: skip
        names, legs, shots = taken_apart(found.rows, "S1", "S4")
        line = math.atan2(-300.0, -20.0)  # from S1 to A
        fore = math.atan2(280.0, 240.0)  # from S4 to B
        ends = Ends(start=TRUTH["S1"], close=TRUTH["S4"], start_line=line, closing_line=fore,
                    closing_angle=found.closing_angle)  # fmt: skip
        result = solve(Traverse(names=names, legs=legs, shots=shots, ends=ends))
        self.assertLess(abs(result.angular), 1e-9)
        np.testing.assert_allclose(result.misclosure, 0.0, atol=2e-4)
        np.testing.assert_allclose(result.adjusted.T, [TRUTH[n] for n in names], atol=2e-4)
        # A side shot goes one way only: the wrong refraction stays in its height, of 200 m.
        bent = (TRUE_K - K) * (200.0**2 + 10.0**2) / (2.0 * EARTH_RADIUS_M)
        high = np.array(TRUTH["P"]) + np.array([0.0, 0.0, bent])
        np.testing.assert_allclose(result.shots[:, 0], high, atol=2e-4)
        for leg in found.apart:
            length = math.dist(TRUTH[leg.here][:2], TRUTH[leg.there][:2])
            # Forward plus back of the height differences is twice what refraction left in each.
            self.assertAlmostEqual(leg.dh, (TRUE_K - K) * length**2 / EARTH_RADIUS_M, delta=2e-4)
            self.assertAlmostEqual(leg.distance, 0.0, delta=5e-4)  # the bent ray, up and down hill

    def test_one_way_and_open_and_round(self) -> None:
        found = collect(walk(S2=("S1", "S3"), S3=("S2",))[:3], {"A", "S1"})
        self.assertEqual((found.close, found.fore, found.closing_angle), ("", "", None))
        self.assertTrue(all(math.isfinite(leg.distance) for leg in found.apart))
        sights = {"S1": ("A", "S2", "S4"), "S2": ("S1", "S3"), "S3": ("S2", "S4"), "S4": ("S3", "S1")}
        loop = collect(walk(**sights), {"A", "S1"})
        self.assertEqual((loop.close, loop.fore, len(loop.rows)), ("S1", "A", 4))
        turn = math.atan2(-300.0, -20.0) - math.atan2(920.0, 230.0)  # at S1, from S4 to A
        self.assertAlmostEqual(loop.closing_angle or 0.0, turn % (2.0 * math.pi), 9)
        self.assertTrue(all(math.isfinite(leg.distance) for leg in loop.apart), "the last leg both ways")
        ends = collect(walk(S4=("S3", "B"))[:4], {"A", "S1", "B"})
        self.assertEqual((ends.close, ends.rows[3].there, ends.closing_angle), ("B", "B", None))

    def test_what_breaks_off(self) -> None:
        known = {"A", "S1", "S4", "B"}
        off = walk()
        off[1] = Station(name="S2", reduced=off[1].reduced, off={0, 1})
        for stations, words in (
            (walk()[:1], "one setup"), (off, "S1 was not sighted from S2"),
            ([*walk(), walk()[0]], "two setups"),
            (walk(S1=("S2",)), "nothing but the next station was sighted from S1"),
        ):  # fmt: skip
            with self.assertRaises(ProcedureError) as said:
                collect(stations, known)
            self.assertIn(words, str(said.exception))
