"""Systems that count from other meridians, in grads, southwards or westwards, that carry their own datum
parameters, or heights of their own."""

import math
import tempfile
import unittest
from pathlib import Path

import numpy as np
import pyproj

from fenwind.exchange.columns import PLAIN, list_text
from fenwind.exchange.delimited import read_text
from fenwind.exchange.outgoing import WORDS, Outgoing
from fenwind.exchange.point_list import interpret, match_header
from fenwind.geodesy.axes import own_axes, true_axes
from fenwind.geodesy.conversion import convert
from fenwind.geodesy.frames import FrameSpec, axes_of, open_frame
from fenwind.geodesy.geoid import GeoidGrid
from fenwind.quantities.lengths import METRE
from fenwind.reports.trail import triple
from fenwind.standins.geoid_grid import write_gtx

#: Code, latitude and longitude from Greenwich, easting, northing, metres. 27572: a known value of
#: the extended Lambert II (from memory); the others by PROJ's projection alone with the parameters of the
#: EPSG dataset and the meridian taken off by hand.
PLACES = (
    ("EPSG:27572", 48.8, 2.3, 597263.5, 2422391.2),
    ("EPSG:2062", 40.4, -3.7, *pyproj.Proj("+proj=lcc +lat_1=40 +lat_0=40 +lon_0=0 +k_0=0.9988085293 "
     "+x_0=600000 +y_0=600000 +a=6378298.3 +rf=294.73")(-3.7 + 3.687375, 40.4)),
    ("EPSG:31281", 47.0, 10.4, *pyproj.Proj("+proj=tmerc +lon_0=28 +ellps=bessel")(10.4 + 53 / 3, 47.0)),
    ("EPSG:2048", -33.0, 19.2, *pyproj.Proj("+proj=tmerc +lon_0=19 +ellps=WGS84")(19.2, -33.0)),
    ("EPSG:25832", 61.3, 8.4, *pyproj.Proj("+proj=utm +zone=32 +ellps=GRS80")(8.4, 61.3)),
)  # fmt: skip
BOUND = "+proj=tmerc +lon_0=9 +x_0=3500000 +ellps=bessel +towgs84=598.1,73.7,418.2,0.202,0.045,-2.455,6.7"


