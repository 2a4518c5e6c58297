"""Positions that move with their plate between two epochs."""

import json
import unittest
from contextlib import redirect_stdout
from io import StringIO
from pathlib import Path
from tempfile import TemporaryDirectory

import numpy as np
import pyproj

from fenwind.cli import main
from fenwind.errors import FrameError
from fenwind.geodesy.frames import FrameSpec, open_frame
from fenwind.geodesy.plate_motion import find_plate, likely_plate, plates, rates
from fenwind.procedures.onto_plane import into_datum


def utm_on(base: str, zone: int) -> str:
    """WKT of a transverse Mercator of a zone on a geographic system."""
    lon = zone * 6 - 183
    conversion = pyproj.crs.coordinate_operation.TransverseMercatorConversion(
        longitude_natural_origin=lon, false_easting=500000, scale_factor_natural_origin=0.9996
    )
    return str(pyproj.crs.ProjectedCRS(conversion, geodetic_crs=pyproj.CRS(base), name="test").to_wkt())


class PlateMotion(unittest.TestCase):
    def test_published_velocities(self) -> None:
        # Australia moves about 7 cm a year to north-north-east: GDA2020 Technical Manual (from memory), and
        # EPSG's own time-dependent operation ITRF2014 to GDA2020 as an independent computation.
        lat, lon = np.radians([-33.0]), np.radians([147.0])
        base = pyproj.CRS("EPSG:7912")
        rate = rates(base, plates("ITRF2014")["AUST"], lat, lon, np.zeros(1))
        other = pyproj.transformer.TransformerGroup("EPSG:7912", "EPSG:7843", always_xy=True)
        there = next(t for t in other.transformers if "Ballpark" not in t.description)
        at = [there.transform(147.0, -33.0, 0.0, t) for t in (2020.0, 2030.0)]
        per_year = [-(at[1][i] - at[0][i]) / 10.0 for i in (0, 1)]
        metres = np.radians(per_year) * 6378137.0 * np.array([np.cos(lat[0]), 1.0])
        np.testing.assert_allclose(rate[:2, 0], metres, atol=2e-3)
        self.assertLess(abs(rate[2, 0]), 1e-3)

    def test_same_system_at_another_epoch(self) -> None:
        lat, lon, h = np.radians([-33.0]), np.radians([147.0]), np.array([200.0])
        for plate in ("", "ITRF2014:AUST"):
            spec = FrameSpec(name="local", crs=utm_on("EPSG:7912", 55), epoch_year=2024.5, plate=plate)
            frame = open_frame(spec)
            done = into_datum(lat, lon, h, "EPSG:7912", frame, 2010.0)
            away = frame.geod.inv(lon[0], lat[0], done.lon_rad[0], done.lat_rad[0], radians=True)[2]
            if plate:
                self.assertAlmostEqual(away, 0.89, delta=0.08)
                self.assertGreater(done.lat_rad[0], lat[0])
                self.assertFalse(done.notes)
                self.assertIn("+14.5 years", done.operation)
                same = into_datum(lat, lon, h, "EPSG:7912", frame, 2024.5)
                self.assertEqual(float(same.lat_rad[0]), float(lat[0]))
            else:
                self.assertEqual(away, 0.0)
                self.assertEqual([n.rule for n in done.notes], ["convert.other-epoch"])
                self.assertRegex(done.notes[0].text, r"some 0\.[89]\d m")

    def test_what_stands_still_keeps_its_place_at_any_epoch(self) -> None:
        lat, lon, h = np.radians([-33.0]), np.radians([147.0]), np.array([200.0])
        frame = open_frame(FrameSpec(name="x", crs=utm_on("EPSG:7912", 55), epoch_year=2020.0))
        done = into_datum(lat, lon, h, "EPSG:7844", frame, 2010.0)  # GDA2020 is ITRF2014 at 2020.0
        self.assertLess(frame.geod.inv(147, -33, *np.degrees([done.lon_rad[0], done.lat_rad[0]]))[2], 1e-3)
        self.assertNotIn("convert.other-epoch", [n.rule for n in done.notes])

    def test_names(self) -> None:
        self.assertEqual(find_plate("eura", "ITRF2020").model, "ITRF2020")
        for text, word in (("ITRF2014:XXXX", "AUST"), ("ITRF1999:EURA", "ITRF2014"), ("EURA", "MODEL:PLATE")):
            with self.assertRaises(FrameError) as caught:
                find_plate(text, "WGS 84")
            self.assertIn(word, str(caught.exception) + caught.exception.hint)

    def test_the_plate_that_a_town_is_on(self) -> None:
        """Towns well inside their plate, near every place that it is told by; from memory."""
        for name, places in (
            ("EURA", ((49, 8), (39, -6), (57, 90), (63, 13), (34, 109), (47, 42))),
            ("NOAM", ((41, -96), (57, -94), (33, -84), (76, -42), (25, -104))),
            ("SOAM", ((-15, -47), (-32, -64), (-47, -70), (4, -58), (-8, -60))),
            ("NUBI", ((12, 8), (0, 16), (-22, 17), (30, 19))), ("SOMA", ((2, 45), (-19, 47))),
            ("ARAB", ((24.5, 46.5), (33, 44))), ("INDI", ((17, 78), (13, 80))),
            ("AUST", ((-35, 149), (-26, 134), (-32, 116), (-37, 175), (-6, 141))),
            ("ANTA", ((-78, 15), (-78, 110), (-78, -110))),
            ("PCFC", ((20, -157), (-17, -149), (32, -145), (-14, -171))), ("NAZC", ((-19, -84),)),
        ):  # fmt: skip
            for place in places:
                self.assertEqual(likely_plate(*np.radians(place)).name, name, place)

    def test_command(self) -> None:
        with TemporaryDirectory() as folder:
            file = Path(folder) / "a.csv"
            file.write_text("name,lat,lon,h\nA,-33,147,200\n")
            both = "--from EPSG:7912 --to EPSG:7912 --epoch 2010 --json"
            base = ["convert", str(file), *both.split()]
            out = StringIO()
            with redirect_stdout(out):
                code = main([*base, "--to-epoch", "2020", "--plate", "AUST"])
            got = json.loads(out.getvalue())
            self.assertEqual(code, 0)
            self.assertEqual(got["plate"], {"model": "ITRF2014", "plate": "AUST", "years": 10.0})
            row = got["positions"][0]
            north = np.radians(row["lat"] + 33.0) * 6359000.0
            self.assertAlmostEqual(north, row["rate_mm"]["n"] * 0.01, delta=2e-3)
            self.assertGreater(row["rate_mm"]["n"], 50.0)
            later = ["--to-epoch", "2020"]
            for more in (later, ["--plate", "AUST"], [*later, "--plate", "NIX"]):
                with self.subTest(more):
                    self.assertEqual(main([*base, *more]), 2)
