"""RTCM 3 messages as a base sends them: the position of its antenna reference point, what it is, and
observations.

RTCM 10403.3 (fields and scales from memory, checked by decoding with pyrtcm). The observations are
geometry without noise: ranges from the sky of the stand-in, good for counting satellites and looking at
messages, not for positioning.
"""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from pyrtcm import calc_crc24q

from fenwind.gnss.orbits import SPEED_OF_LIGHT
from fenwind.gnss.sky import Sky

FloatArray = NDArray[np.float64]

MS = SPEED_OF_LIGHT / 1000.0
#: MSM numbers by system (the last digit is the type: 4 or 7), and two signals of each (positions in the
#: mask).
_MSM = {"G": 1070, "R": 1080, "E": 1090, "C": 1120}
_SIGNALS = {"G": (2, 15), "R": (2, 8), "E": (2, 15), "C": (2, 14)}
STATION = 1


class Bits:
    """Bits put one after the other, the first the highest."""

    def __init__(self) -> None:
        self._value, self.length = 0, 0

    def put(self, value: int, width: int) -> Bits:
        """Add an unsigned number, or a signed one as its two's complement."""
        self._value = (self._value << width) | (int(value) & ((1 << width) - 1))
        self.length += width
        return self

    def text(self, text: str) -> Bits:
        """Add a counted text of ASCII letters."""
        self.put(len(text), 8)
        for letter in text.encode("ascii", "replace"):
            self.put(letter, 8)
        return self

    def frame(self) -> bytes:
        """The message with preamble, length and CRC."""
        size = -(-self.length // 8)
        body = (self._value << (8 * size - self.length)).to_bytes(size, "big")
        head = b"\xd3" + size.to_bytes(2, "big")
        crc: int = calc_crc24q(head + body)
        return head + body + crc.to_bytes(3, "big")


def station(xyz_m: FloatArray, height_m: float | None = None) -> bytes:
    """1005, or 1006 with the antenna's height over the mark: the ARP to a tenth of a millimetre."""
    bits = Bits().put(1005 if height_m is None else 1006, 12).put(STATION, 12).put(0, 6)
    bits.put(1, 1).put(1, 1).put(1, 1).put(0, 1)  # GPS, GLONASS, Galileo; a real station
    x, y, z = (round(float(v) * 1e4) for v in xyz_m)
    bits.put(x, 38).put(0, 1).put(0, 1).put(y, 38).put(0, 2).put(z, 38)
    if height_m is not None:
        bits.put(round(height_m * 1e4), 16)
    return bits.frame()


def describe(antenna: str, receiver: str) -> bytes:
    """1033: antenna and receiver in words."""
    bits = Bits().put(1033, 12).put(STATION, 12).text(antenna[:31]).put(0, 8).text("")
    return bits.text(receiver[:31]).text("1.0").text("").frame()


def glonass_biases() -> bytes:
    """1230: no biases between GLONASS code and phase."""
    bits = Bits().put(1230, 12).put(STATION, 12).put(1, 1).put(0, 3).put(0b1111, 4)
    for _ in range(4):
        bits.put(0, 16)
    return bits.frame()


def _of_day(time_s: float) -> int:
    """Milliseconds of the week in GPS time."""
    return round(time_s % 604_800.0 * 1000.0)


def _glonass_time(time_s: float) -> tuple[int, int]:
    """Day of the week and milliseconds of the day in GLONASS time (UTC and three hours)."""
    own = time_s - 18.0 + 10_800.0
    return int(own % 604_800.0 // 86_400.0), round(own % 86_400.0 * 1000.0)


def msm(system: str, sky: Sky, time_s: float, kind: int, more: bool) -> bytes:
    """MSM4 or MSM7 of one system; `more` follow of the same epoch."""
    rows = np.flatnonzero(sky.systems == system)
    numbers = [int(sky.names[i][1:]) for i in rows]
    rows = rows[np.argsort(numbers)]
    numbers = sorted(numbers)
    bits = Bits().put(_MSM[system] + kind, 12).put(STATION, 12)
    if system == "R":
        day, milliseconds = _glonass_time(time_s)
        bits.put(day, 3).put(milliseconds, 27)
    elif system == "C":
        bits.put(_of_day(time_s - 14.0), 30)
    else:
        bits.put(_of_day(time_s), 30)
    bits.put(more, 1).put(0, 3).put(0, 7).put(0, 2).put(0, 2).put(0, 1).put(0, 3)
    bits.put(sum(1 << (64 - n) for n in numbers), 64)
    signals = _SIGNALS[system]
    bits.put(sum(1 << (32 - s) for s in signals), 32)
    cells = len(numbers) * len(signals)
    bits.put((1 << cells) - 1, cells)
    times = sky.range_m[rows] / MS
    whole, rough = np.floor(times), np.floor((times % 1.0) * 1024.0)
    fine = times - whole - rough / 1024.0
    for value in whole:
        bits.put(int(value), 8)
    if kind == 7:
        for _ in rows:
            bits.put(0, 4)
    for value in rough:
        bits.put(int(value), 10)
    if kind == 7:
        for _ in rows:
            bits.put(0, 14)
    _cells(bits, fine, len(signals), kind, sky.elevation[rows])
    return bits.frame()


def _cells(bits: Bits, fine: FloatArray, signals: int, kind: int, elevation: FloatArray) -> None:
    """What each signal of each satellite says beyond its rough range: code, phase, lock, strength, rate."""
    code_scale, code_width, phase_scale, phase_width = (
        (2.0**24, 15, 2.0**29, 22) if kind == 4 else (2.0**29, 20, 2.0**31, 24)
    )
    values = np.repeat(fine, signals)
    strength = np.repeat(35.0 + 15.0 * np.sin(elevation), signals)
    for value in values:
        bits.put(round(value * code_scale), code_width)
    for value in values:
        bits.put(round(value * phase_scale), phase_width)
    for _ in values:
        bits.put(15 if kind == 4 else 700, 4 if kind == 4 else 10)
    for _ in values:
        bits.put(0, 1)
    for value in strength:
        bits.put(round(value) if kind == 4 else round(value * 16.0), 6 if kind == 4 else 10)
    if kind == 7:
        for _ in values:
            bits.put(0, 15)


def legacy(system: str, sky: Sky, time_s: float, more: bool) -> bytes:
    """1004 (GPS) or 1012 (GLONASS): the older messages, of two systems only."""
    rows = np.flatnonzero(sky.systems == system)
    gps = system == "G"
    bits = Bits().put(1004 if gps else 1012, 12).put(STATION, 12)
    bits.put(_of_day(time_s) if gps else _glonass_time(time_s)[1], 30 if gps else 27)
    bits.put(more, 1).put(len(rows), 5).put(0, 1).put(0, 3)
    step = MS if gps else 2.0 * MS
    for i in rows:
        whole, rest = divmod(float(sky.range_m[i]), step)
        bits.put(int(sky.names[i][1:]), 6).put(0, 1)
        if not gps:
            bits.put(7, 5)
        bits.put(round(rest / 0.02), 24 if gps else 25).put(0, 20).put(120, 7)
        bits.put(int(whole), 8 if gps else 7).put(180, 8)
        bits.put(0, 2).put(0, 14).put(0, 20).put(120, 7).put(180, 8)
    return bits.frame()
