"""Every limit of every rule: silent just below it, heard just above it, with the number and the limit it
names."""

import math
import unittest
from collections.abc import Callable
from dataclasses import replace
from types import SimpleNamespace
from typing import Any

import numpy as np

from fenwind.doubts.job_rules import _coarse
from fenwind.doubts.of_job import Judge, _grown
from fenwind.doubts.registry import Doubt, Remedy
from fenwind.doubts.resect_rules import Looked, _causes
from fenwind.doubts.rules import doubts_about_fit, doubts_about_job
from fenwind.doubts.session_rules import _from_others, _from_reference
from fenwind.doubts.settling import accept, settle
from fenwind.doubts.setup_job import _checks
from fenwind.geodesy.geocentric import to_xyz
from fenwind.procedures.resection import solve
from fenwind.procedures.rover import Point, mean
from fenwind.procedures.shared_errors import Errors
from fenwind.quantities.lengths import FOOT
from fenwind.records.entries import Add, Entry, amend
from fenwind.records.records import GivenPosition, Mark
from tests.procedures.test_resection_squares import case_of
from tests.support import Pairs, TempFolder, made_up_pairs

#: A check from a setup, ways east, north and up, and what is told: too much in plan comes first.
CHECKS = (
    ((0.012, 0.0089, 0.0), None), ((0.012, 0.0091, 0.0), (0.01506, 0.015, "plan")),
    ((0.0, 0.0, -0.0199), None), ((0.0, 0.0, -0.0201), (0.0201, 0.020, "height")),
    ((0.0, -0.3, 0.5), (0.3, 0.015, "plan")),
)  # fmt: skip
ALL_CHECK = frozenset(["T-04"])


def exact(k: int = 8, marks: int = 0) -> Pairs:
    """Pairs without noise."""
    return made_up_pairs(k=k, marks=marks, noise=0.0)


def turned(e: float, n: float) -> tuple[float, float]:
    """A vector of the measured system in the known one (made_up_pairs turns by 0.21)."""
    c, s = math.cos(0.21), math.sin(0.21)
    return c * e + s * n, -s * e + c * n


def off_in_plan(row: int, by: float) -> Pairs:
    pairs = exact()
    pairs.known[0, row] += by
    return pairs


def off_in_height(row: int, by: float) -> Pairs:
    pairs = exact()
    pairs.known[2, row] += by
    return pairs


def tilted(slope: float) -> Pairs:
    pairs = exact()
    pairs.known[2] += slope * pairs.known[1]
    return pairs


def stretched(ratio: float) -> Pairs:
    pairs = exact()
    pairs.known *= ratio
    return pairs


def on_line(breadth: float) -> Pairs:
    """Pairs in a strip 1000 m long and `breadth` broad."""
    pairs = exact()
    along = np.array([0.0, 1000.0, 100.0, 350.0, 500.0, 650.0, 800.0, 950.0])
    across = breadth * np.array([0.0, 0.0, 1.0, 0.0, 1.0, 0.0, 0.5, 1.0])
    pairs.measured[:2] = [463000 + along, 6796000 + across]
    e, n = turned(along, across)
    pairs.known[:2] = [1300 + e, 2100 + n]
    return pairs


def far(distance: float) -> Pairs:
    """Four pairs on the corners of a square of 300 m and a mark `distance` east of it."""
    pairs = exact(k=4, marks=1)
    e, n = np.array([0.0, 300.0, 300.0, 0.0]), np.array([0.0, 0.0, 300.0, 300.0])
    pairs.measured[:2, :4] = [463000 + e, 6796000 + n]
    pairs.measured[:2, 4] = [463300 + distance, 6796150]
    east, north = turned(e, n)
    pairs.known[:2] = [1300 + east, 2100 + north]
    return pairs


#: Diagonal of the box, along the axes of the known system, around the square of `far` (it is turned by 0.21).
SPAN = math.sqrt(2.0) * 300.0 * (math.cos(0.21) + math.sin(0.21))

