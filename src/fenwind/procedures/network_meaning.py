"""What else the given coordinates of a network may mean: axes exchanged, a longitude without its sign."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping
from dataclasses import replace

import numpy as np

from fenwind.procedures.network_model import Given, Network


def other_meanings(net: Network) -> Iterator[tuple[str, Network]]:
    """The network with its control read otherwise, each with what the control then has, in words."""
    control = {n: g for n, g in net.control.items() if g.has[0] and not g.planned}
    if not control:
        return
    yield "easting and northing, or latitude and longitude, exchanged", _with(net, _exchanged(net, control))
    if not net.plane:
        flipped = {n: replace(g, second=-g.second) for n, g in control.items()}
        yield "the wrong sign of longitude", _with(net, flipped)


def _with(net: Network, control: Mapping[str, Given]) -> Network:
    return replace(net, control={**net.control, **control})


def _exchanged(net: Network, control: Mapping[str, Given]) -> dict[str, Given]:
    """Easting and northing exchanged; on the ellipsoid about the middle of the control, since its plane is
    not known here."""
    if net.plane:
        return {n: replace(g, first=g.second, second=g.first) for n, g in control.items()}
    lat = float(np.mean([g.first for g in control.values()]))
    lon = float(np.mean([g.second for g in control.values()]))
    narrow = math.cos(lat)
    return {
        n: replace(g, first=lat + (g.second - lon) * narrow, second=lon + (g.first - lat) / narrow)
        for n, g in control.items()
    }
