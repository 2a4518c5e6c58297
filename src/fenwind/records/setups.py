"""Records of total-station setups: an instrument over or beside a mark, and what was sighted from it. Metres,
radians, one sigma."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from fenwind.geodesy.air import CARRIER_UM, REFERENCE_PPM
from fenwind.records.table_columns import require_one_length

ShotUse = Literal["used", "check", "off", "plan", "height"]
ScaleWord = Literal["fixed", "show", "apply"]
StationWord = Literal["free", "known"]
TargetsWord = Literal["held", "weighted"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Air:
    """The air of a setup: degrees C, hPa, % of humidity; of the instrument its carrier (micrometres), the
    refractivity (ppm) for which it needs no correction, and what it had applied by itself (ppm)."""

    temperature_c: float
    pressure_hpa: float
    humidity_percent: float = 60.0
    carrier_um: float = CARRIER_UM
    reference: float = REFERENCE_PPM
    applied_ppm: float = 0.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Setup:
    """A setup, a column a field and a row a sighting. station: id of the mark under the instrument; word: its
    place is found from the sightings, or is the one that the mark has. target: ids of marks; zenith_rad,
    distance_m None where they were not read; prism_m: to be added to the distance; face 1 or 2. use: what
    was said of some sightings by their row, plan and height: they take part in that alone. heights: the
    height is found too. grid: distances go by the factors of their lines. k: refraction; sigmas of one
    sighting. round, time (UTC): of each sighting, empty where nobody told. air: what distances are corrected
    for, None for nothing. targets: held as they are known, or known as well as they are. scale: 1, or
    estimated and only shown, or estimated and applied. azimuths: rows whose line has a known azimuth on the
    grid, radians; they turn the circle. instrument: id of the one it was observed with, empty for one that
    nobody keeps; collimation_rad, index_rad: of it, taken off where nothing was read in both faces."""

    id: str
    name: str
    frame: str
    station: str
    word: StationWord = "free"
    source: str = ""
    height_m: float = 0.0
    target: tuple[str, ...] = ()
    direction_rad: tuple[float, ...] = ()
    zenith_rad: tuple[float | None, ...] = ()
    distance_m: tuple[float | None, ...] = ()
    target_height_m: tuple[float, ...] = ()
    prism_m: tuple[float, ...] = ()
    face: tuple[int, ...] = ()
    use: tuple[tuple[int, ShotUse], ...] = ()
    heights: bool = True
    grid: bool = True
    k: float = 0.13
    sigma_direction_s: float = 5.0
    sigma_zenith_s: float = 5.0
    sigma_distance_m: float = 0.003
    sigma_distance_ppm: float = 2.0
    active: bool = True
    round: tuple[int, ...] = ()
    time: tuple[str, ...] = ()
    air: Air | None = None
    targets: TargetsWord = "held"
    scale: ScaleWord = "fixed"
    azimuths: tuple[tuple[int, float], ...] = ()
    instrument: str = ""
    collimation_rad: float | None = None
    index_rad: float | None = None

    def __post_init__(self) -> None:
        require_one_length(
            self,
            "target",
            "direction_rad",
            "zenith_rad",
            "distance_m",
            "target_height_m",
            "prism_m",
            "face",
            optional=("round", "time"),
        )
