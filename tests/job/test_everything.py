"""Everything observed in one network: what each kind of field work says there, and how rows are left out."""

import math
from typing import Any

import numpy as np

from fenwind.doubts.of_job import Judge
from fenwind.doubts.settling import settle
from fenwind.errors import FenwindError, ProcedureError
from fenwind.geodesy.frames import FrameSpec
from fenwind.geodesy.geocentric import enu_axes
from fenwind.job.job import Job
from fenwind.job.network_gestures import adjust_everything, change, set_off, weigh_down
from fenwind.job.steps.sightings import air_ppm
from fenwind.procedures.network_model import computed, positions_of
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.records.entries import Add, amend
from fenwind.records.lines import LevelBook, TraverseBook
from fenwind.records.network import NetworkStep
from fenwind.records.records import FrameRecord, GivenPosition, Mark
from fenwind.records.sessions import BaseSetup, Occupation
from fenwind.records.setups import Air, Setup
from fenwind.records.tools import TapedDistance
from fenwind.reports.network_words import missing_words
from fenwind.standins import tarnholt
from fenwind.standins.tarnholt_days import true_places
from tests.support import CommandCase, DemoCase


class Everything(DemoCase):
    def setUp(self) -> None:
        super().setUp()
        self.job.record(*adjust_everything(self.job.state, "map"))
        self.key = list(self.job.state.of(NetworkStep))[-1]

    def found(self) -> Any:
        return self.derive(self.job).of_kind("network")[self.key]

    def settle(self) -> None:
        """What was planted put right."""
        derived = self.derive(self.job)
        open_doubts = Judge().judge(self.job.state, derived).open
        for rule in ("traverse.angle", "resect.prism", "occupation.slant"):
            doubt = next(d for d in open_doubts if d.rule == rule)
            self.job.record(*settle(self.job.state, doubt, doubt.remedies[0]))

    def test_the_blunders_show_and_then_all_agrees(self) -> None:
        derived = self.derive(self.job)
        told = [d for d in Judge().judge(self.job.state, derived).open if d.subject == self.key]
        texts = " ".join(d.text for d in told)
        self.assertIn("The distance St-2 – T-08 is off by −33", texts)
        self.assertIn("The vector T-02 – S-05 is in every loop that misses", texts)
        remedy = next(d for d in told if "St-2" in d.text)
        self.job.record(*settle(self.job.state, remedy, remedy.remedies[0]))
        step = self.job.state.of(NetworkStep)[self.key]
        self.assertEqual(len(step.off), 1)
        setup = next(s for s in self.job.state.of(Setup).values() if s.id == str(step.off[0]).split(":")[0])
        self.assertEqual(setup.name, "Setup 3")
        self.job.record(*set_off(step, step.off, False))
        self.settle()
        found = self.found()
        self.assertGreater(found.p_value, 0.01)
        self.assertEqual(found.result.lost, ())
        w = np.concatenate([f.w for f in found.figures.values()])
        self.assertLess(np.nanmax(np.abs(w)), 4.0)
        kinds = {kind: found.observations.kind.count(kind) for kind in dict.fromkeys(found.observations.kind)}
        self.assertEqual(kinds["vector"], 25)
        self.assertIn("B2", {row.at for row in found.result.net.rows})  # no mark: a station of its own
        self.assertNotIn("base-2", found.positions.index)
        self.assertIn("St-1", found.ids)
        # Heights of antennas are taken off at both ends: what was measured lies where it is.
        true, marks = true_places(), found.result.marks
        for name in ("S-01", "S-05", "S-07"):
            self.assertAlmostEqual(marks.place[2, marks.index[name]], true[name][2], delta=0.04)

    def test_covariances_of_rovers_are_turned(self) -> None:
        """Of local east, north and up at the rover they become geocentric: turned back, the record's."""
        one = self.found().observations
        taken = self.job.state.of(Occupation)
        place = true_places()
        for i, key in enumerate(one.origin):
            if key not in taken:
                continue
            o, c = taken[key], one.covariance[i]
            lat, lon, _ = place[self.job.state.marks[o.mark].name]
            axes = enu_axes(np.array(lat), np.array(lon))
            found = axes @ np.array([c[:3], [c[1], *c[3:5]], [c[2], *c[4:]]]) @ axes.T
            record = [[o.cee_m2, o.cen_m2, o.ceu_m2], [o.cen_m2, o.cnn_m2, o.cnu_m2],
                      [o.ceu_m2, o.cnu_m2, o.cuu_m2]]  # fmt: skip
            np.testing.assert_allclose(found, record, atol=1e-10)
            self.assertGreater(o.cuu_m2, 1.5 * o.cee_m2)  # so that a turn shows

    def test_levelling_counts_by_its_length(self) -> None:
        """Runs between marks that something else reaches; one to a mark that nothing else does stays out."""
        ids = {m.name: m.id for m in self.job.state.marks.values()}
        book = LevelBook(
            id="runs", name="Runs", frame="map", first=(ids["T-09"], ids["T-08"]),
            second=(ids["P-12"], ids["P-01"]), dh_m=(-8.2, 6.4), length=(0.25, 1.7), sigma_m=0.002,
        )  # fmt: skip
        self.job.record("x", (Add(record=book),))
        one = self.found().observations
        rows = [i for i, key in enumerate(one.origin) if key.startswith("runs:")]
        self.assertEqual([one.origin[i] for i in rows], ["runs:0"])
        self.assertEqual((one.kind[rows[0]], one.value[rows[0]]), ("height_difference", (-8.2,)))
        self.assertAlmostEqual(math.sqrt(one.covariance[rows[0]][0]), 0.002 * 0.5, 12)

    def test_faces_and_prisms(self) -> None:
        """A sighting read in face 2 is the same one; a prism constant lengthens what was read."""
        self.settle()
        before = self.found()
        setup = next(s for s in self.job.state.of(Setup).values() if s.name == "Setup 1")
        row = next(i for i, face in enumerate(setup.face) if setup.zenith_rad[i] is not None and face == 1)
        z = setup.zenith_rad[row] or 0.0
        turned = {
            "direction_rad": [(v + math.pi if i == row else v) for i, v in enumerate(setup.direction_rad)],
            "zenith_rad": [2 * math.pi - z if i == row else v for i, v in enumerate(setup.zenith_rad)],
            "face": [2 if i == row else v for i, v in enumerate(setup.face)],
        }
        self.job.record("x", (amend(setup, **{k: tuple(v) for k, v in turned.items()}),))
        both = setup.target.count(setup.target[row]) > 1
        after = self.found()
        if not both:
            i = after.positions.index[setup.station]
            self.assertAlmostEqual(float(after.positions.e_m[i]), float(before.positions.e_m[i]), 6)
        longer = tuple(p + 0.010 for p in setup.prism_m)
        self.job.record("x", (amend(self.job.state.of(Setup)[setup.id], prism_m=longer),))
        rows = [i for i, key in enumerate(after.observations.origin) if key.startswith(setup.id)
                and after.observations.kind[i] == "distance"]  # fmt: skip
        longest = self.found()
        for i in rows:
            self.assertAlmostEqual(
                longest.observations.value[i][0] - after.observations.value[i][0], 0.010, 9
            )

    def test_a_traverse_on_the_earth(self) -> None:
        """Booked as right, left and deflection from places of the network itself: nothing is left over. One
        booked in a frame of its own is not taken in, nor one to a mark that nothing gives a height."""
        self.settle()
        plain = self.found()
        net, marks = plain.result.net, plain.result.marks
        walk = ("T-09", "P-12", "T-08", "T-06", "T-05")
        at = {n: positions_of(net, marks.place[:, [marks.index[n]]]) for n in walk}
        zero = np.zeros(1)

        def value(kind: str, a: str, b: str, back: str = "") -> float:
            return float(computed(net, kind, at[a], at[b], at[back or b], zero, zero)[0, 0])

        angles = [value("angle", walk[i], walk[i + 1], walk[i - 1]) % (2 * math.pi) for i in (1, 2, 3)]
        heights = [value("height_difference", walk[i], walk[i + 1]) for i in (1, 2, 3)]
        flat = [value("horizontal_distance", walk[i], walk[i + 1]) for i in (1, 2, 3)]
        ids = {m.name: m.id for m in self.job.state.marks.values()}
        book = TraverseBook(
            id="t-9", name="Traverse 9", frame="map", back=ids["T-09"], close=ids["T-05"],
            here=tuple(ids[n] for n in walk[1:4]), there=tuple(ids[n] for n in walk[2:5]),
            kind=("right", "left", "deflection"),
            direction_rad=(angles[0], 2 * math.pi - angles[1], angles[2] - math.pi), distance_m=tuple(flat),
            dh_m=tuple(heights),
        )  # fmt: skip
        self.job.record("x", (Add(record=book), Add(record=Mark(id="new", name="T-99"))))
        found = self.found()
        mine = [i for i, key in enumerate(found.observations.origin) if key.startswith("t-9:")]
        kinds = [found.observations.kind[i] for i in mine]
        self.assertEqual(kinds, ["angle", "height_difference", "horizontal_distance"] * 3)
        for i in mine:
            figures = found.figures[found.rows[i]]
            unit = RAD_PER_SECOND if found.observations.kind[i] == "angle" else 1e-3
            self.assertLess(abs(float(figures.residual[0])) / unit, 0.05, found.observations.kind[i])
        # 5 s of angle, the same of the length in height, 3 mm and 2 ppm of it along it.
        arc = 5.0 * RAD_PER_SECOND
        sigmas = [s for d in flat for s in (arc, arc * d, 0.003 + 2e-6 * d)]
        known = [math.sqrt(found.observations.covariance[i][0]) for i in mine]
        np.testing.assert_allclose(known, sigmas, rtol=1e-12)
        self.assertNotIn("Traverse 9, ", missing_words(found))
        for changes, why in (
            ({"frame": "dam"}, "belongs to another frame"),
            (
                {"dh_m": (*heights[:2], None), "there": (*book.there[:2], "new")},
                "since nothing gives T-99 a height",
            ),
        ):
            self.job.record("x", (amend(self.job.state.of(TraverseBook)["t-9"], **changes),))
            found = self.found()
            self.assertFalse([k for k in found.observations.origin if k.startswith("t-9:")])
            self.assertIn(
                f"Traverse 9, which {why};" if "other" in why else f"Traverse 9, {why};", missing_words(found)
            )
            whole = {"frame": "map", "dh_m": tuple(heights), "there": book.there}
            self.job.record("x", (amend(self.job.state.of(TraverseBook)["t-9"], **whole),))
        low = amend(self.job.state.of(TraverseBook)["t-9"], dh_m=(None, *heights[1:]))
        self.job.record("x", (low,))
        found = self.found()
        kinds = [k for k, o in zip(found.observations.kind, found.observations.origin, strict=True)
                 if o.startswith("t-9:")]  # fmt: skip
        self.assertEqual(kinds.count("height_difference"), 2, "receivers give the first its height")
        self.assertEqual(kinds.count("horizontal_distance"), 3)

    def test_setups_as_they_are_said_to_count(self) -> None:
        """Distances corrected for the air; what takes part in plan or in height alone does so here."""
        before = self.found().observations
        one = self.job.state.of(Setup)["setup-1"]
        air = Air(temperature_c=30.0, pressure_hpa=900.0)
        self.job.record("x", (amend(one, air=air, use=((0, "plan"), (1, "height"), (2, "check"))),))
        after = self.found().observations
        mine = [key.split(":")[1:] for key in after.origin if str(key).startswith("setup-1:")]
        kinds = [[kind for row, kind in mine if row == str(i)] for i in range(4)]
        self.assertEqual(
            kinds, [["direction", "distance"], ["zenith"], [], ["direction", "zenith", "distance"]]
        )
        lengths = [o.value[o.origin.index("setup-1:0:distance")][0] for o in (before, after)]
        self.assertAlmostEqual(lengths[1] / lengths[0], 1.0 + air_ppm(air) * 1e-6, 10)

    def test_rows_are_left_out_by_what_they_are(self) -> None:
        """A key stays when other field work comes in before it; a base gone takes its vectors along."""
        found = self.found()
        one = found.observations
        row = one.kind.index("height_difference")
        key = one.origin[row]
        step = self.job.state.of(NetworkStep)[self.key]
        self.job.record(*set_off(step, [key], True))
        self.job.record(*weigh_down(self.job.state.of(NetworkStep)[self.key], [one.origin[0]], 4.0))
        base = self.job.state.of(BaseSetup)
        second = next(b for b in base.values() if b.name == "B2")
        self.job.record("x", (amend(second, active=False),))
        after = self.found()
        self.assertLess(len(after.observations.kind), len(one.kind))
        self.assertEqual(after.rows[after.observations.origin.index(key)], -1)
        self.assertEqual(sum(number < 0 for number in after.rows), 1)
        closed = self.derive(self.job).of_kind("loops")[self.key]
        self.assertNotIn(key, closed.keys.values())
        reopened = self.job.state.of(NetworkStep)[self.key]
        self.assertEqual((reopened.off, reopened.down), ((key,), ((one.origin[0], 4.0),)))

    def test_nothing_observed(self) -> None:
        job = Job.create(self.folder / "empty.fenwind", "empty", [])
        self.addCleanup(job.close)
        with self.assertRaises(ProcedureError):
            adjust_everything(job.state, "map")
        self.job.record(*change(self.job.state.of(NetworkStep)[self.key], "x", frame="dam"))
        found = self.found()  # on a plane that is tied to nothing rovers' vectors have no direction
        self.assertNotIn("rover vectors", found.observations.group)
        self.assertIn("Traverse 1", found.observations.group)
        self.assertRegex(missing_words(found), r"Not in it: \d+ rover vectors, which have no direction")


