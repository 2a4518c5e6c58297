"""A base and a rover that err as real ones do, in simulated time: what they send at every epoch follows
from world, seed, start and what was asked of them when, never from when anybody reads.

Left out: in life a wrong base position also scales the vectors by about 1 ppm for 6 to 10 m; antennas have
phase centre variations; satellites have orbit errors of their own.
"""

from __future__ import annotations

import base64
import hashlib
import math
from collections.abc import Callable
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.geocentric import enu_axes, from_xyz
from fenwind.gnss.orbits import Constellation, Ephemeris, built_in, gps_seconds
from fenwind.gnss.rinex_nav import read_navigation
from fenwind.gnss.sky import Sky, sky_at
from fenwind.quantities.angles import RAD_PER_DEGREE
from fenwind.standins import rtcm_out
from fenwind.standins.nmea_out import Fix, epoch, strength_dbhz
from fenwind.standins.world import TROUBLES, Place, World

FloatArray = NDArray[np.float64]

QUALITY = {"none": 0, "autonomous": 1, "code": 2, "float": 5, "fixed": 4}
#: Events lie on this grid, seconds.
TICK_S = 0.1
#: Battery that an hour takes, percent; bytes that a logged epoch takes.
BATTERY_AN_HOUR, LOGGED_BYTES = 7.0, 1800
#: Channels of the radio between the two, and the share of messages that come through on a disturbed one.
CHANNELS, THROUGH = range(1, 17), 0.02


class Refused(Exception):
    """Why a control command cannot be carried out, in words."""


class Wander:
    """A Gauss-Markov process in east, north, up: one sigma in metres in east and north, up larger."""

    def __init__(self, rng: np.random.Generator, sigma: float, up: float, time_s: float) -> None:
        self._rng, self._time_s = rng, time_s
        self.sigma = sigma * np.array([1.0, 1.0, up])
        self.value = rng.normal(0.0, 1.0, 3)

    def after(self, dt: float) -> FloatArray:
        """Step on by some seconds; metres."""
        keep = math.exp(-dt / self._time_s)
        self.value = keep * self.value + math.sqrt(1.0 - keep * keep) * self._rng.normal(0.0, 1.0, 3)
        return np.asarray(self.value * self.sigma)


@dataclass
class Receiver:
    """What both have: a ground point, an antenna over it, power, storage, a mask, trouble."""

    ground: Place
    height: float
    mask_deg: float
    rate: int = 1
    battery: float = 96.0
    storage_mb: float = 512.0
    logging: str | None = None
    interval: float = 1.0
    files: dict[str, dict[str, Any]] = field(default_factory=dict)
    on: set[str] = field(default_factory=set)
    tilt: tuple[float, float] = (0.0, 0.0)  # degrees, bearing
    bumped: FloatArray = field(default_factory=lambda: np.zeros(3))
    obstruction_deg: float = 45.0
    channel: int = 1
    strength_dbhz: float = 0.0

    def arp(self) -> FloatArray:
        """Geocentric position of the reference point as it really is."""
        axes = enu_axes(self.ground.lat, self.ground.lon)
        lean, bearing = (v * RAD_PER_DEGREE for v in self.tilt)
        pole = self.height * np.array(
            [math.sin(lean) * math.sin(bearing), math.sin(lean) * math.cos(bearing), math.cos(lean)]
        )
        return np.asarray(self.ground.xyz() + axes.T @ (self.bumped + pole))

    def mask_rad(self) -> float:
        """Elevation above which satellites are seen."""
        return RAD_PER_DEGREE * max(self.mask_deg, self.obstruction_deg if "obstruction" in self.on else 0.0)


