"""Finding systems, the ways between them, what a frame means on the ground."""

import math
import unittest

import numpy as np
import pyproj

from fenwind.errors import FrameError
from fenwind.geodesy.catalogue import _year, search, systems, town_in, typed_place
from fenwind.geodesy.conversion import convert
from fenwind.geodesy.frames import FrameSpec, HeightReference, find_crs, open_frame
from fenwind.geodesy.operations import operations
from fenwind.geodesy.towns import towns_named
from fenwind.procedures.frame_meaning import PLACES, frame_meaning
from fenwind.procedures.onto_plane import between_frames
from fenwind.procedures.positions import positions

TARNHOLT = (math.radians(61.3), math.radians(8.4))


class Finding(unittest.TestCase):
    def test_by_code_name_country_and_place(self) -> None:
        """Codes and names are those of the EPSG dataset that comes with PROJ."""
        cases = [
            ("25832", None, "EPSG:25832"), ("epsg:25832", None, "EPSG:25832"),
            ("etrs89 / utm zone 32n", None, "EPSG:25832"), ("ntm zone 10", TARNHOLT, None),
            ("new zealand transverse", None, "EPSG:2193"), ("netherlands rd new", None, "EPSG:28992"),
        ]  # fmt: skip
        for text, place, code in cases:
            with self.subTest(text):
                found = search(text, place=place)
                if code is None:
                    self.assertEqual(found, ())
                else:
                    self.assertEqual(found[0].code, code)
        bounds, area = search("25832")[0].bounds, pyproj.CRS("EPSG:25832").area_of_use
        np.testing.assert_allclose(np.degrees(bounds or ()), area.bounds, atol=1e-9)
        here = search("etrs89", place=TARNHOLT, limit=500)
        self.assertIn("EPSG:25832", [s.code for s in here])
        self.assertNotIn("EPSG:25836", [s.code for s in here])
        self.assertTrue(all(s.covers(*TARNHOLT) for s in here))
        self.assertEqual(search("nn2000", "vertical")[0].code, "EPSG:5941")
        self.assertEqual(len({s.code for s in systems("projected")}), len(systems("projected")))
        fiji = search("3460")[0]  # its area crosses the date line
        self.assertTrue(
            fiji.covers(math.radians(-17), math.radians(179.9))
            and fiji.covers(math.radians(-17), math.radians(-179.9))
        )
        self.assertLess(fiji.extent, 0.1)

    def test_by_towns(self) -> None:
        """Where the towns are is common knowledge: each within 0.1 degree of what an atlas says."""
        for text, title, lat, lon in (
            ("Nairobi", "Nairobi, Kenya", -1.29, 36.82), ("KOLN", "Köln", 50.94, 6.96),
            ("Nashville", "Nashville, Tennessee, United States", 36.16, -86.78),
            ("Paris, Texas", "Paris, Texas, United States", 33.66, -95.56),
            ("paris", "Paris, France", 48.86, 2.35), ("Praha", "Prague, Czechia", 50.09, 14.42),
            ("Santiago de Chile", "Santiago, Chile", -33.45, -70.67),
            ("wellington new zealand", "Wellington, New Zealand", -41.29, 174.78),
        ):  # fmt: skip
            with self.subTest(text):
                town = towns_named(text)[0]
                self.assertTrue(town.title.startswith(title) or "Köln" in title, town.title)
                self.assertAlmostEqual(math.degrees(town.lat), lat, delta=0.1)
                self.assertAlmostEqual(math.degrees(town.lon), lon, delta=0.1)
        for text in ("", "no such town", "Nairobi, Chile"):
            self.assertEqual(towns_named(text), (), text)
        for text, code in (
            ("Nairobi", "EPSG:21037"), ("utm nairobi", "EPSG:21037"), ("Nashville", "EPSG:6575"),
            ("wellington utm", "EPSG:2135"), ("arc utm nairobi", "EPSG:21037"),
            ("Nashville state plane", "EPSG:6576"),
        ):  # fmt: skip
            found = [s.code for s in search(text)]
            self.assertIn(code, found[:8], text)
        found = search("paris")  # what is called so comes first, then what is for the place
        names = [("Paris" in s.name, s.covers(math.radians(48.86), math.radians(2.35))) for s in found]
        self.assertTrue(names[0][0] and (False, True) in names)
        self.assertEqual(
            [s.code for s in search("nairobi", place=TARNHOLT)], [s.code for s in search("nairobi")]
        )
        self.assertEqual(town_in("utm 32"), (None, "utm 32"))
        for text in ("arc utm nairobi", "nairobi arc utm"):
            town, words = town_in(text)
            self.assertEqual((town.lat < 0.0 if town else None, words), (True, "arc utm"))
        self.assertEqual({bool(w.area) for w in operations("EPSG:4230", "EPSG:4258")}, {True})

    def test_by_states_and_by_places(self) -> None:
        """Tennessee's zone on NAD83(2011) is EPSG:6575 (metres) and 6576 (feet); Arc 1960 / UTM zone 37S
        holds Nairobi; UTM zone 32N holds southern Norway."""
        found = [s.code for s in search("state plane tennessee")]
        self.assertEqual(set(found[:2]), {"EPSG:6575", "EPSG:6576"})
        self.assertIn("EPSG:2274", found)
        older = next(s for s in search("state plane tennessee") if s.code == "EPSG:2274")
        self.assertTrue(older.newer.startswith("NAD83(2011) / Tennessee"))
        self.assertEqual(next(s.newer for s in search("6576")), "")
        self.assertFalse([s for s in search("state plane") if "UTM" in s.name])
        for text in ("36.17, -86.78", "36°10'N 86°47'W", "N 36.17 W 86.78", "36.17 \u221286.78"):
            codes = [s.code for s in search(text)]
            self.assertIn("EPSG:6576", codes, text)
            self.assertNotIn("EPSG:25832", codes, text)
        nairobi = [s.code for s in search("1.28 S 36.82 E")]
        self.assertIn("EPSG:21037", nairobi)
        norway = [s.name for s in search("utm 32 norway")]
        self.assertIn("ETRS89 / UTM zone 32N", norway)
        self.assertFalse([name for name in norway if "32" not in name], "32 is a zone, not half a code")
        self.assertTrue(norway[0].startswith("ETRS89") and norway[-1].startswith("ED50"), "newest first")
        newer = {s.name: s.newer for s in search("utm 32")}
        self.assertEqual(newer["ED50 / UTM zone 32N"], "ETRS89 / UTM zone 32N")
        self.assertEqual((newer["WGS 84 / UTM zone 32N"], newer["ETRS89 / UTM zone 32N"]), ("", ""))
        for text in ("utm 32", "25832", "99.0 N 8.0 E", "12.5"):
            self.assertIsNone(typed_place(text), text)
        for name, year in (
            ("NAD83(2011) / Ohio", 2011), ("ED50 / UTM zone 32N", 1950), ("GDA94 / MGA zone 55", 1994),
            ("Arc 1960 / UTM zone 37S", 1960), ("OSGB36 / British National Grid", 1936),
            ("Lisbon (Lisbon)", 0),
        ):  # fmt: skip
            self.assertEqual(_year(name), year, name)

    def test_operations_are_listed_with_accuracy_and_grids(self) -> None:
        """OSGB36 to ETRS89 needs a grid that PROJ's wheel does not bring; ITRF2020 to ETRS89 is a published
        set of parameters."""
        uk = operations(find_crs("EPSG:4277"), find_crs("EPSG:4258"), (-1.5, 52.0, -1.4, 52.1))
        self.assertTrue(uk[0].chosen and uk[0].present)
        lacking = [o for o in uk if not o.present]
        self.assertTrue(lacking and any(not here for o in lacking for _, here in o.grids))
        east, north, degree = 8.4, 61.3, 1e-4
        itrf = operations(
            find_crs("EPSG:9989"), find_crs("EPSG:4937"), (east, north, east + degree, north + degree)
        )
        self.assertIn("ETRF", itrf[0].name)
        self.assertFalse(itrf[0].assumed)
        self.assertEqual([o.chosen for o in itrf].count(True), 1)

    def test_an_operation_for_elsewhere_is_told(self) -> None:
        """EPSG's ED50 to ETRS89 (1) is for Norway north of 65 N; nothing better is here for 61.3 N, 8.4 E."""
        place = (np.array([8.4]), np.array([61.3]), np.array([np.nan]))
        self.assertEqual(
            [n.rule for n in convert("EPSG:4230", "EPSG:4258", *place).notes], ["convert.elsewhere"]
        )
        paris = (np.array([2.35]), np.array([48.85]), np.array([np.nan]))
        self.assertEqual([n.rule for n in convert("EPSG:4230", "EPSG:4258", *paris).notes], [])


