"""Setups read from files, on known marks, and oriented by azimuths."""

import math
from typing import Any, ClassVar

import numpy as np

from fenwind.doubts.of_job import Judge
from fenwind.errors import FenwindError
from fenwind.exchange.setup_csv import read_sightings, setup_record
from fenwind.geodesy.frames import FrameSpec
from fenwind.job.job import Job
from fenwind.job.setup_gestures import (
    set_azimuth,
    take_setup,
)  # fmt: skip
from fenwind.job.steps.known_places import KnownPlace, _add
from fenwind.procedures.positions import Positions
from fenwind.procedures.resection import (
    ResectionOptions,
    case_of,
    part_of,
    reduce,
)  # fmt: skip
from fenwind.procedures.side_shots import oriented, side_shots
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.records.records import FrameRecord, GivenPosition, Mark
from fenwind.records.setups import Setup
from tests.job.test_setup_tools import MARKS, sighting
from tests.support import CommandCase


class FromFiles(CommandCase):
    SHOTS = (
        "target,hz_deg,za_deg,sd,ht,prism_mm\nA,10-00-00,91.2,148.1,1.5,0\nB,80.0,88.6,120.4,1.5,0\n"
        "C,150.5,92.9,128.8,1.5,0\nX,200.0,90.0,55.5,1.2,\n"
    )

    def job(self) -> Job:
        spec = FrameSpec(name="site")
        marks = [Mark(id=n.lower(), name=n) for n in MARKS]
        given = [
            GivenPosition(id=f"g{n}", mark=n.lower(), frame="f", e_m=e, n_m=m, height_m=h)
            for n, (e, m, h) in MARKS.items()
        ]
        job = Job.create(
            self.path("j.fenwind"), "site", [FrameRecord(id="f", spec=spec), *marks, *given], "f"
        )
        self.addCleanup(job.close)
        return job

    def test_the_same_as_the_command(self) -> None:
        path = self.write("s.csv", self.SHOTS)
        job = self.job()
        job.record(
            *take_setup(job.state, setup_record(read_sightings(path), path), "S", 1.6, "f", set(MARKS))
        )
        found = next(iter(self.derive(job).of_kind("setup").values()))
        only = self.write("o.csv", "\n".join(self.SHOTS.splitlines()[:4]) + "\n")
        rows = [f"{n},{e},{m},{h}" for n, (e, m, h) in MARKS.items()]
        control = self.write("c.csv", "\n".join(["name,e,n,h", *rows, ""]))
        wanted = self.run_json("resect", only, control, "--hi", "1.6", "--heights", code=1)
        f = found.found
        np.testing.assert_allclose([f.e, f.n, f.h], [wanted[k] for k in "enh"], atol=1e-9)
        np.testing.assert_allclose(f.covariance, wanted["covariance"], rtol=1e-9)
        self.assertEqual([found.names[k] for k in found.new.names], ["S", "X"])
        # X by hand: orientation and a level sight of 55.5 m, 1.6 over the mark and 1.2 over X.
        turn = math.radians(200.0) + f.orientation
        i = found.new.names.index(job.state.mark_named("X").id)
        np.testing.assert_allclose(
            [found.new.e_m[i], found.new.n_m[i], found.new.height_m[i]],
            [f.e + 55.5 * math.sin(turn), f.n + 55.5 * math.cos(turn), f.h + 0.4], atol=5e-4,
        )  # fmt: skip

    def test_refusals(self) -> None:
        path = self.write("s.csv", self.SHOTS)
        job, record = self.job(), setup_record(read_sightings(path), path)
        for station, frame, words in (
            ("A", "f", "from itself"), ("S", "none", "no frame"), ("", "f", "name"),
        ):  # fmt: skip
            with self.subTest(station=station), self.assertRaisesRegex(FenwindError, words):
                take_setup(job.state, record, station, 1.6, frame, ())


class WhatIsKnown(CommandCase):
    def test_what_is_given_comes_before_what_was_adjusted(self) -> None:
        def at(e: float) -> Positions:
            return Positions(
                names=("a",), e_m=np.array([e]), n_m=np.array([0.0]), height_m=np.array([np.nan]),
                covariance=np.full((3, 3, 1), np.nan),
            )  # fmt: skip

        places: dict[str, KnownPlace] = {}
        _add(places, at(1.0), "given", False)
        _add(places, at(2.0), "adjusted", False)
        self.assertEqual((places["a"].origin, float(places["a"].at[0])), ("given", 1.0))


