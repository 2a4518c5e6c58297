"""Every format out and read back, by Fenwind and by a general library; broken and hostile files are refused
in one sentence."""

import io
import json
import math
import sqlite3
import struct
import zipfile
from collections.abc import Callable
from datetime import datetime
from pathlib import Path
from xml.etree import ElementTree

import ezdxf
import numpy as np
import openpyxl
import pyogrio
import shapely
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st

from fenwind.errors import FenwindError, FormatError
from fenwind.exchange.dxf import write_dxf
from fenwind.exchange.features import write_geojson, write_geopackage
from fenwind.exchange.formats import read_table
from fenwind.exchange.kml import write_kml
from fenwind.exchange.landxml import write_landxml
from fenwind.exchange.outgoing import WORDS, Outgoing
from fenwind.exchange.point_list import PointList, interpret
from fenwind.exchange.xlsx import write_xlsx
from fenwind.geodesy.frames import FrameSpec, HeightReference
from fenwind.quantities.lengths import METRE, UNITS
from tests.support import TempFolder

UTM = FrameSpec(name="ETRS89 / UTM zone 32N", crs="EPSG:25832")
FEET = FrameSpec(name="Levee grid", unit="ftUS", height=HeightReference(kind="local", name="gauge zero"))
MADE = datetime(2026, 11, 25, 12, 0, 0)


def positions(spec: FrameSpec = UTM) -> Outgoing:
    words = {key: ("", f"{key} & <two>", "") for key in WORDS} | {"class": ("main", "main", "second/ary")}
    return Outgoing(
        title="Test", spec=spec, names=("T-01", "=PORTAL N", "Mühle"),
        e_m=np.array([468000.1234, 468100.0, 468200.5]), n_m=np.array([6797000.4321, 6797100.0, 6797333.0]),
        height_m=np.array([1240.125, 20.0, math.nan]), sigma_h_m=np.array([0.002, math.nan, 0.01]),
        sigma_v_m=np.full(3, math.nan), words=words, symbols=("triangle", "ring", "cross"),
        labelled=np.array([True, True, False]),
    )  # fmt: skip


def xlsx(path: str, out: Outgoing) -> None:
    unit = UNITS[out.spec.unit].metres
    rows = zip(
        out.names, (out.e_m / unit).tolist(), (out.n_m / unit).tolist(), (out.height_m / unit).tolist(),
        strict=True,
    )  # fmt: skip
    write_xlsx(path, ("name", "e", "n", "h"), rows, out.title, out.system_words)


PLANE: dict[str, Callable[[str, Outgoing], None]] = {
    "a.xlsx": xlsx,
    "a.xml": lambda path, out: write_landxml(path, out, MADE),
    "a.gpkg": write_geopackage,
    "a.dxf": write_dxf,
}


