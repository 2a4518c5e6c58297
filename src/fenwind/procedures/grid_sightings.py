"""Sightings and traverses on the grid of a frame: each distance by its own line's factor, each direction
by its own arc-to-chord."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from fenwind.geodesy.frames import Frame
from fenwind.geodesy.grid_line import grid_lines
from fenwind.procedures.resection import Reduced, Resection
from fenwind.procedures.traverse import Kind, Traverse, TraverseResult, closing_kind

FloatArray = NDArray[np.float64]


def line_factors(
    frame: Frame, found: Resection, places: FloatArray, height: float, usual: float
) -> tuple[FloatArray, FloatArray]:
    """Factors (k,) of horizontal distances at the height of an instrument, and what directions have to be
    turned by (k,), from where it was found nearly to places (3, k) of targets, nan where nobody knows;
    height: of the instrument's axis in the frame; usual: the factor of those."""
    start = np.array([[found.e], [found.n], [height]])
    known = np.isfinite(places[:2]).all(axis=0) & (np.hypot(*(places[:2] - start[:2])) > 0.01)
    ends = np.where(known, places, start + np.array([[1.0], [1.0], [0.0]]))
    # Distances are level at the instrument, whatever the height of the target.
    lines = grid_lines(frame, start, np.vstack([ends[:2], np.full(ends.shape[1], height)]))
    fine = known & np.isfinite(lines.factor)
    return np.where(fine, lines.factor, usual), np.where(known, lines.arc_to_chord, 0.0)


def turned(reduced: Reduced, turns: FloatArray) -> Reduced:
    """Sightings with their directions turned (k,)."""
    return replace(reduced, direction=reduced.direction + turns)


def traverse_on_grid(
    frame: Frame, work: Traverse, found: TraverseResult, back: FloatArray | None, fore: FloatArray | None,
    usual: float,
) -> Traverse:  # fmt: skip
    """A traverse as it was booked, its lines on the grid from where its stations were found nearly. Distances
    are horizontal at the mean height of each line; usual: the factor of lines without heights. back, fore:
    where the marks of the first backsight and of the foresight are (3,), None for an azimuth alone."""
    place = {name: found.adjusted[:, i] for i, name in enumerate(work.names)}
    before = dict(zip(work.names[1:], found.adjusted.T[:-1], strict=True))
    if back is not None:
        before.setdefault(work.names[0], back)
    rows = [*work.legs, *work.shots]
    ends = [*(place[leg.there] for leg in work.legs), *found.shots.T]
    starts = [place[row.here] for row in rows]
    behind = [before.get(row.here, start) for row, start in zip(rows, starts, strict=True)]
    close, fore = found.adjusted[:, -1], found.adjusted[:, -1] if fore is None else fore
    lines = grid_lines(
        frame, np.array([*starts, *starts, close, close]).T,
        np.array([*ends, *behind, fore, found.adjusted[:, -2]]).T,
    )  # fmt: skip
    # A line to its own start stands for one whose end nobody knows.
    bend = np.where(lines.length > 0.0, lines.arc_to_chord, 0.0)
    factor = np.where(np.isfinite(lines.factor), lines.factor, usual).tolist()
    turns = (bend[: len(rows)] - bend[len(rows) : -2]).tolist()
    moved = [
        replace(row, distance=row.distance * f, direction=_turned(row.kind, row.direction, turn))
        for row, f, turn in zip(rows, factor[: len(rows)], turns, strict=True)
    ]
    hung, angle = work.ends, work.ends.closing_angle
    if angle is not None:
        hung = replace(hung, closing_angle=_turned(closing_kind(work), angle, float(bend[-2] - bend[-1])))
    many = len(work.legs)
    return replace(work, legs=tuple(moved[:many]), shots=tuple(moved[many:]), ends=hung)


def _turned(kind: Kind, direction: float, turn: float) -> float:
    """A booked direction when its sight lies so much further clockwise from the backsight; an azimuth is one
    of the grid already."""
    return direction + {"azimuth": 0.0, "left": -turn}.get(kind, turn)
