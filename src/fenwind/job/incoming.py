"""A list that came in, against the job: what each row would do, before anything is done; and the entries that
do it."""

from __future__ import annotations

import math
import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FrameError
from fenwind.geodesy.frames import Frame
from fenwind.job.job import new_id
from fenwind.job.state import JobState
from fenwind.procedures.near import near_pairs
from fenwind.procedures.onto_plane import onto_plane, tied
from fenwind.progress import NULL_PROGRESS, Progress
from fenwind.quantities.lengths import format_way
from fenwind.records.entries import Add, Amend, Entry, amend
from fenwind.records.records import GivenPosition, Mark, MeasuredPosition

FloatArray = NDArray[np.float64]

#: Differences below this are rounding, metres.
LEAST_M = 5e-5
#: Within this two marks of different names are taken for one place, metres.
ONE_PLACE_M = 0.02
#: How far two occupations of one mark may lie apart before they are two places, metres.
TWO_PLACES_M = 0.10
EARTH_RADIUS_M = 6_371_000.0
#: What a class without a rule of its own may differ by, metres in plan and in height.
CLASS_TOLERANCE_M = (0.010, 0.010)
#: How the reason of an amendment by a list begins.
CAME_IN_AGAIN = "came in again, "
#: How near an exchanged position must come to say so, metres.
EXCHANGED_M = 1.0


@dataclass(frozen=True, kw_only=True, eq=False)
class IncomingPoints:
    """k points as they come in. lines (k,): their place in the source. values (5, k): e, n in metres or lat,
    lon in radians, height and sigmas in plan and height in metres, nan where there is none. words: texts (k,)
    under "class", "code", "monument", "description", "source". source, place: where they come from, in words.
    geographic: the first two values are latitude and longitude."""

    names: tuple[str, ...]
    lines: NDArray[np.intp]
    values: FloatArray
    words: dict[str, tuple[str, ...]] = field(default_factory=dict)
    source: str = ""
    place: str = "row"
    geographic: bool = False

    def source_of(self, row: int) -> str:
        """Where one point comes from, with what its list says of that."""
        said = self.words["source"][row] if "source" in self.words else ""
        return f"{said + ', ' if said else ''}{self.source}, {self.place} {self.lines[row]}"


def on_plane(points: IncomingPoints, system: str, frame: Frame) -> IncomingPoints:
    """Geographic points, in `system` or, where that is empty, in the datum of the frame, as positions in the
    frame. Raises FrameError where the frame has no datum, no way leads to it, or a point cannot be projected
    into it."""
    lat, lon, height = points.values[:3]
    values, notes, operation = onto_plane(
        lat, lon, height, system or frame.geodetic_name, frame, frame.spec.epoch_year
    )
    lost = np.flatnonzero(~np.isfinite(values[:2]).all(axis=0))
    if lost.size:
        raise FrameError(
            f"{points.names[lost[0]]} cannot be projected into {frame.spec.name}",
            where=f"{points.source}, {points.place} {points.lines[lost[0]]}",
            hint="Check latitude and longitude, or choose another frame",
        )
    said = " ".join(
        [
            f"converted by {operation}" if operation != "the same datum" else "projected",
            *(n.text for n in notes),
        ]
    )
    return replace(
        points,
        values=np.vstack([values, points.values[3:]]),
        source=f"{points.source} ({said})",
        geographic=False,
    )


def levelled(points: IncomingPoints, frame: Frame | None) -> IncomingPoints:
    """Positions on the plane of a frame whose heights are above the ellipsoid, with heights as the frame
    counts them; without any where it counts them from something that nothing ties to the ellipsoid."""
    if frame is None or not frame.has_datum or not tied(frame):
        undulation = np.full(points.values.shape[1], np.nan)
        said = "heights above the ellipsoid left out"
    else:
        undulation = frame.geoid_height(*frame.inverse(*points.values[:2]))
        said = "heights from the ellipsoid"
    values = points.values.copy()
    values[2] -= undulation
    return replace(points, values=values, source=f"{points.source} ({said})")


