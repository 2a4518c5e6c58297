"""What a stream of RTCM 3 says of its base: its position, the set of messages, satellites, age; by pyrtcm.
Garbage and wrong checksums are counted and survived."""

from __future__ import annotations

import time
from collections import Counter
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.devices.crc24q import Shifts, remainders

FloatArray = NDArray[np.float64]

_shifts = Shifts()
#: Kinds of message with observations; those between the two legacy ranges are about the station.
LEGACY = (*range(1001, 1005), *range(1009, 1013))
MSM = range(1071, 1138)
#: Seconds that what a message of observations said of its satellites is good for: to read every one in full
#: would take longer than all else that a stream asks for.
GOOD_S = 1.0


@dataclass
class RtcmReader:
    """Feed it bytes. position: geocentric ARP (3,) last broadcast, height: of the antenna where 1006 says so;
    changes: how often it changed; station: its number in the stream; at: when the last message came (clock
    of this machine)."""

    position: FloatArray | None = None
    height: float | None = None
    changes: int = 0
    at: float = 0.0
    kinds: Counter[int] = field(default_factory=Counter)
    satellites: dict[int, int] = field(default_factory=dict)
    antenna: str = ""
    station: int | None = None
    wrong: int = 0
    _read: dict[int, float] = field(default_factory=dict)
    garbage: int = 0
    _buffer: bytes = b""
    #: Remainders of the stream before, and after each byte of the buffer.
    _after: list[int] = field(default_factory=lambda: [0])

    @property
    def set(self) -> str:
        """msm, legacy, or empty for neither yet."""
        if any(k in MSM for k in self.kinds):
            return "msm"
        return "legacy" if any(k in LEGACY for k in self.kinds) else ""

    @property
    def age_s(self) -> float | None:
        """Seconds since the last message, None before the first."""
        return time.monotonic() - self.at if self.at else None

    def feed(self, data: bytes) -> int:
        """Take bytes; how many whole messages there were."""
        self._after += remainders(data, self._after[-1])
        self._buffer += data
        buffer, at, count = self._buffer, 0, 0
        while True:
            start = buffer.find(b"\xd3", at)
            found = len(buffer) if start < 0 else start
            self.garbage += found - at
            at = found
            if len(buffer) - at < 3:
                break
            if buffer[at + 1] & 0xFC:
                self.garbage, at = self.garbage + 1, at + 1
                continue
            size = 6 + ((buffer[at + 1] & 3) << 8) + buffer[at + 2]
            if len(buffer) - at < size:
                break
            if self._take(buffer, at, size):
                at, count = at + size, count + 1
            else:
                self.garbage, at = self.garbage + 1, at + 1
        self._buffer, self._after = buffer[at:], self._after[at:]
        return count

    def _take(self, buffer: bytes, at: int, size: int) -> bool:
        """Take a frame of RTCM 10403 (its number is the first 12 bits after the header); False for none."""
        if self._after[at + size] != _shifts.moved(self._after[at], size):
            self.wrong += 1
            return False
        frame = buffer[at : at + size]
        kind, now = frame[3] << 4 | frame[4] >> 4, time.monotonic()
        if now >= self._read.get(kind, 0.0) or not (kind in MSM or kind in LEGACY):
            message = _parsed(frame)
            if message is None:
                self.wrong += 1
                return False
            self._read[kind] = now + GOOD_S
            self._say(kind, message)
        self.at = now
        self.kinds[kind] += 1
        return True

    def _say(self, kind: int, message: Any) -> None:
        number = getattr(message, "DF003", None)
        self.station = int(number) if number is not None else self.station
        if kind in (1005, 1006):
            fresh = np.array([message.DF025, message.DF026, message.DF027], dtype=float)
            if self.position is not None and float(np.abs(fresh - self.position).max()) > 1e-3:
                self.changes += 1
            self.position = fresh
            self.height = float(message.DF028) if kind == 1006 else None
        elif kind in MSM:
            self.satellites[kind // 10] = int(message.NSat)
        elif kind in (1004, 1012):
            self.satellites[kind] = int(message.DF006 if kind == 1004 else message.DF035)
        elif kind == 1033:
            letters = (getattr(message, f"DF030_{i:02d}", "") for i in range(1, int(message.DF029) + 1))
            self.antenna = "".join(letters)


def _parsed(frame: bytes) -> Any:
    """What pyrtcm makes of a frame whose checksum is right, None for nothing."""
    from pyrtcm import RTCMReader
    from pyrtcm.exceptions import RTCMMessageError, RTCMParseError, RTCMStreamError, RTCMTypeError

    own = (RTCMParseError, RTCMMessageError, RTCMStreamError, RTCMTypeError)
    try:
        return RTCMReader.parse(frame, validate=0, labelmsm=0)
    except (*own, KeyError, ValueError, IndexError, TypeError):
        return None
