"""Records of what is measured with: instruments as they are known, and distances by tape."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class InstrumentModel:
    """A total station as it is known: sigmas of one sighting (seconds, metres, ppm); collimation and index,
    radians, None where nobody found them: they are taken off sightings in one face."""

    id: str
    name: str
    sigma_direction_s: float = 5.0
    sigma_zenith_s: float = 5.0
    sigma_distance_m: float = 0.003
    sigma_distance_ppm: float = 2.0
    collimation_rad: float | None = None
    index_rad: float | None = None
    active: bool = True


@dataclass(frozen=True, slots=True, kw_only=True)
class TapedDistance:
    """A distance by tape between two marks (ids), metres as it was read; slope: from mark to mark, else
    horizontal. temperature_c: of the tape, None where nobody read it, against the one at which it has its
    length; expansion: of its length, a degree. sigma_m, and a part of the length."""

    id: str
    first: str
    second: str
    length_m: float
    slope: bool = True
    temperature_c: float | None = None
    standard_c: float = 20.0
    expansion: float = 1.16e-5
    sigma_m: float = 0.003
    sigma_ppm: float = 50.0
    active: bool = True

    @property
    def true_m(self) -> float:
        """Its length with the tape's expansion in it: L (1 + k (T - T0)), k of steel 1.16e-5 a degree
        (Ghilani and Wolf, Elementary Surveying, 13th edition, section 6.14; from memory)."""
        if self.temperature_c is None:
            return self.length_m
        return self.length_m * (1.0 + self.expansion * (self.temperature_c - self.standard_c))

    @property
    def variance_m2(self) -> float:
        """Of that length."""
        return self.sigma_m**2 + (self.sigma_ppm * 1e-6 * self.length_m) ** 2
