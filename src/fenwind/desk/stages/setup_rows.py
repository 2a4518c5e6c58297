"""Rows of a setup's sightings and the columns that show them."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column
from fenwind.geodesy.axes import ShownAxis
from fenwind.quantities.angles import RAD_PER_SECOND, format_angle, usual_decimals
from fenwind.quantities.numbers import format_fixed
from fenwind.reports.fit_report import mm

#: Residuals are drawn against these, seconds and metres (common practice, no source).
SEEN_S, SEEN_M = 15.0, 0.010
#: What a sighting takes part in, where that is not all.
ONLY = {"plan": "known, plan", "height": "known, height"}
WORDS = {"held": "known", "check": "check", "off": "left out", "new": "new", "open": ""}


@dataclass(frozen=True, slots=True, kw_only=True)
class Row:
    """One sighting: direction (radians), residuals of direction (radians), distance and height (metres), nan
    where they took no part; for a check and a new mark what it came to, e, n, h: differences and places;
    round 0 and no time where nobody told."""

    number: int
    target: str
    part: str
    direction: float
    residual: tuple[float, float, float]
    away: tuple[float, float, float]
    place: tuple[float, float, float]
    only: str
    face: int
    round: int
    time: str


def columns(
    bridge: JobBridge, axes: tuple[ShownAxis, ShownAxis], toggle: Callable[[Row], object]
) -> list[Column]:
    """Columns in the order and with the signs of the setup's frame, in the unit shown; toggle: what a click
    on the box does."""

    def left(k: int, title: str, unit: str, size: float, limit: float) -> Column:
        return Column(
            key=f"v{k}", title=title, unit=unit, right=True, width=66,
            text=lambda r: format_fixed(r.residual[k] / size, 1, sign=True),
            value=lambda r: r.residual[k] / size, bar=lambda r: r.residual[k] / limit,
            tone=lambda r: "doubt" if abs(r.residual[k]) > limit else _tone(r), tip="Adjusted - observed",
        )  # fmt: skip

    def away(k: int, title: str, sign: float = 1.0) -> Column:
        return Column(
            key=f"d{k}", title=f"Δ{title}", unit="mm", right=True, width=66,
            text=lambda r: mm(sign * r.away[k], sign=True), value=lambda r: sign * r.away[k] * 1000.0,
            bar=lambda r: sign * r.away[k] / SEEN_M, tip="What a check misses by: observed - known",
        )  # fmt: skip

    def place(k: int, title: str, width: int, sign: float = 1.0) -> Column:
        size = sign / bridge.unit.metres
        return Column(
            key=f"p{k}", title=title, unit=bridge.unit.key, right=True, width=width,
            text=lambda r: format_fixed(r.place[k] * size, 3), value=lambda r: r.place[k] * size,
        )  # fmt: skip

    plan = [place("en".index(axis.component), axis.title, 106, axis.sign) for axis in axes]
    off = [away("en".index(axis.component), axis.title, axis.sign) for axis in axes]

    def angle(r: Row) -> str:
        style = bridge.angle_style
        return format_angle(r.direction, style, usual_decimals(style))

    return [
        Column(
            key="use", title="use", width=44, toggle=toggle,
            tip="Click: take part, compare, leave out", box=_box,
        ),
        Column(
            key="target", title="target", text=lambda r: r.target, width=62, whole=True,
            tone=lambda r: _tone(r) or "bold",
        ),
        Column(
            key="part", title="part", text=lambda r: r.only or WORDS[r.part], width=64,
            tone=lambda r: _tone(r) or "faint",
        ),
        left(0, "direction", "″", RAD_PER_SECOND, SEEN_S * RAD_PER_SECOND),
        left(1, "distance", "mm", 0.001, SEEN_M),
        left(2, "height", "mm", 0.001, SEEN_M),
        *plan, place(2, "H", 84),
        *off, away(2, "H"),
        Column(
            key="direction", title="circle", right=True, width=108, tone=_tone, text=angle,
            value=lambda r: r.direction,
        ),
        *_when(),
    ]  # fmt: skip


def _when() -> list[Column]:
    """The face, the round and the time of a reading."""
    return [
        Column(key="face", title="face", text=lambda r: f"{r.face}", value=lambda r: r.face, right=True,
               width=48, tone=_tone),
        Column(key="round", title="round", text=lambda r: f"{r.round}" if r.round else "",
               value=lambda r: r.round, right=True, width=58, tone=_tone),
        Column(key="time", title="time", unit="UTC", text=lambda r: r.time[11:19], width=78, tone=_tone),
    ]  # fmt: skip


def _box(row: Row) -> bool | str:
    return "dashed" if row.part == "check" else row.part in ("held", "new", "open")


def _tone(row: Row) -> str:
    return "off" if row.part == "off" else ""
