"""Angles in the spellings people type, in radians inside.

Accepted: degrees, minutes and seconds with marks, blanks or hyphens between (117°35'52", 117 35 52,
117-35-52.5), decimal degrees, gon (13.2g, 13.2 gon), radians (1.2 rad), and packed D.MMSS only when it is
chosen. A minus sign belongs to the whole angle, so -0 12 30 is negative.
"""

from __future__ import annotations

import math
import re
from contextlib import suppress
from itertools import pairwise
from typing import Any, Literal

from fenwind.errors import ParseError
from fenwind.quantities.numbers import MINUS, format_fixed

AngleStyle = Literal["degrees", "gon", "packed", "rad"]

#: radians in one unit; a full circle is 360 degrees and 400 gon (gon: ISO 80000-3:2019, item 3-5)
RAD_PER_DEGREE = math.pi / 180.0
RAD_PER_GON = math.pi / 200.0
RAD_PER_SECOND = math.pi / 648000.0

_HINT = "Type for instance 117°35'52.5\", 117 35 52.5, 117-35-52.5, 117.598 or 130.664 gon"
#: Letters of an angle, whoever types it.
MOST_LETTERS = 200
_DEGREES, _MINUTES, _SECONDS = "º˚", "′’‘", "″”“"
_MARKS = str.maketrans(
    {c: plain for some, plain in ((_DEGREES, "°"), (_MINUTES, "'"), (_SECONDS, '"')) for c in some}
)
_MARKS |= str.maketrans({MINUS: "-", "–": "-"})
_SUFFIX = re.compile(r"^(.*?)\s*(gon|grad|g|rad|deg|d|°)$", re.IGNORECASE)
_SEXAGESIMAL = re.compile(
    r"""^(?P<d>\d+(?:\.\d*)?|\.\d+)\s*(?:°|[dD]|[:\s-])\s*
        (?:(?P<m>\d+(?:\.\d*)?)\s*(?:'|[mM](?![a-z])|[:\s-]|$)\s*
        (?:(?P<s>\d+(?:\.\d*)?|\.\d+)\s*(?:"|''|[sS])?)?)?$""",
    re.VERBOSE,
)


def tidy(text: str) -> str:
    """A typed text with one blank for any run of them, so that no pattern has to try them all. Raises
    ParseError for one that nobody typed."""
    text = " ".join(text.split())
    if len(text) > MOST_LETTERS:
        raise ParseError(f"{text[:40]!r} … is no angle: it has {len(text)} letters", hint=_HINT)
    return text


def parse_angle(text: str, style: AngleStyle = "degrees") -> float:
    """Radians of one typed angle; a unit in the text wins over `style`.

    Raises ParseError for empty text, minutes or seconds of 60 or more, and a fraction that is followed by a
    smaller part.
    """
    raw = tidy(text).translate(_MARKS)
    negative = raw.startswith("-")
    body = raw.lstrip("+-").strip() if raw[:1] in "+-" else raw
    if raw[1:2] in ("+", "-") and raw[:1] in "+-":
        raise ParseError(f"{text.strip()!r} has two signs", hint=_HINT)
    value = _parse_unsigned(body, text, style)
    if not math.isfinite(value):
        raise ParseError(f"{text.strip()!r} is too large", hint=_HINT)
    return -value if negative else value


def _parse_unsigned(body: str, text: str, style: AngleStyle) -> float:
    if "," in body and "." not in body:
        body = body.replace(",", ".")
    suffixed = _SUFFIX.match(body)
    if suffixed and _is_plain(suffixed[1]):
        unit = suffixed[2].lower()
        factor = {"rad": 1.0, "deg": RAD_PER_DEGREE, "d": RAD_PER_DEGREE, "°": RAD_PER_DEGREE}.get(
            unit, RAD_PER_GON
        )
        return float(suffixed[1]) * factor
    if _is_plain(body):
        if style == "packed":
            return unpack_dms(body)
        return float(body) * {"degrees": RAD_PER_DEGREE, "gon": RAD_PER_GON, "rad": 1.0}[style]
    parts = _SEXAGESIMAL.match(body)
    if parts is None:
        raise ParseError(f"{text.strip()!r} is not an angle", hint=_HINT)
    degrees, minutes, seconds = parts["d"], parts["m"] or "0", parts["s"] or "0"
    if ("." in degrees and parts["m"]) or ("." in minutes and parts["s"]):
        raise ParseError(
            f"{text.strip()!r} has a fraction before its last part", hint="Put decimals on the last part only"
        )
    return _sexagesimal(float(degrees), float(minutes), float(seconds), text)


