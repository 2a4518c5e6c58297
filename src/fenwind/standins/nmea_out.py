"""NMEA 0183 sentences of a receiver: GGA, GST, GSA, GSV, RMC (fields from memory, checked with pynmeagps)."""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import datetime

import numpy as np
from numpy.typing import NDArray

from fenwind.gnss.sky import Sky
from fenwind.quantities.angles import RAD_PER_DEGREE

#: Talker of each system's own sentences, its number in GSA, and what is added to its satellites' numbers.
_TALKERS = {"G": ("GP", 1, 0), "R": ("GL", 2, 64), "E": ("GA", 3, 0), "C": ("GB", 4, 0)}


@dataclass(frozen=True, kw_only=True, eq=False)
class Fix:
    """What a receiver says of an epoch: position of its ARP (radians, ellipsoidal metres), sigmas east,
    north, up in metres, quality as GGA counts it, age of the corrections in seconds (None without), and
    its sky."""

    time: datetime
    lat: float
    lon: float
    h: float
    sigma: tuple[float, float, float]
    quality: int
    age: float | None
    sky: Sky


def strength_dbhz(elevation: NDArray[np.float64]) -> NDArray[np.float64]:
    """C/N0 in dB-Hz that a satellite at an elevation (radians) is received with: weak at the horizon, where
    the antenna's gain falls off (common practice, no source)."""
    return 35.0 + 15.0 * np.sin(elevation)


def sentence(body: str) -> bytes:
    """A sentence with its checksum."""
    total = 0
    for letter in body.encode("ascii"):
        total ^= letter
    return f"${body}*{total:02X}\r\n".encode("ascii")


def epoch(fix: Fix, separation_m: float) -> bytes:
    """All sentences of an epoch, GGA first."""
    clock = fix.time.strftime("%H%M%S.") + f"{fix.time.microsecond // 10000:02d}"
    place = f"{_angle(fix.lat, 2, 'NS')},{_angle(fix.lon, 3, 'EW')}" if fix.quality else ",,,"
    pdop, hdop, vdop = (min(v, 99.9) for v in fix.sky.dop())
    count = min(len(fix.sky.names), 99)
    age = "" if fix.age is None else f"{fix.age:.1f}"
    height = f"{fix.h - separation_m:.4f},M,{separation_m:.4f},M" if fix.quality else ",M,,M"
    station = "0001" if fix.age is not None else ""
    out = [f"GNGGA,{clock},{place},{fix.quality},{count:02d},{hdop:.2f},{height},{age},{station}"]
    if fix.quality:
        e, n, u = fix.sigma
        ellipse = f"{math.hypot(e, n):.4f},{max(e, n):.4f},{min(e, n):.4f},0.0"
        out.append(f"GNGST,{clock},{ellipse},{n:.4f},{e:.4f},{u:.4f}")
    out += _used(fix, pdop, hdop, vdop)
    out += _in_view(fix.sky)
    mode = {0: "N", 1: "A", 2: "D", 4: "R", 5: "F"}[fix.quality]
    valid = "A" if fix.quality else "V"
    out.append(f"GNRMC,{clock},{valid},{place},0.00,,{fix.time.strftime('%d%m%y')},,,{mode},V")
    return b"".join(sentence(body) for body in out)


def _angle(angle_rad: float, digits: int, letters: str) -> str:
    """Degrees and minutes with 8 decimals, and the letter of the half."""
    minutes = round(abs(angle_rad) / RAD_PER_DEGREE * 60.0, 8)
    whole, rest = divmod(minutes, 60.0)
    return f"{int(whole):0{digits}d}{rest:011.8f},{letters[0 if angle_rad >= 0 else 1]}"


def _used(fix: Fix, pdop: float, hdop: float, vdop: float) -> list[str]:
    """GSA, one a system."""
    out = []
    for system, (_, number, more) in _TALKERS.items():
        used = [int(n[1:]) + more for n in fix.sky.names if n[0] == system][:12]
        if used:
            cells = ",".join(f"{n:02d}" for n in used) + "," * (12 - len(used))
            mode = 3 if fix.quality else 1
            out.append(f"GNGSA,A,{mode},{cells},{pdop:.2f},{hdop:.2f},{vdop:.2f},{number}")
    return out


def _in_view(sky: Sky) -> list[str]:
    """GSV, one series a system, four satellites a sentence."""
    out = []
    for system, (talker, _, more) in _TALKERS.items():
        rows = np.flatnonzero(sky.systems == system)
        pages = -(-len(rows) // 4)
        for page in range(pages):
            cells = []
            for i in rows[4 * page : 4 * page + 4]:
                elevation, azimuth = (
                    round(float(v) / RAD_PER_DEGREE) for v in (sky.elevation[i], sky.azimuth[i])
                )
                strength = round(float(strength_dbhz(sky.elevation[i])))
                cells.append(
                    f"{int(sky.names[i][1:]) + more:02d},{elevation:02d},{azimuth % 360:03d},{strength}"
                )
            out.append(f"{talker}GSV,{pages},{page + 1},{len(rows):02d},{','.join(cells)},1")
    return out
