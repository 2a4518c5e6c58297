"""The position of one receiver by its ranges: the mean of a static session.

Least squares with a clock for every epoch and a bias for every further system, robust by weights that fall
with the residual; its covariance counts that errors are correlated in time (Newey and West, 1987) and that a
satellite's orbit and clock are off for as long as it is seen.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.geodesy.geocentric import GRS80_A, GRS80_F, enu_axes, from_xyz
from fenwind.gnss.atmosphere import klobuchar_delay, tropospheric_delay
from fenwind.gnss.gps_time import TICKS, decimal_year
from fenwind.gnss.observations import Observations
from fenwind.gnss.other_files import AntennaType
from fenwind.gnss.ranges import Rows, geometry, ionosphere_free, phase_centre, rows_of, seconds_of
from fenwind.gnss.satellites import Sky, group_delay, satellite_name
from fenwind.gnss.signals import SPEED_OF_LIGHT, Signal
from fenwind.quantities.angles import RAD_PER_DEGREE

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

#: One sigma of a range at the zenith, metres: one signal, the combination of two, with the ionosphere left.
SIGMA_ONE, SIGMA_TWO = 1.5, 1.0
#: How far a satellite's orbit and clock are off, metres: broadcast, precise.
ORBIT_OFF = {False: 0.6, True: 0.05}
#: Residuals over so many robust sigmas count less, and over so many not at all.
HUBER, OUT = 2.5, 6.0
LETTERS = "GREC"


@dataclass(frozen=True, kw_only=True)
class PointOptions:
    """mask in radians; height of the antenna reference point over the mark, east and north, metres."""

    systems: str = "GREC"
    mask: float = 10.0 * RAD_PER_DEGREE
    delta: tuple[float, float, float] = (0.0, 0.0, 0.0)
    antenna: AntennaType | None = None
    ionosphere: Mapping[str, tuple[float, ...]] = field(default_factory=dict)
    precise: bool = False


@dataclass(frozen=True, kw_only=True, eq=False)
class PointResult:
    """Position (3,) of the mark, geocentric; covariance (3, 3) of east, north, up; epochs (ticks) that took
    part; used: satellite to epochs; share of the observations over the mask; biases of further systems;
    clock (n,) of the receiver by epoch of the file, seconds, nan where it is not known."""

    xyz: FloatArray
    covariance: FloatArray
    ticks: IntArray
    used: dict[str, int]
    share: float
    biases: dict[str, float]
    rms: float
    clock: FloatArray


def point(
    obs: Observations, sky: Sky, signals: Mapping[str, Sequence[Signal]], options: PointOptions
) -> PointResult:
    """The position. Raises ProcedureError where too little was observed."""
    parts = [
        _System(rows_of(obs, s, tuple(signals[s][:2])), k)
        for k, s in enumerate([s for s in LETTERS + "J" if s in options.systems and signals.get(s)])
    ]
    if not parts:
        raise ProcedureError(
            "no system of these has observations here", hint="Choose other systems with --systems"
        )
    time = seconds_of(obs, sky.start)
    xyz = _start(obs, sky, parts, time)
    for _ in range(2):
        found = _solve(obs, sky, parts, time, xyz, options)
        xyz = found.xyz
    lat, lon, _ = (float(v) for v in from_xyz(found.xyz, GRS80_A, GRS80_F))
    axes = enu_axes(np.array([lat]), np.array([lon]))[:, :, 0]
    height, east, north = options.delta
    mark = found.xyz - axes.T @ np.array([east, north, height])
    return replace(found, xyz=mark, covariance=axes @ found.covariance @ axes.T)


class _System:
    """A system's rows that have all the ranges used."""

    def __init__(self, rows: Rows, index: int) -> None:
        fine = np.flatnonzero(np.isfinite(rows.ranges).all(axis=1) & np.isfinite(rows.frequency).all(axis=1))
        self.rows, self.index = rows.take(fine), index
        self.two = rows.ranges.shape[1] == 2
        r = self.rows
        self.range = ionosphere_free(r.ranges, r.frequency) if self.two else r.ranges[:, 0]


