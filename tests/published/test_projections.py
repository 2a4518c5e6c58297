"""Projections, geodesics, conversions and geoid heights against published values; every row names its
source."""

import csv
import math
import unittest

import numpy as np
import pyproj
from geographiclib.geodesic import Geodesic

from fenwind.geodesy.conversion import convert
from fenwind.geodesy.frames import FrameSpec, find_crs, open_frame, working_frame_spec
from fenwind.geodesy.geoid import GeoidGrid
from fenwind.geodesy.inverse import inverse
from fenwind.quantities.geographic import parse_latitude, parse_longitude
from fenwind.quantities.lengths import US_SURVEY_FOOT
from tests.support import DATA

# crs, latitude, longitude, easting, northing (unit of the system), tolerance, source
POINTS = [
    (
        "+proj=tmerc +lat_0=49 +lon_0=-2 +k=0.9996012717 +x_0=400000 +y_0=-100000 +ellps=WGS84 +type=crs",
        "80", "3", 496813.178, 3358297.326, 0.03, "IOGP GIGS test 5101",
    ),
    (
        "EPSG:32631", "48.8582", "2.2945", 448251.795, 5411932.678, 1e-3,
        "pygeodesy's tests, UTM of a tower in Paris",
    ),
    (
        "EPSG:27700",
        "52°39'27.2531\"",
        "1°43'04.5177\"",
        651409.903,
        313177.270,
        1e-3,
        "Ordnance Survey, A guide to coordinate systems in Great Britain "
        "(latitude and longitude from memory)",
    ),
    (
        "EPSG:28355", "-37°57'03.72030\"", "144°25'29.52440\"", 273741.297, 5796489.777, 1e-3,
        "ICSM GDA technical manual, Flinders Peak (from memory)",
    ),
    (
        "+proj=lcc +lat_1=18 +lat_0=18 +lon_0=-77 +x_0=250000 +y_0=150000 +ellps=clrk66 +type=crs",
        "17°55'55.80\"", "-76°56'37.26\"", 255966.58, 142493.51, 0.01,
        "IOGP Guidance Note 7-2, Lambert conic conformal 1SP (from memory)",
    ),
    (
        "+proj=lcc +lat_1=33 +lat_2=45 +lat_0=23 +lon_0=-96 +ellps=clrk66 +type=crs", "35", "-75", 1894410.9,
        1564649.5, 0.1, "Snyder, Map Projections: A Working Manual, 1987, p. 296",
    ),
    (
        "+proj=sterea +lat_0=52.15616055555555 +lon_0=5.38763888888889 +k=0.9999079 +x_0=155000 +y_0=463000 "
        "+ellps=bessel +type=crs",
        "53",
        "6",
        196105.28,
        557057.74,
        0.05,
        "IOGP GIGS test 5104",
    ),
]  # fmt: skip


class Published(unittest.TestCase):
    def test_every_row_has_a_source(self) -> None:
        for row in POINTS:
            self.assertTrue(row[-1])

    def test_forward_and_back(self) -> None:
        for crs, lat, lon, e, n, tolerance, source in POINTS:
            with self.subTest(source):
                frame = open_frame(working_frame_spec(crs))
                phi, lam = parse_latitude(lat), parse_longitude(lon)
                east, north = frame.forward(phi, lam)
                self.assertAlmostEqual(float(east), e, delta=tolerance)
                self.assertAlmostEqual(float(north), n, delta=tolerance)
                back = frame.inverse(east, north)
                self.assertAlmostEqual(float(back[0]), phi, delta=1e-11)
                self.assertAlmostEqual(float(back[1]), lam, delta=1e-11)

    def test_scale_and_convergence(self) -> None:
        # ICSM GDA technical manual, Flinders Peak (from memory): k 1.00023056, convergence 1°35'03.65" in
        # size. The manual counts convergence the other way; here grid north lies east of true north, so it is
        # positive.
        frame = open_frame(working_frame_spec("EPSG:28355"))
        scale, convergence = frame.point_scale(
            parse_latitude("-37 57 03.72030"), parse_longitude("144 25 29.52440")
        )
        self.assertAlmostEqual(float(scale), 1.00023056, delta=0.5e-8)
        self.assertAlmostEqual(math.degrees(float(convergence)) * 3600, 3600 + 35 * 60 + 3.65, delta=0.01)
        # pygeodesy's tests: convergence -0.53131221°, k 0.9996329 at the UTM 31 point above.
        scale, convergence = open_frame(working_frame_spec("EPSG:32631")).point_scale(
            math.radians(48.8582), math.radians(2.2945)
        )
        self.assertAlmostEqual(float(scale), 0.9996329, delta=0.5e-7)
        self.assertAlmostEqual(math.degrees(float(convergence)), -0.53131221, delta=1e-7)

    def test_state_plane(self) -> None:
        """US State Plane of 1983 and 1927, in US survey feet: USGS National Mapping Division values, in
        PROJ's test/cli."""
        for name in ("spcs83_points.csv", "spcs27_points.csv"):
            checked = 0
            with open(DATA / name, newline="") as file:
                for row in csv.DictReader(file):
                    frame = open_frame(
                        FrameSpec(name=row["zone"], crs=f"{row['proj4']} +units=us-ft +type=crs", unit="ftUS")
                    )
                    e, n = frame.forward(_dms(row["lat"]), _dms(row["lon"]))
                    for computed, stated in ((e, row["E_usft"]), (n, row["N_usft"])):
                        self.assertAlmostEqual(
                            float(computed) / US_SURVEY_FOOT.metres, float(stated), delta=0.011,
                            msg=f"{name} {row}",
                        )  # fmt: skip
                    checked += 1
            self.assertGreater(checked, 100)


