"""Positions given in other frames of the job, carried over where both frames have a datum; records stay in
the frame they were given in."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.conversion import Conversion, ConversionNote, convert
from fenwind.geodesy.frames import Frame, find_crs
from fenwind.job.known import known_positions
from fenwind.job.memo import Memo
from fenwind.job.state import JobState
from fenwind.procedures.positions import Positions
from fenwind.records.records import GivenPosition, Mark

FloatArray = NDArray[np.float64]


def operation_words(done: Conversion) -> str:
    """The operation of a conversion with its stated accuracy."""
    return done.operation + (
        f", {done.accuracy_m:g} m" if done.accuracy_m is not None else ", accuracy not stated"
    )


@dataclass(frozen=True, kw_only=True, eq=False)
class Elsewhere:
    """Positions given in other frames of the job, converted: (name of the frame, positions) each, and what to
    know about that."""

    by_frame: tuple[tuple[str, Positions], ...]
    notes: tuple[ConversionNote, ...]
    operations: dict[str, str]


def given_elsewhere(state: JobState, key: str, frames: dict[str, Frame], memo: Memo) -> Elsewhere | None:
    """Given positions of other frames with a datum on the plane of the frame `key`; None without any. Records
    stay in their own frame."""
    frame = frames[key]
    others = {k for k, f in frames.items() if k != key and f.has_datum} if frame.has_datum else set()
    versions = (state.version(GivenPosition, Mark), tuple((k, f.spec) for k, f in frames.items()))
    return memo.latest(
        ("elsewhere", key), versions, lambda: _gather_elsewhere(state, key, sorted(others), frames, memo)
    )


def _gather_elsewhere(
    state: JobState, key: str, others: list[str], frames: dict[str, Frame], memo: Memo
) -> Elsewhere | None:
    found: list[tuple[str, Positions]] = []
    notes: dict[str, ConversionNote] = {}
    operations: dict[str, str] = {}
    for other in others:
        known = known_positions(state, other, memo)
        if len(known):
            points, said, operation = _converted(known, frames[other], frames[key])
            found.append((frames[other].spec.name, points))
            operations[frames[other].spec.name] = operation
            notes |= {note.rule: note for note in said}
    return (
        Elsewhere(by_frame=tuple(found), notes=tuple(notes.values()), operations=operations)
        if found
        else None
    )


def _converted(
    known: Positions, source: Frame, target: Frame
) -> tuple[Positions, tuple[ConversionNote, ...], str]:
    """Positions of one frame on the plane of another; heights come along where both are tied to the
    ellipsoid. Sigmas are kept."""
    lat, lon = source.inverse(known.e_m, known.n_m)
    h = known.height_m + source.geoid_height(lat, lon) if _tied(source) else np.full(len(known), np.nan)
    system = source.geodetic_crs.to_3d().to_wkt()
    values, notes, operation = onto_plane(
        lat, lon, h, system, target, source.spec.epoch_year or target.spec.epoch_year
    )
    rows = np.flatnonzero(np.isfinite(values[:2]).all(axis=0))
    e, n, height = values[:, rows]
    points = Positions(
        names=tuple(known.names[i] for i in rows),
        e_m=e,
        n_m=n,
        height_m=height,
        covariance=known.covariance[:, :, rows],
    )
    return points, notes, operation


def _tied(frame: Frame) -> bool:
    """Whether heights of a frame are tied to the ellipsoid."""
    return frame.spec.height.kind in ("ellipsoid", "geoid", "vertical")


def onto_plane(
    lat_rad: FloatArray,
    lon_rad: FloatArray,
    h_ell_m: FloatArray,
    system: str,
    target: Frame,
    epoch_year: float | None,
) -> tuple[FloatArray, tuple[ConversionNote, ...], str]:
    """E, N and height (3, k) in a frame of geodetic positions in `system`, notes on the conversion, and its
    operation in words. What cannot be projected is nan, and so are heights in a frame whose heights are not
    tied to the ellipsoid."""
    lat, lon, h = lat_rad, lon_rad, h_ell_m
    notes: tuple[ConversionNote, ...] = ()
    operation = "the same datum"
    if not find_crs(system).to_2d().equals(target.geodetic_crs.to_2d(), ignore_axis_order=True):
        done = convert(
            system, target.geodetic_crs.to_3d().to_wkt(), np.degrees(lon), np.degrees(lat), h, epoch_year
        )
        lon, lat, h, notes = np.radians(done.first), np.radians(done.second), done.height, done.notes
        operation = operation_words(done)
    e, n = target.forward(lat, lon)
    fine = np.isfinite(e) & np.isfinite(n)
    height = h - target.geoid_height(lat, lon) if _tied(target) else np.full(h.shape, np.nan)
    return np.where(fine, np.stack([e, n, height]), np.nan), notes, operation
