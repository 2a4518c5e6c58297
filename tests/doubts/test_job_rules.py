"""Doubts about the records of a job: each appears for its cause with its number, and is gone without it."""

from dataclasses import replace

import numpy as np
from pyproj import CRS, Transformer
from pyproj.crs import ProjectedCRS
from pyproj.crs.coordinate_operation import UTMConversion

from fenwind.doubts.of_job import Judge
from fenwind.doubts.registry import Doubt
from fenwind.doubts.rules import doubts_about_job
from fenwind.doubts.settling import settle
from fenwind.geodesy.frames import FrameSpec, HeightReference
from fenwind.job import gestures
from fenwind.job.incoming import take_in
from fenwind.job.job import Job
from fenwind.procedures.near import near_pairs
from fenwind.records.entries import Add, Entry, amend
from fenwind.records.records import FrameRecord, GivenPosition, Mark
from tests.job.test_derive import points
from tests.support import TempFolder

#: UTM zone 32N on ITRF2020, which moves with time.
ITRF_UTM = ProjectedCRS(UTMConversion(32), geodetic_crs=CRS("EPSG:9990")).to_wkt()


class OfTheDemo(TempFolder):
    def setUp(self) -> None:
        super().setUp()
        self.job = self.demo()
        self.addCleanup(self.job.close)

    def found(self) -> dict[str, Doubt]:
        return {d.rule: d for d in doubts_about_job(self.job.state, self.derive(self.job))}

    def test_a_clean_job_has_none(self) -> None:
        self.assertEqual(self.found(), {})

    def test_heights_of_a_frame_that_has_none_are_no_doubt(self) -> None:
        state = self.job.state
        spec = replace(state.frames["map"].spec, height=HeightReference(kind="unknown"))
        self.job.record("x", [amend(state.frames["map"], spec=spec)])
        given = [g for g in state.given.values() if g.frame == "map" and g.height_m is not None]
        self.assertEqual("frame.height-unknown" in self.found(), bool(given))
        other = replace(state.frames["dam"].spec, height=HeightReference(kind="unknown"))
        dam = [g for g in state.given.values() if g.frame == "dam"]
        for heights in (True, False):
            gone = [] if heights else [amend(g, height_m=None) for g in dam if g.height_m is not None]
            self.job.record(
                "x", [amend(self.job.state.frames["dam"], spec=other, reason=str(heights)), *gone]
            )
            doubts = doubts_about_job(self.job.state, self.derive(self.job))
            told = [d.subject for d in doubts if d.rule == "frame.height-unknown"]
            self.assertEqual("dam" in told, heights)

    def test_each_cause_has_its_doubt(self) -> None:
        state = self.job.state
        known = state.given["g-T-02"]
        second = replace(known, id="again", e_m=known.e_m + 0.5)
        near = Mark(id="near", name="T-02A")
        here = replace(known, id="g-near", mark="near", n_m=known.n_m + 0.004)
        occupied = state.measured["m-T-01-1"]
        radius = 6378137.0
        map_spec = state.frames["map"].spec
        kept = state.frames["dam"].spec
        cases: list[tuple[str, list[Entry], tuple[str, ...], float | None]] = [
            ("marks.two-places", [Add(record=second)], ("T-02",), 0.5),
            ("marks.two-places", [amend(occupied, lat_rad=occupied.lat_rad + 1.0 / radius)], ("T-01",), 0.5),
            ("marks.two-names", [Add(record=near), Add(record=here)], ("T-02", "T-02A"), 0.004),
            ("marks.coarse-height", [amend(known, height_m=1239.7)], ("T-02",), 1),
            (
                "frame.height-unknown",
                [amend(state.frames["dam"], spec=replace(kept, height=HeightReference(kind="unknown")))],
                (),
                None,
            ),
            (
                "frame.grid-missing",
                [
                    amend(
                        state.frames["map"],
                        spec=replace(
                            map_spec, height=HeightReference(kind="vertical", crs="EPSG:5941", name="NN2000")
                        ),
                    )
                ],
                (),
                None,
            ),
            (
                "marks.off-grid", [amend(state.measured["m-P-01-1"], lat_rad=-0.7)], ("P-01",), 1,
            ),
            (
                "frame.no-epoch",
                [Add(record=FrameRecord(id="moving", spec=FrameSpec(name="ITRF", crs=ITRF_UTM)))], (), None,
            ),
            (
                "job.no-control",
                gestures.set_field(state.marks.values(), "hold_horizontal", False, "")[1]
                + gestures.set_field(state.marks.values(), "hold_height", False, "")[1],
                (),
                0,
            ),
        ]  # fmt: skip
        for rule, entries, names, value in cases:
            with self.subTest(rule):
                self.job.record("plant", entries)
                found = self.found()
                self.assertIn(rule, found)
                self.assertEqual(found[rule].names, names)
                if value is not None:
                    self.assertAlmostEqual(found[rule].value, value, delta=0.008)
                self.assertTrue(found[rule].text.endswith((".", "?")))
                self.job.undo()
                self.assertEqual(self.found(), {}, "undo settles it")

    def test_one_mark_in_two_frames_of_one_datum(self) -> None:
        """T-01 given in the next zone as PROJ has it is one place; off by more than 20 mm in plan, or 40 mm
        in height, or more than 3 sigmas where those are larger, it is told once. Another datum is not
        compared."""
        known = GivenPosition(
            id="m", mark="T-01", frame="map", e_m=462_260.0, n_m=6_797_200.0, height_m=1241.5,
            sigma_h_m=0.003, sigma_v_m=0.006,
        )  # fmt: skip
        self.job.record("x", (Add(record=known),))
        e, n = Transformer.from_crs(25832, 25833).transform(known.e_m, known.n_m)
        map_spec = self.job.state.frames["map"].spec
        zone = FrameRecord(id="zone", spec=replace(map_spec, name="UTM 33N", crs="EPSG:25833"))
        other = GivenPosition(id="z", mark=known.mark, frame="zone", e_m=e, n_m=n, height_m=known.height_m,
                              sigma_h_m=0.003, sigma_v_m=0.006)  # fmt: skip
        self.job.record("x", (Add(record=zone), Add(record=other)))
        cases = [
            ({}, None), ({"e_m": e + 0.0195}, None), ({"e_m": e + 0.0205}, 0.0205), ({"n_m": n - 0.5}, 0.5),
            ({"height_m": known.height_m + 0.039}, None), ({"height_m": known.height_m - 0.041}, 0.041),
            ({"e_m": e + 0.0205, "sigma_h_m": 0.010}, None),
        ]  # fmt: skip
        for changes, apart in cases:
            with self.subTest(changes=changes):
                self.job.record("x", (amend(other, **changes),))
                told = [d for d in doubts_about_job(self.job.state, self.derive(self.job)) if "two" in d.rule]
                self.assertEqual([d.names for d in told], [("T-01",)] if apart else [])
                if apart:
                    self.assertEqual(told[0].rule, "marks.two-frames")
                    # A metre of one zone is not quite one of the other, so far from its axis.
                    self.assertAlmostEqual(told[0].value or 0.0, apart, delta=0.003 * apart)
                    self.assertIn("UTM 33N", told[0].text)
                if changes:
                    self.job.undo()
        elsewhere = replace(zone.spec, crs="EPSG:23033")  # ED50
        self.job.record("x", (amend(zone, spec=elsewhere),))
        self.assertNotIn("marks.two-frames", self.found())

    def test_marks_that_nothing_ties_are_told_and_can_be_said_to_be_here(self) -> None:
        """A list taken into a plane, the system chosen afterwards: counted, and put right by one click."""
        job = Job.create(
            self.path("new.fenwind"), "New", [FrameRecord(id="p", spec=FrameSpec(name="Plane"))], "p"
        )
        self.addCleanup(job.close)
        marks = [Mark(id=f"m{i}", name=f"K{i}") for i in range(6)]
        given = [GivenPosition(id=f"g{i}", mark=f"m{i}", frame="p", e_m=5e5 + i, n_m=68e5) for i in range(6)]
        job.record("take", [Add(record=r) for r in (*marks, *given)])
        self.assertEqual(doubts_about_job(job.state, self.derive(job)), ())
        utm = FrameRecord(id="u", spec=FrameSpec(name="UTM", crs="EPSG:25832"))
        job.record("frame", [Add(record=utm), amend(job.state.info, frame="u")])
        (doubt,) = doubts_about_job(job.state, self.derive(job))
        self.assertEqual((doubt.rule, doubt.value, doubt.grave), ("marks.not-tied", 6, True))
        job.record("one", [Add(record=replace(given[2], id="again", frame="u"))])
        (doubt,) = doubts_about_job(job.state, self.derive(job))
        self.assertEqual(doubt.value, 5)
        job.record(*settle(job.state, doubt, doubt.remedies[0]))
        derived = self.derive(job)
        self.assertEqual(doubts_about_job(job.state, derived), ())
        self.assertEqual(sorted(derived.adopted["u"].names), [f"K{i}" for i in range(6)])
        self.assertEqual(job.state.given["g2"].frame, "p", "a mark that was given here keeps that")

    def test_a_list_that_changes_used_control_is_told(self) -> None:
        known = self.job.state.given["g-T-02"]
        rows = points([("T-02", known.e_m + 0.012, known.n_m, known.height_m)])
        self.job.record("take", take_in(self.job.state, rows, [0], measured=False, frame="dam"))
        doubt = self.found()["marks.changed-after-use"]
        self.assertAlmostEqual(doubt.value, 0.012, places=9)
        self.assertIn("Fit 1", doubt.text)
        self.job.undo()
        plan_only = self.job.state.given["g-T-05"]
        rows = points([("T-05", plan_only.e_m, plan_only.n_m, 1236.512)])
        self.job.record("take", take_in(self.job.state, rows, [0], measured=False, frame="dam"))
        doubt = self.found()["marks.changed-after-use"]
        self.assertIn(
            "in whether it has a height", doubt.text, "a height that comes is no movement of a kilometre"
        )
        self.job.record("later", [amend(self.job.state.fits["fit-1"], active=False)])
        later = replace(self.job.state.fits["fit-1"], id="fit-2", name="Fit 2", active=True)
        self.job.record("new fit", [Add(record=later)])
        self.assertEqual(self.found(), {}, "the new fit was made with the new value")

    def test_no_control_hides_the_failure_it_explains(self) -> None:
        entries: tuple[Entry, ...] = gestures.set_field(self.job.state.given.values(), "active", False, "")[1]
        self.job.record("off", entries)
        rules = {d.rule for d in Judge().judge(self.job.state, self.derive(self.job)).open}
        self.assertIn("job.no-control", rules)
        self.assertNotIn("step.failed", rules)


class Near(TempFolder):
    def test_every_close_pair_is_found_and_no_other(self) -> None:
        rng = np.random.default_rng(3)
        e, n = rng.uniform(0, 4, 400), rng.uniform(0, 4, 400)
        e[7] = np.nan
        wanted = {
            (i, j) for i in range(400) for j in range(i + 1, 400) if np.hypot(e[i] - e[j], n[i] - n[j]) <= 0.1
        }
        i, j = near_pairs(e, n, 0.1)
        self.assertEqual(sorted(zip(i.tolist(), j.tolist(), strict=True)), sorted(wanted))
        with self.assertRaises(ValueError):
            near_pairs(np.zeros(3000), np.zeros(3000), 1.0)
