"""CRC-24Q of any part of a stream, as RTCM 10403 checks its frames with (polynomial 1864CFB; Qualcomm).

Noise may look like the beginning of a frame at every byte. From the remainders of the stream up to both ends
of a part follows the remainder of the part (the code is linear), so a frame of any length is checked in a few
steps.
"""

from __future__ import annotations

POLYNOMIAL = 0x864CFB


def _step(value: int) -> int:
    for _ in range(8):
        value = (value << 1) ^ (POLYNOMIAL if value & 0x800000 else 0)
        value &= 0xFFFFFF
    return value


TABLE = tuple(_step(byte << 16) for byte in range(256))


def remainders(data: bytes, before: int = 0) -> list[int]:
    """Remainder after each byte of `data`, from that before it."""
    out, value = [], before
    for byte in data:
        value = ((value << 8) & 0xFFFFFF) ^ TABLE[(value >> 16) ^ byte]
        out.append(value)
    return out


class Shifts:
    """Remainders moved on by a number of bytes: images of the 24 bits, worked out when first asked for."""

    def __init__(self) -> None:
        self._images = [[1 << bit for bit in range(24)]]

    def moved(self, value: int, count: int) -> int:
        """The remainder `value` after `count` bytes of zero."""
        while len(self._images) <= count:
            self._images.append([((v << 8) & 0xFFFFFF) ^ TABLE[v >> 16] for v in self._images[-1]])
        images, out = self._images[count], 0
        while value:
            low = value & -value
            out ^= images[low.bit_length() - 1]
            value ^= low
        return out
