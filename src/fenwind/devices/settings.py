"""What receivers are set to over their control ports: how low satellites may be, how often they speak."""

from __future__ import annotations

from collections.abc import Mapping

from fenwind.devices.control import command
from fenwind.devices.transport import Address

#: Rates that NMEA is sent at, per second.
RATES = (1, 2, 5)


def set_receivers(places: Mapping[str, Address], mask_deg: float, rate_hz: int) -> tuple[str, ...]:
    """Set the elevation mask (degrees) of every receiver, and the rate of a rover; places: "base", "rover".
    Returns which were set. Raises DeviceError with the first that says no."""
    for which, where in places.items():
        command(where, do="mask", degrees=mask_deg)
        if which == "rover":
            command(where, do="rate", hz=rate_hz)
    return tuple(places)
