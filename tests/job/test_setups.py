"""Setups as steps of a job: against the truth of the demo, against the command, blunders named."""

import math
from typing import Any

import numpy as np

from fenwind.doubts.of_job import Judge
from fenwind.doubts.settling import settle
from fenwind.errors import FenwindError
from fenwind.exchange.setup_csv import read_sightings, setup_record
from fenwind.geodesy.frames import FrameSpec
from fenwind.job.job import Job
from fenwind.job.live_place import LivePlane
from fenwind.job.setup_gestures import change, set_use, take_setup
from fenwind.job.steps.fit import fit_node
from fenwind.job.steps.known_places import KnownPlace, _add
from fenwind.procedures.positions import Positions
from fenwind.procedures.resection import ResectionOptions, Sighting, case_of, part_of, reduce
from fenwind.procedures.side_shots import oriented, side_shots
from fenwind.records.entries import amend
from fenwind.records.records import FrameRecord, GivenPosition, Mark
from fenwind.records.setups import Setup
from fenwind.reports.trail import trail
from fenwind.standins.tarnholt import CENTRE_EN
from fenwind.standins.tarnholt_days import true_places
from fenwind.standins.tarnholt_setups import POINTS, STATION
from tests.support import CommandCase, DemoCase

MARKS = {"A": (1000.0, 2000.0, 50.0), "B": (1180.0, 2090.0, 61.0), "C": (1060.0, 1870.0, 44.0)}


