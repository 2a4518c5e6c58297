"""Every number a report, a trail or a drawing shows, read back from what is shown and compared with the
result."""

import math
import unittest
import xml.etree.ElementTree as ET
from dataclasses import replace

import numpy as np

from fenwind.doubts.rules import doubts_about_fit
from fenwind.exchange.columns import list_columns
from fenwind.exchange.outgoing import outgoing
from fenwind.job.reader import with_grid_folder
from fenwind.procedures.fit import FitResult
from fenwind.quantities.lengths import US_SURVEY_FOOT
from fenwind.records.entries import amend
from fenwind.records.records import Layout
from fenwind.reports.figure import FLARE, fit_figure
from fenwind.reports.fit_report import fit_report, parameter_rows, quality_line
from fenwind.reports.model import Paragraph, Table
from fenwind.reports.trail import trail
from tests.support import TempFolder, made_up_pairs

SVG = "{http://www.w3.org/2000/svg}"


def number(text: str) -> float:
    """The first figure of a shown text."""
    plain = text.replace("−", "-").replace("\u2009", "").replace("±", " ")
    words = plain.replace("mgon", "").replace('"', " ").split()
    return next(float(w) for w in words if w.lstrip("+-").replace(".", "").isdigit())


def numbers(text: str) -> list[float]:
    """All figures of a shown text."""
    plain = text.replace("−", "-").replace("\u2009", "")
    return [float(w) for w in plain.replace("±", " ").split() if w.lstrip("+-").replace(".", "").isdigit()]


