"""A network as it is adjusted in practice: control above a geoid, what is not determined left out and told,
positions onto the plane of a frame with their joint covariance."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Sequence
from contextlib import suppress
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import DatumDefectError, EstimationError, ProcedureError
from fenwind.geodesy.frames import Frame
from fenwind.geodesy.geoid import GeoidGrid
from fenwind.procedures.network import NetworkResult, covariances_of, solve, undetermined
from fenwind.procedures.network_meaning import other_meanings
from fenwind.procedures.network_model import Network
from fenwind.procedures.network_start import starting_marks, without
from fenwind.procedures.onto_plane import into_datum
from fenwind.procedures.positions import Positions
from fenwind.procedures.to_plane import geoid_reduced

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.intp]

#: Control marks that are let go of one at a time, and iterations that a network has to settle in then.
MOST_HELD, TRIED = 30, 12


def on_ellipsoid(net: Network, frame: Frame) -> Network:
    """A network in space on the ellipsoid (metres) of a frame that has a datum, above its geoid grid where
    it has one. Raises ProcedureError for a mark outside the grid."""
    ellipsoid = frame.geodetic_crs.ellipsoid
    assert ellipsoid is not None
    geoid = frame.geoid_height if isinstance(frame.geoid, GeoidGrid) else None
    a, f = ellipsoid.semi_major_metre, 1.0 / ellipsoid.inverse_flattening
    return with_geoid_heights(replace(net, a=a, f=f, geoid=geoid))


def with_geoid_heights(net: Network) -> Network:
    """Control heights above the network's geoid as heights above the ellipsoid; one without a place takes
    the geoid in the middle of the control. Raises ProcedureError for a mark outside the grid."""
    if net.geoid is None:
        return net
    placed = [g for g in net.control.values() if g.has[0]]
    if not placed:
        return net
    middle = float(np.mean([g.first for g in placed])), float(np.mean([g.second for g in placed]))
    control = {}
    for name, g in net.control.items():
        lat, lon = (g.first, g.second) if g.has[0] else middle
        n = float(net.geoid(np.array([lat]), np.array([lon]))[0])
        if not math.isfinite(n):
            raise ProcedureError(f"{name} lies outside the geoid grid", hint="Give a grid that covers it")
        control[name] = replace(g, h=g.h + n)
    return replace(net, control=control)


#: A network whose control is read otherwise settles under this variance factor.
SETTLED = 30.0


def determined(net: Network) -> NetworkResult:
    """Solve what is determined; the rest is in `lost`. Raises ProcedureError when nothing is."""
    lost: set[str] = set()
    unplaced: set[str] = set()
    for _ in range(20):
        part = without(net, lost) if lost else net
        if not part.rows:
            break
        start, missing = starting_marks(part)
        if missing:
            unplaced |= _observed_enough(part, missing)
            lost |= set(missing)
            continue
        try:
            result = solve(part, start)
        except DatumDefectError as error:
            found = undetermined(error, start.names) - set(part.joint.names if part.joint is not None else ())
            if not found:
                raise
            lost |= found
            continue
        except EstimationError as error:
            result = _taken_otherwise(part) or _without_one_control(part, error)
        return replace(result, lost=tuple(sorted(lost)), unplaced=tuple(sorted(unplaced)))
    if unplaced:
        raise ProcedureError(
            f"no starting place was found for {', '.join(sorted(unplaced)[:5])}",
            hint="Give it approximate coordinates in the control, with planned = yes",
        )
    raise ProcedureError("nothing of the network is determined", hint="Give control, or observe more")


def _observed_enough(net: Network, names: Sequence[str]) -> set[str]:
    """Marks with at least as many observations as a position has coordinates: these may be determined all the
    same."""
    seen = Counter(n for r in net.rows for n in {r.at, r.to, r.back})
    return {name for name in names if seen[name] >= net.dimensions}


def _taken_otherwise(net: Network) -> NetworkResult | None:
    """A network that does not settle, with its control read otherwise; None where that does not make it fit
    what was observed."""
    for words, other in other_meanings(net):
        start, missing = starting_marks(other)
        if missing:
            continue
        with suppress(EstimationError):
            result = solve(other, start, TRIED)
            factor = result.found.variance_factor if result.found is not None else None
            if factor is not None and factor < SETTLED:
                return replace(result, taken_as=words)
    return None


def _without_one_control(net: Network, error: EstimationError) -> NetworkResult:
    """A network that does not settle, without the held control mark that keeps it from it. Raises the error
    where there is none such."""
    held = [n for n in net.control if any(net.held(n))]
    best: NetworkResult | None = None
    for name in held[:MOST_HELD] if len(held) > 1 else ():
        freed = replace(net, control={n: g for n, g in net.control.items() if n != name})
        start, missing = starting_marks(freed)
        if missing:
            continue
        with suppress(EstimationError):
            result = replace(solve(freed, start, TRIED), let_go=name, net=net)
            if best is None or _squares(result) < _squares(best):
                best = result
    if best is None:
        raise error
    return best


def _squares(result: NetworkResult) -> float:
    return result.found.sum_squares if result.found is not None else math.inf


def plane_turn(frame: Frame, lat: FloatArray, lon: FloatArray) -> FloatArray:
    """East, north, up at places (k,) as axes of the plane (3, 3, k): the convergence."""
    gamma = np.asarray(frame.point_scale(lat, lon)[1])
    turn = np.zeros((3, 3, gamma.size))
    turn[0, 0] = turn[1, 1] = np.cos(gamma)
    turn[1, 0], turn[2, 2] = np.sin(gamma), 1.0
    turn[0, 1] = -turn[1, 0]
    return turn


@dataclass(frozen=True, kw_only=True, eq=False)
class NetworkJoint:
    """How the marks of a network vary together: unknowns (3, m) of each row (-1 where it has none) and what
    turns its own east, north, up onto the plane (3, 3, m)."""

    result: NetworkResult
    unknowns: IntArray
    turn: FloatArray

    def between(self, first: IntArray, second: IntArray) -> FloatArray:
        """See Joint."""
        assert self.result.found is not None
        a, b = self.unknowns[:, first], self.unknowns[:, second]
        blocks = self.result.found.factor.cofactor_blocks(np.maximum(a, 0), np.maximum(b, 0))
        blocks = np.where((a >= 0)[:, None] & (b >= 0)[None], blocks, 0.0)
        return np.asarray(
            np.einsum("ijk,jlk,mlk->imk", self.turn[:, :, first], blocks, self.turn[:, :, second])
        )


def on_plane(
    result: NetworkResult, frame: Frame, names: Sequence[str], own: Frame | None = None
) -> Positions:
    """Marks of a network on the plane of a frame, with their joint covariance; nan where a component takes no
    part (heights of a plan, places of levelling). own: the frame that it was adjusted in, where that is
    another one. Raises FrameError when no way leads from its datum to that of the frame."""
    net, index = result.net, result.marks.index
    rows = np.array([index[n] for n in names], dtype=np.intp)
    place = result.marks.place[:, rows]
    turn = np.repeat(np.eye(3)[:, :, None], rows.size, axis=2)
    if net.plane:
        e, n, h = place
    else:
        if own is not None and own is not frame:
            system = own.geodetic_crs.to_wkt()
            there = into_datum(place[0], place[1], place[2], system, frame, own.spec.epoch_year)
            place = np.stack([there.lat_rad, there.lon_rad, there.h_ell_m])
        e, n = frame.forward(place[0], place[1])
        h = geoid_reduced(frame, tuple(names), place[0], place[1], place[2], lenient=True)
        turn = plane_turn(frame, place[0], place[1])
    none = [axis not in net.axes for axis in range(3)]
    e, n, h = (
        np.full(rows.size, np.nan) if out else np.array(v) for out, v in zip(none, (e, n, h), strict=True)
    )
    each = covariances_of(result, rows)
    covariance = np.einsum("ijk,jlk,mlk->imk", turn, each, turn)
    for axis, out in enumerate(none):
        if out:
            covariance[axis], covariance[:, axis] = np.nan, np.nan
    joint = NetworkJoint(result=result, unknowns=result.setup.unknowns[:, rows], turn=turn)
    return Positions(names=tuple(names), e_m=e, n_m=n, height_m=h, covariance=covariance, joint=joint)
