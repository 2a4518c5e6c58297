"""The sightings of a setup as procedures take them."""

from __future__ import annotations

import math
from collections.abc import Mapping
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ParseError
from fenwind.geodesy.air import refractivity, velocity_ppm
from fenwind.procedures.resection import Reduced, ResectionOptions, Sighting, in_face_one
from fenwind.quantities.angles import RAD_PER_SECOND, wrap_all
from fenwind.quantities.numbers import parse_number
from fenwind.records.setups import Air, Setup

FloatArray = NDArray[np.float64]


def sightings_of(setup: Setup, names: Mapping[str, str] | None = None) -> list[Sighting]:
    """Every sighting, by the names of targets where they are told, else by their ids; distances corrected for
    the air where that is told."""
    longer = air_factor(setup)
    columns = zip(
        setup.target, setup.direction_rad, setup.zenith_rad, setup.distance_m, setup.target_height_m,
        setup.prism_m, setup.face, strict=True,
    )  # fmt: skip
    known = names or {}
    return [
        Sighting(
            target=known.get(target, target), direction=direction,
            zenith=math.nan if zenith is None else zenith,
            distance=math.nan if distance is None else distance * longer, target_height=height, prism_m=prism,
            face=face,
        )
        for target, direction, zenith, distance, height, prism, face in columns
    ]  # fmt: skip


def options_of(setup: Setup, factor: float | FloatArray) -> ResectionOptions:
    """How the sightings of a setup are reduced, with the factor of its horizontal distances."""
    return ResectionOptions(
        instrument_height=setup.height_m, heights=setup.heights, k=setup.k, factor=factor,
        sigma_direction=setup.sigma_direction_s * RAD_PER_SECOND,
        sigma_zenith=setup.sigma_zenith_s * RAD_PER_SECOND, sigma_distance_m=setup.sigma_distance_m,
        sigma_distance_ppm=setup.sigma_distance_ppm, collimation=_known(setup.collimation_rad),
        index=_known(setup.index_rad),
    )  # fmt: skip


def faces_of(setup: Setup) -> tuple[FloatArray, FloatArray, float, float]:
    """Directions, zenith angles, collimation and index of a setup as procedures.resection.in_face_one has
    them."""
    known = _known(setup.collimation_rad), _known(setup.index_rad)
    return in_face_one(sightings_of(setup), off_rows(setup), *known)


def _known(value: float | None) -> float:
    return math.nan if value is None else value


def air_factor(setup: Setup) -> float:
    """What distances of a setup are multiplied by for the air."""
    return 1.0 if setup.air is None else 1.0 + air_ppm(setup.air) * 1e-6


def off_rows(setup: Setup) -> set[int]:
    """Rows of the sightings that are left out."""
    return {row for row, use in setup.use if use == "off"}


def air_ppm(air: Air) -> float:
    """What distances still have to be corrected by: the first velocity correction, less what the instrument
    had applied."""
    found = refractivity(air.temperature_c, air.pressure_hpa, air.humidity_percent, air.carrier_um)
    return velocity_ppm(air.reference, found) - air.applied_ppm


def air_values(air: Air) -> tuple[float, float, float, float]:
    """Air as it is typed: degrees C, hPa, %, and the ppm that the instrument had applied."""
    return air.temperature_c, air.pressure_hpa, air.humidity_percent, air.applied_ppm


def air_typed(text: str, usual: Air) -> Air | None:
    """Air of a text such as `12, 1013, 60, 0`, the last two left out at will; None for an empty one.
    Raises ParseError, and ProcedureError for air that there is not."""
    if not text.strip():
        return None
    parts = [parse_number(part) for part in text.split(",")]
    if not 2 <= len(parts) <= 4:
        raise ParseError(f"{text.strip()!r} will not do", hint="Give °C, hPa, and then % and ppm")
    air = replace(
        usual, temperature_c=parts[0], pressure_hpa=parts[1],
        humidity_percent=parts[2] if len(parts) > 2 else usual.humidity_percent,
        applied_ppm=parts[3] if len(parts) > 3 else usual.applied_ppm,
    )  # fmt: skip
    air_ppm(air)
    return air


@dataclass(frozen=True, slots=True, kw_only=True)
class Spread:
    """How far readings of one target differ: one sigma of a reading in direction (radians), horizontal
    distance and height (metres), nan where there are fewer than two; of how many; the largest of them in
    sigmas as they are stated."""

    sigma: tuple[float, float, float]
    count: int
    worst: float


def round_spreads(setup: Setup, reduced: Reduced) -> dict[str, Spread]:
    """Spreads of the targets that were read more than once and are not left out, by their ids. Both faces of
    a round count as one reading, their mean."""
    off = off_rows(setup)
    rounds = setup.round or (0,) * len(setup.target)
    values = np.stack([reduced.direction, reduced.hd, reduced.dh])
    stated = np.sqrt(np.stack([reduced.covariance[i, i] for i in range(3)]))
    out = {}
    for key in dict.fromkeys(setup.target):
        rows = [i for i, target in enumerate(setup.target) if target == key and i not in off]
        parts = [[i for i in rows if rounds[i] == r] for r in dict.fromkeys(rounds[i] for i in rows)]
        parts = parts if any(rounds[i] for i in rows) else [[i] for i in rows]
        if len(parts) < 2:
            continue
        away = values[:, rows] - values[:, rows[:1]]
        away[0] = wrap_all(away[0])
        at = {i: k for k, i in enumerate(rows)}
        means = np.stack([away[:, [at[i] for i in part]].mean(axis=1) for part in parts], axis=1)
        sigma = means.std(axis=1, ddof=1)
        with np.errstate(invalid="ignore"):
            worst = float(np.nanmax(sigma / stated[:, rows[0]], initial=0.0))
        out[key] = Spread(
            sigma=(float(sigma[0]), float(sigma[1]), float(sigma[2])), count=len(parts), worst=worst
        )
    return out
