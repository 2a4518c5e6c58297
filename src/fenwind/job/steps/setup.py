"""Total-station setups: where the instrument stands, from what is known of the marks it sighted, and where
what else it sighted lies."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.estimation.distributions import plan_reach
from fenwind.geodesy.frames import Frame
from fenwind.job.reader import Digest, Reader
from fenwind.job.state import JobState
from fenwind.job.steps.known import mark_names
from fenwind.job.steps.known_places import KnownPlace, given_places, grid_factor, known_places
from fenwind.job.steps.outcome import Drawing, Node, OfRecord, Outcome, TrailStep, place_figures
from fenwind.job.steps.reductions import reductions
from fenwind.job.steps.sightings import air_factor, off_rows, options_of, sightings_of
from fenwind.procedures.average import means
from fenwind.procedures.grid_sightings import line_factors, turned
from fenwind.procedures.onto_plane import in_space
from fenwind.procedures.positions import Positions
from fenwind.procedures.resection import (
    Case,
    Reduced,
    Resection,
    Sighting,
    along,
    case_of,
    moves_with_targets,
    part_of,
    reduce,
    solve,
    with_known_sigmas,
)
from fenwind.procedures.side_shots import SideShots, oriented, side_shots
from fenwind.progress import Progress
from fenwind.quantities.numbers import counted
from fenwind.records.setups import Setup

FloatArray = NDArray[np.float64]


def setup_node(key: str) -> Node:
    """The step of a setup's id."""
    return Node("setup", key)


@dataclass(frozen=True, kw_only=True, eq=False)
class Placed:
    """A setup and what came of it. part: for each sighting "held", "check", "off" or "new"; rows: of each
    sighting in the case, -1 where it took no part. factor: of horizontal distances in the middle. shots: of
    every sighting. others: marks given in the frame that were not sighted, by id. new: positions of the
    station, where it was free, and of what was not known, by ids."""

    setup: Setup
    names: Mapping[str, str]
    found: Resection
    case: Case
    reduced: Reduced
    part: tuple[str, ...]
    rows: tuple[int, ...]
    factor: float
    shots: SideShots
    known: Mapping[str, KnownPlace]
    others: Mapping[str, KnownPlace]
    new: Positions


@dataclass(frozen=True, kw_only=True, eq=False)
class _Inputs:
    setup: Setup
    frame: Frame
    known: Mapping[str, KnownPlace]
    others: Mapping[str, KnownPlace]
    names: Mapping[str, str]


class SetupKind(OfRecord):
    """See the module."""

    name = "setup"
    record = Setup

    def read(self, node: Node, reader: Reader) -> tuple[_Inputs, Digest | None]:
        """The setup, and what is given or adjusted of its marks."""
        setup = reader.needed(Setup, node.subject)
        frame = reader.frame(setup.frame)
        wanted, weighted = {setup.station, *setup.target}, setup.targets == "weighted"
        places = known_places(reader, setup.frame, wanted, measured=weighted)
        others = given_places(reader, setup.frame, without=wanted)
        names = mark_names(reader)
        return _Inputs(setup=setup, frame=frame, known=places, others=others, names=names), None

    def solve(self, inputs: _Inputs, progress: Progress) -> Placed:
        """Place the instrument, then what it sighted. Raises ProcedureError with too little."""
        setup = inputs.setup
        part = _parts(inputs)
        factor = grid_factor(inputs.frame, inputs.known.values()) if setup.grid else 1.0
        unknown = KnownPlace(at=np.full(3, np.nan), covariance=np.full((3, 3), np.nan), origin="")
        at = np.array([inputs.known.get(key, unknown).at for key in setup.target]).reshape(-1, 3).T
        held = np.array([p == "held" for p in part], dtype=bool)
        reduced = reduce(sightings_of(setup, inputs.names), options_of(setup, factor), off_rows(setup))
        case, found = _solved(inputs, reduced, at, held)
        if setup.grid and in_space(inputs.frame):
            reduced = _by_own_lines(inputs, reduced, found, at, factor)
            case, found = _solved(inputs, reduced, at, held, found)
        if setup.targets == "weighted":
            case, found = _weighted(inputs, case, found, np.flatnonzero(held).tolist())
        numbers = np.where(held, np.cumsum(held) - 1, -1)
        shots = side_shots(found, reduced)
        return Placed(
            setup=setup, names=inputs.names, found=found, case=case, reduced=reduced, part=part,
            rows=tuple(numbers.tolist()), factor=factor, shots=shots, known=inputs.known,
            others=inputs.others, new=_new(inputs, found, shots, part),
        )  # fmt: skip

    def trail(self, node: Node, result: Placed, mark: str) -> Iterable[TrailStep]:
        """Where it came out, and from what."""
        row = result.new.index.get(mark)
        if row is None:
            return
        figures = place_figures(result.new, row)
        if mark == result.setup.station:
            pairs = zip(result.setup.target, result.part, strict=True)
            held = dict.fromkeys(result.names[key] for key, part in pairs if part == "held")
            title, note = "Resected", f"from {', '.join(held)}"
        else:
            count = result.setup.target.count(mark)
            title = "Sighted"
            note = f"{counted(count, 'time')} from {result.names.get(result.setup.station, '?')}"
        if mark != result.setup.station:
            yield from _readings(result, mark)
        yield TrailStep(title=title, note=note, figures=figures)

    def drawing(self, node: Node, result: Placed) -> Drawing:
        """Rays, roles, ellipses of what is new."""
        setup = result.setup
        pairs = list(zip(setup.target, result.part, strict=True))
        roles = {key: part for key, part in pairs if part in ("held", "check")}
        rays = dict.fromkeys((setup.station, key) for key, part in pairs if part != "off")
        return Drawing(
            frame=setup.frame, roles=roles, vector_marks=result.new.names,
            vectors=np.zeros((2, len(result.new))), covariance=np.nan_to_num(result.new.covariance[:2, :2]),
            reach=plan_reach(), lines=tuple((a, b, 1.0) for a, b in rays),
        )  # fmt: skip

    def named(self, node: Node, outcome: Outcome, names: Mapping[str, str], state: JobState) -> Any:
        """The placed setup, or why there is none."""
        return outcome.result if outcome.error is None else outcome.error


