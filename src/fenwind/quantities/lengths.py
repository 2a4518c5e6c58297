"""Length units, exact, with the text that defines them; lengths typed with a unit."""

from __future__ import annotations

import re
from dataclasses import dataclass
from fractions import Fraction

from fenwind.errors import ParseError
from fenwind.quantities.numbers import format_fixed, parse_number


@dataclass(frozen=True, slots=True, kw_only=True)
class LengthUnit:
    """One unit of length: `exact` metres in it as a fraction, and the source of that number."""

    key: str
    name: str
    exact: Fraction
    source: str

    @property
    def plural(self) -> str:
        """Its name for many: metres, US survey feet."""
        return self.name.replace("foot", "feet") if self.name.endswith("foot") else f"{self.name}s"

    @property
    def metres(self) -> float:
        """Metres in one unit, rounded once to float64."""
        return float(self.exact)


METRE = LengthUnit(
    key="m",
    name="metre",
    exact=Fraction(1),
    source="BIPM, The International System of Units, 9th edition, 2019",
)
KILOMETRE = LengthUnit(
    key="km",
    name="kilometre",
    exact=Fraction(1000),
    source="BIPM, The International System of Units, 9th edition, 2019",
)
MILLIMETRE = LengthUnit(
    key="mm",
    name="millimetre",
    exact=Fraction(1, 1000),
    source="BIPM, The International System of Units, 9th edition, 2019",
)
FOOT = LengthUnit(
    key="ft",
    name="international foot",
    exact=Fraction(3048, 10000),
    source="Refinement of Values for the Yard and the Pound, Federal Register, 1 July 1959 (1 yard = "
    "0.9144 m)",
)
US_SURVEY_FOOT = LengthUnit(
    key="ftUS",
    name="US survey foot",
    exact=Fraction(1200, 3937),
    source="US Coast and Geodetic Survey, Bulletin 26, 5 April 1893 (1 metre = 39.37 inches); kept for "
    "surveying by the "
    "Federal Register notice of 1 July 1959",
)

#: The feet by the words for them, metres.
FEET: dict[str, float] = {"feet": FOOT.metres, "US survey feet": US_SURVEY_FOOT.metres}
UNITS: dict[str, LengthUnit] = {u.key: u for u in (METRE, KILOMETRE, MILLIMETRE, FOOT, US_SURVEY_FOOT)}
_ALIASES = {
    **{a: METRE for a in ("m", "metre", "metres", "meter", "meters")},
    **{a: KILOMETRE for a in ("km", "kilometre", "kilometer")},
    **{a: MILLIMETRE for a in ("mm",)},
    **{a: FOOT for a in ("ft", "foot", "feet", "ift", "'")},
    **{a: US_SURVEY_FOOT for a in ("ftus", "usft", "us-ft", "sft", "us survey foot", "us survey feet")},
}
_TYPED = re.compile(
    r"^\s*(?P<number>[+\-−]?[\d.,'’\s\u2009\u202f\u00a0]*\d\.?(?:[eE][+-]?\d+)?)"
    r"\s*(?P<unit>'|[a-zA-Z][a-zA-Z \-]*)?\s*$"
)


def unit_named(text: str) -> LengthUnit:
    """The unit of a key or an everyday name such as "m", "ft", "ftUS". Raises ParseError for others."""
    unit = _ALIASES.get(text.strip().lower())
    if unit is None:
        raise ParseError(
            f"{text.strip()!r} is not a length unit",
            hint="Use m, km, mm, ft (international) or ftUS (US survey)",
        )
    return unit


def parse_length(text: str, default: LengthUnit = METRE) -> float:
    """Metres of a typed length; a unit in the text wins over `default`. Raises ParseError."""
    match = _TYPED.match(text)
    if match is None:
        raise ParseError(
            f"{text.strip()!r} is not a length",
            hint="Type a number, with a unit if it is not the shown one: 12.5 ft",
        )
    unit = unit_named(match["unit"]) if match["unit"] else default
    return parse_number(match["number"]) * unit.metres


def parse_tolerances(text: str) -> tuple[float, float]:
    """Two tolerances in metres, plan and height, of a text such as "10, 20", "5 mm and 1 cm" or one for both;
    millimetres without a unit.

    Raises ParseError for anything else, and for tolerances that are not above zero.
    """
    parts = [p.strip() for p in re.split(r"[,;]|\band\b|(?<=\d)\s+(?=[\d.])", text) if p.strip()]
    values = [parse_length(p, MILLIMETRE) for p in parts]
    if len(values) not in (1, 2) or min(values) <= 0.0:
        raise ParseError(
            f"{text.strip()!r} is not a tolerance in plan and one in height",
            hint="Type lengths above zero, such as 10, 20 (millimetres)",
        )
    return values[0], values[-1]


def format_length(length_m: float, unit: LengthUnit = METRE, decimals: int = 3) -> str:
    """A length with its unit, as in 1 234.567 m."""
    return f"{format_fixed(length_m / unit.metres, decimals)} {unit.key}"


def format_way(length_m: float) -> str:
    """A short way in words: 12.3 mm under a metre, 43.859 m from there on."""
    return (
        f"{format_fixed(length_m * 1000.0, 1)} mm"
        if abs(length_m) < 1.0
        else f"{format_fixed(length_m, 3)} m"
    )
