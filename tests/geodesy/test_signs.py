"""Signs of geoid heights, epochs, and the mean height, each where it is applied, against values worked
apart from the code under test."""

import math
import unittest

import numpy as np

from fenwind.geodesy.area import beyond_area_m
from fenwind.geodesy.conversion import convert
from fenwind.geodesy.frames import FrameSpec, HeightReference, open_frame
from fenwind.geodesy.inverse import inverse
from fenwind.procedures.frame_meaning import frame_meaning
from fenwind.procedures.onto_plane import onto_plane
from fenwind.procedures.to_plane import mean_place, to_plane
from fenwind.records.entries import Add
from fenwind.records.records import FrameRecord, GivenPosition, Mark, MeasuredPosition
from fenwind.standins import tarnholt
from fenwind.standins.geoid_grid import undulation
from tests.support import TempFolder

LAT, LON, H_ELL = 61.30, 8.40, 1285.0  # a node of the grid
E, N = 467_800.0, 6_796_500.0


class GeoidHeights(TempFolder):
    def setUp(self) -> None:
        super().setUp()
        tarnholt.write_grid(self.folder)
        grid = str(self.folder / tarnholt.GRID_FILE)
        self.n_m = float(undulation(np.array(LAT), np.array(LON)))
        references = {
            "geoid": HeightReference(kind="geoid", grid=grid),
            "vertical": HeightReference(kind="vertical", grid=grid, crs="EPSG:5941"),
            "ellipsoid": HeightReference(),
        }
        self.frames = {
            kind: open_frame(FrameSpec(name=kind, crs="EPSG:25832", height=height))
            for kind, height in references.items()
        }

    def test_the_geoid_lies_above_the_ellipsoid_by_n(self) -> None:
        """h = H + N (Torge and Müller, Geodesy, 4th edition, section 6.4; from memory), N over 40 m here."""
        self.assertGreater(self.n_m, 40.0)
        lat, lon, h = np.radians([LAT]), np.radians([LON]), np.array([H_ELL])
        for kind in ("geoid", "vertical"):
            with self.subTest(kind):
                frame = self.frames[kind]
                self.assertAlmostEqual(float(frame.geoid_height(lat, lon)[0]), self.n_m, places=4)
                plane = to_plane(frame, ["A"], lat, lon, h)
                self.assertAlmostEqual(plane.height_m[0], H_ELL - self.n_m, places=4)
                e, n, _ = onto_plane(lat, lon, h, "EPSG:4937", frame, None)[0]
                self.assertAlmostEqual(
                    onto_plane(lat, lon, h, "EPSG:4937", frame, None)[0][2, 0], plane.height_m[0]
                )
                meaning = frame_meaning(frame, e, n, plane.height_m)
                self.assertAlmostEqual(meaning.h_ell_m[0], H_ELL, places=4)
                self.assertAlmostEqual(meaning.geoid_m[0], self.n_m, places=4)
                radius = math.sqrt(math.prod(float(r) for r in frame.radii(lat[0])))
                scale = float(frame.point_scale(lat[0], lon[0])[0])
                expected = scale * radius / (radius + H_ELL)
                self.assertAlmostEqual(mean_place(frame, plane).combined, expected, delta=2e-9)

    def test_outside_the_area_of_use_on_every_side(self) -> None:
        """Areas of EPSG: 25832 from 6 to 12 E, up to 84.33 N; 3460 across 180 degrees, 176.81 E to
        178.15 W, 20.81 to 12.42 S."""
        for code, lat, lon, outside in (
            ("EPSG:25832", 61.0, 9.0, False), ("EPSG:25832", 61.0, 5.0, True),
            ("EPSG:25832", 61.0, 13.0, True), ("EPSG:25832", 30.0, 9.0, True),
            ("EPSG:25832", 84.5, 9.0, True),
            ("EPSG:3460", -17.0, 177.5, False), ("EPSG:3460", -17.0, -179.0, False),
            ("EPSG:3460", -17.0, 176.0, True), ("EPSG:3460", -17.0, -177.5, True),
            ("EPSG:3460", -11.0, 178.0, True),
        ):  # fmt: skip
            frame = open_frame(FrameSpec(name="f", crs=code))
            e, n = frame.forward(np.radians([lat]), np.radians([lon]))
            found = frame_meaning(frame, e, n, np.array([100.0]))
            self.assertEqual(found.outside, outside, (code, lat, lon))

    def test_ground_distance_stands_at_the_mean_ellipsoidal_height(self) -> None:
        """Combined factor = point scale x R / (R + h), h the mean of both ends above the ellipsoid
        (DESIGN, Signs)."""
        for kind, lift in (("ellipsoid", 0.0), ("geoid", self.n_m)):
            with self.subTest(kind):
                frame = self.frames[kind]
                found = inverse(frame, (E, N, 100.0), (E + 300.0, N + 400.0, 1300.0))
                lat, lon = frame.inverse(E + 150.0, N + 200.0)
                meridian, prime = frame.radii(lat)
                radius = math.sqrt(float(meridian) * float(prime))
                scale = float(frame.point_scale(lat, lon)[0])
                expected = scale * radius / (radius + 700.0 + lift)
                self.assertAlmostEqual(found.combined_factor, expected, delta=3e-8)
                self.assertAlmostEqual(found.ground_distance_m, 500.0 / expected, delta=2e-5)
                self.assertAlmostEqual(found.height_difference_m, 1200.0)
                self.assertAlmostEqual(found.grid_azimuth_rad, math.atan2(3, 4))

    def test_heights_between_frames_change_by_n(self) -> None:
        job = self.demo()
        records = {kind: frame.spec for kind, frame in self.frames.items()}
        lat, lon = np.radians(LAT), np.radians(LON)
        e, n = (float(v) for v in self.frames["geoid"].forward(lat, lon))
        new = [FrameRecord(id=f"f-{kind}", spec=spec) for kind, spec in records.items()]
        new += [Mark(id="X", name="X"), Mark(id="Y", name="Y")]
        new += [GivenPosition(id="gx", mark="X", frame="f-geoid", e_m=e, n_m=n, height_m=1200.0)]
        new += [MeasuredPosition(id="my", mark="Y", frame="f-geoid", e_m=e + 1, n_m=n, h_m=1200.0)]
        job.record("frames", [Add(record=r) for r in new])
        adopted = self.derive(job).adopted["f-ellipsoid"]
        for name in "XY":
            self.assertAlmostEqual(
                adopted.height_m[adopted.index[name]], 1200.0 + self.n_m, delta=1e-4, msg=name
            )