def _readings(placed: Placed, mark: str) -> Iterator[TrailStep]:
    """Every sighting of a mark with its reductions."""
    setup = placed.setup
    for row in [i for i, key in enumerate(setup.target) if key == mark and placed.part[i] == "new"]:
        told = [f"face {setup.face[row]}"]
        told += [f"round {setup.round[row]}"] if setup.round and setup.round[row] else []
        told += [setup.time[row][:19].replace("T", " ")] if setup.time and setup.time[row] else []
        yield TrailStep(title="Reading", note=", ".join(told), figures=reductions(placed, row))


def _parts(inputs: _Inputs) -> tuple[str, ...]:
    """What each sighting does: held, check, off, or new where its mark is not known."""
    said, turning = dict(inputs.setup.use), dict(inputs.setup.azimuths)
    out = []
    for i, key in enumerate(inputs.setup.target):
        use = said.get(i, "used")
        if use == "off" or key not in inputs.names:
            out.append("off")
        elif key not in inputs.known and i not in turning:
            out.append("new")
        else:
            out.append("check" if use == "check" and key in inputs.known else "held")
    return tuple(out)


def _solved(
    inputs: _Inputs, reduced: Reduced, at: FloatArray, held: NDArray[np.bool_], near: Resection | None = None
) -> tuple[Case, Resection]:
    """The case of the sightings that are held, and where the instrument is; those whose azimuth is told lead
    nowhere but turn the circle."""
    turning, at = dict(inputs.setup.azimuths), at.copy()
    if turning:
        places = [p.at[:2] for p in inputs.known.values() if np.isfinite(p.at[:2]).all()]
        middle = np.mean(places, axis=0) if places else np.zeros(2)
        for row, azimuth in turning.items():
            at[:, row] = along(azimuth, middle)
    case = part_of(_parted(inputs.setup, case_of(reduced, at, inputs.setup.heights)), held)
    if inputs.setup.word == "known":
        return case, _on_known(inputs, case)
    start = None if near is None else np.array([near.e, near.n, near.orientation])
    return case, solve(case, inputs.setup.scale, start)


def _parted(setup: Setup, case: Case) -> Case:
    """The case without the heights of sightings that take part in plan alone, and the other way round."""
    used = case.used.copy()
    for row, use in setup.use:
        if use in ("plan", "height"):
            used[[2] if use == "plan" else [0, 1], row] = False
    for row, _ in setup.azimuths:
        used[1:, row] = False
    return replace(case, used=used)


def _by_own_lines(
    inputs: _Inputs, reduced: Reduced, found: Resection, at: FloatArray, factor: float
) -> Reduced:
    """The sightings once more, each on the grid by its own line."""
    setup = inputs.setup
    places = np.where(np.isfinite(at[:2]).all(axis=0), at, side_shots(found, reduced).position)
    heights = [float(p.at[2]) for p in inputs.known.values() if math.isfinite(p.at[2])]
    height = found.h if math.isfinite(found.h) else float(np.mean(heights)) if heights else math.nan
    factors, turns = line_factors(inputs.frame, found, places, height + setup.height_m, factor)
    every = sightings_of(setup, inputs.names)
    return turned(reduce(every, options_of(setup, factors), off_rows(setup)), turns)