@dataclass(frozen=True, kw_only=True, eq=False)
class Against:
    """k points against the job. verdict: "new", "new position", "same", "within" (differs by less than the
    tolerance of the class), "differs" or "another occupation". d_m (3, k): how far the position differs in e,
    n, height. tolerance_m (2, k). exchanged (k,): with e and n exchanged it would be near. clash: what is odd
    about the name, by row."""

    verdict: tuple[str, ...]
    d_m: FloatArray
    tolerance_m: FloatArray
    exchanged: NDArray[np.bool_]
    clash: dict[int, str]


def against_job(state: JobState, points: IncomingPoints, frame: str, measured: bool) -> Against:
    """Compare points with what the job knows in `frame`; `measured` ones are occupations and compare by name
    only."""
    marks = {m.name: m for m in state.marks.values()}
    given = {g.mark: g for g in state.given.values() if g.active and g.frame == frame}
    found = [marks.get(name) for name in points.names]
    known = [given.get(m.id) if m is not None and not measured else None for m in found]
    table = _known_table(known)
    d = points.values[:3] - table
    placeless = np.isnan(points.values[0])
    d[:2, placeless] = 0.0  # a height alone says nothing of the plan
    tolerance = _tolerances(state, points, found)
    along, up = np.hypot(d[0], d[1]), np.nan_to_num(np.abs(d[2]))
    one_height = np.isnan(points.values[2]) != np.isnan(table[2])
    with np.errstate(invalid="ignore"):
        same = (np.fmax(np.fmax(np.abs(d[0]), np.abs(d[1])), up) <= LEAST_M) & ~one_height
        within = (along <= tolerance[0]) & (up <= tolerance[1]) & ~one_height
        across = np.hypot(points.values[1] - table[0], points.values[0] - table[1])
        exchanged = (across < EXCHANGED_M) & (along > EXCHANGED_M)
    verdict = np.array([_UNKNOWN if g is None else "differs" for g in known], dtype=object)
    verdict[within & (verdict == "differs")] = "within"
    verdict[same & (verdict != _UNKNOWN)] = "same"
    occupied = {m.mark for m in state.measured.values()} if measured else set()
    for row in np.flatnonzero(verdict == _UNKNOWN).tolist():
        mark = found[row]
        again = mark is not None and mark.id in occupied
        verdict[row] = "new" if mark is None else "another occupation" if again else "new position"
    clash = _clashes(state, points, frame, measured)
    return Against(
        verdict=tuple(verdict.tolist()), d_m=d, tolerance_m=tolerance, exchanged=exchanged, clash=clash
    )


_UNKNOWN = ""


def _known_table(known: Sequence[GivenPosition | None]) -> FloatArray:
    """E, N and height (3, k) of given positions, nan where there is none."""
    table = np.full((3, len(known)), math.nan)
    rows = [row for row, g in enumerate(known) if g is not None]
    if rows:
        table[:, rows] = np.array([g.values for g in known if g is not None]).T
    return table


def _tolerances(state: JobState, points: IncomingPoints, found: list[Mark | None]) -> FloatArray:
    """Tolerance in plan and height (2, k) by the class of each mark, else of the row."""
    if not any(r.active and r.by == "class" for r in state.mark_rules.values()):
        return np.tile(np.array(CLASS_TOLERANCE_M)[:, None], (1, len(found)))
    classes = [m.mark_class if m is not None else "" for m in found]
    if "class" in points.words:
        classes = [own or stated for own, stated in zip(classes, points.words["class"], strict=True)]
    order = {name: i for i, name in enumerate(dict.fromkeys(classes))}
    rules = [state.rule_of("class", name) for name in order]
    pairs = np.array(
        [(r.tolerance_h_m, r.tolerance_v_m) if r is not None else CLASS_TOLERANCE_M for r in rules]
    ).reshape(-1, 2)
    return np.asarray(pairs[[order[name] for name in classes]].T)


