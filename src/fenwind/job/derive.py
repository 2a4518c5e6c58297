"""Derivation: what follows from the records, as a pure function with a memory (module memo).

Every step is kept under the content of all it was computed from, so that after a change only what depends on
it runs again. Positions go by the names of their marks, which are unique in a job.
"""

from __future__ import annotations

import os
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FenwindError
from fenwind.geodesy.conversion import ConversionNote, convert
from fenwind.geodesy.frames import Frame, FrameSpec, find_crs, open_frame
from fenwind.geodesy.geoid import VerticalRelation
from fenwind.job.adopted import Adopted, adopt
from fenwind.job.elsewhere import Elsewhere, given_elsewhere, operation_words
from fenwind.job.known import known_positions, nan, usable
from fenwind.job.memo import Memo
from fenwind.job.state import JobState
from fenwind.procedures.average import Average, average
from fenwind.procedures.fit import FitOptions, fit
from fenwind.procedures.fit_case import FitCase
from fenwind.procedures.positions import ASSUMED_SIGMA_H_M, ASSUMED_SIGMA_V_M, Positions, positions
from fenwind.procedures.to_plane import mean_combined_factor, to_plane
from fenwind.progress import NULL_PROGRESS, Progress
from fenwind.records.records import FitStep, GivenPosition, Mark, MeasuredPosition

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True, eq=False)
class Occupied:
    """The measured marks on the plane of a frame: one position a mark, averaged where it was occupied more
    than once.

    averages: by mark name, where there was more than one. lat_rad, lon_rad (k,) of the first occupation of
    each mark. operations: how other datums were reached, in words, with the stated accuracy.
    """

    plane: Positions
    lat_rad: FloatArray
    lon_rad: FloatArray
    averages: dict[str, Average]
    occupations: dict[str, tuple[str, ...]]
    notes: tuple[ConversionNote, ...]
    operations: tuple[str, ...] = ()


@dataclass(frozen=True, kw_only=True, eq=False)
class FitOutcome:
    """A fit step and what came of it: a case, or the error that kept it from being computed."""

    step: FitStep
    case: FitCase | None = None
    error: FenwindError | None = None
    occupied: Occupied | None = None


@dataclass(frozen=True, kw_only=True, eq=False)
class Derived:
    """Everything that follows from the records: fits by step id; by frame id adopted positions, frames that
    failed, grids without which heights are not known, what was converted into it, and everything measured on
    its plane."""

    fits: dict[str, FitOutcome]
    adopted: dict[str, Adopted]
    frame_errors: dict[str, FenwindError]
    missing_grids: dict[str, tuple[str, ...]] = field(default_factory=dict)
    elsewhere: dict[str, Elsewhere] = field(default_factory=dict)
    measured: dict[str, Occupied | FenwindError] = field(default_factory=dict)


def derive(state: JobState, memo: Memo, folder: str = ".", progress: Progress = NULL_PROGRESS) -> Derived:
    """All results of a job; geoid grids with a relative name are looked for in `folder`.

    Errors of single steps become part of the result, never an exception. Raises Cancelled when `progress`
    says so.
    """
    memo.begin()
    frames, frame_errors = _open_frames(state, folder)
    steps = [step for step in state.fits.values() if step.active]
    fits = {}
    for done, step in enumerate(steps):
        progress.check()
        progress.report(done, len(steps), step.name)
        fits[step.id] = _outcome(step, state, frames, frame_errors, memo)
    progress.check()
    elsewhere = {key: given_elsewhere(state, key, frames, memo) for key in frames}
    measured = {key: _measured(state, key, frames, memo) for key in frames}
    adopted = {
        key: _adopt(key, state, fits, elsewhere.get(key), measured.get(key), memo)
        for key in state.frames
        if state.frames[key].active
    }
    progress.report(1, 1, "")
    return Derived(
        fits=fits,
        adopted=adopted,
        frame_errors=frame_errors,
        missing_grids={
            k: f.geoid.missing
            for k, f in frames.items()
            if isinstance(f.geoid, VerticalRelation) and f.geoid.missing
        },
        elsewhere={key: found for key, found in elsewhere.items() if found is not None},
        measured=measured,
    )


def _open_frames(state: JobState, folder: str) -> tuple[dict[str, Frame], dict[str, FenwindError]]:
    frames, errors = {}, {}
    for key, record in state.frames.items():
        if record.active:
            try:
                frames[key] = open_frame(with_grid_folder(record.spec, folder))
            except FenwindError as error:
                errors[key] = error
    return frames, errors


