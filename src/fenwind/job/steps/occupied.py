"""What was measured, on the plane of a frame: one position a mark, the weighted mean where it was occupied
more often."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FenwindError
from fenwind.geodesy.datum_change import ConversionNote
from fenwind.geodesy.frames import Frame
from fenwind.geodesy.geocentric import enu_axes, from_xyz
from fenwind.geodesy.geoid import GeoidGrid
from fenwind.job.reader import Digest, Reader, Rows, digest_of
from fenwind.job.state import JobState
from fenwind.job.steps.known import positions_digest
from fenwind.job.steps.outcome import CandidateSet, Figures, Gathering, Node, Outcome, TrailStep, with_names
from fenwind.job.steps.receiver_known import receiver_system
from fenwind.job.steps.rover import NO_ROVER, RoverMarks, rover_node
from fenwind.job.steps.velocities import Velocities, velocities
from fenwind.procedures.average import means
from fenwind.procedures.onto_plane import into_datum, tied
from fenwind.procedures.positions import ASSUMED_SIGMA_H_M, ASSUMED_SIGMA_V_M, Positions, positions
from fenwind.procedures.rover import Point
from fenwind.procedures.shared_errors import shared_by
from fenwind.procedures.to_plane import to_plane
from fenwind.progress import Progress
from fenwind.records.records import Mark, MeasuredPosition
from fenwind.records.sessions import BaseSetup

FloatArray = NDArray[np.float64]
TextArray = NDArray[np.object_]
_COLUMNS = ("mark", "lat_rad", "lon_rad", "e_m", "n_m", "h_m", "sigma_h_m", "sigma_v_m")
_SYSTEM = ("crs", "epoch_year", "frame", "session")


def occupied(frame: str, sessions: tuple[str, ...] = ()) -> Node:
    """The step that brings occupations onto a frame's plane; of some sessions only where they are named."""
    return Node("occupied", frame, sessions)


@dataclass(frozen=True, kw_only=True, eq=False)
class Occupied:
    """m measured marks on the plane of a frame. lat_rad, lon_rad (m,) of the first occupation of each, nan
    where it was not geodetic. count (m,) occupations of each; departure (3, m) the largest from their
    mean, metres. source: ids of the occupations, mark after mark. operations: how other datums were
    reached, with the stated accuracy. loose (m,): the height is one above the ellipsoid, in a frame whose
    own heights are not counted from anything that is tied to it: good for a fit, not to stand beside
    them. astray: marks of occupations that the frame has no place for; off_grid: those that its geoid grid
    does not cover, so that they have no height."""

    plane: Positions
    lat_rad: FloatArray
    lon_rad: FloatArray
    count: NDArray[np.intp]
    departure: FloatArray
    source: TextArray
    notes: tuple[ConversionNote, ...]
    loose: NDArray[np.bool_]
    operations: tuple[str, ...] = ()
    astray: tuple[str, ...] = ()
    off_grid: tuple[str, ...] = ()

    @property
    def levelled(self) -> Positions:
        """The positions without heights that are loose."""
        if not self.loose.any():
            return self.plane
        plane, covariance = self.plane, np.array(self.plane.covariance)
        covariance[2, :, self.loose] = covariance[:, 2, self.loose] = np.nan
        return replace(
            plane, height_m=np.where(self.loose, np.nan, plane.height_m), covariance=covariance, joint=None
        )

    def occupations(self, row: int) -> tuple[str, ...]:
        """Ids of the occupations of one mark."""
        end = int(self.count[: row + 1].sum())
        return tuple(self.source[end - int(self.count[row]) : end])


@dataclass(frozen=True, kw_only=True, eq=False)
class _Inputs:
    frame: Frame
    key: str
    rows: Rows
    others: dict[str, Frame]
    rover: RoverMarks
    velocities: Velocities


