"""What receivers are set to over their control ports: how low and how weak satellites may be, how often
they speak, what the base sends and on which channel of the radio."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

from fenwind.devices.control import command
from fenwind.devices.transport import Address

#: Rates that NMEA is sent at, per second.
RATES = (1, 2, 5)
#: Sets of correction messages that a base can be told to send, and their names.
MESSAGE_SETS = {"msm7": "MSM 7", "msm4": "MSM 4", "legacy": "the older messages"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Settings:
    """The lowest satellite (degrees), the weakest (C/N0 in dB-Hz, 0 for any), sentences a second of a rover,
    the set of messages, the radio's channel."""

    mask_deg: float
    strength_dbhz: float
    rate_hz: int
    message_set: str
    channel: int


def set_receivers(places: Mapping[str, Address], to: Settings) -> tuple[str, ...]:
    """Set every receiver; places: "base", "rover". The rate is the rover's, the messages are the base's.
    Returns which were set. Raises DeviceError with the first that says no."""
    for which, where in places.items():
        command(where, do="mask", degrees=to.mask_deg, strength=to.strength_dbhz)
        if which == "base":
            command(where, do="corrections", channel=to.channel, set=to.message_set)
        else:
            command(where, do="corrections", channel=to.channel)
            command(where, do="rate", hz=to.rate_hz)
    return tuple(places)
