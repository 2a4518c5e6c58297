"""The page of a system: whoever sets it up from the WKT2 or the PROJ string on it, by pyproj alone, gets the
coordinates that stand there; its factors are those of a measured small line."""

import math
import re
from dataclasses import replace

import numpy as np
import pyproj

from fenwind.doubts.of_job import Judge
from fenwind.geodesy.frames import FrameSpec, HeightReference, open_frame, unit_key_of
from fenwind.geodesy.ground_frame import GroundScale, derived_wkt
from fenwind.job.job import Job
from fenwind.quantities.angles import parse_angle
from fenwind.quantities.geographic import parse_latitude, parse_longitude
from fenwind.quantities.lengths import UNITS
from fenwind.records.records import FrameRecord, GivenPosition, Mark
from fenwind.reports.frame_sheet import far_apart
from fenwind.reports.kinds import report_of, reportable
from fenwind.reports.model import Figure, Paragraph, Report, Table
from tests.support import CommandCase


def number(text: str) -> float:
    return float(text.replace("−", "-").replace("\u2009", "").replace("\u202f", ""))


class Sheet(CommandCase):
    #: Metres, US survey feet, northing first, a meridian that is not Greenwich, southward and westward axes.
    FRAMES = (
        ("EPSG:25832", 61.3, 8.4), ("EPSG:2225", 40.6, -122.3), ("EPSG:2193", -41.3, 174.8),
        ("EPSG:27572", 47.1, 2.9), ("EPSG:2054", -29.9, 30.9),
    )  # fmt: skip

    def sheet(self, spec: FrameSpec, lat: float, lon: float) -> Report:
        """Of three marks about there at 900 m."""
        at = np.radians([[lat, lat + 0.02, lat - 0.03], [lon, lon + 0.04, lon]])
        e, n = open_frame(spec).forward(*at)
        records: list[FrameRecord | Mark | GivenPosition] = [FrameRecord(id="own", spec=spec)]
        for i in range(3):
            records += [
                Mark(id=f"m{i}", name=f"P{i}"),
                GivenPosition(
                    id=f"g{i}", mark=f"m{i}", frame="own", e_m=float(e[i]), n_m=float(n[i]), height_m=900.0
                ),
            ]
        job = Job.create(self.folder / f"{len(self._cleanups)}.fenwind", "own", records, frame="own")
        self.addCleanup(job.close)
        derived = self.derive(job)
        node = next(k for k, title in reportable(job.state, derived).items() if k.subject == "own")
        found = report_of(job.state, derived, Judge().judge(job.state, derived), node)
        assert found is not None
        return found

    def table(self, report: Report, title: str) -> Table:
        found = next(s for s in report.sections if s.title == title).blocks[0]
        assert isinstance(found, Table)
        return found

    def text(self, report: Report, title: str) -> str:
        found = next(s for s in report.sections if s.title == title).blocks[0]
        assert isinstance(found, Paragraph)
        return found.text

    def off(self, system: str, report: Report, spec: FrameSpec) -> float:
        """How far the plane coordinates on the page are from those of a system set up by it, metres."""
        crs = pyproj.CRS(system)
        meridian = crs.geodetic_crs.prime_meridian
        angle = crs.geodetic_crs.axis_info[0].unit_conversion_factor
        own = pyproj.Transformer.from_crs(crs.geodetic_crs.to_2d(), crs.to_2d())
        unit, largest = UNITS[spec.unit], 0.0
        table = self.table(report, "Marks to check by")
        self.assertEqual([head[1] for head in table.headers[4:]], [unit.key] * 3)
        titles = [title for title, _ in table.headers[4:6]]
        for row in table.rows:
            self.assertEqual(number(row[3]), 900.0)
            self.assertAlmostEqual(number(row[6]) * unit.metres, 900.0, delta=1e-4)
            lat, lon = parse_latitude(row[1]), parse_longitude(row[2])
            lon -= meridian.longitude * meridian.unit_conversion_factor
            at = (lat / angle, lon / angle)
            found = own.transform(*(at if crs.geodetic_crs.axis_info[0].direction == "north" else at[::-1]))
            for axis, value in zip(crs.axis_info, found, strict=True):
                title = {"east": "E", "north": "N", "west": "Y", "south": "X"}[axis.direction]
                shown = number(row[4 + titles.index(title)])
                largest = max(largest, abs(value * axis.unit_conversion_factor - shown * unit.metres))
        return largest

    def test_whoever_follows_the_page_gets_its_coordinates(self) -> None:
        for code, lat, lon in self.FRAMES:
            spec = FrameSpec(name=f"own {code}", crs=code, unit=unit_key_of(code))
            for wanted in (spec, replace(spec, unit="ft"), derived(spec, lat, lon)):
                with self.subTest(code=code, unit=wanted.unit, name=wanted.name):
                    report = self.sheet(wanted, lat, lon)
                    half = 0.6e-4 * UNITS[wanted.unit].metres + 3e-4
                    self.assertLess(self.off(self.text(report, "As WKT2"), report, wanted), half)
                    string = self.text(report, "As a PROJ string")
                    if wanted.name == "ground":
                        self.assertIn("cannot hold", string)
                    else:
                        self.assertLess(self.off(string, report, wanted), half)

    def test_factors_are_those_of_a_small_line(self) -> None:
        for code, lat, lon in self.FRAMES:
            spec = FrameSpec(
                name="own", crs=code, unit=unit_key_of(code), height=HeightReference(kind="ellipsoid")
            )
            frame, report = open_frame(spec), self.sheet(spec, lat, lon)
            for row in self.table(report, "Factors there").rows:
                at = next(r for r in self.table(report, "Marks to check by").rows if r[0] == row[0])
                p, m = parse_latitude(at[1]), parse_longitude(at[2])
                e, n = frame.forward([p, p + 1e-7], [m, m])
                geod = frame.geod
                metres = geod.inv(*np.degrees([m, p, m, p + 1e-7]))[2]
                scale = math.hypot(e[1] - e[0], n[1] - n[0]) / metres
                self.assertAlmostEqual(number(row[1]), scale, delta=3e-8)
                turn = -math.atan2(e[1] - e[0], n[1] - n[0])
                self.assertAlmostEqual(parse_angle(row[2]), turn, delta=8e-7)
                mean = 6_371_000.0
                self.assertAlmostEqual(number(row[3]), mean / (mean + 900.0), delta=2e-6)
                self.assertAlmostEqual(number(row[4]), number(row[1]) * number(row[3]), delta=2e-9)
                self.assertAlmostEqual(number(row[5]), (number(row[4]) - 1.0) * 1e6, delta=0.01)

    def test_lines_of_equal_distortion(self) -> None:
        """Between the least and the largest of the marks, with the marks; none for a line of two."""
        for code, lat, lon in self.FRAMES[:3]:
            report = self.sheet(FrameSpec(name="own", crs=code, unit=unit_key_of(code)), lat, lon)
            found = next(s for s in report.sections if s.title == "Factors there").blocks[1]
            assert isinstance(found, Figure)
            self.assertTrue(all(f">P{i}<" in found.svg for i in range(3)))
            values = [number(v) for v in re.findall(r'font-size="9"[^>]*>([^<]+)<', found.svg)]
            ends = [number(row[5]) for row in self.table(report, "Factors there").rows]
            self.assertTrue(values, code)
            self.assertTrue(all(min(ends) - 0.1 <= v <= max(ends) + 0.1 for v in values), (values, ends))

    def test_marks_far_from_each_other(self) -> None:
        plane = np.array([[0.0, 1.0, 2.0, 100.0, 101.0, 0.0], [0.0, 0.0, 0.0, 0.0, 0.0, 80.0]])
        self.assertEqual(far_apart(plane, 3), [0, 4, 5])
        self.assertEqual(far_apart(plane[:, :2]), [0, 1])
        self.assertEqual(far_apart(np.zeros((2, 3))), [0, 1, 2])
        self.assertEqual(far_apart(plane[:, :0]), [])


def derived(spec: FrameSpec, lat: float, lon: float) -> FrameSpec:
    """A system scaled to the ground there, moved away from the grid."""
    frame = open_frame(spec)
    e, n = frame.forward(math.radians(lat), math.radians(lon))
    scale = GroundScale(factor=1.000123, origin=(float(e), float(n)), offset=(5000.0, -7000.0))
    return replace(spec, name="ground", crs=derived_wkt(frame, scale))