class RoundTrips(TempFolder):
    def read(self, name: str, out: Outgoing) -> PointList:
        raw = read_table(self.path(name))
        return interpret(raw, unit=UNITS[raw.unit] if raw.unit else UNITS[out.spec.unit])

    def test_plane_formats_bring_back_what_went_out(self) -> None:
        for spec in (UTM, FEET):
            out = positions(spec)
            for name, write in PLANE.items():
                with self.subTest(name, unit=spec.unit):
                    write(self.path(name), out)
                    back = self.read(name, out)
                    self.assertEqual(back.problems, ())
                    order = [back.names.index(n) for n in out.names]
                    got = back.values[:3, order]
                    np.testing.assert_allclose(got[:2], [out.e_m, out.n_m], rtol=0, atol=6e-5)
                    np.testing.assert_allclose(got[2], out.height_m, rtol=0, atol=6e-5)

    def test_geographic_formats_are_in_wgs_84(self) -> None:
        out = positions()
        for name, write in {"a.kml": write_kml, "a.geojson": write_geojson}.items():
            with self.subTest(name):
                write(self.path(name), out)
                back = self.read(name, out)
                lat, lon, h = out.geodetic()  # ETRS89 and WGS 84 are taken as equal, to a metre
                np.testing.assert_allclose(back.values[:2], [lat, lon], rtol=0, atol=1e-10)
                np.testing.assert_allclose(back.values[2, :2], h[:2], rtol=0, atol=6e-5)
                self.assertEqual(back.names, out.names)
                with self.assertRaisesRegex(FormatError, "local plane"):
                    write(self.path(name), positions(FEET))
        self.assertIn("WGS 84", out.wgs84_words)
        self.assertEqual(
            positions(FEET).system_words, "Levee grid, US survey feet, heights above gauge zero."
        )

    def test_general_libraries_read_it(self) -> None:
        out = positions()
        for name, write in PLANE.items():
            write(self.path(name), out)
        sheet = openpyxl.load_workbook(self.path("a.xlsx")).active
        self.assertEqual([c.value for c in sheet[3]], ["=PORTAL N", 468100, 6797100, 20])
        self.assertEqual(sheet["A3"].data_type, "s", "a name is never a formula")
        root = ElementTree.parse(self.path("a.xml")).getroot()
        ns = {"l": "http://www.landxml.org/schema/LandXML-1.2"}
        self.assertEqual(root.find(".//l:Metric", ns).get("linearUnit"), "meter")
        self.assertEqual(root.find("l:CoordinateSystem", ns).get("epsgCode"), "25832")
        self.assertEqual(root.find(".//l:CgPoint", ns).text, "6797000.4321 468000.1234 1240.1250")
        meta, _, shapes, columns = pyogrio.raw.read(self.path("a.gpkg"))
        self.assertEqual(meta["crs"], "EPSG:25832")
        self.assertEqual(columns[list(meta["fields"]).index("name")].tolist(), list(out.names))
        self.assertEqual(
            shapely.get_coordinates(shapely.from_wkb(shapes), include_z=True)[0].tolist(),
            [468000.1234, 6797000.4321, 1240.125],
        )
        drawing = ezdxf.readfile(self.path("a.dxf"))
        self.assertEqual(len(drawing.audit().errors), 0)
        space = drawing.modelspace()
        self.assertEqual([t.dxf.text for t in space.query("TEXT")], ["T-01", "=PORTAL N", out.system_words])
        self.assertEqual(
            [b.dxf.name for b in space.query("INSERT")], ["MARK_TRIANGLE", "MARK_RING", "MARK_CROSS"]
        )
        self.assertIn("second_ary points", drawing.layers)
        self.assertEqual(drawing.header["$INSUNITS"], 6)
        write_kml(self.path("a.kml"), out)
        marks = (
            ElementTree.parse(self.path("a.kml"))
            .getroot()
            .findall(".//k:Placemark", {"k": "http://www.opengis.net/kml/2.2"})
        )
        self.assertEqual([m[0].text for m in marks], list(out.names))
        write_geojson(self.path("a.geojson"), out)
        features = json.loads(Path(self.path("a.geojson")).read_text())["features"]
        self.assertEqual(features[1]["properties"]["name"], "=PORTAL N")
        self.assertEqual(len(features[2]["geometry"]["coordinates"]), 2, "no height is no height")

    def test_text_beside_a_point_is_its_name(self) -> None:
        drawing = ezdxf.new(units=2)
        space = drawing.modelspace()
        for i, name in enumerate(("A1", "A2")):
            space.add_point((10.0 * i, 5.0, 0.0 if i else 3.5))
            space.add_text(name, dxfattribs={"height": 1.0}).set_placement((10.0 * i + 1.0, 5.5))
        space.add_point((500.0, 500.0))
        drawing.saveas(self.path("t.dxf"))
        raw = read_table(self.path("t.dxf"))
        found = interpret(raw, unit=UNITS[raw.unit])
        self.assertEqual((found.names, raw.unit), (("A1", "A2"), "ft"))
        np.testing.assert_allclose(found.values[:3, 0], [0.0, 5 * 0.3048, 3.5 * 0.3048])
        self.assertTrue(math.isnan(found.values[2, 1]))
        self.assertEqual([p.column for p in found.problems], ["name"])

    def test_attributes_of_blocks_stand_beside_their_places(self) -> None:
        """One named as a coordinate is no coordinate."""
        drawing = ezdxf.new(units=6)
        block = drawing.blocks.new("sign")
        for tag in ("NAME", "E", "CODE"):
            block.add_attdef(tag, (0, 0))
        told = {"NAME": "A1", "E": "999", "CODE": "BOLT"}
        drawing.modelspace().add_blockref("sign", (10.0, 20.0, 3.0)).add_auto_attribs(told)
        drawing.saveas(self.path("b.dxf"))
        raw = read_table(self.path("b.dxf"))
        self.assertEqual(raw.headers[-2:], ("attribute E", "CODE"))
        found = interpret(raw, unit=UNITS[raw.unit])
        self.assertEqual(found.values[:3, 0].tolist(), [10.0, 20.0, 3.0])
        self.assertEqual(found.points[0].code, "BOLT")


