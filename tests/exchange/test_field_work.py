"""Field books and LandXML surveys: out and back, in every unit a file may state, with their angles in every
notation, and what is refused."""

import csv
import math
from datetime import datetime
from typing import Any
from xml.etree import ElementTree

from fenwind.errors import FormatError
from fenwind.exchange.field_book import is_field_book, read_setups, write_field_book
from fenwind.exchange.landxml_survey import FieldSetup, read_field_work, read_observations, write_field_work
from fenwind.records.setups import Setup
from tests.support import TempFolder

NAMES = {"s": "St 1", "a": "A-1", "b": "B-2"}
SETUP = Setup(
    id="x", name="Setup 7", frame="f", station="s", height_m=1.612, target=("a", "b", "b"),
    direction_rad=(1.25, 4.5, 4.5 - math.pi), zenith_rad=(1.5, 1.6, 2 * math.pi - 1.6),
    distance_m=(312.4567, None, 88.25), target_height_m=(1.3, 0.0, 0.0), prism_m=(0.0175, 0.0, -0.030),
    face=(1, 1, 2),
)  # fmt: skip

XML = """<?xml version="1.0"?><LandXML xmlns="http://www.landxml.org/schema/LandXML-1.2" version="1.2">
<Units><{system} linearUnit="{linear}" angularUnit="{angular}" directionUnit="{angular}"/></Units>
<CgPoints><CgPoint name="P1">0 0</CgPoint></CgPoints><Survey>
<InstrumentSetup id="I1" stationName="P1" instrumentHeight="{hi}"/>
<InstrumentSetup id="I2" instrumentHeight="0"><InstrumentPoint pntRef="P2"/></InstrumentSetup>
<ObservationGroup id="G" setupID="I1"><RawObservation targetHeight="0" horizAngle="{hz}" zenithAngle="{za}"
 slopeDistance="{sd}" directFace="true"><TargetPoint name="P2"/></RawObservation></ObservationGroup>
<ReducedObservation setupID="I1" targetSetupID="I2" azimuth="{hz}" horizDistance="{sd}" vertDistance="-{hi}"/>
</Survey></LandXML>"""


