"""Networks as steps of a job: against the truth of the demo, against the command, blunders settled."""

import math
from typing import Any

import numpy as np
from pyproj import Transformer

from fenwind.doubts.of_job import Judge
from fenwind.doubts.settling import settle
from fenwind.errors import FenwindError
from fenwind.exchange.network_csv import observation_set, read_network
from fenwind.geodesy.frames import FrameSpec, open_frame
from fenwind.geodesy.geocentric import enu_axes, from_xyz, to_xyz
from fenwind.job.job import Job
from fenwind.job.network_gestures import change, hold, set_off, take_observations
from fenwind.job.steps.loops import _observed
from fenwind.procedures.network_loops import closures_of
from fenwind.procedures.network_whole import bearing_on
from fenwind.records.entries import Add, amend
from fenwind.records.network import NetworkStep, ObservationSet
from fenwind.records.records import FrameRecord, GivenPosition, Mark
from fenwind.reports.trail import trail
from fenwind.standins import tarnholt
from tests.support import CommandCase, DemoCase


class Demo(DemoCase):
    def found(self) -> Any:
        return self.derive(self.job).of_kind("network")["net-1"]

    def step(self) -> NetworkStep:
        return self.job.state.of(NetworkStep)["net-1"]

    def test_it_agrees_with_the_truth_as_it_says(self) -> None:
        found, true = self.found(), tarnholt.truth()
        self.assertGreater(found.p_value, 0.01)
        p = found.positions
        squares = []
        for i, key in enumerate(p.names):
            if key in ("T-01", "T-02"):
                self.assertEqual(float(p.covariance[0, 0, i]), 0.0)
                continue
            r = true.names.index(key)
            away = np.array(
                [p.e_m[i] - true.e_m[r], p.n_m[i] - true.n_m[r], p.height_m[i] - true.height_m[r]]
            )
            squares.append(float(away @ np.linalg.solve(p.covariance[:, :, i], away)))
        self.assertLess(max(squares), 21.1)  # 99.99 % of chi-square with 3
        # What is given itself is rounded to the millimetre, which all share; the mean square is near 3.
        self.assertLess(np.mean(squares), 6.0)

    def test_carried_into_a_frame_on_another_datum(self) -> None:
        """ED50, some 200 m away: by EPSG 1612 (Norway south of 62 N), as PROJ has it."""
        self.job.record("ed", [Add(record=FrameRecord(id="ed", spec=FrameSpec(name="ed", crs="EPSG:23032")))])
        found = self.found()
        own, there = found.positions, found.elsewhere["ed"]
        self.assertEqual(own.names, there.names)
        lat, lon = Transformer.from_crs("EPSG:25832", "EPSG:4258").transform(own.e_m, own.n_m)
        way = Transformer.from_pipeline("urn:ogc:def:coordinateOperation:EPSG::1612")
        lat, lon = way.transform(lat, lon, direction="INVERSE")
        e, n = Transformer.from_crs("EPSG:4230", "EPSG:23032").transform(lat, lon)
        np.testing.assert_allclose([there.e_m, there.n_m], [e, n], atol=3.0)
        self.assertGreater(float(np.min(np.hypot(there.e_m - own.e_m, there.n_m - own.n_m))), 50.0)

    def test_lines_show_what_is_checked_least_along_them(self) -> None:
        found = self.derive(self.job).of_kind("network")["net-1"]
        least: dict[frozenset[str], float] = {}
        for r, number in enumerate(found.rows):
            if number >= 0:
                ends = frozenset((found.observations.at[r], found.observations.to[r]))
                smallest = float(found.figures[number].redundancy.min())
                least[ends] = min(least.get(ends, 1.0), smallest)
        self.assertEqual({frozenset((a, b)): r for a, b, r in found.lines}, least)
        several = [ends for ends, rows in found.between.items() if len(rows) > 1]
        self.assertTrue(several, "lines along which more was observed")
        for ends, rows in found.between.items():
            for r in rows:
                row = found.result.net.rows[found.rows[r]]
                self.assertEqual(frozenset((row.at, row.to)), ends)

    def test_loops_of_the_job_close_as_those_of_the_command(self) -> None:
        """Vectors and heights as they are; distances from mark to mark, since instruments and targets stand
        higher."""
        closed = self.derive(self.job).of_kind("loops")["net-1"]
        kinds = [loop.kind for loop in closed.closures]
        self.assertEqual([kinds.count(k) for k in ("vector", "height", "triangle", "distance")], [6, 1, 1, 3])
        for loop in closed.closures:
            with self.subTest(names=loop.names):
                self.assertFalse(loop.over)
        true = tarnholt.truth()
        one = next(iter(self.job.state.of(ObservationSet).values()))
        loop = next(k for k in closed.closures if k.kind == "distance")
        for line in loop.lines:
            i, j = (true.names.index(one_end[line]) for one_end in (one.at, one.to))
            way = [true.e_m[j] - true.e_m[i], true.n_m[j] - true.n_m[i]]
            self.assertNotEqual(one.hi_m[line], one.ht_m[line])
            self.assertLess(abs(math.hypot(*way) * 1.0006 - loop.length), 1.0)
        # On the ellipsoid the angles of a triangle sum up to more than half a turn, by area / R^2.
        step, names = self.step(), {m.id: m.name for m in self.job.state.marks.values()}
        triangle = next(k for k in closed.closures if k.kind == "triangle")
        flat = closures_of(list(_observed(step, one, names)), True)
        plain = next(k for k in flat if k.lines == triangle.lines)
        corners = [true.names.index(name) for name in triangle.names[:3]]
        (e0, e1, e2), (n0, n1, n2) = true.e_m[corners], true.n_m[corners]
        area = abs((e1 - e0) * (n2 - n0) - (e2 - e0) * (n1 - n0)) / 2.0
        excess = float(plain.misclosure[0] - triangle.misclosure[0])
        self.assertAlmostEqual(excess / (area / 6.385e6**2 * 206_265.0), 1.0, delta=0.02)  # seconds
        # A vector that is wrong stands in every loop that misses; it is named, and can be left out.
        values = list(one.value)
        row = next(i for i in range(len(one.kind)) if {one.at[i], one.to[i]} == {"T-05", "T-04"})
        values[row] = (values[row][0] + 0.3, *values[row][1:])
        self.job.record("blunder", [amend(one, value=tuple(values))])
        doubts = Judge().judge(self.job.state, self.derive(self.job)).open
        named = [d for d in doubts if d.rule == "loops.vector"]
        self.assertEqual([set(d.names) for d in named], [{"T-05", "T-04"}])
        told = [d for d in doubts if d.rule == "loops.misclosure"]
        self.assertEqual(len(told), 1, "the worst is told, the others are counted")
        self.assertRegex(told[0].text, r"So do \d more loops\.")
        self.job.record(*settle(self.job.state, named[0], named[0].remedies[0]))
        self.assertEqual(self.step().off, (row,))
        after = self.derive(self.job).of_kind("loops")["net-1"]
        self.assertFalse(any(loop.over for loop in after.closures))
        self.job.record(*change(self.step(), "limit", loop_limit=(0.001, 1e-6)))
        tight = self.derive(self.job).of_kind("loops")["net-1"]
        vector = next(loop for loop in tight.closures if loop.kind == "vector")
        np.testing.assert_allclose(vector.limit, 0.001 + 1e-6 * vector.length)

    def test_it_is_adopted_with_its_joint_covariance_and_a_trail(self) -> None:
        derived = self.derive(self.job)
        adopted = derived.adopted["map"]
        i, j = adopted.place["P-11"], adopted.place["P-12"]
        self.assertEqual((adopted.basis[i], adopted.why[i]), ("adjusted", "adjusted in Network 1"))
        joint = adopted.difference_covariance(i, j)
        own = sum(adopted.sets[adopted.set_row[k]].positions.covariance[:, :, adopted.row[k]] for k in (i, j))
        # 90 m apart and measured to each other by total station and level: far better than each alone.
        self.assertLess(float(joint[2, 2]), 0.4 * float(own[2, 2]))
        # A mark that is held brings nothing of its own: the difference is the other's covariance.
        p = self.found().positions
        between = p.difference_covariance(p.index["T-02"], p.index["P-11"])
        np.testing.assert_allclose(between, p.covariance[:, :, p.index["P-11"]], atol=1e-15)
        links = trail(self.job.state, derived, self.job.state.marks["P-11"], "map")
        titles = [link.title for link in links]
        self.assertIn("Observed at P-11", titles)
        note = links[titles.index("Observed at P-11")].note
        kinds, _, most = note.partition("; most bear on it: ")
        self.assertEqual(kinds, "6 directions, 6 zeniths, 6 distances, 2 height differences")
        found = self.found()
        number, size = bearing_on(found.result, "P-11")[0]
        row = found.result.net.rows[number]
        self.assertTrue(most.startswith(f"{row.kind} {row.at} – {row.to} ({size * 1000:.1f} mm a sigma), "))
        self.assertEqual(most.count("a sigma"), 3)
        # One sigma more in that observation moves the mark so far.
        one = self.job.state.of(ObservationSet)["net-1-rows"]
        k = found.rows.index(number)
        values = list(one.value)
        values[k] = (values[k][0] + math.sqrt(one.covariance[k][0]),)
        self.job.record("x", (amend(one, value=tuple(values)),))
        after, i = self.found().positions, found.positions.index["P-11"]
        way = [after.e_m[i] - found.positions.e_m[i], after.n_m[i] - found.positions.n_m[i],
               after.height_m[i] - found.positions.height_m[i]]  # fmt: skip
        self.assertAlmostEqual(float(np.linalg.norm(way)), size, 6)

    def test_a_blunder_is_named_and_left_out_with_one_click(self) -> None:
        from fenwind.records.network import ObservationSet

        one = self.job.state.of(ObservationSet)["net-1-rows"]
        row = next(i for i, k in enumerate(one.kind) if k == "distance" and one.to[i] == "P-12")
        value = list(one.value)
        value[row] = (one.value[row][0] + 0.05,)
        self.job.record("blunder", [amend(one, value=tuple(value))])
        doubts = [
            d for d in Judge().judge(self.job.state, self.derive(self.job)).open if d.rule.startswith("adj")
        ]
        self.assertEqual(doubts[0].rule, "adjust.distance")
        self.assertEqual(set(doubts[0].names[:2]), {one.at[row], "P-12"})
        self.assertAlmostEqual(doubts[0].value or 0.0, 0.05, delta=0.008)
        self.job.record(*settle(self.job.state, doubts[0], doubts[0].remedies[0]))
        self.assertEqual(self.step().off, (row,))
        self.assertEqual(self.found().rows[row], -1)
        self.assertGreater(self.found().p_value, 0.01)
        self.job.record(*set_off(self.step(), [row], False))
        self.assertLess(self.found().p_value, 1e-6)

    def test_what_it_lies_on(self) -> None:
        before = self.found()
        self.job.record(*hold(self.step(), "hold", ("T-01",)))
        one = self.found()
        self.assertGreater(float(one.positions.covariance[0, 0, one.positions.index["T-02"]]), 0.0)
        self.job.record(*hold(self.step(), "free"))
        free = self.found()
        self.assertEqual(free.result.found.dof, one.result.found.dof)
        self.assertAlmostEqual(free.variance_factor, one.variance_factor, 5)
        self.job.record(*hold(self.step(), "weighted"))
        weighted = self.found()
        # Given to 3 mm in plan and 6 mm in height: what is observed can only make that better.
        i = weighted.positions.index["T-01"]
        sigma = np.sqrt(np.diag(weighted.positions.covariance[:, :, i])) * 1000.0
        self.assertTrue(sigma[0] < 3.0 < sigma[2] < 6.0, sigma)
        self.assertEqual(weighted.result.found.dof, before.result.found.dof)
        self.job.record(*change(self.step(), "plumb lines", slope=False))
        flat = self.found()
        self.assertNotAlmostEqual(flat.variance_factor, weighted.variance_factor, 2)
        self.job.record(*change(self.step(), "refraction", k=1.5))
        self.assertGreater(self.found().variance_factor, 1.2 * flat.variance_factor)


