"""Occupations out of lists of rovers, and the list of a job's own."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import cast

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FenwindError, ProcedureError
from fenwind.geodesy.antenna import Method, reduced
from fenwind.geodesy.geocentric import enu_axes, from_xyz, to_xyz
from fenwind.job.derive import Derived, Solve
from fenwind.job.gestures import marks_named
from fenwind.job.job import new_id
from fenwind.job.measuring import UNSTATED, own_plane
from fenwind.job.session_gestures import check_base_name, standing_on
from fenwind.job.session_view import rover_of
from fenwind.job.state import JobState
from fenwind.job.steps.base import antenna_model, base_node
from fenwind.records.entries import Add, Entry, Gesture
from fenwind.records.sessions import BaseSetup, Occupation

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class RoverRow:
    """One occupation. vector: geocentric (3,) from the base's ARP to the rover's, metres, with its covariance
    (3, 3), m^2; or place: latitude, longitude (radians), ellipsoidal height of the mark. sigma: plan and
    height, metres, where there is no covariance. Times ISO in UTC. height_m: of the rover's antenna, measured
    by `method`. base_place: latitude, longitude (radians) and height of the ground below the base, where
    somebody says it; base_height_m: its ARP over that."""

    base: str
    mark: str
    vector: FloatArray | None
    covariance: FloatArray | None
    place: tuple[float, float, float] | None
    sigma: tuple[float, float] | None
    start: str
    end: str
    epochs: int
    solution: str
    pdop: float | None
    height_m: float
    method: str
    antenna: str
    use: str
    base_place: tuple[float, float, float] | None
    base_height_m: float
    line: int = 0


@dataclass(frozen=True, kw_only=True)
class TakenIn:
    """What a list comes to: the gesture, how many occupations are new, and how many the job has already."""

    gesture: Gesture
    new: int
    there: int


def occupations_from(state: JobState, solve: Solve, rows: Sequence[RoverRow], source: str) -> TakenIn:
    """Occupations of a list. A base that the job has not is started where its row says, else on the known
    mark of its name. Rows that the job has already (mark, base, time and vector) are not taken again. solve:
    what would follow from a state. Raises ProcedureError with the line that cannot be."""
    ids, entries = marks_named(state, [row.mark for row in rows])
    made: list[Entry] = [*entries]
    bases: dict[str, tuple[BaseSetup, FloatArray]] = {}
    have = {_same(state, one) for one in state.of(Occupation).values()}
    first: FloatArray | None = None
    new = there = 0
    for row in rows:
        try:
            if row.base not in bases:
                bases[row.base] = _base(state, solve, row)
                if bases[row.base][0].id not in state.of(BaseSetup):
                    made.append(Add(record=bases[row.base][0]))
            base, arp = bases[row.base]
            one = _occupation(state, row, base, arp, ids[row.mark])
        except FenwindError as error:
            raise ProcedureError(str(error), where=f"{source}, line {row.line}", hint=error.hint) from error
        if (row.mark, row.base, one.started, *_millimetres(one)) in have:
            there += 1
            continue
        new, first = new + 1, arp if first is None else first
        have.add((row.mark, row.base, one.started, *_millimetres(one)))
        made.append(Add(record=one))
    if not new:
        return TakenIn(gesture=Gesture("Occupations", ()), new=0, there=there)
    if not state.frames and first is not None:
        lat, lon, h = (float(v) for v in from_xyz(first))
        made = [*own_plane(lat, lon, h), *made]
    return TakenIn(gesture=Gesture(f"Occupations from {source}", tuple(made)), new=new, there=there)


def _same(state: JobState, one: Occupation) -> tuple[object, ...]:
    base, mark = state.of(BaseSetup).get(one.base), state.marks.get(one.mark)
    names = (mark.name if mark is not None else "", base.name if base is not None else "")
    return (*names, one.started, *_millimetres(one))


def _millimetres(one: Occupation) -> tuple[int, ...]:
    return tuple(round((v or 0.0) * 1000.0) for v in (one.dx_m, one.dy_m, one.dz_m))


def _base(state: JobState, solve: Solve, row: RoverRow) -> tuple[BaseSetup, FloatArray]:
    """The base of a row and its ARP as vectors start from it, geocentric (3,)."""
    found = next((b for b in state.of(BaseSetup).values() if b.active and b.name == row.base), None)
    if found is not None:
        sent = np.array([found.broadcast_x_m, found.broadcast_y_m, found.broadcast_z_m], dtype=float)
        if np.isfinite(sent).all():
            return found, sent
        placed = solve(state, base_node(found.id)).result
        if placed is None:
            raise ProcedureError(f"base {row.base} is nowhere yet", hint="Place it first")
        return found, placed.arp.xyz
    record = BaseSetup(id=new_id(), name=row.base, height_m=row.base_height_m, started=row.start)
    check_base_name(state, row.base)
    if row.base_place is not None:
        lat, lon, h = row.base_place
        x, y, z = (float(v) for v in to_xyz(lat, lon, h + row.base_height_m))
        record = replace(
            record, word="place", place_lat_rad=lat, place_lon_rad=lon, place_h_m=h, broadcast_x_m=x,
            broadcast_y_m=y, broadcast_z_m=z,
        )  # fmt: skip
    else:
        mark = state.mark_named(row.base)
        if mark is None:
            raise ProcedureError(
                f"there is no base {row.base} and no known mark of that name",
                hint="Start the base first, or give base_lat, base_lon and base_h",
            )
        record = standing_on(record, mark, state, solve)
    return record, np.array([record.broadcast_x_m, record.broadcast_y_m, record.broadcast_z_m], dtype=float)


def _occupation(state: JobState, row: RoverRow, base: BaseSetup, arp: FloatArray, mark: str) -> Occupation:
    height = reduced(row.height_m, cast(Method, row.method), antenna_model(state, row.antenna))
    if row.vector is not None:
        vector = row.vector
        lat, lon, _ = (float(v) for v in from_xyz(arp + vector))
    else:
        assert row.place is not None
        lat, lon, h = row.place
        vector = to_xyz(lat, lon, h + height) - arp
    c = _local(row, lat, lon)
    dx, dy, dz = (float(v) for v in vector)
    return Occupation(
        id=new_id(), mark=mark, base=base.id, started=row.start, ended=row.end, epochs=row.epochs,
        antenna=row.antenna, height_m=row.height_m, method=cast(Method, row.method),
        dx_m=dx, dy_m=dy, dz_m=dz, cee_m2=float(c[0, 0]), cen_m2=float(c[0, 1]), ceu_m2=float(c[0, 2]),
        cnn_m2=float(c[1, 1]), cnu_m2=float(c[1, 2]), cuu_m2=float(c[2, 2]), solution=row.solution,
        pdop=row.pdop, check=row.use == "check", active=row.use != "out",
    )  # fmt: skip


def _local(row: RoverRow, lat: float, lon: float) -> FloatArray:
    """Covariance (3, 3) of a vector in local east, north, up, m^2; where the list says none, what receivers
    that state none are taken to have."""
    if row.covariance is not None:
        axes = enu_axes(lat, lon)
        return np.asarray(axes @ row.covariance @ axes.T)
    if row.sigma is not None:
        plan, up = row.sigma
        return np.diag([plan**2, plan**2, up**2])
    return np.diag(np.array(UNSTATED[row.solution]) ** 2)


def listed(state: JobState, derived: Derived) -> list[RoverRow]:
    """Every finished occupation of the job whose base and mark are there, in the order they were measured."""
    out = []
    bases = state.of(BaseSetup)
    for one in sorted(state.of(Occupation).values(), key=lambda o: o.started):
        base = bases.get(one.base)
        if base is None or not base.active or one.mark not in state.marks or not one.finished:
            continue
        if one.dx_m is None or one.dy_m is None or one.dz_m is None:
            continue
        placed = rover_of(derived).bases.get(base.id)
        vector = np.array([one.dx_m, one.dy_m, one.dz_m])
        start = placed.arp.xyz if placed is not None else None
        out.append(
            RoverRow(
                base=base.name, mark=state.marks[one.mark].name, vector=vector,
                covariance=None if start is None else _geocentric(one, start + vector), place=None,
                sigma=(math.sqrt(0.5 * (one.cee_m2 + one.cnn_m2)), math.sqrt(one.cuu_m2)),
                start=one.started, end=one.ended, epochs=one.epochs, solution=one.solution or "fixed",
                pdop=one.pdop, height_m=one.height_m, method=one.method, antenna=one.antenna,
                use="check" if one.check else "used" if one.active else "out",
                base_place=placed.ground.geodetic if placed is not None else None,
                base_height_m=placed.height_m if placed is not None else 0.0,
            )
        )  # fmt: skip
    return out


def _geocentric(one: Occupation, xyz: FloatArray) -> FloatArray:
    lat, lon, _ = (float(v) for v in from_xyz(xyz))
    axes = enu_axes(lat, lon)
    c = np.array(
        [
            [one.cee_m2, one.cen_m2, one.ceu_m2],
            [one.cen_m2, one.cnn_m2, one.cnu_m2],
            [one.ceu_m2, one.cnu_m2, one.cuu_m2],
        ]
    )
    return np.asarray(axes.T @ c @ axes)
