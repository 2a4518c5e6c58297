"""What doubts say: names, counts and places in the words that people read."""

import math
import re
import unittest
from dataclasses import replace

import numpy as np

from fenwind.doubts import fit_blunders, fit_evidence, fit_geometry
from fenwind.doubts.registry import Doubt
from fenwind.doubts.rules import doubts_about_job
from fenwind.records.entries import Add, amend
from fenwind.records.records import Mark
from tests.support import TempFolder, made_up_pairs

AREA = tuple(math.radians(v) for v in (6.0, 60.0, 12.0, 63.0))


class OfFits(unittest.TestCase):
    def places(self, wrong: int, lon: float) -> list[Doubt]:
        """Doubts about `wrong` marks at a longitude outside the area, all others inside."""
        lats, lons = np.full(8, math.radians(61.5)), np.full(8, math.radians(8.25))
        lons[:wrong] = math.radians(lon)
        case = made_up_pairs(k=8).case(area=AREA, lat=lats, lon=lons, height="shift")
        return [*fit_blunders.longitude_sign(case), *fit_geometry.outside_area(case)]

    def test_longitudes(self) -> None:
        for wrong, lon, words in (
            (1, -8.25, "The longitude of T-01 lacks its sign or has one too many: −8.2500° is outside the "
             "frame's area of use, 8.2500° is inside."),
            (3, -8.25, "of T-01, T-02, T-03 lacks"),
            (4, -8.25, "of T-01, T-02, T-03 and 1 more lacks"),
            (1, 14.5, "T-01 at 61.500°, 14.500° lies outside"),
            (3, 14.5, "T-01 and 2 more at 61.500°, 14.500° lies outside"),
        ):  # fmt: skip
            (doubt,) = self.places(wrong, lon)
            self.assertIn(words, doubt.text)
            self.assertAlmostEqual(doubt.value or 0.0, lon)
            self.assertAlmostEqual(doubt.limit or 0.0, 6.0 if lon < 0 else 12.0)

    def test_how_many_lie_over_the_tolerance(self) -> None:
        for count in (1, 4, 5, 6):
            pairs = made_up_pairs(k=30, noise=0.0)
            pairs.known[0, :count] += 0.06 * (-1.0) ** np.arange(count)
            case = pairs.case(horizontal="turn", height="none", tolerance_h_m=0.04)
            doubt = next(iter(fit_evidence.residual_over_tolerance(case)))
            self.assertEqual(len(doubt.names), count)
            self.assertEqual(" more" in doubt.text, count > 4)
            if count > 4:
                self.assertIn(f"and {count - 4} more", doubt.text)

    def test_the_scale_that_the_pairs_want(self) -> None:
        case = made_up_pairs(scale=1.0007).case(horizontal="turn")
        (doubt,) = fit_evidence.scale_unexplained(case)
        shown = re.search(r"a scale of ([+−\d.]+) ± ([\d.]+) ppm", doubt.text)
        assert shown is not None
        trial = next(t for t in case.result.models if t.model == "scale")
        self.assertAlmostEqual(float(shown[1].replace("−", "-")), (trial.scale - 1.0) * 1e6, delta=0.051)
        self.assertLess(float(shown[2]), 5.0)

    def test_a_pivot_with_pairs_beside_it_is_redundant_enough(self) -> None:
        pivot = {"horizontal": "pivot", "pivot": ("T-01", "T-02"), "height": "none"}
        self.assertEqual([*fit_evidence.no_redundancy(made_up_pairs(k=4).case(**pivot))], [])
        (alone,) = fit_evidence.no_redundancy(made_up_pairs(k=2).case(**pivot))
        self.assertIn("In plan the pairs held", alone.text)
        (both,) = fit_evidence.no_redundancy(made_up_pairs(k=1).case(horizontal="shift", height="shift"))
        self.assertIn("In plan and height", both.text)

    def test_three_pairs_with_axes_exchanged(self) -> None:
        for k in (3, 8):
            pairs = made_up_pairs(k=k, noise=0.0)
            pairs.known[:2] = pairs.known[1::-1].copy()
            (doubt, *_) = fit_blunders.swapped_axes(pairs.case(horizontal="scale", height="none"))
            self.assertEqual(len(doubt.names), k)


class OfJobs(TempFolder):
    def test_words_of_records(self) -> None:
        job = self.demo()
        self.addCleanup(job.close)
        state = job.state
        known = state.given["g-T-02"]
        for name, entries, words in (
            ("one decimal", [amend(known, height_m=1239.7)], "The height of T-02 has 1 decimal, most others"),
            (
                "none and one",
                [amend(state.given["g-T-01"], height_m=1240.0), amend(known, height_m=1239.7)],
                "The heights of T-01, T-02 have at most 1 decimal, most others",
            ),
            ("none", [amend(known, height_m=1240.0)], "The height of T-02 has 0 decimals"),
            ("two of them", [amend(known, height_m=1239.7), amend(state.given["g-T-03"], height_m=1240.6)],
             "The heights of T-02, T-03 have 1 decimal"),
            ("near", [Add(record=Mark(id="n", name="T-02A")),
                      Add(record=replace(known, id="gn", mark="n", n_m=known.n_m + 0.004))],
             "T-02 and T-02A lie 4.0 mm apart: one mark under two names?"),
        ):  # fmt: skip
            with self.subTest(name):
                job.record(name, entries)
                texts = [d.text for d in doubts_about_job(state, self.derive(job))]
                self.assertTrue(any(words in text for text in texts), texts)
                job.undo()

    def test_switched_off_control_is_at_one_place(self) -> None:
        job = self.demo()
        self.addCleanup(job.close)
        again = replace(job.state.given["g-T-02"], id="again", e_m=10.0, active=False)
        job.record("off", [Add(record=again)])
        self.assertEqual(doubts_about_job(job.state, self.derive(job)), ())
