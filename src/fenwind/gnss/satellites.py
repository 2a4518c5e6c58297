"""Where satellites are and what their clocks show, from broadcast messages or precise orbits.

Algorithms: IS-GPS-200, table 20-IV, and 20.3.3.3.3.1 for clocks and relativity; Galileo OS SIS ICD 5.1;
BeiDou B1I ICD 5.2.4 with its geostationary satellites; GLONASS ICD 5.1, appendix 3.1.2 (from memory).
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from fenwind.gnss.broadcast import Message, Navigation
from fenwind.gnss.gps_time import BDT_BEHIND, TICKS
from fenwind.gnss.orbits import MU, OMEGA_EARTH, SECONDS_OF_WEEK
from fenwind.gnss.other_files import Orbits
from fenwind.gnss.signals import SPEED_OF_LIGHT
from fenwind.quantities.angles import RAD_PER_DEGREE

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
Bools = NDArray[np.bool_]

#: Messages are used within so many seconds of their own time (the contract's limits).
REACH = {"G": 7200.0, "C": 7200.0, "J": 7200.0, "E": 14400.0, "R": 1200.0, "I": 7200.0, "S": 360.0}
SYSTEMS = "GRECJ"
#: BeiDou's geostationary satellites.
_STATIONARY = np.array([1, 2, 3, 4, 5, 59, 60, 61, 62, 63])
#: Earth of GLONASS (PZ-90): gravity m^3/s^2, semi-major axis m, second zonal harmonic, rotation rad/s.
_GM_R, _A_R, _J2_R, _OMEGA_R = 3.986004418e14, 6378136.0, 1.0826257e-3, 7.292115e-5


def satellite_code(system: str, number: IntArray | int) -> IntArray:
    """One number for a satellite: its system's place in SYSTEMS times 100, and its own."""
    return np.asarray(SYSTEMS.index(system) * 100 + np.asarray(number), dtype=np.int64)


def satellite_name(code: int) -> str:
    """The RINEX name of a satellite's code."""
    return f"{SYSTEMS[code // 100]}{code % 100:02d}"


@dataclass(frozen=True, kw_only=True, eq=False)
class States:
    """Satellites (m,) at the times they sent: position (3, m) metres in axes turning with the earth at that
    time, clock (m,) seconds ahead of GPS time with relativity, and delays (m, 2), seconds: those that the
    message gives for its group delays; nan where nothing is known of them."""

    xyz: FloatArray
    clock: FloatArray
    delays: FloatArray


class Sky(Protocol):
    """Whatever says where satellites are; times in seconds after `start` (ticks of GPS time)."""

    start: int

    def states(self, code: IntArray, seconds: FloatArray) -> States:
        """Satellites by code (m,) at times (m,)."""