def _clashes(state: JobState, points: IncomingPoints, frame: str, measured: bool) -> dict[int, str]:
    """Rows whose name stands twice in the list, is another mark's name in other spelling, or whose place has
    another name in the job."""
    clash: dict[int, str] = _measured_apart(points) if measured else {}
    if not measured:
        seen: dict[str, int] = {}
        for row, name in enumerate(points.names):
            if name in seen:
                clash[row] = f"{name} stands in {points.place} {points.lines[seen[name]]} too"
                clash.setdefault(seen[name], f"{name} stands in {points.place} {points.lines[row]} too")
            else:
                seen[name] = row
    own = {
        m.name: loose
        for m, loose in zip(
            state.marks.values(), loose_names([m.name for m in state.marks.values()]), strict=True
        )
    }
    spelt = {loose: name for name, loose in own.items()}
    if spelt:
        for row, loose in enumerate(loose_names(points.names)):
            if loose in spelt and points.names[row] not in own:
                clash.setdefault(row, f"the job has {spelt[loose]}")
    if not measured:
        for row, other in _other_names_here(state, points, frame).items():
            clash.setdefault(row, f"at the place of {other}")
    return clash


def _measured_apart(points: IncomingPoints) -> dict[int, str]:
    """Occupations of one name in a list that lie at two places."""
    first = dict(zip(reversed(points.names), range(len(points.names) - 1, -1, -1), strict=True))
    origin = np.fromiter(map(first.__getitem__, points.names), dtype=np.intp, count=len(points.names))
    d = points.values[:2] - points.values[:2, origin]
    if points.geographic:  # on a sphere: the size of a mistake, no more
        d = d * EARTH_RADIUS_M * np.stack([np.ones(origin.size), np.cos(points.values[0])])
    away = np.hypot(*d)
    return {
        row: f"{format_way(float(away[row]))} from {points.names[row]} in {points.place} "
        f"{points.lines[origin[row]]}"
        for row in np.flatnonzero(away > TWO_PLACES_M).tolist()
    }


def loose_names(names: Sequence[str]) -> list[str]:
    """Names without what people spell differently: case, blanks, hyphens and other signs, leading zeros of
    numbers."""
    plain = _SIGNS.sub("", "\n".join(" ".join(n.split()) if "\n" in n else n for n in names).lower())
    return _ZEROS.sub("", plain).split("\n") if names else []


_SIGNS = re.compile(r"[^\w\n]|_")
_ZEROS = re.compile(r"(?<!\d)0+(?=\d)")


def _other_names_here(state: JobState, points: IncomingPoints, frame: str) -> dict[int, str]:
    """Rows of new names within ONE_PLACE_M of a known position of another mark."""
    marks = state.marks
    known = [
        g
        for g in state.given.values()
        if g.active and g.frame == frame and g.mark in marks and g.e_m is not None
    ]
    if not known:
        return {}
    own = {marks[g.mark].name for g in known}
    placed = np.isfinite(points.values[0]).tolist()
    fresh = [row for row, name in enumerate(points.names) if placed[row] and name not in own]
    e = np.array([g.values[0] for g in known] + points.values[0, fresh].tolist())
    n = np.array([g.values[1] for g in known] + points.values[1, fresh].tolist())
    try:
        first, second = near_pairs(e, n, ONE_PLACE_M)
    except ValueError:
        return {}
    count = len(known)
    across = (first < count) & (second >= count)
    return {
        fresh[j - count]: marks[known[i].mark].name
        for i, j in zip(first[across].tolist(), second[across].tolist(), strict=True)
    }


