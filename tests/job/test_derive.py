"""Derivation: only what depends on a change runs again, results are those of the truth, adopted positions and
trails tell why."""

import math

import numpy as np

from fenwind.geodesy.frames import FrameSpec
from fenwind.job import gestures
from fenwind.job.incoming import IncomingPoints, against_job, take_in
from fenwind.job.job import Job
from fenwind.job.memory import Memory
from fenwind.job.moved import moved
from fenwind.procedures.fit import FitOptions
from fenwind.records.entries import Add, amend
from fenwind.records.records import FitStep, FrameRecord, MarkRule, MeasuredPosition
from fenwind.reports.trail import trail
from fenwind.standins import tarnholt
from tests.support import TempFolder


def points(rows: list[tuple[str, float, float, float]], **words: tuple[str, ...]) -> IncomingPoints:
    values = np.full((5, len(rows)), np.nan)
    values[:3] = np.array([row[1:] for row in rows]).T
    return IncomingPoints(
        names=tuple(r[0] for r in rows), lines=np.arange(1, len(rows) + 1), values=values, words=words,
        source="test",
    )  # fmt: skip


class OfTheDemo(TempFolder):
    def test_carried_marks_lie_where_the_truth_says(self) -> None:
        job = self.demo()
        result = self.derive(job).fits["fit-1"].case.result
        true = tarnholt.truth()
        order = [true.names.index(n) for n in result.carried.names]
        off = np.stack(
            [
                result.carried.e_m - true.dam_e_m[order],
                result.carried.n_m - true.dam_n_m[order],
                result.carried.height_m - true.dam_height_m[order],
            ]
        )
        sigma = np.sqrt(np.einsum("iik->ik", result.carried.covariance))
        self.assertLess(np.abs(off / sigma).max(), 4.0)
        self.assertAlmostEqual(
            result.plan.rotation_rad, tarnholt.TURN_RAD, delta=4 * math.sqrt(result.plan.covariance[2, 2])
        )
        self.assertAlmostEqual(
            result.height.shift_m,
            tarnholt.HEIGHT_SHIFT_M,
            delta=4 * math.sqrt(result.height.covariance[0, 0]),
        )

    def test_only_what_depends_on_a_change_runs_again(self) -> None:
        job, memory = self.demo(), Memory()
        first = self.derive(job, memory)
        self.assertIn("Fit 1", memory.computed)
        self.derive(job, memory)
        self.assertEqual(memory.computed, [])
        step, marks = job.state.fits["fit-1"], job.state.marks
        job.record(*gestures.set_use(job.state, step, [marks["T-04"]], "off"))
        second = self.derive(job, memory)
        self.assertEqual(memory.computed, ["Fit 1", "adopted dam"])
        change = moved("dam", first.adopted["dam"], second.adopted["dam"])
        self.assertNotIn("T-01", change.names, "control that is held does not move")
        self.assertIn("P-01", change.names)
        job.record("rename", [amend(marks["P-01"], description="another nail", name="P-01 (new)")])
        again = self.derive(job, memory)
        self.assertEqual(memory.computed, [])
        self.assertIn("P-01 (new)", again.adopted["dam"].index)
        self.assertIn("P-01 (new)", again.fits["fit-1"].case.result.carried.index)
        occupation = job.state.measured["m-T-02-1"]
        job.record(
            "height", [amend(occupation, reason="slant taken as vertical", h_m=occupation.h_m - 0.038)]
        )
        self.derive(job, memory)
        self.assertEqual(memory.computed, ["occupied map", "Fit 1", "adopted map", "adopted dam"])
        job.undo()
        self.derive(job, memory)
        self.assertEqual(memory.computed, [], "undo finds the results of before")

    def test_adopted_position_and_trail(self) -> None:
        job = self.demo()
        derived = self.derive(job)
        dam = derived.adopted["dam"]
        self.assertEqual(dam.basis[dam.index["T-01"]], "given")
        self.assertEqual(dam.basis[dam.index["P-01"]], "carried")
        self.assertIn("height carried by Fit 1", dam.why[dam.index["T-05"]])
        self.assertEqual(derived.adopted["map"].basis[0], "measured")
        job.record(
            "flags",
            gestures.set_field([job.state.marks["T-01"]], "hold_horizontal", False, "")[1]
            + gestures.set_field([job.state.marks["T-01"]], "hold_height", False, "")[1],
        )
        self.assertEqual(self.derive(job).adopted["dam"].basis[0], "carried", "what is not held is carried")
        occupation = job.state.measured["m-T-04-1"]
        job.record(
            "antenna", [amend(occupation, reason="slant taken as vertical", h_m=occupation.h_m - 0.038)]
        )
        derived = self.derive(job)
        links = trail(job.state, derived, job.state.marks["T-04"], "dam")
        self.assertEqual(
            [k.kind for k in links],
            ["record", "record", "amendment", "record", "step", "step", "adopted", "other"],
        )
        self.assertIn("slant taken as vertical", links[2].note)
        result = derived.fits["fit-1"].case.result
        row = result.carried.index["T-04"]
        self.assertIn(f"{result.carried.e_m[row]:,.4f}".replace(",", "\u2009"), links[-3].values[0])
        self.assertIn("against given", links[-3].values[-1])

    def test_errors_become_part_of_the_result(self) -> None:
        job = self.demo()
        (self.folder / tarnholt.GRID_FILE).rename(self.folder / "elsewhere.gtx")
        derived = self.derive(job)
        self.assertIn("not found", str(derived.fits["fit-1"].error))
        self.assertIn("map", derived.frame_errors)
        self.assertEqual(
            derived.adopted["dam"].basis[0], "given", "what does not depend on the grid is there"
        )
        (self.folder / "elsewhere.gtx").rename(self.folder / tarnholt.GRID_FILE)
        everything = [job.state.marks[m] for m in job.state.marks]
        job.record(*gestures.set_use(job.state, job.state.fits["fit-1"], everything, "check"))
        self.assertIn("no pair is held", str(self.derive(job).fits["fit-1"].error))