class Fit(unittest.TestCase):
    def setUp(self) -> None:
        pairs = made_up_pairs(marks=2, scale=1.00002, turn=0.21)
        self.case = pairs.case(check=frozenset(["T-03"]), height="plane", horizontal="scale")
        self.result: FitResult = self.case.result
        self.tables = {
            s.title: b
            for s in fit_report(
                self.case, doubts_about_fit(self.case), title="t", unit=US_SURVEY_FOOT
            ).sections
            for b in s.blocks
            if isinstance(b, Table)
        }

    def test_parameters(self) -> None:
        plan, height = self.result.plan, self.result.height
        foot = US_SURVEY_FOOT.metres
        sigma = np.sqrt(np.diag(plan.covariance))
        rows = {n: (v, s) for n, v, s in parameter_rows(self.result, US_SURVEY_FOOT, "degrees")}
        shift = plan.forward(np.zeros(1), np.zeros(1))
        self.assertAlmostEqual(number(rows["shift E"][0]) * foot, float(shift[0][0]), delta=2e-5)
        self.assertAlmostEqual(number(rows["shift N"][0]) * foot, float(shift[1][0]), delta=2e-5)
        self.assertAlmostEqual(number(rows["shift E"][1]), sigma[0] * 1000, delta=0.06)
        degrees, minutes, seconds = (
            rows["turn, clockwise"][0].replace("°", " ").replace("'", " ").replace('"', "").split()
        )
        shown = math.radians(float(degrees) + float(minutes) / 60 + float(seconds) / 3600)
        self.assertAlmostEqual(shown, plan.rotation_rad, delta=3e-8)
        self.assertAlmostEqual(number(rows["turn, clockwise"][1]), sigma[2] * 648000 / math.pi, delta=0.006)
        self.assertAlmostEqual(number(rows["scale"][0]), plan.scale, delta=6e-10)
        self.assertAlmostEqual(number(rows["scale"][1]), sigma[3] * 1e6, delta=0.006)
        self.assertAlmostEqual(number(rows["height shift"][0]) * foot, height.shift_m, delta=2e-5)
        self.assertAlmostEqual(
            number(rows["height shift"][1]), math.sqrt(height.covariance[0, 0]) * 1000, delta=0.06
        )
        for word, value, i in (("east", height.slope_e, 1), ("north", height.slope_n, 2)):
            shown_value, shown_sigma = rows[f"slope to the {word}"]
            self.assertAlmostEqual(number(shown_value), value * 1e6, delta=0.006)
            self.assertAlmostEqual(number(shown_sigma), math.sqrt(height.covariance[i, i]) * 1e6, delta=0.006)
        gon = {n: (v, s) for n, v, s in parameter_rows(self.result, US_SURVEY_FOOT, "gon")}
        self.assertAlmostEqual(
            number(gon["turn, clockwise"][0]), plan.rotation_rad * 200 / math.pi, delta=6e-7
        )
        self.assertAlmostEqual(number(gon["turn, clockwise"][1]), sigma[2] * 200000 / math.pi, delta=6e-4)

    def test_pairs(self) -> None:
        t = self.result.pairs
        rows = self.tables["Pairs, computed - known"].rows
        for i, row in enumerate(rows):
            wanted = (t.de_m[i], t.dn_m[i], t.dh_m[i], t.loo_h_m[i], t.loo_v_m[i])
            for column, value in enumerate(wanted, 2):
                if np.isfinite(value):
                    self.assertAlmostEqual(number(row[column]), value * 1000, delta=0.051, msg=row)
            for column, axis in ((7, 0), (8, 1), (9, 2)):
                if row[column]:
                    self.assertAlmostEqual(number(row[column]), t.redundancy[axis, i], delta=0.0051)
            if row[10]:
                self.assertAlmostEqual(number(row[10]), float(t.detectable[:2, i].max()) * 1000, delta=0.051)

    def test_models_and_positions(self) -> None:
        for row, trial in zip(self.tables["Models"].rows, self.result.models, strict=True):
            self.assertEqual(int(row[1]), trial.dof)
            # Metres are named where there are some; a millimetre stands without.
            metres = row[2].endswith(" m")
            self.assertEqual(metres, trial.rms_m >= 1.0)
            size, half = (1.0, 5.1e-4) if metres else (1000.0, 0.051)
            self.assertAlmostEqual(number(row[2]), trial.rms_m * size, delta=half)
            if trial.variance_factor > 1e4:
                self.assertEqual(row[3], "over 10\u2009000")
                continue
            self.assertAlmostEqual(number(row[3]), trial.variance_factor, delta=6e-4)
            self.assertAlmostEqual(number(row[5]), (trial.scale - 1) * 1e6, delta=0.0051)
        c = self.result.carried
        for i, row in enumerate(self.tables["Positions"].rows):
            plane = [v / US_SURVEY_FOOT.metres for v in (c.e_m[i], c.n_m[i], c.height_m[i])]
            np.testing.assert_allclose([number(v) for v in row[1:4]], plane, atol=6e-5)
            plan_sigma = math.sqrt((c.covariance[0, 0, i] + c.covariance[1, 1, i]) / 2)
            self.assertAlmostEqual(number(row[4]), plan_sigma * 1000, delta=0.051)
            self.assertAlmostEqual(number(row[5]), math.sqrt(c.covariance[2, 2, i]) * 1000, delta=0.051)
        self.assertEqual(
            [h[1] for h in self.tables["Positions"].headers], ["", "ftUS", "ftUS", "ftUS", "mm", "mm"]
        )

    def test_variance_factors_and_the_check(self) -> None:
        line = quality_line(self.result)
        for what, adjustment in (
            ("plan", self.result.plan_adjustment),
            ("height", self.result.height_adjustment),
        ):
            after = line[line.lower().index(f"variance factor in {what}") :]
            self.assertAlmostEqual(number(after), adjustment.sum_squares / adjustment.dof, delta=0.0051)
            self.assertIn(f"{adjustment.dof} degrees of freedom", after)
        i = self.result.pairs.names.index("T-03")
        shown = line[line.index("misses by") :]
        self.assertAlmostEqual(number(shown), float(self.result.pairs.misfit_h_m[i]) * 1000, delta=0.051)
        self.assertAlmostEqual(numbers(shown)[1], abs(float(self.result.pairs.dh_m[i])) * 1000, delta=0.051)

    def test_tones_follow_the_tolerance(self) -> None:
        pairs = made_up_pairs(noise=0.0)
        pairs.known[0, 3] += 0.0102
        pairs.known[2, 5] += 0.0202
        case = pairs.case(check=frozenset(["T-04", "T-06"]))
        report = fit_report(case, doubts_about_fit(case), title="t")
        table = next(
            b for s in report.sections for b in s.blocks if isinstance(b, Table) and "dE" in str(b.headers)
        )
        self.assertEqual(
            [r[0] for r, tone in zip(table.rows, table.tones, strict=True) if tone == "doubt"],
            ["T-04", "T-06"],
        )
        grave = [
            b for s in report.sections if s.title == "Doubts" for b in s.blocks if isinstance(b, Paragraph)
        ]
        for doubt in doubts_about_fit(case):
            block = next(b for b in grave if doubt.text in b.text)
            self.assertEqual(block.tone, "doubt" if doubt.grave else "caution")

    def test_the_figure_has_east_to_the_right_and_north_up(self) -> None:
        root = ET.fromstring(fit_figure(self.result))
        labels = {t.text: (float(t.get("x")), float(t.get("y"))) for t in root.findall(f"{SVG}text")}
        t, c = self.result.pairs, self.result.carried
        for wider in (1.0, 4.0):  # as high as the page, and as wide
            ground = replace(self.result, carried=replace(c, e_m=wider * c.e_m))
            every = [p for p in ET.fromstring(fit_figure(ground)).iter() if p.get("cx")]
            x, y = (np.array([float(p.get(k)) for p in every]) for k in ("cx", "cy"))
            self.assertTrue(47.0 < x.min() < x.max() < 673.0 and 47.0 < y.min() < y.max() < 413.0)
        for first, second in ((0, 1), (2, 4), (5, 6)):
            a, b = labels[t.names[first]], labels[t.names[second]]
            i, j = t.measured_rows[first], t.measured_rows[second]
            way = np.array([c.e_m[j] - c.e_m[i], c.n_m[j] - c.n_m[i]])
            drawn = np.array([b[0] - a[0], a[1] - b[1]])
            np.testing.assert_allclose(drawn / np.hypot(*drawn), way / np.hypot(*way), atol=0.01)
        lines = [line for line in root.findall(f"{SVG}line") if line.get("stroke") == FLARE]
        for i, line in enumerate(lines):
            x1, y1, x2, y2 = (float(line.get(k)) for k in ("x1", "y1", "x2", "y2"))
            if np.hypot(t.de_m[i], t.dn_m[i]) > 2e-3:
                cosine = ((x2 - x1) * t.de_m[i] + (y1 - y2) * t.dn_m[i]) / (
                    math.hypot(x2 - x1, y2 - y1) * math.hypot(t.de_m[i], t.dn_m[i])
                )
                self.assertGreater(cosine, 0.99)