def _start(obs: Observations, sky: Sky, parts: Sequence[_System], time: FloatArray) -> FloatArray:
    """About where the receiver is: from the middle of the earth on, by a few epochs, whatever single ranges
    and messages say."""
    some = np.unique(np.linspace(0, time.size - 1, 20).astype(int))
    xyz = np.zeros(3)
    for _ in range(15):
        a, y, group = [], [], []
        for part in parts:
            rows = np.flatnonzero(np.isin(part.rows.epoch, some))
            range_, epoch = part.range[rows], part.rows.epoch[rows]
            if not rows.size:
                continue
            travel = range_ / SPEED_OF_LIGHT
            g = geometry(
                sky,
                part.rows.code[rows],
                time[epoch],
                xyz if xyz.any() else np.array([1.0, 1.0, 1.0]),
                travel,
            )
            fine = np.isfinite(g.distance) & np.isfinite(g.clock)
            a.append(-g.way[:, fine].T)
            y.append((range_ + SPEED_OF_LIGHT * g.clock - g.distance)[fine])
            group.append(part.index * time.size + epoch[fine])
        if not a:
            break
        design, miss, which = np.concatenate(a), np.concatenate(y), np.concatenate(group)
        _, which = np.unique(which, return_inverse=True)
        count = np.bincount(which)
        if miss.size - count.size < 3:
            raise ProcedureError(
                "too few satellites are seen together for a position",
                hint="Give the navigation file of that day, or a lower mask",
            )
        step = _least_absolute(design, miss, which)
        xyz = xyz + step
        if np.abs(step).max() < 1.0:
            break
    radius = float(np.linalg.norm(xyz))
    if not 6.2e6 < radius < 6.5e6:
        raise ProcedureError(
            "the ranges lead to no place on earth", hint="Give the navigation file of that day"
        )
    return xyz


def _least_absolute(design: FloatArray, miss: FloatArray, group: IntArray) -> FloatArray:
    """Unknowns (3,) with the least sum of absolute misses, less a clock of each group: by weights that fall
    with the miss, again and again."""
    weight = np.ones(miss.shape)
    step: FloatArray = np.zeros(design.shape[1])
    for _ in range(12):
        total = np.bincount(group, weight)
        clock = (np.bincount(group, weight * miss) / total)[group]
        centre = np.stack([np.bincount(group, weight * c) / total for c in design.T], axis=1)[group]
        root = np.sqrt(weight)
        found = np.linalg.lstsq(root[:, None] * (design - centre), root * (miss - clock), rcond=None)
        step = np.asarray(found[0], dtype=np.float64)
        rest = np.abs(miss - clock - (design - centre) @ step)
        weight = 1.0 / np.maximum(rest, max(float(np.median(rest)), 1.0))
    return np.asarray(step)


def _solve(
    obs: Observations, sky: Sky, parts: Sequence[_System], time: FloatArray, xyz: FloatArray,
    options: PointOptions,
) -> PointResult:  # fmt: skip
    lat, lon, h = (float(v) for v in from_xyz(xyz, GRS80_A, GRS80_F))
    axes = enu_axes(np.array([lat]), np.array([lon]))[:, :, 0]
    day = (decimal_year(int(obs.ticks[0])) % 1.0) * 365.25
    design, miss, sigma, epoch, code, system = [], [], [], [], [], []
    for part in parts:
        r = part.rows
        g = geometry(sky, r.code, time[r.epoch], xyz, part.range / SPEED_OF_LIGHT)
        seen = np.flatnonzero(np.isfinite(g.distance) & np.isfinite(g.clock) & (g.elevation > options.mask))
        correction = tropospheric_delay(g.elevation[seen], lat, min(max(h, -500.0), 9000.0), day)
        bands = tuple(s.band for s in r.signals)
        centre = phase_centre(options.antenna, r.system, bands, axes @ g.way[:, seen])
        delays = np.stack(
            [SPEED_OF_LIGHT * group_delay(r.system, b, float(np.nanmean(r.frequency[:, k])), g.delays[seen])
             for k, b in enumerate(bands)], axis=1,
        ) + centre  # fmt: skip
        if part.two:
            correction = correction + ionosphere_free(delays, r.frequency[seen])
        else:
            slant = _ionosphere(
                options, lat, lon, g.azimuth[seen], g.elevation[seen], obs.ticks[r.epoch[seen]]
            )
            correction = correction + delays[:, 0] + slant * (1575.42e6 / r.frequency[seen, 0]) ** 2
        design.append(-g.way[:, seen].T)
        miss.append(part.range[seen] + SPEED_OF_LIGHT * g.clock[seen] - g.distance[seen] - correction)
        sigma.append((SIGMA_TWO if part.two else SIGMA_ONE) / np.sin(g.elevation[seen]))
        epoch.append(r.epoch[seen])
        code.append(r.code[seen])
        system.append(np.full(seen.size, part.index))
    return _adjusted(
        xyz, np.concatenate(design), np.concatenate(miss), np.concatenate(sigma), np.concatenate(epoch),
        np.concatenate(code), np.concatenate(system), [p.rows.system for p in parts], obs.ticks, options,
    )  # fmt: skip


