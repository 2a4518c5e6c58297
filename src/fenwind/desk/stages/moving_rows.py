"""What a move will do, as rows and sentences, and the work itself for a worker."""

from __future__ import annotations

import math
from collections import Counter
from dataclasses import dataclass, field, replace
from functools import partial

import numpy as np

from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column
from fenwind.desk.plan_extras import Coming
from fenwind.desk.stages.incoming_rows import MEANING_WORDS
from fenwind.exchange.backdrop import read_line_work
from fenwind.exchange.dxf_move import MovedDrawing, move_drawing, preview
from fenwind.exchange.files import write_text
from fenwind.exchange.formats import read_table
from fenwind.exchange.list_move import move_list, moved_text
from fenwind.exchange.point_list import (
    ColumnMatch,
    PointList,
    columns_said,
    interpret,
    match_header,
    unit_stated,
)
from fenwind.exchange.raw_table import RawTable
from fenwind.geodesy.axes import ShownAxis
from fenwind.procedures.fit import FitResult, PairTable
from fenwind.procedures.move import (
    Distances,
    Move,
)
from fenwind.procedures.positions import Positions
from fenwind.progress import Progress
from fenwind.quantities.angles import format_dms
from fenwind.quantities.lengths import UNITS, LengthUnit
from fenwind.quantities.numbers import counted, format_fixed
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


@dataclass(frozen=True, kw_only=True, eq=False)
class Reading:
    """How a file is read: the unit where it states none, or, `forced`, whatever it states; match: meanings of
    a list's columns, None for those of its heads; axes: of the frame shown, for lists without heads; near: E,
    N in metres of a place in the system that the file is in."""

    unit: LengthUnit
    axes: tuple[ShownAxis, ShownAxis]
    near: tuple[float, float]
    forced: bool = False
    match: ColumnMatch | None = None


@dataclass(frozen=True, kw_only=True, eq=False)
class Preview:
    """What a move would do. moves: counts by what it is; stays: (handle or name, what it is, why); unit: that
    it was read in; stated: the file says so. raw, match: a list and its columns; fate: by row, why it stays
    or "moves". coming: what the plan shows."""

    moves: Counter[str]
    stays: list[tuple[str, str, str]]
    unit: LengthUnit
    stated: bool
    coming: Coming
    raw: RawTable | None = None
    match: ColumnMatch = field(default_factory=lambda: ColumnMatch(columns={}))
    fate: tuple[str, ...] = ()


def read_list(path: str, reading: Reading) -> tuple[RawTable, PointList, LengthUnit, bool]:
    """A list, its points, the unit of its plane coordinates, and whether it states that."""
    raw = read_table(path)
    match = reading.match or match_header(raw, reading.axes)
    said = unit_stated(raw, match)
    if reading.forced:
        match = replace(match, units={})
    own = reading.unit if reading.forced or said is None else said
    points = interpret(raw, match, unit=own)
    if reading.match is None and _exchanged(raw, points, reading.near):
        columns = match.columns | {"e": match.columns["n"], "n": match.columns["e"]}
        points = interpret(raw, replace(match, columns=columns), unit=own)
    return raw, points, own, said is not None and not reading.forced


def _exchanged(raw: RawTable, points: PointList, near: tuple[float, float]) -> bool:
    """Whether columns headed X and Y lie in the system that is moved from once they are exchanged: they mean
    easting and northing in some countries, the reverse in others."""
    heads = {raw.headers[points.columns.columns[m]].strip().lower()[:1] for m in "en" if raw.headers}
    if heads != {"x", "y"} or points.geographic or points.columns.opposite or not points.names:
        return False
    e, n = np.nanmedian(points.values[:2], axis=1)
    return bool(np.hypot(n - near[0], e - near[1]) < 0.5 * np.hypot(e - near[0], n - near[1]))


#: Segments of line work shown at most; more say the same again.
MOST_SEGMENTS = 40_000


def preview_task(
    path: str, move: Move, stay: tuple[str, ...], reading: Reading, both: bool, progress: Progress
) -> Preview:
    """What a move would do; both: the file lies in the frame shown before the move as well."""
    if path.lower().endswith(".dxf"):
        return _preview_of_drawing(path, move, stay, reading, both, progress)
    raw, found, unit, stated = read_list(path, reading)
    done = move_list(found, move, stay)
    at = np.stack([done.points.e_m, done.points.n_m])
    now = found.values[:2] if both else np.full(at.shape, np.nan)
    fate = {
        int(line): done.reasons.get(name, "moves")
        for line, name in zip(found.lines, found.names, strict=True)
    }
    return Preview(
        moves=Counter({"marks": int((~done.stayed).sum())}),
        stays=[(name, f"mark {name}", why) for name, why in done.reasons.items()],
        unit=unit,
        stated=stated,
        coming=Coming(names=found.names, at=at, now=now),
        raw=raw,
        match=found.columns,
        fate=tuple(fate.get(line, "cannot be read") for line in raw.lines),
    )


def _preview_of_drawing(
    path: str, move: Move, stay: tuple[str, ...], reading: Reading, both: bool, progress: Progress
) -> Preview:
    moves, stays, said = preview(path, move, stay, reading.unit, reading.forced)
    unit = reading.unit if reading.forced else UNITS.get(said, reading.unit)
    work = read_line_work(path, unit, progress)
    factor = unit.metres / UNITS[said].metres if said else 1.0
    lines = factor * np.hstack(list(work.layers.values()) or [np.zeros((4, 0))])[:, :MOST_SEGMENTS]
    zero = np.zeros(lines.shape[1])
    ends = [move.apply(lines[i], lines[i + 1], zero)[:2] for i in (0, 2)]
    after = np.vstack([*ends[0], *ends[1]])
    before = lines if both else lines[:, :0]
    coming = Coming(lines=after, before=before)
    return Preview(
        moves=moves, stays=stays, unit=unit, stated=bool(said) and not reading.forced, coming=coming
    )


def move_task(
    path: str,
    out: str,
    move: Move,
    stay: tuple[str, ...],
    result: FitResult,
    reading: Reading,
    progress: Progress,
) -> tuple[int, int, list[str]]:
    """Move a file; how many things moved, how many stayed, and what to say of it."""
    if path.lower().endswith(".dxf"):
        moved: MovedDrawing = move_drawing(path, out, move, stay, progress, reading.unit, reading.forced)
        return len(moved.moved), len(moved.stayed), moved.remarks
    raw, found, own, _ = read_list(path, reading)
    done = move_list(found, move, stay, result)
    write_text(out, moved_text(raw, found, done, own))
    said = ", ".join(
        f"{MEANING_WORDS[m]} from {head!r}" for m, head in columns_said(raw, found.columns).items()
    )
    lost = [f"{counted(len(found.problems), 'row')} could not be read: left out."] if found.problems else []
    return int((~done.stayed).sum()), int(done.stayed.sum()), [f"Columns: {said}, in {own.plural}.", *lost]


def fate_column(preview: Preview) -> Column:
    """Whether each row of a list moves."""
    return Column(
        key="fate",
        title="in the move",
        text=lambda r: preview.fate[r],
        tone=lambda r: "reed" if preview.fate[r] == "moves" else "sun",
        width=150,
    )


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

    name = Column(
        key="marks", title="mark", text=lambda r: table.names[r], tone=lambda r: "bold", whole=True, width=170
    )
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
