"""Precise orbits (SP3-c, SP3-d), clocks (RINEX clock) and antenna corrections (ANTEX 1.4); from memory of the
published formats (NGS 2016, IGS 2010)."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FormatError
from fenwind.gnss.gps_time import TICKS, ticks_of, to_gps

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]


@dataclass(frozen=True, kw_only=True, eq=False)
class Orbits:
    """Positions of satellites at times (n,) in ticks of GPS time: xyz (3, n, s) metres, clock (n, s) seconds,
    nan where there is none."""

    path: str
    version: str
    names: tuple[str, ...]
    ticks: IntArray
    xyz: FloatArray
    clock: FloatArray
    frame: str = ""
    skipped: int = 0


def read_orbits(data: bytes, path: str) -> Orbits:
    """An SP3 file. Raises FormatError for one that is none, or holds no epoch."""
    lines = data.decode("ascii", "replace").splitlines()
    if not lines or lines[0][:1] != "#" or lines[0][1:2] not in "abcd":
        raise FormatError("this is no SP3 file", where=f"{path}, line 1", hint="Give SP3-c or SP3-d orbits")
    system = next((line[9:12] for line in lines if line.startswith("%c")), "GPS")
    epochs: list[int] = []
    rows: dict[str, dict[int, list[float]]] = {}
    skipped = 0
    for line in lines[1:]:
        if line.startswith("* "):
            when = _time(line[3:31])
            skipped += when is None
            epochs += [] if when is None else [when]
        elif line[:1] == "P" and epochs:
            found = _position(line)
            skipped += found is None
            if found is not None and any(found[1][:3]):
                rows.setdefault(found[0], {})[len(epochs) - 1] = found[1]
    if not epochs:
        raise FormatError("there is no epoch in it", where=path, hint="Give SP3-c or SP3-d orbits")
    names = tuple(sorted(rows))
    every = np.full((4, len(epochs), len(names)), np.nan)
    for s, name in enumerate(names):
        for k, values4 in rows[name].items():
            every[:, k, s] = values4
    ticks = to_gps(np.array(epochs, dtype=np.int64), system if system in ("UTC", "GLO", "BDT") else "GPS")
    return Orbits(
        path=path, version=lines[0][1:2], names=names, ticks=ticks, xyz=every[:3], clock=every[3],
        frame=lines[0][46:51].strip(), skipped=skipped,
    )  # fmt: skip


def _position(line: str) -> tuple[str, list[float]] | None:
    """Satellite, place in metres and clock in seconds of a line of positions; None where it is none."""
    try:
        name = f"{line[1:2].strip() or 'G'}{int(line[2:4]):02d}"
        x, y, z, clock = (float(line[4 + 14 * k : 18 + 14 * k]) for k in range(4))
    except ValueError:
        return None
    return name, [x * 1e3, y * 1e3, z * 1e3, clock * 1e-6 if abs(clock) < 999999.0 else np.nan]


def _time(text: str) -> int | None:
    try:
        year, month, day, hour, minute = (
            int(v) for v in (text[:4], text[5:7], text[8:10], text[11:13], text[14:16])
        )
        tick = round(float(text[17:]) * TICKS)
    except ValueError:
        return None
    if not (1 <= month <= 12 and 1 <= day <= 31 and hour < 24 and minute < 60):
        return None
    return int(ticks_of(*(np.array([v]) for v in (year, month, day, hour, minute, tick)))[0])


@dataclass(frozen=True, kw_only=True)
class Clocks:
    """A clock file: times in ticks of GPS time, and satellites it has clocks of."""

    version: str
    ticks: tuple[int, ...]
    satellites: tuple[str, ...]
    skipped: int = 0


def read_clocks(data: bytes, path: str) -> Clocks:
    """A RINEX clock file. Raises FormatError."""
    lines = data.decode("ascii", "replace").splitlines()
    end = next((i for i, line in enumerate(lines) if "END OF HEADER" in line), None)
    if end is None:
        raise FormatError("its header has no end", where=path, hint="Give a RINEX clock file")
    times: set[int] = set()
    names: set[str] = set()
    skipped = 0
    for line in lines[end + 1 :]:
        words = line.split()
        if not words or words[0] not in ("AS", "AR", "CR", "DR", "MS"):
            skipped += bool(words) and not line.startswith(" ")
            continue
        try:
            year, month, day, hour, minute = (int(v) for v in words[2:7])
            tick = round(float(words[7]) * TICKS)
            float(words[9].replace("D", "E"))
            when = int(ticks_of(*(np.array([v]) for v in (year, month, day, hour, minute, tick)))[0])
        except (ValueError, IndexError):
            skipped += 1
            continue
        times.add(when)
        if words[0] == "AS":
            names.add(words[1])
    if not times:
        raise FormatError("there is no clock in it", where=path, hint="Give a RINEX clock file")
    return Clocks(
        version=lines[0][:9].strip(),
        ticks=tuple(sorted(times)),
        satellites=tuple(sorted(names)),
        skipped=skipped,
    )


@dataclass(frozen=True, kw_only=True, eq=False)
class AntennaFrequency:
    """Phase centre of one frequency: offset north, east, up (3,) metres, and how it varies by zenith distance
    (a, z), metres, for azimuths (a,) in degrees, or for all alike (1, z)."""

    offset: FloatArray
    zenith: FloatArray
    variation: FloatArray


@dataclass(frozen=True, kw_only=True, eq=False)
class AntennaType:
    """A receiver's or satellite's antenna: its type of 20 columns and its frequencies by name, as G01."""

    kind: str
    serial: str
    frequencies: dict[str, AntennaFrequency] = field(default_factory=dict)


@dataclass(frozen=True, kw_only=True)
class Antennas:
    """An ANTEX file."""

    version: str
    types: tuple[AntennaType, ...]
    skipped: int = 0


def read_antennas(data: bytes, path: str) -> Antennas:
    """An ANTEX file. Raises FormatError."""
    lines = data.decode("ascii", "replace").splitlines()
    types: list[AntennaType] = []
    skipped = 0
    block: list[str] | None = None
    for line in lines:
        label = line[60:80].strip()
        if label == "START OF ANTENNA":
            skipped += block is not None
            block = []
        elif label == "END OF ANTENNA" and block is not None:
            found = _antenna(block)
            skipped += found is None
            types += [] if found is None else [found]
            block = None
        elif block is not None:
            block.append(line)
    skipped += block is not None
    if not types:
        raise FormatError("there is no antenna in it", where=path, hint="Give an ANTEX file")
    return Antennas(version=lines[0][:8].strip(), types=tuple(types), skipped=skipped)


def _antenna(block: list[str]) -> AntennaType | None:
    """The antenna of a block; None where it cannot be read."""
    labelled = {line[60:80].strip(): line for line in reversed(block)}
    kind = labelled.get("TYPE / SERIAL NO", "")
    try:
        ends = labelled.get("ZEN1 / ZEN2 / DZEN", "     0.0  90.0   5.0")
        low, high, step = (float(ends[2 + 6 * k : 8 + 6 * k]) for k in range(3))
        zenith = np.arange(low, high + 0.5 * step, step)
        starts = [i for i, line in enumerate(block) if line[60:].startswith("START OF FREQUENCY")]
        frequencies = {block[i][3:6].strip(): _frequency(block[i + 1 :], zenith) for i in starts}
    except (ValueError, ZeroDivisionError):
        return None
    if not kind[:20].strip():
        return None
    return AntennaType(kind=kind[:20].rstrip(), serial=kind[20:40].strip(), frequencies=frequencies)


def _frequency(lines: list[str], zenith: FloatArray) -> AntennaFrequency:
    """One frequency, from the line after its beginning on. Raises ValueError."""
    offset, rows = np.zeros(3), list[list[float]]()
    for line in lines:
        label = line[60:80].strip()
        if label == "END OF FREQUENCY":
            break
        if label == "NORTH / EAST / UP":
            offset = np.array([float(line[10 * k : 10 * k + 10]) for k in range(3)]) * 1e-3
        elif not label or line[:8].strip() == "NOAZI" or line[:8].strip().replace(".", "").isdigit():
            rows.append([float(v) for v in line[8:].split()])
    by_azimuth = rows[1:] or rows[:1]
    return AntennaFrequency(offset=offset, zenith=zenith, variation=np.array(by_azimuth) * 1e-3)
