"""How lists write numbers: a sign between thousands only where it is one, and every cell that is unclear
told with its line; what readers leave out or may not see is counted."""

import io
import json
import unittest
import zipfile
from typing import Any

from fenwind.errors import FormatError, ParseError
from fenwind.exchange.delimited import read_text
from fenwind.exchange.formats import read_table
from fenwind.exchange.point_list import PointList, interpret
from fenwind.quantities.numbers import parse_number
from tests.support import TempFolder


def points(text: str) -> PointList:
    return interpret(read_text(text, "list"))


class Numbers(unittest.TestCase):
    def test_one_number(self) -> None:
        good: dict[tuple[str, bool | None], float] = {
            ("1,234.5", False): 1234.5,
            ("1,234,567", False): 1234567,
            ("1.234,5", True): 1234.5,
            ("1733,652", True): 1733.652,
            ("5,3", None): 5.3,
            ("1 234 567.8", None): 1234567.8,
            ("1\u202f234,5", True): 1234.5,
            ("1'234.5", False): 1234.5,
            (".5", False): 0.5,
            ("5.", False): 5,
        }
        for (text, comma), value in good.items():
            with self.subTest(text):
                self.assertEqual(parse_number(text, decimal_comma=comma), value)
        bad = (
            ("5,3", False),
            ("1733,652", False),
            ("12,34.5", False),
            ("1,2345", False),
            ("0,005", False),
            ("1 234.5", False),
            ("12 34", None),
            ("1.23,4", True),
            ("1234.5", True),
            ("1,234,56", False),
            ("1_000", False),
            ("1,,234", False),
            ("1.234.5", False),
        )
        for text, comma in bad:
            with self.subTest(text), self.assertRaises(ParseError):
                parse_number(text, decimal_comma=comma)

    def test_a_list_is_written_one_way(self) -> None:
        """(text, values of e, n, h of the rows read, lines of the others)."""
        cases = (
            (
                'name,e,n,h\nA,1733.652,2356.889,12.5\nB,1734.1,2357.2,"5,3"\n',
                [(1733.652, 2356.889, 12.5)],
                [3],
            ),
            (
                'name,e,n,h\nA,"1,733.652","2,356.889",12.5\nB,"1,734.1","2,357.2",3\n',
                [(1733.652, 2356.889, 12.5), (1734.1, 2357.2, 3.0)],
                [],
            ),
            ('name,e,n,h\nA,"1,733.652",2356.889,12.5\n', [], [2]),
            ("name;e;n;h\nA;1733,652;2356,889;5,3\nB;1.5;2356,9;5\n", [(1733.652, 2356.889, 5.3)], [3]),
            ("name;e;n;h\nA;1.733,652;2.356,889;1.200\n", [(1733.652, 2356.889, 1200.0)], []),
            ("name;e;n;h\nA;1,234;5,678;9,012\n", [(1.234, 5.678, 9.012)], []),
            ("name;e;n;h\nA;1733.652;2356.889;1.200\n", [(1733.652, 2356.889, 1.2)], []),
            ("name\te\tn\nA\t17 33.652\t2356.889\nB\t1\t2\n", [(1.0, 2.0)], [2]),
            ("name,e,n,h\nA,1,2,3\nB,1,733,652,5\n", [(1.0, 2.0, 3.0)], [3]),
        )
        for text, values, others in cases:
            with self.subTest(text):
                try:
                    found = points(text)
                except FormatError as error:
                    self.assertEqual((values, f"line {others[0]}" in str(error)), ([], True))
                    continue
                read = [tuple(v for v in (p.first, p.second, p.height_m) if v == v) for p in found.points]
                self.assertEqual((read, [p.line for p in found.problems]), (values, others))

    def test_every_row_says_how_it_is_written(self) -> None:
        rows = "".join(f"M{k};100{k};200{k}\n" for k in range(1, 900))
        found = points(f"name;e;n\n{rows}LAST;1,5;2,25\n")
        self.assertEqual((found.points[-1].first, found.points[-1].second), (1.5, 2.25))

    def test_sigmas(self) -> None:
        self.assertAlmostEqual(points("name;e;n;sh\nA;1,5;2,5;0,005\n").points[0].sigma_h_m, 0.005)
        found = points('name,e,n,sh\nA,1.5,2.5,0.1\nB,1.5,2.5,"0,005"\n')
        self.assertEqual(found.problems[0].column, "sh")


