"""Reports for a signature, of every kind of step: HTML, PDF and text read back say the same; their figures
are those of the results; pages are whole."""

import io
import re
import struct
import unittest
import zlib
from dataclasses import replace
from html import unescape
from pathlib import Path
from typing import Any

import numpy as np
import pypdf

from fenwind.doubts.of_job import Judge
from fenwind.doubts.settling import accept
from fenwind.job.session_view import rover_of
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.records.entries import amend
from fenwind.reports.html import to_html
from fenwind.reports.kinds import report_of, reportable
from fenwind.reports.model import Figure, Letterhead, Paragraph, Report, Section, Table
from fenwind.reports.pdf import _block, to_pdf
from fenwind.reports.plain import to_text
from fenwind.reports.trail import trail
from tests.support import DemoCase

MINUS = "−"


def squeezed(text: str) -> str:
    """Text without any blank, so that line breaks do not matter."""
    return re.sub(r"[\s\u00a0\u2009\u202f]+", "", text)


def png() -> bytes:
    """A picture of two pixels."""

    def chunk(kind: bytes, data: bytes) -> bytes:
        return struct.pack(">I", len(data)) + kind + data + struct.pack(">I", zlib.crc32(kind + data))

    head = struct.pack(">IIBBBBB", 2, 1, 8, 0, 0, 0, 0)
    return b"\x89PNG\r\n\x1a\n" + chunk(b"IHDR", head) + chunk(b"IDAT", zlib.compress(b"\0\0\xff")) + chunk(
        b"IEND", b"")  # fmt: skip


def number(text: str) -> float:
    return float(squeezed(text).replace(MINUS, "-").rstrip("″").removesuffix("mm"))


