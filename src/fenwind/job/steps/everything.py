"""Everything that a job has observed as observations of a network: vectors of rovers from their bases,
sightings of setups, levelling, traverses, and the lists of observations that were taken in."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FenwindError, ProcedureError
from fenwind.geodesy.antenna import reduced
from fenwind.geodesy.geocentric import enu_axes, from_xyz, to_xyz
from fenwind.job.reader import Reader
from fenwind.job.steps.known import given_in, mark_names
from fenwind.job.steps.sightings import faces_of, sightings_of
from fenwind.job.steps.vectors import antennas_of, vectors_node
from fenwind.procedures.onto_plane import in_space
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.quantities.numbers import counted
from fenwind.records.lines import LevelBook, TraverseBook
from fenwind.records.network import EVERYTHING, NetworkStep, ObservationSet
from fenwind.records.sessions import BaseSetup
from fenwind.records.setups import Setup
from fenwind.records.tools import TapedDistance

FloatArray = NDArray[np.float64]
#: Half a turn and a whole one.
HALF, WHOLE = math.pi, 2.0 * math.pi
#: What gives marks heights.
HEIGHTS = ("vector", "zenith", "height_difference")


@dataclass(frozen=True, slots=True)
class _Seen:
    """One observation: the record and the row it comes from, as a key that stays when others are added."""

    key: str
    kind: str
    at: str
    to: str
    value: tuple[float, ...]
    covariance: tuple[float, ...]
    group: str
    back: str = ""
    setup: str = ""
    hi: float = 0.0
    ht: float = 0.0


def everything(reader: Reader, frame: str, space: bool) -> tuple[ObservationSet, tuple[str, ...]]:
    """The observations, and in words what was observed and is not among them; space: in a frame with a datum,
    where vectors and bearings of other frames mean something. A base that stands on no known mark is a
    station under its own id. Raises ProcedureError where nothing is observed."""
    missing: list[str] = []
    vectors = list(_vectors(reader))
    if vectors and not space:
        missing.append(f"{counted(len(vectors), 'rover vector')}, which have no direction in a frame without "
                       "a datum and heights tied to it")  # fmt: skip
    rows = [
        *(vectors if space else ()), *_setups(reader, missing), *_levelling(reader),
        *_traverses(reader, frame, space, missing), *_taped(reader), *_lists(reader),
    ]  # fmt: skip
    rows = _placed(_heighted(rows, reader, frame, space, missing), missing)
    if not rows:
        said = f" that can be adjusted in this frame: left out {'; '.join(missing)}" if missing else " yet"
        raise ProcedureError(f"nothing is observed in this job{said}", hint="Take in field work first")
    n = len(rows)
    return _as_set(rows, n), tuple(missing)


def _as_set(rows: list[_Seen], n: int) -> ObservationSet:
    return ObservationSet(
        id=EVERYTHING, name="everything observed", line=tuple(range(1, n + 1)),
        kind=tuple(r.kind for r in rows), at=tuple(r.at for r in rows), to=tuple(r.to for r in rows),
        back=tuple(r.back for r in rows), setup=tuple(r.setup for r in rows),
        group=tuple(r.group for r in rows), hi_m=tuple(r.hi for r in rows), ht_m=tuple(r.ht for r in rows),
        value=tuple(r.value for r in rows), covariance=tuple(r.covariance for r in rows),
        origin=tuple(r.key for r in rows),
    )  # fmt: skip


def _heighted(rows: list[_Seen], reader: Reader, frame: str, space: bool, missing: list[str]) -> list[_Seen]:
    """Without traverses that bring no heights to marks that nothing else gives one, where heights are
    sought."""
    up = {name for r in rows if r.kind in HEIGHTS for name in (r.at, r.to)}
    if not (space or up):
        return rows
    given = given_in(reader, frame)
    up |= set(given["mark"][np.isfinite(given["height_m"])].tolist())
    for key in reader.rows(TraverseBook, active=True).ids.tolist():
        mine = [r for r in rows if r.key.startswith(f"{key}:")]
        low = {name for r in mine for name in (r.at, r.to)} - up
        if low:
            rows = [r for r in rows if not r.key.startswith(f"{key}:")]
            names = mark_names(reader)
            first = min(names.get(name, "a mark") for name in low)
            missing.append(f"{mine[0].group}, since nothing gives {first} a height")
    return rows


def _placed(rows: list[_Seen], missing: list[str]) -> list[_Seen]:
    """Without levelling to marks that nothing else reaches: their heights are left to it."""
    seen = {name for r in rows if r.kind != "height_difference" for name in (r.at, r.to)}
    alone = all(r.kind == "height_difference" for r in rows)
    kept = [r for r in rows if alone or r.kind != "height_difference" or {r.at, r.to} <= seen]
    if len(kept) < len(rows):
        runs = counted(len(rows) - len(kept), "levelled difference")
        missing.append(f"{runs} to marks that nothing else reaches")
    return kept


def observations_of(
    step: NetworkStep, reader: Reader
) -> tuple[ObservationSet, dict[str, str], tuple[str, ...]]:
    """What a network adjusts, the names of marks and stations in it by id, and what was observed that is not
    in it, in words. Raises ProcedureError where that is gone, or nothing."""
    names = mark_names(reader)
    if step.observations != EVERYTHING:
        one = reader.record(ObservationSet, step.observations)
        if one is None:
            raise ProcedureError("its observations are gone", hint="Take them in again")
        return one, names, ()
    frame = reader.frame(step.frame)
    one, missing = everything(reader, step.frame, in_space(frame))
    return one, station_names(reader, names), missing


def station_names(reader: Reader, marks: Mapping[str, str]) -> dict[str, str]:
    """Names of marks, and of bases that stand on none, by id; one whose name a mark has gets a word more."""
    bases = reader.rows(BaseSetup, "name", active=True)
    taken = set(marks.values())
    named = {
        key: name if name not in taken else f"{name} (base)"
        for key, name in zip(bases.ids.tolist(), bases["name"].tolist(), strict=True)
    }
    return {**named, **marks}


def _vectors(reader: Reader) -> Iterator[_Seen]:
    """From mark to mark; from the antenna of a base that stands on no known mark."""
    keys = reader.rows(BaseSetup, active=True).ids.tolist()
    bases = {key: base for key in keys if (base := reader.record(BaseSetup, key)) is not None}
    if not bases:
        return
    models = antennas_of(reader)
    for row in reader.result(vectors_node()):
        one = row.measured
        base = bases.get(one.base)
        at = _place(base) if base is not None else None
        if row.check or base is None or at is None:
            continue
        known = base.word == "known" and bool(base.mark)
        if known and base.mark == one.mark:
            continue
        try:
            height = reduced(base.height_m, base.method, models.get(base.antenna)) if known else 0.0
        except FenwindError:
            continue  # it has a doubt of its own
        there = at + one.vector
        value = one.vector - one.height_m * _axes(there)[2] + height * _axes(at)[2]
        axes = _axes(there)
        c = axes.T @ one.covariance @ axes
        yield _Seen(
            key=one.id, kind="vector", at=base.mark if known else base.id, to=one.mark,
            value=tuple(value.tolist()), covariance=tuple(c[np.triu_indices(3)].tolist()),
            group="rover vectors",
        )  # fmt: skip


def _axes(xyz: FloatArray) -> FloatArray:
    lat, lon, _ = from_xyz(xyz)
    return enu_axes(lat, lon)


def _place(base: BaseSetup) -> FloatArray | None:
    """Where a base is, to some metres: enough to know which way is up."""
    sent = (base.broadcast_x_m, base.broadcast_y_m, base.broadcast_z_m)
    if None not in sent:
        return np.array(sent, dtype=float)
    lat, lon = base.average_lat_rad, base.average_lon_rad
    if lat is None or lon is None:
        return None
    return to_xyz(np.array(lat), np.array(lon), np.array(base.average_h_m or 0.0))


def _setups(reader: Reader, missing: list[str]) -> Iterator[_Seen]:
    """Sightings that take part, as seen in face 1, prisms taken into account."""
    for key in reader.rows(Setup, active=True).ids.tolist():
        setup = reader.needed(Setup, key)
        if setup.azimuths:
            missing.append(f"the azimuth told of a sighting in {setup.name}")
        use, shots = dict(setup.use), sightings_of(setup)
        hz, za, _, _ = faces_of(setup)
        for i, target in enumerate(setup.target):
            part = use.get(i, "used")
            if part in ("off", "check"):
                continue
            seen = {
                "hi": setup.height_m, "ht": setup.target_height_m[i], "at": setup.station, "to": target,
                "group": setup.name,
            }  # fmt: skip
            length = shots[i].distance + shots[i].prism_m
            sigma = setup.sigma_direction_s * RAD_PER_SECOND
            if part != "height":
                yield _Seen(
                    key=f"{key}:{i}:direction", kind="direction", setup=key, covariance=(sigma**2,),
                    value=(float(hz[i]) % WHOLE,), **seen,  # type: ignore[arg-type]
                )  # fmt: skip
            if math.isfinite(za[i]) and setup.heights and part != "plan":
                sigma = setup.sigma_zenith_s * RAD_PER_SECOND
                yield _Seen(
                    key=f"{key}:{i}:zenith", kind="zenith", covariance=(sigma**2,),
                    value=(float(za[i]),), **seen,  # type: ignore[arg-type]
                )  # fmt: skip
            if math.isfinite(length) and part != "height":
                sigma = setup.sigma_distance_m + setup.sigma_distance_ppm * 1e-6 * length
                yield _Seen(
                    key=f"{key}:{i}:distance", kind="distance", covariance=(sigma**2,), value=(length,),
                    **seen,  # type: ignore[arg-type]
                )  # fmt: skip


def _levelling(reader: Reader) -> Iterator[_Seen]:
    for key in reader.rows(LevelBook, active=True).ids.tolist():
        book = reader.needed(LevelBook, key)
        for i, (a, b, dh) in enumerate(zip(book.first, book.second, book.dh_m, strict=True)):
            if i not in book.off:
                yield _Seen(
                    key=f"{key}:{i}", kind="height_difference", at=a, to=b, value=(dh,),
                    covariance=(book.sigma_m**2 * book.length[i],), group=book.name,
                )  # fmt: skip


def _traverses(reader: Reader, frame: str, space: bool, missing: list[str]) -> Iterator[_Seen]:
    """Of traverses of the same frame, or where both are tied to the earth, so that a length is one in both:
    angles at stations whose backsight is booked, differences in height, as good as an angle makes them,
    and distances from mark to mark."""
    for key in reader.rows(TraverseBook, active=True).ids.tolist():
        book = reader.needed(TraverseBook, key)
        if book.setups:
            continue  # its setups are in it themselves
        if not (book.frame == frame or (space and in_space(reader.frame(book.frame)))):
            missing.append(f"{book.name}, which belongs to another frame")
            continue
        before = _backsights(book)
        for i, (here, there, kind) in enumerate(zip(book.here, book.there, book.kind, strict=True)):
            angle, back = _angle(kind, book.direction_rad[i]), before.get(here, "")
            if angle is not None and back and back != there:
                sigma = book.sigma_angle_s * RAD_PER_SECOND
                yield _Seen(
                    key=f"{key}:{i}:angle", kind="angle", at=here, to=there, back=back, group=book.name,
                    value=(angle,), covariance=(sigma**2,),
                )  # fmt: skip
            rise, length = book.dh_m[i], book.distance_m[i]
            if rise is not None:
                yield _Seen(
                    key=f"{key}:{i}:rise", kind="height_difference", at=here, to=there, value=(rise,),
                    covariance=((book.sigma_angle_s * RAD_PER_SECOND * length) ** 2,), group=book.name,
                )  # fmt: skip
            sigma = book.sigma_distance_m + book.sigma_distance_ppm * 1e-6 * length
            yield _Seen(
                key=f"{key}:{i}:distance", kind="horizontal_distance", at=here, to=there, value=(length,),
                covariance=(sigma**2,), group=book.name,
            )  # fmt: skip


def _taped(reader: Reader) -> Iterator[_Seen]:
    """Distances by tape, from mark to mark or horizontal."""
    for key in reader.rows(TapedDistance, active=True).ids.tolist():
        one = reader.needed(TapedDistance, key)
        yield _Seen(
            key=key, kind="distance" if one.slope else "horizontal_distance",
            at=one.first, to=one.second, value=(one.true_m,),
            covariance=(one.variance_m2,), group="taped distances",
        )  # fmt: skip


def _angle(kind: str, direction: float) -> float | None:
    """Clockwise from the backsight; None for an azimuth, which belongs to the frame of its traverse."""
    return {"right": direction, "left": WHOLE - direction, "deflection": (direction + HALF) % WHOLE}.get(kind)


def _backsights(book: TraverseBook) -> dict[str, str]:
    """What was sighted back to at every station: the station before it, or the mark the start line leads
    to."""
    out: dict[str, str] = {book.here[0]: book.back} if book.here and book.back else {}
    stations = set(book.here)
    for a, b in zip(book.here, book.there, strict=True):
        if b in stations and b not in out:
            out[b] = a
    return out


def _lists(reader: Reader) -> Iterable[_Seen]:
    """The lists of observations that are on."""
    for key in reader.rows(ObservationSet, active=True).ids.tolist():
        one = reader.needed(ObservationSet, key)
        for i, kind in enumerate(one.kind):
            yield _Seen(
                key=f"{key}:{i}", kind=kind, at=one.at[i], to=one.to[i], back=one.back[i],
                setup=f"{key} {one.setup[i]}" if kind == "direction" else "", group=f"{one.name}, {kind}",
                hi=one.hi_m[i], ht=one.ht_m[i], value=one.value[i], covariance=one.covariance[i],
            )  # fmt: skip
