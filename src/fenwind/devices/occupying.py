"""Collecting epochs of a mark: those that count, with the position that the base broadcast then."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.devices.nmea_in import Epoch, NmeaReader
from fenwind.devices.rtcm_in import RtcmReader
from fenwind.devices.transport import Address, DeviceError, Link

FloatArray = NDArray[np.float64]

#: How good a solution is, the better the higher.
RANK = {"autonomous": 0, "code": 1, "float": 2, "fixed": 3}
#: Seconds that a read waits at most.
TICK_S = 0.1


@dataclass(frozen=True, slots=True, kw_only=True)
class Limits:
    """What an epoch must be to count: its solution at least, its sigma in plan (root mean square of east
    and north) and in height and its PDOP at most; None for no limit."""

    solution: str = "fixed"
    sigma_h_m: float | None = None
    sigma_v_m: float | None = None
    pdop: float | None = None

    def allow(self, epoch: Epoch) -> bool:
        """Whether an epoch counts; what a receiver does not state does not meet a limit."""
        if self.solution != "any" and RANK[epoch.solution] < RANK[self.solution]:
            return False
        if self.pdop is not None and not (epoch.pdop is not None and epoch.pdop <= self.pdop):
            return False
        if self.sigma_h_m is None and self.sigma_v_m is None:
            return True
        if epoch.sigma is None:
            return False
        plan = float(np.sqrt(0.5 * (epoch.sigma[0] ** 2 + epoch.sigma[1] ** 2)))
        return (self.sigma_h_m is None or plan <= self.sigma_h_m) and (
            self.sigma_v_m is None or epoch.sigma[2] <= self.sigma_v_m
        )


class Overdue(DeviceError):
    """No epoch that counts came within the wait."""


def counted_epochs(
    rover: Address, limits: Limits, wait_s: float, rtcm: Address | None, reader: NmeaReader,
    stream: RtcmReader, tick: Callable[[], object],
) -> Iterator[Epoch]:  # fmt: skip
    """Epochs that count, as they come, of a log until its end; with a stream of corrections named, only
    once it has said where the base is. tick: called at least every TICK_S. Raises Overdue after so many
    seconds without one, and DeviceError when a place cannot be reached in the first place; a lost link is
    taken up again."""
    links = [Link(rover)] + ([Link(rtcm)] if rtcm is not None else [])
    try:
        for link in links:
            link.open()
        last = time.monotonic()
        while True:
            if len(links) > 1:
                stream.feed(links[1].read(0.0 if stream.position is not None else TICK_S / 2))
            for epoch in reader.feed(links[0].read(TICK_S)):
                if len(links) > 1 and stream.position is None:
                    continue
                if limits.allow(epoch):
                    last = time.monotonic()
                    yield epoch
            tick()
            if links[0].ended:
                return
            if time.monotonic() - last > wait_s:
                raise Overdue(
                    f"no epoch that counts came within {wait_s:g} s ({_why(links, reader, stream)})",
                    hint="Check the receiver and the limits, or wait longer",
                )
    finally:
        for link in links:
            link.close()


def _why(links: list[Link], reader: NmeaReader, stream: RtcmReader) -> str:
    for link in links:
        if not link.connected:
            return f"{link.where} is lost: {link.problem or 'nothing comes'}"
    if len(links) > 1 and stream.position is None:
        return f"{links[1].where} does not say where the base is"
    if not reader.counts.sentences:
        return f"{links[0].where} sends no sentences that can be read"
    if reader.without_height:
        return "the receiver gives no height above the ellipsoid"
    return "no epoch met the limits"


def broadcast_position(
    rtcm: Address, wait_s: float, wanted: FloatArray | None = None, within_m: float = 0.005
) -> tuple[FloatArray, RtcmReader]:
    """The geocentric ARP (3,) that a stream says, once it has said it: the one wanted if it comes in time,
    else the last. Raises DeviceError when none comes."""
    link, reader = Link(rtcm), RtcmReader()
    link.open()
    try:
        until = time.monotonic() + wait_s
        while time.monotonic() < until:
            reader.feed(link.read(TICK_S))
            found = reader.position
            if (
                found is not None
                and (wanted is None or float(np.linalg.norm(found - wanted)) <= within_m)
                and reader.set
            ):
                return found, reader
    finally:
        link.close()
    if reader.position is None:
        raise DeviceError(
            f"{rtcm} did not say within {wait_s:g} s where the base is",
            hint="Check that the base sends corrections with its position",
        )
    return reader.position, reader