class Demo(DemoCase):
    def found(self, key: str = "setup-1") -> Any:
        return self.derive(self.job).of_kind("setup")[key]

    def setup_of(self, key: str = "setup-1") -> Setup:
        return self.job.state.of(Setup)[key]

    def test_free_and_known_stations_against_the_truth(self) -> None:
        for key, names in (("setup-1", ("St-1", "K-01", "K-03")), ("setup-2", ("K-01", "K-02", "K-03"))):
            found = self.found(key)
            self.assertEqual(found.new.names, names)
            for i, name in enumerate(names):
                with self.subTest(setup=key, name=name):
                    e, n, h = {**POINTS, "St-1": STATION}[name]
                    true = np.array([CENTRE_EN[0] + e, CENTRE_EN[1] + n, h])
                    p = found.new
                    away = np.array([p.e_m[i], p.n_m[i], p.height_m[i]]) - true
                    # The network's own error, about 4 mm, is in all of them.
                    self.assertLess(float(np.abs(away).max()), 0.012)
                    self.assertGreater(float(p.covariance[0, 0, i]), 1e-6)
        # Grid distances: 100 m would be 58 mm off without the frame's factor.
        self.job.record(*change(self.setup_of(), "distances", grid=False))
        self.assertGreater(float(np.nanmax(np.abs(self.found().found.residuals[1]))), 0.05)

    def test_a_check_takes_no_part_and_a_trail_says_from_what(self) -> None:
        found = self.found()
        self.assertEqual(found.part, ("held", "held", "held", "check", "held", "new", "new"))
        self.assertEqual(found.rows, (0, 1, 2, -1, 3, -1, -1))
        derived = self.derive(self.job)
        mark = self.job.state.marks["St-1"]
        links = {k.title: k.note for k in trail(self.job.state, derived, mark, "map")}
        self.assertEqual(links["Resected"], "from T-04, T-07, T-08, P-11")
        self.assertEqual(links["Adopted"], "observed from Setup 1")
        self.job.record(*set_use(self.setup_of(), [3], "used"))
        self.assertEqual(self.found().found.dof, found.found.dof + 3)
        turned = self.found().found.sigma_orientation
        self.job.record(*change(self.setup_of(), "sigmas", sigma_direction_s=50.0))
        self.assertGreater(self.found().found.sigma_orientation, 3.0 * turned)
        self.job.record(*set_use(self.setup_of(), [0, 1], "off"))
        self.assertEqual(self.found().part[:2], ("off", "off"))

    def test_seen_from_two_setups_and_in_every_frame(self) -> None:
        derived = self.derive(self.job)
        one, two = (derived.of_kind("setup")[key].new for key in ("setup-1", "setup-2"))
        adopted, dam = derived.adopted["map"], derived.adopted["dam"]
        i, j, row = one.index["K-01"], two.index["K-01"], adopted.index["K-01"]
        self.assertEqual(adopted.why[row], "observed from Setup 1 and Setup 2")
        # By hand: the weighted mean of the height, whose axis stands apart from the plan.
        a, b = float(one.covariance[2, 2, i]), float(two.covariance[2, 2, j])
        wanted = (float(one.height_m[i]) / a + float(two.height_m[j]) / b) / (1.0 / a + 1.0 / b)
        self.assertAlmostEqual(float(adopted.height_m[row]), wanted, delta=2e-5)
        self.assertLess(float(adopted.sigma_v_m[row]), min(math.sqrt(a), math.sqrt(b)))
        self.assertEqual(set(adopted.names), set(dam.names))
        self.assertEqual([c.basis for c in dam.candidates("T-04")].count("carried"), 1)
        self.assertEqual(dam.why[dam.index["K-01"]], "observed from Setup 1 and Setup 2, carried by Fit 1")
        fit = derived.outcomes[fit_node("fit-1")].result.case.result
        carried = fit.forward(Positions(
            names=("K-01",), e_m=adopted.e_m[[row]], n_m=adopted.n_m[[row]], height_m=adopted.height_m[[row]],
            covariance=np.full((3, 3, 1), np.nan),
        ))  # fmt: skip
        self.assertAlmostEqual(float(carried.e_m[0]), float(dam.e_m[dam.index["K-01"]]), 8)
        links = [k.title for k in trail(self.job.state, derived, self.job.state.marks["K-01"], "map")]
        self.assertEqual(links, ["Sighted", "Sighted", "Mean of 2 setups", "Adopted"])

    def test_places_of_a_plane_go_back_to_the_earth(self) -> None:
        """Above the geoid on the map, and in the dam grid through its fit."""
        exchanged = next(d for d in Judge().judge(self.job.state, self.derive(self.job)).open if d.remedies)
        self.job.record(*settle(self.job.state, exchanged, exchanged.remedies[0]))
        derived, true = self.derive(self.job), true_places()
        for key, within in (("map", 5e-3), ("dam", 0.05)):  # the grid is 2 mm from what made it
            adopted = derived.adopted[key]
            row = adopted.index["T-01"]
            plane = LivePlane(self.job.state, derived, key, str(self.folder))
            back = plane.back(*(float(v[row]) for v in (adopted.e_m, adopted.n_m, adopted.height_m)))
            lat, lon, h = true["T-01"]
            self.assertLess(abs(back[0] - lat) * 6.4e6, within)
            self.assertLess(abs(back[1] - lon) * 3.1e6, within)
            self.assertLess(abs(back[2] - h), within)

    def test_a_known_mark_is_from_the_list_that_the_receivers_know(self) -> None:
        """T-02 is given in the dam grid as well, which has no datum."""
        links = trail(self.job.state, self.derive(self.job), self.job.state.marks["S-02"], "map")
        self.assertEqual(next(k.note for k in links if k.title == "Known mark"),
                         "T-02 is known from national list (made up)")  # fmt: skip

    def test_a_wrong_prism_is_named_and_compared_only(self) -> None:
        one = self.setup_of()
        prisms = list(one.prism_m)
        prisms[1] = 0.034
        self.job.record("blunder", [amend(one, prism_m=tuple(prisms))])
        found = [
            d for d in Judge().judge(self.job.state, self.derive(self.job)).open if d.subject == "setup-1"
        ]
        self.assertTrue(found and found[0].grave, found)
        self.assertEqual(found[0].names[0], "T-07")
        self.assertAlmostEqual(abs(found[0].value or 0.0), 0.034, delta=0.006)
        right, only = found[0].remedies
        self.assertEqual(right.kind, "sighted-prism")
        self.assertAlmostEqual(float(right.names[0]), 0.0, delta=0.006)
        self.job.record(*settle(self.job.state, found[0], right))
        left = Judge().judge(self.job.state, self.derive(self.job)).open
        self.assertNotIn("setup-1", [d.subject for d in left])
        self.job.undo()
        self.job.record(*settle(self.job.state, found[0], only))
        self.assertEqual(dict(self.setup_of().use)[1], "check")
        checks = [
            d for d in Judge().judge(self.job.state, self.derive(self.job)).open if d.subject == "setup-1"
        ]
        self.assertEqual([d.rule for d in checks], ["resect.check"])

    def test_too_little_says_what_is_missing(self) -> None:
        self.job.record(*set_use(self.setup_of(), [0, 1, 2, 4], "off"))
        found = self.found()
        self.assertIsInstance(found, FenwindError)
        self.assertIn(
            "resect.failed", [d.rule for d in Judge().judge(self.job.state, self.derive(self.job)).open]
        )


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
            ("A", "f", "from itself"),
            ("S", "none", "no frame"),
            ("", "f", "name"),
        ):
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
            r = reduce([_sighting(*shot) for shot in shots], options)
            case = case_of(r, np.column_stack([known, [np.nan] * 3]), True)
            one = oriented(part_of(case, np.array([True, True, False])), at, sigma**2 * np.eye(3))
            side = side_shots(one, r)
            found.append((one.orientation, *side.position[:2, 2]))
        spread = np.var(np.array(found), axis=0)
        stated = (one.sigma_orientation**2, *np.diag((side.own + side.shared)[:, :, 2])[:2])
        np.testing.assert_allclose(spread / stated, 1.0, atol=0.09)


def _sighting(target: str, hz: float, z: float, s: float) -> Any:
    return Sighting(target=target, direction=hz, zenith=z, distance=s)
