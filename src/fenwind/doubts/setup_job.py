"""Doubts about the setups of a job."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import replace

import numpy as np

from fenwind.doubts.of_steps import OnceJudged
from fenwind.doubts.registry import Doubt, Remedy
from fenwind.doubts.resect_rules import Looked, resect_doubts
from fenwind.doubts.setup_rules import known_setup_doubts
from fenwind.job.derive import Derived
from fenwind.job.state import JobState
from fenwind.job.steps.setup import Placed
from fenwind.job.steps.sightings import round_spreads
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.quantities.lengths import format_way
from fenwind.quantities.numbers import format_fixed
from fenwind.records.lines import TraverseBook
from fenwind.records.setups import Setup

#: What a check may miss by, plan and height, metres (common practice, no source).
CHECK_H_M, CHECK_V_M = 0.015, 0.020
#: What readings of one target may spread by, in their own sigmas: two do so by chance in one of 2,000.
SPREAD = 3.5


def setups(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """Those of every setup, and setups without a result. What a traverse is collected from is placed and
    checked by the traverse."""
    walked = {key for book in state.of(TraverseBook).values() if book.active for key in book.setups}
    for doubt in _judged.look(derived, lambda key: state.of(Setup)[key].name):
        if not (doubt.subject in walked and doubt.rule in ("resect.failed", "resect.unchecked")):
            yield doubt


def _about(found: Placed) -> Iterator[Doubt]:
    yield from _checks(found)
    yield from _rounds(found)
    checks = found.part.count("check")
    if found.setup.word == "known" and len(set(found.case.reduced.targets)) < 2 and not checks:
        yield Doubt(
            rule="resect.unchecked", subject=found.setup.id, names=(), unit="",
            text=f"{found.setup.name} is turned to one known mark and checked by none: sight another.",
        )  # fmt: skip
    if found.setup.word == "known":
        for doubt in known_setup_doubts(found.case, found.found):
            yield replace(doubt, subject=found.setup.id, remedies=_remedies(found, doubt))
        return
    seconds = RAD_PER_SECOND
    look = Looked(
        case=found.case, found=found.found, scale=found.setup.scale, checks=checks,
        others={
            found.names[key]: (float(p.at[0]), float(p.at[1]), float(p.at[2]))
            for key, p in found.others.items() if key in found.names
        },
        collimation_s=found.reduced.collimation / seconds, index_s=found.reduced.index / seconds,
    )  # fmt: skip
    for doubt in resect_doubts(look):
        yield replace(doubt, subject=found.setup.id, remedies=_remedies(found, doubt))


def _remedies(found: Placed, doubt: Doubt) -> tuple[Remedy, ...]:
    rows = [
        i for i, key in enumerate(found.setup.target)
        if doubt.names and found.names.get(key) == doubt.names[0] and found.part[i] == "held"
    ]  # fmt: skip
    if not doubt.grave or not rows:
        return ()
    names = tuple(map(str, rows))
    only = Remedy(kind="sighting-check", label="compare it only", names=names)
    if doubt.rule != "resect.prism" or doubt.value is None:
        return (only,)
    prism = found.setup.prism_m[rows[0]] - doubt.value
    label = f"amend its prism constant to {format_fixed(prism * 1000.0, 1)} mm"
    return Remedy(kind="sighted-prism", label=label, names=(f"{prism:.17g}", *names)), only


def _checks(found: Placed) -> Iterator[Doubt]:
    for i, part in enumerate(found.part):
        if part != "check":
            continue
        key = found.setup.target[i]
        away = found.shots.position[:, i] - found.known[key].at
        plan, up = float(np.hypot(*away[:2])), abs(float(away[2]))
        over = plan if plan > CHECK_H_M else up if up > CHECK_V_M else math.nan
        if not math.isnan(over):
            way = "plan" if plan > CHECK_H_M else "height"
            yield Doubt(
                rule="resect.check", subject=found.setup.id, names=(found.names[key],), value=over,
                limit=CHECK_H_M if way == "plan" else CHECK_V_M, grave=True,
                text=f"The check on {found.names[key]} from {found.setup.name} misses by {format_way(over)} "
                f"in {way}.",
            )  # fmt: skip


def _rounds(found: Placed) -> Iterator[Doubt]:
    """The target whose readings differ most, where they do so by more than they should."""
    spreads = round_spreads(found.setup, found.reduced)
    key, spread = max(spreads.items(), key=lambda one: one[1].worst, default=("", None))
    if spread is not None and spread.worst > SPREAD:
        yield Doubt(
            rule="resect.rounds", subject=found.setup.id, names=(found.names[key],), value=spread.worst,
            limit=SPREAD, unit="",
            text=f"The {spread.count} readings of {found.names[key]} from {found.setup.name} spread by "
            f"{format_fixed(spread.worst, 1)} times what is stated of one: the tripod may have moved.",
        )  # fmt: skip


_judged = OnceJudged("setup", "resect", _about)