class OccupiedMarks(Gathering):
    """See the module."""

    name = "occupied"

    def nodes(self, state: JobState) -> Iterable[Node]:
        """Everything measured, in every frame."""
        return [occupied(key) for key, record in state.frames.items() if record.active]

    def read(self, node: Node, reader: Reader) -> tuple[_Inputs, Digest | None]:
        """Occupations that are on, of marks that are on, and that the frame can be reached from."""
        frame = reader.frame(node.subject)
        rows = reader.rows(MeasuredPosition, *_COLUMNS, *_SYSTEM, active=True)
        others = _other_frames(rows, node.subject, reader) if frame.has_datum else {}
        reach = {"": frame.has_datum, node.subject: True, **dict.fromkeys(others, True)}
        chosen = np.ones(len(rows), dtype=bool)
        for place in dict.fromkeys(rows["frame"].tolist()):
            if not reach.get(place, False):
                chosen &= rows["frame"] != place
        off = set(reader.rows(Mark, active=False).ids.tolist())
        if off or node.detail:
            pairs = zip(rows["mark"].tolist(), rows["session"].tolist(), strict=True)
            taken = [m not in off and (not node.detail or s in node.detail) for m, s in pairs]
            chosen &= np.array(taken, dtype=bool)
        rows = rows if chosen.all() else rows.where(chosen)
        files = reader.digests("file")
        specs = [frame.spec, *(other.spec for other in others.values())]
        bases = frame.has_datum and not node.detail and reader.rows(BaseSetup, active=True).ids.size
        rover = reader.result(rover_node()) if bases else NO_ROVER
        moving = velocities(reader, node.subject, frame)
        inputs = _Inputs(
            frame=frame, key=node.subject, rows=rows, others=others, rover=rover, velocities=moving
        )
        return inputs, digest_of(rows.digest(), moving.digest, specs, files, reader.digests("result"))

    def solve(self, inputs: _Inputs, progress: Progress) -> Occupied:
        """Carry onto the plane, then average; then what rovers measured from bases."""
        found = self._of_positions(inputs, progress)
        progress.check()
        return with_rover(found, inputs.frame, inputs.rover) if inputs.rover.marks else found

    def _of_positions(self, inputs: _Inputs, progress: Progress) -> Occupied:
        rows, frame = inputs.rows, inputs.frame
        lat, lon, height, notes, operations = _geodetic(inputs, progress)
        every = _on_plane(frame, inputs, lat, lon, height)
        placed = np.isfinite(every.e_m) & np.isfinite(every.n_m)
        astray = tuple(dict.fromkeys(rows["mark"][~placed].tolist()))
        if astray:
            kept = np.flatnonzero(placed)
            rows, every, lat, lon, height = (
                rows.where(placed),
                every.take(kept),
                lat[kept],
                lon[kept],
                height[kept],
            )
        off = np.isfinite(height) & np.isnan(every.height_m) & (isinstance(frame.geoid, GeoidGrid))
        marks = rows["mark"].tolist()
        places = {mark: i for i, mark in enumerate(dict.fromkeys(marks))}
        group = np.fromiter(map(places.__getitem__, marks), dtype=np.intp, count=len(marks))
        loose = np.isfinite(every.height_m) & (rows["frame"] != inputs.key) & (not tied(frame))
        if loose.any():
            # Heights of two kinds are never averaged: those that the frame's own heights are counted as win.
            beside = np.bincount(group, np.isfinite(every.height_m) & ~loose, len(places))[group] > 0
            every = replace(every, height_m=np.where(loose & beside, np.nan, every.height_m))
            loose &= ~beside
        progress.check()
        found = means(np.stack([every.e_m, every.n_m, every.height_m]), _with_sigmas(every), group)
        first = np.full(len(places), len(rows), dtype=np.intp)
        np.minimum.at(first, group, np.arange(len(rows)))
        single = found.count == 1
        covariance = np.where(single, every.covariance[:, :, first], found.covariance)
        mean = np.where(single, np.stack([every.e_m, every.n_m, every.height_m])[:, first], found.mean)
        return Occupied(
            plane=Positions(
                names=tuple(places), e_m=mean[0], n_m=mean[1], height_m=mean[2], covariance=covariance
            ),
            lat_rad=lat[first],
            lon_rad=lon[first],
            count=found.count,
            departure=found.departure,
            source=rows.ids[np.argsort(group, kind="stable")],
            notes=notes,
            loose=np.bincount(group, loose, len(places)) > 0,
            operations=operations,
            astray=astray,
            off_grid=tuple(dict.fromkeys(rows["mark"][off].tolist())),
        )

    def digest(self, result: Any) -> Digest | None:
        """That of the positions themselves."""
        more = (
            result.lat_rad,
            result.lon_rad,
            result.notes,
            result.operations,
            result.loose,
            result.astray,
            result.off_grid,
        )
        return digest_of(positions_digest(result.plane), *more)

    def gives(self, outcome: Outcome) -> Iterable[tuple[str, CandidateSet]]:
        """Measured positions of the frame."""
        node, result = outcome.node, outcome.result
        if not node.detail:
            times = result.count.tolist()
            why = tuple("measured" if c == 1 else f"mean of {c} occupations" for c in times)
            yield (
                node.subject,
                CandidateSet(
                    key="measured", place="measured", basis="measured", why=why, positions=result.levelled
                ),
            )

    def trail(self, node: Node, result: Any, mark: str) -> Iterable[TrailStep]:
        """The mean, or the projection."""
        row = result.plane.index.get(mark)
        if row is None:
            return
        plane = result.plane
        title, note = "Projected", ""
        if result.count[row] > 1:
            title = f"Mean of {result.count[row]} occupations"
            apart = result.departure[:, row]
            note = f"at most {float(np.hypot(*apart[:2])) * 1000:.1f} mm from it"
            if np.isfinite(plane.height_m[row]):
                note += f", {apart[2] * 1000:.1f} mm in height"
        if result.operations:
            note += f"{'; ' if note else ''}datum by {'; '.join(result.operations)}"
        position = Figures(
            kind="position", values=(plane.e_m[row], plane.n_m[row], plane.height_m[row]), native=True
        )
        sigma = Figures(kind="sigma", values=(plane.sigma_h_m[row], plane.sigma_v_m[row]))
        yield TrailStep(title=title, note=note, figures=(position, sigma), frame=node.subject)

    def named(self, node: Node, outcome: Outcome, names: Mapping[str, str], state: JobState) -> Any:
        """With names for ids."""
        found = outcome.result
        if found is None:
            return outcome.error.with_names(names) if outcome.error is not None else None
        said = (tuple(names.get(key, key) for key in keys) for keys in (found.astray, found.off_grid))
        astray, off_grid = said
        return replace(found, plane=with_names(found.plane, names), astray=astray, off_grid=off_grid)


