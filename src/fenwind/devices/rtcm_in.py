"""What a stream of RTCM 3 says of its base: its position, the set of messages, satellites, age; by pyrtcm.
Garbage and wrong checksums are counted and survived."""

from __future__ import annotations

import time
from collections import Counter
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]

#: Kinds of message with observations; those between the two legacy ranges are about the station.
LEGACY = (*range(1001, 1005), *range(1009, 1013))
MSM = range(1071, 1138)
#: Seconds that what a message of observations said of its satellites is good for: to read every one in full
#: would take longer than all else that a stream asks for.
GOOD_S = 1.0


@dataclass
class RtcmReader:
    """Feed it bytes. position: geocentric ARP (3,) last broadcast, height: of the antenna where 1006 says so;
    positions: how often it changed; at: when the last message came (clock of this machine)."""

    position: FloatArray | None = None
    height: float | None = None
    changes: int = 0
    at: float = 0.0
    kinds: Counter[int] = field(default_factory=Counter)
    satellites: dict[int, int] = field(default_factory=dict)
    antenna: str = ""
    wrong: int = 0
    _read: dict[int, float] = field(default_factory=dict)
    garbage: int = 0
    _buffer: bytes = b""

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
        self._buffer += data
        count = 0
        while True:
            start = self._buffer.find(b"\xd3")
            if start < 0:
                self.garbage += len(self._buffer)
                self._buffer = b""
                return count
            self.garbage += start
            self._buffer = self._buffer[start:]
            if len(self._buffer) < 3:
                return count
            if self._buffer[1] & 0xFC:
                self._skip()
                continue
            size = 6 + ((self._buffer[1] & 3) << 8) + self._buffer[2]
            if len(self._buffer) < size:
                return count
            if not self._take(self._buffer[:size]):
                self._skip()
                continue
            self._buffer = self._buffer[size:]
            count += 1

    def _skip(self) -> None:
        self._buffer, self.garbage = self._buffer[1:], self.garbage + 1

    def _take(self, frame: bytes) -> bool:
        """Take a frame of RTCM 10403 (its number is the first 12 bits after the header); False for none."""
        from pyrtcm import calc_crc24q

        if calc_crc24q(frame):
            self.wrong += 1
            return False
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