class Signed(DemoCase):
    def setUp(self) -> None:
        super().setUp()
        facts = {"client": "Kraft & Sons", "surveyor": "I. Moen", "notes": "second campaign"}
        self.job.record("facts", [amend(self.job.state.info, **facts)])
        self.derived = self.derive(self.job)
        self.findings = Judge().judge(self.job.state, self.derived)

    def report(self, name: str) -> tuple[Report, Any]:
        node = next(n for n, title in reportable(self.job.state, self.derived).items() if title == name)
        found = report_of(self.job.state, self.derived, self.findings, node, "2026-11-26")
        assert found is not None
        return found, self.derived.outcomes[node].result

    def table(self, report: Report, title: str) -> Table:
        section = next(s for s in report.sections if s.title == title)
        return next(b for b in section.blocks if isinstance(b, Table))

    def test_all_three_say_the_same(self) -> None:
        names = list(reportable(self.job.state, self.derived).values())
        self.assertEqual(
            names,
            [
                "Fit 1", "Network 1", "Setup 1", "Setup 2", "Setup 3", "Traverse 1", "Levelling 1",
                "System ETRS89 / UTM 32N",
            ],
        )  # fmt: skip
        for name in names:
            report, _ = self.report(name)
            pdf = pypdf.PdfReader(io.BytesIO(to_pdf(report)))
            pages = [page.extract_text() for page in pdf.pages]
            self.assertFalse(name.startswith("System") and len(pages) > 1, "a system stands on one page")
            html = re.sub(r"<style>.*?</style>|<svg.*?</svg>", "", to_html(report), flags=re.DOTALL)
            html = unescape(re.sub(r"<[^>]+>", " ", html))
            shown = {"text": squeezed(to_text(report)), "html": squeezed(html),
                     "pdf": squeezed("".join(pages))}  # fmt: skip
            wanted = [report.title, report.subtitle, report.statement, *report.signed]
            wanted += [part for fact in report.facts for part in fact]
            for section in report.sections:
                self.assertIn(squeezed(section.title.upper()), shown["pdf"])
                for block in section.blocks:
                    if isinstance(block, Paragraph):
                        wanted.append(block.text)
                    if isinstance(block, Table):
                        self.assertEqual(
                            {len(row) for row in block.rows}, {len(block.headers)}, section.title
                        )
                        wanted += [part for head in block.headers for part in head]
                        wanted += [cell for row in block.rows for cell in row]
            for form, text in shown.items():
                lacking = [w for w in dict.fromkeys(wanted) if squeezed(w) not in text]
                self.assertEqual(lacking, [], f"{name}, {form}")
            heads = {squeezed(s.title.upper()) for s in report.sections}
            for i, page in enumerate(pages, 1):
                lines = [squeezed(line) for line in page.splitlines() if line.strip()]
                self.assertTrue(lines[-1].endswith(f"{i}of{len(pages)}") or f"{i}of{len(pages)}" in lines)
                body = [line for line in lines if "of" not in line[-6:] and line != squeezed(report.title)]
                self.assertNotIn(body[-1], heads, "no heading alone at the foot")

    def test_what_heads_a_report(self) -> None:
        report, _ = self.report("Network 1")
        facts = dict(report.facts)
        self.assertEqual(
            (facts["Client"], facts["Surveyor"], facts["Notes"], facts["Computed"], facts["Field work"]),
            ("Kraft & Sons", "I. Moen", "second campaign", "2026-11-26", "2026-06-09 to 2026-06-10"),
        )
        frames = [row[1:] for row in self.table(report, "Frames").rows]
        said = dict(frames)
        self.assertIn("ETRS89 / UTM zone 32N (EPSG:25832)", said["System"])
        self.assertIn("European Terrestrial Reference System 1989", said["Datum"])
        self.assertIn("a = 6378137.000 m, 1/f = 298.257222101", said["Ellipsoid"])
        self.assertIn("Longitude of natural origin 9°", said["Projection"])
        self.assertIn("above the geoid of a grid: TN geoid", said["Heights"])
        with_head = replace(report, letterhead=Letterhead(name="Moen & Co", logo=png()))
        self.assertIn("data:image/png;base64,", to_html(with_head))
        pdf = pypdf.PdfReader(io.BytesIO(to_pdf(with_head)))
        self.assertIn("Moen & Co", pdf.pages[0].extract_text())
        self.assertEqual(len(pdf.pages[0].images), 1)
        self.assertTrue(to_text(with_head).startswith("Moen & Co\n"))
        doubt = next(d for d in self.findings.open if d.rule == "traverse.angle")
        self.job.record(*accept(doubt, "measured again", self.job.state.info.surveyor))
        self.findings = Judge().judge(self.job.state, self.derived)
        self.assertIn(f"Accepted by I. Moen: {doubt.text} Reason: measured again", to_text(
            self.report("Traverse 1")[0]).replace("\n  ", " "))  # fmt: skip

    def test_figures_of_the_network(self) -> None:
        report, found = self.report("Network 1")
        rows = self.table(report, "Observations").rows
        self.assertEqual(len(rows), len(found.result.net.rows))
        for i, row in enumerate(rows):
            f, observed = found.figures[i], found.result.net.rows[i]
            c = int(np.abs(np.nan_to_num(f.w)).argmax())
            size = RAD_PER_SECOND if observed.kind in ("direction", "angle", "zenith", "azimuth") else 0.001
            self.assertEqual(row[1:3], (observed.at, observed.to))
            for k, value in ((3, f.residual[c] / size), (6, f.mdb[c] / size), (7, f.external[c] * 1000.0)):
                self.assertAlmostEqual(number(row[k]), float(value), delta=0.051)
            self.assertAlmostEqual(number(row[4]), float(f.w[c]), delta=0.0051)
            self.assertAlmostEqual(number(row[5]), float(f.redundancy[c]), delta=0.0051)
        places = self.table(report, "Positions").rows
        for i, row in enumerate(places):
            p = found.positions
            for k, value in ((1, p.e_m[i]), (2, p.n_m[i]), (3, p.height_m[i])):
                self.assertAlmostEqual(number(row[k]), float(value), delta=5.1e-5)
            values = np.linalg.eigvalsh(p.covariance[:2, :2, i])
            if values[1] > 0.0:
                a, b = (number(v) for v in row[6].split("×"))
                self.assertAlmostEqual(a, 2447.747 * float(np.sqrt(values[1])), delta=0.051)
                self.assertAlmostEqual(b, 2447.747 * float(np.sqrt(max(values[0], 0.0))), delta=0.051)
        self.assertIn(f"Variance factor {found.variance_factor:.2f}", to_text(report))

    def test_figures_of_setups_traverses_and_levelling(self) -> None:
        report, found = self.report("Setup 1")
        grid = f"distances to the grid by {found.factor:.7f} in the middle, each by its own line's, "
        self.assertIn(f"{grid}targets held, scale 1, air not corrected for", report.statement)
        self.assertIn("placed by what it sighted, 0.000 m high: E 463", report.statement)
        for i, row in enumerate(self.table(report, "Sightings").rows):
            self.assertAlmostEqual(number(row[7]), float(found.reduced.hd[i]), delta=5.1e-5)
            self.assertAlmostEqual(number(row[8]), float(found.reduced.dh[i]), delta=5.1e-5)
            self.assertAlmostEqual(number(row[4]), found.setup.distance_m[i], delta=5.1e-5)
            k = found.rows[i]
            if k >= 0:
                v = found.found.residuals[:, k]
                left = [number(cell) for cell in row[9:]]
                wanted = [v[0] / RAD_PER_SECOND, v[1] * 1000.0, v[2] * 1000.0]
                np.testing.assert_allclose(left, wanted, atol=0.051)
        report, found = self.report("Traverse 1")
        for i, row in enumerate(self.table(report, "Stations, walked and adjusted").rows):
            r = found.found
            np.testing.assert_allclose([number(c) for c in row[1:4]], r.unadjusted[:, i], atol=5.1e-5)
            moved = (r.adjusted - r.unadjusted)[:, i] * 1000.0
            np.testing.assert_allclose([number(c) for c in row[4:7]], moved, atol=0.051)
            np.testing.assert_allclose([number(c) for c in row[7:10]], r.adjusted[:, i], atol=5.1e-5)
        closes = {row[0]: row[1:] for row in self.table(report, "Misclosures").rows}
        self.assertAlmostEqual(number(closes["N"][0]), found.found.misclosure[1] * 1000.0, delta=0.051)
        self.assertAlmostEqual(number(closes["in plan"][1]), found.found.length / 10.0, delta=0.051)
        report, found = self.report("Levelling 1")
        np.testing.assert_allclose(
            [number(row[4]) for row in self.table(report, "Runs").rows],
            found.found.residuals_m * 1000.0, atol=0.0051,
        )  # fmt: skip
        for row, loop in zip(self.table(report, "Loops and lines").rows, found.found.loops, strict=True):
            self.assertEqual(row[0], " – ".join(loop.names))
            np.testing.assert_allclose(
                [number(c) for c in row[1:]],
                [loop.length, loop.misclosure_m * 1000.0, loop.limit_m * 1000.0], atol=0.0051,
            )  # fmt: skip
        self.assertEqual(set(self.table(report, "Loops and lines").tones), {""})
        book = found.book
        self.job.record("tight", [amend(book, limit_m=1e-6)])
        self.derived = self.derive(self.job)
        tight, after = self.report("Levelling 1")
        over = ["doubt" if abs(k.misclosure_m) > k.limit_m else "" for k in after.found.loops]
        self.assertEqual(list(self.table(tight, "Loops and lines").tones), over)
        self.assertIn("doubt", over)
        self.job.undo()
        self.derived = self.derive(self.job)
        heights = dict((row[0], number(row[1])) for row in self.table(report, "Heights").rows)
        np.testing.assert_allclose(list(heights.values()), found.found.height_m, atol=5.1e-5)

    def test_in_feet(self) -> None:
        """What stands under metres stands under feet divided by 0.3048; all else is the same."""
        names = list(reportable(self.job.state, self.derived).values())
        before = {name: self.report(name)[0] for name in names}
        frames = self.job.state.frames.values()
        self.job.record("feet", [amend(f, spec=replace(f.spec, unit="ft")) for f in frames])
        self.derived = self.derive(self.job)
        self.findings = Judge().judge(self.job.state, self.derived)
        seen = 0
        for name in names:
            tables = [
                [(s.title, b) for s in report.sections for b in s.blocks if isinstance(b, Table)]
                for report in (before[name], self.report(name)[0])
            ]
            for (title, metric), (_, feet) in zip(*tables, strict=True):
                if title in ("Frames", "Doubts"):
                    continue
                for column, ((head, unit), (_, other)) in enumerate(
                    zip(metric.headers, feet.headers, strict=True)
                ):
                    for one, two in zip(metric.rows, feet.rows, strict=True):
                        if other == "ft" and unit == "m" and one[column]:
                            seen += 1
                            last = max(0.1 ** len(c[column].partition(".")[2]) for c in (one, two))
                            shown = number(two[column]) * 0.3048, number(one[column])
                            self.assertAlmostEqual(*shown, delta=0.7 * last, msg=f"{name}, {title}, {head}")
                        elif unit in ("mm", "″", "mm, one sigma"):
                            self.assertEqual(two[column], one[column], f"{name}, {title}, {head}")
        self.assertGreater(seen, 150)

    def test_the_network_lies_on_its_page(self) -> None:
        """As wide to its height as the ground is, with the same room on both sides."""
        report, found = self.report("Network 1")
        svg = next(b.svg for s in report.sections for b in s.blocks if isinstance(b, Figure))
        at = [(float(x), float(y)) for x, y in re.findall(r'<circle cx="([\d.]+)" cy="([\d.]+)" r="3"', svg)]
        at += [(float(x), float(y) + 6.0) for x, y in re.findall(r'd="M([\d.]+) ([\d.]+)l6 10h-12z"', svg)]
        self.assertEqual(len(at), len(found.positions.names))
        x, y = np.array(at).T
        p = found.positions
        self.assertAlmostEqual(np.ptp(x) / np.ptp(y), np.ptp(p.e_m) / np.ptp(p.n_m), delta=2e-3)
        self.assertAlmostEqual(x.min() + x.max(), 720.0, delta=0.2)
        self.assertAlmostEqual(y.min() + y.max(), 460.0, delta=0.2)

    def test_what_a_levelling_held(self) -> None:
        report, found = self.report("Levelling 1")
        book, marks = found.book, self.job.state.marks
        held = {marks[k].name for k in found.known if k not in book.free}
        self.assertTrue(held)
        self.assertEqual({row[0] for row in self.table(report, "Control").rows}, held)

    def test_a_mark_measured_from_a_base_says_so(self) -> None:
        used = rover_of(self.derived).used
        key = next(key for key, ids in used.items() if len(ids) > 1)
        links = trail(self.job.state, self.derived, self.job.state.marks[key], "map")
        titles = [link.title for link in links]
        self.assertGreaterEqual(titles.count("Occupation"), len(used[key]))
        self.assertIn("Vector", titles)

    def test_the_command_reports_on_any_of_them(self) -> None:
        out = self.path("r.html")
        self.job.close()
        self.run_json(
            "export", str(self.job.path), "--as", "html", "--out", out, "--of", "Levelling 1", code=1
        )
        self.assertIn("Loops and lines", Path(out).read_text())
        wrong = ("--as", "html", "--out", self.path("s.html"), "--of", "nobody")
        self.run_json("export", str(self.job.path), *wrong, code=2)


class Small(unittest.TestCase):
    def test_a_small_figure_is_on_paper_with_or_without_a_table_before_it(self) -> None:
        svg = '<svg viewBox="0 0 100 50"></svg>'
        table = Table(headers=(("name", ""), ("E", "m")), rows=(("T-01", "1.0"),))
        figure, words = Figure(svg=svg, caption="small one", size=0.3), Paragraph(text="words between")
        for blocks in ((figure,), (words, figure), (table, figure), (table, words, figure), (figure, figure)):
            report = Report(
                title="t", subtitle="s", statement="x", sections=(Section(title="one", blocks=blocks),)
            )
            text = "".join(page.extract_text() for page in pypdf.PdfReader(io.BytesIO(to_pdf(report))).pages)
            self.assertEqual(text.count("small one"), blocks.count(figure), blocks)
        self.assertEqual(_block(figure, 500.0)[0].width, 150.0)
