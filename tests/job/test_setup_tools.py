"""Figures and tools of a setup: what one more target brings, tapes, offsets, pictures."""

import math
import unittest
from dataclasses import replace
from typing import Any, ClassVar

import numpy as np

from fenwind.errors import ParseError, ProcedureError
from fenwind.geodesy.frames import FrameSpec
from fenwind.geodesy.refraction import EARTH_RADIUS_M
from fenwind.job.job import Job
from fenwind.job.network_gestures import adjust_everything
from fenwind.job.steps.reductions import reductions
from fenwind.job.tool_gestures import keep_instrument, observed_with, tape
from fenwind.procedures.resection import (
    ResectionOptions,
    Sighting,
    case_of,
    reduce,
    solve,
    with_known_sigmas,
)  # fmt: skip
from fenwind.procedures.setup_figure import largest_gap, plan_sigma, with_one_more
from fenwind.procedures.side_shots import pointing
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.quantities.lengths import METRE
from fenwind.records.entries import Add, amend
from fenwind.records.records import FrameRecord, GivenPosition, Mark
from fenwind.records.setups import Setup
from fenwind.records.tools import InstrumentModel, TapedDistance
from tests.support import CommandCase

MARKS = {"A": (1000.0, 2000.0, 50.0), "B": (1180.0, 2090.0, 61.0), "C": (1060.0, 1870.0, 44.0)}


def sighting(target: str, hz: float, z: float, s: float) -> Sighting:
    return Sighting(target=target, direction=hz, zenith=z, distance=s)


class Figures(unittest.TestCase):
    def test_one_more_target_equals_solving_again(self) -> None:
        marks = {**MARKS, "D": (700.0, 2300.0, 51.0)}
        options = ResectionOptions(instrument_height=0.0, heights=False, sigma_direction=2e-5, plane=True)
        shots = [
            sighting(name, math.atan2(e, n), math.pi / 2, math.hypot(e, n))
            for name, e, n in ((name, e - 1090.0, n - 1990.0) for name, (e, n, _) in marks.items())
        ]

        def solved(count: int) -> tuple[Any, Any]:
            known = np.array([*marks.values()])[:count].T
            case = case_of(reduce(shots[:count], options), known, False)
            return case, solve(case, "fixed")

        case, found = solved(3)
        places = np.array([marks["D"][:2], (1095.0, 1992.0)]).T
        hz, za = pointing(replace(found, h=100.0), np.array([1180.0, 2090.0, 150.0]), 1.5, 3.5)
        self.assertAlmostEqual((hz + found.orientation) % math.tau, math.atan2(90.0, 100.0), 6)
        self.assertAlmostEqual(za, math.atan2(math.hypot(90.0, 100.0), 52.0), 6)
        after = with_one_more(found, places, np.zeros(2), options)
        self.assertAlmostEqual(float(after[0]) / plan_sigma(solved(4)[1].covariance), 1.0, 4)
        four = solved(4)[0]
        own = np.zeros((3, 3, 4))
        own[[0, 1], [0, 1], 3] = 0.004**2  # what D itself is known to
        loose = with_known_sigmas(four.reduced, four.known, own, np.array([found.e, found.n]))
        less = float(with_one_more(found, places, np.full(2, 0.004), options)[0])
        self.assertAlmostEqual(
            less / plan_sigma(solve(replace(four, reduced=loose), "fixed").covariance), 1.0, 4
        )
        self.assertGreater(less, float(after[0]))
        self.assertLess(float(after[1]), plan_sigma(found.covariance))
        azimuths = sorted(
            math.degrees(math.atan2(e - 1090.0, n - 1990.0)) % 360.0 for e, n, _ in MARKS.values()
        )
        gaps = [(b - a) % 360.0 for a, b in zip(azimuths, [*azimuths[1:], azimuths[0]], strict=True)]
        self.assertAlmostEqual(math.degrees(largest_gap(case, found)), max(gaps), 6)


