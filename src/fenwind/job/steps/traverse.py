"""Traverses: along the chain of a book between what is known, each line on the grid, adjusted."""

from __future__ import annotations

import math
from collections.abc import Collection, Iterable, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from fenwind.errors import ProcedureError
from fenwind.estimation.distributions import plan_reach
from fenwind.geodesy.frames import Frame
from fenwind.job.reader import Digest, Reader
from fenwind.job.state import JobState
from fenwind.job.steps.known import mark_names
from fenwind.job.steps.known_places import KnownPlace, grid_factor, known_places
from fenwind.job.steps.outcome import (
    CandidateSet,
    Drawing,
    Figures,
    Node,
    OfRecord,
    Outcome,
    TrailStep,
    place_figures,
)
from fenwind.job.steps.sightings import off_rows, options_of, sightings_of
from fenwind.procedures.collected import Apart, Collected, Station, collect
from fenwind.procedures.grid_sightings import traverse_on_grid
from fenwind.procedures.positions import Positions
from fenwind.procedures.resection import reduce
from fenwind.procedures.traverse import Ends, Options, Sight, Traverse, TraverseResult, solve, taken_apart
from fenwind.procedures.traverse_errors import bearing_on_closure, covariances
from fenwind.progress import Progress
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.records.lines import TraverseBook
from fenwind.records.setups import Setup


def traverse_node(key: str) -> Node:
    """The step of a traverse's id."""
    return Node("traverse", key)


@dataclass(frozen=True, kw_only=True, eq=False)
class Walked:
    """A traverse and what came of it. work: with names of marks and distances by the factor; stations, shots:
    ids. angle_limit in radians. leg: for each row of the book its leg, -1 for a side shot. new: positions
    of what was not known, by ids. apart: how the two ways of legs differ, of one that is collected from
    setups; its book has the rows that were collected."""

    book: TraverseBook
    work: Traverse
    found: TraverseResult
    factor: float
    angle_limit: float
    stations: tuple[str, ...]
    shots: tuple[str, ...]
    leg: tuple[int, ...]
    new: Positions
    apart: tuple[Apart, ...] = ()


@dataclass(frozen=True, kw_only=True, eq=False)
class _Inputs:
    book: TraverseBook
    frame: Frame
    known: Mapping[str, KnownPlace]
    names: Mapping[str, str]
    setups: tuple[Setup, ...]