class Comments(unittest.TestCase):
    def test_marks_with_a_number_sign_and_lines_left_out(self) -> None:
        for part in (",", ";", "\t", " "):
            with self.subTest(part):
                text = (
                    "# made by hand\n"
                    + "\n".join(
                        part.join(row)
                        for row in (
                            ("name", "e", "n"),
                            ("#1", "100", "200"),
                            ("#2", "101", "201"),
                        )
                    )
                    + "\n#,nothing\n".replace(",", part)
                )
                table = read_text(text, "list")
                self.assertEqual(interpret(table).names, ("#1", "#2"))
                self.assertEqual(table.remarks, ("2 lines beginning with # left out as comments.",))


class Foreign(TempFolder):
    def test_kml_with_two_positions(self) -> None:
        head = '<kml xmlns="http://www.opengis.net/kml/2.2"><Placemark><name>A</name><Point><coordinates>'
        tail = "</coordinates></Point></Placemark></kml>"
        path = self.write("two.kml", f"{head}8,61,10 9,62,11{tail}")
        with self.assertRaisesRegex(FormatError, "placemark 1.*8,61,10 9,62,11"):
            interpret(read_table(path))
        good = interpret(read_table(self.write("one.kml", f"{head} 8, 61, 10 {tail}")))
        self.assertEqual(good.names, ("A",))

    def test_names_as_typed(self) -> None:
        features = [
            {
                "type": "Feature",
                "properties": {"name": "NUMBER"},
                "geometry": {"type": "Point", "coordinates": [8, 61]},
            }
        ]
        text = json.dumps({"type": "FeatureCollection", "features": features}).replace('"NUMBER"', "7.10")
        self.assertEqual(interpret(read_table(self.write("a.geojson", text))).names, ("7.10",))
        self.assertEqual(interpret(read_table(self.workbook())).names, ("7.10", "7.20"))

    def workbook(self) -> str:
        """Names that are numbers with two decimals, decimal commas typed as text, a hidden row and sheet, and
        a formula that nobody worked out."""
        from openpyxl import Workbook

        book = Workbook()
        sheet: Any = book.active
        sheet.append(["name", "e", "n", "h"])
        sheet.append([7.1, 1733.652, "2356,889", None])
        sheet.append([7.2, 1.5, "2,5", "=1+1"])
        for row in (2, 3):
            sheet.cell(row, 1).number_format = "0.00"
        sheet.row_dimensions[3].hidden = True
        book.create_sheet("other").sheet_state = "hidden"
        out = io.BytesIO()
        book.save(out)
        return self.write("book.xlsx", out.getvalue())

    def test_a_workbook_says_what_nobody_sees(self) -> None:
        table = read_table(self.workbook())
        said = " ".join(table.remarks)
        for words in ("1 formula without a value", "1 hidden row read", "Hidden: 1 sheet (other)"):
            self.assertIn(words, said)
        found = interpret(table)
        self.assertEqual([(p.first, p.second) for p in found.points], [(1733.652, 2356.889), (1.5, 2.5)])

    def test_landxml(self) -> None:
        row = '<CgPoint name="A">2356.889 1733.652</CgPoint>'
        twice = read_table(self.write("a.xml", f"<LandXML><CgPoints>{row}{row}</CgPoints></LandXML>"))
        self.assertEqual(twice.remarks, ("Names that stand twice: A.",))
        comma = self.write("b.xml", f"<LandXML><CgPoints>{row.replace('.', ',')}</CgPoints></LandXML>")
        with self.assertRaisesRegex(FormatError, "point 1.*2356,889|point 1.*1733,652"):
            interpret(read_table(comma))

    def test_a_reduced_distance_without_a_rise_is_kept(self) -> None:
        from fenwind.exchange.landxml_survey import read_field_work

        text = (
            '<LandXML><Survey><InstrumentSetup id="I1" stationName="A"/><ReducedObservation setupID="I1" '
            'horizDistance="125.5"><TargetPoint name="B"/></ReducedObservation></Survey></LandXML>'
        )
        (found,) = read_field_work(self.write("r.xml", text)).reduced
        self.assertEqual(
            (found.kind, found.at, found.to, float(found.value[0])), ("horizontal_distance", "A", "B", 125.5)
        )

    def test_more_columns_than_any_list_has(self) -> None:
        with self.assertRaisesRegex(FormatError, "20000 cells"):
            read_text(",".join(["a"] * 20_000) + "\n1,2\n", "list")
        many = {"type": "Feature", "properties": dict.fromkeys(map(str, range(9000)), 1), "geometry": None}
        path = self.write("p.geojson", json.dumps({"type": "FeatureCollection", "features": [many]}))
        with self.assertRaisesRegex(FormatError, "9000 properties"):
            read_table(path)

    def test_damaged_workbooks_are_still_refused(self) -> None:
        with zipfile.ZipFile(self.path("z.xlsx"), "w") as archive:
            archive.writestr("x", "y")
        with self.assertRaises(FormatError):
            read_table(self.path("z.xlsx"))
