"""Resection: where an instrument stands, from sightings of marks that are known.

Every sighting is an observation of its own. The distance used is reduced to the horizontal at the
instrument's height: hd = S sin z - (1 - K/2) S^2 sin z cos z / R, dh = S cos z + (1 - K) (S sin z)^2 / (2 R)
+ hi - ht (common practice, R and K as given). Radians, metres; azimuth = direction + orientation.
"""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import EstimationError, ProcedureError
from fenwind.geodesy.refraction import EARTH_RADIUS_M
from fenwind.procedures.resection_squares import SightingSquares, Solved
from fenwind.quantities.angles import wrap_all
from fenwind.quantities.numbers import counted

FloatArray = NDArray[np.float64]
Scale = Literal["fixed", "show", "apply"]

HINT_NEEDED = "Sight three marks, or two with at least one distance"
#: Starting positions: this many a side of a square, so many times as large as what the marks span.
GRID, REACH, TRIED = 17, 4.0, 12
#: So many whole steps lead from where distances place the instrument to where what is right settles.
NEAR = 5
#: Of those places so many are tried beside the one that distances give.
BESIDE = 2
#: A sum of squares up to so many times its expectation is noise: nothing better is looked for.
NOISE = 4.0
#: How far off the mark is that stands for an azimuth: its direction is the same to 0.2" within 1,000 km.
FAR_M = 1e12


@dataclass(frozen=True, slots=True, kw_only=True)
class Sighting:
    """One sighting: target, direction, zenith angle and distance (nan without), height of the target,
    distance to be added for the prism, face 1 or 2."""

    target: str
    direction: float
    zenith: float = math.nan
    distance: float = math.nan
    target_height: float = 0.0
    prism_m: float = 0.0
    face: int = 1


@dataclass(frozen=True, slots=True, kw_only=True)
class ResectionOptions:
    """How it is solved. heights: h too. plane: no curvature and no refraction. factor: of horizontal
    distances. sigmas of one sighting: radians, metres and a part of the length. collimation, index: as they
    are known of the instrument, radians, where nothing is read in both faces; nan for unknown."""

    instrument_height: float = 0.0
    heights: bool = False
    plane: bool = False
    k: float = 0.13
    factor: float | FloatArray = 1.0
    scale: Scale = "fixed"
    sigma_direction: float = 5.0 * math.pi / 648000.0
    sigma_zenith: float = 5.0 * math.pi / 648000.0
    sigma_distance_m: float = 0.003
    sigma_distance_ppm: float = 2.0
    collimation: float = math.nan
    index: float = math.nan


@dataclass(frozen=True, kw_only=True, eq=False)
class Reduced:
    """k sightings in face 1: direction, hd and dh (nan without), and their covariance (3, 3, k) in that
    order. collimation, index: radians, nan without both faces."""

    targets: tuple[str, ...]
    direction: FloatArray
    hd: FloatArray
    dh: FloatArray
    covariance: FloatArray
    collimation: float
    index: float


@dataclass(frozen=True, kw_only=True, eq=False)
class Resection:
    """Where the instrument stands. residuals (3, k) adjusted - observed of direction, hd and dh, nan where
    one was not used. covariance of e, n or e, n, h; whole of e, n, orientation, then h and scale where they
    were solved for. scale is the estimated one, 1 where it is fixed; applied: the one that distances go
    by, 1 where it is only shown."""

    e: float
    n: float
    h: float
    orientation: float
    scale: float
    covariance: FloatArray
    sigma_orientation: float
    sigma_scale: float
    dof: int
    sum_squares: float
    residuals: FloatArray
    standardised: FloatArray = field(repr=False)
    whole: FloatArray = field(repr=False, default_factory=lambda: np.zeros((0, 0)))
    applied: float = 1.0

    @property
    def variance_factor(self) -> float | None:
        """v^T P v / dof; None without redundancy."""
        return self.sum_squares / self.dof if self.dof else None


# Reduction
# ---------------------------------------------------------------------------------------------------------