class TraverseKind(OfRecord):
    """See the module."""

    name = "traverse"
    record = TraverseBook

    def targets(self, state: JobState, node: Node) -> tuple[str, ...]:
        """Its frame."""
        return (state.of(TraverseBook)[node.subject].frame,)

    def read(self, node: Node, reader: Reader) -> tuple[_Inputs, Digest | None]:
        """The book, and what is known of its marks."""
        book = reader.needed(TraverseBook, node.subject)
        found = [reader.record(Setup, key) for key in book.setups]
        setups = tuple(s for s in found if s is not None and s.active)
        if len(setups) < len(book.setups):
            raise ProcedureError("a setup that it is collected from is gone", hint="Collect it again")
        wanted = {*book.here, *book.there, book.back, book.close, book.fore}
        wanted |= {mark for setup in setups for mark in (setup.station, *setup.target)}
        frame = reader.frame(book.frame)
        places = known_places(reader, book.frame, wanted)
        return _Inputs(book=book, frame=frame, known=places, names=mark_names(reader), setups=setups), None

    def solve(self, inputs: _Inputs, progress: Progress) -> Walked:
        """Walk and adjust. Raises ProcedureError when something it hangs on is not known."""
        inputs, apart = _collected(inputs)
        book = inputs.book
        places = [p for key, p in inputs.known.items()]
        factor = grid_factor(inputs.frame, places) if book.grid else 1.0
        rows = _rows(inputs)
        if not rows:
            raise ProcedureError("nothing is booked yet", hint="Book its legs in the order of the walk")
        name = inputs.names.get
        close = name(book.close, "") if book.close else None
        names, legs, shots = taken_apart(rows, rows[0].here, close)
        options = Options(
            method=book.method, balance=book.balance, heights_by=book.heights_by,
            sigma_angle=book.sigma_angle_s * RAD_PER_SECOND, sigma_distance_m=book.sigma_distance_m,
            sigma_distance_ppm=book.sigma_distance_ppm,
        )  # fmt: skip
        work = Traverse(names=names, legs=legs, shots=shots, ends=_ends(inputs), options=options)
        found = solve(work)
        if factor != 1.0:
            back, fore = (inputs.known[k].at if k in inputs.known else None for k in (book.back, book.fore))
            work = traverse_on_grid(inputs.frame, work, found, back, fore, factor)
            found = solve(work)
        limit = book.angle_limit_s
        seconds = 2.0 * book.sigma_angle_s * math.sqrt(bearing_on_closure(work)) if limit is None else limit
        number = {id(leg): k for k, leg in enumerate(legs)}
        ids = {name: key for key, name in reversed(list(inputs.names.items()))}
        walked = Walked(
            book=book, work=work, found=found, factor=factor, angle_limit=seconds * RAD_PER_SECOND,
            stations=tuple(ids.get(n, n) for n in names), shots=tuple(ids.get(s.there, "") for s in shots),
            leg=tuple(number.get(id(row), -1) for row in rows), new=_nothing(), apart=apart,
        )  # fmt: skip
        return replace(walked, new=_new(inputs, walked))

    def gives(self, outcome: Outcome) -> Iterable[tuple[str, CandidateSet]]:
        """Stations and side shots that were not known."""
        found: Walked = outcome.result
        if len(found.new):
            yield found.book.frame, CandidateSet(
                key=outcome.node.subject, place="traverse", basis="traversed", why=found.book.name,
                positions=found.new,
            )  # fmt: skip

    def trail(self, node: Node, result: Walked, mark: str) -> Iterable[TrailStep]:
        """Where it came out, and what was taken off."""
        row = result.new.index.get(mark)
        if row is None:
            return
        p, found = result.new, result.found
        figures = [*place_figures(p, row)]
        if mark in result.stations:
            k = result.stations.index(mark)
            e, n, h = (float(v) for v in found.adjusted[:, k] - found.unadjusted[:, k])
            figures.append(Figures(kind="difference", values=(e, n, h), words="adjusted by"))
            title, note = "Traversed", f"station {k + 1} of {len(result.stations)}"
        else:
            title, note = "Side shot", f"from {result.work.shots[result.shots.index(mark)].here}"
        yield TrailStep(title=title, note=note, figures=tuple(figures))

    def drawing(self, node: Node, result: Walked) -> Drawing:
        """The legs, and ellipses of what is new."""
        legs = [*zip(result.stations, result.stations[1:], strict=False)]
        ids = {name: key for name, key in zip(result.work.names, result.stations, strict=True)}
        shots = [(ids[s.here], key) for s, key in zip(result.work.shots, result.shots, strict=True) if key]
        new = set(result.new.names)
        return Drawing(
            frame=result.book.frame, roles={key: "held" for key in result.stations if key not in new},
            vector_marks=result.new.names, vectors=np.zeros((2, len(result.new))),
            covariance=np.nan_to_num(result.new.covariance[:2, :2]), reach=plan_reach(),
            lines=tuple((a, b, 1.0) for a, b in [*legs, *shots]),
        )  # fmt: skip

    def named(self, node: Node, outcome: Outcome, names: Mapping[str, str], state: JobState) -> Any:
        """What came of it, or why nothing did."""
        return outcome.result if outcome.error is None else outcome.error


def collected_from(setups: Sequence[Setup], names: Mapping[str, str], known: Collection[str]) -> Collected:
    """The traverse of setups in the order of the walk, marks by their names; known: names. Raises
    ProcedureError where the walk breaks off."""
    stations = []
    for setup in setups:
        off = off_rows(setup)
        reduced = reduce(sightings_of(setup, names), options_of(setup, 1.0), off)
        off |= {i for i, key in enumerate(setup.target) if key not in names}
        stations.append(Station(name=names.get(setup.station, "?"), reduced=reduced, off=off))
    return collect(stations, known)