class OutAndBack(TempFolder):
    def check(self, found: dict[str, FieldSetup], prism_in: bool) -> None:
        (setup,) = found.values()
        self.assertEqual((setup.station, setup.height_m), ("St 1", 1.612))
        for i, shot in enumerate(setup.shots):
            self.assertEqual((shot.target, shot.face), (NAMES[SETUP.target[i]], SETUP.face[i]))
            self.assertAlmostEqual(shot.direction, SETUP.direction_rad[i], 8)
            zenith, distance = SETUP.zenith_rad[i], SETUP.distance_m[i]
            assert zenith is not None
            self.assertAlmostEqual(shot.zenith, zenith, 8)
            self.assertEqual(shot.target_height, SETUP.target_height_m[i])
            if distance is None:
                self.assertTrue(math.isnan(shot.distance))
            else:
                self.assertAlmostEqual(shot.distance + shot.prism_m, distance + SETUP.prism_m[i], 5)
                self.assertAlmostEqual(shot.prism_m, 0.0 if prism_in else SETUP.prism_m[i], 9)

    def test_both_ways(self) -> None:
        book, xml = self.path("book.csv"), self.path("book.xml")
        write_field_book(book, [SETUP], NAMES)
        write_field_work(xml, [SETUP], NAMES, datetime(2026, 11, 26))
        self.check(read_setups(book), prism_in=False)
        self.check(read_setups(xml), prism_in=True)
        with open(book, encoding="utf-8", newline="") as file:  # a general reader
            row = next(csv.DictReader(file))
        self.assertEqual((row["station"], row["target"], row["prism_mm"]), ("St 1", "A-1", "17.50"))
        self.assertAlmostEqual(float(row["hz_deg"]), math.degrees(1.25), 6)
        root = ElementTree.parse(xml).getroot()
        shot = next(e for e in root.iter() if e.tag.endswith("RawObservation"))
        self.assertEqual(shot.get("slopeDistance"), "312.47420")
        none = ("target,hz_deg\n", "station,height\n", "setup,height\n")
        others = [(self.write(f"{k}.csv", head), False) for k, head in enumerate(none)]
        for path, is_book in ((book, True), (xml, True), *others):
            self.assertIs(is_field_book(path), is_book)

    def test_units_and_notations(self) -> None:
        """One line of 100 m at 30.2536 degrees, whatever the file's units: a vector of figures known."""
        angle, zenith = 30 + 15 / 60 + 13 / 3600, 91 + 30 / 60
        cases = [
            ("Metric", "meter", "decimal degrees", 1.5, repr(angle), repr(zenith), 100.0),
            ("Metric", "meter", "decimal dd.mm.ss", 1.5, "30.1513", "91.3", 100.0),
            ("Metric", "meter", "grads", 1.5, repr(angle / 0.9), repr(zenith / 0.9), 100.0),
            ("Metric", "meter", "radians", 1.5, repr(math.radians(angle)), repr(math.radians(zenith)), 100.0),
            ("Imperial", "foot", "decimal degrees", 1.5 / 0.3048, repr(angle), repr(zenith), 100 / 0.3048),
            ("Imperial", "USSurveyFoot", "decimal degrees", 1.5 * 3937 / 1200, repr(angle), repr(zenith),
             100 * 3937 / 1200),
        ]  # fmt: skip
        for system, linear, angular, hi, hz, za, sd in cases:
            with self.subTest(linear=linear, angular=angular):
                text = XML.format(system=system, linear=linear, angular=angular, hi=hi, hz=hz, za=za, sd=sd)
                path = self.write("s.xml", text)
                direction, z, distance, azimuth, slope, rise = read_observations(path)
                self.assertEqual((direction.at, direction.to, direction.set), ("P1", "P2", "I1"))
                self.assertAlmostEqual(float(direction.value[0]), math.radians(angle), 10)
                self.assertAlmostEqual(float(z.value[0]), math.radians(zenith), 10)
                self.assertAlmostEqual(float(distance.value[0]), 100.0, 9)
                self.assertAlmostEqual(distance.hi, 1.5, 9)
                reduced = [one for o in (azimuth, slope, rise) for one in (o.hi, o.ht)]
                self.assertEqual(reduced, [0.0] * 6)  # they go from mark to mark
                self.assertEqual([o.line for o in (direction, z, distance)], [1, 1, 1])
                self.assertAlmostEqual(float(azimuth.value[0]), math.radians(angle), 10)
                self.assertAlmostEqual(float(slope.value[0]), math.hypot(100.0, 1.5), 9)
                self.assertAlmostEqual(float(rise.value[0]), -1.5, 9)
                self.assertEqual((rise.at, rise.to), ("P1", "P2"))
                self.assertAlmostEqual(math.sqrt(float(distance.covariance[0, 0])), 0.0032, 9)

    def test_what_is_refused(self) -> None:
        fine = {"system": "Metric", "linear": "meter", "angular": "decimal degrees", "hi": 1.5, "hz": "30",
                "za": "91", "sd": 100.0}  # fmt: skip
        changes: list[tuple[dict[str, Any], str]] = [
            ({"linear": "smoot"}, "linear unit 'smoot'"), ({"angular": "points"}, "'points' is not known"),
            ({"hz": "north"}, "'north' cannot be read"), ({"za": "-3"}, "zenithAngle is not between"),
            ({"sd": -4}, "slopeDistance is not above 0"), ({"hi": "nan"}, "'nan' cannot be read"),
            ({"hz": "30.7515", "angular": "decimal dd.mm.ss"}, "'30.7515' cannot be read"),
        ]  # fmt: skip
        texts = [(XML.format(**{**fine, **change}), words) for change, words in changes]
        whole = XML.format(**fine)
        texts += [
            (whole.replace('setupID="I1"><Raw', 'setupID="I9"><Raw'), "names no InstrumentSetup"),
            (whole.replace('<TargetPoint name="P2"/>', ""), "no TargetPoint"),
            (whole.replace('stationName="P1" ', ""), "it has no name"),
            (whole.replace('targetSetupID="I2"', ""), "from one mark to another"),
            ("<LandXML/>", "no observation in it"),
        ]
        for text, words in texts:
            with self.subTest(words=words), self.assertRaisesRegex(FormatError, words):
                read_field_work(self.write("s.xml", text))
        head = "setup,station,hi,target,hz_deg,za_deg,sd,ht,prism_mm\n"
        for rows, words in (
            ("1,A,1.5,B,10,90,5,0,0\n1,C,,B,10,90,5,0,0\n", "over which 1 stands"),
            ("1,A,1.5,B,10,90,5,0,0\n1,A,1.6,B,10,90,5,0,0\n", "as in the rows of 1"),
            ("1,A,1.5,A,10,90,5,0,0\n", "another mark than the station"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(FormatError, words):
                read_setups(self.write("b.csv", head + rows))