#: rule, options, maker, value below, value above, (value, limit) told above; None where it is not pinned
#: here.
Case = tuple[str, dict, Callable[[float], Pairs], float, float, tuple[float | None, float | None]]
FITS: tuple[Case, ...] = (
    ("fit.residual-plan", {"check": ALL_CHECK}, lambda v: off_in_plan(3, v), 0.0098, 0.0102, (0.0102, 0.010)),
    (
        "fit.residual-height", {"check": ALL_CHECK}, lambda v: off_in_height(3, v), 0.0198, 0.0202,
        (0.0202, 0.020),
    ),
    ("fit.outlier", {"horizontal": "turn"}, lambda v: off_in_plan(3, v), 0.0098, 0.0102, (0.0102, 0.010)),
    ("fit.outlier-height", {}, lambda v: off_in_height(3, v), 0.0198, 0.0202, (0.0202, 0.020)),
    ("fit.tilt", {"height": "plane"}, tilted, 99e-6, 101e-6, (101e-6, 100e-6)),
    ("fit.plane-on-line", {"height": "plane"}, on_line, 97.5, 94.0, (None, 0.10)),
    ("fit.far-outside", {}, far, 251.0, 255.0, (None, SPAN / 2)),
    ("fit.unit-ratio", {}, lambda v: stretched((1 + v) / FOOT.metres), 1.2e-3, 0.8e-3, (None, 1.0)),
    (
        "fit.scale", {"horizontal": "turn"}, lambda v: made_up_pairs(noise=1e-5, scale=1 + v), 1.9e-6,
        2.6e-6, (2.6, 0.0),
    ),
)  # fmt: skip


class SetupChecks(unittest.TestCase):
    def test_in_plan_and_in_height(self) -> None:
        at = np.array([10.0, 20.0, 5.0])
        for away, told in CHECKS:
            with self.subTest(away):
                placed: Any = SimpleNamespace(
                    part=("used", "check"), setup=SimpleNamespace(id="s", name="S1", target=("u", "t")),
                    shots=SimpleNamespace(position=np.stack([np.ones(3), at + away], axis=1)),
                    known={"t": SimpleNamespace(at=at)}, names={"t": "T"},
                )  # fmt: skip
                found = [
                    (round(d.value or 0.0, 5), d.limit, d.text.split()[-1][:-1]) for d in _checks(placed)
                ]
                self.assertEqual(found, [told] if told else [])


class OfFits(unittest.TestCase):
    def test_limits(self) -> None:
        for rule, options, make, below, above, (value, limit) in FITS:
            with self.subTest(rule):
                quiet = [d for d in doubts_about_fit(make(below).case(**options)) if d.rule == rule]
                self.assertEqual(quiet, [])
                heard = [d for d in doubts_about_fit(make(above).case(**options)) if d.rule == rule]
                self.assertEqual(len(heard), 1)
                if value is not None:
                    self.assertAlmostEqual(heard[0].value / value, 1.0, delta=0.01)
                if limit:
                    self.assertAlmostEqual(heard[0].limit / limit, 1.0, delta=0.01)

    def test_tilt_over_a_geoid_is_held_tighter(self) -> None:
        for slope, over_geoid, wanted in ((19e-6, True, 0), (21e-6, True, 1), (21e-6, False, 0)):
            case = tilted(slope).case(height="plane", over_geoid=over_geoid)
            self.assertEqual(sum(d.rule == "fit.tilt" for d in doubts_about_fit(case)), wanted)

    def test_edges_of_the_area_of_use(self) -> None:
        """Just inside and outside each side of 6 to 12 E, 38 to 84 N, and an area across 180 degrees."""
        area = tuple(math.radians(v) for v in (6.0, 38.0, 12.0, 84.0))
        across = tuple(math.radians(v) for v in (176.0, -50.0, -176.0, -30.0))
        rows = [
            (area, 61.0, 6.001, 0), (area, 61.0, 5.999, 1), (area, 61.0, 11.999, 0), (area, 61.0, 12.001, 1),
            (area, 38.001, 9.0, 0), (area, 37.999, 9.0, 1), (area, 84.001, 9.0, 1),
            (across, -40.0, 179.0, 0), (across, -40.0, -177.0, 0), (across, -40.0, -175.9, 1),
            (across, -40.0, 175.9, 1),
        ]  # fmt: skip
        for box, lat, lon, wanted in rows:
            with self.subTest(lat=lat, lon=lon):
                pairs = exact()
                k = len(pairs.names)
                case = pairs.case(area=box, lat=np.radians(np.full(k, lat)), lon=np.radians(np.full(k, lon)))
                found = [d for d in doubts_about_fit(case) if d.rule == "fit.outside-area"]
                self.assertEqual(len(found), wanted)
                if wanted:
                    self.assertAlmostEqual(found[0].value, lon)
                    side = math.degrees(box[0] if math.radians(lon) < box[0] else box[2])
                    self.assertAlmostEqual(found[0].limit, side)

    def test_checks_and_redundancy_count(self) -> None:
        def rules(pairs: Pairs, **options: object) -> set[str]:
            return {d.rule for d in doubts_about_fit(pairs.case(**options))}

        self.assertIn("fit.no-redundancy", rules(exact(k=2), horizontal="scale"))
        self.assertNotIn("fit.no-redundancy", rules(exact(k=3), horizontal="scale"))
        self.assertIn("fit.no-check", rules(exact()))
        self.assertNotIn("fit.no-check", rules(exact(), check=ALL_CHECK))
        held_in_height = {"check": frozenset(), "no_horizontal": ALL_CHECK}
        self.assertIn("fit.no-check", rules(exact(), **held_in_height), "its height still takes part")


