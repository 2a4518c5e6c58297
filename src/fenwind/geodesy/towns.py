"""Where towns are, by any of their names: 34,000 of 15,000 people or more (GeoNames, CC BY 4.0; see
docs/decisions/021-towns.md)."""

from __future__ import annotations

import gzip
import re
import unicodedata
from dataclasses import dataclass
from functools import cache
from pathlib import Path

from fenwind.quantities.angles import RAD_PER_DEGREE

_LIST = Path(__file__).parent / "places" / "towns.txt.gz"
#: Letters that do not fall apart into a plain one and its marks.
_PLAIN = str.maketrans(
    {"ß": "ss", "ø": "o", "æ": "ae", "œ": "oe", "ł": "l", "đ": "d", "ð": "d", "þ": "th", "ı": "i"}
)


@dataclass(frozen=True, slots=True, kw_only=True)
class Town:
    """A town: latitude and longitude in radians; state: of the USA, else empty."""

    name: str
    country: str
    state: str
    lat: float
    lon: float

    @property
    def title(self) -> str:
        """Its name with where it is, in words."""
        return ", ".join(w for w in (self.name, self.state, self.country) if w)


def plain(text: str) -> str:
    """Lower case without marks on letters, with one blank between words."""
    apart = unicodedata.normalize("NFKD", text.lower().translate(_PLAIN))
    return " ".join(re.findall(r"\w+", "".join(c for c in apart if not unicodedata.combining(c))))


@cache
def _by_name() -> dict[str, list[str]]:
    """Lines of the list by every name, the largest town first."""
    found: dict[str, list[str]] = {}
    for line in gzip.decompress(_LIST.read_bytes()).decode("utf-8").splitlines():
        for name in line.partition("\t")[0].split("|"):
            found.setdefault(name, []).append(line)
    return found


def towns_named(text: str) -> tuple[Town, ...]:
    """Towns of a name, the largest first, those that are called so elsewhere last; after it may stand the
    country or the state, in full."""
    words = plain(text).split()
    for count in range(len(words), 0, -1):
        name, rest = " ".join(words[:count]), " ".join(words[count:])
        own = re.compile(rf"{re.escape(name)}[|\t]")
        lines = sorted(_by_name().get(name, ()), key=lambda line: own.match(line) is None)
        every = [_town(line) for line in lines]
        fitting = [t for t in every if rest in ("", plain(t.country), plain(t.state), _both(t))]
        if fitting:
            return tuple(fitting)
    return ()


def _both(town: Town) -> str:
    return plain(f"{town.state} {town.country}")


def _town(line: str) -> Town:
    _, name, country, state, lat, lon = line.split("\t")
    return Town(
        name=name, country=country, state=state, lat=float(lat) * RAD_PER_DEGREE,
        lon=float(lon) * RAD_PER_DEGREE,
    )  # fmt: skip