class Tools(CommandCase):
    """An instrument with 20 seconds of collimation and 30 of index, kept from a setup in both faces and used
    for one in face 1; distances by tape."""

    KNOWN: ClassVar = {
        "A": (500200.0, 6300010.0, 160.0), "B": (499900.0, 6300140.0, 118.0),
        "C": (500030.0, 6299850.0, 101.0),
    }  # fmt: skip
    C, INDEX = 20.0 * RAD_PER_SECOND, -30.0 * RAD_PER_SECOND

    def setup_of(self, key: str, faces: tuple[int, ...]) -> Setup:
        station, shots = np.array([500000.0, 6300000.0, 120.0]), []
        for name, place in self.KNOWN.items():
            d = np.array(place) - station
            hd, curve = math.hypot(d[0], d[1]), 0.87 / (2.0 * EARTH_RADIUS_M)
            za = math.atan2(hd, d[2]) + hd * curve
            for face in faces:
                sign = 1.0 if face == 1 else -1.0
                hz = (
                    math.atan2(d[0], d[1])
                    - 0.5
                    + (0.0 if face == 1 else math.pi)
                    + sign * self.C / math.sin(za)
                )
                read = (za if face == 1 else math.tau - za) + self.INDEX
                shots.append((name.lower(), hz % math.tau, read, math.hypot(hd, d[2]), face))
        target, hz, za, sd, face = zip(*shots, strict=True)
        return Setup(
            id=key, name=key, frame="f", station=f"at-{key}", target=target, direction_rad=hz, zenith_rad=za,
            distance_m=sd, target_height_m=(0.0,) * len(sd), prism_m=(0.0,) * len(sd), face=face, grid=False,
            sigma_direction_s=1.5, sigma_zenith_s=2.5, sigma_distance_m=0.001, sigma_distance_ppm=1.5,
        )  # fmt: skip

    def job_of(self) -> Job:
        records: list[Any] = [FrameRecord(id="f", spec=FrameSpec(name="plane"))]
        for name, (e, n, h) in self.KNOWN.items():
            records.append(Mark(id=name.lower(), name=name))
            records.append(
                GivenPosition(id=f"g{name}", mark=name.lower(), frame="f", e_m=e, n_m=n, height_m=h)
            )
        records += [Mark(id=f"at-{key}", name=f"St {key}") for key in ("one", "two")]
        records += [self.setup_of("two", (1, 2)), replace(self.setup_of("one", (1,)), sigma_zenith_s=9.0)]
        job = Job.create(self.path("tools.fenwind"), "tools", records, "f")
        self.addCleanup(job.close)
        return job

    def test_what_both_faces_gave_is_taken_off_one(self) -> None:
        job = self.job_of()
        found = self.derive(job).of_kind("setup")
        two, one = found["two"], found["one"]
        self.assertAlmostEqual(two.reduced.collimation, self.C, delta=1e-9)
        self.assertAlmostEqual(two.found.h, 120.0, delta=5e-4)
        self.assertGreater(abs(one.found.h - 120.0), 0.015, "30 seconds in 150 m")
        with self.assertRaises(ProcedureError):
            observed_with(job.state, job.state.of(Setup)["one"], "TS-7")
        job.record(*keep_instrument(job.state, two, " TS-7 "))
        (kept,) = job.state.of(InstrumentModel).values()
        self.assertEqual((kept.name, kept.sigma_direction_s, kept.sigma_distance_ppm), ("TS-7", 1.5, 1.5))
        self.assertAlmostEqual(kept.index_rad or 0.0, self.INDEX, delta=1e-9)
        job.record(*observed_with(job.state, job.state.of(Setup)["one"], "ts-7"))
        setup = job.state.of(Setup)["one"]
        self.assertEqual((setup.instrument, setup.sigma_zenith_s), (kept.id, 2.5))
        after = self.derive(job).of_kind("setup")["one"]
        self.assertAlmostEqual(after.found.h, 120.0, delta=5e-4)
        self.assertAlmostEqual(after.found.orientation - 0.5, 0.0, delta=5e-7)
        lines = [figures.terms for figures in reductions(after, 0)]
        self.assertIn(("collimation", kept.collimation_rad, "seconds"), lines[1])
        on_grid = replace(after.reduced, direction=after.reduced.direction + 3.0e-5)  # t - T of 6.2 seconds
        *_, told = (figures.terms for figures in reductions(replace(after, reduced=on_grid), 0))
        ((_, turned, _),) = [term for term in told if term[0] == "arc to chord"]
        self.assertAlmostEqual(turned, 3.0e-5, 12)
        by_hand = replace(self.setup_of("three", (1,)), instrument=kept.id, sigma_direction_s=9.0)
        job.record("x", (Add(record=by_hand), amend(job.state.of(Setup)["two"], sigma_direction_s=2.0)))
        gesture = keep_instrument(job.state, self.derive(job).of_kind("setup")["two"], "TS-7")
        self.assertEqual(gesture.what, "Instrument TS-7, and of 1 more setup")
        job.record(*gesture)
        self.assertEqual(len(job.state.of(InstrumentModel)), 1, "one of that name is amended")
        sigmas = {key: one.sigma_direction_s for key, one in job.state.of(Setup).items()}
        self.assertEqual(sigmas, {"one": 2.0, "two": 2.0, "three": 9.0}, "but what was said by hand stays")

    def test_distances_by_tape(self) -> None:
        job = self.job_of()
        job.record(*tape(job.state, "A, B, 326.9, 35", METRE))
        job.record(*tape(job.state, "A, Q, 100 ft, h", METRE))
        one, two = job.state.of(TapedDistance).values()
        self.assertAlmostEqual(one.true_m, 326.9 * (1.0 + 1.16e-5 * 15.0), 9)
        self.assertAlmostEqual(one.variance_m2, 0.003**2 + (50e-6 * 326.9) ** 2, 15)
        self.assertEqual((two.slope, two.temperature_c, two.length_m), (False, None, 30.48))
        self.assertEqual(job.state.mark_name(two.second), "Q")
        job.record(*adjust_everything(job.state, "f"))
        (net,) = self.derive(job).of_kind("network").values()
        row = net.observations.group.index("taped distances")
        self.assertEqual(
            (net.observations.kind[row], net.observations.value[row]), ("distance", (one.true_m,))
        )
        flat = net.observations.kind.index("horizontal_distance")
        self.assertEqual((net.observations.value[flat], net.missing), ((30.48,), ()))
        for text in ("A, B", "A, A, 3", "A, B, -3", "A, B, 3, h, h", "A, B, 3, 12, 13", "A, B, 3, 99", "A,,3",
                     "A, B, far", "A, B, 20000"):  # fmt: skip
            with self.assertRaises(ParseError, msg=text):
                tape(job.state, text, METRE)


