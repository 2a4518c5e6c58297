"""Small things in files that people rely on: symbols, label sizes, what is refused, what is left as it is."""

import io
import math
import unittest
import zipfile
from dataclasses import replace
from datetime import datetime
from pathlib import Path

import ezdxf
import numpy as np

from fenwind.errors import FormatError
from fenwind.exchange.delimited import read_file, read_text
from fenwind.exchange.dxf import _text_height, write_dxf
from fenwind.exchange.dxf_move import move_drawing, preview
from fenwind.exchange.formats import read_table
from fenwind.exchange.list_move import move_list, moved_text
from fenwind.exchange.outgoing import outgoing
from fenwind.exchange.point_list import interpret, match_header
from fenwind.exchange.sinex import _stamp, sinex_lines
from fenwind.exchange.xlsx import write_xlsx
from fenwind.procedures.fit import FitOptions
from fenwind.procedures.move import move_fit, move_of
from fenwind.procedures.positions import positions
from fenwind.quantities.lengths import FOOT, METRE
from fenwind.records.entries import Add
from fenwind.records.records import MarkRule
from tests.support import TempFolder


class Details(TempFolder):
    def test_each_symbol_is_what_it_is_called(self) -> None:
        job = self.demo()
        self.addCleanup(job.close)
        shapes = {
            "triangle": "SOLID", "square": "LWPOLYLINE", "cross": "LINE", "ring": "CIRCLE", "dot": "CIRCLE",
        }  # fmt: skip
        classes = sorted({m.mark_class for m in job.state.marks.values()})
        for symbol, shape in shapes.items():
            rules = [MarkRule(id=f"{symbol}{c}", by="class", value=c, symbol=symbol) for c in classes]
            job.record(symbol, [Add(record=r) for r in rules])
            path = self.path(f"{symbol}.dxf")
            write_dxf(
                path, outgoing(job.state, self.derive(job).adopted, "dam", job.state.frames["dam"].spec)
            )
            drawing = ezdxf.readfile(path)
            block = drawing.blocks.get(f"MARK_{symbol.upper()}")
            drawn = [e for e in block if e.dxftype() != "ATTDEF"]
            self.assertEqual({e.dxftype() for e in drawn}, {shape})
            if symbol == "cross":
                ends = {(*e.dxf.start.vec2, *e.dxf.end.vec2) for e in drawn}
                self.assertEqual(ends, {(-0.45, -0.45, 0.45, 0.45), (-0.45, 0.45, 0.45, -0.45)})
            if shape == "CIRCLE":
                self.assertEqual(drawn[0].dxf.radius, 0.42 if symbol == "ring" else 0.15)
            self.assertEqual([e.dxf.height for e in block.query("ATTDEF")], [1.0] * 3)
            job.undo()

    def test_labels_are_a_round_part_of_the_extent(self) -> None:
        for extent, count, height in (
            (4000.0, 4, 100.0), (4000.0, 100, 20.0), (36.0, 9, 0.5), (1.0, 4, 0.02),
        ):  # fmt: skip
            e = np.linspace(0.0, extent, count)
            self.assertAlmostEqual(_text_height(e, 0.0 * e), height)
        self.assertEqual(_text_height(np.array([5.0, math.nan]), np.array([5.0, 1.0])), 1.0)

    def test_binary_is_refused_and_a_stray_control_character_is_not(self) -> None:
        rows = b"name,e,n,h\n" + b"".join(b"P%d,1,2,3\n" % i for i in range(100))
        self.assertEqual(len(read_file(self.write("fine.csv", rows + b"Q\x1a,1,2,3\n")).rows), 101)
        for bad in (rows + b"\x00", b"\x01\x02\x03" * 40 + rows):
            with self.assertRaisesRegex(FormatError, "binary"):
                read_file(self.write("bad.csv", bad))

    def test_only_archives_out_of_all_proportion_are_refused(self) -> None:
        path = self.path("list.xlsx")
        write_xlsx(path, ["name", "e", "n"], [(f"P{i}", 5e5 + i, 68e5) for i in range(3)], "t", "s")
        self.assertEqual(len(read_table(path).rows), 3)
        for size, refused in ((9_000_000, False), (30_000_000, True)):
            data = io.BytesIO(Path(path).read_bytes())
            with zipfile.ZipFile(data, "a", zipfile.ZIP_DEFLATED) as archive:
                archive.writestr("xl/more.xml", b"0" * size)
            fat = self.write("fat.xlsx", data.getvalue())
            if refused:
                with self.assertRaisesRegex(FormatError, "unpacks"):
                    read_table(fat)
            else:
                self.assertEqual(len(read_table(fat).rows), 3)

    def test_text_in_cells_keeps_tabs_and_lines_and_loses_what_xml_forbids(self) -> None:
        path = self.path("words.xlsx")
        write_xlsx(path, ["name", "e", "n", "description"], [("A", 1.0, 2.0, "two\nlines\x07")], "t", "s")
        self.assertEqual(read_table(path).rows[0][3].split(), ["two", "lines"])

    def test_a_list_is_moved_but_for_what_stays(self) -> None:
        e, n, h = np.array([0.0, 100.0]), np.array([0.0, 50.0]), np.array([1.0, 2.0])
        source, target = positions(["A", "B"], e, n, h), positions(["A", "B"], e + 1000, n + 2000, h)
        result = move_fit(source, target, FitOptions(horizontal="shift", height="none"))
        raw = read_table(self.write("l.csv", "name,e,n\nA,1000,2000\nP,10,20\nQ,30,40\n"))
        done = move_list(interpret(raw), move_of(result, target), ("Q",), result)
        lines = moved_text(raw, interpret(raw), done, METRE).splitlines()
        self.assertEqual([line.split(",")[0] for line in lines], ["name", "A", "P", "Q"])
        place = {line.split(",")[0]: [float(v) for v in line.split(",")[1:3]] for line in lines[1:]}
        self.assertEqual(place["P"], [1010.0, 2020.0])
        self.assertEqual(place["Q"], [30.0, 40.0])

    def test_a_drawing_in_feet_moves_by_metres(self) -> None:
        """A move in metres, the same places in drawings of three units: the same marks move to the same
        places, what is at a target stays, heights are lifted by as much."""
        e, n, h = np.array([0.0, 100.0]), np.array([0.0, 50.0]), np.array([1.0, 2.0])
        target = positions(["A", "B"], e + 1000, n + 2000, h + 3)
        result = move_fit(
            positions(["A", "B"], e, n, h), target, FitOptions(horizontal="shift", height="shift")
        )
        move = replace(move_of(result, target), heights=True)
        for insunits, default, metres in (
            (2, METRE, 0.3048), (21, METRE, 1200.0 / 3937.0), (0, FOOT, 0.3048), (6, FOOT, 1.0),
            (0, None, 1.0),
        ):  # fmt: skip
            drawing = ezdxf.new(units=insunits)
            space = drawing.modelspace()
            places = [(10.0, 20.0, 5.0), (1000.0, 2000.0, 4.0)]
            for place in places:
                space.add_point([v / metres for v in place])
            path, out = self.path("in.dxf"), self.path("out.dxf")
            drawing.saveas(path)
            done = move_drawing(path, out, move, unit=default)
            self.assertEqual((len(done.moved), len(done.stayed)), (1, 1))
            self.assertEqual(preview(path, move, unit=default)[0].total(), 1)
            found = [
                np.array(p.dxf.location) * metres for p in ezdxf.readfile(out).modelspace().query("POINT")
            ]
            np.testing.assert_allclose(found, [(1010.0, 2020.0, 8.0), places[1]], rtol=0, atol=1e-9)
            self.assertEqual("feet" in " ".join(done.remarks), metres != 1.0)

    def test_heads_as_people_write_them(self) -> None:
        """Five columns: name, two coordinates, height, and a word (common practice, no source)."""
        for heads, meanings in (
            ("Mark No,Easting,Northing,RL,Desc.", "name e n h description"),
            ("Point No.,N,E,Elev.,Type", "name n e h class"),
            ("PNT,Y,X,Z,Code", "name n e h code"),
            ("Target,EAST,NORTH,Height (m),Remarks", "name e n h description"),
            ("Punkt-Nr.,Rechtswert,Hochwert,Höhe,Bemerkung", "name e n h description"),
            ("Matricule,X,Y,Altitude,Nature", "name e n h description"),
            ("Punto,Este,Norte,Cota,Código", "name e n h code"),
            ("Nome,Est,Nord,Quota,Descrizione", "name e n h description"),
            ("Punktnummer,Øst,Nord,Høyde,Kode", "name e n h code"),
            ("P,N,E,Z,D", "name n e h description"),
            ("Station,Lat.,Long.,Ell. Height,Source", "name lat lon h_ell source"),
        ):
            with self.subTest(heads=heads):
                table = read_text(f"{heads}\nA1,61.5,8.5,10.5,x\n", "list")
                found = match_header(table).columns
                self.assertEqual(sorted(found, key=found.__getitem__), meanings.split())

    def test_an_empty_and_a_headless_list_say_what_they_lack(self) -> None:
        for text, words in (
            ("name,x1\nA,1\n", "found name, x1"),
            ("A\nB\n", "1 columns? without a header|found"),
        ):
            with self.assertRaisesRegex(FormatError, words):
                interpret(read_table(self.write("lacks.csv", text)))
        far = interpret(read_table(self.write("far.csv", "name,e,n\nA,1e12,5\nB,3,4\n")))
        self.assertEqual((far.names, far.values.shape), (("B",), (5, 1)))


