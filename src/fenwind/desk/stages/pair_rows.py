"""Rows of a fit's pairs: what is held, what is left over, what was found."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from fenwind.desk.bridge import JobBridge
from fenwind.job import gestures
from fenwind.job.steps.fit import FitOutcome, known_and_measured
from fenwind.procedures.fit import FitResult
from fenwind.records.records import FitStep, Mark, Use
from fenwind.reports.fit_report import role_of


@dataclass(frozen=True, slots=True, kw_only=True)
class PairRow:
    """One pair as the table shows it; lengths in metres, nan where there is none."""

    mark: Mark
    use: Use
    role: str
    has_height: bool
    de: float = math.nan
    dn: float = math.nan
    dh: float = math.nan
    loo_h: float = math.nan
    redundancy: tuple[float, float] = (math.nan, math.nan)
    pivot: bool = False


def pair_rows(bridge: JobBridge, step: FitStep, outcome: FitOutcome | None) -> list[PairRow]:
    """Rows of all pairs of a fit, those switched off included, in the order of the marks."""
    state = bridge.state
    names = known_and_measured(state, step)
    result = outcome.case.result if outcome is not None and outcome.case is not None else None
    place = {n: i for i, n in enumerate(result.pairs.names)} if result else {}
    rows = []
    for mark in state.marks.values():
        if mark.name not in names:
            continue
        use = gestures.use_of(state, step, mark)
        if result is not None and mark.name in place:
            rows.append(_row_of(result, place[mark.name], mark, use, step))
        else:
            rows.append(_row_off(outcome, mark, use))
    return rows


def _row_of(result: FitResult, i: int, mark: Mark, use: Use, step: FitStep) -> PairRow:
    t = result.pairs
    has_height = bool(np.isfinite(t.dh_m[i]))
    role = role_of(bool(t.used_h[i]), bool(t.used_v[i]), has_height)
    pivot = step.horizontal == "pivot" and mark.id in (step.pivot or ())
    return PairRow(
        mark=mark,
        use=use,
        role=("pivot" if mark.id == (step.pivot or ("",))[0] else "direction") if pivot else role,
        has_height=has_height,
        de=float(t.de_m[i]),
        dn=float(t.dn_m[i]),
        dh=float(t.dh_m[i]),
        loo_h=float(t.loo_h_m[i]),
        redundancy=(float(t.redundancy[0, i]), float(t.redundancy[1, i])),
        pivot=pivot,
    )


def _row_off(outcome: FitOutcome | None, mark: Mark, use: Use) -> PairRow:
    """A pair that is switched off is still compared, in grey."""
    case = outcome.case if outcome is not None else None
    if case is None or mark.name not in case.known.index or mark.name not in case.result.carried.index:
        return PairRow(mark=mark, use=use, role="off" if use == "off" else "", has_height=True)
    c, k = case.result.carried, case.known
    i, j = c.index[mark.name], k.index[mark.name]
    dh = float(c.height_m[i] - k.height_m[j])
    de, dn = float(c.e_m[i] - k.e_m[j]), float(c.n_m[i] - k.n_m[j])
    return PairRow(
        mark=mark,
        use=use,
        role="off",
        has_height=not math.isnan(dh),
        de=de,
        dn=dn,
        dh=dh,
        loo_h=math.hypot(de, dn),
    )