def _other_frames(rows: Rows, subject: str, reader: Reader) -> dict[str, Frame]:
    """Frames with a datum, other than the subject's, that something was measured in."""
    out: dict[str, Frame] = {}
    for key in dict.fromkeys(rows["frame"].tolist()):
        if key and key != subject:
            try:
                other = reader.frame(key)
            except FenwindError:
                continue  # it has a doubt of its own; what was measured in it has no place here
            if other.has_datum:
                out[key] = other
    return out


@dataclass(frozen=True, kw_only=True, eq=False)
class RoverJoint:
    """How marks measured from bases vary together on a plane: points by row (None for others), and the
    axes of the plane at each, rows in geocentric axes (3, 3, m)."""

    points: tuple[Point | None, ...]
    axes: FloatArray

    def between(self, first: NDArray[np.intp], second: NDArray[np.intp]) -> FloatArray:
        """See Joint."""
        out = np.zeros((3, 3, first.size))
        for j in np.unique(second).tolist():
            b = self.points[j]
            at = [k for k in np.flatnonzero(second == j).tolist() if self.points[first[k]] is not None]
            if b is None or not at:
                continue
            errors = [point.errors for k in at if (point := self.points[first[k]]) is not None]
            axes = self.axes[:, :, first[at]]
            cross = shared_by(errors, b.errors)
            out[:, :, at] = np.einsum("ijk,kjl,ml->imk", axes, cross, self.axes[:, :, j])
        return out