def take_in(
    state: JobState,
    points: IncomingPoints,
    rows: Iterable[int],
    *,
    measured: bool,
    frame: str,
    crs: str = "",
    session: str = "",
    epoch_year: float | None = None,
    progress: Progress = NULL_PROGRESS,
) -> tuple[Entry, ...]:
    """Entries that take rows in: new marks, given positions in `frame` (amended where the mark has one), or
    occupations.

    Occupations are geodetic in `crs` when `frame` is empty, else on the plane of that frame.
    """
    marks = {m.name: m for m in state.marks.values()}
    given = {g.mark: g for g in state.given.values() if g.active and g.frame == frame}
    entries: list[Entry] = []
    rows = list(rows)
    numbers = points.values[:, rows].T.tolist()
    columns = [(_FIELDS[key], texts) for key, texts in points.words.items() if key in _FIELDS]
    for count, row in enumerate(rows):
        if count % 200 == 0:
            progress.check()
            progress.report(count, len(rows), "taking")
        name = points.names[row]
        words: dict[str, Any] = {key: texts[row] for key, texts in columns}
        mark, made = _mark_of(marks, name, words, points.source_of(row))
        entries += made
        values = [None if v != v else v for v in numbers[count]]
        source = points.source_of(row)
        if measured and values[0] is None:
            continue  # a height alone was given by somebody, not measured at a place
        if measured:
            entries.append(Add(record=_occupation(mark, values, source, frame, crs, session, epoch_year)))
        elif mark.id in given:
            entries.append(_put_right(given[mark.id], values, source))
        else:
            given[mark.id] = _given(mark, values, source, frame)
            entries.append(Add(record=given[mark.id]))
    return tuple(entries)


def _mark_of(
    marks: dict[str, Mark], name: str, words: dict[str, Any], source: str
) -> tuple[Mark, tuple[Entry, ...]]:
    """The mark of a name, made when there is none (and put into `marks`), and the entries that make or
    complete it."""
    mark = marks.get(name)
    if mark is None:
        mark = marks[name] = Mark(id=new_id(), name=name, **words)
        return mark, (Add(record=mark),)
    fresh = {key: text for key, text in words.items() if text and text != getattr(mark, key)}
    return mark, (amend(mark, reason=source, **fresh),) if fresh else ()


def _put_right(given: GivenPosition, values: list[float | None], source: str) -> Amend:
    """A given position that came in again; sigmas stay where the list has none."""
    changed: dict[str, Any] = {"height_m": values[2], "source": source}
    if values[0] is not None:
        changed |= {"e_m": values[0], "n_m": values[1]}
    changed |= {k: v for k, v in (("sigma_h_m", values[3]), ("sigma_v_m", values[4])) if v is not None}
    return amend(given, reason=f"{CAME_IN_AGAIN}{source}", **changed)


_FIELDS = {"class": "mark_class", "code": "code", "monument": "monument", "description": "description"}


def _given(mark: Mark, values: list[float | None], source: str, frame: str) -> GivenPosition:
    e, n, height, sigma_h, sigma_v = values
    return GivenPosition(
        id=new_id(),
        mark=mark.id,
        frame=frame,
        e_m=e,
        n_m=n,
        height_m=height,
        sigma_h_m=sigma_h,
        sigma_v_m=sigma_v,
        source=source,
    )


def _occupation(
    mark: Mark,
    values: list[float | None],
    source: str,
    frame: str,
    crs: str,
    session: str,
    epoch_year: float | None,
) -> MeasuredPosition:
    first, second, height, sigma_h, sigma_v = values
    plane: dict[str, Any] = {"e_m": first, "n_m": second} if frame else {"lat_rad": first, "lon_rad": second}
    return MeasuredPosition(
        id=new_id(),
        mark=mark.id,
        **plane,
        h_m=height,
        frame=frame,
        crs="" if frame else crs,
        epoch_year=epoch_year,
        sigma_h_m=sigma_h,
        sigma_v_m=sigma_v,
        session=session,
        source=source,
    )