class OfJobs(TempFolder):
    def setUp(self) -> None:
        super().setUp()
        self.job = self.demo()

    def told(self, *entries: Entry) -> dict[str, Doubt]:
        self.job.record("plant", entries)
        found = {d.rule: d for d in doubts_about_job(self.job.state, self.derive(self.job))}
        self.job.undo()
        return found

    def test_two_places_and_two_names(self) -> None:
        state = self.job.state
        known, occupied = state.given["g-T-02"], state.measured["m-T-01-1"]
        near = Mark(id="near", name="T-02A")
        meridian = 6_386_900.0  # radius of curvature of the meridian at 61.3 N, GRS80

        def given_again(by: float) -> tuple[Entry, ...]:
            return (Add(record=replace(known, id="again", n_m=known.n_m + by)),)

        def beside(by: float, up: float = 0.0) -> tuple[Entry, ...]:
            here = replace(known, id="g-near", mark="near", n_m=known.n_m + by, height_m=known.height_m + up)
            return (Add(record=near), Add(record=here))

        def occupied_off(by: float) -> tuple[Entry, ...]:
            return (amend(occupied, lat_rad=occupied.lat_rad + by / meridian),)

        rows = [
            ("marks.two-places", given_again(0.0195), given_again(0.0205), 0.0205, 0.020),
            ("marks.two-places", occupied_off(0.17), occupied_off(0.24), None, 0.10),
            ("marks.two-names", beside(0.0205), beside(0.0195), 0.0195, 0.020),
            ("marks.two-names", beside(0.01, 0.301), beside(0.01, 0.299), 0.01, 0.020),
        ]
        for rule, below, above, value, limit in rows:
            with self.subTest(rule):
                self.assertNotIn(rule, self.told(*below))
                found = self.told(*above)
                self.assertIn(rule, found)
                self.assertAlmostEqual(found[rule].limit, limit)
                if value is not None:
                    self.assertAlmostEqual(found[rule].value, value, places=6)

    def test_coarse_heights(self) -> None:
        known = self.job.state.given["g-T-02"]
        self.assertNotIn("marks.coarse-height", self.told(amend(known, height_m=1239.71)))
        found = self.told(amend(known, height_m=1239.7))["marks.coarse-height"]
        self.assertEqual((found.value, found.limit, found.names), (1, 2, ("T-02",)))
        for count, words in ((1, "The height of A has"), (4, "The heights of A, B, C, D have"),
                             (6, "The heights of A, B, C, D and 2 more have")):  # fmt: skip
            self.assertTrue(_coarse("f", [(name, 1) for name in "ABCDEF"[:count]], 3).text.startswith(words))

    def test_what_grows_to_either_side_has_grown(self) -> None:
        for now, then, grown in (
            (-1.2, -1.0, True), (-1.05, -1.0, False), (1.2, -1.0, True), (-1.2, 1.0, True),
            (None, 1.0, False), (5.0, None, False),
        ):  # fmt: skip
            self.assertEqual(_grown(now, then), grown, (now, then))

    def test_an_acceptance_holds_to_a_tenth_more_and_ends_when_withdrawn(self) -> None:
        state, judge = self.job.state, Judge()
        known = state.given["g-T-02"]
        self.job.record("twice", [Add(record=replace(known, id="again", n_m=known.n_m + 0.5))])
        doubt = next(
            d for d in judge.judge(state, self.derive(self.job)).open if d.rule == "marks.two-places"
        )
        self.job.record(*accept(doubt, "two bolts"))
        for apart, holds in ((0.54, True), (0.56, False), (0.3, True)):
            self.job.record("moved", [amend(state.given["again"], n_m=known.n_m + apart)])
            accepted = [d.rule for d, _ in judge.judge(state, self.derive(self.job)).accepted]
            self.assertEqual("marks.two-places" in accepted, holds, apart)
        acceptance = next(iter(state.acceptances.values()))
        self.job.record("withdraw", [amend(acceptance, active=False)])
        findings = judge.judge(state, self.derive(self.job))
        self.assertEqual(findings.accepted, ())
        self.assertIn("marks.two-places", [d.rule for d in findings.open])

    def test_a_remedy_records_the_doubt_as_its_reason(self) -> None:
        doubt = Doubt(rule="x", subject="fit-1", names=("T-03", "T-04"), text="They look exchanged.")
        self.job.record(*settle(self.job.state, doubt, Remedy(kind="exchange", label="", names=doubt.names)))
        for name in doubt.names:
            self.assertEqual(self.job.state.amendments[f"g-{name}"][0].reason, "They look exchanged.")
        swapped = Remedy(kind="swap-axes", label="", names=("T-01",))
        before = self.job.state.given["g-T-01"]
        self.job.record(*settle(self.job.state, doubt, swapped))
        after = self.job.state.given["g-T-01"]
        self.assertEqual((after.e_m, after.n_m), (before.n_m, before.e_m))
        self.assertEqual(self.job.state.amendments["g-T-01"][0].reason, doubt.text)
        self.assertIsInstance(after, GivenPosition)