def _collected(inputs: _Inputs) -> tuple[_Inputs, tuple[Apart, ...]]:
    """The same with the rows of its setups in the book, where it is collected from some."""
    book, names = inputs.book, inputs.names
    if not book.setups:
        return inputs, ()
    known = [names[key] for key in (book.back, book.close, book.fore) if key in names]
    found = collected_from(inputs.setups, names, known)
    ids = {name: key for key, name in reversed(list(names.items()))}
    rows = found.rows
    filled = replace(
        book, here=tuple(ids[r.here] for r in rows), there=tuple(ids[r.there] for r in rows),
        kind=tuple(r.kind for r in rows), direction_rad=tuple(r.direction for r in rows),
        distance_m=tuple(r.distance for r in rows),
        dh_m=tuple(None if math.isnan(r.dh) else r.dh for r in rows),
        closing_angle_rad=found.closing_angle if book.fore else None,
    )  # fmt: skip
    return replace(inputs, book=filled), found.apart


def _rows(inputs: _Inputs) -> list[Sight]:
    book, name = inputs.book, inputs.names.get
    columns = zip(
        book.here, book.there, book.kind, book.direction_rad, book.distance_m, book.dh_m, strict=True
    )
    return [
        Sight(
            here=name(here, "?"), there=name(there, "?"), kind=kind, direction=direction,
            distance=distance, dh=math.nan if dh is None else dh,
        )
        for here, there, kind, direction, distance, dh in columns
    ]  # fmt: skip


def _ends(inputs: _Inputs) -> Ends:
    book = inputs.book
    start = _place(inputs, book.here[0], "begins")
    loop = bool(book.close) and (book.loop or book.close == book.here[0])
    close = None
    if book.close:
        close = start if loop else _place(inputs, book.close, "closes")
    ends = Ends(
        start=start, close=close, loop=loop,
        start_line=_line(inputs, start, book.start_azimuth_rad, book.back),
        closing_line=None if close is None else _line(inputs, close, book.closing_azimuth_rad, book.fore),
        closing_angle=book.closing_angle_rad if close is not None else None,
    )  # fmt: skip
    return ends


def _place(inputs: _Inputs, key: str, what: str) -> tuple[float, float, float]:
    found = inputs.known.get(key)
    if found is None:
        name = inputs.names.get(key, "a mark that is gone")
        raise ProcedureError(
            f"it {what} at {name}, which is not known in its frame", hint=f"Give the position of {name}"
        )
    e, n, h = (float(v) for v in found.at)
    return e, n, h


def _line(inputs: _Inputs, at: tuple[float, float, float], azimuth: float | None, mark: str) -> float | None:
    if azimuth is not None or not mark:
        return azimuth
    e, n, _ = _place(inputs, mark, "is turned")
    if (e, n) == at[:2]:
        raise ProcedureError("a line leads to its own mark", hint="Choose another mark")
    return math.atan2(e - at[0], n - at[1])


def _nothing() -> Positions:
    return Positions(
        names=(), e_m=np.zeros(0), n_m=np.zeros(0), height_m=np.zeros(0), covariance=np.zeros((3, 3, 0))
    )


def _new(inputs: _Inputs, walked: Walked) -> Positions:
    """Stations and side shots whose marks were not known."""
    work, found = walked.work, walked.found
    keys = [*walked.stations, *walked.shots]
    at = np.concatenate([found.adjusted, found.shots], axis=1)
    covariance = np.concatenate(covariances(work, found), axis=2)
    # A mark that stands twice (the start of a loop under its own name) is taken once.
    first = {key: i for i, key in reversed(list(enumerate(keys)))}
    rows = [i for key, i in sorted(first.items(), key=lambda pair: pair[1]) if key not in inputs.known]
    rows = [i for i in rows if keys[i] in inputs.names]
    kept = np.array(rows, dtype=np.intp)
    covariance = covariance[:, :, kept]
    flat = np.isnan(at[2, kept])
    covariance[2, :, flat] = covariance[:, 2, flat] = np.nan
    return Positions(
        names=tuple(keys[i] for i in rows), e_m=at[0, kept], n_m=at[1, kept], height_m=at[2, kept],
        covariance=covariance,
    )  # fmt: skip