class Epochs(TempFolder):
    def test_an_epoch_moves_a_point_with_its_plate(self) -> None:
        """ITRF2014 and GDA2020 are equal at 2020.0 and part before: X(2020) = X(t) + (r x X) (2020 - t),
        with r = (1.50379, 1.18346, 1.20716) mas a year (ICSM, GDA2020 Technical Manual, section 3; from
        memory)."""
        lat, lon = -33.0, 150.0
        rate = np.array([1.50379, 1.18346, 1.20716]) / 1000.0 * math.pi / 648000.0
        for year in (2010.0, 2020.0, 2026.5):
            with self.subTest(year):
                found = convert(
                    "EPSG:7912", "EPSG:7843", np.array([lon]), np.array([lat]), np.array([50.0]), year
                )
                start = _geocentric(lat, lon, 50.0)
                end = _geocentric(float(found.second[0]), float(found.first[0]), float(found.height[0]))
                np.testing.assert_allclose(end - start, np.cross(rate, start) * (2020.0 - year), atol=2e-4)


def _geocentric(lat_deg: float, lon_deg: float, h_m: float) -> np.ndarray:
    """Geocentric position on GRS80, metres."""
    a, e2 = 6378137.0, 0.0066943800229
    lat, lon = math.radians(lat_deg), math.radians(lon_deg)
    prime = a / math.sqrt(1.0 - e2 * math.sin(lat) ** 2)
    level = (prime + h_m) * math.cos(lat)
    return np.array(
        [level * math.cos(lon), level * math.sin(lon), (prime * (1.0 - e2) + h_m) * math.sin(lat)]
    )


class BeyondAnArea(unittest.TestCase):
    def test_how_far(self) -> None:
        """A degree of latitude is 111.19 km on the sphere; of longitude its cosine of the latitude."""
        zone = tuple(math.radians(v) for v in (6.0, 0.0, 12.0, 84.0))
        pacific = tuple(math.radians(v) for v in (174.0, -60.0, -174.0, 0.0))
        cases = (
            (zone, 61.0, 8.0, 0.0),
            (zone, 61.0, 12.5, 0.5 * 111_194.9 * math.cos(math.radians(61.0))),
            (zone, -1.0, 8.0, 111_194.9),
            (pacific, -40.0, 179.0, 0.0),
            (pacific, -40.0, -175.0, 0.0),
            (pacific, -40.0, -173.0, 111_194.9 * math.cos(math.radians(40.0))),
            (zone, math.nan, 8.0, math.inf),
        )
        for area, lat, lon, far in cases:
            found = beyond_area_m(area, [math.radians(lat)], [math.radians(lon)])  # type: ignore[arg-type]
            np.testing.assert_allclose(found, [far], atol=1.0)
