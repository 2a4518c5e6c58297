"""Sightings of one setup from a CSV file: target, hz_deg, za_deg, sd, ht, prism_mm and, if there is one,
face."""

from __future__ import annotations

import math
from collections.abc import Callable

from fenwind.exchange.list_units import METRIC, ListUnits
from fenwind.exchange.named_csv import NamedRow, read_named
from fenwind.procedures.resection import Sighting
from fenwind.quantities.lengths import MILLIMETRE
from fenwind.records.setups import Setup

NEEDED = ("target", "hz_deg", "za_deg", "sd", "ht", "prism_mm")


def read_sightings(
    path: str,
    applied_prism_mm: float = 0.0,
    known: Callable[[str], bool] = lambda name: True,
    known_in: str = "",
    units: ListUnits = METRIC,
) -> list[Sighting]:
    """The sightings of a file, in its order. known: whether a target may stand there, known_in: where those
    are listed; units: of columns whose heads state none. Raises FormatError with the place of the first bad
    cell."""
    rows = read_named(path, NEEDED, ("face",), units)[1]
    return [sighting(row, applied_prism_mm, known, known_in) for row in rows]


def sighting(row: NamedRow, applied_mm: float, known: Callable[[str], bool], known_in: str) -> Sighting:
    """The sighting of a row. Raises FormatError with its place."""
    target = row.text("target")
    if not known(target):
        raise row.bad("target", f"a mark of {known_in}")
    hz, za = row.angle("hz_deg"), row.angle("za_deg")
    if math.isnan(hz):
        raise row.bad("hz_deg", "an angle such as 117.5979 or 117-35-52.5")
    if not math.isnan(za) and not 0.0 < za < 2.0 * math.pi:
        raise row.bad("za_deg", "a zenith angle above 0 and below 360")
    face = row.text("face", needed=False)
    if face not in ("", "1", "2"):
        raise row.bad("face", "1 or 2")
    prism, ht = row.length("prism_mm", default=MILLIMETRE), row.length("ht")
    return Sighting(
        target=target, direction=hz, zenith=za,
        distance=row.length("sd", "a distance above 0", lambda v: v > 0.0),
        target_height=0.0 if math.isnan(ht) else ht,
        prism_m=(0.0 if math.isnan(prism) else prism) - applied_mm / 1000.0,
        face=int(face) if face else 2 if za > math.pi else 1,
    )  # fmt: skip


def setup_record(shots: list[Sighting], source: str) -> Setup:
    """Sightings as a record whose marks are still names; it has no id, no name and no station yet."""

    def maybe(value: float) -> float | None:
        return None if math.isnan(value) else value

    return Setup(
        id="", name="", frame="", station="", source=source, target=tuple(s.target for s in shots),
        direction_rad=tuple(s.direction for s in shots), zenith_rad=tuple(maybe(s.zenith) for s in shots),
        distance_m=tuple(maybe(s.distance) for s in shots),
        target_height_m=tuple(s.target_height for s in shots), prism_m=tuple(s.prism_m for s in shots),
        face=tuple(s.face for s in shots),
    )  # fmt: skip
