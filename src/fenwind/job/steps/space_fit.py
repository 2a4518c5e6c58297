"""Fits in space: from what is known or measured in one frame onto what is given in another, both with a
datum, and where that carries what is not given there, forth and back."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.estimation.distributions import f_tail
from fenwind.geodesy.frames import Frame
from fenwind.geodesy.geocentric import enu_axes, from_xyz, to_xyz
from fenwind.job.reader import Digest, Reader
from fenwind.job.state import JobState
from fenwind.job.steps.carried_on import given_sets
from fenwind.job.steps.known import known, mark_names
from fenwind.job.steps.occupied import occupied, plane_axes
from fenwind.job.steps.outcome import (
    CandidateSet,
    Drawing,
    Node,
    OfRecord,
    Outcome,
    TrailStep,
    place_figures,
)
from fenwind.procedures.datum_fit import Compared, DatumFit, compared, datum_fit, leave_one_out
from fenwind.procedures.onto_plane import tied
from fenwind.procedures.positions import Positions
from fenwind.progress import Progress
from fenwind.records.lines import TraverseBook
from fenwind.records.network import NetworkStep
from fenwind.records.setups import Setup
from fenwind.records.space_fits import SpaceFit

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True, eq=False)
class Side:
    """Positions of a frame in space: ids of marks, geocentric (3, k) on its own ellipsoid (a, f), their
    covariance (3, 3, k) in geocentric axes, nan where nobody knows; loose: heights that nothing ties to the
    ellipsoid were taken as above it."""

    keys: tuple[str, ...]
    xyz: FloatArray
    covariance: FloatArray
    ellipsoid: tuple[float, float]
    loose: bool


@dataclass(frozen=True, kw_only=True, eq=False)
class Carried:
    """A fit in space and what came of it. pairs: ids of marks in both; used (k,): which took part; residuals,
    without (3, k): carried - given in local east, north, up, by all and by the others alone; chance (k,): how
    likely a pair as good as the others misses by so much; new: what it carried that is not given, on the
    plane of the target frame; back: the same the other way, on that of the source frame."""

    step: SpaceFit
    names: Mapping[str, str]
    fit: DatumFit
    compared: Compared
    pairs: tuple[str, ...]
    used: NDArray[np.bool_]
    residuals: FloatArray
    without: FloatArray
    chance: FloatArray
    loose: tuple[bool, bool]
    new: Positions
    back: Positions


@dataclass(frozen=True, kw_only=True, eq=False)
class _Inputs:
    """source, target: what pairs are made of; there: more of the target frame, to be carried back."""

    step: SpaceFit
    frames: tuple[Frame, Frame]
    source: Positions
    target: Positions
    there: Positions
    names: Mapping[str, str]


def space_node(key: str) -> Node:
    """The step of a fit's id."""
    return Node("space fit", key)


class SpaceFitKind(OfRecord):
    """See the module."""

    name = "space fit"
    record = SpaceFit

    def targets(self, state: JobState, node: Node) -> tuple[str, ...]:
        """The frame it carries onto, and the one it carries back into."""
        step = state.of(SpaceFit)[node.subject]
        return (step.target_frame, step.source_frame)

    def read(self, node: Node, reader: Reader) -> tuple[_Inputs, Digest | None]:
        """What is given in both frames; adjusted, sighted, traversed and measured in the first."""
        step = reader.needed(SpaceFit, node.subject)
        source, target = (reader.result(known(key)) for key in (step.source_frame, step.target_frame))
        there = target
        for key, one in given_sets(reader, NetworkStep, Setup, TraverseBook):
            network = reader.record(NetworkStep, one.key)
            if network is not None and network.frame != key:
                continue  # converted from another frame: that would be a pair of a mark with itself
            if key == step.source_frame:
                source = _joined(source, one.positions)
            elif key == step.target_frame:
                there = _joined(there, one.positions)
        source = _joined(source, reader.result(occupied(step.source_frame)).plane)
        frames = reader.frame(step.source_frame), reader.frame(step.target_frame)
        return _Inputs(
            step=step, frames=frames, source=source, target=target, there=there, names=mark_names(reader),
        ), None  # fmt: skip

    def solve(self, inputs: _Inputs, progress: Progress) -> Carried:
        """Fit and carry. Raises ProcedureError for a frame without a datum and for too few pairs."""
        step = inputs.step
        if step.source_frame == step.target_frame:
            raise ProcedureError("it leads from a frame onto itself", hint="Choose another frame")
        one, two, there = (
            _in_space(points, inputs.frames[side])
            for side, points in ((0, inputs.source), (1, inputs.target), (1, inputs.there))
        )
        place = {key: i for i, key in enumerate(two.keys)}
        pairs = tuple(key for key in one.keys if key in place and key in inputs.names)
        used = np.array([key not in step.off for key in pairs], dtype=bool)
        at = [one.keys.index(key) for key in pairs]
        source, target = one.xyz[:, at], two.xyz[:, [place[key] for key in pairs]]
        fit = datum_fit(source[:, used], target[:, used], step.parameters)
        progress.check()
        local = enu_axes(*from_xyz(target, *two.ellipsoid)[:2])
        without = fit.carry(source) - target
        chance, others = (
            np.full(len(pairs), np.nan),
            leave_one_out(source[:, used], target[:, used], step.parameters),
        )
        without[:, used] = others.away
        if others.dof > 0:
            chance[used] = f_tail(others.test, 3, others.dof)
        residuals = np.einsum("ijk,jk->ik", local, fit.carry(source) - target)
        return Carried(
            step=step, names=inputs.names, fit=fit, compared=compared(source[:, used], target[:, used]),
            pairs=pairs, used=used, residuals=residuals, without=np.einsum("ijk,jk->ik", local, without),
            chance=chance, loose=(one.loose, two.loose), new=_new(inputs, fit, one, two, back=False),
            back=_new(inputs, fit, there, one, back=True),
        )  # fmt: skip

    def gives(self, outcome: Outcome) -> Iterable[tuple[str, CandidateSet]]:
        """What it carried."""
        found: Carried = outcome.result
        if len(found.new):
            yield found.step.target_frame, CandidateSet(
                key=outcome.node.subject, place="space", basis="carried", positions=found.new,
                why=f"carried by {found.step.name}", behind=(outcome.node,),
            )  # fmt: skip
        if len(found.back):
            yield found.step.source_frame, CandidateSet(
                key=outcome.node.subject, place="space", basis="carried", positions=found.back,
                why=f"carried back by {found.step.name}", behind=(outcome.node,),
            )  # fmt: skip

    def trail(self, node: Node, result: Carried, mark: str) -> Iterable[TrailStep]:
        """Where it was carried to."""
        for points, way in ((result.new, ""), (result.back, " back")):
            row = points.index.get(mark)
            if row is not None:
                note = f"in space{way}, {result.step.parameters} parameters"
                yield TrailStep(title="", note=note, figures=place_figures(points, row))

    def drawing(self, node: Node, result: Carried) -> Drawing:
        """What is left over in plan at every pair."""
        roles = {
            key: "held" if used else "check" for key, used in zip(result.pairs, result.used, strict=True)
        }
        return Drawing(
            frame=result.step.target_frame, roles=roles, vector_marks=result.pairs,
            vectors=result.residuals[:2], covariance=np.zeros((2, 2, len(result.pairs))),
        )  # fmt: skip

    def named(self, node: Node, outcome: Outcome, names: Mapping[str, str], state: JobState) -> Any:
        """What came of it, or why nothing did."""
        return outcome.result if outcome.error is None else outcome.error