def one_more(placed: Placed, frame: Frame, shot: Sighting, near: FloatArray) -> FloatArray:
    """Where a sighting that is not kept comes to lie (3,): corrected for the air as the setup's own are, and
    on the grid by its own line, which leads nearly to a place (3,) of the frame."""
    setup, found = placed.setup, placed.found
    every = [*sightings_of(setup), replace(shot, distance=shot.distance * air_factor(setup))]
    factors, turns = np.full(len(every), placed.factor), np.zeros(len(every))
    if setup.grid and in_space(frame):
        axis = (found.h if math.isfinite(found.h) else float(near[2])) + setup.height_m
        own, turn = line_factors(frame, found, near[:, None], axis, placed.factor)
        factors[-1], turns[-1] = own[0], turn[0]
    reduced = turned(reduce(every, options_of(setup, factors), off_rows(setup)), turns)
    return np.asarray(side_shots(found, reduced).position[:, -1])


def _weighted(inputs: _Inputs, case: Case, found: Resection, held: list[int]) -> tuple[Case, Resection]:
    """The same with targets known as well as they are; what several of them have in common, such as the error
    of their base, is in the covariance, though it weighs nothing."""
    setup, targets = inputs.setup, [inputs.setup.target[i] for i in held]
    exact = np.zeros((3, 3))
    known = [inputs.known[key].covariance if key in inputs.known else exact for key in targets]
    covariance = np.nan_to_num(np.stack(known, axis=2))
    at = np.array([found.e, found.n])
    case = replace(case, reduced=with_known_sigmas(case.reduced, case.known, covariance, at))
    if setup.word == "known":
        return case, _on_known(inputs, case)
    found = solve(case, setup.scale, np.array([*at, found.orientation]))
    whole = found.whole + _shared(inputs.known, targets, moves_with_targets(case, found))
    kept = [0, 1, 3][: found.covariance.shape[0]]
    return case, replace(
        found, whole=whole, covariance=whole[np.ix_(kept, kept)], sigma_orientation=math.sqrt(whole[2, 2])
    )


def _shared(known: Mapping[str, KnownPlace], targets: list[str], ways: FloatArray) -> FloatArray:
    """What the errors that targets (k,) share do to unknowns (n, n) that move with their places by ways
    (n, 3, k): the sum of G_i C_ij G_j^T over pairs of different marks of one set."""
    more = np.zeros((ways.shape[0], ways.shape[0]))
    sets: list[Positions] = []
    for key in targets:
        among = known[key].among if key in known else None
        if among is not None and not any(among is one for one in sets):
            sets.append(among)
    for one in sets:
        mine = [i for i, key in enumerate(targets) if key in known and known[key].among is one]
        if one.joint is None or len(mine) < 2:
            continue
        row = np.array([one.index[targets[i]] for i in mine])
        a, b = np.nonzero(row[:, None] != row)
        between = np.nan_to_num(one.joint.between(row[a], row[b]))
        g = ways[:, :, mine]
        more += np.einsum("xik,ijk,yjk->xy", g[:, :, a], between, g[:, :, b])
    return more


def _on_known(inputs: _Inputs, case: Case) -> Resection:
    place = inputs.known.get(inputs.setup.station)
    if place is None:
        name = inputs.names.get(inputs.setup.station, "its mark")
        raise ProcedureError(f"{name} is not known", hint="Give its position, or let the setup be free")
    return oriented(case, place.at, place.covariance)


def _new(inputs: _Inputs, found: Resection, shots: SideShots, part: tuple[str, ...]) -> Positions:
    """The station where it was free, and the mean of the sightings of every mark that was not known."""
    setup = inputs.setup
    placed = set(np.flatnonzero(np.isfinite(shots.position[:2]).all(axis=0)).tolist())
    # A line of known azimuth may lead to a mark that nobody knew.
    turning = {i for i, _ in setup.azimuths if setup.target[i] not in inputs.known}
    new = [i for i, p in enumerate(part) if (p == "new" or (p == "held" and i in turning)) and i in placed]
    rows = np.array(new, dtype=np.intp)
    keys = list(dict.fromkeys(setup.target[i] for i in rows))
    group = np.array([keys.index(setup.target[i]) for i in rows], dtype=np.intp)
    position, covariance = np.zeros((3, 0)), np.zeros((3, 3, 0))
    if rows.size:
        mean = means(shots.position[:, rows], shots.own[:, :, rows], group)
        first = np.array([int(rows[np.flatnonzero(group == k)[0]]) for k in range(len(keys))])
        # Sighting a mark twice does not make the instrument stand better.
        position, covariance = mean.mean, mean.covariance + shots.shared[:, :, first]
    if setup.word == "free" and setup.station in inputs.names and setup.station not in inputs.known:
        own = np.full((3, 3), np.nan)
        size = found.covariance.shape[0]
        own[:size, :size] = found.covariance
        keys = [setup.station, *keys]
        position = np.concatenate([np.array([[found.e], [found.n], [found.h]]), position], axis=1)
        covariance = np.concatenate([own[:, :, None], covariance], axis=2)
    return Positions(
        names=tuple(keys), e_m=position[0].copy(), n_m=position[1].copy(), height_m=position[2].copy(),
        covariance=covariance,
    )  # fmt: skip
