"""Plain numbers as people write them: decimal comma, thin spaces between thousands, the true minus sign."""

from __future__ import annotations

import math
import re

from fenwind.errors import ParseError

MINUS = "−"
THIN = "\u2009"
#: What may stand between groups of three digits whatever the decimal sign; a plain blank parts two numbers.
_BETWEEN = "'’\u2009\u202f\u00a0"
_EXPONENT = r"(?:[eE][+-]?\d+)?"


def _pattern(decimal: str, group: str) -> re.Pattern[str]:
    """A number with a decimal sign, its thousands together or in groups of exactly three digits."""
    whole = rf"(?:[1-9]\d{{0,2}}(?:[{group}{_BETWEEN}]\d{{3}})+|\d+)"
    return re.compile(rf"[+-]?(?:{whole}(?:{decimal}\d*)?|{decimal}\d+){_EXPONENT}")


_NUMBERS = {
    (False, True): _pattern(r"\.", ","),
    (False, False): _pattern(r"\.", ""),
    (True, True): _pattern(",", r"\."),
    (True, False): _pattern(",", ""),
}
_GROUPS = re.compile(f"[{_BETWEEN}]")
_TYPED_GROUP = re.compile(r"(?<=\d) (?=\d{3}(?!\d))")


def parse_number(text: str, *, decimal_comma: bool | None = None, grouped: bool = True) -> float:
    """Read one number; apostrophes and thin or no-break blanks may stand between thousands, exponents too.

    decimal_comma: True, a comma is the decimal sign and a dot separates thousands; False, the other way
    round; None, for what a person types: a lone comma counts as the decimal sign, a plain blank may stand
    between thousands. A sign of thousands stands only before groups of
    exactly three digits after one to three; with `grouped` False there is none. Raises ParseError on anything
    else, on nan and inf.
    """
    raw = text.strip().replace(MINUS, "-")
    if decimal_comma is None:
        raw = _TYPED_GROUP.sub("'", raw)
        decimal_comma = raw.count(",") == 1 and "." not in raw
    if not _NUMBERS[decimal_comma, grouped].fullmatch(raw):
        raise ParseError(f"{text.strip()!r} is not a number", hint="Type digits with one decimal sign")
    raw = _GROUPS.sub("", raw)
    raw = raw.replace(".", "").replace(",", ".") if decimal_comma else raw.replace(",", "")
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