def _outcome(
    step: FitStep,
    state: JobState,
    frames: dict[str, Frame],
    frame_errors: dict[str, FenwindError],
    memo: Memo,
) -> FitOutcome:
    for key in (step.source_frame, step.target_frame):
        if key in frame_errors:
            return FitOutcome(step=step, error=frame_errors[key])
    try:
        frame = frames[step.source_frame]
        occupied = occupied_marks(state, step.source_frame, frames, step.sessions, memo)
        known = known_positions(state, step.target_frame, memo)
        options = fit_options(step, state)
        inputs = (_contents(occupied.plane), _contents(known), options)
        result = memo.get(f"fit {step.id}", _flat(inputs), lambda: fit(occupied.plane, known, options))
        case = FitCase(
            subject=step.id,
            measured=occupied.plane,
            known=known,
            result=result,
            lat_rad=occupied.lat_rad if frame.has_datum else None,
            lon_rad=occupied.lon_rad if frame.has_datum else None,
            area=frame.area_of_use(),
            combined_factor=mean_combined_factor(frame, occupied.plane) if len(occupied.plane) else None,
            over_geoid=frame.geoid is not None,
        )
        return FitOutcome(step=step, case=case, occupied=occupied)
    except KeyError:
        return FitOutcome(
            step=step,
            error=FenwindError("its frame is switched off", hint="Switch the frame on, or choose another"),
        )
    except FenwindError as error:
        return FitOutcome(step=step, error=error)


def _contents(points: Positions) -> tuple[Any, ...]:
    return points.names, points.e_m, points.n_m, points.height_m, points.covariance


def _flat(groups: tuple[Any, ...]) -> tuple[Any, ...]:
    out: list[Any] = []
    for group in groups:
        out.extend(group) if isinstance(group, tuple) else out.append(_options_text(group))
    return tuple(out)


def _options_text(options: Any) -> str:
    """repr with frozen sets in order, so that equal options have equal text."""
    fields = {name: getattr(options, name) for name in options.__dataclass_fields__}
    return repr({k: sorted(v) if isinstance(v, frozenset) else v for k, v in fields.items()})


def fit_options(step: FitStep, state: JobState) -> FitOptions:
    """Options of a fit step with the uses of its pairs: those set in the step, else the marks' hold flags."""
    uses = dict(step.uses)
    check, no_h, no_v, off = set(), set(), set(), set()
    for mark in state.marks.values():
        use = uses.get(mark.id) or default_use(mark.hold_horizontal, mark.hold_height)
        if use == "off" or not mark.active:
            off.add(mark.name)
        elif use == "check":
            check.add(mark.name)
        elif use == "height":
            no_h.add(mark.name)
        elif use == "horizontal":
            no_v.add(mark.name)
    names = known_and_measured(state, step)
    pivot = None
    if step.horizontal == "pivot" and step.pivot:
        found = [state.marks[m].name for m in step.pivot if m in state.marks]
        pivot = (found[0], found[1]) if len(found) == 2 else None
    return FitOptions(
        horizontal=step.horizontal,
        height=step.height,
        pivot=pivot,
        rotation_rad=step.rotation_rad,
        scale=step.scale,
        check=frozenset(check & names),
        no_horizontal=frozenset(no_h & names),
        no_height=frozenset(no_v & names),
        off=frozenset(off),
        tolerance_h_m=step.tolerance_h_m,
        tolerance_v_m=step.tolerance_v_m,
    )


def default_use(hold_horizontal: bool, hold_height: bool) -> str:
    """Use of a pair that follows from its mark's hold flags."""
    return {
        (True, True): "both",
        (True, False): "horizontal",
        (False, True): "height",
        (False, False): "check",
    }[hold_horizontal, hold_height]


def known_and_measured(state: JobState, step: FitStep) -> set[str]:
    """Names of the active marks with an active known position and an active occupation that this step
    uses."""
    marks = state.marks
    known = {g.mark for g in state.given.values() if g.active and g.frame == step.target_frame}
    measured = {
        m.mark
        for m in state.measured.values()
        if m.active and (not step.sessions or m.session in step.sessions)
    }
    return {marks[m].name for m in known & measured if usable(marks, m)}


