"""Every rule about fits: it fires on the blunder it is for and names the culprit, and the clean demo stays
silent."""

import math
import unittest

import numpy as np

from fenwind.doubts.fit_geometry import breadth_and_length
from fenwind.doubts.of_job import Judge
from fenwind.doubts.registry import Doubt
from fenwind.doubts.rules import RULES, doubts_about_fit
from fenwind.doubts.settling import accept, settle
from fenwind.errors import ProcedureError
from fenwind.procedures.hull import distance_outside
from fenwind.quantities.lengths import FOOT, US_SURVEY_FOOT
from tests.support import Pairs, TempFolder, made_up_pairs

AREA = tuple(math.radians(v) for v in (6.0, 38.76, 12.0, 84.33))  # EPSG:25832


def found(pairs: Pairs, rule: str, **options: object) -> Doubt | None:
    doubts = doubts_about_fit(pairs.case(**options))
    return next((d for d in doubts if d.rule == rule), None)


class Fires(unittest.TestCase):
    def check(self, doubt: Doubt | None, names: tuple[str, ...] | None = None, *words: str) -> Doubt:
        self.assertIsNotNone(doubt)
        assert doubt is not None
        if names is not None:
            self.assertEqual(doubt.names, names)
        for word in words:
            self.assertIn(word, doubt.text)
        self.assertTrue(doubt.limit_source)
        return doubt

    def test_no_check_and_no_redundancy(self) -> None:
        self.check(found(made_up_pairs(), "fit.no-check"), ())
        self.assertIsNone(found(made_up_pairs(), "fit.no-check", check=frozenset(["T-02"])))
        self.check(found(made_up_pairs(k=1), "fit.no-redundancy", horizontal="shift"), (), "plan and height")
        self.check(found(made_up_pairs(k=2), "fit.no-redundancy", horizontal="scale"), (), "In plan the")
        self.assertIsNone(found(made_up_pairs(k=3), "fit.no-redundancy"))
        self.assertIsNone(found(made_up_pairs(), "fit.no-check", horizontal="pivot", pivot=("T-01", "T-02")))

    def test_a_pair_that_stands_out(self) -> None:
        for blunder in (0.035, 0.5, 25.0):
            for row in (0, 3, 7):
                pairs = made_up_pairs(k=8)
                pairs.known[1, row] += blunder
                doubt = self.check(
                    found(pairs, "fit.outlier", horizontal="turn"), (f"T-{row + 1:02d}",), "stands out"
                )
                self.assertAlmostEqual(doubt.value, blunder, delta=0.015)
        two = made_up_pairs(k=9)
        two.known[0, 2] += 0.2
        two.known[1, 5] -= 0.3
        outliers = [d.names[0] for d in doubts_about_fit(two.case()) if d.rule == "fit.outlier"]
        self.assertEqual(outliers, ["T-03", "T-06"])
        high = made_up_pairs()
        high.known[2, 4] -= 0.038
        self.check(found(high, "fit.outlier-height"), ("T-05",), "above")

    def test_exchanged_names(self) -> None:
        pairs = made_up_pairs()
        pairs.known[:, [2, 5]] = pairs.known[:, [5, 2]]
        doubts = doubts_about_fit(pairs.case(horizontal="turn"))
        self.check(doubts[0], ("T-03", "T-06"), "exchanged")
        self.assertEqual(doubts[0].rule, "fit.exchanged-names")
        self.assertNotIn("fit.outlier", [d.rule for d in doubts])

    def test_one_name_on_the_place_of_another_is_no_exchange(self) -> None:
        pairs = made_up_pairs()
        pairs.known[:, 2] = pairs.known[:, 5]
        pairs.known[:2, 5] += 300.0
        rules = [d.rule for d in doubts_about_fit(pairs.case(horizontal="turn"))]
        self.assertIn("fit.outlier", rules)
        self.assertNotIn("fit.exchanged-names", rules)

    def test_residual_over_tolerance(self) -> None:
        pairs = made_up_pairs(noise=0.001)
        pairs.known[1, 6] += 0.015
        self.check(
            found(pairs, "fit.residual-plan", horizontal="turn", check=frozenset(["T-07"])),
            ("T-07",),
            "10 mm",
        )
        pairs.known[2, 0] += 0.035
        self.check(found(pairs, "fit.residual-height", check=frozenset(["T-01"])), ("T-01",), "20 mm")
        self.assertIsNone(found(pairs, "fit.residual-height", check=frozenset(["T-01"]), tolerance_v_m=0.05))

    def test_scale(self) -> None:
        stretched = made_up_pairs(scale=1.00003)
        doubt = self.check(found(stretched, "fit.scale", horizontal="turn"), (), "ppm")
        self.assertAlmostEqual(doubt.value, 30.0, delta=3.0)
        # 570 ppm between grid and ground are explained by a combined factor of 0.99943, 700 ppm are not.
        ground = made_up_pairs(scale=1 / 0.99943)
        self.assertIsNone(found(ground, "fit.scale", combined=0.99943))
        self.check(found(made_up_pairs(scale=1.0007), "fit.scale", combined=0.99943), (), "explains")

    def test_units(self) -> None:
        rows = [
            (1 / FOOT.metres, ("international feet against metres",)),
            (1 / US_SURVEY_FOOT.metres, ("US survey feet against metres",)),
            (FOOT.metres, ("metres against international feet",)),
            (0.001, ("kilometres against metres",)),
        ]
        for ratio, words in rows:
            with self.subTest(words):
                pairs = made_up_pairs(noise=0.0005 if "feet" in words[0] else 0.004)
                pairs.known *= ratio
                doubts = doubts_about_fit(pairs.case())
                self.assertEqual(doubts[0].rule, "fit.unit-ratio")
                self.check(doubts[0], None, *words)
        noisy = made_up_pairs(noise=0.02)
        noisy.known /= US_SURVEY_FOOT.metres
        self.check(found(noisy, "fit.unit-ratio"), None, "differ by 2 ppm")

    def test_swapped_axes(self) -> None:
        pairs = made_up_pairs()
        pairs.known[[0, 1]] = pairs.known[[1, 0]]
        doubt = self.check(found(pairs, "fit.swapped-axes"), tuple(pairs.names), "exchanged")
        self.assertEqual(doubt.remedies[0].kind, "swap-axes")
        one = made_up_pairs()
        one.known[:2, 4] = one.known[1::-1, 4]
        self.check(found(one, "fit.swapped-axes"), ("T-05",), "falls into line")

    def test_longitude_sign_and_area(self) -> None:
        pairs = made_up_pairs(k=5)
        lat, lon = np.radians(np.full(5, 61.3)), np.radians(np.full(5, 8.4))
        lon[3] *= -1
        self.check(found(pairs, "fit.longitude-sign", area=AREA, lat=lat, lon=lon), ("T-04",), "sign")
        self.assertIsNone(found(pairs, "fit.outside-area", area=AREA, lat=lat, lon=lon))
        lon[3] = math.radians(15.0)
        outside = found(pairs, "fit.outside-area", area=AREA, lat=lat, lon=lon)
        self.check(outside, ("T-04",), "area of use")
        self.assertTrue(outside.grave)
        near = lon.copy()
        near[3] = AREA[2] + 0.01 / math.cos(float(lat[3]))  # 64 km past the edge: it may be meant
        self.assertFalse(found(pairs, "fit.outside-area", area=AREA, lat=np.abs(lat), lon=near).grave)
        self.assertIsNone(found(pairs, "fit.longitude-sign", area=AREA, lat=lat, lon=lon))
        across = (math.radians(-6.0), *AREA[1:])  # inside with either sign
        lon[:] = math.radians(5.0)
        self.assertIsNone(found(pairs, "fit.longitude-sign", area=across, lat=lat, lon=lon))

    def test_height_plane(self) -> None:
        tilted = made_up_pairs()
        tilted.known[2] += 150e-6 * tilted.known[0]
        self.check(found(tilted, "fit.tilt", height="plane"), None, "mm per km")
        tilted = made_up_pairs()
        tilted.known[2] += 40e-6 * tilted.known[0]
        self.assertIsNone(found(tilted, "fit.tilt", height="plane"))
        self.check(found(tilted, "fit.tilt", height="plane", over_geoid=True), None, "geoid")
        line = made_up_pairs()
        line.measured[0] = 463000 + 0.02 * (line.measured[0] - 463000) + 0.5 * (line.measured[1] - 6796000)
        c, s = math.cos(0.21), math.sin(0.21)
        e, n = line.measured[0] - 463000, line.measured[1] - 6796000
        line.known[:2] = [1300 + c * e + s * n, 2100 - s * e + c * n]
        self.check(found(line, "fit.plane-on-line", height="plane"), None, "line")

    def test_far_outside(self) -> None:
        pairs = made_up_pairs(k=6, marks=2, spread=300.0)
        pairs.measured[0, 7] += 4000.0
        self.check(found(pairs, "fit.far-outside"), ("T-08",), "outside the pairs")

    def test_every_rule_is_tested_here(self) -> None:
        tested = {
            "unit_ratio", "swapped_axes", "exchanged_names", "standing_out", "longitude_sign",
            "residual_over_tolerance", "no_check",
        }  # fmt: skip
        tested |= {
            "no_redundancy", "scale_unexplained", "outside_area", "tilting_plane", "far_outside",
            "unseen_model", "two_feet",
        }  # fmt: skip
        tested |= {
            "axes",
            "zone",
            "height_unit",
            "geoid",
            "height_minority",
            "realisation",
            "scale_factor",
            "scale_reason",
        }  # fmt: skip (in test_fit_causes)
        self.assertEqual({r.name for r in RULES if r.about == "fit"}, tested)
        self.assertTrue(all(r.limit and r.source for r in RULES))