#: A LandXML file written by hand after the schema (from memory): two groups, feet, a reference, a point
#: without height.
LANDXML = """<?xml version="1.0"?><LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2"
date="2026-01-01" time="00:00:00">
<Units><Imperial areaUnit="squareFoot" linearUnit="USSurveyFoot" volumeUnit="cubicFeet"
temperatureUnit="fahrenheit" pressureUnit="inHG"/></Units>
<CgPoints name="control"><CgPoint name="K1" code="BM" desc="bolt in rock">2000.5 1000.25 30.125</CgPoint>
<CgPoint name="K2">2100 1100</CgPoint></CgPoints>
<CgPoints name="copies"><CgPoint name="K3" pntRef="K1"/></CgPoints></LandXML>"""


class Reading(TempFolder):
    def test_sigmas_stay_metres_whatever_the_unit(self) -> None:
        path = self.write(
            "s.csv", "name,e (ft),n (ft),h (ft),sh,sv,code,description\nA,10,20,30,0.011,0.022,CC,DD\n"
        )
        for row in (read_table(path),):
            found = interpret(row, unit=UNITS["ftUS"])
            np.testing.assert_allclose(found.values[:, 0], [3.048, 6.096, 9.144, 0.011, 0.022])
            self.assertEqual((found.words["code"], found.words["description"]), (("CC",), ("DD",)))
        path = self.write("p.csv", "name,e,n,h,sh,sv\nA,10,20,30,0.011,x\nB,1,2,3,0.1,0.2\n")
        plain = interpret(read_table(path), unit=UNITS["ft"])
        np.testing.assert_allclose(plain.values[:, 0], [0.3048, 0.6096, 0.9144, 0.1, 0.2])

    def test_heights_above_terrain_are_left_out_of_kml(self) -> None:
        marks = "".join(
            f"<Placemark><name>{n}</name><Point>{mode}"
            f"<coordinates>8.4,61.3,{h}</coordinates></Point></Placemark>"
            for n, mode, h in (
                ("A", "<altitudeMode>absolute</altitudeMode>", 10),
                ("B", "<altitudeMode>relativeToGround</altitudeMode>", 20),
                ("C", "", 30),
            )
        )
        path = self.write(
            "t.kml", f'<kml xmlns="http://www.opengis.net/kml/2.2"><Document>{marks}</Document></kml>'
        )
        raw = read_table(path)
        found = interpret(raw)
        np.testing.assert_allclose(np.degrees(found.values[:2, 0]), [61.3, 8.4])
        np.testing.assert_array_equal(found.values[2], [10.0, math.nan, math.nan])
        self.assertIn("2 heights above terrain", raw.remarks[0])

    def test_landxml_in_feet_with_groups_and_references(self) -> None:
        path = self.write("k.xml", LANDXML)
        raw = read_table(path)
        found = interpret(raw, unit=UNITS[raw.unit])
        self.assertEqual(
            (found.names, raw.unit, raw.parts), (("K1", "K2", "K3"), "ftUS", ("control", "copies"))
        )
        np.testing.assert_allclose(
            found.values[:3, 2], np.array([1000.25, 2000.5, 30.125]) * 1200 / 3937, rtol=1e-15
        )
        self.assertEqual(found.words["code"][0], "BM")
        self.assertEqual(read_table(path, "copies").rows, [["K3", "1000.25", "2000.5", "30.125", "", ""]])

    def test_a_sheet_is_found_and_chosen(self) -> None:
        book = openpyxl.Workbook()
        book.active.title = "Cover"
        sheet = book.create_sheet("Main list")
        for row in (
            ["Point", "East (ft)", "North (ft)", "Elev", "Set on"],
            ["A", 10, 20.5, None, datetime(2026, 1, 2)],
            [7, "30", "=1+1", 1],
        ):
            sheet.append(row)
        book.save(self.path("b.xlsx"))
        raw = read_table(self.path("b.xlsx"))
        self.assertEqual((raw.part, raw.parts, raw.lines), ("Main list", ("Cover", "Main list"), [2, 3]))
        found = interpret(raw, unit=METRE)
        self.assertEqual(
            [(p.name, p.first, p.second) for p in found.points], [("A", 10 * 0.3048, 20.5 * 0.3048)]
        )
        self.assertEqual(found.problems[0].column, "n", "a formula that was never computed is no number")
        with self.assertRaisesRegex(FormatError, "no sheet 'X'"):
            read_table(self.path("b.xlsx"), "X")

    def test_bad_files_are_refused_in_one_sentence(self) -> None:
        bomb = '<!DOCTYPE b [<!ENTITY a "aaaa"><!ENTITY b "&a;&a;&a;">]>'
        outside = '<!DOCTYPE b [<!ENTITY a SYSTEM "file:///etc/passwd">]>'
        packed = io.BytesIO()
        with zipfile.ZipFile(packed, "w", zipfile.ZIP_DEFLATED) as archive:
            archive.writestr("xl/worksheets/sheet1.xml", b"0" * 60_000_000)
        fine = ezdxf.new()
        text = io.StringIO()
        fine.write(text)
        cases = {
            "bomb.xml": (bomb + "<LandXML>&b;</LandXML>", "document type or entities"),
            "outside.kml": (outside + "<kml>&a;</kml>", "document type or entities"),
            "open.xml": ("<LandXML>\n<CgPoints>", "not well formed"),
            "other.xml": ("<svg/>", "neither LandXML nor KML"),
            "unit.xml": (LANDXML.replace("USSurveyFoot", "cubit"), "'cubit' is not known"),
            "empty.kml": ("<kml/>", "no placemarks"),
            "packed.xlsx": (packed.getvalue(), "unpacks to far more"),
            "no.xlsx": (b"PK\x03\x04 and then nothing", "damaged"),
            "no.gpkg": ("name,e,n\n", "not an SQLite database"),
            "cut.gpkg": (b"SQLite format 3\x00" + bytes(200), "GeoPackage"),
            "no.dxf": ("0\nSECTION\n2\nENTITIES\n0\nLINE\nx", "drawing cannot be read"),
            "text.dxf": ("name,e,n\nA,1,2\n", "drawing cannot be read"),
            "empty.dxf": (text.getvalue(), "no points or blocks"),
            "no.geojson": ('{"type": "FeatureCollection", "features": [', "line 1, column"),
            "deep.geojson": ("[" * 100_000, "GeoJSON file cannot be read|well formed"),
            "other.json": ('{"type": "Topology"}', "no FeatureCollection"),
            "mixed.csv": ("name,e (m),n (ft),h\nA,1,2,3\n", "different units: m and ft"),
            "twice.csv": ("name,e,n,e\nA,1,2,3\n", "stands twice"),
            "nan.csv": ("name,e,n\nA,nan,2\n", "line 2"),
            "absurd.csv": ("name,e,n\nA,1e30,2\n", "beyond any place"),
        }
        for name, (data, words) in cases.items():
            with self.subTest(name):
                path = self.write(name, data)
                with self.assertRaisesRegex(FormatError, words) as caught:
                    interpret(read_table(path))
                self.assertIn(name, str(caught.exception))
                self.assertNotIn("\n", caught.exception.one_line)
        plain = sqlite3.connect(self.path("plain.gpkg"))
        plain.execute("CREATE TABLE t (a)")
        plain.close()
        for name in ("plain.gpkg", "", "missing.csv"):
            with self.subTest(name), self.assertRaises(FormatError):
                read_table(self.path(name))