def _joined(one: Positions, other: Positions) -> Positions:
    """The positions of one set, and those of another that it has not."""
    new = [i for i, key in enumerate(other.names) if key not in one.index]
    other = other.take(np.array(new, dtype=np.intp))
    return Positions(
        names=(*one.names, *other.names), e_m=np.concatenate([one.e_m, other.e_m]),
        n_m=np.concatenate([one.n_m, other.n_m]), height_m=np.concatenate([one.height_m, other.height_m]),
        covariance=np.concatenate([one.covariance, other.covariance], axis=2),
    )  # fmt: skip


def _in_space(points: Positions, frame: Frame) -> Side:
    """Positions of a frame that are known in all three dimensions."""
    if not frame.has_datum:
        raise ProcedureError(
            f"{frame.spec.name} has no datum, so that its marks are nowhere in space",
            hint="Choose a frame with a datum; a fit in plan and height needs none",
        )
    lat, lon = frame.inverse(points.e_m, points.n_m)
    h = points.height_m + (frame.geoid_height(lat, lon) if tied(frame) else 0.0)
    rows = np.flatnonzero(np.isfinite(lat + lon + h))
    figure = frame.geodetic_crs.ellipsoid
    assert figure is not None
    flattening = 1.0 / figure.inverse_flattening if figure.inverse_flattening else 0.0
    ellipsoid = (figure.semi_major_metre, flattening)
    back = np.moveaxis(np.linalg.inv(np.moveaxis(plane_axes(frame, lat[rows], lon[rows]), 2, 0)), 0, 2)
    return Side(
        keys=tuple(points.names[i] for i in rows), xyz=to_xyz(lat[rows], lon[rows], h[rows], *ellipsoid),
        covariance=np.einsum("iak,abk,jbk->ijk", back, points.covariance[:, :, rows], back),
        ellipsoid=ellipsoid, loose=not tied(frame),
    )  # fmt: skip


def _new(inputs: _Inputs, fit: DatumFit, one: Side, two: Side, back: bool) -> Positions:
    """What the fit carried from one side that the other has not, on the plane there: as good as it was, and
    as the fit makes it. back: from the target to the source."""
    frame, given = inputs.frames[0 if back else 1], set(two.keys)
    rows = np.array(
        [i for i, k in enumerate(one.keys) if k not in given and k in inputs.names], dtype=np.intp
    )
    if not rows.size:
        return inputs.target.take(rows)
    xyz = fit.back(one.xyz[:, rows]) if back else fit.carry(one.xyz[:, rows])
    lat, lon, h = from_xyz(xyz, *two.ellipsoid)
    e, n = frame.forward(lat, lon)
    height = h - (frame.geoid_height(lat, lon) if tied(frame) else 0.0)
    by_fit = np.nan_to_num(fit.point_covariance(one.xyz[:, rows]))
    plane = plane_axes(frame, lat, lon)
    covariance = np.einsum("iak,abk,jbk->ijk", plane, one.covariance[:, :, rows] + by_fit, plane)
    keep = np.flatnonzero(np.isfinite(e + n))
    return Positions(
        names=tuple(one.keys[i] for i in rows[keep]), e_m=e[keep], n_m=n[keep], height_m=height[keep],
        covariance=covariance[:, :, keep],
    )  # fmt: skip
