"""Moving a point list: every mark by one similarity but those that stay."""

from __future__ import annotations

import csv
import io
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.exchange.csv_out import guarded
from fenwind.exchange.point_list import PointList
from fenwind.exchange.raw_table import RawTable
from fenwind.procedures.fit import FitResult
from fenwind.procedures.move import Move
from fenwind.procedures.positions import Positions, positions
from fenwind.quantities.lengths import METRE, LengthUnit


@dataclass(frozen=True, kw_only=True, eq=False)
class MovedList:
    """The list after the move, and which of its marks stayed (k,) with the reason by name."""

    points: Positions
    stayed: NDArray[np.bool_]
    reasons: dict[str, str]


def move_list(
    found: PointList, move: Move, stay: tuple[str, ...], result: FitResult | None = None
) -> MovedList:
    """Move a list of plane coordinates; names in `stay` and marks at a pair's target stay. With the fit's
    `result` sigmas that came in are carried with its own uncertainty.

    Raises ProcedureError for geographic lists, for names that stand twice, and for names to stay that are not
    in it.
    """
    if found.geographic:
        raise ProcedureError(
            "latitude and longitude cannot be moved by a plane fit",
            where=found.source,
            hint="Give the list as name,e,n,h",
        )
    if len(set(found.names)) < len(found.names):
        raise ProcedureError("a name stands twice in the list", where=found.source, hint="Rename one of them")
    points = positions(found.names, *found.values)
    unknown = [n for n in stay if n not in points.index]
    if unknown:
        raise ProcedureError(
            f"no mark {unknown[0]!r} to leave where it is", where=found.source, hint="Name marks of the file"
        )
    reasons = {
        n: "is a target of the move"
        for n, at in zip(points.names, move.at_target(points.e_m, points.n_m), strict=True)
        if at
    }
    reasons |= {n: f"named: {n}" for n in stay}
    fixed = np.array([n in reasons for n in points.names], dtype=bool)
    old = (points.e_m, points.n_m, points.height_m)
    e, n, h = (np.where(fixed, before, after) for before, after in zip(old, move.apply(*old), strict=True))
    carried = points if move.backwards or result is None else result.forward(points)
    covariance = np.where(fixed, points.covariance, carried.covariance)
    covariance[:, :, ~np.isfinite(points.covariance[0, 0])] = np.nan  # no sigma came in, so none goes out
    after = Positions(names=points.names, e_m=e, n_m=n, height_m=h, covariance=covariance)
    return MovedList(points=after, stayed=fixed, reasons=reasons)


def moved_text(
    raw: RawTable, found: PointList, done: MovedList, unit: LengthUnit | None, decimals: int = 6
) -> str:
    """The list as it came, with its own columns and delimiter, and the coordinates replaced; rows that could
    not be read are left out. `unit` is that of columns whose head states none, and is put there; None where
    nobody knows it.
    """
    rows = {line: list(cells) for line, cells in zip(raw.lines, raw.rows, strict=True)}
    points = done.points
    values = {
        "e": points.e_m,
        "n": points.n_m,
        "h": points.height_m,
        "sh": points.sigma_h_m,
        "sv": points.sigma_v_m,
    }
    kept = []
    for i, line in enumerate(found.lines.tolist()):
        cells = rows[line]
        for meaning, column in found.columns.columns.items():
            if meaning not in values or (column >= len(cells) or not cells[column]):
                continue
            metres = found.columns.factor(meaning, unit or METRE)
            cells[column] = _figure(float(values[meaning][i]) / metres, decimals, raw.decimal_comma)
        kept.append(cells)
    out = io.StringIO(newline="")
    writer = csv.writer(out, delimiter=raw.delimiter)
    if raw.headers:
        writer.writerow(raw.headers if unit is None else _heads(raw, found, tuple(values), unit))
    writer.writerows([guarded(cell, raw.decimal_comma) for cell in cells] for cells in kept)
    return out.getvalue()


def _heads(raw: RawTable, found: PointList, meanings: tuple[str, ...], unit: LengthUnit) -> list[str]:
    """The heads, with the unit of each length."""
    heads = list(raw.headers)
    for meaning, column in found.columns.columns.items():
        if meaning in meanings and meaning not in found.columns.units:
            heads[column] += f" ({unit.key})"
    return heads


def _figure(value: float, decimals: int, comma: bool) -> str:
    text = f"{value:.{decimals}f}"
    return text.replace(".", ",") if comma else text
