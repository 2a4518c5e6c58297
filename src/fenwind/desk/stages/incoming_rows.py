"""The rows of a list that is coming in: what was read of each, what the job says of it, and whether it is to
be taken."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from functools import partial
from typing import Any, overload

import numpy as np
from numpy.typing import NDArray

from fenwind.desk.cells import Column
from fenwind.exchange.point_list import ColumnMatch, PointList, RowProblem
from fenwind.exchange.raw_table import RawTable
from fenwind.job.incoming import Against, IncomingPoints
from fenwind.quantities.numbers import format_fixed
from fenwind.reports.fit_report import mm

MEANING_WORDS = {
    "name": "name",
    "e": "E",
    "n": "N",
    "h": "height",
    "h_ell": "height above the ellipsoid",
    "lat": "latitude",
    "lon": "longitude",
    "sh": "sigma plan, m",
    "sv": "sigma height, m",
    "class": "class",
    "code": "code",
    "monument": "monument",
    "source": "source",
    "description": "description",
    "": "not used",
}
GROUPS = ("new", "differs", "same", "odd name", "unreadable")
_GROUP_OF = {
    "new": "new",
    "new position": "new",
    "another occupation": "new",
    "same": "same",
    "within": "differs",
    "differs": "differs",
}


class IncomingList:
    """A raw table with the points found in it and what the job says of them; `take` (rows of the table) is
    what the user ticks."""

    def __init__(self, raw: RawTable, points: PointList | None, against: Against | None) -> None:
        self.raw, self.against = raw, against
        self.cells = raw.rows
        self.point_of = np.full(len(raw.rows), -1, dtype=np.intp)
        self.problems: dict[int, RowProblem] = {}
        self.take = np.zeros(len(raw.rows), dtype=bool)
        groups = np.full(len(raw.rows), GROUPS.index("unreadable"), dtype=np.int8)
        if points is not None and against is not None:
            lines = np.asarray(raw.lines)
            places = np.searchsorted(lines, points.lines)
            self.point_of[places] = np.arange(places.size)
            self.problems = {int(np.searchsorted(lines, p.line)): p for p in points.problems}
            codes = {verdict: GROUPS.index(group) for verdict, group in _GROUP_OF.items()}
            groups[places] = [codes[v] for v in against.verdict]
            odd = np.array(list(against.clash), dtype=np.intp)
            self.take[places] = groups[places] != GROUPS.index("same")
            # Over the tolerance, a name that stands twice, or another's place: somebody has to look first.
            self.take[places[np.array(against.verdict, dtype=object) == "differs"]] = False
            groups[places[odd]] = GROUPS.index("odd name")
            self.take[places[odd]] = False
        self.groups = groups
        self.counts = dict(zip(GROUPS, np.bincount(groups, minlength=len(GROUPS)).tolist(), strict=True))

    def rows(self, group: str) -> RowView:
        """The rows of one group, or all."""
        chosen = (
            np.arange(len(self.cells))
            if group == "all"
            else np.flatnonzero(self.groups == GROUPS.index(group))
        )
        return RowView(self, chosen)

    def taken(self) -> NDArray[np.intp]:
        """Points that are ticked."""
        places = self.point_of[self.take]
        return places[places >= 0]

    def verdict(self, row: int) -> str:
        """What would happen with a row, in words."""
        point = int(self.point_of[row])
        problem = self.problems.get(row)
        if point < 0 or self.against is None:
            return f"{problem.column}: {problem.why}" if problem is not None else ""
        words = _difference(self.against, point)
        clash = self.against.clash.get(point)
        return f"{words} · {clash}" if clash else words

    def tone(self, row: int) -> str:
        """Tone of the verdict."""
        point = int(self.point_of[row])
        within = point >= 0 and self.against is not None and self.against.verdict[point] == "within"
        return (
            "sun"
            if within
            else {"new": "reed", "same": "faint", "odd name": "sun"}.get(GROUPS[self.groups[row]], "doubt")
        )


class RowView(Sequence[int]):
    """Rows of a list by number, made when they are looked at; a hundred thousand of them cost nothing."""

    def __init__(self, of: IncomingList, chosen: NDArray[np.intp]) -> None:
        self.of, self._chosen = of, chosen

    def __len__(self) -> int:
        return int(self._chosen.size)

    @overload
    def __getitem__(self, place: int) -> int: ...
    @overload
    def __getitem__(self, place: slice) -> list[int]: ...
    def __getitem__(self, place: int | slice) -> int | list[int]:
        return self._chosen[place].tolist() if isinstance(place, slice) else int(self._chosen[place])


def as_incoming(points: PointList, place: str) -> IncomingPoints:
    """The points of a list as the job takes them."""
    return IncomingPoints(
        names=points.names,
        lines=points.lines,
        values=points.values,
        words=points.words,
        source=points.source,
        place=place,
        geographic=points.geographic,
    )


def columns(of: IncomingList, match: ColumnMatch, toggle: Callable[[int], object]) -> list[Column]:
    """Columns of the table: take, verdict, then those of the file under their meanings."""
    return [
        Column(key="take", title="take", box=lambda r: bool(of.take[r]), toggle=toggle, width=40),
        Column(key="against", title="against the job", text=of.verdict, tone=of.tone, width=236),
        *list_columns(of.raw, match),
    ]


def list_columns(raw: RawTable, match: ColumnMatch) -> list[Column]:
    """The columns of a list under their meanings; rows are numbers."""
    meaning_of = {index: meaning for meaning, index in match.columns.items()}
    out: list[Column] = []
    for index in range(min(raw.width, 16)):
        meaning = meaning_of.get(index, "")
        stated = f", {match.units[meaning].key}" if meaning in match.units else ""
        out.append(
            Column(
                key=f"column-{index}",
                title=_title(match, meaning) + stated,
                unit=raw.headers[index] if index < len(raw.headers) else f"column {index + 1}",
                text=partial(_cell, raw.rows, index),
                tone=partial(_tone, meaning),
                right=meaning in ("e", "n", "h", "h_ell", "lat", "lon", "sh", "sv"),
                whole=meaning == "name",
                width=100
                if meaning in ("e", "n", "lat", "lon", "description", "source")
                else 82
                if meaning in ("h", "h_ell")
                else 70,
                tip="Click the head, or drag a word onto it, to say what this column means",
            )
        )
    return out


def _title(match: ColumnMatch, meaning: str) -> str:
    opposite = {"e": "westing", "n": "southing"} if meaning in match.opposite else {}
    return opposite.get(meaning, MEANING_WORDS[meaning])


def _cell(cells: list[list[str]], index: int, row: int) -> str:
    return cells[row][index] if index < len(cells[row]) else ""


def _tone(meaning: str, _row: Any) -> str:
    return "bold" if meaning == "name" else "" if meaning else "faint"


def _difference(against: Against, point: int) -> str:
    verdict = against.verdict[point]
    if verdict not in ("differs", "within"):
        return verdict
    if against.exchanged[point]:
        return "differs · E, N exchanged?"
    parts = [
        f"{axis} {_length(v)}"
        for axis, v in zip("ENH", against.d_m[:, point].tolist(), strict=True)
        if abs(v) > 5e-5
    ]
    words = "differs · " + (", ".join(parts) or "one has no height")
    limits = against.tolerance_m[:, point]
    shown = (
        mm(float(limits[0])) if limits[0] == limits[1] else f"{mm(float(limits[0]))}, {mm(float(limits[1]))}"
    )
    return f"{words}, {'within' if verdict == 'within' else 'over'} {shown}"


def _length(value_m: float) -> str:
    if math.isnan(value_m):
        return ""
    return (
        f"{mm(value_m, sign=True)} mm" if abs(value_m) < 1.0 else f"{format_fixed(value_m, 3, sign=True)} m"
    )
