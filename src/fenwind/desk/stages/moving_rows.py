"""What a move will do, as rows and sentences, and the work itself for a worker."""

from __future__ import annotations

import math
from collections import Counter
from dataclasses import dataclass
from functools import partial

import numpy as np

from fenwind.desk.bridge import JobBridge
from fenwind.desk.table import Column
from fenwind.exchange.dxf_move import MovedDrawing, move_drawing, preview
from fenwind.exchange.files import write_text
from fenwind.exchange.formats import read_table
from fenwind.exchange.list_move import move_list, moved_text
from fenwind.exchange.point_list import PointList, interpret
from fenwind.exchange.raw_table import RawTable
from fenwind.procedures.fit import FitResult, PairTable
from fenwind.procedures.move import (
    Distances,
    Move,
)
from fenwind.procedures.positions import Positions
from fenwind.progress import Progress
from fenwind.quantities.angles import format_dms
from fenwind.quantities.lengths import UNITS, LengthUnit
from fenwind.quantities.numbers import format_fixed
from fenwind.reports.fit_report import mm


@dataclass(frozen=True, kw_only=True, eq=False)
class Way:
    """How a file is to be moved: pairs, the fit of them, and words for the statement. step: id of the fit it
    comes from, empty for none. targets: whether what lies at the pairs' targets stays."""

    words: str
    source: Positions
    target: Positions
    result: FitResult
    step: str = ""
    targets: bool = True


@dataclass(frozen=True, slots=True)
class Row:
    """A line of what moves and what stays."""

    what: str
    count: int
    why: str


def some(points: Positions, names: tuple[str, ...]) -> Positions:
    rows = np.array([points.index[n] for n in names], dtype=int)
    return Positions(
        names=names,
        e_m=points.e_m[rows],
        n_m=points.n_m[rows],
        height_m=points.height_m[rows],
        covariance=points.covariance[:, :, rows],
    )


def read_list(path: str, unit: LengthUnit) -> tuple[RawTable, PointList, LengthUnit]:
    raw = read_table(path)
    own = UNITS[raw.unit] if raw.unit else unit
    return raw, interpret(raw, unit=own), own


def preview_task(
    path: str, move: Move, stay: tuple[str, ...], unit: LengthUnit, progress: Progress
) -> tuple[Counter[str], list[tuple[str, str, str]]]:
    if path.lower().endswith(".dxf"):
        return preview(path, move, stay, unit)
    done = move_list(read_list(path, unit)[1], move, stay)
    stays = [(name, f"mark {name}", why) for name, why in done.reasons.items()]
    return Counter({"marks": int((~done.stayed).sum())}), stays


def move_task(
    path: str,
    out: str,
    move: Move,
    stay: tuple[str, ...],
    result: FitResult,
    unit: LengthUnit,
    progress: Progress,
) -> tuple[int, int, list[str]]:
    if path.lower().endswith(".dxf"):
        moved: MovedDrawing = move_drawing(path, out, move, stay, progress, unit)
        return len(moved.moved), len(moved.stayed), moved.remarks
    raw, found, own = read_list(path, unit)
    done = move_list(found, move, stay, result)
    write_text(out, moved_text(raw, found, done, own))
    lost = [f"{len(found.problems)} rows could not be read and were left out."] if found.problems else []
    return int((~done.stayed).sum()), int(done.stayed.sum()), lost


def what_happens(way: Way, move: Move, found: Distances, bridge: JobBridge) -> str:
    unit, gon = bridge.unit, bridge.angle_style == "gon"
    shift_e, shift_n = way.result.plan.shift
    turned = way.result.plan.rotation_rad * (-1 if move.backwards else 1)
    angle = (
        f"{format_fixed(turned * 200 / math.pi, 6)} gon, {format_dms(turned, 3)}"
        if gon
        else format_dms(turned, 3)
    )
    words = [
        f"Shift E {format_fixed(shift_e / unit.metres, 4)}, N {format_fixed(shift_n / unit.metres, 4)} "
        f"{unit.key}; turn {angle}"
    ]
    words.append(f"scale {move.scale:.9f}" if move.scale != 1.0 else "scale held at 1")
    height = way.result.height.shift_m / unit.metres * (-1 if move.backwards else 1)
    words.append(
        f"heights shifted by {format_fixed(height, 6, sign=True)} {unit.key}"
        if move.heights
        else "heights untouched"
    )
    text = "; ".join(words) + "."
    if found.source.size:
        ppm = (found.ratio - 1.0) * 1e6
        worst = float(np.abs(found.difference).max())
        text += (
            f" Distances between the marks differ by at most {format_fixed(worst * 1000, 1)} mm, the "
            f"middle ratio by {format_fixed(ppm, 1, sign=True)} ppm."
        )
    return text


def residual_columns(table: PairTable) -> list[Column]:
    def way(key: str, title: str) -> Column:
        values = getattr(table, key)
        return Column(
            key=key,
            title=title,
            unit="mm",
            text=lambda r: mm(float(values[r]), sign=True),
            value=lambda r: float(values[r]) * 1000.0,
            right=True,
            width=120,
            tip="Moved - target",
        )

    name = Column(key="marks", title="mark", text=lambda r: table.names[r], tone=lambda r: "bold", width=170)
    used = Column(
        key="used",
        title="",
        text=lambda r: "" if table.used_h[r] else "took no part",
        tone=lambda r: "faint",
        width=120,
    )
    return [name, way("de_m", "ΔE"), way("dn_m", "ΔN"), way("dh_m", "ΔH"), used]


def distance_columns(unit: LengthUnit, found: Distances | None) -> list[Column]:
    heads = (
        ("marks", "between", "", 170),
        ("source", "in the old system", unit.key, 130),
        ("target", "in the new system", unit.key, 130),
        ("difference", "difference", "mm", 96),
        ("ppm", "ratio", "ppm", 96),
    )
    return [
        Column(
            key=key,
            title=title,
            unit=name,
            right=key != "marks",
            width=width,
            text=partial(_distance_text, found, key, unit) if found else lambda r: "",
            value=partial(_distance_value, found, key, unit) if found else None,
        )
        for key, title, name, width in heads
    ]


def _distance_value(found: Distances, key: str, unit: LengthUnit, row: int) -> float | str:
    if key == "marks":
        return f"{found.first[row]} - {found.second[row]}"
    if key == "ppm":
        return float((found.target[row] / found.source[row] - 1.0) * 1e6)
    value = float(getattr(found, key)[row])
    return value * 1000.0 if key == "difference" else value / unit.metres


def _distance_text(found: Distances, key: str, unit: LengthUnit, row: int) -> str:
    value = _distance_value(found, key, unit, row)
    if isinstance(value, str):
        return value
    relative = key in ("difference", "ppm")
    return format_fixed(value, 1 if relative else 4, sign=relative)