def with_rover(found: Occupied, frame: Frame, rover: RoverMarks) -> Occupied:
    """The positions with the marks that rovers measured from bases; a mark that has both has that from its
    bases."""
    keys, points = list(rover.marks), list(rover.marks.values())
    at_lat, at_lon, at_h = from_xyz(np.array([p.xyz for p in points]).T)
    done = into_datum(at_lat, at_lon, at_h, receiver_system(frame), frame, frame.spec.epoch_year)
    lat, lon, h = done.lat_rad, done.lon_rad, done.h_ell_m
    plane = to_plane(frame, keys, lat, lon, h, lenient=True)
    fine = np.flatnonzero(np.isfinite(plane.e_m + plane.n_m))
    keys, points = [keys[i] for i in fine], [points[i] for i in fine]
    plane, lat, lon, h = plane.take(fine), lat[fine], lon[fine], h[fine]
    axes = plane_axes(frame, lat, lon)
    covariance = np.einsum(
        "ijk,jlk,mlk->imk", axes, np.stack([point.errors.total for point in points], axis=2), axes
    )
    measured = set(keys)
    kept = np.array([i for i, key in enumerate(found.plane.names) if key not in measured], dtype=np.intp)
    old = found.plane.take(kept)
    every = np.full((3, 3, kept.size), np.nan)
    used = [rover.used[key] for key in keys]
    apart = [_departure(rover, p, ids) for p, ids in zip(points, used, strict=True)]
    starts = np.concatenate([[0], np.cumsum(found.count)])
    source = [s for i in kept for s in found.source[starts[i] : starts[i + 1]]] + [
        s for ids in used for s in ids
    ]
    ids = np.empty(len(source), dtype=object)
    ids[:] = source
    return replace(
        found,
        plane=Positions(
            names=(*old.names, *keys),
            e_m=np.concatenate([old.e_m, plane.e_m]),
            n_m=np.concatenate([old.n_m, plane.n_m]),
            height_m=np.concatenate([old.height_m, plane.height_m]),
            covariance=np.concatenate([old.covariance, covariance], axis=2),
            joint=RoverJoint(
                points=(*([None] * kept.size), *points), axes=np.concatenate([every, axes], axis=2)
            ),
        ),
        lat_rad=np.concatenate([found.lat_rad[kept], lat]),
        lon_rad=np.concatenate([found.lon_rad[kept], lon]),
        count=np.concatenate([found.count[kept], np.array([len(u) for u in used], dtype=np.intp)]),
        departure=np.concatenate([found.departure[:, kept], np.array(apart).reshape(-1, 3).T], axis=1),
        source=ids,
        loose=np.concatenate([found.loose[kept], np.full(len(keys), not tied(frame))]),
        notes=tuple({n.rule: n for n in (*found.notes, *done.notes)}.values()),
    )


def plane_axes(frame: Frame, lat: FloatArray, lon: FloatArray) -> FloatArray:
    """Axes of the plane and up at places (k,), as rows in geocentric axes (3, 3, k)."""
    scale, turn = frame.point_scale(lat, lon)
    zero, one = np.zeros(lat.shape), np.ones(lat.shape)
    grid = np.array(
        [
            [scale * np.cos(turn), -scale * np.sin(turn), zero],
            [scale * np.sin(turn), scale * np.cos(turn), zero],
            [zero, zero, one],
        ]
    )
    return np.asarray(np.einsum("ijk,jlk->ilk", grid, enu_axes(lat, lon)))


def _departure(rover: RoverMarks, mark: Point, ids: tuple[str, ...]) -> FloatArray:
    """Largest departure (3,) east, north, up of a mark's occupations from their mean, metres."""
    if len(ids) == 1:
        return np.zeros(3)
    lat, lon, _ = mark.geodetic
    away = np.stack([rover.each[i].xyz - mark.xyz for i in ids], axis=1)
    return np.asarray(np.abs(enu_axes(lat, lon) @ away).max(axis=1))


