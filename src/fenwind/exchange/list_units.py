"""Units of the columns of a list: stated in a head, or else those that the list is read in."""

from __future__ import annotations

import re
from dataclasses import dataclass
from functools import cache

from fenwind.quantities.angles import AngleStyle
from fenwind.quantities.lengths import METRE, LengthUnit, unit_named


@dataclass(frozen=True, slots=True, kw_only=True)
class ListUnits:
    """Units where neither a head nor a cell states one: of coordinates and heights, of all other lengths, and
    of angles."""

    coordinate: LengthUnit = METRE
    length: LengthUnit = METRE
    angle: AngleStyle = "degrees"


METRIC = ListUnits()
ANGLES: dict[str, AngleStyle] = {"deg": "degrees", "dms": "degrees", "gon": "gon"}
_HEAD = re.compile(
    r"(?P<word>.+?) ?[_ (\[] ?(?P<unit>m|km|mm|ft|ift|ftus|usft|sft|deg|dms|gon|grad)[2²]? ?[)\]]?",
    re.IGNORECASE,
)
#: No head is longer, with its unit.
_MOST_LETTERS = 60


def column_of(head: str, known: tuple[str, ...]) -> tuple[str, str]:
    """The known column that a head names, and the unit it states beside that; both empty where there is none.
    `hz (gon)` and `hz_gon` are the column hz_deg, in gon. A column whose own name has a unit of length states
    none: its reader knows."""
    if len(head) > _MOST_LETTERS:
        return "", ""
    text = " ".join(head.split())
    names = _by_word(known)
    split = _HEAD.fullmatch(text)
    unit = _key(split["unit"]) if split is not None else ""
    if text in known:
        return text, unit if unit in ANGLES else ""
    if split is None:  # an angle may be named without its unit
        name = names.get(text, "")
        return (name, "") if is_angle(name) else ("", "")
    name = names.get(split["word"], "")
    return name, unit if name else ""


@cache
def _by_word(known: tuple[str, ...]) -> dict[str, str]:
    """Columns by their names, and by their names without a unit."""
    split = {name: _HEAD.fullmatch(name) for name in known}
    return {found["word"]: name for name, found in split.items() if found} | {name: name for name in known}


def _key(text: str) -> str:
    plain = text.lower()
    if plain in ANGLES or plain == "grad":
        return "gon" if plain == "grad" else plain
    return unit_named(plain).key


def is_angle(name: str) -> bool:
    """Whether a column holds angles, by the unit in its name."""
    split = _HEAD.fullmatch(name)
    by_name = split is not None and _key(split["unit"]) in ANGLES
    return by_name or name == "za" or name.endswith(("lat", "lon"))