def reduce(shots: Sequence[Sighting], options: ResectionOptions, off: Collection[int] = ()) -> Reduced:
    """Bring to face 1, take collimation and index off, reduce to horizontal distance and height difference;
    off: rows that say nothing of the instrument's errors. Raises ProcedureError for a reading that cannot
    be."""
    hz, za, collimation, index = in_face_one(shots, off, options.collimation, options.index)
    names = [s.target for s in shots]
    s = np.array([shot.distance + shot.prism_m for shot in shots])
    if (s <= 0.0).any():
        bad = names[int(np.flatnonzero(s <= 0.0)[0])]
        raise ProcedureError(f"the distance to {bad} is not above 0", hint="Check distance and prism")
    up = np.array([options.instrument_height - shot.target_height for shot in shots])
    hd, dh, covariance = _horizontal(s, za, up, options)
    return Reduced(
        targets=tuple(names), direction=hz, hd=hd, dh=dh, covariance=covariance, collimation=collimation,
        index=index,
    )  # fmt: skip


def in_face_one(
    shots: Sequence[Sighting],
    off: Collection[int] = (),
    known_collimation: float = math.nan,
    known_index: float = math.nan,
) -> tuple[FloatArray, FloatArray, float, float]:
    """Directions and zenith angles (k,) as of face 1, without collimation and index, which follow: nan where
    nothing was read in both faces; then those that are known are taken off. off: rows that do not count for
    those."""
    second = np.array([s.face == 2 for s in shots])
    hz = np.array([s.direction for s in shots]) - np.where(second, math.pi, 0.0)
    za = np.array([s.zenith for s in shots])
    za = np.where(second, 2.0 * math.pi - za, za)
    kept = [i for i in range(len(shots)) if i not in off]
    collimation, index = _faces([shots[i].target for i in kept], hz[kept], za[kept], second[kept])
    sin = np.where(np.isfinite(za), np.sin(np.where(np.isfinite(za), za, 0.5 * math.pi)), 1.0)
    c, i = (
        next((v for v in (found, known) if not math.isnan(v)), 0.0)
        for found, known in ((collimation, known_collimation), (index, known_index))
    )
    return hz + np.where(second, c, -c) / sin, za - np.where(second, -i, i), collimation, index


def _faces(
    names: Sequence[str], hz: FloatArray, za: FloatArray, second: NDArray[np.bool_]
) -> tuple[float, float]:
    """Collimation and index from the face means of targets read in both faces; nan without."""
    c, i = [], []
    for name in dict.fromkeys(names):
        mine = np.array([n == name for n in names])
        one, two = np.flatnonzero(mine & ~second), np.flatnonzero(mine & second)
        if not one.size or not two.size:
            continue
        first = hz[one[0]]
        means = [float(np.mean(wrap_all(hz[k] - first))) for k in (one, two)]
        zenith = [float(np.nanmean(za[k])) if np.isfinite(za[k]).any() else math.nan for k in (one, two)]
        middle = 0.5 * (zenith[0] + zenith[1])
        sin = math.sin(middle) if math.isfinite(middle) else 1.0
        c.append(sin * float(wrap_all(np.array(means[0] - means[1]))) / 2.0)
        if math.isfinite(middle):
            i.append((zenith[0] - zenith[1]) / 2.0)
    return (float(np.mean(c)) if c else math.nan), (float(np.mean(i)) if i else math.nan)


def _horizontal(
    s: FloatArray, za: FloatArray, up: FloatArray, o: ResectionOptions
) -> tuple[FloatArray, FloatArray, FloatArray]:
    """hd, dh (nan without a zenith angle) and the covariance (3, 3, k) of direction, hd and dh."""
    slope = np.isfinite(za)
    z = np.where(slope, za, 0.5 * math.pi)
    bend = 0.0 if o.plane else 1.0 / EARTH_RADIUS_M
    sin, cos = np.sin(z), np.cos(z)
    a, b = (1.0 - 0.5 * o.k) * bend, 0.5 * (1.0 - o.k) * bend
    hd = np.where(slope, s * sin - a * s**2 * sin * cos, s) * o.factor
    dh = np.where(slope, s * cos + b * (s * sin) ** 2 + up, np.nan)
    by_s = np.stack(
        [np.where(slope, sin - 2.0 * a * s * sin * cos, 1.0) * o.factor, cos + 2.0 * b * s * sin**2]
    )
    by_z = np.stack(
        [
            np.where(slope, s * cos - a * s**2 * np.cos(2.0 * z), 0.0) * o.factor,
            -s * sin + 2.0 * b * s**2 * sin * cos,
        ]
    )
    var_s = (o.sigma_distance_m + o.sigma_distance_ppm * 1e-6 * s) ** 2
    covariance = np.zeros((3, 3, s.size))
    covariance[0, 0] = o.sigma_direction**2
    covariance[1:, 1:] = np.einsum("ik,jk,k->ijk", by_s, by_s, var_s) + np.einsum(
        "ik,jk,k->ijk", by_z, by_z, np.full(s.size, o.sigma_zenith**2)
    )
    return hd, dh, covariance