class Drawn(unittest.TestCase):
    def test_a_thousand_setups_by_targets_of_their_own_weight(self) -> None:
        """Targets are drawn as well as they are known (one 20 mm, the others 2 to 5), sightings as they are
        stated: places and orientations spread as their covariance says, and 95 % regions hold."""
        rng = np.random.default_rng(5)
        truth = np.array([[0.0, 300.0, 250.0, -150.0], [280.0, 90.0, -210.0, -120.0], [5.0, 20.0, -8.0, 0.0]])
        sigma = np.array([0.002, 0.020, 0.004, 0.005])
        known_to = np.stack([np.diag([s**2, s**2, s**2]) for s in sigma], axis=2)
        options = ResectionOptions(heights=True)
        d = truth - np.array([20.0, 30.0, 1.0])[:, None]
        hd, turn = np.hypot(d[0], d[1]), 1.1
        off, inside = [], 0
        for _ in range(1000):
            hz = np.arctan2(d[0], d[1]) - turn + options.sigma_direction * rng.standard_normal(4)
            z = np.arctan2(hd, d[2]) + (options.k - 1.0) * hd / (2.0 * EARTH_RADIUS_M) * -1.0
            z = z + options.sigma_zenith * rng.standard_normal(4)
            slope = np.hypot(hd, d[2])
            spread = options.sigma_distance_m + options.sigma_distance_ppm * 1e-6 * slope
            s = slope + spread * rng.standard_normal(4)
            at = truth + sigma * rng.standard_normal((3, 4))
            r = reduce([sighting(f"M{k}", hz[k], z[k], s[k]) for k in range(4)], options)
            r = with_known_sigmas(r, at, known_to, np.array([20.0, 30.0]))
            one = solve(case_of(r, at, True), "fixed", np.array([20.0, 30.0, turn]))
            away = np.array([one.e - 20.0, one.n - 30.0, one.h - 1.0])
            off.append((*away, one.orientation - turn))
            plane = away[:2] @ np.linalg.solve(one.covariance[:2, :2], away[:2])
            inside += plane <= 5.991
        found = np.array(off)
        stated = (*np.diag(one.covariance), one.sigma_orientation**2)
        np.testing.assert_allclose(np.var(found, axis=0) / stated, 1.0, atol=0.15)
        np.testing.assert_allclose(found.mean(axis=0) / np.sqrt(stated), 0.0, atol=0.12)
        self.assertTrue(930 <= inside <= 970, inside)
