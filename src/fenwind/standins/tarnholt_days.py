"""Two days of base and rover work for the Tarnholt demo, made up: day one from a known mark, day two from a
base that was switched on somewhere else and tied; three marks looked at twice; one antenna height that was a
slant and was given as vertical.

Errors are those of the stand-in receivers (world.ERRORS), from a seed.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.antenna import AntennaModel, reduced
from fenwind.geodesy.frames import FrameSpec, open_frame
from fenwind.geodesy.geocentric import enu_axes, from_xyz, to_xyz
from fenwind.job.measuring import Row, finished
from fenwind.records.records import GivenPosition, Mark, Record
from fenwind.records.sessions import Antenna, BaseSetup, Occupation
from fenwind.standins.geoid_grid import undulation
from fenwind.standins.receivers import Wander
from fenwind.standins.tarnholt import CENTRE_EN, truth
from fenwind.standins.world import ERRORS

FloatArray = NDArray[np.float64]

SEED = 627
EPOCHS = 60
MODEL = AntennaModel(model="TN-1", radius_m=0.19, rim_offset_m=0.075, mount_offset_m=0.052)
#: Rover marks along the shore: offsets east and north of CENTRE_EN and heights over the geoid, metres.
STAKES: dict[str, tuple[float, float, float]] = {
    "S-01": (-560.0, 905.0, 1238.61), "S-02": (-650.0, 690.0, 1238.22), "S-03": (-480.0, 330.0, 1237.84),
    "S-04": (-205.0, -55.0, 1237.15), "S-05": (205.0, -160.0, 1236.92), "S-06": (495.0, 60.0, 1237.31),
    "S-07": (565.0, 515.0, 1239.47), "S-08": (285.0, 930.0, 1240.02),
}  # fmt: skip
#: Where the second day's base stood, on no mark.
CAMP = (-95.0, 790.0, 1246.9)
#: How far its own autonomous solution was off, east, north, up, metres.
ASTRAY = np.array([1.34, -0.92, 2.17])
#: Slant to the rim over S-05 on day one, given as vertical.
SLANT_M = 1.446

#: Day, start, mark, height as it was given (vertical), height of the ARP as it was, check.
_LOOKS: tuple[tuple[int, str, str, float, float, bool], ...] = (
    (1, "08:40", "T-01", 2.0, 2.0, True),
    (1, "08:58", "S-01", 2.0, 2.0, False),
    (1, "09:14", "S-02", 2.0, 2.0, False),
    (1, "09:37", "S-03", 2.0, 2.0, False),
    (1, "10:02", "S-04", 2.0, 2.0, False),
    (1, "10:31", "S-05", SLANT_M, reduced(SLANT_M, "slant", MODEL), False),
    (2, "12:20", "S-03", 2.0, 2.0, False),
    (2, "12:46", "S-01", 2.0, 2.0, False),
    (2, "13:15", "S-05", 2.0, 2.0, False),
    (2, "13:38", "S-06", 2.0, 2.0, False),
    (2, "13:59", "S-07", 2.0, 2.0, False),
    (2, "14:21", "S-08", 2.0, 2.0, False),
    (2, "14:47", "T-01", 2.0, 2.0, True),
)


@dataclass(frozen=True, kw_only=True, eq=False)
class Days:
    """Records, and the epochs of each occupation by its id."""

    records: list[Record]
    epochs: dict[str, list[Row]]


def _geodetic(e_m: float, n_m: float, height_m: float) -> tuple[float, float, float]:
    """Latitude and longitude (radians) and ellipsoidal height of a place on the map."""
    lat, lon = open_frame(FrameSpec(name="map", crs="EPSG:25832")).inverse(np.array([e_m]), np.array([n_m]))
    h = height_m + undulation(np.degrees(lat), np.degrees(lon))
    return float(lat[0]), float(lon[0]), float(h[0])


def true_places() -> dict[str, tuple[float, float, float]]:
    """Where the marks of the two days truly are: latitude, longitude (radians), ellipsoidal height."""
    true = truth()
    rows = zip(true.names, true.e_m.tolist(), true.n_m.tolist(), true.height_m.tolist(), strict=True)
    out = {name: _geodetic(e, n, h) for name, e, n, h in rows}
    for name, (east, north, height) in STAKES.items():
        out[name] = _geodetic(CENTRE_EN[0] + east, CENTRE_EN[1] + north, height)
    return out


def days() -> Days:
    """Everything the two days add to the demo, the same at every call."""
    rng = np.random.default_rng(SEED)
    places = true_places()
    camp = _geodetic(CENTRE_EN[0] + CAMP[0], CENTRE_EN[1] + CAMP[1], CAMP[2])
    out: list[Record] = [
        Antenna(
            id="tn-1", model=MODEL.model, radius_m=MODEL.radius_m, rim_offset_m=MODEL.rim_offset_m,
            mount_offset_m=MODEL.mount_offset_m,
        ),
        *_known(), *(Mark(id=n, name=n, mark_class="secondary", code="ST", monument="stake") for n in STAKES),
    ]  # fmt: skip
    on_mark = to_xyz(*places["T-02"]) + 1.512 * enu_axes(*places["T-02"][:2])[2]
    at_camp = to_xyz(*camp) + 1.437 * enu_axes(*camp[:2])[2]
    sent = {1: on_mark, 2: at_camp + enu_axes(*camp[:2]).T @ ASTRAY}
    out += [_first(sent[1]), _second(sent[2])]
    epochs: dict[str, list[Row]] = {}
    for day, clock, mark, given, true_height, check in _LOOKS:
        start = datetime.fromisoformat(f"2026-06-{8 + day:02d}T{clock}:00+00:00").astimezone(UTC)
        arp = to_xyz(*places[mark]) + true_height * enu_axes(*places[mark][:2])[2]
        base = on_mark if day == 1 else at_camp
        key = f"o-{mark}-{day}"
        epochs[key] = epochs_of(rng, start, arp - base, sent[day])
        record = Occupation(
            id=key, mark=mark, base=f"b{day}", started=start.isoformat(), antenna=MODEL.model, height_m=given,
            ended=(start + timedelta(seconds=EPOCHS - 1)).isoformat(), step_m=1852.0e-7, check=check,
            message_set="msm",
        )  # fmt: skip
        out.append(finished(record, epochs[key], sent[day]))
    return Days(records=out, epochs=epochs)


def _known() -> list[Record]:
    """Two marks of the dam that the national list has as well."""
    true = truth()
    out: list[Record] = []
    for name in ("T-01", "T-02"):
        i = true.names.index(name)
        out.append(
            GivenPosition(
                id=f"n-{name}", mark=name, frame="map", e_m=round(float(true.e_m[i]), 3),
                n_m=round(float(true.n_m[i]), 3), height_m=round(float(true.height_m[i]), 3), sigma_h_m=0.003,
                sigma_v_m=0.006, source="national list (made up)",
            )
        )  # fmt: skip
    return out


def _first(sent: FloatArray) -> BaseSetup:
    x, y, z = (float(v) for v in sent)
    return BaseSetup(
        id="b1", name="B1", antenna=MODEL.model, height_m=1.512, started="2026-06-09T08:21:00+00:00",
        word="known", mark="T-02", broadcast_x_m=x, broadcast_y_m=y, broadcast_z_m=z, read_back=True,
        message_set="msm",
    )  # fmt: skip


def _second(sent: FloatArray) -> BaseSetup:
    x, y, z = (float(v) for v in sent)
    lat, lon, h = (float(v) for v in from_xyz(sent))
    return BaseSetup(
        id="b2", name="B2", antenna=MODEL.model, height_m=1.437, started="2026-06-10T11:58:00+00:00",
        word="tie", mark="S-03", average_lat_rad=lat, average_lon_rad=lon, average_h_m=h,
        average_sigma_h_m=1.5, average_sigma_v_m=2.6, average_epochs=50, broadcast_x_m=x, broadcast_y_m=y,
        broadcast_z_m=z, read_back=True, message_set="msm",
    )  # fmt: skip


def epochs_of(rng: np.random.Generator, start: datetime, vector: FloatArray, sent: FloatArray) -> list[Row]:
    """Epochs, one a second, of a true vector (3,) from a base that sends a position (3,)."""
    sigma = math.hypot(ERRORS["fixed"], ERRORS["fixed_ppm"] * 1e-6 * float(np.linalg.norm(vector)))
    wander, white = Wander(rng, sigma, ERRORS["up"], ERRORS["fixed_s"]), ERRORS["white"]
    stated = math.hypot(sigma, white)
    lat, lon, _ = from_xyz(sent + vector)
    axes = enu_axes(float(lat), float(lon))
    x, y, z = (float(v) for v in sent)
    out = []
    for k in range(EPOCHS):
        error = wander.after(1.0) + white * rng.normal(0.0, 1.0, 3) * np.array([1.0, 1.0, ERRORS["up"]])
        at = from_xyz(sent + vector + axes.T @ error)
        out.append(
            Row(
                time_s=start.timestamp() + k, lat=float(at[0]), lon=float(at[1]), h=float(at[2]),
                sigma=(stated, stated, ERRORS["up"] * stated), pdop=1.6, age=0.8, solution="fixed",
                broadcast=(x, y, z),
            )
        )  # fmt: skip
    return out