def level_at_mean(slope: float, zenith: float, hi: float, ht: float, k: float = 0.13) -> tuple[float, float]:
    """Horizontal distance at the mean height of both ends, and the height difference of their marks, of a
    slope distance (metres) and a zenith angle (radians) from an instrument hi over its mark to a target ht
    over its own; k: refraction. The formulas of `reduce`, brought to the mean height."""
    shot = Sighting(target="", direction=0.0, zenith=zenith, distance=slope, target_height=ht)
    one = reduce([shot], ResectionOptions(instrument_height=hi, heights=True, k=k))
    rise = float(one.dh[0]) - hi + ht
    return float(one.hd[0]) * (1.0 + rise / (2.0 * EARTH_RADIUS_M)), float(one.dh[0])


# Solution
# ---------------------------------------------------------------------------------------------------------


@dataclass(frozen=True, kw_only=True, eq=False)
class Case:
    """What is solved: reduced sightings that take part, the coordinates of their targets (3, k), which of
    direction, hd and dh are used (3, k)."""

    reduced: Reduced
    known: FloatArray
    used: NDArray[np.bool_]
    heights: bool


def along(azimuth: float, near: FloatArray) -> FloatArray:
    """The target (3,) that stands for an azimuth: a mark so far off that its direction is the same from
    wherever the instrument may stand near a place (2,)."""
    return np.array([near[0] + FAR_M * math.sin(azimuth), near[1] + FAR_M * math.cos(azimuth), math.nan])


def is_far(known: FloatArray) -> NDArray[np.bool_]:
    """Which targets (3, k) stand for an azimuth."""
    return np.asarray((np.abs(known[:2]) > 0.1 * FAR_M).any(axis=0))


def with_known_sigmas(reduced: Reduced, known: FloatArray, covariance: FloatArray, at: FloatArray) -> Reduced:
    """Sightings (k,) whose covariance holds what their targets are known to as well: known (3, k) places of
    targets with covariance (3, 3, k) of e, n, h, nan for what is not known, seen from a place (2,). What
    several sightings of one target share is divided among them."""
    de, dn = known[0] - at[0], known[1] - at[1]
    d2 = de * de + dn * dn
    d, zero, one = np.sqrt(d2), np.zeros(de.size), np.ones(de.size)
    slope = np.array([[dn / d2, -de / d2, zero], [de / d, dn / d, zero], [zero, zero, one]])
    times = np.array([reduced.targets.count(name) for name in reduced.targets], dtype=float)
    more = np.einsum("ijk,jlk,mlk->imk", slope, np.nan_to_num(covariance) * times, slope)
    return replace(reduced, covariance=reduced.covariance + more)


def moves_with_targets(case: Case, found: Resection) -> FloatArray:
    """How what is solved for moves with the places of the targets: (n, 3, k), to the coordinates of every
    sighting's target from all unknowns of `found.whole`."""
    heights, free = not math.isnan(found.h), found.whole.shape[0] > 3 + (not math.isnan(found.h))
    squares = _squares(case, heights, free)
    x = [found.e, found.n, found.orientation, *([found.h] * heights), *([found.applied] * free)]
    de, dn = case.known[0] - found.e, case.known[1] - found.n
    d2, scale = de * de + dn * dn, found.applied
    d, zero = np.sqrt(d2), np.zeros(de.size)
    by_place = np.array(
        [[dn / d2, -de / d2, zero], [de / d / scale, dn / d / scale, zero], [zero, zero, zero + 1.0]]
    )
    moves = found.whole @ squares.weighed(squares.at(np.array(x)))[:, :-1] @ by_place.transpose(2, 0, 1)
    return np.asarray(-moves.transpose(1, 2, 0))