class Sinex(unittest.TestCase):
    def test_a_moment_of_a_year(self) -> None:
        """Halfway through a year of 366 days and of 365; 1900 is none of the former, 2000 is."""
        for year, text in (
            (2024.5, "24:184:00000"), (2023.5, "23:183:43200"), (2000.5, "00:184:00000"),
            (1900.5, "00:183:43200"), (2023.0, "23:001:00000"),
        ):  # fmt: skip
            self.assertEqual(_stamp(year), text)

    def test_a_covariance_is_written_once_and_whole(self) -> None:
        half = np.random.default_rng(2).normal(0.0, 0.01, (6, 6))
        covariance, place = half @ half.T, np.array([[10.0, 20.0], [50.0, -60.0], [100.0, 0.0]])
        lines = list(
            sinex_lines(
                ["A", "B"], np.arange(6.0).reshape(3, 2), covariance, place, datetime(2026, 11, 27), 9
            )
        )
        begin = lines.index("+SOLUTION/MATRIX_ESTIMATE L COVA")
        cells: dict[tuple[int, int], float] = {}
        for line in lines[begin + 2 : lines.index("-SOLUTION/MATRIX_ESTIMATE L COVA")]:
            i, j, *values = line.split()
            self.assertTrue(values, line)
            cells |= {(int(i), int(j) + k): float(v) for k, v in enumerate(values)}
        self.assertEqual(set(cells), {(i, j) for i in range(1, 7) for j in range(1, i + 1)})
        for (i, j), value in cells.items():
            self.assertAlmostEqual(value, covariance[i - 1, j - 1], delta=1e-15)