@dataclass(kw_only=True, eq=False)
class BroadcastSky:
    """Satellites by their own messages. Galileo's are those of the message whose clock is meant for the bands
    used: `galileo` 5 for E5a (F/NAV), 7 for E5b (I/NAV)."""

    start: int
    messages: Sequence[Message]
    galileo: str = "7"
    _by: dict[int, tuple[FloatArray, list[Message]]] = field(default_factory=dict)

    def __post_init__(self) -> None:
        grouped: dict[int, list[Message]] = {}
        known = [m for m in self.messages if m.system in SYSTEMS]
        # Of a satellite that has none of the messages meant for the bands used, the others serve.
        meant = {m.name for m in known if self._meant(m)}
        for m in known:
            if self._meant(m) or m.name not in meant:
                grouped.setdefault(int(satellite_code(m.system, m.number)), []).append(m)
        for code, some in grouped.items():
            some.sort(key=lambda m: m.clock_ticks)
            self._by[code] = (np.array([self._own_time(m) for m in some]), some)

    def _meant(self, m: Message) -> bool:
        if m.system != "E" or len(m.values) < 18 or not np.isfinite(m.values[17]):
            return True
        source = int(m.values[17])
        own = 0x100 if self.galileo == "5" else 0x200  # the clock's bands, of which others may be unsaid
        return bool(source & own) if source & 0x300 else True

    def _own_time(self, m: Message) -> float:
        """Time of the elements, seconds after the start; of a state its own."""
        clock = (m.clock_ticks - self.start) / TICKS
        if m.system in "RS":
            return clock
        behind = BDT_BEHIND if m.system == "C" else 0
        of_week = (m.clock_ticks / TICKS - behind) % SECONDS_OF_WEEK
        apart = (m.values[8] - of_week + SECONDS_OF_WEEK / 2) % SECONDS_OF_WEEK - SECONDS_OF_WEEK / 2
        return clock + float(apart)

    def near(self, first: float, last: float) -> bool:
        """Whether any message may be used between two times, seconds after the start."""
        return any(
            (
                (times >= first - REACH[SYSTEMS[code // 100]]) & (times <= last + REACH[SYSTEMS[code // 100]])
            ).any()
            for code, (times, _) in self._by.items()
        )

    def states(self, code: IntArray, seconds: FloatArray) -> States:
        """See Sky; nan where no message is near enough, or the satellite says that it is unhealthy."""
        xyz, clock = np.full((3, code.size), np.nan), np.full(code.size, np.nan)
        delays = np.zeros((code.size, 2))
        for one in np.unique(code).tolist():
            if one not in self._by:
                continue
            rows = np.flatnonzero(code == one)
            times, messages = self._by[one]
            t = seconds[rows]
            nearest = np.abs(t[:, None] - times[None, :]).argmin(axis=1)
            system = SYSTEMS[one // 100]
            for k in np.unique(nearest).tolist():
                mine = rows[(nearest == k) & (np.abs(t - times[k]) <= REACH[system])]
                if mine.size and _healthy(messages[k]):
                    self._one(messages[k], times[k], seconds, mine, xyz, clock)
                    delays[mine] = _delays(messages[k])
        return States(xyz=xyz, clock=clock, delays=delays)

    def _one(
        self,
        m: Message,
        own: float,
        seconds: FloatArray,
        rows: NDArray[np.intp],
        xyz: FloatArray,
        clock: FloatArray,
    ) -> None:
        since = seconds[rows] - (m.clock_ticks - self.start) / TICKS
        a0, a1, a2 = m.clock
        if m.system == "R":
            xyz[:, rows] = glonass_positions(m.values, seconds[rows] - own)
            clock[rows] = a0 + a1 * since
            return
        place, relativity = _kepler(m, seconds[rows] - own)
        xyz[:, rows] = place
        clock[rows] = a0 + a1 * since + a2 * since**2 + relativity


def _healthy(m: Message) -> bool:
    value = m.values[3] if m.system == "R" else m.values[21] if len(m.values) > 21 else 0.0
    return not np.isfinite(value) or value == 0.0


def _delays(m: Message) -> tuple[float, float]:
    if m.system == "R" or len(m.values) < 24:
        return 0.0, 0.0
    return float(np.nan_to_num(m.values[22])), float(np.nan_to_num(m.values[23])) if m.system in "EC" else 0.0


def _kepler(m: Message, t: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Positions (3, k) and relativistic clock corrections (k,) at times t (k,) after the elements' own."""
    v = m.values
    crs, delta_n, m0, cuc, e, cus, sqrt_a, toe = v[1], v[2], v[3], v[4], v[5], v[6], v[7], v[8]
    cic, omega0, cis, i0, crc, perigee, omega_dot, i_dot = (
        v[9],
        v[10],
        v[11],
        v[12],
        v[13],
        v[14],
        v[15],
        v[16],
    )
    mu = MU["G" if m.system in "JI" else m.system]
    a = sqrt_a**2
    mean = m0 + (np.sqrt(mu / a**3) + delta_n) * t
    anomaly = mean + e * np.sin(mean)
    for _ in range(8):
        anomaly = anomaly - (anomaly - e * np.sin(anomaly) - mean) / (1.0 - e * np.cos(anomaly))
    true = np.arctan2(np.sqrt(1.0 - e**2) * np.sin(anomaly), np.cos(anomaly) - e)
    phi = true + perigee
    s2, c2 = np.sin(2.0 * phi), np.cos(2.0 * phi)
    u, r = phi + cus * s2 + cuc * c2, a * (1.0 - e * np.cos(anomaly)) + crs * s2 + crc * c2
    i = i0 + i_dot * t + cis * s2 + cic * c2
    x, y = r * np.cos(u), r * np.sin(u)
    stationary = m.system == "C" and m.number in _STATIONARY
    turning = 0.0 if stationary else OMEGA_EARTH
    node = omega0 + (omega_dot - turning) * t - OMEGA_EARTH * toe
    place = np.stack([
        x * np.cos(node) - y * np.cos(i) * np.sin(node),
        x * np.sin(node) + y * np.cos(i) * np.cos(node),
        y * np.sin(i),
    ])  # fmt: skip
    if stationary:  # its elements are counted in axes that lean by five degrees and do not turn
        place = _turned_about_z(_turned_about_x(place, -5.0 * RAD_PER_DEGREE), OMEGA_EARTH * t)
    relativity = -2.0 * np.sqrt(mu) / SPEED_OF_LIGHT**2 * e * sqrt_a * np.sin(anomaly)
    return place, relativity


def _turned_about_x(xyz: FloatArray, angle: float) -> FloatArray:
    c, s = np.cos(angle), np.sin(angle)
    return np.stack([xyz[0], c * xyz[1] + s * xyz[2], -s * xyz[1] + c * xyz[2]])


def _turned_about_z(xyz: FloatArray, angle: FloatArray) -> FloatArray:
    c, s = np.cos(angle), np.sin(angle)
    return np.stack([c * xyz[0] + s * xyz[1], -s * xyz[0] + c * xyz[1], xyz[2]])


def glonass_positions(values: Sequence[float], t: FloatArray) -> FloatArray:
    """Positions (3, k) at times t (k,) after a state: its equations of motion integrated by Runge and Kutta's
    fourth order in steps of at most 60 s."""
    k = 1e3
    state = np.array([values[0], values[4], values[8], values[1], values[5], values[9]]) * k
    pull = np.array([values[2], values[6], values[10]])[:, None] * k
    steps = max(int(np.ceil(np.abs(t).max(initial=0.0) / 60.0)), 1)
    h = t / steps
    y = np.repeat(state[:, None], t.size, axis=1)

    def slope(s: FloatArray) -> FloatArray:
        r2 = (s[:3] ** 2).sum(axis=0)
        r = np.sqrt(r2)
        zonal = 1.5 * _J2_R * _GM_R * _A_R**2 / (r2 * r2 * r)
        flat = 5.0 * s[2] ** 2 / r2
        out = np.empty_like(s)
        out[:3] = s[3:]
        base = -_GM_R / (r2 * r)
        out[3] = (base - zonal * (1.0 - flat) + _OMEGA_R**2) * s[0] + 2.0 * _OMEGA_R * s[4]
        out[4] = (base - zonal * (1.0 - flat) + _OMEGA_R**2) * s[1] - 2.0 * _OMEGA_R * s[3]
        out[5] = (base - zonal * (3.0 - flat)) * s[2]
        out[3:] += pull
        return out

    for _ in range(steps):
        k1 = slope(y)
        k2 = slope(y + 0.5 * h * k1)
        k3 = slope(y + 0.5 * h * k2)
        k4 = slope(y + h * k3)
        y = y + h / 6.0 * (k1 + 2.0 * k2 + 2.0 * k3 + k4)
    return y[:3]


@dataclass(kw_only=True, eq=False)
class PreciseSky:
    """Satellites by precise orbits: positions by polynomials through eleven epochs, clocks linearly; nothing
    beyond half an interval of the file's ends."""

    start: int
    orbits: Orbits

    def near(self, first: float, last: float) -> bool:
        """Whether the orbits reach between two times, seconds after the start."""
        times = (self.orbits.ticks - self.start) / TICKS
        return bool(times[0] <= last and times[-1] >= first)

    def states(self, code: IntArray, seconds: FloatArray) -> States:
        """See Sky."""
        xyz, clock = np.full((3, code.size), np.nan), np.full(code.size, np.nan)
        times = (self.orbits.ticks - self.start) / TICKS
        index = {name: k for k, name in enumerate(self.orbits.names)}
        for one in np.unique(code).tolist():
            k = index.get(satellite_name(one))
            if k is None:
                continue
            rows = np.flatnonzero(code == one)
            place, speed = _interpolated(times, self.orbits.xyz[:, :, k], seconds[rows])
            xyz[:, rows] = place
            fine = np.isfinite(self.orbits.clock[:, k])
            if fine.sum() >= 2:
                offset = np.interp(
                    seconds[rows], times[fine], self.orbits.clock[fine, k], left=np.nan, right=np.nan
                )
                clock[rows] = offset - 2.0 * (place * speed).sum(axis=0) / SPEED_OF_LIGHT**2
        return States(xyz=xyz, clock=clock, delays=np.zeros((code.size, 2)))


def _interpolated(times: FloatArray, xyz: FloatArray, at: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Positions and velocities (3, k) at times by Lagrange's polynomials through the eleven nearest
    epochs."""
    count = min(11, times.size)
    middle = np.searchsorted(times, at)
    first = np.clip(middle - count // 2, 0, times.size - count)
    step = float(np.median(np.diff(times))) if times.size > 1 else 1.0
    outside = (at < times[0] - 0.5 * step) | (at > times[-1] + 0.5 * step)

    def place(t: FloatArray) -> FloatArray:
        window = first[:, None] + np.arange(count)
        x = times[window]
        y = xyz[:, window]
        out = np.zeros((3, t.size))
        for i in range(count):
            weight = np.ones(t.size)
            for j in range(count):
                if j != i:
                    weight = weight * (t - x[:, j]) / (x[:, i] - x[:, j])
            out += weight * y[:, :, i]
        return out

    here = place(at)
    speed = place(at + 0.5) - place(at - 0.5)
    here[:, outside] = np.nan
    return here, speed


def sky_of(
    start: int, navigation: Sequence[Navigation], orbits: Orbits | None, galileo: str
) -> BroadcastSky | PreciseSky:
    """Where satellites are, by precise orbits where they are given."""
    if orbits is not None:
        return PreciseSky(start=start, orbits=orbits)
    return BroadcastSky(
        start=start, messages=[m for nav in navigation for m in nav.messages], galileo=galileo
    )


def group_delay(system: str, band: str, frequency: float, delays: FloatArray) -> FloatArray:
    """Delay (m,), seconds, by which a code of a band is late against the clock of the message; delays (m, 2)
    as the message gives them."""
    if system in "GJE":
        return np.asarray(delays[:, 0] * (1575.42e6 / frequency) ** 2)
    if system == "C":
        return np.asarray(
            {"2": delays[:, 0], "1": delays[:, 0], "7": delays[:, 1]}.get(band, 0.0 * delays[:, 0])
        )
    return np.zeros(delays.shape[0])