def occupied_marks(
    state: JobState, key: str, frames: dict[str, Frame], sessions: tuple[str, ...], memo: Memo
) -> Occupied:
    """Measured marks on the plane of the frame with id `key`. Raises FenwindError when a position cannot be
    carried there."""
    versions = (state.version(MeasuredPosition, Mark), tuple((k, f.spec) for k, f in frames.items()))
    return memo.latest(
        ("occupied", key, sessions), versions, lambda: _gather_occupied(state, key, frames, sessions, memo)
    )


def _gather_occupied(
    state: JobState, key: str, frames: dict[str, Frame], sessions: tuple[str, ...], memo: Memo
) -> Occupied:
    marks = state.marks
    chosen = [
        m
        for m in state.measured.values()
        if m.active
        and (not sessions or m.session in sessions)
        and usable(marks, m.mark)
        and _reaches(m, key, frames)
    ]
    names = tuple(marks[m.mark].name for m in chosen)
    rows = [
        [nan(v) for v in (m.lat_rad, m.lon_rad, m.e_m, m.n_m, m.h_m, m.sigma_h_m, m.sigma_v_m)]
        for m in chosen
    ]
    values: FloatArray = np.array(rows, dtype=np.float64).reshape(-1, 7)
    systems = tuple((m.id, m.crs, m.epoch_year, m.frame) for m in chosen)
    return memo.get(
        "measured positions",
        (frames[key].spec, names, systems, values),
        lambda: _on_plane(key, frames, chosen, names, values, memo),
    )


def _reaches(measured: MeasuredPosition, key: str, frames: dict[str, Frame]) -> bool:
    """Whether an occupation can be carried onto the plane of a frame: its own, or both have a datum."""
    if not measured.frame:
        return frames[key].has_datum
    other = frames.get(measured.frame)
    return measured.frame == key or (frames[key].has_datum and other is not None and other.has_datum)


def _on_plane(
    key: str,
    frames: dict[str, Frame],
    chosen: list[MeasuredPosition],
    names: tuple[str, ...],
    values: FloatArray,
    memo: Memo,
) -> Occupied:
    frame = frames[key]
    lat, lon, height, notes, operations = _geodetic(key, frames, chosen, values)
    every = positions(_numbered(names), values[:, 2], values[:, 3], values[:, 4], values[:, 5], values[:, 6])
    far = np.array([i for i, m in enumerate(chosen) if m.frame != key], dtype=int)
    if far.size:
        carried = to_plane(
            frame, [names[i] for i in far], lat[far], lon[far], height[far], values[far, 5], values[far, 6]
        )
        e, n, h, covariance = (np.array(a) for a in (every.e_m, every.n_m, every.height_m, every.covariance))
        e[far], n[far], h[far], covariance[:, :, far] = (
            carried.e_m,
            carried.n_m,
            carried.height_m,
            carried.covariance,
        )
        every = Positions(names=every.names, e_m=e, n_m=n, height_m=h, covariance=covariance)
    rows: dict[str, list[int]] = {}
    for row, name in enumerate(names):
        rows.setdefault(name, []).append(row)
    first = np.array([group[0] for group in rows.values()], dtype=int)
    plane, averages = _averaged(every, rows, first, frame, memo)
    occupations = {name: tuple(chosen[i].id for i in group) for name, group in rows.items()}
    return Occupied(
        plane=plane,
        lat_rad=lat[first],
        lon_rad=lon[first],
        averages=averages,
        occupations=occupations,
        notes=notes,
        operations=operations,
    )


def _averaged(
    every: Positions, rows: dict[str, list[int]], first: NDArray[np.intp], frame: Frame, memo: Memo
) -> tuple[Positions, dict[str, Average]]:
    """One position a mark: the only one, or the weighted mean."""
    e, n, h, covariance = (
        every.e_m[first],
        every.n_m[first],
        every.height_m[first],
        every.covariance[:, :, first],
    )
    averages: dict[str, Average] = {}
    for place, (name, group) in enumerate(rows.items()):
        if len(group) > 1:
            inputs = (
                name,
                every.e_m[group],
                every.n_m[group],
                every.height_m[group],
                every.covariance[:, :, group],
                frame.spec,
            )
            mean = memo.get(f"average {name}", inputs, partial(_average, every, group))
            averages[name] = mean
            axes = mean.mean.size
            e[place], n[place] = mean.mean[:2]
            h[place] = mean.mean[2] if axes == 3 else np.nan
            covariance[:, :, place] = np.nan
            covariance[:axes, :axes, place] = mean.covariance
    return Positions(names=tuple(rows), e_m=e, n_m=n, height_m=h, covariance=covariance), averages