class Axes(unittest.TestCase):
    def test_there_and_back_from_greenwich(self) -> None:
        for code, lat, lon, e, n in PLACES:
            with self.subTest(code):
                frame = open_frame(FrameSpec(name="f", crs=code))
                east, north = frame.forward(math.radians(lat), math.radians(lon))
                np.testing.assert_allclose([east, north], [e, n], rtol=0, atol=0.05)
                np.testing.assert_allclose(np.degrees(frame.inverse(east, north)), [lat, lon], atol=1e-9)
                there = convert(
                    frame.geodetic_name, code, np.array([lon]), np.array([lat]), np.array([np.nan])
                )
                np.testing.assert_allclose([there.first[0], there.second[0]], [e, n], rtol=0, atol=0.05)

    def test_grid_north_is_where_northings_grow(self) -> None:
        """Convergence against differences of latitude: a step to the true north goes off grid north by it."""
        for code, lat, lon, *_ in (*PLACES, ("EPSG:5513", 50.0, 14.4)):
            with self.subTest(code):
                frame, step = open_frame(FrameSpec(name="f", crs=code)), 1e-6
                lats = math.radians(lat) + np.array([0.0, step])
                e, n = frame.forward(lats, np.radians([lon, lon]))
                scale, convergence = frame.point_scale(lats[:1], np.radians([lon]))
                off = math.atan2(e[1] - e[0], n[1] - n[0])
                self.assertAlmostEqual(off, -float(convergence[0]), delta=1e-5)
                length = math.hypot(e[1] - e[0], n[1] - n[0])
                meridian, _ = frame.radii(lats[:1])
                self.assertAlmostEqual(length / (step * float(meridian[0])), float(scale[0]), delta=1e-5)

    def test_scale_in_a_direction(self) -> None:
        """Lambert's equal-area projection has the product of its two scales 1; the pseudo-Mercator a/N/cos
        and a/M/cos (Snyder, Map Projections, USGS Professional Paper 1395, 1987, from memory)."""
        lat, lon = math.radians(50.0), math.radians(10.0)
        along, across = open_frame(FrameSpec(name="f", crs="EPSG:3035")).axis_scales(lat, lon)
        self.assertAlmostEqual(float(along * across), 1.0, places=8)
        self.assertGreater(abs(float(along) - 1.0), 5e-5)
        web = open_frame(FrameSpec(name="f", crs="EPSG:3857"))
        meridian, prime = web.radii(lat)
        along, across = web.axis_scales(lat, lon)
        self.assertAlmostEqual(float(across), 6378137.0 / float(prime) / math.cos(lat), places=7)
        self.assertAlmostEqual(float(along), 6378137.0 / float(meridian) / math.cos(lat), places=7)
        self.assertAlmostEqual(float(web.point_scale(lat, lon)[0]), float(across), places=9)
        utm = open_frame(FrameSpec(name="f", crs="EPSG:25832"))
        for azimuth in (0.3, 2.0, 4.4):
            scale = float(utm.point_scale(lat, lon)[0])
            self.assertAlmostEqual(float(utm.line_scale(lat, lon, azimuth)), scale, places=8)

    def test_south_and_west_are_turned_round(self) -> None:
        for code, first, second, e, n in (
            ("EPSG:5513", 1052516.53, 745733.864, -745733.864, -1052516.53),
            ("EPSG:2048", -18690.6, 3652765.8, 18690.6, -3652765.8),
            ("EPSG:31281", 301635.5, 5214359.3, 301635.5, 5214359.3),
            ("EPSG:32661", 2e6, 1.9e6, 2e6, 1.9e6),
        ):
            crs = pyproj.CRS(code)
            self.assertEqual(tuple(map(float, true_axes(crs, first, second))), (e, n), code)
            self.assertEqual(tuple(map(float, own_axes(crs, e, n))), (first, second), code)

    def test_datum_parameters_bound_to_a_system_count(self) -> None:
        """Against the same seven parameters as a pipeline of PROJ."""
        pipeline = pyproj.Transformer.from_pipeline(
            "+proj=pipeline +step +inv +proj=tmerc +lon_0=9 +x_0=3500000 +ellps=bessel +step +proj=cart "
            "+ellps=bessel +step +proj=helmert +x=598.1 +y=73.7 +z=418.2 +rx=0.202 +ry=0.045 +rz=-2.455 "
            "+s=6.7 +convention=position_vector +step +inv +proj=cart +ellps=WGS84 +step +proj=unitconvert "
            "+xy_in=rad +xy_out=deg"
        )
        place = [np.array([v]) for v in (3500000.0, 5500000.0, 100.0)]
        expected = pipeline.transform(3500000.0, 5500000.0, 100.0)
        for text in (BOUND + " +type=crs", pyproj.CRS(BOUND + " +type=crs").to_wkt()):
            found = convert(text, "EPSG:4979", *place)
            np.testing.assert_allclose([found.first[0], found.second[0]], expected[:2], rtol=0, atol=1e-10)
            self.assertAlmostEqual(found.height[0], expected[2], places=4)
            back = convert("EPSG:4979", text, found.first, found.second, found.height)
            np.testing.assert_allclose([back.first[0], back.second[0]], [3.5e6, 5.5e6], rtol=0, atol=1e-3)

    def test_heights_are_never_taken_for_what_they_are_not(self) -> None:
        one = [np.array([v]) for v in (-105.0, 40.0, 1000.0)]
        lacking = convert("EPSG:4979", "EPSG:4269+5703", *one)
        self.assertTrue(np.isnan(lacking.height[0]))
        self.assertTrue({"convert.grid-missing", "convert.heights-unknown"} & {n.rule for n in lacking.notes})
        # The same zero, other units: US survey feet, and depths (EPSG 6360, 6358).
        feet = convert("EPSG:4269+5703", "EPSG:4269+6360", *one)
        self.assertAlmostEqual(feet.height[0], 1000.0 * 3937.0 / 1200.0, places=6)
        depth = convert("EPSG:4269+6360", "EPSG:4269+6358", one[0], one[1], feet.height)
        self.assertAlmostEqual(depth.height[0], -1000.0 * 3937.0 / 1200.0, places=6)

    def test_heights_over_a_grid_that_is_here(self) -> None:
        """h = H + N, with N read off the grid itself; both ways, at two places."""
        with tempfile.TemporaryDirectory() as folder:
            path = Path(folder) / "g.gtx"
            write_gtx(path)
            over = f"+proj=longlat +datum=WGS84 +geoidgrids={path} +vunits=m +type=crs"
            lon, lat, height = np.array([8.4, 8.3]), np.array([61.3, 61.35]), np.array([100.0, -5.0])
            n = GeoidGrid(path).height(np.radians(lat), np.radians(lon))
            self.assertTrue((n > 40.0).all())
            up = convert(over, "EPSG:4979", lon, lat, height)
            np.testing.assert_allclose(up.height, height + n, rtol=0, atol=1e-6)
            np.testing.assert_allclose([up.first, up.second], [lon, lat], rtol=0, atol=1e-9)
            down = convert("EPSG:4979", over, lon, lat, height)
            np.testing.assert_allclose(down.height, height - n, rtol=0, atol=1e-6)

    def test_each_position_goes_by_its_own_operation(self) -> None:
        """ED50: what stands in Norway decides nothing about Spain."""
        spain = [np.array([v]) for v in (-3.7, 40.4, np.nan)]
        both = [np.array([v, w]) for v, w in ((-3.7, 10.7), (40.4, 59.9), (np.nan, np.nan))]
        alone = convert("EPSG:4230", "EPSG:4326", *spain)
        together = convert("EPSG:4230", "EPSG:4326", *both)
        self.assertEqual((together.first[0], together.second[0]), (alone.first[0], alone.second[0]))
        self.assertIn("(1 position)", together.operation)

    def test_longitudes_beyond_the_half_turn(self) -> None:
        for lon in (185.0, -175.0, 545.0):
            found = convert("EPSG:4326", "EPSG:3832", np.array([lon]), np.array([-17.0]), np.array([np.nan]))
            same = convert(
                "EPSG:4326", "EPSG:3832", np.array([-175.0]), np.array([-17.0]), np.array([np.nan])
            )
            self.assertAlmostEqual(found.first[0], same.first[0], places=6)

    def test_systems_that_count_the_other_way_keep_their_letters_signs_and_order(self) -> None:
        """Axes as the EPSG dataset has them: Lo19 westing Y, southing X; S-JTSK southing X, westing Y."""
        for code, titles, signs in (
            ("EPSG:2048", ("Y", "X"), (-1.0, -1.0)),
            ("EPSG:5513", ("X", "Y"), (-1.0, -1.0)),
            ("EPSG:2218", ("Y", "X"), (1.0, -1.0)),  # Greenland zone 5 east: northing Y, westing X
            ("EPSG:25832", ("E", "N"), (1.0, 1.0)),
        ):
            spec = FrameSpec(name="f", crs=code)
            axes = axes_of(spec)
            self.assertEqual((tuple(a.title for a in axes), tuple(a.sign for a in axes)), (titles, signs))
            crs = open_frame(spec).crs
            own = own_axes(crs, 12.0, 34.0)
            true = {"e": 12.0, "n": 34.0}
            self.assertEqual(tuple(map(float, own)), tuple(a.sign * true[a.component] for a in axes), code)
        northing_first = axes_of(FrameSpec(name="f", crs="EPSG:25832", axis_order="NE"))
        self.assertEqual([a.title for a in northing_first], ["N", "E"])

    def test_lists_of_such_a_system_come_in_and_go_out_alike(self) -> None:
        axes = axes_of(FrameSpec(name="f", crs="EPSG:2048"))
        for text in (
            "name,Y,X,h\nK,-50000.5,3650000.25,100\n",
            "name,westing,southing,h\nK,-50000.5,3650000.25,100\n",
            "K,-50000.5,3650000.25,100\nL,-50000.5,3650000.25,100\n",
        ):
            raw = read_text(text, "x")
            points = interpret(raw, match_header(raw, axes))
            np.testing.assert_array_equal(points.values[:3, 0], [50000.5, -3650000.25, 100.0])
        out = Outgoing(
            title="t", spec=FrameSpec(name="Lo19", crs="EPSG:2048"), names=("K",),
            **{k: np.array([v]) for k, v in (("e_m", 50000.5), ("n_m", -3650000.25), ("height_m", 100.0))},
            sigma_h_m=np.array([np.nan]), sigma_v_m=np.array([np.nan]), words={k: ("",) for k in WORDS},
            symbols=("dot",), labelled=np.array([True]),
        )  # fmt: skip
        written = list_text(out, PLAIN)
        self.assertEqual(
            written.splitlines()[1].split(",")[:4], ["K", "-50000.5000", "3650000.2500", "100.0000"]
        )
        back = interpret(read_text(written, "x"))
        np.testing.assert_array_equal(back.values[:3, 0], [50000.5, -3650000.25, 100.0])
        shown = triple((50000.5, -3650000.25, 100.0), METRE, axes)
        self.assertRegex(shown, r"^Y −50.000\.5000   X 3.650.000\.2500   100\.0000$")
