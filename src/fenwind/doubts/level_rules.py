"""Rules about levelling: misclosures over their limit, and the run that is wrong."""

from __future__ import annotations

import math
from dataclasses import replace

import numpy as np

from fenwind.doubts.registry import Doubt
from fenwind.errors import ProcedureError
from fenwind.procedures.levelling import Levelling, LevelLoop, LevelResult, level, without
from fenwind.quantities.lengths import FEET, format_way

#: A run is named when its standardised residual is above this (two-sided 0.1 %) and a misclosure is over
#: its limit; runs within this share of the largest are equally likely.
NAMED, AS_LIKELY = 3.29, 0.98
MOST_NAMED = 3


def level_doubts(work: Levelling, result: LevelResult) -> list[Doubt]:
    """Runs that explain what is over its limit, then what is."""
    over = _over(result)
    if not over:
        return []
    unit = _unit(work)
    runs = [] if unit else _wrong_runs(work, result)
    marks = [] if unit else _wrong_marks(work)
    # One mark is a shorter explanation than several runs; one run is as likely as one mark.
    causes = unit or (runs + marks if len(runs) <= 1 else marks or runs)
    return causes + [_misclosure(one) for one in over]


def _over(result: LevelResult) -> list[LevelLoop]:
    return [one for one in result.loops if abs(one.misclosure_m) > one.limit_m]


def _unit(work: Levelling) -> list[Doubt]:
    """All height differences, or all given heights, in feet."""
    for words, metres in FEET.items():
        for factor in (metres, 1.0 / metres):
            if not _over(level(replace(work, dh_m=work.dh_m * factor))):
                what = "height differences" if factor < 1.0 else "given heights"
                return [
                    Doubt(
                        rule="level.unit", subject="level", names=(), value=factor, unit="", grave=True,
                        text=f"The {what} are in {words}.",
                    )
                ]  # fmt: skip
    return []


def _wrong_marks(work: Levelling) -> list[Doubt]:
    """Known marks without which everything closes, and what their given height is off by."""
    used = {name for ends in zip(work.first, work.second, strict=True) for name in ends}
    marks = [name for name in work.control if name in used]
    if len(marks) < 3:
        return []
    out = []
    for name in marks:
        rest = {key: value for key, value in work.control.items() if key != name}
        try:
            found = level(replace(work, control=rest))
        except ProcedureError:
            continue
        if not _over(found):
            off = work.control[name] - float(found.height_m[found.names.index(name)])
            out.append(
                Doubt(
                    rule="level.control", subject="level", names=(name,), value=off, grave=True,
                    text=f"The given height of {name} is off by {format_way(off)}: everything else closes.",
                )
            )  # fmt: skip
    return out if len(out) <= 2 else []


def _misclosure(one: LevelLoop) -> Doubt:
    return Doubt(
        rule="level.misclosure", subject="level", names=one.names, value=one.misclosure_m,
        limit=one.limit_m, grave=True,
        text=f"{' – '.join(one.names)} misses by {format_way(one.misclosure_m)}; "
        f"{format_way(one.limit_m)} is allowed.",
    )  # fmt: skip


def _wrong_runs(work: Levelling, result: LevelResult) -> list[Doubt]:
    """One after the other, until the rest closes. More than two that are equally likely are a loop of their
    own: nothing tells them apart."""
    out: list[Doubt] = []
    taken: list[int] = []
    rows = list(range(len(work.first)))
    while len(out) < MOST_NAMED and any(abs(one.misclosure_m) > one.limit_m for one in result.loops):
        size = np.abs(np.nan_to_num(result.unlikely))
        likely = [int(i) for i in np.flatnonzero(size >= AS_LIKELY * size.max())]
        if size.max() < NAMED or len(likely) > 2:
            break
        likely.sort(key=lambda i: -round(float(size[i]), 6))  # as likely: in the order of the book
        out += [_about_run(work, rows[i], float(result.error_m[i])) for i in likely]
        taken += [rows[i] for i in likely]
        rows = [i for i in range(len(work.first)) if i not in taken]
        try:
            result = level(without(work, taken))
        except ProcedureError:
            break
    return out


def _about_run(work: Levelling, k: int, error: float) -> Doubt:
    names = (work.first[k], work.second[k])
    return Doubt(
        rule="level.run", subject="level", names=names, value=error,
        limit=work.limit_m * math.sqrt(float(work.length[k])), grave=True,
        text=f"The levelling run {names[0]} – {names[1]} is wrong by {format_way(error)}: level it again.",
    )  # fmt: skip