class Fuzz(TempFolder):
    """Whole files with some bytes changed, cut or doubled: each reader answers or refuses with our own
    error."""

    def test_damaged_files_never_raise_anything_else(self) -> None:
        out = positions()
        writers: dict[str, Callable[[str, Outgoing], None]] = {
            **PLANE, "a.kml": write_kml, "a.geojson": write_geojson,
        }  # fmt: skip
        for name, write in writers.items():
            write(self.path(name), out)
        Path(self.path("a.csv")).write_text(
            "name,e,n,h,code\nT-01,468000.1,6797000.4,1240.1,BM\nT-02,1,2,,\n"
        )
        for name in (*writers, "a.csv"):
            whole = Path(self.path(name)).read_bytes()
            with self.subTest(name):
                self.damage(name, whole)

    def damage(self, name: str, whole: bytes) -> None:
        spots = st.lists(
            st.tuples(
                st.floats(0, 1), st.sampled_from(["byte", "cut", "double", "number"]), st.integers(0, 255)
            ),
            min_size=1,
            max_size=6,
        )
        slow = [HealthCheck.too_slow, HealthCheck.function_scoped_fixture]

        @settings(max_examples=25, deadline=None, derandomize=True, suppress_health_check=slow, database=None)
        @given(spots)
        def once(changes: list[tuple[float, str, int]]) -> None:
            data = bytearray(whole)
            for where, how, value in changes:
                at = int(where * max(len(data) - 1, 0))
                if how == "byte" and data:
                    data[at] = value
                elif how == "cut":
                    del data[at : at + value]
                elif how == "double":
                    data[at:at] = data[at : at + value]
                else:
                    data[at:at] = struct.pack("<d", math.inf) if value % 2 else b"1e999"
            path = Path(self.path("fuzz" + Path(name).suffix))
            path.write_bytes(bytes(data))
            try:
                interpret(read_table(path))
            except FenwindError as error:
                self.assertTrue(error.hint and error.message)

        once()