class FromOthers(unittest.TestCase):
    def test_all_at_once_as_one_by_one(self) -> None:
        """Three from one base and two from another: what a base's error is worth drops out among its own."""
        rng = np.random.default_rng(11)

        def source(size: float) -> tuple[np.ndarray, np.ndarray]:
            half = rng.normal(0.0, size, (3, 3))
            return np.eye(3), half @ half.T

        bases = {key: Errors({key: source(0.02)}) for key in ("base 1", "base 2")}
        points = []
        for k in range(5):
            key = "base 1" if k < 3 else "base 2"
            errors = Errors({f"vector {k}": source(0.004)}, [(np.eye(3), bases[key])])
            points.append(Point(xyz=to_xyz(-0.58, -1.23, 812.0) + rng.normal(0.0, 0.02, 3), errors=errors))
        found = np.array(_from_others(points))
        for k in range(5):
            wanted = np.array(_from_reference(points[k], mean(points[:k] + points[k + 1 :])))
            np.testing.assert_allclose(found[:2, k], wanted[:2, 0], atol=1e-8)
            np.testing.assert_allclose(found[2:, k], wanted[2:, 0], rtol=1e-6)
        self.assertTrue((found[2:] > 0.026).all(), "what is allowed comes from the sigmas")


class OneHeight(unittest.TestCase):
    def test_a_blunder_where_a_single_target_gives_the_height(self) -> None:
        case = case_of(2, True, 1.0, False)
        case.used[2, 1:] = False
        case.reduced.hd[3] += 0.5
        look = Looked(
            case=case, found=solve(case, "fixed"), scale="fixed", others={}, checks=1, collimation_s=0.0,
            index_s=0.0,
        )  # fmt: skip
        self.assertEqual({d.names for d in _causes(look)}, {("D",)})