def _dms(text: str) -> float:
    sign = -1.0 if text.startswith("-") else 1.0
    degrees, rest = text.lstrip("-").split("d")
    minutes, seconds = rest.split("'")
    return sign * math.radians(float(degrees) + float(minutes) / 60 + float(seconds) / 3600)


class Inverse(unittest.TestCase):
    def test_flinders_peak_to_buninyong(self) -> None:
        """ICSM GDA technical manual: 54 972.271 m, 306°52'05.37" on GRS80 between the two stations."""
        frame = open_frame(working_frame_spec("EPSG:28355"))
        ends = [
            (parse_latitude(a), parse_longitude(b))
            for a, b in (("-37 57 03.72030", "144 25 29.52440"), ("-37 39 10.15610", "143 55 35.38390"))
        ]
        marks = [(*(float(v) for v in frame.forward(*end)), 0.0) for end in ends]
        result = inverse(frame, *marks)
        self.assertAlmostEqual(result.ellipsoid_distance_m, 54972.271, delta=1e-3)
        self.assertAlmostEqual(
            math.degrees(result.geodetic_azimuth_rad), 306 + 52 / 60 + 5.37 / 3600, delta=0.01 / 3600
        )
        # Heights are zero, so grid over ellipsoid distance is the line's scale factor itself.
        self.assertAlmostEqual(
            result.grid_distance_m / result.ellipsoid_distance_m, result.combined_factor, delta=1e-7
        )

    def test_against_geographiclib(self) -> None:
        frame = open_frame(working_frame_spec("EPSG:25832"))
        rng = np.random.default_rng(3)
        for _ in range(20):
            lat, lon = 61.3 + rng.uniform(-0.1, 0.1, 2), 8.4 + rng.uniform(-0.2, 0.2, 2)
            e, n = frame.forward(np.radians(lat), np.radians(lon))
            result = inverse(frame, (e[0], n[0], 100.0), (e[1], n[1], 300.0))
            known = Geodesic(6378137.0, 1 / 298.257222101).Inverse(lat[0], lon[0], lat[1], lon[1])
            self.assertAlmostEqual(result.ellipsoid_distance_m, known["s12"], delta=1e-5)
            self.assertAlmostEqual(
                math.remainder(math.degrees(result.geodetic_azimuth_rad) - known["azi1"], 360),
                0.0,
                delta=1e-6,
            )
            # At the ellipsoid's surface the ground distance is the ellipsoid distance, to the arc's
            # difference from its chord.
            level = inverse(frame, (e[0], n[0], 0.0), (e[1], n[1], 0.0))
            self.assertAlmostEqual(level.ground_distance_m / known["s12"], 1.0, delta=2e-8)

    def test_local_plane_has_no_factor(self) -> None:
        result = inverse(open_frame(FrameSpec(name="plane")), (0, 0, 1.0), (30, 40, 2.0))
        self.assertEqual(
            (
                result.grid_distance_m, result.combined_factor, result.ground_distance_m,
                result.ellipsoid_distance_m,
            ),
            (50.0, None, None, None),
        )  # fmt: skip
        self.assertEqual(result.height_difference_m, 1.0)


