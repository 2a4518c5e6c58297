"""Broadcast orbits: positions of satellites from the elements their own messages carry.

The user algorithm of IS-GPS-200 (table 20-IV), which Galileo (OS SIS ICD 5.1.1) and BeiDou's medium orbits
(B1C ICD 7.7, legacy message) share with constants of their own; from memory, checked against Kepler's laws
and rates in the tests. GLONASS's message carries a state instead: its circular orbits are kept here as
elements as well.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from datetime import UTC, datetime

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]

#: Gravitational constant times mass of the earth, m^3/s^2, and rotation of the earth, rad/s, by system.
MU = {"G": 3.986005e14, "E": 3.986004418e14, "C": 3.986004418e14, "R": 3.9860044e14}
OMEGA_EARTH = 7.2921151467e-5
SPEED_OF_LIGHT = 299_792_458.0
#: GPS time began at this UTC; it was 18 leap seconds ahead of UTC from 2017 on.
GPS_EPOCH = datetime(1980, 1, 6, tzinfo=UTC)
LEAP_SECONDS = 18
SECONDS_OF_WEEK = 604_800


@dataclass(frozen=True, slots=True, kw_only=True)
class Ephemeris:
    """Elements of one satellite at `toe_s` (seconds of GPS time since its beginning). Radians, metres,
    seconds; omega0 counted as the message counts it, from the meridian of Greenwich at the week's
    beginning."""

    system: str
    number: int
    toe_s: float
    sqrt_a: float
    eccentricity: float
    i0: float
    omega0: float
    perigee: float
    m0: float
    delta_n: float = 0.0
    omega_dot: float = 0.0
    i_dot: float = 0.0
    cuc: float = 0.0
    cus: float = 0.0
    crc: float = 0.0
    crs: float = 0.0
    cic: float = 0.0
    cis: float = 0.0

    @property
    def name(self) -> str:
        """System and number, as G07."""
        return f"{self.system}{self.number:02d}"


def gps_seconds(when: datetime) -> float:
    """Seconds of GPS time since its beginning of a time in UTC."""
    return (when - GPS_EPOCH).total_seconds() + LEAP_SECONDS


class Constellation:
    """Satellites whose positions are computed together."""

    def __init__(self, ephemerides: Sequence[Ephemeris]) -> None:
        self.ephemerides = tuple(ephemerides)
        self.names = tuple(e.name for e in ephemerides)
        self.systems = np.array([e.system for e in ephemerides])
        fields = [f for f in Ephemeris.__dataclass_fields__ if f not in ("system", "number")]
        self._of = {f: np.array([getattr(e, f) for e in ephemerides], dtype=float) for f in fields}
        self._mu = np.array([MU[e.system] for e in ephemerides])

    def __len__(self) -> int:
        return len(self.names)

    def positions(self, time_s: float) -> FloatArray:
        """Geocentric positions (3, n) in metres, axes fixed to the earth, at a time in seconds of GPS
        time."""
        o = self._of
        a = o["sqrt_a"] ** 2
        t = time_s - o["toe_s"]
        mean = o["m0"] + (np.sqrt(self._mu / a**3) + o["delta_n"]) * t
        e = o["eccentricity"]
        anomaly = mean + e * np.sin(mean)
        for _ in range(8):  # Newton; e is below 0.02
            anomaly -= (anomaly - e * np.sin(anomaly) - mean) / (1.0 - e * np.cos(anomaly))
        true = np.arctan2(np.sqrt(1.0 - e**2) * np.sin(anomaly), np.cos(anomaly) - e)
        phi = true + o["perigee"]
        s2, c2 = np.sin(2.0 * phi), np.cos(2.0 * phi)
        u = phi + o["cus"] * s2 + o["cuc"] * c2
        r = a * (1.0 - e * np.cos(anomaly)) + o["crs"] * s2 + o["crc"] * c2
        i = o["i0"] + o["i_dot"] * t + o["cis"] * s2 + o["cic"] * c2
        week = o["toe_s"] % SECONDS_OF_WEEK
        node = o["omega0"] + (o["omega_dot"] - OMEGA_EARTH) * t - OMEGA_EARTH * week
        x, y = r * np.cos(u), r * np.sin(u)
        return np.stack(
            [
                x * np.cos(node) - y * np.cos(i) * np.sin(node),
                x * np.sin(node) + y * np.cos(i) * np.cos(node),
                y * np.sin(i),
            ]
        )


#: The built-in sky: system, planes, satellites a plane, semi-major axis in metres, inclination in degrees,
#: phase between planes as a part of the distance within one. Nominal constellations, public knowledge; the
#: same every day.
_NOMINAL = (
    ("G", 6, 5, 26_559_710.0, 55.0, 0.33),
    ("R", 3, 8, 25_508_200.0, 64.8, 0.33),
    ("E", 3, 8, 29_600_318.0, 56.0, 0.33),
    ("C", 3, 8, 27_906_100.0, 55.0, 0.33),
)


def built_in(systems: str, time_s: float) -> Constellation:
    """Nominal orbits of the systems wanted (letters of GREC), with their elements at the week's beginning."""
    toe = time_s - time_s % SECONDS_OF_WEEK
    out: list[Ephemeris] = []
    for system, planes, each, axis, inclination, phase in _NOMINAL:
        if system not in systems:
            continue
        for k in range(planes * each):
            plane, slot = divmod(k, each)
            turn = 2.0 * np.pi
            out.append(
                Ephemeris(
                    system=system,
                    number=k + 1,
                    toe_s=toe,
                    sqrt_a=axis**0.5,
                    eccentricity=0.002 + 0.001 * (k % 5),
                    i0=inclination * np.pi / 180.0,
                    omega0=turn * plane / planes + 0.3 * "GREC".index(system),
                    perigee=turn * (k * 0.37 % 1.0),
                    m0=turn * ((slot + phase * plane) / each - k * 0.37 % 1.0),
                )
            )
    return Constellation(out)
