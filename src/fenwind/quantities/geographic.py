"""Latitude and longitude as typed: with a hemisphere letter or a sign, in any spelling of an angle."""

from __future__ import annotations

import math
import re

from fenwind.errors import ParseError
from fenwind.quantities.angles import AngleStyle, format_dms, parse_angle, tidy

_LETTERED = re.compile(r"^\s*(?P<front>[NSEW])?\s*(?P<angle>.*?)\s*(?P<back>[NSEW])?\s*$", re.IGNORECASE)


def _parse(text: str, style: AngleStyle, positive: str, negative: str, limit_rad: float, what: str) -> float:
    text = tidy(text)
    match = _LETTERED.match(text)
    letter = ((match["front"] or match["back"] or "") if match else "").upper()
    if match is None or (match["front"] and match["back"]) or (letter and letter not in positive + negative):
        raise ParseError(
            f"{text.strip()!r} is not a {what}",
            hint=f"Use a sign or one letter of {positive[0]} and {negative[0]}",
        )
    value = parse_angle(match["angle"], style)
    if letter and (value < 0 or match["angle"].lstrip().startswith(("-", "−"))):
        raise ParseError(
            f"{text.strip()!r} has a sign and a letter", hint="Use either a sign or a hemisphere letter"
        )
    if abs(value) > limit_rad + 1e-15:
        raise ParseError(
            f"{text.strip()!r} is out of range for a {what}",
            hint=f"A {what} runs to {math.degrees(limit_rad):.0f} degrees",
        )
    return -value if letter and letter in negative else value


def parse_latitude(text: str, style: AngleStyle = "degrees") -> float:
    """Latitude in radians, north positive; a plain number is in the unit of `style`. Raises ParseError
    when it is over 90 degrees or is no angle."""
    return _parse(text, style, "N", "S", math.pi / 2, "latitude")


def parse_longitude(text: str, style: AngleStyle = "degrees") -> float:
    """Longitude in radians, east positive; a plain number is in the unit of `style`.

    Raises ParseError when it is over 360 degrees or is no angle.
    """
    return _parse(text, style, "E", "W", 2 * math.pi, "longitude")


def format_latitude(latitude_rad: float, decimals: int = 5) -> str:
    """As in 61°18'02.12345" N."""
    return f"{format_dms(abs(latitude_rad), decimals)} {'S' if latitude_rad < 0 else 'N'}"


def format_longitude(longitude_rad: float, decimals: int = 5) -> str:
    """As in 8°24'02.12345" E."""
    return f"{format_dms(abs(longitude_rad), decimals)} {'W' if longitude_rad < 0 else 'E'}"
