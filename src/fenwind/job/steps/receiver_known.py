"""Known marks in the system of the receivers: geocentric on GRS 80 or WGS 84."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FenwindError
from fenwind.geodesy.conversion import convert
from fenwind.geodesy.frames import Frame
from fenwind.job.reader import Digest, Reader
from fenwind.job.state import JobState
from fenwind.job.steps.known import given_in
from fenwind.job.steps.outcome import Gathering, Node
from fenwind.procedures.onto_plane import in_space
from fenwind.procedures.rover import Point, given_point
from fenwind.progress import Progress
from fenwind.quantities.angles import RAD_PER_DEGREE
from fenwind.records.records import FrameRecord
from fenwind.records.sessions import BaseSetup

FloatArray = NDArray[np.float64]

WGS84 = "EPSG:4979"


def receiver_known() -> Node:
    """The step."""
    return Node("receiver known", "")


def receiver_system(frame: Frame) -> str:
    """The system that receivers' positions are in beside a frame: the frame's own datum where its
    ellipsoid is GRS 80 or WGS 84, else WGS 84."""
    ellipsoid = frame.geodetic_crs.ellipsoid
    own = ellipsoid is not None and ellipsoid.name in ("GRS 1980", "WGS 84")
    return frame.geodetic_crs.to_wkt() if own else WGS84


@dataclass(frozen=True, kw_only=True, eq=False)
class KnownPoints(Mapping[str, Point]):
    """Known marks by id. table (5, k): latitude, longitude, height, sigma in plan and in height (nan for
    none), at the row that `place` says; a point is made when it is first asked for. frames: id of the
    frame that each was given in."""

    place: Mapping[str, int]
    table: FloatArray
    frames: Mapping[str, str]
    _made: dict[str, Point] = field(default_factory=dict)

    def __getitem__(self, mark: str) -> Point:
        point = self._made.get(mark)
        if point is None:
            lat, lon, h, sh, sv = (float(v) for v in self.table[:, self.place[mark]])
            plan, height = (None if math.isnan(s) else s for s in (sh, sv))
            point = self._made[mark] = given_point(lat, lon, h, plan, height, f"given {mark}")
        return point

    def __iter__(self) -> Iterator[str]:
        return iter(self.place)

    def __len__(self) -> int:
        return len(self.place)


NONE_KNOWN = KnownPoints(place={}, table=np.zeros((5, 0)), frames={})


@dataclass(frozen=True, kw_only=True, eq=False)
class _Inputs:
    frames: tuple[tuple[str, Frame, Any], ...]


class ReceiverKnown(Gathering):
    """See the module."""

    name = "receiver known"

    def nodes(self, state: JobState) -> Iterable[Node]:
        """One, where there are bases."""
        return [receiver_known()] if state.of(BaseSetup) else []

    def read(self, node: Node, reader: Reader) -> tuple[_Inputs, Digest | None]:
        """What is given in frames with a datum and heights that are tied to it."""
        found = []
        for key in reader.rows(FrameRecord, active=True).ids.tolist():
            try:
                frame = reader.frame(key)
            except FenwindError:
                continue
            if in_space(frame):
                found.append((key, frame, given_in(reader, key)))
        return _Inputs(frames=tuple(found)), None

    def solve(self, inputs: _Inputs, progress: Progress) -> KnownPoints:
        """Points by mark id, of the first frame that gives each."""
        found = [(key, _of_frame(frame, rows)) for key, frame, rows in inputs.frames]
        parts = [part for _, part in found if part is not None]
        if not parts:
            return NONE_KNOWN
        marks = [key for part in parts for key in part[0]]
        frames = [key for key, part in found if part is not None for _ in part[0]]
        # The first of equals holds: it is written last.
        place = {key: i for i, key in reversed(list(enumerate(marks)))}
        return KnownPoints(
            place=place, table=np.concatenate([part[1] for part in parts], axis=1),
            frames={key: frames[i] for key, i in place.items()},
        )  # fmt: skip


def to_receivers(
    frame: Frame, lat: FloatArray, lon: FloatArray, h: FloatArray
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """Latitude, longitude (radians) and ellipsoidal height of a frame's own datum in the system that
    receivers' positions are in beside it."""
    if receiver_system(frame) != WGS84:
        return lat, lon, h
    system = frame.geodetic_crs.to_3d().to_wkt()
    done = convert(system, WGS84, lon / RAD_PER_DEGREE, lat / RAD_PER_DEGREE, h, frame.spec.epoch_year)
    return done.second * RAD_PER_DEGREE, done.first * RAD_PER_DEGREE, done.height


def _of_frame(frame: Frame, rows: Any) -> tuple[list[str], FloatArray] | None:
    """Marks and latitude, longitude, height and sigmas (5, k) of what one frame gives."""
    e, n, height = rows["e_m"], rows["n_m"], rows["height_m"]
    fine = np.flatnonzero(np.isfinite(e + n + height))
    if not fine.size:
        return None
    lat, lon = frame.inverse(e[fine], n[fine])
    lat, lon, h = to_receivers(frame, lat, lon, height[fine] + frame.geoid_height(lat, lon))
    values = np.stack([lat, lon, h, rows["sigma_h_m"][fine], rows["sigma_v_m"][fine]])
    there = np.isfinite(values[:3]).all(axis=0)
    return [rows["mark"][i] for i in fine[there]], values[:, there]