class Meaning(unittest.TestCase):
    def test_factors_at_the_middle_and_the_corners(self) -> None:
        """Checked against the same formulas written out here: k of UTM on its central meridian is 0.9996, R /
        (R + h) with R = sqrt(MN)."""
        frame = open_frame(FrameSpec(name="UTM", crs="EPSG:25832"))
        e, n, h = np.array([499000.0, 501000.0]), np.array([6797000.0, 6799000.0]), np.array([1200.0, 1300.0])
        found = frame_meaning(frame, e, n, h)
        self.assertAlmostEqual(found.point_scale[0], 0.9996, places=9)
        a, f = 6378137.0, 1 / 298.257222101
        e2 = f * (2 - f)
        w2 = 1 - e2 * math.sin(found.lat_rad[0]) ** 2
        radius = math.sqrt(a * (1 - e2) / w2**1.5 * a / math.sqrt(w2))
        self.assertAlmostEqual(found.elevation[0], radius / (radius + 1250.0), places=12)
        self.assertAlmostEqual(
            found.combined_ppm[0], (0.9996 * radius / (radius + 1250.0) - 1) * 1e6, places=3
        )
        self.assertLess(found.convergence_rad[PLACES.index("north-west")], 0.0)
        self.assertGreater(found.convergence_rad[PLACES.index("south-east")], 0.0)
        self.assertFalse(found.outside)
        far = frame_meaning(frame, e + 600_000, n, h)
        self.assertTrue(far.outside)
        local = open_frame(FrameSpec(name="UTM", crs="EPSG:25832", height=HeightReference(kind="local")))
        self.assertTrue(
            np.isnan(frame_meaning(local, e, n, h).combined).all(),
            "heights above a local zero give no elevation factor",
        )

    def test_a_missing_grid_is_never_a_zero(self) -> None:
        heights = HeightReference(kind="vertical", crs="EPSG:5941")
        frame = open_frame(FrameSpec(name="UTM", crs="EPSG:25832", height=heights))
        self.assertTrue(np.isnan(frame.geoid_height(*TARNHOLT)))
        self.assertEqual(len(frame.geoid.missing), 1)
        with self.assertRaisesRegex(FrameError, "not a height system"):
            open_frame(
                FrameSpec(
                    name="UTM", crs="EPSG:25832", height=HeightReference(kind="vertical", crs="EPSG:4258")
                )
            )

    def test_given_positions_come_over_from_another_zone(self) -> None:
        one, two = (open_frame(FrameSpec(name=c, crs=c)) for c in ("EPSG:25832", "EPSG:25833"))
        e, n = one.forward(*TARNHOLT)
        known = positions(["A"], np.array([e]), np.array([n]), np.array([1240.0]))
        came, notes, words = between_frames(known, one, two)
        np.testing.assert_allclose([came.e_m[0], came.n_m[0]], two.forward(*TARNHOLT), atol=1e-6)
        self.assertEqual((float(came.height_m[0]), notes, words), (1240.0, (), "the same datum"))
