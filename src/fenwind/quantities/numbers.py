"""Plain numbers as people write them: decimal comma, thin spaces between thousands, the true minus sign."""

from __future__ import annotations

import math
import re

from fenwind.errors import ParseError

MINUS = "−"
THIN = "\u2009"
_SPACES = re.compile("[\\s\u2009\u202f\u00a0'’_]+")
_NUMBER = re.compile(r"[+-]?(\d+(\.\d*)?|\.\d+)([eE][+-]?\d+)?")


def parse_number(text: str, *, decimal_comma: bool | None = None) -> float:
    """Read one number; spaces and apostrophes between thousands are allowed, exponents too.

    decimal_comma: True, a comma is the decimal sign (a dot then separates thousands); False, a comma
    separates thousands; None, a lone comma counts as the decimal sign. Raises ParseError on anything else, on
    nan and inf.
    """
    raw = _SPACES.sub("", text).replace(MINUS, "-")
    if decimal_comma is None:
        decimal_comma = raw.count(",") == 1 and "." not in raw
    raw = raw.replace(".", "").replace(",", ".") if decimal_comma and "," in raw else raw.replace(",", "")
    if not _NUMBER.fullmatch(raw):
        raise ParseError(f"{text.strip()!r} is not a number", hint="Type digits with one decimal sign")
    value = float(raw)
    if not math.isfinite(value):
        raise ParseError(f"{text.strip()!r} is too large", hint="Type a finite number")
    return value


def counted(count: int, what: str) -> str:
    """A number of things: "1 mark", "2 marks"."""
    return f"{count} {what}{'' if count == 1 else 's'}"


def format_fixed(value: float | None, decimals: int, *, sign: bool = False, group: bool = True) -> str:
    """Fixed decimals with a true minus sign; thousands kept apart by thin spaces; never "−0.00"; nothing
    for None or nan."""
    if value is None or not math.isfinite(value):
        return ""
    text = f"{abs(value):,.{decimals}f}" if group else f"{abs(value):.{decimals}f}"
    negative = value < 0 and any(c in "123456789" for c in text)
    prefix = MINUS if negative else "+" if sign and any(c in "123456789" for c in text) else ""
    return prefix + text.replace(",", THIN)
