"""The sightings of a setup as procedures take them."""

from __future__ import annotations

import math
from collections.abc import Mapping

from fenwind.procedures.resection import Sighting
from fenwind.records.setups import Setup


def sightings_of(setup: Setup, names: Mapping[str, str] | None = None) -> list[Sighting]:
    """Every sighting, by the names of targets where they are told, else by their ids."""
    columns = zip(
        setup.target, setup.direction_rad, setup.zenith_rad, setup.distance_m, setup.target_height_m,
        setup.prism_m, setup.face, strict=True,
    )  # fmt: skip
    known = names or {}
    return [
        Sighting(
            target=known.get(target, target), direction=direction,
            zenith=math.nan if zenith is None else zenith,
            distance=math.nan if distance is None else distance, target_height=height, prism_m=prism,
            face=face,
        )
        for target, direction, zenith, distance, height, prism, face in columns
    ]  # fmt: skip
