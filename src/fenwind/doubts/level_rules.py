"""Rules about levelling: misclosures over their limit, and the run that is wrong."""

from __future__ import annotations

import math

import numpy as np

from fenwind.doubts.registry import Doubt
from fenwind.errors import ProcedureError
from fenwind.procedures.levelling import Levelling, LevelLoop, LevelResult, level, without
from fenwind.quantities.lengths import format_way

#: A run is named when its standardised residual is above this (two-sided 0.1 %) and a misclosure is over
#: its limit; runs within this share of the largest are equally likely.
NAMED, AS_LIKELY = 3.29, 0.98
MOST_NAMED = 3


def level_doubts(work: Levelling, result: LevelResult) -> list[Doubt]:
    """Runs that explain what is over its limit, then what is."""
    over = [one for one in result.loops if abs(one.misclosure_m) > one.limit_m]
    return (_wrong_runs(work, result) if over else []) + [_misclosure(one) for one in over]


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
