"""Reports: what they must say, that texts cannot break them, and that figures show what was computed."""

import re
import unittest
import xml.etree.ElementTree as ET

import numpy as np

from fenwind.doubts.rules import doubts_about_fit
from fenwind.quantities.lengths import US_SURVEY_FOOT
from fenwind.records.records import Acceptance
from fenwind.reports.figure import exaggeration, fit_figure, nice_length
from fenwind.reports.fit_report import fit_report, parameter_rows, quality_line, role_of
from fenwind.reports.html import to_html
from fenwind.reports.model import Figure, Paragraph, Report, Section, Table
from fenwind.reports.plain import to_text
from fenwind.reports.statement import fit_statement, sentence
from tests.support import made_up_pairs

SVG = "{http://www.w3.org/2000/svg}"


class Statement(unittest.TestCase):
    def test_sentences(self) -> None:
        common = {"source": "rover positions (14)", "target": "Dam grid", "pivot": None}
        rows = [
            (
                dict(horizontal="turn", model="turn", height="shift", over="TN geoid", checks=["T-07"]),
                "Carry rover positions (14) onto Dam grid by shift and turn, heights by one shift over TN "
                "geoid, holding out T-07 as a check.",
            ),
            (
                dict(
                    horizontal="auto", model="scale", height="none", over="the ellipsoid",
                    checks=["A", "B", "C"],
                ),
                "Carry rover positions (14) onto Dam grid by shift, turn and scale (the simplest accepted), "
                "heights left as they are, "
                "holding out A, B and C as checks.",
            ),
            (
                dict(horizontal="pivot", model="pivot", height="plane", over="", checks=[], pivot=("P", "Q")),
                "Carry rover positions (14) onto Dam grid by pivot and direction holding P towards Q, "
                "heights "
                "by a tilted plane, comparing all other pairs.",
            ),
            (
                dict(horizontal="shift", model="", height="shift", over="", checks=[]),
                "Carry rover positions (14) onto Dam grid by shift, heights by one shift, holding out "
                "no pair "
                "as a check.",
            ),
        ]  # fmt: skip
        for options, words in rows:
            self.assertEqual(sentence(fit_statement(**(common | options))), words)


