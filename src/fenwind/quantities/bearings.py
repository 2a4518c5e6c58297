"""Directions from north: azimuths, clockwise, 0 to a full circle; and quadrant bearings such as N 45°30'
E."""

from __future__ import annotations

import math
import re

from fenwind.errors import ParseError
from fenwind.quantities.angles import AngleStyle, format_angle, parse_angle, tidy, wrap_positive

_QUADRANT = re.compile(r"^\s*([NS])\s*(.+?)\s*([EW])\s*$", re.IGNORECASE)
_DUE = {"N": 0.0, "E": 0.5 * math.pi, "S": math.pi, "W": 1.5 * math.pi}


def parse_bearing(text: str, style: AngleStyle = "degrees") -> float:
    """Azimuth in radians, [0, 2 pi), of an azimuth or of a quadrant bearing; "due N" and a lone letter are
    read too.

    Raises ParseError for a quadrant angle over 90 degrees and for what is no angle.
    """
    text = tidy(text)
    due = re.fullmatch(r"\s*(?:due\s+)?([NESW])\s*", text, re.IGNORECASE)
    if due:
        return _DUE[due[1].upper()]
    quadrant = _QUADRANT.match(text)
    if quadrant is None:
        return wrap_positive(parse_angle(text, style))
    angle = parse_angle(quadrant[2], style)
    if not 0.0 <= angle <= 0.5 * math.pi + 1e-15:
        raise ParseError(
            f"{text.strip()!r} is over a right angle", hint="A quadrant bearing runs from 0 to 90 degrees"
        )
    south, west = quadrant[1].upper() == "S", quadrant[3].upper() == "W"
    azimuth = math.pi - angle if south else angle
    return wrap_positive(-azimuth if west else azimuth)


def format_quadrant(azimuth_rad: float, style: AngleStyle = "degrees", decimals: int = 0) -> str:
    """A quadrant bearing such as N 45°30'00" E; exactly east is N 90° E."""
    azimuth = wrap_positive(azimuth_rad)
    south = 0.5 * math.pi < azimuth < 1.5 * math.pi
    west = azimuth > math.pi
    angle = abs(math.pi - azimuth) if south else min(azimuth, 2.0 * math.pi - azimuth)
    return f"{'S' if south else 'N'} {format_angle(angle, style, decimals)} {'W' if west else 'E'}"


def format_azimuth(azimuth_rad: float, style: AngleStyle = "degrees", decimals: int = 1) -> str:
    """An azimuth in [0, full circle), also after rounding: 359.99999° at one decimal reads 0.0°."""
    text = format_angle(wrap_positive(azimuth_rad), style, decimals)
    full = format_angle(2.0 * math.pi, style, decimals)
    return format_angle(0.0, style, decimals) if text == full else text
