"""The reductions of one sighting as arithmetic: from what was read to the distance, the height difference and
the azimuth that the setup goes by."""

from __future__ import annotations

import math
from collections.abc import Iterator
from typing import TYPE_CHECKING

import numpy as np

from fenwind.job.steps.outcome import Figures, Term
from fenwind.job.steps.sightings import air_factor, faces_of, off_rows, options_of, sightings_of
from fenwind.procedures.resection import Reduced, reduce
from fenwind.quantities.angles import RAD_PER_SECOND, wrap_positive, wrap_signed

if TYPE_CHECKING:
    from fenwind.job.steps.setup import Placed


def reductions(placed: Placed, row: int) -> tuple[Figures, ...]:
    """Lines of figures of a sighting, one a reduction that it went through; what changes nothing has none."""
    return tuple(Figures(kind="terms", values=(), terms=terms) for terms in _lines(placed, row) if terms)


def _lines(placed: Placed, row: int) -> Iterator[tuple[Term, ...]]:
    setup = placed.setup
    zenith, distance = setup.zenith_rad[row], setup.distance_m[row]
    shots, off = sightings_of(setup), off_rows(setup)
    hz, za, collimation, index = faces_of(setup)
    yield (
        ("hz", setup.direction_rad[row], "angle"), *_some("za", zenith, "angle"),
        *_some("slope", distance, "length"),
    )  # fmt: skip
    if math.isnan(collimation) and setup.collimation_rad is not None:
        collimation = setup.collimation_rad
    if math.isnan(index) and setup.index_rad is not None:
        index = setup.index_rad
    if setup.face[row] == 2 or math.isfinite(collimation) or math.isfinite(index):
        yield (
            ("face 1: hz", wrap_positive(float(hz[row])), "angle"), *_some("za", float(za[row]), "angle"),
            *_some("collimation", collimation, "seconds"), *_some("index", index, "seconds"),
        )  # fmt: skip
    level = reduce(shots, options_of(setup, 1.0), off)
    if distance is not None:
        yield from _on_the_level(placed, row, shots[row].distance, level)
    yield from _on_grid(placed, row, float(level.hd[row]), float(hz[row]))


def _on_the_level(placed: Placed, row: int, slope: float, level: Reduced) -> Iterator[tuple[Term, ...]]:
    """Prism and air, then the horizontal distance at the instrument and the height difference of the marks,
    curvature and refraction in both; slope: with the air in it."""
    setup = placed.setup
    prism, ppm = setup.prism_m[row], (air_factor(setup) - 1.0) * 1e6
    if prism or ppm:
        yield (
            *_some("prism", prism or math.nan, "mm"), *_some("air", ppm or math.nan, "ppm"),
            ("= slope", slope + prism, "length"),
        )  # fmt: skip
    if setup.zenith_rad[row] is not None:
        hd, dh = float(level.hd[row]), float(level.dh[row])
        hi, ht = setup.height_m, setup.target_height_m[row]
        yield (("k", setup.k, "number"), ("level", hd, "length"), *_some("rise", dh - hi + ht, "length"))
        yield (("+ instrument", hi, "length"), ("− target", ht, "length"), *_some("= dh", dh, "length"))


def _on_grid(placed: Placed, row: int, level: float, hz: float) -> Iterator[tuple[Term, ...]]:
    """The factor of its own line with the scale that is applied, what its direction is turned by, and its
    azimuth."""
    r, found = placed.reduced, placed.found
    factor = float(r.hd[row]) / level * found.applied
    turn = wrap_signed(float(r.direction[row]) - hz)
    if abs(factor - 1.0) > 1e-9:
        yield (("times", factor, "factor"), ("= on the grid", float(r.hd[row]) * found.applied, "length"))
    azimuth = wrap_positive(float(r.direction[row]) + found.orientation)
    yield (
        ("orientation", wrap_positive(found.orientation), "angle"),
        *_some("arc to chord", turn if abs(turn) > 0.05 * RAD_PER_SECOND else math.nan, "seconds"),
        ("= azimuth", azimuth, "angle"),
    )  # fmt: skip


def _some(word: str, value: float | None, kind: str) -> tuple[Term, ...]:
    return () if value is None or not np.isfinite(value) else ((word, float(value), kind),)
