"""Delimited text in and CSV out: everything people paste, and everything that goes wrong with files."""

import math
import unittest

from hypothesis import given, settings
from hypothesis import strategies as st

from fenwind.errors import FenwindError, FormatError
from fenwind.exchange.csv_out import csv_text, guarded
from fenwind.exchange.delimited import decode, read_file, read_text
from fenwind.exchange.files import write_text
from fenwind.exchange.point_list import ColumnMatch, interpret, match_header
from fenwind.quantities.lengths import FOOT, US_SURVEY_FOOT
from tests.support import TempFolder

WANTED = [("A", 1000.5, 2000.25, 12.0), ("B", 1001.5, 2001.25, math.nan)]


class Shapes(unittest.TestCase):
    def test_every_shape_gives_the_same_points(self) -> None:
        rows = [
            "name,e,n,h\nA,1000.5,2000.25,12\nB,1001.5,2001.25,\n",
            "name;e;n;h\nA;1000,5;2000,25;12\nB;1001,5;2001,25;\n",
            "Pt.\tEasting\tNorthing\tElev\nA\t1'000.5\t2000.25\t12\nB\t1001.5\t2001.25\t\n",
            "n|e|name|h\n2000.25|1000.5|A|12\n2001.25|1001.5|B|\n",
            "A 1000.5 2000.25 12\n\n# a remark\nB 1001.5 2001.25\n",
            "A,1000.5,2000.25,12\r\nB,1001.5,2001.25,\r\n",
            '"name","e","n","h"\n"A","1000.5","2000.25","12"\n"B","1001.5","2001.25",""\n',
            "Mark, E (m), N (m), height [mm]\nA,1000.5,2000.25,12000\nB,1001.5,2001.25,\n",
        ]
        for text in rows:
            with self.subTest(text[:20]):
                found = interpret(read_text(text, "test"))
                self.assertEqual(found.problems, ())
                points = [(p.name, p.first, p.second, p.height_m) for p in found.points]
                for point, wanted in zip(points, WANTED, strict=True):
                    self.assertEqual(point[:3], wanted[:3])
                    self.assertTrue(point[3] == wanted[3] or (math.isnan(point[3]) and math.isnan(wanted[3])))

    def test_geographic_units_and_words(self) -> None:
        found = interpret(
            read_text(
                "name,lat,lon,h,sh,sv,class\nA,61°18'05.0\" N,8.4 E,1240,0.01,0.02,main\nB,61.3,-8.4,,,,\n",
                "test",
            )
        )
        self.assertTrue(found.geographic)
        self.assertAlmostEqual(math.degrees(found.points[0].first), 61 + 18 / 60 + 5 / 3600)
        self.assertEqual(
            (found.points[0].mark_class, found.points[0].sigma_h_m, math.degrees(found.points[1].second)),
            ("main", 0.01, -8.4),
        )
        feet = interpret(read_text("name,e,n,h\nA,3937,0,10\n", "test"), unit=US_SURVEY_FOOT)
        self.assertAlmostEqual(feet.points[0].first, 1200.0)
        stated = interpret(read_text("name,e (ft),n (ft),h\nA,10,20,3\n", "test"))
        self.assertAlmostEqual(stated.points[0].first, 10 * FOOT.metres)
        self.assertEqual(stated.points[0].height_m, 3.0)

    def test_matched_by_hand(self) -> None:
        table = read_text("1;2000,25;1000,5;A\n2;2001,25;1001,5;B\n", "test")
        found = interpret(table, ColumnMatch(columns={"name": 3, "e": 2, "n": 1}))
        self.assertEqual([(p.name, p.first, p.second) for p in found.points], [w[:3] for w in WANTED])
        self.assertEqual(match_header(table).columns, {"name": 0, "e": 1, "n": 2, "h": 3})

    def test_encodings(self) -> None:
        text = "name;e;n\nMühle Øst;1000,5;2000\nSchönau;1;2\nÅsgård;3;4\nGrüneck;5;6\n"
        for encoding in ("utf-8", "utf-8-sig", "utf-16", "cp1252"):
            with self.subTest(encoding):
                decoded, _ = decode(text.encode(encoding), "test")
                self.assertEqual(interpret(read_text(decoded, "test")).points[0].name, "Mühle Øst")


