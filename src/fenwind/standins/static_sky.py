"""Raw observations of static receivers from a made-up sky with known truth: code and phase with noise,
multipath that is correlated in time, ionosphere, troposphere, clocks that jump, slips and gaps."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.geocentric import GRS80_A, GRS80_F, enu_axes, from_xyz
from fenwind.gnss.atmosphere import mapping, zenith_delays
from fenwind.gnss.broadcast import Message
from fenwind.gnss.gps_time import TICKS
from fenwind.gnss.observations import Header, SystemData
from fenwind.gnss.orbits import MU, OMEGA_EARTH, SECONDS_OF_WEEK, Constellation, Ephemeris, built_in
from fenwind.gnss.satellites import BroadcastSky, group_delay, satellite_code
from fenwind.gnss.signals import SPEED_OF_LIGHT, frequencies

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]

#: Signals that a receiver logs, by system.
LOGGED = {"G": ("1C", "2W"), "R": ("1C", "2C"), "E": ("1C", "5Q"), "C": ("2I", "6I")}
#: Coefficients of the broadcast ionosphere that belong to the made-up one, about.
IONOSPHERE = {"GPSA": (1.0e-8, 0.0, 0.0, 0.0), "GPSB": (9.0e4, 0.0, 0.0, 0.0)}
MASK = np.radians(8.0)


@dataclass(frozen=True, slots=True, kw_only=True)
class Noise:
    """One sigma at the zenith, metres: of code, of its multipath, of phase, of its multipath; how long
    multipath is correlated, seconds. All grow as 1 / sin of the elevation."""

    code: float = 0.25
    code_multipath: float = 0.3
    phase: float = 0.0012
    phase_multipath: float = 0.0014
    multipath_s: float = 150.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Air:
    """Vertical ionospheric delay of L1, metres, its gradients east and north in metres a kilometre; zenith
    wet delay over the standard atmosphere, metres, and its gradients."""

    ionosphere: float = 3.0
    ionosphere_e: float = 0.001
    ionosphere_n: float = -0.0015
    wet: float = 0.05
    wet_e: float = 0.0002
    wet_n: float = 0.0003


@dataclass(frozen=True, kw_only=True)
class Receiver:
    """A receiver over a mark: where the mark is (geocentric, metres), antenna height, and what troubles it.
    slips: (satellite, epoch) where all phases jump, with the flag where `flagged`; gaps: (first, last) epochs
    without data; clock: (offset, drift) seconds, and milliseconds jumped every so many epochs."""

    mark: str
    xyz: tuple[float, float, float]
    height: float = 1.5
    said_height: float | None = None
    antenna: str = "FENWIND-A       NONE"
    slips: tuple[tuple[str, int], ...] = ()
    flagged: bool = True
    gaps: tuple[tuple[int, int], ...] = ()
    clock: tuple[float, float, int] = (1e-4, 2e-8, 900)
    noise: Noise = field(default_factory=Noise)


def messages_of(start: int, hours: float, systems: str = "GREC") -> list[Message]:
    """Messages every two hours (GLONASS's every half) of the built-in sky over a time from `start`, ticks of
    GPS time."""
    first = start / TICKS
    out: list[Message] = []
    for k in range(-1, int(hours // 2) + 3):
        at = np.floor(first / 7200.0) * 7200.0 + 7200.0 * k
        out += [_kepler_message(e, at) for e in built_in(systems.replace("R", ""), at).ephemerides]
    if "R" in systems:
        sky = built_in("R", first)
        for k in range(-1, int(hours * 2) + 3):
            at = np.floor(first / 1800.0) * 1800.0 + 1800.0 * k
            out += _states(sky, at)
    return out


def _kepler_message(e: Ephemeris, at: float) -> Message:
    """The elements of the week's beginning as a message of a later time: a mean anomaly that has run on."""
    since = at - e.toe_s
    n = np.sqrt(MU[e.system] / e.sqrt_a**6)
    behind = 14.0 if e.system == "C" else 0.0
    toe = (at - behind) % SECONDS_OF_WEEK
    m0 = _within(e.m0 + n * since)
    # The node where it is seen from the turning earth at the message's own time.
    omega0 = _within(e.omega0 - OMEGA_EARTH * (e.toe_s % SECONDS_OF_WEEK + since - toe))
    phase = e.number * 0.7 + "GREC".index(e.system)
    drift = 3e-12 * float(np.cos(phase))
    delay = 4e-9 * float(np.sin(2.0 * phase))
    source = 258.0 if e.system == "E" else 0.0  # F/NAV, clock for E5a
    week = float((at - behind) // SECONDS_OF_WEEK) - (1356.0 if e.system == "C" else 0.0)
    values = (
        *(1.0, 0.0, 0.0, m0, 0.0, e.eccentricity, 0.0, e.sqrt_a, toe, 0.0, omega0, 0.0, e.i0, 0.0, e.perigee),
        *(0.0, 0.0, source, week, 0.0, 2.0, 0.0, delay, 0.0 if e.system == "G" else 1.5 * delay, toe, 4.0),
    )
    clock = (2e-4 * float(np.sin(phase)) + drift * since, drift, 0.0)
    return Message(
        system=e.system, number=e.number, clock_ticks=round(at * TICKS), clock=clock, values=values
    )


def _within(angle: float) -> float:
    return float(np.remainder(angle + np.pi, 2.0 * np.pi) - np.pi)


def _states(sky: Constellation, at: float) -> list[Message]:
    before, here, after = (sky.positions(at + d) for d in (-0.5, 0.0, 0.5))
    speed = after - before
    out = []
    for k, name in enumerate(sky.names):
        number = int(name[1:])
        p, v = here[:, k] / 1e3, speed[:, k] / 1e3
        values = (p[0], v[0], 0.0, 0.0, p[1], v[1], 0.0, float(number % 13 - 6), p[2], v[2], 0.0, 0.0)
        clock = (-5e-5 * np.sin(number), 0.0, float(at % SECONDS_OF_WEEK))
        out.append(
            Message(system="R", number=number, clock_ticks=round(at * TICKS), clock=clock,
                    values=tuple(float(x) for x in values))
        )  # fmt: skip
    return out


SLOTS = {n: n % 13 - 6 for n in range(1, 25)}


def observe(
    messages: Sequence[Message], start: int, epochs: int, interval: float, receiver: Receiver, air: Air,
    rng: np.random.Generator, origin: tuple[float, float, float] | None = None,
) -> tuple[Header, IntArray, dict[str, SystemData]]:  # fmt: skip
    """Header, times and observations of a receiver from `start` (ticks) on; the air is that over `origin`
    (geocentric), the receiver's own mark where it is None."""
    lat, lon, h = (float(v) for v in from_xyz(np.array(receiver.xyz), GRS80_A, GRS80_F))
    axes = enu_axes(np.array([lat]), np.array([lon]))[:, :, 0]
    antenna = np.array(receiver.xyz) + axes.T @ np.array([0.0, 0.0, receiver.height])
    tags = np.arange(epochs) * interval
    offset, drift, every = receiver.clock
    jumps = np.floor(np.arange(epochs) / every) * 1e-3 if every else np.zeros(epochs)
    clock = offset + drift * tags - jumps
    true = tags - clock
    local = np.zeros(3) if origin is None else axes @ (np.array(receiver.xyz) - np.array(origin)) / 1000.0
    sky = BroadcastSky(start=start, messages=messages, galileo="5")
    silent = np.zeros(epochs, dtype=bool)
    for first, last in receiver.gaps:
        silent[first : last + 1] = True
    systems: dict[str, SystemData] = {}
    for system in dict.fromkeys(m.system for m in messages):
        numbers = sorted({m.number for m in messages if m.system == system})
        parts = [
            _satellite(
                sky, system, n, true, clock, antenna, axes, (lat, h), receiver, air, local, rng, interval
            )
            for n in numbers
        ]
        data = _system(system, [p for p in parts if p is not None], silent)
        if data.epoch.size:
            systems[system] = data
    x, y, z = receiver.xyz
    header = Header(
        version="3.04", time_system="GPS", mark=receiver.mark, receiver="FENWIND STATIC",
        antenna=receiver.antenna, position=(float(f"{x:.4f}"), float(f"{y:.4f}"), float(f"{z:.4f}")),
        delta=(receiver.height if receiver.said_height is None else receiver.said_height, 0.0, 0.0),
        interval=interval, slots=SLOTS if "R" in systems else {},
    )  # fmt: skip
    kept = np.flatnonzero(~silent)
    new = np.full(epochs, -1)
    new[kept] = np.arange(kept.size)
    systems = {k: replace(d, epoch=new[d.epoch]) for k, d in systems.items()}
    return header, np.asarray(start + np.round(tags[kept] * TICKS).astype(np.int64)), systems


def _satellite(
    sky: BroadcastSky, system: str, number: int, true: FloatArray, clock: FloatArray, antenna: FloatArray,
    axes: FloatArray, place: tuple[float, float], receiver: Receiver, air: Air, local: FloatArray,
    rng: np.random.Generator, interval: float,
) -> tuple[int, IntArray, FloatArray, NDArray[np.uint8]] | None:  # fmt: skip
    code = np.full(true.size, int(satellite_code(system, number)))
    some = np.unique(np.linspace(0, true.size - 1, 9).astype(int))
    there = sky.states(code[some], true[some]).xyz - antenna[:, None]
    if not (axes[2] @ there / np.sqrt((there**2).sum(axis=0)) > np.sin(MASK) - 0.1).any():
        return None  # it does not rise
    travel = np.full(true.size, 0.075)
    for _ in range(4):
        state = sky.states(code, true - travel)
        turn = OMEGA_EARTH * travel
        x = state.xyz[0] * np.cos(turn) + state.xyz[1] * np.sin(turn)
        y = -state.xyz[0] * np.sin(turn) + state.xyz[1] * np.cos(turn)
        way = np.stack([x, y, state.xyz[2]]) - antenna[:, None]
        length = np.sqrt((way**2).sum(axis=0))
        travel = np.where(np.isfinite(length), length / SPEED_OF_LIGHT, 0.075)
    enu = axes @ (way / length)
    elevation = np.arcsin(enu[2])
    rows = np.flatnonzero(np.isfinite(length) & (elevation > MASK))
    if not rows.size:
        return None
    sine, lat, h = np.sin(elevation[rows]), *place
    hydrostatic, wet = zenith_delays(lat, h)
    dry_map, wet_map = mapping(elevation[rows], lat, h, 150.0)
    wet += air.wet + air.wet_e * local[0] + air.wet_n * local[1]
    troposphere = hydrostatic * dry_map + wet * wet_map
    slant = 1.0 / np.sqrt(1.0 - (0.95 * np.cos(elevation[rows])) ** 2)
    vertical = air.ionosphere + air.ionosphere_e * local[0] + air.ionosphere_n * local[1]
    vertical = vertical + 0.3 * np.sin(2.0 * np.pi * true[rows] / 43200.0 + 0.1 * number)
    noise = receiver.noise
    values = np.full((true.size, 4), np.nan)
    lli = np.zeros((true.size, 4), dtype=np.uint8)
    delays = state.delays[rows]
    for k, name in enumerate(LOGGED[system]):
        f = frequencies(system, name[0], np.array([number]), SLOTS)[0]
        ionosphere = vertical * slant * (1575.42e6 / f) ** 2
        delay = SPEED_OF_LIGHT * group_delay(system, name[0], f, delays)
        common = length[rows] + SPEED_OF_LIGHT * (clock[rows] - state.clock[rows]) + troposphere
        values[rows, 2 * k] = (
            common + ionosphere + delay + (noise.code * rng.standard_normal(rows.size)
            + _correlated(rng, rows.size, noise.code_multipath, noise.multipath_s, interval)) / sine
        )  # fmt: skip
        error = noise.phase * rng.standard_normal(rows.size)
        error += _correlated(rng, rows.size, noise.phase_multipath, noise.multipath_s, interval)
        cycles = (common - ionosphere + error / sine) * f / SPEED_OF_LIGHT + float(
            rng.integers(-(10**6), 10**6)
        )
        cycles = cycles + 0.37  # of the receiver's own, the same for all satellites of a signal
        for satellite, epoch in receiver.slips:
            if satellite == f"{system}{number:02d}":
                cycles[rows >= epoch] += float(rng.integers(2, 40))
                at = rows[rows >= epoch][:1]
                lli[at, 2 * k + 1] = 1 if receiver.flagged else 0
        values[rows, 2 * k + 1] = cycles
    return number, rows, values[rows], lli[rows]


def _correlated(
    rng: np.random.Generator, size: int, sigma: float, seconds: float, interval: float
) -> FloatArray:
    """A process of Gauss and Markov."""
    from scipy.signal import lfilter

    keep = np.exp(-interval / seconds)
    white = rng.standard_normal(size) * sigma * np.sqrt(1.0 - keep**2)
    white[:1] *= 1.0 / np.sqrt(1.0 - keep**2)
    return np.asarray(lfilter([1.0], [1.0, -keep], white))


def _system(
    system: str,
    parts: Sequence[tuple[int, IntArray, FloatArray, NDArray[np.uint8]]],
    silent: NDArray[np.bool_],
) -> SystemData:
    names = LOGGED[system]
    codes = tuple(f"{kind}{name}" for name in names for kind in ("C", "L"))
    epoch = np.concatenate([p[1] for p in parts]) if parts else np.zeros(0, dtype=np.int64)
    number = np.concatenate([np.full(p[1].size, p[0]) for p in parts]) if parts else epoch
    values = np.concatenate([p[2] for p in parts]) if parts else np.zeros((0, 4))
    lli = np.concatenate([p[3] for p in parts]) if parts else np.zeros((0, 4), dtype=np.uint8)
    kept = np.flatnonzero(~silent[epoch])
    kept = kept[np.lexsort((number[kept], epoch[kept]))]
    return SystemData(
        system=system, codes=codes, epoch=epoch[kept], number=number[kept], values=values[kept], lli=lli[kept]
    )