class ByAzimuth(CommandCase):
    """A known station, or one known mark with a distance, turned by a spire whose azimuth alone is known."""

    TRUTH: ClassVar = {"S": (500000.0, 6300000.0, 120.0), "A": (500180.0, 6299930.0, 131.0)}
    TURN, SPIRE, NEW = 2.2, math.radians(301.5), (500050.0, 6300075.0, 118.0)

    def job_of(self, word: str, known: str, azimuth_of: int | None = 0) -> Any:
        s = np.array(self.TRUTH["S"])
        shots = []
        for to in (None, self.TRUTH["A"], self.NEW):
            d = (
                np.array(to) - s
                if to is not None
                else np.array([math.sin(self.SPIRE), math.cos(self.SPIRE), 0.0])
            )
            hd = math.hypot(d[0], d[1])
            shots.append((math.atan2(d[0], d[1]) - self.TURN, math.atan2(hd, d[2]), math.hypot(hd, d[2])))
        setup = Setup(
            id="x", name="Setup 1", frame="f", station="s", word=word, target=("p", "a", "n"), k=0.13,
            direction_rad=tuple(v[0] % math.tau for v in shots), zenith_rad=(None, shots[1][1], shots[2][1]),
            distance_m=(None, shots[1][2], shots[2][2]), target_height_m=(0.0,) * 3, prism_m=(0.0,) * 3,
            face=(1, 1, 1), grid=False, use=((1, "off"),) if known == "S" else (),
            azimuths=() if azimuth_of is None else ((azimuth_of, self.SPIRE),),
        )  # fmt: skip
        e, n, h = self.TRUTH[known]
        records = [
            FrameRecord(id="f", spec=FrameSpec(name="plane")),
            *(Mark(id=key, name=key.upper()) for key in "spna"),
            GivenPosition(id="g", mark=known.lower(), frame="f", e_m=e, n_m=n, height_m=h), setup,
        ]  # fmt: skip
        return Job.create(self.path(f"{word}{azimuth_of}.fenwind"), "azimuth", records, "f")

    def test_it_turns_the_circle(self) -> None:
        for word, known in (("known", "S"), ("free", "A")):
            job = self.job_of(word, known)
            self.addCleanup(job.close)
            derived = self.derive(job)
            found = derived.of_kind("setup")["x"]
            with self.subTest(word):
                self.assertNotIsInstance(found, FenwindError)
                self.assertEqual(found.part[0], "held")
                off = (found.found.orientation - self.TURN + math.pi) % math.tau - math.pi
                self.assertAlmostEqual(off, 0.0, delta=1e-9)
                place = {k: found.new.e_m[i] for k, i in found.new.index.items()}
                self.assertAlmostEqual(place["n"], self.NEW[0], delta=1e-3)
                self.assertNotIn("p", place, "a spire without a distance stays nowhere")
                # Its direction alone turns it: 5 seconds, and where the circle is turned by it alone no more.
                if word == "known":
                    self.assertAlmostEqual(found.found.sigma_orientation / RAD_PER_SECOND, 5.0, 6)
                else:
                    self.assertAlmostEqual(place["s"], self.TRUTH["S"][0], delta=1e-3)
                    self.assertEqual(found.found.dof, 0)
                job.record(*set_azimuth(job.state.of(Setup)["x"], [0], self.SPIRE + 1e-4))
                moved = self.derive(job).of_kind("setup")["x"].found.orientation
                self.assertAlmostEqual(moved - found.found.orientation, 1e-4, delta=1e-8)
                job.record(*set_azimuth(job.state.of(Setup)["x"], [0], None))
                self.assertIsInstance(self.derive(job).of_kind("setup")["x"], FenwindError)
                rules = [d.rule for d in Judge().judge(job.state, derived).open]
                self.assertNotIn("resect.danger-circle", rules)
                self.assertNotIn("resect.weak", rules)


class OnAKnownMark(CommandCase):
    def test_orientation_and_side_shots_against_a_simulation(self) -> None:
        """4,000 draws of station, directions and distances: orientation and a side shot spread as stated."""
        rng = np.random.default_rng(12)
        station, sigma = np.array([100.0, 200.0, 10.0]), 0.005
        known = np.array([[400.0, 150.0], [500.0, -100.0], [20.0, 5.0]])
        options = ResectionOptions(heights=True)
        found = []
        for _ in range(4000):
            at = station + sigma * rng.standard_normal(3)
            turn = 0.7
            shots = []
            for k in range(3):
                to = known[:, k] if k < 2 else np.array([160.0, 260.0, 12.0])
                # The instrument really stands at `station`; the job believes `at`.
                d = to - station
                hd = math.hypot(d[0], d[1])
                z = math.atan2(hd, d[2]) + options.sigma_zenith * rng.standard_normal()
                s = math.hypot(hd, d[2])
                hz = math.atan2(d[0], d[1]) - turn + options.sigma_direction * rng.standard_normal()
                s += 0.003 * rng.standard_normal()
                shots.append((f"M{k}", hz, z, s))
            r = reduce([sighting(*shot) for shot in shots], options)
            case = case_of(r, np.column_stack([known, [np.nan] * 3]), True)
            one = oriented(part_of(case, np.array([True, True, False])), at, sigma**2 * np.eye(3))
            side = side_shots(one, r)
            found.append((one.orientation, *side.position[:2, 2]))
        spread = np.var(np.array(found), axis=0)
        stated = (one.sigma_orientation**2, *np.diag((side.own + side.shared)[:, :, 2])[:2])
        np.testing.assert_allclose(spread / stated, 1.0, atol=0.09)
