"""Handover: every format from the demo job through the command line, layouts, targets with their coverage,
PDF."""

import base64
import contextlib
import csv
import io
import json
import math
import re
import unittest
import zlib
from pathlib import Path

import ezdxf
import numpy as np
import pyogrio
import shapely

from fenwind.cli import main
from fenwind.exchange.columns import BESIDE, COLUMNS, list_columns, list_text
from fenwind.exchange.formats import read_table
from fenwind.exchange.outgoing import outgoing
from fenwind.exchange.point_list import interpret
from fenwind.geodesy.frames import FrameSpec
from fenwind.job import gestures
from fenwind.job.job import Job
from fenwind.job.reader import with_grid_folder
from fenwind.procedures.coverage import coverage
from fenwind.procedures.hull import least_rectangle
from fenwind.records.entries import Add
from fenwind.records.records import FrameRecord, GivenPosition, Layout, Mark, MarkRule
from fenwind.reports.handover import FORMATS, targets_text
from tests.support import TempFolder


class Export(TempFolder):
    def export(self, *options: str) -> tuple[int, str, str]:
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            code = main(["export", self.path("demo.fenwind"), *options])
        return code, out.getvalue(), err.getvalue()

    def test_every_format_is_written_and_read_back(self) -> None:
        job = self.demo()
        adopted = self.derive(job).adopted
        job.close()
        for key, wanted in FORMATS.items():
            frame = "map" if key in ("geojson", "kml") else "dam"
            path = self.path(f"{key}{wanted.ending}")
            with self.subTest(key):
                code, out, err = self.export("--as", key, "--out", path, "--frame", frame, "--json")
                self.assertEqual((code, err), (0, ""))
                if wanted.report:
                    continue
                self.assertEqual(json.loads(out)["marks"], len(adopted[frame].names))
                found = interpret(read_table(path))
                rows = [adopted[frame].index[n] for n in found.names]
                self.assertEqual(len(rows), len(adopted[frame].names))
                if not found.geographic:
                    np.testing.assert_allclose(found.values[0], adopted[frame].e_m[rows], rtol=0, atol=6e-5)
                    np.testing.assert_allclose(
                        found.values[2], adopted[frame].height_m[rows], rtol=0, atol=6e-5
                    )
        pdf = Path(self.path("pdf.pdf")).read_bytes()
        self.assertTrue(pdf.startswith(b"%PDF") and b"%%EOF" in pdf[-20:])
        self.assertGreater(len(re.findall(rb"/Type /Page\b", pdf)), 0)
        self.assertGreater(len(ezdxf.readfile(self.path("dxf.dxf")).modelspace().query("TEXT")), 20)

    def test_what_is_left_out_is_said(self) -> None:
        """A mark that no latitude belongs to; and a system that counts westwards and southwards."""
        frame = FrameRecord(id="lo", spec=FrameSpec(name="Lo19", crs="EPSG:2048"))
        rows = (("A", 18690.66, -3652765.81), ("FAR", 4e8, 0.0))
        given = [
            GivenPosition(id=f"g{n}", mark=f"m{n}", frame="lo", e_m=e, n_m=north, height_m=1.0)
            for n, e, north in rows
        ]
        marks = [Mark(id=f"m{n}", name=n) for n, *_ in rows]
        Job.create(self.path("demo.fenwind"), "South", [frame, *marks, *given], "lo").close()
        for key, left in (("geojson", ["FAR"]), ("kml", ["FAR"]), ("geopackage", []), ("csv", [])):
            path = self.path(f"south{FORMATS[key].ending}")
            code, out, _ = self.export("--as", key, "--out", path, "--json")
            found = json.loads(out)
            self.assertEqual(
                (code, found["left_out"], found["marks"]), (int(bool(left)), left, 2 - len(left)), key
            )
        code, out, _ = self.export("--as", "kml", "--out", path)
        self.assertIn("left out, no position there: FAR", out)
        raw = pyogrio.raw.read(self.path("south.gpkg"), where="name = 'A'")[2]
        np.testing.assert_allclose(shapely.get_coordinates(shapely.from_wkb(raw))[0], [-18690.66, 3652765.81])
        back = interpret(read_table(self.path("south.gpkg")))
        np.testing.assert_allclose(back.values[:2, 0], rows[0][1:], rtol=0, atol=1e-4)
        place = json.loads(Path(self.path("south.geojson")).read_text())["features"][0]["geometry"]
        np.testing.assert_allclose(place["coordinates"][:2], [19.2, -33.0], rtol=0, atol=1e-6)

    def test_bad_requests_are_refused_in_one_line(self) -> None:
        self.demo().close()
        cases = [
            (("--as", "docx", "--out", "x"), "no format 'docx'"),
            (("--as", "kml", "--out", self.path("x.kml"), "--frame", "Dam grid 1968"), "local plane"),
            (("--as", "csv", "--out", self.path("x.csv"), "--frame", "Moon"), "no frame 'Moon'"),
            (("--as", "csv", "--out", self.path("x.csv"), "--layout", "mine"), "no layout 'mine'"),
            (("--as", "pdf", "--out", self.path("x.pdf"), "--fit", "none"), "no result to report on"),
            (("--as", "xlsx", "--out", self.path("no/x.xlsx")), "cannot be written"),
        ]
        for options, words in cases:
            with self.subTest(words):
                code, out, err = self.export(*options)
                self.assertEqual((code, out, err.count("\n")), (2, "", 1))
                self.assertIn(words, err)

    def test_layouts_symbols_and_both_systems(self) -> None:
        job = self.demo()
        layout = Layout(id="mine", name="mine", columns=("name", "e", "n", "code"), delimiter=";", decimals=2)
        rule = MarkRule(id="r", by="class", value="main", symbol="square", label=False)
        job.record("own", [Add(record=layout), Add(record=rule)])
        job.record(*gestures.change_frame(job.state.frames["dam"], "northing first", axis_order="NE"))
        out = outgoing(job.state, self.derive(job).adopted, "dam", job.state.frames["dam"].spec)
        lines = list_text(out, layout).splitlines()
        self.assertEqual(lines[0], "name;n (m);e (m);code", "northing first, as the frame says")
        main_mark = next(i for i, c in enumerate(out.words["class"]) if c == "main")
        self.assertEqual((out.symbols[main_mark], bool(out.labelled[main_mark])), ("square", False))
        beside = list_columns(out, BESIDE)
        self.assertEqual(len(beside), 1 + 3 + 3 + 1)
        other = self.derive(job).adopted["map"]
        name = other.names[0]
        self.assertEqual(beside[4].cells[out.names.index(name)], other.e_m[0])
        utm = outgoing(
            job.state, self.derive(job).adopted, "map",
            with_grid_folder(job.state.frames["map"].spec, str(self.folder)),
        )  # fmt: skip
        every = Layout(id="x", name="x", columns=tuple(k for k in COLUMNS if k != "others"))
        row = next(csv.DictReader(io.StringIO(list_text(utm, every))))
        self.assertAlmostEqual(float(row["lat (deg)"]), math.degrees(utm.geodetic()[0][0]), places=9)
        self.assertIn("EPSG:25832", row["system"])
        self.assertIn(",check,", targets_text(out, frozenset({"T-07"})))

    def test_pdf_holds_the_report(self) -> None:
        self.demo().close()
        self.export("--as", "pdf", "--out", self.path("r.pdf"))
        data = Path(self.path("r.pdf")).read_bytes()
        self.assertIn(b"IBMPlexSans", data.replace(b"+", b""))
        pages = re.findall(rb"stream\r?\n(.*?)endstream", data, re.DOTALL)
        text = b"".join(
            zlib.decompress(base64.a85decode(p, adobe=False))
            for p in (p.strip().removesuffix(b"~>") for p in pages)
            if p[:1] == b"G"
        )
        self.assertGreater(text.count(b"Tj"), 200, "words and figures of the tables")