def case_of(reduced: Reduced, known: FloatArray, heights: bool) -> Case:
    """The case of all sightings, some of whose targets have no height."""
    hd = np.isfinite(reduced.hd)
    dh = np.isfinite(reduced.dh) & hd & np.isfinite(known[2]) if heights else np.zeros(hd.shape, dtype=bool)
    return Case(
        reduced=reduced, known=known, used=np.stack([np.ones(hd.shape, dtype=bool), hd, dh]), heights=heights
    )


def part_of(case: Case, keep: NDArray[np.bool_]) -> Case:
    """The case with some sightings only."""
    r = case.reduced
    rows = np.flatnonzero(keep)
    reduced = replace(
        r, targets=tuple(r.targets[i] for i in rows), direction=r.direction[rows], hd=r.hd[rows],
        dh=r.dh[rows], covariance=r.covariance[:, :, rows],
    )  # fmt: skip
    return Case(reduced=reduced, known=case.known[:, rows], used=case.used[:, rows], heights=case.heights)


def solve(case: Case, scale: Scale, start: FloatArray | None = None) -> Resection:
    """Solve for e, n, orientation, and h and scale where they are asked for, from a start or from the best
    places around the marks. Raises ProcedureError when there is too little, EstimationError when it is not
    determined."""
    heights = _with_heights(case)
    squares = _squares(case, heights, scale == "apply")
    best = _best(case, squares, [start] if start is not None else _starts(case))
    result = _result(case, squares, best, heights, scale == "apply")
    if scale == "show":
        free = solve(case, "apply", np.array([result.e, result.n, result.orientation]))
        result = replace(result, scale=free.scale, sigma_scale=free.sigma_scale)
    return result


def tried(case: Case, scale: Scale) -> tuple[Solved, int]:
    """A case that is only tried, such as one with a mark exchanged: what it leaves, and its redundancy,
    without statistics. From where distances place it, or from the best places, by whole steps alone: what
    is right settles there. Raises what `solve` does, EstimationError also where it does not settle."""
    squares = _squares(case, _with_heights(case), scale == "apply")
    laid = _laid(case)
    if laid is not None:
        return squares.solve(laid, NEAR, damped=False), squares.observed - squares.n
    return _best(case, squares, _around(case)[: 1 + BESIDE], damped=False), squares.observed - squares.n


def _with_heights(case: Case) -> bool:
    """Whether a case is solved for the height. Raises ProcedureError where there is too little."""
    _check_enough(case)
    heights = case.heights and bool(case.used[2].any())
    if case.heights and not heights:
        raise ProcedureError(
            "no sighting gives a height", hint="Read zenith angle and distance to a mark with a height"
        )
    return heights


def _squares(case: Case, heights: bool, free: bool) -> SightingSquares:
    r = case.reduced
    return SightingSquares(case.known, (r.direction, r.hd, r.dh), r.covariance, case.used, heights, free)


def _best(case: Case, squares: SightingSquares, starts: Iterable[FloatArray], damped: bool = True) -> Solved:
    """The least squares that the starts lead to; the first that leaves no more than noise ends the search."""
    dof = squares.observed - squares.n
    best: Solved | None = None
    error: EstimationError | None = None
    for one in starts:
        try:
            found = squares.solve(one, damped=damped)
        except EstimationError as failed:
            error = failed
            continue
        if best is None or found.sum_squares < best.sum_squares * (1.0 - 1e-9) - 1e-12:
            best = found
        if case.used[1].any() and best.sum_squares <= NOISE * dof:
            break
    if best is not None:
        return best
    if not case.used[1].any():
        raise EstimationError(
            "directions alone do not place the instrument: it is on or near the danger circle through its "
            "marks", hint="Measure a distance, or sight another mark",
        ) from error  # fmt: skip
    raise error or EstimationError("there is no solution", hint=HINT_NEEDED)


