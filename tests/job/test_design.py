"""Designs and epochs as steps of a job: what is planned is what the command says of it, what ticks a line
off, and how weights of a network are chosen."""

import math
from dataclasses import replace
from typing import Any

import numpy as np
import pyproj

from fenwind.errors import FenwindError, ProcedureError
from fenwind.job import design_gestures as gestures
from fenwind.job.memory import Memory
from fenwind.job.merging import merge_marks
from fenwind.job.network_gestures import change, weigh_down
from fenwind.job.steps.kinds import STEP_KINDS
from fenwind.records.entries import Add, Gesture, amend
from fenwind.records.network import DesignStep, EpochsStep, NetworkStep, ObservationSet
from fenwind.records.records import Mark
from fenwind.reports.day_list import day_list
from fenwind.reports.network_words import opinion_words, weighing_words
from fenwind.standins import tarnholt
from tests.support import DemoCase

HEAD = "kind,at,to,sigma,sxx,sxy,sxz,syy,syz,szz"


class Designs(DemoCase):
    def step(self) -> DesignStep:
        return self.job.state.of(DesignStep)["design-1"]

    def found(self) -> Any:
        return self.derive(self.job).of_kind("design")["design-1"]

    def do(self, gesture: Gesture) -> None:
        self.job.record(*gesture)

    def test_as_the_command_has_it(self) -> None:
        """`fenwind design` of the same rows, in latitudes and longitudes above the same geoid."""
        found = self.found()
        net, rows = found.result.net, [HEAD]
        for row in net.rows:
            c = row.covariance
            if row.kind == "vector":
                cells = f",{c[0, 0]},{c[0, 1]},{c[0, 2]},{c[1, 1]},{c[1, 2]},{c[2, 2]}"
                rows.append(f"vector,{row.at},{row.to},{cells}")
            else:
                second = 1.0 if row.kind in ("distance", "height_difference") else math.radians(1 / 3600)
                rows.append(f"{row.kind},{row.at},{row.to},{math.sqrt(c[0, 0]) / second},,,,,,")
        control = ["name,lat,lon,h,planned"]
        for name, g in net.control.items():
            n = float(net.geoid(np.array([g.first]), np.array([g.second]))[0])
            control.append(f"{name},{math.degrees(g.first)!r},{math.degrees(g.second)!r},{g.h - n!r},"
                           + ("yes" if g.planned else ""))  # fmt: skip
        told = self.run_json("design", self.write("o.csv", "\n".join(rows)),
                             self.write("c.csv", "\n".join(control)),
                             "--geoid", str(self.folder / tarnholt.GRID_FILE), code=0)  # fmt: skip
        ids = found.ids
        for p in told["positions"]:
            if not p["held"]:
                self.assertAlmostEqual(found.sizes[ids[p["name"]]], p["ellipse"]["a"], 6)
        self.assertEqual(found.worst[0], "pillar-W-3")
        redundancy = [o["redundancy"] if o["kind"] != "vector" else min(o["redundancy"])
                      for o in told["observations"]]  # fmt: skip
        self.assertAlmostEqual(found.figures[0].redundancy, redundancy[0], 6)
        self.assertAlmostEqual(found.figures[8].redundancy, redundancy[-1], 6)
        line, left = found.best[0]
        self.assertEqual((line.kind, line.at, line.to), ("vector", "T-02", "W-3"))
        way = ("T-02", "W-3", "T-01")
        for names, title in ((way, "Plan 2 vectors"), (way[:2], "Plan 1 vector")):
            planned = gestures.plan_lines(self.job.state, self.step(), "vector", names, lambda key: None)
            self.assertEqual(planned.what, title)
        self.do(planned)
        self.assertAlmostEqual(self.found().worst[1], left, 9)
        self.do(gestures.leave_out(self.step(), [0], True))
        self.assertAlmostEqual(max(self.found().sizes.values()), self.found().worst[1], 12)
        self.assertNotIn(0, self.found().figures)

    def test_what_ticks_a_line_off(self) -> None:
        self.assertFalse(any(f.done for f in self.found().figures.values()))
        one = ObservationSet(
            id="more", name="more", kind=("vector", "direction", "height_difference"),
            at=("pillar-W-1", "pillar-W-2", "pillar-W-3"), to=("T-02", "pillar-W-1", "pillar-W-1"),
            line=(2, 3, 4), back=("",) * 3, setup=("", "1", ""), group=("a",) * 3, hi_m=(0.0,) * 3,
            ht_m=(0.0,) * 3, value=((1.0, 1.0, 1.0), (1.0,), (1.0,)),
            covariance=((1.0, 0.0, 0.0, 1.0, 0.0, 1.0), (1.0,), (1.0,)),
        )  # fmt: skip
        self.job.record("more", (Add(record=one),))
        done = {i for i, f in self.found().figures.items() if f.done}
        self.assertEqual(done, {0, 8})  # a sighting is one from its own end only
        text = day_list(self.job.state, self.step(), done)
        self.assertIn("9 lines, 2 of them observed", text)
        self.assertIn("  [x] T-02 – W-1\n  [ ] T-01 – W-1", text)
        self.assertIn("Setup at W-1, sighting\n  [ ] W-2\n  [ ] W-3\n", text)
        self.assertIn("Levelling\n  [x] W-1 – W-3\n", text)
        self.do(gestures.leave_out(self.step(), [1], True))
        text = day_list(self.job.state, self.step(), done)
        self.assertIn("8 lines, 2 of them observed", text)
        self.assertNotIn("T-01 – W-1", text)

    def test_worked_out_again_for_what_is_in_it_alone(self) -> None:
        memory, state = Memory(), self.job.state
        known = next(g for g in state.given.values()
                     if g.frame == self.step().frame and state.marks[g.mark].name == "T-02")  # fmt: skip
        seen = ObservationSet(
            id="s", name="s", kind=("vector",), at=("pillar-W-1",), to=(known.mark,), line=(2,), back=("",),
            setup=("",), group=("a",), hi_m=(0.0,), ht_m=(0.0,), value=((1.0, 1.0, 1.0),),
            covariance=((1.0, 0.0, 0.0, 1.0, 0.0, 1.0),),
        )  # fmt: skip
        self.derive(self.job, memory)
        for entry, again in (
            (Add(record=Mark(id="far", name="Far")), False),
            (amend(known, e_m=(known.e_m or 0.0) + 400.0), True),
            (amend(state.marks["pillar-W-1"], name="W-1a"), True),
            (Add(record=seen), True),
        ):
            self.job.record("x", (entry,))
            found, fresh = self.derive(self.job, memory).of_kind("design")["design-1"], self.found()
            self.assertEqual(any("design" in name.lower() or name == self.step().name
                                 for name in memory.computed), again, memory.computed)  # fmt: skip
            self.assertEqual(found.sizes, fresh.sizes)
            self.assertEqual(found.result.marks.names, fresh.result.marks.names)
            self.assertEqual(
                [f.done for f in found.figures.values()], [f.done for f in fresh.figures.values()]
            )

    def test_gestures(self) -> None:
        state, step = self.job.state, self.step()
        refused: list[tuple[str, tuple[str, ...]]] = [
            ("string", ("T-01", "W-1")), ("vector", ("T-01",)), ("vector", ("T-01", "nobody")),
            ("vector", ("W-1", "T-02")), ("vector", ("T-01", "T-03")),
        ]  # fmt: skip
        for kind, names in refused:
            with self.subTest(kind=kind, names=names), self.assertRaises(ProcedureError):
                gestures.plan_lines(state, step, kind, names, lambda key: None)
        self.do(gestures.plan_lines(state, step, "sighting", ("W-3", "W-2"), lambda key: None))
        self.do(gestures.plan_lines(state, self.step(), "vector", ("W-1", "T-03", "T-01"),
                                    lambda key: (1.0, 2.0, 3.0)))  # fmt: skip
        self.assertIn(("T-03", 1.0, 2.0, 3.0), self.step().marks)
        self.assertEqual(len(self.step().kind), 12)
        self.do(gestures.plan_mark(self.job.state, self.step(), "D-9", (5.0, 6.0, 7.0)))
        mark = self.job.state.mark_named("D-9")
        self.assertEqual(self.step().marks[-1], (mark.id if mark else "", 5.0, 6.0, 7.0))
        with self.assertRaises(ProcedureError):
            gestures.plan_mark(self.job.state, self.step(), "T-01", (5.0, 6.0, 7.0))
        self.do(gestures.leave_out(self.step(), [2, 11], True))
        self.do(gestures.take_out(self.step(), [10, 0]))
        self.assertEqual((len(self.step().kind), self.step().off), (10, (1, 9)))
        self.assertEqual((self.step().at[-1], self.step().to[-1]), ("T-03", "T-01"))
        self.assertIn("T-03", [m[0] for m in self.step().marks])
        known = [("a", 0.0, 0.0, 100.0), ("b", 50.0, 0.0, math.nan), ("c", 900.0, 0.0, 300.0)]
        bare = replace(self.step(), marks=())
        self.assertEqual(gestures.height_near(bare, known, 60.0, 0.0), ("a", 100.0))
        self.assertEqual(gestures.height_near(bare, [], 60.0, 0.0), ("", 0.0))
        with self.assertRaises(ProcedureError):
            gestures.new_design(self.job.state, "no frame")
        a, b = (self.job.state.mark_named(name) for name in ("W-2", "T-03"))
        assert a and b
        self.do(merge_marks(self.job.state, a, b))
        self.assertNotIn("T-03", {*self.step().at, *self.step().to})

    def test_an_empty_design_says_what_to_do(self) -> None:
        self.do(gestures.new_design(self.job.state, "dam"))
        key = list(self.job.state.of(DesignStep))[-1]
        found = self.derive(self.job).of_kind("design")[key]
        self.assertIsInstance(found, FenwindError)
        self.assertIn("Plan one between two marks", found.hint)
        step = self.job.state.of(DesignStep)[key]
        places = {"T-01": (693.4, 3240.3, 1241.0), "T-02": (1527.7, 3320.0, 1239.6)}
        self.do(gestures.plan_lines(self.job.state, step, "levelling", ("T-01", "T-02"), places.get))
        heights = self.derive(self.job).of_kind("design")[key]
        self.assertTrue(isinstance(heights, FenwindError) or heights.heights)


