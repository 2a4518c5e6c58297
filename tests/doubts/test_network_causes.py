"""What many values of a network share is named by its cause, in the demo's network with noise from a seed
(simulated truth); `bench.blunders` does it with all kinds and many draws."""

import math
import unittest
from dataclasses import replace

import numpy as np
from bench.blunders import clean, doubts, kinds, right

from fenwind.doubts.network_causes import shared
from fenwind.procedures.network_case import determined
from fenwind.procedures.network_model import base_axes
from fenwind.standins import tarnholt
from fenwind.standins.tarnholt_days import true_places
from tests.support import TempFolder

#: One of each rule.
TRIED = (
    ("a scale of 60 ppm", 60.0, 8.0, "too long"),
    ("a constant of -0.034 m", -0.034, 0.006, "too short"),
    ("antenna at T-04 -0.1 m", -0.1, 0.015, ""),
    ("instrument height at P-11 -0.3 m", -0.3, 0.02, ""),
    ("instrument at P-12 0.1 m beside", 0.1, 0.02, "mm east and"),
    ("T-02 booked, T-04 sighted", None, 0.0, ""),
    ("easting and northing exchanged", None, 0.0, ""),
    ("the sign of the longitude", None, 0.0, ""),
    ("heights of the control without the geoid", None, 0.0, ""),
)


class Causes(TempFolder):
    def setUp(self) -> None:
        super().setUp()
        tarnholt.write_grid(self.folder)

    def test_each_is_named_and_nobody_else(self) -> None:
        tried = {words: (change, expected) for words, change, expected in kinds()}
        for seed, (words, value, delta, said) in enumerate(TRIED):
            with self.subTest(words):
                change, expected = tried[words]
                told = doubts(change(clean(self.folder, 420 + seed)))
                self.assertTrue(right(told, expected), [(d.rule, d.names, d.text) for d in told if d.grave])
                first = next(d for d in told if d.grave)
                self.assertIn(said, first.text)
                if value is not None:
                    self.assertAlmostEqual(first.value or 0.0, value, delta=delta)

    def test_an_antenna_beside_its_mark(self) -> None:
        net = clean(self.folder, 602)
        place = np.array([[float(v)] for v in true_places()["T-04"]])
        north = base_axes(net, place)[1, :, 0]
        rows = tuple(
            replace(r, value=r.value + ((r.to == "T-04") - (r.at == "T-04")) * 0.12 * north)
            if r.kind == "vector" else r for r in net.rows
        )  # fmt: skip
        first = next(d for d in doubts(replace(net, rows=rows)) if d.grave)
        self.assertEqual((first.rule, first.names), ("adjust.centring", ("T-04",)))
        self.assertRegex(first.text, r"1[12]\d\.\d mm north")

    def test_sigmas_of_a_group_that_are_too_small(self) -> None:
        """Of vectors, which are many: ten distances do not tell small sigmas from a wrong value."""
        for seed in (604, 605):
            net = clean(self.folder, seed)
            rows = tuple(replace(r, covariance=r.covariance / 9.0) if r.kind == "vector" else r
                         for r in net.rows)  # fmt: skip
            first = next(d for d in doubts(replace(net, rows=rows)) if d.grave)
            self.assertEqual((first.rule, first.names), ("adjust.sigma", ("vector",)))
            self.assertAlmostEqual(first.value or 0.0, 3.0, delta=0.7)

    def test_sigmas_that_are_too_large_are_not_grave(self) -> None:
        net = clean(self.folder, 603)
        rows = tuple(replace(r, covariance=9.0 * r.covariance) for r in net.rows)
        told = {d.rule: d for d in doubts(replace(net, rows=rows))}
        self.assertAlmostEqual(told["adjust.sigma"].value or 0.0, 1.0 / 3.0, delta=0.08)
        self.assertFalse(any(d.grave for d in told.values()))

    def test_a_clean_network_is_accused_of_nothing(self) -> None:
        for seed in range(4):
            self.assertEqual([d.text for d in doubts(clean(self.folder, 500 + seed)) if d.grave], [])

    def test_a_shared_error_is_what_leaving_it_out_would_find(self) -> None:
        """A size of one value alone is its residual over its redundancy, and what is left is w squared less
        (Baarda 1968)."""
        result = determined(clean(self.folder, 600))
        assert result.found is not None
        for part, group in zip(result.parts, result.found.groups, strict=True):
            if part.kind == "distance":
                found = shared(result, {int(part.rows[0]): np.ones(1)})
                assert found is not None
                size = -float(group.residuals[0, 0]) / float(group.redundancy[0, 0])
                self.assertTrue(math.isclose(float(found[1][0]), size, rel_tol=1e-6))
                left = result.found.sum_squares - float(group.standardised[0, 0]) ** 2
                self.assertTrue(math.isclose(found[0], left, rel_tol=1e-6))

    def test_two_blunders_are_both_named(self) -> None:
        net, off = (
            clean(self.folder, 601),
            {("distance", "T-09", "P-11"): 0.3, ("distance", "P-12", "T-08"): -0.4},
        )
        rows = tuple(replace(r, value=r.value + off.get((r.kind, r.at, r.to), 0.0)) for r in net.rows)
        told = [d.names for d in doubts(replace(net, rows=rows)) if d.rule == "adjust.distance"]
        self.assertEqual(sorted(told), [("P-12", "T-08"), ("T-09", "P-11")])


if __name__ == "__main__":
    unittest.main()
