"""Antenna heights: from what was measured to the antenna reference point (ARP).

vertical: mark to ARP. slant: mark to the rim of the antenna, ARP height = sqrt(slant^2 - radius^2) -
rim_offset. mount: mark to the bottom of the mount, ARP height = value + mount_offset. Common practice, no
source.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from typing import Literal

from fenwind.errors import ProcedureError

Method = Literal["vertical", "slant", "mount"]
METHODS: tuple[Method, ...] = ("vertical", "slant", "mount")
#: Heights of tripods, poles and pillars lie within these, metres.
LOWEST_M, HIGHEST_M = 0.0, 5.0
#: No length of an antenna is as large, metres.
MOST_M = 2.0


@dataclass(frozen=True, slots=True, kw_only=True)
class AntennaModel:
    """Radius from the axis to the rim, rim above the ARP, ARP above the bottom of the mount, and ARP to the
    phase centre of L1; metres."""

    model: str
    radius_m: float = 0.0
    rim_offset_m: float = 0.0
    mount_offset_m: float = 0.0
    arp_to_l1_m: float = 0.0


def reduced(value_m: float, method: str, antenna: AntennaModel | None) -> float:
    """Height of the ARP over the mark, metres. Raises ProcedureError for a method or a value that cannot
    be, or without the model that the method needs."""
    if method not in METHODS:
        raise ProcedureError(
            f"{method!r} is no way to measure an antenna height", hint=f"Use {', '.join(METHODS)}"
        )
    if not LOWEST_M <= value_m <= HIGHEST_M:
        raise ProcedureError(
            f"an antenna height of {value_m:g} m cannot be", hint=f"Give metres from 0 to {HIGHEST_M:g}"
        )
    if method == "vertical":
        return value_m
    if antenna is None:
        raise ProcedureError(
            f"a {method} height needs the antenna's model", hint="Name one of the job's antennas"
        )
    if method == "mount":
        return value_m + antenna.mount_offset_m
    if value_m <= antenna.radius_m:
        raise ProcedureError(
            f"a slant height of {value_m:g} m is shorter than the radius of {antenna.model}",
            hint="Measure from the mark to the rim",
        )
    return math.sqrt(value_m**2 - antenna.radius_m**2) - antenna.rim_offset_m


def arithmetic(value_m: float, method: str, antenna: AntennaModel | None) -> str:
    """The reduction as arithmetic, as in sqrt(1.8020² - 0.0750²) - 0.0250 = 1.7754 m."""
    height = reduced(value_m, method, antenna)
    if method == "slant" and antenna is not None:
        rim = f" - {antenna.rim_offset_m:.4f}" if antenna.rim_offset_m else ""
        return f"sqrt({value_m:.4f}² - {antenna.radius_m:.4f}²){rim} = {height:.4f} m"
    if method == "mount" and antenna is not None:
        return f"{value_m:.4f} + {antenna.mount_offset_m:.4f} = {height:.4f} m"
    return f"{value_m:.4f} m, vertical to the reference point"