class OfTheDemo(TempFolder):
    def test_the_trail_shows_each_link(self) -> None:
        job = self.demo()
        job.record("slant", [amend(job.state.measured["m-T-04-1"], reason="slant", h_m=1283.0)])
        derived = self.derive(job)
        links = trail(job.state, derived, job.state.marks["T-04"], "dam")
        given, raw = job.state.given["g-T-04"], job.state.measured["m-T-04-1"]
        np.testing.assert_allclose(
            numbers(links[0].values[0]), [given.e_m, given.n_m, given.height_m], atol=6e-5
        )
        occupation = next(k for k in links if k.kind == "record" and "day 1" in k.note)
        self.assertIn("h 1\u2009283.0000 m", occupation.values[1])
        self.assertIn(
            f"{raw.sigma_h_m * 1000:.1f} mm, height ± {raw.sigma_v_m * 1000:.1f} mm", occupation.values[1]
        )
        mean = next(k for k in links if k.title.startswith("Mean of 2"))
        outcome = derived.fits["fit-1"]
        plane = outcome.occupied.plane
        row = plane.index["T-04"]
        np.testing.assert_allclose(
            numbers(mean.values[0]), [plane.e_m[row], plane.n_m[row], plane.height_m[row]], atol=6e-5
        )
        self.assertAlmostEqual(numbers(mean.values[1])[0], plane.sigma_h_m[row] * 1000, delta=0.051)
        self.assertAlmostEqual(numbers(mean.values[1])[1], plane.sigma_v_m[row] * 1000, delta=0.051)
        against = next(k for k in links if k.title == "Fit 1").values[-1]
        t = outcome.case.result.pairs
        i = t.names.index("T-04")
        np.testing.assert_allclose(
            numbers(against), np.array([t.de_m[i], t.dn_m[i], t.dh_m[i]]) * 1000, atol=0.051
        )

    def test_a_list_shows_each_column_of_its_own(self) -> None:
        job = self.demo()
        job.record(
            "words", [amend(job.state.marks["T-01"], code="CODE", description="WORDS", monument="BOLT")]
        )
        spec = with_grid_folder(job.state.frames["map"].spec, str(self.folder))
        derived = self.derive(job)
        out = outgoing(job.state, derived.adopted, "map", spec)
        keys = (
            "name", "e", "n", "h", "lat", "lon", "h_ell", "sh", "sv", "class", "code", "monument",
            "description",
        )  # fmt: skip
        columns = dict(zip(keys, list_columns(out, Layout(id="x", name="x", columns=keys)), strict=True))
        row = out.names.index("T-01")
        adopted = derived.adopted["map"]
        raw = job.state.measured["m-T-01-1"]
        for key, value in (
            ("e", adopted.e_m[row]), ("n", adopted.n_m[row]), ("h", adopted.height_m[row]),
            ("sh", adopted.sigma_h_m[row]), ("sv", adopted.sigma_v_m[row]),
        ):  # fmt: skip
            self.assertEqual(columns[key].cells[row], value, key)
        self.assertAlmostEqual(columns["lat"].cells[row], math.degrees(raw.lat_rad), delta=2e-7)
        self.assertAlmostEqual(columns["lon"].cells[row], math.degrees(raw.lon_rad), delta=2e-7)
        self.assertAlmostEqual(columns["h_ell"].cells[row], raw.h_m, delta=0.03)
        words = [columns[k].cells[row] for k in ("class", "code", "monument", "description")]
        self.assertEqual(words, ["main", "CODE", "BOLT", "WORDS"])