class Silent(unittest.TestCase):
    def test_clean_fits(self) -> None:
        """Forty made-up fits without a blunder: nothing that accuses a pair or the scale."""
        accusing = (
            "fit.outlier", "fit.outlier-height", "fit.exchanged-names", "fit.swapped-axes", "fit.unit-ratio",
            "fit.scale", "fit.tilt",
        )  # fmt: skip
        noise = 0
        for seed in range(40):
            case = made_up_pairs(seed=seed, noise=0.003).case(
                horizontal="turn", height="plane", tolerance_v_m=0.030
            )
            noise += sum(d.rule in accusing for d in doubts_about_fit(case))
        self.assertLessEqual(noise, 2)

    def test_geometry(self) -> None:
        square = np.array([0.0, 10, 10, 0]), np.array([0.0, 0, 10, 10])
        out = distance_outside(np.array([5.0, 15, 13]), np.array([5.0, 5, 14]), *square)
        np.testing.assert_allclose(out, [0, 5, 5])
        self.assertEqual(
            [round(v) for v in breadth_and_length(np.array([0.0, 30, 30, 0]), np.array([0.0, 40, 41, 1]))],
            [1, 51],
        )


class OfTheDemo(TempFolder):
    def test_clean_demo_is_silent_and_the_planted_blunder_is_named_and_settled(self) -> None:
        judge = Judge()
        clean = self.demo("clean.fenwind")
        self.assertEqual(judge.judge(clean.state, self.derive(clean)).open, ())
        job = self.demo("planted.fenwind", planted=True)
        findings = judge.judge(job.state, self.derive(job))
        self.assertEqual((findings.open[0].rule, findings.open[0].names), ("fit.swapped-axes", ("T-09",)))
        job.record(*settle(job.state, findings.open[0], findings.open[0].remedies[0]))
        self.assertEqual(judge.judge(job.state, self.derive(job)).open, ())
        self.assertEqual(job.state.amendments["g-T-09"][0].new["e_m"], job.state.given["g-T-09"].e_m)

    def test_an_acceptance_lapses_when_the_number_grows(self) -> None:
        judge, job = Judge(), self.demo(planted=True)
        doubt = judge.judge(job.state, self.derive(job)).open[0]
        with self.assertRaises(ProcedureError):
            accept(doubt, "  ")
        job.record(*accept(doubt, "to be measured again"))
        findings = judge.judge(job.state, self.derive(job))
        self.assertEqual(
            [(d.key, a.reason) for d, a in findings.accepted], [(doubt.key, "to be measured again")]
        )
        given = job.state.given["g-T-09"]
        from fenwind.records.entries import amend

        job.record("worse", [amend(given, e_m=given.e_m + 30.0, n_m=given.n_m - 30.0)])
        self.assertEqual(judge.judge(job.state, self.derive(job)).accepted, ())

    def test_each_remedy_does_what_it_says(self) -> None:
        job = self.demo()
        step = job.state.fits["fit-1"]
        from fenwind.doubts.registry import Remedy

        for kind, names in (
            ("check", ("T-01",)), ("off", ("T-02",)), ("exchange", ("T-03", "T-04")), ("one-shift", ()),
        ):  # fmt: skip
            doubt = Doubt(rule="x", subject="fit-1", names=names, text="test")
            job.record(*settle(job.state, doubt, Remedy(kind=kind, label=kind, names=names)))
        self.assertEqual(
            dict(job.state.fits["fit-1"].uses) | dict(step.uses),
            {"T-01": "check", "T-02": "off", "T-07": "check"},
        )
        self.assertEqual((job.state.given["g-T-03"].mark, job.state.given["g-T-04"].mark), ("T-04", "T-03"))
        with self.assertRaises(ProcedureError):
            settle(
                job.state,
                Doubt(rule="x", subject="gone", names=(), text=""),
                Remedy(kind="check", label="", names=()),
            )
