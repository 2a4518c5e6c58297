"""A base that all marks measured from it say is wrong: its antenna height, the mark it really stands on, or
its coordinate. One offset that all share is fitted and told only when what is left passes."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.doubts.registry import Doubt, Remedy
from fenwind.geodesy.geocentric import enu_axes
from fenwind.job.derive import Derived
from fenwind.job.session_view import known_of, rover_of
from fenwind.job.state import JobState
from fenwind.job.steps.rover import RoverMarks
from fenwind.procedures.rover import Point, mean
from fenwind.procedures.shared_errors import shared
from fenwind.quantities.lengths import format_way
from fenwind.records.sessions import BaseSetup, Occupation

FloatArray = NDArray[np.float64]

#: What an offset may be at least before it is told, plan and height, metres (common practice, no source), and
#: the multiple of its sigma; two-sided 0.1 %.
LEAST_H_M, LEAST_V_M, REACH = 0.015, 0.025, 3.29
#: A base is judged by so many marks that are known, or measured from so many other bases.
LEAST_MARKS = LEAST_BASES = 2
#: How near the vector between two marks must be to the offset, metres.
NEAR_M = 0.10


@dataclass(frozen=True, kw_only=True, eq=False)
class BaseOffset:
    """An offset in east, north, up (3,) that all of k occupations from a base share, metres; axes (3, 3) of
    that at the base, as rows."""

    base: BaseSetup
    enu: FloatArray
    axes: FloatArray
    occupations: tuple[str, ...]

    @property
    def plan_m(self) -> float:
        """Its length in plan."""
        return float(np.hypot(*self.enu[:2]))


def shared_offsets(state: JobState, derived: Derived) -> list[BaseOffset]:
    """Bases that stand somewhere, and are off by an offset that all marks measured from them share."""
    rover, known = rover_of(derived), known_of(derived)
    by_mark: dict[str, list[Occupation]] = {}
    for one in state.of(Occupation).values():
        if one.active and one.finished and one.id in rover.each:
            by_mark.setdefault(one.mark, []).append(one)
    found = []
    for base in state.of(BaseSetup).values():
        if base.active and base.word != "average" and base.id in rover.bases:
            offset = _offset(base, by_mark, rover, known)
            if offset is not None:
                found.append(offset)
    return found


def _references(
    base: BaseSetup,
    by_mark: Mapping[str, Sequence[Occupation]],
    rover: RoverMarks,
    known: Mapping[str, Point],
) -> Iterator[tuple[Occupation, Point]]:
    """Occupations from a base with where their marks are by others: known, or from two bases besides."""
    for mark, there in by_mark.items():
        mine = [one for one in there if one.base == base.id]
        if not mine or mark == base.mark:
            continue
        reference = known.get(mark)
        if reference is None:
            others = [one for one in there if one.base != base.id]
            if len({one.base for one in others}) < LEAST_BASES:
                continue
            reference = mean([rover.each[one.id] for one in others])
        yield from ((one, reference) for one in mine)


def _offset(
    base: BaseSetup,
    by_mark: Mapping[str, Sequence[Occupation]],
    rover: RoverMarks,
    known: Mapping[str, Point],
) -> BaseOffset | None:
    pairs = list(_references(base, by_mark, rover, known))
    if len({one.mark for one, _ in pairs}) < LEAST_MARKS:
        return None
    axes = enu_axes(*rover.bases[base.id].ground.geodetic[:2])
    d = np.array([axes @ (rover.each[one.id].xyz - there.xyz) for one, there in pairs])
    variance = np.array([variances(rover.each[one.id], there, axes) for one, there in pairs])
    weight = 1.0 / np.maximum(variance, 1e-8)
    common = np.sum(weight * d, axis=0) / np.sum(weight, axis=0)
    sigma = np.sqrt(np.maximum(variance, 1e-8))
    limit = np.maximum([LEAST_H_M, LEAST_H_M, LEAST_V_M], REACH * sigma)
    if (np.abs(d - common) > limit).any():
        return None  # they do not share it
    if not (np.abs(common) > limit.max(axis=0)).any():
        return None
    return BaseOffset(base=base, enu=common, axes=axes, occupations=tuple(one.id for one, _ in pairs))


def variances(point: Point, reference: Point, axes: FloatArray) -> FloatArray:
    """Variances of the difference of two points along axes (3, 3), as rows: (3,), square metres."""
    cross = shared(point.errors, reference.errors)
    total = point.errors.total + reference.errors.total - cross - cross.T
    return np.asarray(np.diag(axes @ total @ axes.T))


def wrong_base(state: JobState, offset: BaseOffset, known: Mapping[str, Point]) -> Iterator[Doubt]:
    """What explains the offset of a base: its antenna height, another mark, else its coordinate."""
    base, up = offset.base, float(offset.enu[2])
    size = float(np.linalg.norm(offset.enu))
    if offset.plan_m <= LEAST_H_M:
        text = (
            f"All that was measured from base {base.name} is {format_way(abs(up))} too "
            f"{'high' if up > 0.0 else 'low'}: its antenna height is another."
        )
        height = base.height_m - up
        remedies = (Remedy(kind="base-height", label=f"amend it to {height:.4f} m"),) if height > 0.0 else ()
        yield _doubt(base, "base.antenna", (base.name,), text, up, LEAST_V_M, remedies)
        return
    said = known.get(base.mark) if base.mark else None
    if said is not None:
        way = offset.axes.T @ offset.enu
        for key, point in known.items():
            if key != base.mark and float(np.linalg.norm(said.xyz - point.xyz - way)) < NEAR_M:
                names = (base.name, state.mark_name(base.mark), state.mark_name(key))
                text = (
                    f"Base {names[0]} was said to stand on {names[1]}; all that was measured from it fits "
                    f"when it stands on {names[2]}."
                )
                remedy = Remedy(kind="base-stands-on", label=f"let it stand on {names[2]}", names=(names[2],))
                yield _doubt(base, "base.wrong-mark", names, text, size, NEAR_M, (remedy,))
                return
    ways = zip(offset.enu.tolist(), (("east", "west"), ("north", "south"), ("up", "down")), strict=True)
    parts = ", ".join(f"{format_way(abs(way))} {words[way < 0.0]}" for way, words in ways)
    text = (
        f"All that was measured from base {base.name} is off by one vector of {format_way(size)} ({parts}): "
        "its coordinate is another."
    )
    yield _doubt(base, "base.position", (base.name,), text, size, LEAST_H_M, ())


def _doubt(
    base: BaseSetup, rule: str, names: tuple[str, ...], text: str, value: float, limit: float,
    remedies: tuple[Remedy, ...],
) -> Doubt:  # fmt: skip
    return Doubt(rule=rule, subject=base.id, names=names, text=text, value=value, limit=limit, grave=True,
                 remedies=remedies)  # fmt: skip