class Coverage(unittest.TestCase):
    def ground(self) -> np.ndarray:
        e, n = np.meshgrid(np.linspace(0, 1000, 11), np.linspace(0, 500, 6))
        return np.stack([e.ravel(), n.ravel(), 100 + e.ravel() / 10])

    def judged(self, places: list[tuple[float, float]], checks: int = 1) -> dict[str, bool]:
        targets = np.array([(e, n, 100 + e / 10) for e, n in places]).T
        check = np.arange(len(places)) >= len(places) - checks
        return {j.rule.split(".")[1]: j.fine for j in coverage(targets, check, self.ground()).judgements}

    def test_judgements(self) -> None:
        corners = [(10, 10), (990, 20), (980, 490), (15, 480)]
        cases = [
            (
                [*corners, (500, 250), (300, 300)],
                1,
                {"count": True, "spread": True, "heights": True, "check": True},
            ),
            ([*corners, (500, 250)], 0, {"count": True, "spread": True, "heights": True, "check": False}),
            (
                [*corners[:3], (500, 250), (300, 300), (1, 1)],
                1,
                {"count": True, "spread": False, "heights": True, "check": True},
            ),
            (
                [(0, 0), (100, 400), (200, 0), (5, 5)],
                1,
                {"count": True, "spread": False, "heights": False, "check": True},
            ),
            (
                [(0, 0), (1000, 500), (5, 5)],
                1,
                {"count": False, "spread": True, "heights": True, "check": True},
            ),
            (
                [(0, 0), (500, 0), (1000, 1), (5, 5)],
                1,
                {"count": True, "spread": False, "heights": True, "check": True},
            ),
        ]
        for places, checks, wanted in cases:
            with self.subTest(places=places):
                self.assertEqual(self.judged(places, checks), wanted)

    def test_the_box_turns_with_the_area(self) -> None:
        turned = self.ground()[:2] * 1.0
        c, s = math.cos(0.5), math.sin(0.5)
        turned = np.stack([turned[0] * c - turned[1] * s, turned[0] * s + turned[1] * c])
        box, centre = least_rectangle(turned)
        sides = sorted(float(np.hypot(*(box[i] - box[i - 1]))) for i in range(4))
        np.testing.assert_allclose(sides, [500, 500, 1000, 1000])
        np.testing.assert_allclose(centre, [500 * c - 250 * s, 500 * s + 250 * c])
        targets = np.vstack([turned[:, [0, 5, 10, 55, 27]], np.ones(5)])
        bare = coverage(targets, np.zeros(5, dtype=bool), np.vstack([turned, np.ones(66)]))
        spread = next(j for j in bare.judgements if j.rule == "coverage.spread")
        self.assertEqual(len(spread.places), 1)