class BadInput(TempFolder):
    def test_files_with_one_clear_message(self) -> None:
        rows = [
            (b"", "no rows"), (b"\n \n\t\n", "no rows"), (b"\x00\x01\x02PNG" * 50, "binary"),
            (b"PK\x03\x04" + bytes(range(32)) * 40, "binary"),
            ("name,e,n,h\nA,1,2,3\n".encode("utf-16")[:-1], "UTF-16"),
            (b'name,e,n\nA,1,2\n"B,3,4\nC,5,6\n', "line 3.*quote"), (b"name,e\nA,1\n", "no column for n"),
            (b"just a letter to a friend\n", "no column|No row|number"), (b"name,e,e,n\nA,1,2,3\n", "twice"),
            (b"name,e,n\nA,x,2\nB,3\n", "line 2.*column e.*expected a number"),
            (b"name,lat,lon\nA,95,8\n", "latitude"),
        ]  # fmt: skip
        for content, words in rows:
            with self.subTest(words), self.assertRaisesRegex(FormatError, words) as caught:
                interpret(read_file(self.write("bad.csv", content)))
            self.assertIn("bad.csv", caught.exception.where)
            self.assertNotIn("\n", caught.exception.one_line)
        with self.assertRaisesRegex(FormatError, "cannot be read"):
            read_file(self.folder / "none.csv")
        huge = self.folder / "huge.csv"
        with huge.open("wb") as file:
            file.truncate(300_000_000)
        with self.assertRaisesRegex(FormatError, "200 MB"):
            read_file(huge)

    def test_bad_rows_are_told_and_the_good_ones_read(self) -> None:
        text = "name,e,n,h,sh\nA,1,2,3,\nB,nan,2,3,\n,1,2,3,\nC,1\n"
        text += "D,1e12,2,3,\nE,1,2,x,\nF,1,2,3,-1\nG,5,6,7,0.01\n"
        found = interpret(read_text(text, "test"))
        self.assertEqual([p.name for p in found.points], ["A", "G"])
        self.assertEqual(
            [(p.line, p.column) for p in found.problems],
            [(3, "e"), (4, "name"), (5, "last"), (6, "e"), (7, "h"), (8, "sh")],
        )

    @settings(max_examples=250, deadline=None)
    @given(
        st.one_of(st.binary(max_size=400), st.text(max_size=300).map(lambda t: t.encode("utf-8", "replace")))
    )
    def test_fuzz_answers_or_refuses(self, data: bytes) -> None:
        try:
            text, _ = decode(data, "fuzz")
            interpret(read_text(text, "fuzz"))
        except FenwindError as error:
            self.assertTrue(error.hint)

    @settings(max_examples=250, deadline=None)
    @given(
        st.lists(
            st.lists(
                st.sampled_from(["A", "1", "2.5", "1,5", '"', "=1+1", "", "e", "lat", "nan", "∞", "12 N"]),
                max_size=6,
            ),
            max_size=8,
        ),
        st.sampled_from(",;\t| "),
    )
    def test_fuzz_tables(self, rows: list[list[str]], delimiter: str) -> None:
        try:
            interpret(read_text("\n".join(delimiter.join(r) for r in rows), "fuzz"))
        except FenwindError as error:
            self.assertTrue(error.hint)


class Out(TempFolder):
    def test_formulas_are_written_safely_and_read_back(self) -> None:
        names = ["=HYPERLINK(1)", "+A1", "-B", "@sum", "plain", "-5", "a,b", 'say "x"', "two\nlines"]
        text = csv_text(("name", "e", "n"), [(n, "1.5", "-2.5") for n in names])
        for line in text.split("\r\n")[1:5]:
            self.assertEqual(line.lstrip('"')[0], "'")
        self.assertIn("\r\n-5,1.5,-2.5", text)
        back = interpret(read_text(text, "back"))
        self.assertEqual([p.name for p in back.points], names)
        self.assertEqual({(p.first, p.second) for p in back.points}, {(1.5, -2.5)})
        self.assertEqual(guarded(""), "")

    def test_whole_or_not_at_all(self) -> None:
        path = self.folder / "out.csv"
        write_text(path, "old")
        with self.assertRaises(FormatError):
            write_text(self.folder / "missing" / "out.csv", "new")
        self.assertEqual(path.read_text(), "old")
        write_text(path, "new")
        self.assertEqual((path.read_text(), [p.name for p in self.folder.iterdir()]), ("new", ["out.csv"]))
