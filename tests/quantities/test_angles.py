"""Angles, bearings, latitudes: what people type, and that nothing is lost on the way back."""

import math
import unittest

from hypothesis import given
from hypothesis import strategies as st

from fenwind.errors import ParseError
from fenwind.quantities.angles import format_angle, format_dms, parse_angle, wrap_positive, wrap_signed
from fenwind.quantities.bearings import format_azimuth, format_quadrant, parse_bearing
from fenwind.quantities.geographic import format_latitude, format_longitude, parse_latitude, parse_longitude

D = math.pi / 180


class Typed(unittest.TestCase):
    def test_spellings(self) -> None:
        rows = [
            ("117°35'52\"", 117 + 35 / 60 + 52 / 3600), ("117 35 52", 117 + 35 / 60 + 52 / 3600),
            ("117-35-52.5", 117 + 35 / 60 + 52.5 / 3600), ("117º35′52.5″", 117 + 35 / 60 + 52.5 / 3600),
            ("-0 12 30", -(12 / 60 + 30 / 3600)), ("−0°12'30\"", -(12 / 60 + 30 / 3600)),
            ("12°30.5'", 12 + 30.5 / 60), ("12d30m15s", 12 + 30 / 60 + 15 / 3600), ("117.598", 117.598),
            ("117,598", 117.598), ("13.2 gon", 11.88), ("400g", 360.0), ("1.5 rad", 1.5 / D), (".5", 0.5),
        ]  # fmt: skip
        for text, degrees in rows:
            with self.subTest(text):
                self.assertAlmostEqual(parse_angle(text) / D, degrees, places=11)

    def test_style_applies_only_without_a_unit(self) -> None:
        self.assertAlmostEqual(parse_angle("100", "gon"), math.pi / 2)
        self.assertAlmostEqual(parse_angle("90°", "gon"), math.pi / 2)
        # D.MMSS is read as such only when chosen: 117.3552 is 117°35'52".
        self.assertEqual(format_dms(parse_angle("117.3552", "packed"), 0), "117°35'52\"")
        self.assertNotEqual(format_dms(parse_angle("117.3552"), 0), "117°35'52\"")

    def test_refused(self) -> None:
        for text in (
            "", "abc", "12 60 00", "12 30 60", "12.5 30", "12 30.5 10", "--3", "+-3", "1e999", "nan",
            "12 30 15 7", "117°35'52''1",
        ):  # fmt: skip
            with self.subTest(text), self.assertRaises(ParseError):
                parse_angle(text)
        with self.assertRaises(ParseError):
            parse_angle("117.6552", "packed")

    @given(st.floats(-720, 720), st.sampled_from(["degrees", "gon", "packed", "rad"]))
    def test_round_trip(self, degrees: float, style: str) -> None:
        text = format_angle(degrees * D, style, 9)  # type: ignore[arg-type]
        self.assertAlmostEqual(
            parse_angle(text.removesuffix(" gon").removesuffix(" rad"), style), degrees * D, delta=1e-8
        )  # type: ignore[arg-type]

    @given(st.floats(-360, 360), st.integers(0, 6))
    def test_never_sixty(self, degrees: float, decimals: int) -> None:
        text = format_dms(degrees * D, decimals)
        self.assertNotIn(
            "60", (text.split("°")[1].split("'")[0], text.split("'")[1].split(".")[0].rstrip('"'))
        )

    def test_carry(self) -> None:
        self.assertEqual(format_dms((59 / 60 + 59.96 / 3600) * D, 1), "1°00'00.0\"")
        self.assertEqual(format_dms(-0.00000001 * D, 1), "0°00'00.0\"")
        self.assertEqual(format_dms(-0.1 / 3600 * D, 1), "−0°00'00.1\"")
        self.assertEqual(format_dms(-D / 2, 0), "−0°30'00\"")


class Bearings(unittest.TestCase):
    def test_read(self) -> None:
        rows = [
            ("N 45 30 E", 45.5), ("S45-30W", 225.5), ("n 12 w", 348), ("S 0 E", 180), ("due W", 270),
            ("E", 90), ("370", 10), ("-10", 350),
        ]  # fmt: skip
        for text, degrees in rows:
            with self.subTest(text):
                self.assertAlmostEqual(parse_bearing(text) / D, degrees, places=10)
        for text in ("N 91 E", "N 45", "X 3 E", ""):
            with self.subTest(text), self.assertRaises(ParseError):
                parse_bearing(text)

    @given(st.floats(0, 359.9999))
    def test_quadrant_round_trip(self, degrees: float) -> None:
        back = parse_bearing(format_quadrant(degrees * D, decimals=8))
        self.assertAlmostEqual(wrap_signed(back - degrees * D), 0.0, delta=1e-12 * 360)

    @given(st.floats(-1000, 1000))
    def test_wrap(self, angle: float) -> None:
        self.assertTrue(0.0 <= wrap_positive(angle) < 2 * math.pi)
        self.assertTrue(-math.pi < wrap_signed(angle) <= math.pi)

    def test_full_circle_reads_zero(self) -> None:
        self.assertEqual(format_azimuth(2 * math.pi - 1e-9, decimals=1), "0°00'00.0\"")
        self.assertEqual(format_azimuth(2 * math.pi - 1e-9, "gon", 4), "0.0000 gon")


class Geographic(unittest.TestCase):
    def test_read(self) -> None:
        latitude = parse_latitude("61°18'05.034\" N")
        self.assertAlmostEqual(latitude / D, 61 + 18 / 60 + 5.034 / 3600, places=12)
        self.assertAlmostEqual(
            parse_latitude("S 37 57 03.7203") / D, -(37 + 57 / 60 + 3.7203 / 3600), places=12
        )
        self.assertAlmostEqual(parse_longitude("8.4W") / D, -8.4, places=12)
        self.assertAlmostEqual(parse_longitude("-8.4") / D, -8.4, places=12)
        for parse, text in (
            (parse_latitude, "91"), (parse_latitude, "8 E"), (parse_longitude, "-8 W"),
            (parse_longitude, "N 8"), (parse_longitude, "W 8 E"),
        ):  # fmt: skip
            with self.subTest(text), self.assertRaises(ParseError):
                parse(text)

    @given(st.floats(-90, 90), st.floats(-180, 180))
    def test_round_trip(self, lat: float, lon: float) -> None:
        self.assertAlmostEqual(parse_latitude(format_latitude(lat * D, 9)) / D, lat, delta=1e-12 * 3600)
        self.assertAlmostEqual(parse_longitude(format_longitude(lon * D, 9)) / D, lon, delta=1e-12 * 3600)