class WithoutHeights(CommandCase):
    """A traverse of which nobody booked heights."""

    def words_of(self, spec: FrameSpec, middle: float | None) -> str:
        """What is left out, empty for nothing; with the height of the mark in the middle, or without."""
        places = {"a": (463000.0, 6795000.0, 40.0), "b": (None, None, middle),
                  "c": (463500.0, 6794900.0, 60.0)}  # fmt: skip
        records: list[Any] = [FrameRecord(id="f", spec=spec)]
        for key, (e, n, h) in places.items():
            records.append(Mark(id=key, name=key.upper()))
            if (e, h) != (None, None):
                records.append(GivenPosition(id=f"g{key}", mark=key, frame="f", e_m=e, n_m=n, height_m=h))
        records.append(
            TraverseBook(id="t", name="Traverse", frame="f", here=("a", "b"), there=("b", "c"),
                         kind=("azimuth", "right"), direction_rad=(1.249, 4.13), distance_m=(316.0, 283.0),
                         dh_m=(None, None))
        )  # fmt: skip
        records.append(TapedDistance(id="d", first="a", second="b", length_m=316.0, slope=False))
        job = Job.create(self.path(f"{spec.name[:5]}{middle}.fenwind"), "t", records, "f")
        self.addCleanup(job.close)
        job.record(*adjust_everything(job.state, "f"))
        (found,) = self.derive(job).of_kind("network").values()
        return found.one_line if isinstance(found, FenwindError) else "; ".join(found.missing)

    def test_it_takes_part_where_its_marks_have_heights(self) -> None:
        earth, plane = tarnholt.map_frame(), FrameSpec(name="plane")
        tarnholt.write_grid(self.folder)
        self.assertIn("Traverse, since nothing gives B a height", self.words_of(earth, None))
        self.assertEqual(self.words_of(earth, 50.0), "")
        self.assertEqual(self.words_of(plane, None), "", "in plan alone")