def _with_sigmas(every: Positions) -> FloatArray:
    """Covariance (3, 3, k) with the assumed sigmas where none are given."""
    covariance = np.array(every.covariance)
    for axis, sigma in enumerate((ASSUMED_SIGMA_H_M, ASSUMED_SIGMA_H_M, ASSUMED_SIGMA_V_M)):
        own = covariance[axis, axis]
        covariance[axis, axis] = np.where(np.isfinite(own), own, sigma**2)
    covariance[np.isnan(covariance)] = 0.0
    return covariance


def _on_plane(
    frame: Frame, inputs: _Inputs, lat: FloatArray, lon: FloatArray, height: FloatArray
) -> Positions:
    """Every occupation (k,) on the plane, under its own id: as measured there, or projected."""
    rows = inputs.rows
    ids = tuple(rows.ids.tolist())
    sigmas = rows["sigma_h_m"], rows["sigma_v_m"]
    every = positions(ids, rows["e_m"], rows["n_m"], rows["h_m"], *sigmas)
    far = np.flatnonzero(rows["frame"] != inputs.key)
    if not far.size:
        return every
    names = [str(rows["mark"][i]) for i in far] if far.size < len(rows) else rows["mark"].tolist()
    carried = to_plane(
        frame, names, lat[far], lon[far], height[far], sigmas[0][far], sigmas[1][far], lenient=True
    )
    e, n, h, covariance = (np.array(a) for a in (every.e_m, every.n_m, every.height_m, every.covariance))
    e[far], n[far], h[far], covariance[:, :, far] = (
        carried.e_m,
        carried.n_m,
        carried.height_m,
        carried.covariance,
    )
    return Positions(names=ids, e_m=e, n_m=n, height_m=h, covariance=covariance)


def _geodetic(
    inputs: _Inputs, progress: Progress
) -> tuple[FloatArray, FloatArray, FloatArray, tuple[ConversionNote, ...], tuple[str, ...]]:
    """Latitude, longitude (rad) and ellipsoidal height (m) of every occupation in the frame's own datum,
    (k,) each, nan for those already on its plane; notes on the conversions and their operations in words."""
    rows, frame = inputs.rows, inputs.frame
    lat, lon, height = rows["lat_rad"].copy(), rows["lon_rad"].copy(), rows["h_m"].copy()
    systems = rows["crs"].copy()
    for key, other in inputs.others.items():
        mine = np.flatnonzero(rows["frame"] == key)
        lat[mine], lon[mine] = other.inverse(rows["e_m"][mine], rows["n_m"][mine])
        height[mine] += other.geoid_height(lat[mine], lon[mine]) if tied(other) else np.nan
        systems[mine] = other.geodetic_crs.to_wkt()
    notes: dict[str, ConversionNote] = {}
    operations: list[str] = []
    if frame.has_datum:
        epochs = np.where(np.isnan(rows["epoch_year"]), frame.spec.epoch_year or np.nan, rows["epoch_year"])
        for system, epoch, mine in _alike(systems, epochs):
            progress.check()
            moving = inputs.velocities.of(rows["mark"][mine].tolist())
            done = into_datum(lat[mine], lon[mine], height[mine], system, frame, epoch, moving)
            lat[mine], lon[mine], height[mine] = done.lat_rad, done.lon_rad, done.h_ell_m
            notes |= {note.rule: note for note in done.notes}
            operations += [done.operation] if done.operation else []
    return lat, lon, height, tuple(notes.values()), tuple(operations)


def _alike(systems: TextArray, epochs: FloatArray) -> Iterable[tuple[str, float | None, NDArray[np.intp]]]:
    """Occupations of one system and epoch: both, and their rows; those without a system, on the plane
    already, are left out."""
    for system in dict.fromkeys(systems.tolist()):
        mine = systems == system
        for epoch in np.unique(epochs[mine]) if system else ():
            rows = np.flatnonzero(mine & (np.isnan(epochs) if np.isnan(epoch) else epochs == epoch))
            yield system, None if np.isnan(epoch) else float(epoch), rows