def _numbered(names: tuple[str, ...]) -> tuple[str, ...]:
    """Names made unique for the while that a mark stands there more than once."""
    return tuple(f"{name}#{i}" for i, name in enumerate(names))


def _average(every: Positions, group: list[int]) -> Average:
    values = np.stack([every.e_m[group], every.n_m[group], every.height_m[group]])
    covariance = np.array(every.covariance[:, :, group])
    sigmas = (ASSUMED_SIGMA_H_M, ASSUMED_SIGMA_H_M, ASSUMED_SIGMA_V_M)
    for axis, sigma in enumerate(sigmas):
        covariance[axis, axis] = np.where(
            np.isfinite(covariance[axis, axis]), covariance[axis, axis], sigma**2
        )
    covariance[np.isnan(covariance)] = 0.0
    axes = 3 if np.isfinite(values[2]).all() else 2
    return average(values[:axes], covariance[:axes, :axes])


def _geodetic(
    key: str, frames: dict[str, Frame], chosen: list[MeasuredPosition], values: FloatArray
) -> tuple[FloatArray, FloatArray, FloatArray, tuple[ConversionNote, ...], tuple[str, ...]]:
    """Latitude, longitude and ellipsoidal height of every occupation in the frame's own datum; nan for those
    already on its plane."""
    frame = frames[key]
    lat, lon, height = values[:, 0].copy(), values[:, 1].copy(), values[:, 4].copy()
    systems = [m.crs for m in chosen]
    for i, m in enumerate(chosen):
        if m.frame and m.frame != key:
            other = frames[m.frame]
            lat[i], lon[i] = other.inverse(values[i, 2], values[i, 3])
            height[i] += float(other.geoid_height(lat[i], lon[i]))
            systems[i] = other.geodetic_crs.to_wkt()
    notes: dict[str, ConversionNote] = {}
    operations: list[str] = []
    if frame.has_datum:
        base = frame.geodetic_crs
        epochs = [m.epoch_year or frame.spec.epoch_year for m in chosen]
        for system, epoch in {(s, t) for s, t in zip(systems, epochs, strict=True) if s}:
            if find_crs(system).to_2d().equals(base.to_2d(), ignore_axis_order=True):
                continue
            rows = np.array([i for i in range(len(chosen)) if (systems[i], epochs[i]) == (system, epoch)])
            done = convert(
                system,
                base.to_3d().to_wkt(),
                np.degrees(lon[rows]),
                np.degrees(lat[rows]),
                height[rows],
                epoch,
            )
            lon[rows], lat[rows], height[rows] = np.radians(done.first), np.radians(done.second), done.height
            notes |= {note.rule: note for note in done.notes}
            operations.append(operation_words(done))
    return lat, lon, height, tuple(notes.values()), tuple(operations)


def _measured(state: JobState, key: str, frames: dict[str, Frame], memo: Memo) -> Occupied | FenwindError:
    """Everything measured on the plane of a frame, or why it cannot be carried there."""
    try:
        return occupied_marks(state, key, frames, (), memo)
    except FenwindError as error:
        return error


def _adopt(
    key: str,
    state: JobState,
    fits: dict[str, FitOutcome],
    elsewhere: Elsewhere | None,
    occupied: Occupied | FenwindError | None,
    memo: Memo,
) -> Adopted:
    """Adopted positions of all marks in one frame."""
    carried = [
        (o.step.name, o.case.result.carried)
        for o in fits.values()
        if o.case is not None and o.step.target_frame == key
    ]
    measured = occupied.plane if isinstance(occupied, Occupied) else None
    versions = (
        state.version(GivenPosition, Mark),
        tuple((name, id(points)) for name, points in carried),
        id(measured),
        id(elsewhere),
    )
    converted = elsewhere.by_frame if elsewhere is not None else ()
    # The positions are held as well, so that their ids stay theirs.
    return memo.latest(
        ("adopted", key),
        versions,
        lambda: (adopt(state, key, carried, measured, converted), carried, measured, elsewhere),
    )[0]


def with_grid_folder(spec: FrameSpec, folder: str) -> FrameSpec:
    """The recipe with a relative geoid grid found in the job file's folder."""
    if not spec.height.grid or os.path.isabs(spec.height.grid):
        return spec
    return replace(spec, height=replace(spec.height, grid=os.path.join(folder, spec.height.grid)))