class Weights(DemoCase):
    def step(self) -> NetworkStep:
        return self.job.state.of(NetworkStep)["net-1"]

    def found(self, **changes: Any) -> Any:
        self.job.record(*change(self.step(), "x", **changes))
        return self.derive(self.job).of_kind("network")["net-1"]

    def test_balanced_biased_centred_weighed_down(self) -> None:
        plain = self.found()
        spread = {g.group: g.factor for g in plain.factors}
        balanced = self.found(components=True)
        self.assertAlmostEqual(balanced.variance_factor, 1.0, 5)
        self.assertGreater((spread["vector"] - 1.0) * (balanced.factors[0].factor - 1.0), 0.0)
        self.assertRegex(weighing_words(balanced), r"^Sigmas balanced by group: vector × 1\.1\d, direction")
        self.assertEqual(weighing_words(self.found(components=False)), "")
        bent = self.found(biases=(("refraction", "zenith"), ("scale", "distance"), ("turn", "vector")))
        self.assertEqual([b.kind for b, _, _ in bent.biases], ["refraction", "scale", "turn"])
        for bias, value, sigma in bent.biases:  # there is none in the demo
            self.assertLess(abs(value), 4.0 * sigma, bias)
        said = r"refraction of zenith .0\.\d{4} ± 0\.\d{4}, scale of distance [−+]\d+\.\d ± \d+\.\d ppm"
        self.assertRegex(weighing_words(bent), rf"^Found as well: {said}, turn of vector .* ″\. $")
        dof = plain.result.found.dof
        self.assertEqual(bent.result.found.dof, dof - 3)
        gone = self.found(biases=(("scale", "nothing"),))
        self.assertEqual((gone.biases, gone.result.found.dof), ((), dof))
        centred = self.found(biases=(), centring_m=0.002)
        i = plain.positions.index["P-11"]
        self.assertGreater(centred.positions.covariance[0, 0, i], plain.positions.covariance[0, 0, i])
        back = self.found(centring_m=0.0)
        self.job.record(*weigh_down(self.step(), [3, 5], 10.0))
        down = self.found()
        for row in (3, 5):
            more, less = (f.figures[f.rows[row]].redundancy for f in (down, back))
            self.assertTrue((more > less).all())
        self.job.record(*weigh_down(self.step(), [3], 1.0))
        self.assertEqual(self.step().down, ((5, 10.0),))

    def test_a_second_opinion(self) -> None:
        found = self.found(robust=True)
        self.assertEqual(opinion_words(found), "A robust second opinion finds nothing that stands out.")
        one = self.job.state.of(ObservationSet)["net-1-rows"]
        row = one.kind.index("distance")
        value = list(one.value)
        value[row] = (value[row][0] + 0.060,)
        self.job.record("wrong", (amend(one, value=tuple(value)),))
        found = self.found()
        said = opinion_words(found)
        self.assertIn(f"distance {one.at[row]} – {one.to[row]} (", said)
        self.assertEqual(said.count("("), 1)
        self.assertEqual(opinion_words(self.found(robust=False)), "")


