"""Files that lie: what they say of themselves is not believed, and what is wrong is one line with its
place."""

import csv
import sqlite3
import subprocess
import sys
import unittest
from collections.abc import Callable

import ezdxf
import numpy as np
import openpyxl

from fenwind.errors import FenwindError, FormatError, FrameError
from fenwind.exchange.backdrop import read_backdrop
from fenwind.exchange.csv_out import csv_text
from fenwind.exchange.formats import read_table
from fenwind.geodesy.frames import FrameSpec, open_frame
from tests.support import TempFolder

HEAD = "name,e,n,h\n"
KML = '<?xml version="1.0"?><kml xmlns="http://www.opengis.net/kml/2.2"><Document>'
LANDXML = '<?xml version="1.0"?><LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2">'


class Lies(TempFolder):
    def test_curves_that_end_nowhere(self) -> None:
        """Blocks in blocks moved beyond all numbers: what has no place is left out, and it ends."""
        drawing = ezdxf.new()
        inner, outer = drawing.blocks.new("INNER"), drawing.blocks.new("OUTER")
        inner.add_circle((1.0, 1.0), 1.0)
        inner.add_ellipse((2.0, 2.0), (1.0, 0.5), 0.4)
        inner.add_line((0.0, 0.0), (1.0, 1.0))
        outer.add_blockref("INNER", (1.7e308, -1.7e308))
        drawing.modelspace().add_blockref("OUTER", (1.7e308, -1.7e308))
        drawing.modelspace().add_line((0.0, 0.0), (3.0, 4.0))
        path = self.path("far.dxf")
        drawing.saveas(path)
        code = (
            "import sys; from fenwind.exchange.backdrop import read_line_work\n"
            "print({k: v.tolist() for k, v in read_line_work(sys.argv[1]).layers.items()})"
        )
        found = subprocess.run(
            [sys.executable, "-c", code, path], capture_output=True, text=True, timeout=180
        )
        self.assertEqual(found.stdout.strip(), "{'0': [[0.0], [0.0], [3.0], [4.0]]}", found.stderr)

    def test_texts(self) -> None:
        deep = 3000
        for name, text, said in (
            ("cell.csv", HEAD + "A" * 140_000 + ",1,2,3\n", "line 2: field larger than field limit"),
            ("blank.csv", "\n" * 20_000 + HEAD + "A,1,2,3\n", ""),
            ("blanks.csv", "name" + " " * 30_000 + ",e,n,h\nA,1,2,3\n", ""),
            ("quote.csv", HEAD + '"A,1,2,3\n' * 20_000, "line 2"),
            ("marks.kml", KML + "<Placemark>" * deep + "</Placemark>" * deep + "</Document></kml>",
             "nested over 200 deep"),
            ("points.xml", LANDXML + "<CgPoints>" * deep + "</CgPoints>" * deep + "</LandXML>",
             "nested over 200"),
            ("list.geojson", "[" * 100_000 + "]" * 100_000, "cannot be read"),
        ):  # fmt: skip
            with self.subTest(name=name):
                self.refused(lambda path: read_table(path), self.write(name, text), said)

    def refused(self, read: Callable[[str], object], path: str, said: str) -> None:
        """Reads, or is refused in one line that says something."""
        if not said:
            read(path)
            return
        with self.assertRaises(FormatError) as caught:
            read(path)
        self.assertIn(said, caught.exception.one_line)
        self.assertNotIn("\n", caught.exception.one_line)
        self.assertLess(len(caught.exception.one_line), 600)

    def test_a_view_without_an_end(self) -> None:
        path = self.path("v.gpkg")
        db = sqlite3.connect(path)
        self.addCleanup(db.close)
        db.executescript(
            "PRAGMA application_id=1196444487;"
            "create table gpkg_contents(table_name text,data_type text,identifier text,srs_id "
            "int,min_x,min_y,"
            "max_x,max_y,last_change,description);"
            "create table gpkg_geometry_columns(table_name,column_name,geometry_type_name,srs_id,z,m);"
            "create table "
            "gpkg_spatial_ref_sys(srs_name,srs_id,organization,organization_coordsys_id,definition,"
            "description);"
            "insert into gpkg_spatial_ref_sys values('x',4326,'EPSG',4326,'','');"
            "create view v as with recursive c(fid) as (select 1 union all select fid+1 from c) select fid, "
            "x'47500001e6100000010100000000000000000020400000000000804e40' as geom from c;"
            "insert into gpkg_contents values('v','features','v',4326,0,0,0,0,'','');"
            "insert into gpkg_geometry_columns values('v','geom','POINT',4326,0,0);"
        )
        db.commit()
        self.refused(lambda p: read_table(p), path, "more features than a file of this size can hold")

    def test_a_cell_at_the_end_of_the_sheet(self) -> None:
        book = openpyxl.Workbook()
        for row in (["name", "e", "n", "h"], ["A", 1, 2, 3]):
            book.active.append(row)
        book.active["ZZ90000"] = "x"
        book.save(self.path("far.xlsx"))
        found = read_table(self.path("far.xlsx"))
        self.assertEqual((found.rows[0][:4], len(found.rows)), (["A", "1", "2", "3"], 1))

    def test_a_drawing_that_holds_itself_many_times(self) -> None:
        drawing = ezdxf.new()
        drawing.modelspace().add_point((1, 2, 3))
        drawing.blocks.new("B0").add_point((0, 0))
        for i in range(1, 60):
            block = drawing.blocks.new(f"B{i}")
            for e in (0, 1):
                block.add_blockref(f"B{i - 1}", (e, 0))
        drawing.modelspace().add_blockref("B59", (0, 0))
        drawing.saveas(self.path("blocks.dxf"))
        self.assertEqual(len(read_table(self.path("blocks.dxf")).rows), 1)

    def test_world_files(self) -> None:
        from PIL import Image

        Image.new("RGB", (8, 8)).save(self.path("a.png"))
        for text in ("1e308\n0\n0\n-1e308\n1e308\n1e308\n", "nan\n0\n0\n0\n0\n0\n", "0\n0\n0\n0\n0\n0\n"):
            with self.subTest(text=text):
                self.write("a.pgw", text)
                self.refused(lambda p: read_backdrop(p), self.path("a.png"), "no extent")
        self.write("a.pgw", "2.0\n0.5\n-0.6\n-3.0\n1000\n2000\n")  # turned: its corner from its first middle
        corner = (1000 - 0.5 * (2.0 - 0.6), 2.0, -0.6, 2000 - 0.5 * (0.5 - 3.0), 0.5, -3.0)
        np.testing.assert_allclose(read_backdrop(self.path("a.png")).place, corner)

    def test_systems(self) -> None:
        for text in ("+proj=tmerc +R=1e-300 +units=m", "+proj=nothing", "x" * 100_000):
            with self.subTest(text=text[:40]), self.assertRaises(FenwindError) as caught:
                open_frame(FrameSpec(name="x", crs=text)).forward(1.0, 0.1)
            self.assertIsInstance(caught.exception, FrameError)
            self.assertLess(len(caught.exception.one_line), 400)


class Guarded(unittest.TestCase):
    def test_heads_as_cells(self) -> None:
        rows = list(csv.reader(csv_text(["name", "=1+1", "-5"], [["@a", "-5", "+x"]]).splitlines()))
        self.assertEqual(rows, [["name", "'=1+1", "-5"], ["'@a", "-5", "'+x"]])