def _is_plain(text: str) -> bool:
    return re.fullmatch(r"(\d+\.?\d*|\.\d+)([eE][+-]?\d+)?", text.strip()) is not None


def _sexagesimal(degrees: float, minutes: float, seconds: float, text: str) -> float:
    if minutes >= 60.0 or seconds >= 60.0:
        raise ParseError(
            f"{text.strip()!r} has 60 or more minutes or seconds",
            hint="Minutes and seconds run from 0 to under 60",
        )
    return (degrees * 3600.0 + minutes * 60.0 + seconds) * RAD_PER_SECOND


def unpack_dms(text: str) -> float:
    """Radians of an unsigned packed angle D.MMSSsss: 117.35525 is 117°35'52.5"."""
    degrees, _, fraction = text.strip().partition(".")
    fraction = fraction.ljust(4, "0")
    seconds = f"{fraction[2:4]}.{fraction[4:] or '0'}"
    return _sexagesimal(float(degrees or 0), float(fraction[:2]), float(seconds), text)


def split_dms(angle_rad: float, decimals: int) -> tuple[bool, int, int, str]:
    """Sign, degrees, minutes and seconds (as text) of an angle, rounded as a whole so that seconds never read
    60."""
    unit = 10**decimals
    total = round(abs(angle_rad) / RAD_PER_SECOND * unit)
    whole, fraction = divmod(total, unit)
    minutes_total, seconds = divmod(whole, 60)
    degrees, minutes = divmod(minutes_total, 60)
    seconds_text = f"{seconds:02d}" + (f".{fraction:0{decimals}d}" if decimals else "")
    return angle_rad < 0 and total > 0, degrees, minutes, seconds_text


def format_dms(angle_rad: float, decimals: int = 1) -> str:
    """Degrees, minutes and seconds, as in 117°35'52.5"; true minus sign in front of negative angles."""
    negative, degrees, minutes, seconds = split_dms(angle_rad, decimals)
    return f"{MINUS if negative else ''}{degrees}°{minutes:02d}'{seconds}\""


def format_angle(angle_rad: float, style: AngleStyle = "degrees", decimals: int = 1) -> str:
    """An angle with its unit: DMS with `decimals` on the seconds, or gon and radians with `decimals` as they
    are."""
    if style == "degrees":
        return format_dms(angle_rad, decimals)
    if style == "packed":
        negative, degrees, minutes, seconds = split_dms(angle_rad, decimals)
        return f"{MINUS if negative else ''}{degrees}.{minutes:02d}{seconds.replace('.', '')}"
    unit, factor = ("gon", RAD_PER_GON) if style == "gon" else ("rad", 1.0)
    return f"{format_fixed(angle_rad / factor, decimals, group=False)} {unit}"


def exchanged_digits(angle_rad: float, style: AngleStyle = "degrees") -> list[float]:
    """What an angle reads with two neighbouring digits exchanged, one way after the other; readings that
    are none (70 minutes) are left out."""
    text = format_angle(angle_rad, style, usual_decimals(style))
    places = [i for i, c in enumerate(text) if c.isdigit()]
    out = []
    for a, b in pairwise(places):
        if text[a] != text[b]:
            digits = list(text)
            digits[a], digits[b] = digits[b], digits[a]
            with suppress(ParseError):
                out.append(parse_angle("".join(digits), style))
    return out


def usual_decimals(style: AngleStyle) -> int:
    """Decimals that show an angle to about a third of a second in any style."""
    return {"degrees": 1, "packed": 1, "gon": 4}.get(style, 6)


def wrap_positive(angle_rad: float) -> float:
    """The same direction in [0, 2 pi)."""
    wrapped = math.fmod(angle_rad, 2.0 * math.pi)
    if wrapped < 0.0:
        wrapped += 2.0 * math.pi
    return 0.0 if wrapped >= 2.0 * math.pi else wrapped


def wrap_all(angle_rad: Any) -> Any:
    """The same directions in [-pi, pi), of a number or of an array of any shape, radians."""
    return (angle_rad + math.pi) % (2.0 * math.pi) - math.pi


def wrap_signed(angle_rad: float) -> float:
    """The same direction in (-pi, pi]."""
    wrapped = math.remainder(angle_rad, 2.0 * math.pi)
    return math.pi if wrapped == -math.pi else wrapped