class Simulation:
    """Base, rover and what is between them, event by event."""

    def __init__(self, world: World, seed: int, start: datetime) -> None:
        self.world, self.seed, self.start = world, seed, start
        self.tick = 0
        self.sky: Constellation = _constellation(world, gps_seconds(start))
        self.base = Receiver(world.base, world.base_height, world.mask_deg)
        self.rover = Receiver(world.rover, world.pole, world.mask_deg)
        self.corrections, self.set = True, "msm7"
        self.jammed: int | None = None  # the channel on which somebody else sends
        self._starts = 0
        self._trouble = list(world.trouble)
        self._begin_base()
        self._begin_rover()
        self._skies: dict[tuple[str, int, int, float], Sky] = {}
        self._converging_since = 0.0
        self._had_corrections = False
        self._last_correction: float | None = None
        self._last_epoch = {"base": 0.0, "rover": 0.0}

    # Time and starts
    # -----------------------------------------------------------------------------------------------------

    @property
    def now_s(self) -> float:
        """Simulated seconds since the start."""
        return self.tick * TICK_S

    @property
    def time(self) -> datetime:
        """Simulated time in UTC."""
        return self.start + timedelta(seconds=round(self.now_s, 1))

    def _rng(self, which: int) -> np.random.Generator:
        return np.random.default_rng([self.seed, which, self._starts])

    def _begin_base(self) -> None:
        e = self.world.errors
        self._base_wander = Wander(self._rng(1), e["autonomous"], e["up"], e["autonomous_s"])
        self._base_white = self._rng(2)
        offset = enu_axes(self.base.ground.lat, self.base.ground.lon).T @ self._base_wander.after(0.0)
        self.broadcast: FloatArray = self.base.arp() + offset

    def _begin_rover(self) -> None:
        e = self.world.errors
        self._wanders = {
            state: Wander(self._rng(10 + k), 1.0, e["up"], e[f"{state}_s"])
            for k, state in enumerate(("autonomous", "code", "float", "fixed"))
        }
        self._rover_white = self._rng(20)

    def _sigma(self, state: str) -> float:
        """One sigma in east and north of a state, metres."""
        e = self.world.errors
        if state != "fixed":
            return e[state]
        apart = float(np.linalg.norm(self.rover.arp() - self.base.arp()))
        return math.hypot(e["fixed"], e["fixed_ppm"] * 1e-6 * apart)

    # Solutions
    # -----------------------------------------------------------------------------------------------------

    def rover_state(self) -> str:
        """What the rover solves now."""
        count = len(self._seen("rover").names)
        if self.rover.battery <= 0.0 or count < 4:
            return "none"
        age = self.age()
        e = self.world.errors
        if age is None or age > e["age_lost_s"]:
            return "autonomous"
        since = self.now_s - self._converging_since
        if age > e["age_float_s"]:
            return "float" if since >= e["to_float_s"] else "code"
        if since >= e["to_fixed_s"] and count >= 6:
            return "fixed"
        return "float" if since >= e["to_float_s"] and count >= 5 else "code"

    def age(self) -> float | None:
        """Age of the corrections in seconds, None when none ever came."""
        return None if self._last_correction is None else self.now_s - self._last_correction

    def _arrive(self) -> None:
        """Corrections of this second reach the rover, or do not."""
        linked = not ({"link", "wrong_channel"} & self.rover.on or {"link", "wrong_channel"} & self.base.on)
        sent = self.corrections and self.base.battery > 0.0 and self.base.channel == self.rover.channel
        if not (linked and sent) or (self.jammed == self.rover.channel and self._lost()):
            return
        age = self.age()
        if age is None or age > self.world.errors["age_lost_s"] or age > self.world.errors["age_float_s"]:
            self._converging_since = self.now_s
        self._last_correction = self.now_s

    def _lost(self) -> bool:
        """Whether this second's message is lost on a disturbed channel; the same whenever it is asked."""
        return bool(np.random.default_rng([self.seed, 30, self.tick]).random() >= THROUGH)

    def _seen(self, which: str) -> Sky:
        receiver = self.base if which == "base" else self.rover
        second = int(self.now_s)
        mask = round(receiver.mask_rad() * 1e6)
        key = (which, second, mask, receiver.strength_dbhz)
        if key not in self._skies:
            if len(self._skies) > 8:
                self._skies.clear()
            ground = receiver.ground
            time_s = gps_seconds(self.start) + second
            found = sky_at(self.sky, time_s, ground.xyz(), ground.lat, ground.lon, receiver.mask_rad())
            strong = strength_dbhz(found.elevation) >= receiver.strength_dbhz
            self._skies[key] = found if strong.all() else _rows_of(found, strong)
        sky = self._skies[key]
        if which == "rover" and self.set == "legacy" and self._last_correction is not None:
            return _only(sky, "GR")  # the older messages correct two systems
        return sky

    def _fix(self, which: str) -> Fix:
        """The next epoch of a receiver; its errors step on."""
        receiver = self.base if which == "base" else self.rover
        dt = self.now_s - self._last_epoch[which]
        self._last_epoch[which] = self.now_s
        axes = enu_axes(receiver.ground.lat, receiver.ground.lon)
        e = self.world.errors
        if which == "base":
            state, sigma, white = "autonomous", self._base_wander.sigma, self._base_white
            error = self._base_wander.after(dt)
            carried: FloatArray = np.zeros(3)
            if len(self._seen("base").names) < 4:
                state = "none"
        else:
            state = self.rover_state()
            errors = {k: w.after(dt) for k, w in self._wanders.items()}
            used = state if state in errors else "autonomous"
            sigma = self._wanders[used].sigma * self._sigma(used)
            error, white = errors[used] * self._sigma(used), self._rover_white
            carried = self.broadcast - self.base.arp() if state in ("code", "float", "fixed") else np.zeros(3)
        noise = e["white"] * np.array([1.0, 1.0, e["up"]])
        error = error + noise * white.normal(0.0, 1.0, 3)
        lat, lon, h = from_xyz(receiver.arp() + carried + axes.T @ error)
        total = np.hypot(sigma, noise)
        age = self.age() if which == "rover" and state in ("code", "float", "fixed") else None
        return Fix(
            time=self.time, lat=float(lat), lon=float(lon), h=float(h),
            sigma=(float(total[0]), float(total[1]), float(total[2])), quality=QUALITY[state], age=age,
            sky=self._seen(which),
        )  # fmt: skip

    # Running
    # -----------------------------------------------------------------------------------------------------

    def run_tick(self, rtcm_wanted: bool = True) -> dict[str, bytes]:
        """What is sent at this tick by stream ("base", "rover", "rtcm"), then time goes on."""
        out: dict[str, bytes] = {}
        while self._trouble and self._trouble[0].get("at_s", 0.0) <= self.now_s:
            one = dict(self._trouble.pop(0))
            receiver = self.base if one.get("receiver") == "base" or one.get("what") == "bump" else self.rover
            self.make_trouble(receiver, one)
        second = self.tick % 10 == 0
        if second:
            self._arrive()
            self._spend()
            if self.corrections and self.base.battery > 0.0:
                out["rtcm"] = self.messages() if rtcm_wanted else b""
        for which, receiver in (("base", self.base), ("rover", self.rover)):
            if self.tick % (10 // receiver.rate) == 0 and receiver.battery > 0.0:
                out[which] = epoch(self._fix(which), self.world.separation)
        self.tick += 1
        return out

    def _spend(self) -> None:
        """A second's battery and storage."""
        for receiver in (self.base, self.rover):
            receiver.battery = max(receiver.battery - BATTERY_AN_HOUR / 3600.0, 0.0)
            if receiver.logging is not None and int(self.now_s) % max(int(receiver.interval), 1) == 0:
                if receiver.storage_mb * 1e6 < LOGGED_BYTES or receiver.battery <= 0.0:
                    receiver.logging = None  # full: logging stops, and nobody says so
                    continue
                receiver.storage_mb -= LOGGED_BYTES / 1e6
                receiver.files[receiver.logging]["epochs"] += 1

    def messages(self) -> bytes:
        """The corrections of this second."""
        time_s = gps_seconds(self.start) + self.now_s
        sky = self._seen("base")
        antenna = self.world.base_antenna or "UNKNOWN"
        out = [
            rtcm_out.station(self.broadcast, self.base.height),
            rtcm_out.describe(antenna, "FENWIND STAND-IN"),
        ]
        if self.set == "legacy":
            present = [s for s in "GR" if (sky.systems == s).any()]
            out += [rtcm_out.legacy(s, sky, time_s, s != present[-1]) for s in present]
            return b"".join(out)
        out.append(rtcm_out.glonass_biases())
        present = [s for s in "GREC" if (sky.systems == s).any()]
        kind = 7 if self.set == "msm7" else 4
        return b"".join(out + [rtcm_out.msm(s, sky, time_s, kind, s != present[-1]) for s in present])

    # Control
    # -----------------------------------------------------------------------------------------------------

    def control(self, which: str, command: dict[str, Any]) -> dict[str, Any]:
        """Carry out a command of the control port; the asked values. Raises Refused."""
        receiver = self.base if which == "base" else self.rover
        verbs: dict[str, Callable[[str, Receiver, dict[str, Any]], dict[str, Any]]] = {
            "status": self._status, "set_position": self._set_position, "restart": self._restart,
            "corrections": self._set_corrections, "mask": self._set_mask, "rate": self._set_rate,
            "log": self._log, "files": self._files, "fetch": self._fetch, "delete": self._delete,
            "go": self._go, "pole": self._pole, "tilt": self._tilt, "truth": self._truth,
            "trouble": lambda w, r, c: self.make_trouble(r, c),
        }  # fmt: skip
        verb = verbs.get(str(command.get("do")))
        if verb is None:
            raise Refused(f"there is no {command.get('do')!r}; there are {', '.join(verbs)}")
        return verb(which, receiver, command)

    def _status(self, which: str, r: Receiver, c: dict[str, Any]) -> dict[str, Any]:
        lat, lon, h = from_xyz(self.broadcast)
        sent = {"lat": float(lat) / RAD_PER_DEGREE, "lon": float(lon) / RAD_PER_DEGREE, "h": float(h)}
        return {
            "broadcast": sent if which == "base" and self.corrections else None,
            "state": "autonomous" if which == "base" else self.rover_state(),
            "satellites": len(self._seen(which).names),
            "battery": round(r.battery, 3),
            "storage": round(r.storage_mb, 6),
            "logging": r.logging,
            "channel": r.channel,
        }

    def _set_position(self, which: str, r: Receiver, c: dict[str, Any]) -> dict[str, Any]:
        if which != "base":
            raise Refused("a rover broadcasts nothing")
        place = _place(c)
        self.broadcast = place.xyz()
        return {}

    def _restart(self, which: str, r: Receiver, c: dict[str, Any]) -> dict[str, Any]:
        self._starts += 1
        if which == "base":
            self._begin_base()
        else:
            self._begin_rover()
            self._converging_since = self.now_s
            self._last_correction = None
        return {}

    def _set_corrections(self, which: str, r: Receiver, c: dict[str, Any]) -> dict[str, Any]:
        if c.get("set", "msm7") not in ("msm7", "msm4", "legacy"):
            raise Refused("set is msm7, msm4 or legacy")
        channel = number(c, "channel", r.channel)
        if channel not in CHANNELS:
            raise Refused("channel is 1 to 16")
        if which == "base":
            self.corrections = bool(c.get("on", self.corrections))
            self.set = c.get("set", self.set)
        if "channel" in c:
            r.channel = int(channel)
            r.on.discard("wrong_channel")  # whoever sets the channel sees what it was
        return {}

    def _set_mask(self, which: str, r: Receiver, c: dict[str, Any]) -> dict[str, Any]:
        degrees = number(c, "degrees")
        if not 0.0 <= degrees < 90.0:
            raise Refused("degrees from 0 to 90")
        strength = number(c, "strength", r.strength_dbhz)
        if not 0.0 <= strength <= 60.0:
            raise Refused("strength from 0 to 60 dB-Hz")
        r.mask_deg, r.strength_dbhz = degrees, strength
        return {}

    def _set_rate(self, which: str, r: Receiver, c: dict[str, Any]) -> dict[str, Any]:
        rate = number(c, "hz")
        if rate not in (1, 2, 5):
            raise Refused("hz is 1, 2 or 5")
        r.rate = int(rate)
        return {}

    def _log(self, which: str, r: Receiver, c: dict[str, Any]) -> dict[str, Any]:
        if not bool(c.get("on", True)):
            r.logging = None
            return {}
        name = str(c.get("name") or f"{which}-{self.time:%Y%m%d-%H%M%S}.log")
        r.interval = max(number(c, "interval") if "interval" in c else 1.0, 1.0)
        r.logging = name
        r.files.setdefault(name, {"epochs": 0, "time": self.time.isoformat()})
        return {}

    def _bytes(self, which: str, name: str, r: Receiver) -> bytes:
        """A raw file: so many epochs of bytes that follow from its name."""
        if name not in r.files:
            raise Refused(f"there is no file {name!r}")
        block = hashlib.sha256(f"{self.seed} {which} {name}".encode()).digest()
        length = int(r.files[name]["epochs"]) * LOGGED_BYTES
        return (block * (length // len(block) + 1))[:length]

    def _files(self, which: str, r: Receiver, c: dict[str, Any]) -> dict[str, Any]:
        listed = [
            {"name": n, "size": f["epochs"] * LOGGED_BYTES, "time": f["time"]} for n, f in r.files.items()
        ]
        return {"files": listed}

    def _fetch(self, which: str, r: Receiver, c: dict[str, Any]) -> dict[str, Any]:
        data = self._bytes(which, str(c.get("name")), r)
        at = int(number(c, "offset")) if "offset" in c else 0
        length = int(number(c, "length")) if "length" in c else 32_768
        piece = data[max(at, 0) : max(at, 0) + max(min(length, 48_000), 0)]
        return {
            "data": base64.b64encode(piece).decode("ascii"),
            "size": len(data),
            "sha256": hashlib.sha256(data).hexdigest(),
        }

    def _delete(self, which: str, r: Receiver, c: dict[str, Any]) -> dict[str, Any]:
        name = str(c.get("name"))
        data = self._bytes(which, name, r)
        if r.logging == name:
            raise Refused("it is being written")
        del r.files[name]
        r.storage_mb += len(data) / 1e6
        return {}

    def _rover_only(self, which: str) -> None:
        if which != "rover":
            raise Refused("only a rover does that")

    def _go(self, which: str, r: Receiver, c: dict[str, Any]) -> dict[str, Any]:
        self._rover_only(which)
        if "mark" in c:
            if c["mark"] not in self.world.marks:
                raise Refused(f"there is no mark {c['mark']!r}")
            r.ground = self.world.marks[c["mark"]]
        else:
            r.ground = _place(c)
        self._converging_since = self.now_s
        self._skies.clear()
        return {}

    def _pole(self, which: str, r: Receiver, c: dict[str, Any]) -> dict[str, Any]:
        self._rover_only(which)
        height = number(c, "height")
        if not 0.0 <= height <= 10.0:
            raise Refused("a pole is 0 to 10 m")
        r.height = height
        return {}

    def _tilt(self, which: str, r: Receiver, c: dict[str, Any]) -> dict[str, Any]:
        self._rover_only(which)
        r.tilt = (number(c, "degrees"), number(c, "bearing") if "bearing" in c else 0.0)
        return {}

    def _truth(self, which: str, r: Receiver, c: dict[str, Any]) -> dict[str, Any]:
        lat, lon, h = from_xyz(r.arp())
        return {"lat": float(lat) / RAD_PER_DEGREE, "lon": float(lon) / RAD_PER_DEGREE, "h": float(h)}

    def make_trouble(self, r: Receiver, c: dict[str, Any]) -> dict[str, Any]:
        """Switch trouble on or off. Raises Refused."""
        what, on = str(c.get("what")), bool(c.get("on", True))
        if what not in TROUBLES:
            raise Refused(f"there is no trouble {what!r}; there are {', '.join(TROUBLES)}")
        if what == "battery":
            r.battery = number(c, "percent", 0.0) if on else 96.0
        elif what == "storage":
            r.storage_mb = number(c, "mb", 0.0) if on else 512.0
        elif what == "jammed":
            self.jammed = int(number(c, "channel", r.channel)) if on else None
        elif what == "bump":
            way = np.array([number(c, k, 0.0) for k in ("de", "dn", "dh")])
            r.bumped = r.bumped + way if on else np.zeros(3)
        elif what == "bubble":
            r.tilt = (number(c, "degrees", 1.0), number(c, "bearing", 0.0)) if on else (0.0, 0.0)
        elif on:
            r.on.add(what)
            if what == "obstruction" and "mask" in c:
                r.obstruction_deg = number(c, "mask")
        else:
            r.on.discard(what)
        self._skies.clear()
        return {}


def number(found: dict[str, Any], key: str, absent: float | None = None) -> float:
    """A number of a command. Raises Refused."""
    value = found.get(key, absent)
    if isinstance(value, bool) or not isinstance(value, (int, float)) or not abs(value) < 1e300:
        raise Refused(f"{key} is missing or no number")
    return float(value)


def _place(c: dict[str, Any]) -> Place:
    lat, lon, h = number(c, "lat"), number(c, "lon"), number(c, "h")
    if abs(lat) > 90.0 or abs(lon) > 360.0 or abs(h) > 1e6:
        raise Refused("that is no place on earth")
    return Place(lat=lat * RAD_PER_DEGREE, lon=lon * RAD_PER_DEGREE, h=h)


def _only(sky: Sky, systems: str) -> Sky:
    return _rows_of(sky, np.isin(sky.systems, list(systems)))


def _rows_of(sky: Sky, which: NDArray[np.bool_]) -> Sky:
    rows = np.flatnonzero(which)
    return Sky(
        names=tuple(sky.names[i] for i in rows), systems=sky.systems[rows], azimuth=sky.azimuth[rows],
        elevation=sky.elevation[rows], range_m=sky.range_m[rows], direction=sky.direction[:, rows],
    )  # fmt: skip


def _constellation(world: World, time_s: float) -> Constellation:
    if not world.broadcast:
        return built_in(world.systems, time_s)
    found: list[Ephemeris] = [e for e in read_navigation(world.broadcast) if e.system in world.systems]
    lacking = "".join(s for s in world.systems if not any(e.system == s for e in found))
    return (
        Constellation([*found, *built_in(lacking, time_s).ephemerides]) if lacking else Constellation(found)
    )
