"""What is known of marks in a frame where field work is hung up: given there, or out of a network."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.frames import Frame
from fenwind.job.reader import Reader
from fenwind.job.steps.known import known
from fenwind.job.steps.network import network_node
from fenwind.job.steps.occupied import occupied
from fenwind.procedures.onto_plane import in_space
from fenwind.procedures.positions import Positions
from fenwind.records.network import NetworkStep

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True, eq=False)
class KnownPlace:
    """What is known of a mark: position (3,) and covariance (3, 3), nan for what is not; where it comes
    from, in words; the set of positions that it is one of."""

    at: FloatArray
    covariance: FloatArray
    origin: str
    among: Positions | None = None


def known_places(
    reader: Reader, frame: str, wanted: Collection[str], heights_alone: bool = False, measured: bool = False
) -> dict[str, KnownPlace]:
    """Known places of the marks wanted, by id: what is given first, then what networks adjusted, then what
    receivers measured where that is wanted. heights_alone: a mark known by its height only is there too."""
    places: dict[str, KnownPlace] = {}
    _add(places, reader.result(known(frame)), "given", heights_alone)
    networks = reader.rows(NetworkStep, "name", active=True)
    for outcome in reader.outcomes([network_node(key) for key in networks.ids.tolist()]):
        for key, found in reader.gives(outcome) if outcome.result is not None else ():
            if key == frame:
                why = found.why if isinstance(found.why, str) else "adjusted"
                _add(places, found.positions, why, heights_alone)
    if measured:
        _add(places, reader.result(occupied(frame)).levelled, "measured", heights_alone)
    return {key: place for key, place in places.items() if key in wanted}


def given_places(reader: Reader, frame: str, without: Collection[str]) -> dict[str, KnownPlace]:
    """Places of the marks given in a frame but for some, by id."""
    places: dict[str, KnownPlace] = {}
    _add(places, reader.result(known(frame)), "given", False)
    return {key: place for key, place in places.items() if key not in without}


def _add(places: dict[str, KnownPlace], found: Positions, origin: str, heights_alone: bool) -> None:
    """What a set knows of marks that nothing before it knew."""
    for i, key in enumerate(found.names):
        at = np.array([found.e_m[i], found.n_m[i], found.height_m[i]])
        enough = math.isfinite(at[2]) if heights_alone else math.isfinite(at[0] + at[1])
        if key not in places and enough:
            covariance = np.array(found.covariance[:, :, i])
            places[key] = KnownPlace(at=at, covariance=covariance, origin=origin, among=found)


def grid_factor(frame: Frame, places: Iterable[KnownPlace]) -> float:
    """The combined factor of a frame in the middle of what is known; 1 without a datum or a height."""
    at = np.array([p.at for p in places if np.isfinite(p.at).all()]).reshape(-1, 3)
    if not in_space(frame) or not at.size:
        return 1.0
    e, n, h = at.mean(axis=0)
    lat, lon = frame.inverse(np.array([e]), np.array([n]))
    up = h + frame.geoid_height(lat, lon)
    return float(frame.factors(lat, lon, up).combined[0])
