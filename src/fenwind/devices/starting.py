"""Starting a base: the mean of its own epochs, and what it broadcasts, set and read back from its stream."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from datetime import UTC, datetime

import numpy as np

from fenwind.devices.control import command
from fenwind.devices.nmea_in import Epoch, NmeaReader
from fenwind.devices.occupying import Limits, broadcast_position, counted_epochs
from fenwind.devices.rtcm_in import RtcmReader
from fenwind.devices.transport import Address
from fenwind.geodesy.geocentric import from_xyz, to_xyz
from fenwind.job.measuring import UNSTATED
from fenwind.procedures.rover import mean_of_epochs
from fenwind.records.sessions import BaseSetup


def averaged(
    record: BaseSetup, nmea: Address, count: int, wait_s: float,
    told: Callable[[list[Epoch]], object] = lambda rows: None,
) -> BaseSetup:  # fmt: skip
    """A base on the mean of so many epochs of its own solution. told: gets the epochs so far, often; what it
    raises ends it. Raises DeviceError when none comes within the wait."""
    rows: list[Epoch] = []
    for epoch in counted_epochs(
        nmea, Limits(solution="any"), wait_s, None, NmeaReader(), RtcmReader(), lambda: told(rows)
    ):
        rows.append(epoch)
        if len(rows) == count:
            break
    xyz = to_xyz(*np.array([(r.lat, r.lon, r.h) for r in rows]).T)
    seconds = np.array([r.time.timestamp() for r in rows])
    found = mean_of_epochs(xyz, seconds, rows[0].solution)
    lat, lon, h = (float(v) for v in from_xyz(found.xyz))
    sigma = np.array([r.sigma or UNSTATED[r.solution] for r in rows])
    e, n, u = np.sqrt(np.mean(sigma**2, axis=0) / found.effective)
    x, y, z = (float(v) for v in found.xyz)
    return replace(
        record, word="average", average_lat_rad=lat, average_lon_rad=lon, average_h_m=h,
        average_sigma_h_m=math.sqrt(0.5 * (e * e + n * n)), average_sigma_v_m=float(u), average_epochs=count,
        started=rows[0].time.isoformat(), broadcast_x_m=x, broadcast_y_m=y, broadcast_z_m=z,
    )  # fmt: skip


def with_broadcast(
    record: BaseSetup, control: Address | None, rtcm: Address | None, wait_s: float
) -> BaseSetup:
    """Set what the receiver broadcasts, where it can be set, and read back what it does broadcast. The record
    holds what it should. Raises DeviceError."""
    wanted = np.array([record.broadcast_x_m, record.broadcast_y_m, record.broadcast_z_m], dtype=float)
    started = record.started
    if control is not None:
        lat, lon, h = (float(v) for v in from_xyz(wanted))
        said = command(control, do="set_position", lat=math.degrees(lat), lon=math.degrees(lon), h=h)
        started = started or str(said.get("time", "")).replace("Z", "+00:00")
    if rtcm is not None:
        sent, stream = broadcast_position(rtcm, wait_s, wanted if control is not None else None)
        x, y, z = (float(v) for v in sent)
        record = replace(
            record, broadcast_x_m=x, broadcast_y_m=y, broadcast_z_m=z, read_back=True, message_set=stream.set
        )
    elif control is None:
        # Nothing was set and nothing read: what is broadcast is not known.
        record = replace(record, broadcast_x_m=None, broadcast_y_m=None, broadcast_z_m=None)
    return replace(record, started=started or datetime.now(UTC).isoformat(timespec="seconds"))