class Mixed(TempFolder):
    def test_plane_measurements_pivot_and_another_datum(self) -> None:
        """Assumed coordinates onto record corners by a pivot; and an occupation in another datum, converted
        with a note."""
        frames = [
            FrameRecord(id="own", spec=FrameSpec(name="Assumed")),
            FrameRecord(id="record", spec=FrameSpec(name="Record", unit="ftUS")),
        ]
        frames.append(FrameRecord(id="utm", spec=FrameSpec(name="UTM", crs="EPSG:25832")))
        job = Job.create(self.folder / "mixed.fenwind", "mixed", frames, frame="record")
        self.addCleanup(job.close)
        square = [("A", 0.0, 0.0), ("B", 100.0, 0.0), ("C", 100.0, 100.0)]
        job.record(
            "known",
            take_in(
                job.state, points([(n, 5000 - y, 8000 + x, math.nan) for n, x, y in square]), range(3),
                measured=False, frame="record",
            ),
        )  # fmt: skip
        job.record(
            "measured",
            take_in(
                job.state, points([(n, x, y, 10.0) for n, x, y in (*square, ("D", 50.0, 50.0))]), range(4),
                measured=True, frame="own",
            ),
        )  # fmt: skip
        a, b = (job.state.mark_named(n).id for n in "AB")
        step = FitStep(
            id="fit", name="Fit", source_frame="own", target_frame="record", horizontal="pivot",
            pivot=(a, b), height="none",
        )  # fmt: skip
        job.record("fit", [Add(record=step)])
        outcome = self.derive(job).fits["fit"]
        d = outcome.case.result.carried.index["D"]
        np.testing.assert_allclose(
            [outcome.case.result.carried.e_m[d], outcome.case.result.carried.n_m[d]], [4950, 8050], atol=1e-9
        )
        self.assertEqual(outcome.case.result.options.pivot, ("A", "B"))
        # WGS 84 is an ensemble: its relation to ETRS89 is only good to a metre, which is said by no note but
        # moves nothing.
        other = MeasuredPosition(
            id="o", mark=a, lat_rad=1.07, lon_rad=0.14, h_m=5.0, crs="EPSG:9989", epoch_year=2026.0
        )
        job.record(
            "other datum",
            [
                Add(record=other),
                amend(
                    job.state.fits["fit"], source_frame="utm", horizontal="shift", pivot=None, height="none"
                ),
            ],
        )
        outcome = self.derive(job).fits["fit"]
        self.assertIsNone(outcome.error)
        self.assertEqual(outcome.occupied.plane.names, ("A",))
        plain = self.derive(job).adopted["utm"]
        self.assertEqual(plain.names, ("A",))

    def test_options_follow_marks_and_step(self) -> None:
        job = self.demo()

        def options() -> FitOptions:
            return self.derive(job).fits["fit-1"].case.result.options

        self.assertEqual(options(), FitOptions(check=frozenset(["T-07"])))
        job.record("off", gestures.set_field([job.state.marks["T-01"]], "active", False, "")[1])
        self.assertIn("T-01", options().off)
        job.record("plan only", gestures.set_field([job.state.marks["T-02"]], "hold_height", False, "")[1])
        self.assertEqual(options().no_height, frozenset(["T-02"]))


class Incoming(TempFolder):
    def test_each_row_against_the_job(self) -> None:
        job = self.demo()
        given = [job.state.given[f"g-T-0{i}"] for i in range(1, 6)]
        one, two, three, four, five = ((g.e_m, g.n_m, g.height_m) for g in given)
        rows = points(
            [
                ("T-01", *one), ("T-02", two[0] + 0.012, *two[1:]), ("T-03", three[1], three[0], three[2]),
                ("P-01", 1.0, 2.0, math.nan), ("NEW", 1.5, 2.0, math.nan),
                ("T-04", four[0], four[1] - 0.007, four[2]), ("t 4", 9.0, 9.0, 9.0),
                ("OTHER", five[0], five[1] + 0.01, five[2]), ("NEW", 3.0, 3.0, 3.0),
            ],
            code=("", "", "", "", "Q", "", "", "", ""),
        )  # fmt: skip
        found = against_job(job.state, rows, "dam", False)
        self.assertEqual(found.verdict[:6], ("same", "differs", "differs", "new position", "new", "within"))
        self.assertAlmostEqual(found.d_m[0, 1], 0.012, places=9)
        self.assertTrue(found.exchanged[2] and not found.exchanged[1])
        said = {
            4: "NEW stands in row 9 too", 6: "the job has T-04", 7: "at the place of T-05",
            8: "NEW stands in row 5 too",
        }  # fmt: skip
        self.assertEqual(found.clash, said)
        rule = MarkRule(id="rule", by="class", value="main", tolerance_h_m=0.05)
        job.record("tolerance", [Add(record=rule)])
        self.assertEqual(
            against_job(job.state, rows, "dam", False).verdict[1], "within", "T-02 is of class main"
        )
        job.record("take", take_in(job.state, rows, [1, 3, 4], measured=False, frame="dam"))
        self.assertAlmostEqual(job.state.given["g-T-02"].e_m, two[0] + 0.012)
        self.assertEqual(job.state.amendments["g-T-02"][0].old["e_m"], two[0])
        self.assertEqual(job.state.mark_named("NEW").code, "Q")
        job.undo()
        self.assertIsNone(job.state.mark_named("NEW"))
