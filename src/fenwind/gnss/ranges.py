"""Ranges and phases of one receiver with the geometry that belongs to them: rows of satellites and epochs."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.geocentric import GRS80_A, GRS80_F, enu_axes, from_xyz
from fenwind.gnss.gps_time import TICKS
from fenwind.gnss.observations import Observations
from fenwind.gnss.orbits import OMEGA_EARTH
from fenwind.gnss.other_files import AntennaType
from fenwind.gnss.satellites import Sky, satellite_code
from fenwind.gnss.signals import SPEED_OF_LIGHT, Signal, frequencies

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]


@dataclass(frozen=True, kw_only=True, eq=False)
class Rows:
    """Observations of one system by the signals used (k of them): epoch (m,) rows of the file, satellite
    codes (m,), ranges and phases (m, k) in metres, nan where missing, frequency (m, k), slip (m, k) where the
    receiver says that a phase was lost, half (m, k) where half a cycle is open."""

    system: str
    signals: tuple[Signal, ...]
    epoch: IntArray
    code: IntArray
    ranges: FloatArray
    phases: FloatArray
    frequency: FloatArray
    slip: NDArray[np.bool_]
    half: NDArray[np.bool_]

    def take(self, rows: NDArray[np.intp]) -> Rows:
        """Some rows."""
        return Rows(
            system=self.system, signals=self.signals, epoch=self.epoch[rows], code=self.code[rows],
            ranges=self.ranges[rows], phases=self.phases[rows], frequency=self.frequency[rows],
            slip=self.slip[rows], half=self.half[rows],
        )  # fmt: skip


def rows_of(obs: Observations, system: str, signals: tuple[Signal, ...]) -> Rows:
    """A system's observations by its signals."""
    data = obs.systems[system]
    ranges, phases, slip, half, frequency = [], [], [], [], []
    for signal in signals:
        f = frequencies(system, signal.band, data.number, obs.header.slots)
        value, _ = signal.column(data, signal.ranges)
        cycles, lli = signal.column(data, signal.phases)
        ranges.append(value)
        phases.append(cycles * SPEED_OF_LIGHT / f)
        slip.append((lli & 1) > 0)
        half.append((lli & 2) > 0)
        frequency.append(f)
    return Rows(
        system=system, signals=signals, epoch=data.epoch, code=satellite_code(system, data.number),
        ranges=np.stack(ranges, axis=1), phases=np.stack(phases, axis=1),
        frequency=np.stack(frequency, axis=1),
        slip=np.stack(slip, axis=1), half=np.stack(half, axis=1),
    )  # fmt: skip


@dataclass(frozen=True, kw_only=True, eq=False)
class Geometry:
    """Satellites as a receiver sees them (m,): distance in metres, unit vectors from the receiver (3, m),
    elevation and azimuth in radians, satellite clock in seconds, group delays (m, 2) of the message."""

    distance: FloatArray
    way: FloatArray
    elevation: FloatArray
    azimuth: FloatArray
    clock: FloatArray
    delays: FloatArray


def geometry(sky: Sky, code: IntArray, received: FloatArray, xyz: FloatArray, travel: FloatArray) -> Geometry:
    """Geometry of signals that came to a place (3,). received - travel (m,): when they left by the
    satellites' own clocks, seconds of GPS time after the sky's start; a receiver's tag less its range."""
    left = received - travel
    clock = sky.states(code, left).clock
    state = sky.states(code, left - np.where(np.isfinite(clock), clock, 0.0))
    x, y, z = state.xyz
    length = np.full(travel.shape, 2.2e7)
    for _ in range(3):  # the earth turns while the signal is under way
        turn = OMEGA_EARTH * length / SPEED_OF_LIGHT
        turned = np.stack([x * np.cos(turn) + y * np.sin(turn), -x * np.sin(turn) + y * np.cos(turn), z])
        away = turned - xyz[:, None]
        length = np.sqrt((away**2).sum(axis=0))
    way = away / length
    lat, lon, _ = from_xyz(xyz, GRS80_A, GRS80_F)
    enu = enu_axes(np.atleast_1d(lat), np.atleast_1d(lon))[:, :, 0] @ way
    return Geometry(
        distance=length, way=way, elevation=np.arcsin(np.clip(enu[2], -1.0, 1.0)),
        azimuth=np.arctan2(enu[0], enu[1]), clock=state.clock, delays=state.delays,
    )  # fmt: skip


def seconds_of(obs: Observations, start: int) -> FloatArray:
    """Times (n,) of a file's epochs, seconds after `start`."""
    return np.asarray((obs.ticks - start) / TICKS, dtype=np.float64)


def phase_centre(
    antenna: AntennaType | None, system: str, bands: tuple[str, ...], way_enu: FloatArray
) -> FloatArray:
    """How much longer (m, k) the way to the antenna reference point is told, metres, for the bands used:
    pattern less offset along the way (ANTEX 1.4); zero without an antenna. A band that the antenna lacks
    takes that of GPS next to it."""
    out = np.zeros((way_enu.shape[1], len(bands)))
    if antenna is None:
        return out
    zenith = np.degrees(np.arccos(np.clip(way_enu[2], -1.0, 1.0)))
    azimuth = np.degrees(np.arctan2(way_enu[0], way_enu[1])) % 360.0
    for k, band in enumerate(bands):
        names = (f"{system}0{band}", "G01" if band in "1" or (system, band) == ("C", "2") else "G02", "G01")
        found = next((antenna.frequencies[n] for n in names if n in antenna.frequencies), None)
        if found is None:
            continue
        north, east, up = found.offset
        along = east * way_enu[0] + north * way_enu[1] + up * way_enu[2]
        out[:, k] = _pattern(found.zenith, found.variation, zenith, azimuth) - along
    return out


def _pattern(grid: FloatArray, variation: FloatArray, zenith: FloatArray, azimuth: FloatArray) -> FloatArray:
    z = np.clip(zenith, grid[0], grid[-1])
    rows = variation[:, : grid.size]
    if rows.shape[0] == 1:
        return np.asarray(np.interp(z, grid, rows[0]))
    step = 360.0 / (rows.shape[0] - 1)
    low = np.minimum((azimuth // step).astype(int), rows.shape[0] - 2)
    share = azimuth / step - low
    by_row = np.stack([np.interp(z, grid, row) for row in rows])
    every = np.arange(z.size)
    return np.asarray((1.0 - share) * by_row[low, every] + share * by_row[low + 1, every])


def ionosphere_free(values: FloatArray, frequency: FloatArray) -> FloatArray:
    """The combination (m,) of two signals (m, 2) that the ionosphere falls out of."""
    one, two = frequency[:, 0] ** 2, frequency[:, 1] ** 2
    return np.asarray((one * values[:, 0] - two * values[:, 1]) / (one - two))