class FromFiles(CommandCase):
    """Files taken into a job: in US survey feet in the south, and heights alone beside the command."""

    CODE = "+proj=tmerc +lat_0=-41 +lon_0=173 +k=0.9999 +x_0=300000 +y_0=500000 +ellps=GRS80 +units=us-ft"

    def test_space_in_feet_in_the_south(self) -> None:
        """C from distances to three known marks and levelling from two of them."""
        frame = open_frame(FrameSpec(name="south", crs=self.CODE, unit="ftUS"))
        lat = np.radians([-41.2, -41.205, -41.203, -41.196])
        lon = np.radians([174.8, 174.806, 174.815, 174.811])
        h = np.array([120.0, 141.0, 133.0, 98.0])
        e, n = frame.forward(lat, lon)
        known = range(3)
        job = Job.create(
            self.path("j.fenwind"), "south",
            [FrameRecord(id="f", spec=frame.spec), *(Mark(id=f"m{k}", name="ABD"[k]) for k in known),
             *(GivenPosition(id=f"g{k}", mark=f"m{k}", frame="f", e_m=float(e[k]), n_m=float(n[k]),
                             height_m=float(h[k])) for k in known)], "f",
        )  # fmt: skip
        self.addCleanup(job.close)
        xyz = [to_xyz(float(a), float(b), float(c)) for a, b, c in zip(lat, lon, h, strict=True)]
        rows = ["kind,at,to,value,sigma,unit"]
        rows += [f"distance,{'ABD'[k]},C,{math.dist(xyz[k], xyz[3])!r},0.01,m" for k in (0, 1)]
        way, middle = xyz[3] - xyz[2], 0.5 * (xyz[3] + xyz[2])
        level = math.sqrt(way @ way - (way @ enu_axes(*from_xyz(middle)[:2])[2]) ** 2)
        rows.append(f"horizontal_distance,D,C,{level!r},0.01,m")
        rows += [f"height_difference,{'AB'[k]},C,{float(h[3] - h[k])!r},0.002,m" for k in range(2)]
        path = self.write("o.csv", "\n".join([*rows, ""]))
        job.record(*take_observations(job.state, observation_set(read_network(path), "o", path), "f"))
        result = next(iter(self.derive(job).of_kind("network").values()))
        i = result.positions.index[job.state.mark_named("C").id]
        np.testing.assert_allclose(
            [result.positions.e_m[i], result.positions.n_m[i], result.positions.height_m[i]],
            [e[3], n[3], h[3]], atol=2e-5,
        )  # fmt: skip

    def test_levelling_against_the_command(self) -> None:
        """Heights alone: the same as `fenwind adjust`, which is checked against worked examples."""
        path = self.write(
            "l.csv",
            "kind,at,to,value,sigma\nheight_difference,A,B,1.234,0.002\nheight_difference,B,C,-0.517,0.003\n"
            "height_difference,C,A,-0.712,0.002\nheight_difference,B,D,2.001,0.004\n"
            "height_difference,D,C,-2.523,0.004\n",
        )
        wanted = self.run_json("adjust", path, self.write("k.csv", "name,h\nA,100.0\n"))
        job = Job.create(
            self.path("l.fenwind"), "levels",
            [FrameRecord(id="f", spec=FrameSpec(name="local")), Mark(id="a", name="A"),
             GivenPosition(id="g", mark="a", frame="f", e_m=None, n_m=None, height_m=100.0)], "f",
        )  # fmt: skip
        self.addCleanup(job.close)
        job.record(*take_observations(job.state, observation_set(read_network(path), "l", path), "f"))
        found = next(iter(self.derive(job).of_kind("network").values()))
        self.assertAlmostEqual(found.variance_factor, wanted["variance_factor"], 9)
        names = {m.id: m.name for m in job.state.marks.values()}
        for i, key in enumerate(found.positions.names):
            one = next(p for p in wanted["positions"] if p["name"] == names[key])
            self.assertAlmostEqual(float(found.positions.height_m[i]), one["h"], 9)
            self.assertAlmostEqual(float(found.positions.covariance[2, 2, i]), one["covariance"][0][0], 12)
        # A mark that is renamed keeps its observations.
        job.record("rename", [amend(job.state.mark_named("D"), name="D-1")])
        again = next(iter(self.derive(job).of_kind("network").values()))
        self.assertEqual(again.variance_factor, found.variance_factor)
        self.assertIn("D-1", again.result.marks.names)

    def test_refusals(self) -> None:
        job = Job.create(self.path("e.fenwind"), "empty")
        self.addCleanup(job.close)
        path = self.write("o.csv", "kind,at,to,value\ndistance,A,B,10\n")
        one = observation_set(read_network(path), "o", path)
        with self.assertRaisesRegex(FenwindError, "no frame"):
            take_observations(job.state, one, "")