def _ionosphere(
    options: PointOptions, lat: float, lon: float, azimuth: FloatArray, elevation: FloatArray, ticks: IntArray
) -> FloatArray:
    alpha, beta = options.ionosphere.get("GPSA"), options.ionosphere.get("GPSB")
    if alpha is None or beta is None or len(alpha) < 4 or len(beta) < 4:
        return np.zeros(azimuth.shape)
    second = (ticks / TICKS) % 86400.0
    return klobuchar_delay(alpha[:4], beta[:4], lat, lon, azimuth, elevation, second)


def _adjusted(
    xyz: FloatArray, design: FloatArray, miss: FloatArray, sigma: FloatArray, epoch: IntArray, code: IntArray,
    system: IntArray, letters: Sequence[str], ticks: IntArray, options: PointOptions,
) -> PointResult:  # fmt: skip
    """Position of the antenna and biases with the clock of every epoch taken out; covariance (3, 3)
    geocentric, m^2; ticks (n,): all epochs of the file."""
    present = np.unique(system)
    others = [int(s) for s in present if s != present[0]]
    if others:
        design = np.concatenate([design, *[(system == s).astype(float)[:, None] for s in others]], axis=1)
    epochs, group = np.unique(epoch, return_inverse=True)
    weight = 1.0 / sigma**2
    robust: FloatArray = np.ones(miss.shape)
    x: FloatArray = np.zeros(design.shape[1])
    for _ in range(8):
        w = weight * robust
        total = np.bincount(group, w, epochs.size)
        safe = np.where(total > 0.0, total, 1.0)
        centre = np.stack([np.bincount(group, w * c, epochs.size) / safe for c in design.T], axis=1)
        apart, rest = design - centre[group], miss - (np.bincount(group, w * miss, epochs.size) / safe)[group]
        normal = apart.T @ (w[:, None] * apart)
        if (
            np.linalg.matrix_rank(normal / max(float(np.abs(normal).max()), 1e-300), tol=1e-12)
            < design.shape[1]
        ):
            raise ProcedureError(
                "too few satellites are seen together for a position",
                hint="Give the navigation file of that day, or a lower mask",
            )
        x = np.asarray(np.linalg.solve(normal, apart.T @ (w * rest)), dtype=np.float64)
        residual = rest - apart @ x
        size: FloatArray = np.abs(residual) / sigma
        spread = max(1.4826 * float(np.median(size[robust > 0.0])), 1e-6)
        size = size / spread
        fresh = np.where(size <= HUBER, 1.0, np.where(size < OUT, HUBER / np.maximum(size, 1e-9), 0.0))
        if np.abs(fresh - robust).max() < 0.01:
            break
        robust = fresh
    took = robust > 0.0
    inverse = np.linalg.inv(normal)
    score = apart * (w * residual)[:, None]
    meat = _long_run(score, group, epochs.size) + _by_satellite(apart, w, code, ORBIT_OFF[options.precise])
    covariance = (inverse @ meat @ inverse)[:3, :3]
    clock = np.full(ticks.shape, np.nan)
    clock[epochs] = (np.bincount(group, w * (miss - design @ x), epochs.size) / safe) / SPEED_OF_LIGHT
    numbers, count = np.unique(code[took], return_counts=True)
    biases = {letters[int(present[0])]: 0.0} | {letters[s]: float(x[3 + k]) for k, s in enumerate(others)}
    return PointResult(
        xyz=xyz + x[:3], covariance=covariance, ticks=ticks[np.unique(epoch[took])],
        used={satellite_name(int(n)): int(c) for n, c in zip(numbers, count, strict=True)},
        share=float(took.mean()), biases=biases, rms=float(np.sqrt(np.mean(residual[took] ** 2))),
        clock=clock,
    )  # fmt: skip


def _long_run(score: FloatArray, group: IntArray, count: int) -> FloatArray:
    """Covariance of the sum of the scores with what epochs have in common over a quarter of the session, by
    Bartlett's weights."""
    by_epoch = np.stack([np.bincount(group, c, count) for c in score.T], axis=1)
    reach = max(1, count // 4)
    total: FloatArray = np.asarray(by_epoch.T @ by_epoch)
    for lag in range(1, min(reach, 400)):
        cross = by_epoch[lag:].T @ by_epoch[:-lag]
        total = total + (1.0 - lag / reach) * (cross + cross.T)
    return np.asarray(total)


def _by_satellite(apart: FloatArray, weight: FloatArray, code: IntArray, sigma: float) -> FloatArray:
    """Covariance of the sum of the scores by an error of each satellite that stays."""
    _, group = np.unique(code, return_inverse=True)
    sums = np.stack([np.bincount(group, weight * c) for c in apart.T], axis=1)
    return np.asarray(sums.T @ sums * sigma**2)