class Contents(unittest.TestCase):
    def setUp(self) -> None:
        self.case = made_up_pairs(marks=3).case(check=frozenset(["T-03"]), height="plane")
        self.report = fit_report(
            self.case, doubts_about_fit(self.case), title="Dam & <more>", unit=US_SURVEY_FOOT
        )

    def test_figures_are_those_of_the_result(self) -> None:
        result = self.case.result
        tables = {s.title: b for s in self.report.sections for b in s.blocks if isinstance(b, Table)}
        pairs = tables["Pairs, computed - known"]
        row = next(r for r in pairs.rows if r[0] == "T-05")
        i = result.pairs.names.index("T-05")
        shown = row[2].replace("−", "-").lstrip("+")
        self.assertEqual(shown, f"{result.pairs.de_m[i] * 1000:.1f}".replace("-0.0", "0.0"))
        self.assertEqual(row[5], f"{result.pairs.loo_h_m[i] * 1000:.1f}")
        self.assertEqual(next(r for r in pairs.rows if r[0] == "T-03")[1], "check")
        positions = tables["Positions"]
        self.assertEqual(len(positions.rows), 11)
        feet = float(positions.rows[10][1].replace("\u2009", "").replace("−", "-"))
        self.assertAlmostEqual(feet * US_SURVEY_FOOT.metres, result.carried.e_m[10], delta=2e-5)
        self.assertEqual([t.recommended for t in result.models], [bool(r[-1]) for r in tables["Models"].rows])
        names = [name for name, _, _ in parameter_rows(result, US_SURVEY_FOOT, "gon")]
        self.assertEqual(names[-2:], ["slope to the east", "slope to the north"])
        self.assertIn("check T-03 misses by", quality_line(result))

    def test_html_and_text(self) -> None:
        html = to_html(self.report)
        self.assertIn("Dam &amp; &lt;more&gt;", html)
        self.assertNotIn("<script", html)
        text = to_text(self.report)
        for word in ("DOUBTS", "PARAMETERS", "MODELS", "POSITIONS", "T-11"):
            self.assertIn(word, text)
        self.assertLessEqual(max(len(line) for line in text.splitlines()), 160)

    def test_texts_cannot_break_a_page(self) -> None:
        nasty = '<img src=x onerror=alert(1)>"&{{7*7}}'
        report = Report(
            title=nasty,
            subtitle=nasty,
            statement=nasty,
            sections=(
                Section(
                    title=nasty,
                    blocks=(
                        Paragraph(text=nasty),
                        Table(headers=((nasty, nasty),), rows=((nasty,),)),
                        Figure(svg="<svg></svg>", caption=nasty),
                    ),
                ),
            ),
        )
        html = to_html(report)
        self.assertNotIn("<img", html)
        self.assertNotIn("49", html)
        self.assertEqual(html.count("<svg>"), 1)

    def test_accepted_doubts_stand_in_the_report_with_their_reason(self) -> None:
        doubts = doubts_about_fit(made_up_pairs().case())
        taken = Acceptance(id="a", doubt=doubts[0].key, reason="measured twice", by="I. Moen")
        html = to_html(fit_report(self.case, (), title="x", accepted=[(doubts[0], taken)]))
        self.assertIn("Accepted by I. Moen: ", html)
        self.assertIn("measured twice", html)

    def test_roles(self) -> None:
        rows = [
            (True, True, True, "held"), (True, False, True, "held, not in height"),
            (True, False, False, "held, no height"), (False, True, True, "held in height"),
            (False, False, True, "check"),
        ]  # fmt: skip
        for used_h, used_v, has_height, words in rows:
            self.assertEqual(role_of(used_h, used_v, has_height), words)


class Pictures(unittest.TestCase):
    def test_the_plan_figure_is_drawn_to_scale(self) -> None:
        case = made_up_pairs(k=5, marks=2).case(check=frozenset(["T-02"]))
        root = ET.fromstring(fit_figure(case.result))
        self.assertEqual(len(root.findall(f"{SVG}circle")), 2)
        self.assertEqual(len(root.findall(f"{SVG}rect")), 2, "the paper, and one check")
        lines = [
            [float(line.get(k)) for k in ("x1", "y1", "x2", "y2")] for line in root.findall(f"{SVG}line")
        ]
        t, c = case.result.pairs, case.result.carried
        vectors = np.array([[x2 - x1, y1 - y2] for x1, y1, x2, y2 in lines])
        residuals = np.stack([t.de_m, t.dn_m], axis=1)
        ratio = vectors[np.abs(residuals) > 2e-3] / residuals[np.abs(residuals) > 2e-3]
        np.testing.assert_allclose(ratio, np.median(ratio), rtol=0.06)
        # Places: the same pixels per metre in both axes.
        places = np.array([[x1, -y1] for x1, y1, _, _ in lines])
        ground = np.stack([c.e_m, c.n_m], axis=1)[t.measured_rows]
        scale = np.ptp(places, axis=0) / np.ptp(ground, axis=0)
        self.assertAlmostEqual(scale[0] / scale[1], 1.0, delta=0.01)
        stated = float(
            re.search(r"drawn ([\d\u2009]+) times", "".join(root.itertext()))[1].replace("\u2009", "")
        )
        self.assertAlmostEqual(stated * scale[0] / np.median(ratio), 1.0, delta=0.06)

    def test_round_lengths(self) -> None:
        self.assertEqual(
            [nice_length(v) for v in (0.07, 1.0, 4.9, 5.0, 199.0, 2000.0)],
            [0.05, 1.0, 2.0, 5.0, 100.0, 2000.0],
        )
        self.assertEqual(exaggeration(np.array([np.nan, 0.0]), 100.0), 1.0)
        self.assertEqual(exaggeration(np.array([0.004]), 1000.0), 20000.0)
