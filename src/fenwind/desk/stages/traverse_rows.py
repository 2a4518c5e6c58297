"""Rows of a traverse's book and the columns that show them."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from typing import Any

from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column
from fenwind.errors import FenwindError
from fenwind.job.state import JobState
from fenwind.job.steps.traverse import Walked
from fenwind.quantities.angles import format_angle, usual_decimals
from fenwind.quantities.numbers import format_fixed
from fenwind.records.lines import TraverseBook
from fenwind.reports.fit_report import mm

NAN3 = (math.nan, math.nan, math.nan)


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    """One row of the book. place: where its `to` came to lie; before: unadjusted; moved: what adjusting moved
    it by; all metres e, n, h, nan without. allowed: what the bars are drawn against."""

    number: int
    here: str
    there: str
    kind: str
    direction: float
    distance: float
    dh: float
    shot: bool
    place: tuple[float, float, float]
    before: tuple[float, float, float]
    allowed: float

    def moved(self, k: int) -> float:
        """What adjusting moved it by along one axis."""
        return self.place[k] - self.before[k]


@dataclass(frozen=True, kw_only=True)
class Edits:
    """What typing into a cell does: of a direction, and of a length by its column."""

    direction: Callable[[Row, str], bool]
    length: Callable[[str, Row, str], bool]


def columns(bridge: JobBridge, book: TraverseBook, edits: Edits | None) -> list[Column]:
    """Columns in the order and with the signs of the book's frame, in the unit shown; edits: None where the
    rows are collected from setups, which hold the readings."""
    size, style = bridge.unit.metres, bridge.angle_style
    axes = bridge.axes_in(bridge.state.frames.get(book.frame))
    plan = [("en".index(axis.component), axis.title, axis.sign) for axis in axes]

    def length(key: str, title: str, width: int, tip: str) -> Column:
        return Column(
            key=key, title=title, unit=bridge.unit.key, right=True, width=width, tip=tip,
            text=lambda r: format_fixed(getattr(r, key) / size, 4),
            value=lambda r: getattr(r, key) / size, tone=_tone,
            edit=partial(edits.length, key) if edits else None,
        )  # fmt: skip

    def place(k: int, title: str, sign: float, what: str) -> Column:
        return Column(
            key=f"{what}{k}", title=title, unit=bridge.unit.key, right=True, width=106, tone=_tone,
            text=lambda r: format_fixed(sign * getattr(r, what)[k] / size, 3),
            value=lambda r: sign * getattr(r, what)[k] / size,
            tip="Adjusted" if what == "place" else "As it was walked",
        )  # fmt: skip

    def moved(k: int, title: str, sign: float) -> Column:
        return Column(
            key=f"moved{k}", title=f"Δ{title}", unit="mm", right=True, width=64,
            text=lambda r: "" if r.shot else mm(sign * r.moved(k), sign=True),
            value=lambda r: sign * r.moved(k) * 1000.0, tip="Adjusted less as it was walked",
            bar=lambda r: math.nan if r.shot else sign * r.moved(k) / r.allowed,
        )  # fmt: skip

    return [
        Column(key="here", title="from", text=lambda r: r.here, width=60, whole=True, tone=_tone),
        Column(
            key="there", title="to", text=lambda r: r.there, width=60, whole=True,
            tone=lambda r: "faint" if r.shot else "bold",
        ),
        Column(key="kind", title="kind", text=lambda r: r.kind, width=58, tone=lambda r: "faint"),
        Column(
            key="direction", title="direction", right=True, width=104, tone=_tone,
            text=lambda r: format_angle(r.direction, style, usual_decimals(style)),
            value=lambda r: r.direction, edit=edits.direction if edits else None, tip="As it was booked",
        ),
        length("distance", "distance", 92, "Horizontal, as it was booked"),
        length("dh", "dh", 74, "Height of to less that of from"),
        *(moved(*axis) for axis in plan), moved(2, "H", 1.0),
        *(place(*axis, "place") for axis in plan), place(2, "H", 1.0, "place"),
        *(place(k, f"{title} walked", sign, "before") for k, title, sign in plan),
        place(2, "H walked", 1.0, "before"),
    ]  # fmt: skip


def rows(state: JobState, book: TraverseBook, found: Walked | FenwindError | None) -> list[Row]:
    """Rows of the book with where they led."""

    name = state.mark_name
    out, shot = [], 0
    for i, here in enumerate(book.here):
        place, before, side, allowed = NAN3, NAN3, False, math.nan
        if isinstance(found, Walked):
            k, side = found.leg[i], found.leg[i] < 0
            allowed = found.found.length / book.spec
            if side:
                place = _three(found.found.shots[:, shot])
                shot += 1
            else:
                place = _three(found.found.adjusted[:, k + 1])
                before = _three(found.found.unadjusted[:, k + 1])
        dh = book.dh_m[i]
        out.append(
            Row(
                number=i, here=name(here), there=name(book.there[i]), kind=book.kind[i],
                direction=book.direction_rad[i], distance=book.distance_m[i],
                dh=math.nan if dh is None else dh, shot=side, place=place, before=before, allowed=allowed,
            )
        )  # fmt: skip
    return out


def _tone(row: Row) -> str:
    return "faint" if row.shot else ""


def _three(values: Any) -> tuple[float, float, float]:
    a, b, c = (float(v) for v in values)
    return a, b, c
