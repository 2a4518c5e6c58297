"""Lengths and plain numbers."""

import unittest
from fractions import Fraction

from hypothesis import given
from hypothesis import strategies as st

from fenwind.errors import ParseError
from fenwind.quantities.lengths import (
    FOOT,
    METRE,
    UNITS,
    US_SURVEY_FOOT,
    format_length,
    parse_length,
    parse_tolerances,
    unit_named,
)  # fmt: skip
from fenwind.quantities.numbers import counted, format_fixed, parse_number


class Units(unittest.TestCase):
    def test_definitions(self) -> None:
        # 1 yard = 0.9144 m exactly: Federal Register, 1 July 1959. 1 m = 39.37 in: Bulletin 26, 5 April 1893.
        self.assertEqual(FOOT.exact * 3, Fraction(9144, 10000))
        self.assertEqual(US_SURVEY_FOOT.exact * Fraction(3937, 1200), 1)
        # Both feet as NIST Special Publication 811 (2008), appendix B.8, prints them: 3.048 000 E-01 and
        # 3.048 006 E-01.
        self.assertEqual(f"{FOOT.metres:.7f}", "0.3048000")
        self.assertEqual(f"{US_SURVEY_FOOT.metres:.7f}", "0.3048006")
        for unit in UNITS.values():
            self.assertTrue(unit.source)

    def test_typed(self) -> None:
        rows = [
            ("12.5", 12.5), ("12.5 ft", 3.81), ("3937 ftUS", 1200.0), ("1,5 km", 1500.0),
            ("1 234.5 m", 1234.5), ("−3'", -0.9144), ("250 mm", 0.25),
        ]  # fmt: skip
        for text, metres in rows:
            with self.subTest(text):
                self.assertAlmostEqual(parse_length(text), metres, places=12)
        self.assertAlmostEqual(parse_length("10", FOOT), 3.048)
        for text in ("", "m", "12 furlongs", "12 ft 3"):
            with self.subTest(text), self.assertRaises(ParseError):
                parse_length(text)
        with self.assertRaises(ParseError):
            unit_named("ell")

    @given(st.floats(-1e7, 1e7), st.sampled_from([METRE, FOOT, US_SURVEY_FOOT]))
    def test_round_trip(self, metres: float, unit) -> None:
        self.assertAlmostEqual(parse_length(format_length(metres, unit, 6)), metres, delta=1e-6)

    def test_tolerances(self) -> None:
        cases = {
            "10, 20": (0.01, 0.02), "2 20": (0.002, 0.02), "5 mm and 1 m": (0.005, 1.0),
            "7.5": (0.0075, 0.0075), "10 and 20 mm": (0.01, 0.02),
        }  # fmt: skip
        for text, wanted in cases.items():
            with self.subTest(text):
                self.assertEqual(parse_tolerances(text), wanted)
        for text in ("", "0", "-5, 3", "1, 2, 3", "wide"):
            with self.subTest(text), self.assertRaises(ParseError):
                parse_tolerances(text)


class Numbers(unittest.TestCase):
    def test_read(self) -> None:
        rows = [
            ("1 234,5", None, 1234.5), ("1,234.5", None, 1234.5), ("1.234,5", True, 1234.5),
            ("1'234.5", None, 1234.5), ("−5", None, -5), ("1e3", None, 1000),
        ]  # fmt: skip
        for text, comma, value in rows:
            with self.subTest(text):
                self.assertEqual(parse_number(text, decimal_comma=comma), value)
        for text in ("", "nan", "inf", "1e999", "12..3", "0x10", "1-2"):
            with self.subTest(text), self.assertRaises(ParseError):
                parse_number(text)

    def test_shown(self) -> None:
        self.assertEqual(format_fixed(-0.001, 2), "0.00")
        self.assertEqual(format_fixed(-1.5, 1), "−1.5")
        self.assertEqual(format_fixed(0.0, 1, sign=True), "0.0")
        self.assertEqual(format_fixed(2.0, 1, sign=True), "+2.0")
        self.assertEqual(format_fixed(float("nan"), 1), "")
        self.assertEqual(format_fixed(1234567.8, 1), "1\u2009234\u2009567.8")
        self.assertEqual([counted(n, "mark") for n in (0, 1, 2)], ["0 marks", "1 mark", "2 marks"])