class Conversions(unittest.TestCase):
    def test_gda94_to_gda2020(self) -> None:
        """GDA2020 technical manual, worked example (read in PROJ's tests): geocentric values turned into
        degrees by PROJ itself."""
        to_degrees = pyproj.Transformer.from_crs("EPSG:4978", "EPSG:4979", always_xy=True)
        lon, lat, h = (
            np.array([v]) for v in to_degrees.transform(-4052051.7643, 4212836.2017, -2545106.0245)
        )
        done = convert("EPSG:4939", "EPSG:7843", lon, lat, h)
        xyz = to_degrees.transform(done.first, done.second, done.height, direction="INVERSE")
        for value, stated in zip(xyz, (-4052052.7379, 4212835.9897, -2545104.5898), strict=True):
            self.assertAlmostEqual(float(value[0]), stated, delta=1e-4)
        self.assertEqual(done.accuracy_m, 0.01)

    def test_a_way_over_a_third_datum(self) -> None:
        """RGF93 to NTF without its grid: over a third datum by the published translation -168, -60, 320 m
        (EPSG dataset, operation 1193), never as if both were equal, which is 45 m off."""
        lat, lon, h = np.array([48.85]), np.array([2.35]), np.array([100.0])
        done = convert("EPSG:4171", "EPSG:4275", lon, lat, h)
        to_degrees = pyproj.Transformer.from_crs("EPSG:4978", "EPSG:4979", always_xy=True)
        x, y, z = to_degrees.transform(lon, lat, h, direction="INVERSE")
        axes = {"a": 6378249.2, "b": 6356515.0}
        clarke = pyproj.Transformer.from_crs(
            {"proj": "geocent", **axes}, {"proj": "longlat", **axes}, always_xy=True
        )
        wanted = clarke.transform(x + 168.0, y + 60.0, z - 320.0)
        np.testing.assert_allclose([done.first[0], done.second[0]], [wanted[0][0], wanted[1][0]], atol=2e-8)
        self.assertLess(done.accuracy_m, 3.01)

    def test_what_may_be_wrong_is_said(self) -> None:
        args = (np.array([8.4]), np.array([61.3]), np.array([1240.0]))
        self.assertIn("convert.no-epoch", [n.rule for n in convert("EPSG:9989", "EPSG:7912", *args).notes])
        self.assertEqual(
            [n.rule for n in convert("EPSG:9989", "EPSG:7912", *args, epoch_year=2026.9).notes], []
        )
        # GDA94 to ETRS89 has no published relation.
        self.assertIn(
            "convert.assumed-equal", [n.rule for n in convert("EPSG:4283", "EPSG:4258", *args).notes]
        )
        self.assertEqual(convert("EPSG:4937", "EPSG:25832", *args).notes, ())

    def test_projected_target_gets_the_published_datum_operation(self) -> None:
        """Asked for ITRF2020 to ETRS89 / UTM directly, PROJ takes the datums as equal, two thirds of a metre
        off at this epoch."""
        args = (np.array([8.4]), np.array([61.3]), np.array([1240.0]))
        straight = convert("EPSG:9989", "EPSG:25832", *args, epoch_year=2026.9)
        lat_lon = convert("EPSG:9989", "EPSG:4937", *args, epoch_year=2026.9)
        again = convert("EPSG:4937", "EPSG:25832", lat_lon.first, lat_lon.second, lat_lon.height)
        np.testing.assert_allclose(
            [straight.first, straight.second, straight.height],
            [again.first, again.second, again.height],
            atol=1e-6,
        )
        self.assertIn("ETRF2020", straight.operation)
        # A survey foot system: e, n and height all in its unit.
        feet = convert("EPSG:6318", "EPSG:6588", np.array([-99.0]), np.array([29.0]), np.array([100.0]))
        self.assertAlmostEqual(float(feet.height[0]) * US_SURVEY_FOOT.metres, 100.0, places=6)
        back = convert("EPSG:6588", "EPSG:6318", feet.first, feet.second, feet.height)
        np.testing.assert_allclose(
            [back.first, back.second, back.height], [[-99.0], [29.0], [100.0]], atol=1e-9
        )


class Geoid(unittest.TestCase):
    def test_egm96(self) -> None:
        """Point values from GeographicLib's test data against PROJ's EGM96 15' grid; the coarse grid costs
        decimetres in mountains."""
        grid = GeoidGrid(DATA / "egm96_15.gtx")
        with open(DATA / "egm_points.csv", newline="") as file:
            rows = [
                (float(r["lat"]), float(r["lon_east"]), float(r["N_egm96_5"])) for r in csv.DictReader(file)
            ]
        lat, lon, stated = np.array(rows).T
        off = grid.height(np.radians(lat), np.radians((lon + 180) % 360 - 180)) - stated
        self.assertGreater(len(rows), 60)
        self.assertLess(np.median(np.abs(off)), 0.02)
        self.assertLess(np.abs(off).max(), 0.6)

    def test_forms_and_places(self) -> None:
        tif = GeoidGrid(DATA / "test_vgrid_deflate.tif")
        self.assertTrue(np.isnan(tif.height(math.radians(-80), 0.0)))
        self.assertEqual(find_crs("EPSG:25832").name, "ETRS89 / UTM zone 32N")