class Epochs(DemoCase):
    def second(self, mark: str, e: float, n: float, h: float) -> None:
        """The same observations with other noise, and a mark that moved, in east, north and up."""
        one = self.job.state.of(ObservationSet)["net-1-rows"]
        net = self.derive(self.job).of_kind("network")["net-1"].result
        axes = net.about.axes[:, :, net.marks.index[mark]]
        way = axes.T @ np.array([e, n, h])
        rng = np.random.default_rng(4)
        values = []
        for kind, at, to, value, c in zip(one.kind, one.at, one.to, one.value, one.covariance, strict=True):
            v = np.array(value) + 0.3 * math.sqrt(c[0]) * rng.standard_normal(len(value))
            if kind == "vector":
                v += way * ((to == mark) - (at == mark) * 1.0)
            values.append(tuple(v.tolist()))
        other = replace(one, id="second-rows", name="Tarnholt 2027", value=tuple(values))
        step = replace(self.job.state.of(NetworkStep)["net-1"], id="net-2", name="Network 2",
                       observations="second-rows")  # fmt: skip
        self.job.record("second", (Add(record=other), Add(record=step)))

    def test_a_mark_that_moved(self) -> None:
        self.second("T-06", 0.030, -0.020, -0.015)
        self.job.record(*gestures.compare_epochs(self.job.state, "net-1", "net-2"))
        (key,) = self.job.state.of(EpochsStep)
        found = self.derive(self.job).of_kind("epochs")[key]
        d = found.found
        self.assertEqual([n for i, n in enumerate(d.names) if d.moved[i]], ["T-06"])
        i = d.names.index("T-06")
        np.testing.assert_allclose(d.moves[:, i], [0.030, -0.020, -0.015], atol=0.004)
        # On the plane of the frame bearings are smaller than true ones by the convergence, as PROJ has it.
        lon, lat = 8.295, 61.29
        gamma = math.radians(pyproj.Proj("EPSG:25832").get_factors(lon, lat).meridian_convergence)
        east, north = d.moves[:2, i]
        bearing = math.atan2(*found.moves[:2, i])
        self.assertAlmostEqual(bearing, math.atan2(east, north) - gamma, 4)
        self.assertEqual(found.frame, "map")
        drawing = self.derive(self.job).outcomes
        node = next(n for n in drawing if n.kind == "epochs")
        drawn = STEP_KINDS["epochs"].drawing(node, drawing[node].result)
        assert drawn is not None
        at = drawn.vector_marks.index("T-06")
        np.testing.assert_allclose(drawn.vectors[:, at], found.moves[:2, i])
        self.assertEqual(drawn.roles["T-03"], "held")
        step = self.job.state.of(EpochsStep)[key]
        stable = tuple(found.ids[n] for n in ("T-01", "T-02", "T-03", "T-04"))
        self.job.record(*gestures.change(step, "x", stable=stable))
        chosen = self.derive(self.job).of_kind("epochs")[key].found
        names = [n for i, n in enumerate(chosen.names) if chosen.stable[i]]
        self.assertEqual(names, ["T-01", "T-02", "T-03", "T-04"])
        self.job.record(*gestures.change(self.job.state.of(EpochsStep)[key], "x", second="net-1"))
        self.assertIn("both epochs are one network", str(self.derive(self.job).of_kind("epochs")[key]))
        with self.assertRaises(ProcedureError):
            gestures.compare_epochs(self.job.state, "net-1", "net-1")
