"""Options and answers that many commands share: doubts as JSON, an answer printed, pairs of numbers."""

from __future__ import annotations

import math
from collections.abc import Iterable
from typing import TYPE_CHECKING, Any

from fenwind.errors import ParseError

if TYPE_CHECKING:
    from fenwind.doubts.registry import Doubt


def doubts_json(doubts: Iterable[Doubt], metres: float = 1.0) -> list[dict[str, Any]]:
    """Doubts as every command gives them; those that are lengths in a unit of so many metres."""
    return [
        {
            "rule": d.rule, "names": list(d.names), "text": d.text,
            "value": _figure(d.value, d.unit, metres), "limit": _figure(d.limit, d.unit, metres),
            "grave": d.grave,
        }
        for d in doubts
    ]  # fmt: skip


def _figure(value: float | None, unit: str, metres: float) -> float | None:
    from fenwind.commands.reading import number

    return number(value if value is None or unit != "m" else value / metres)


def positive(value: float | None, option: str) -> None:
    """Raises ParseError for a value that is not above zero."""
    if value is not None and not 0.0 < value < math.inf:
        raise ParseError(f"{option} {value:g}: expected a number above 0", hint="Correct it")


def answer(payload: dict[str, Any], words: list[str], as_json: bool) -> int:
    """Print an answer; 1 when one of its doubts is grave."""
    from fenwind.commands.reading import dump

    marks = {True: "GRAVE", False: "doubt"}
    lines = words + [f"{marks[d['grave']]}  {d['text']}" for d in payload["doubts"]]
    print(dump(payload) if as_json else "\n".join(lines))
    return 1 if any(d["grave"] for d in payload["doubts"]) else 0


def mm_ppm(text: str, option: str) -> tuple[float, float]:
    """The two numbers of MM,PPM. Raises ParseError."""
    try:
        mm, ppm = (float(part) for part in text.split(","))
    except ValueError:
        mm = ppm = math.nan
    if not (math.isfinite(mm + ppm) and mm >= 0.0 and ppm >= 0.0 and mm + ppm > 0.0):
        raise ParseError(f"{option} {text!r}: expected MM,PPM", hint=f"Write {option} 3,2")
    return mm, ppm