def _check_enough(case: Case) -> None:
    in_plan, far = case.used[0] | case.used[1], is_far(case.known)
    near = (in_plan & ~far).tolist()
    marks = len({name for name, counts in zip(case.reduced.targets, near, strict=True) if counts})
    distances = bool(case.used[1].any())
    if not marks:
        raise ProcedureError("no known mark was sighted", hint=HINT_NEEDED)
    if (far & in_plan).any() and (marks > 1 or distances):
        return  # the azimuth turns the circle, one mark with a distance or two without one do the rest
    if marks < 2 or (marks < 3 and not distances):
        raise ProcedureError(
            f"{counted(marks, 'mark')} with {'a distance' if distances else 'no distance'} "
            "cannot place the instrument", hint=HINT_NEEDED,
        )  # fmt: skip


def _starts(case: Case) -> Iterator[FloatArray]:
    """Starting e, n, orientation: where marks read with distances lie as they were read, and a few of the
    best of a square of places around the marks; all those where that is not known."""
    laid = _laid(case)
    if laid is not None:
        yield laid
    yield from _around(case)[: None if laid is None else BESIDE]


def _laid(case: Case) -> FloatArray | None:
    """Where sightings with distances, turned and shifted as a figure without changing its size, lie best on
    their marks; None with fewer than two marks. The turn is that of the products of what is read and what is
    known, both from their means (Helmert's transformation in complex numbers, its scale left at 1)."""
    rows = np.flatnonzero(case.used[:2].all(axis=0) & ~is_far(case.known))
    if not rows.size:
        return None
    known = case.known[0, rows] + 1j * case.known[1, rows]
    hd, direction = case.reduced.hd[rows], case.reduced.direction[rows]
    read = hd * (np.sin(direction) + 1j * np.cos(direction))
    turn = np.sum((known - known.mean()) * np.conj(read - read.mean()))
    if turn == 0.0:
        return None  # one mark
    turn /= abs(turn)
    at = known.mean() - turn * read.mean()
    return np.array([at.real, at.imag, -np.angle(turn)])


def _around(case: Case) -> list[FloatArray]:
    """Starting e, n, orientation: the best of a square of places around the marks."""
    near = case.known[:2, ~is_far(case.known)]
    low, high = near.min(axis=1), near.max(axis=1)
    reach = float(max((high - low).max(), np.nanmax(np.where(case.used[1], case.reduced.hd, 0.0)), 1.0))
    middle = 0.5 * (low + high)
    steps = np.linspace(-0.5, 0.5, GRID) * REACH * reach
    # Off the marks themselves and off lines of symmetry.
    e, n = (
        g.ravel() for g in np.meshgrid(middle[0] + steps + 0.0137 * reach, middle[1] + steps + 0.0071 * reach)
    )
    de, dn = case.known[0][:, None] - e, case.known[1][:, None] - n
    off = np.arctan2(de, dn) - case.reduced.direction[:, None]
    turn = np.arctan2(np.sin(off).mean(axis=0), np.cos(off).mean(axis=0))
    cost = np.sum(wrap_all(off - turn) ** 2, axis=0)
    hd = np.where(case.used[1], case.reduced.hd, 0.0)[:, None]
    d = np.hypot(de, dn)
    cost = cost + np.sum(np.where(case.used[1][:, None], (d - hd) / reach, 0.0) ** 2, axis=0)
    best = np.argsort(cost)[:TRIED]
    return [np.array([e[i], n[i], turn[i]]) for i in best]


def _result(case: Case, squares: SightingSquares, found: Solved, heights: bool, free: bool) -> Resection:
    q, x = found.cofactors, found.x.tolist()
    unknowns = [0, 1, 3] if heights else [0, 1]
    return Resection(
        e=x[0], n=x[1], h=x[3] if heights else math.nan, orientation=x[2], scale=x[-1] if free else 1.0,
        covariance=q[unknowns][:, unknowns], sigma_orientation=math.sqrt(max(q[2, 2], 0.0)),
        sigma_scale=math.sqrt(max(q[-1, -1], 0.0)) if free else math.nan,
        dof=squares.observed - squares.n, sum_squares=found.sum_squares,
        residuals=squares.residuals(found.rows), standardised=squares.standardised(found), whole=q,
        applied=x[-1] if free else 1.0,
    )  # fmt: skip
