"""Rules about an instrument on a known mark: backsights that disagree in direction, and distances to them
that are not those of the coordinates."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from fenwind.doubts.registry import Doubt
from fenwind.doubts.resect_rules import RESIDUAL
from fenwind.procedures.resection import Case, Resection, part_of
from fenwind.procedures.side_shots import oriented
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.quantities.lengths import format_way
from fenwind.quantities.numbers import format_fixed


def known_setup_doubts(case: Case, found: Resection) -> Iterator[Doubt]:
    """Doubts about an orientation: directions first, then distances, the worst first."""
    over = [*_directions(case, found)]
    yield from over
    for k in np.argsort(-np.nan_to_num(found.standardised[1])).tolist():
        w = float(np.nan_to_num(found.standardised[1, k]))
        if w <= RESIDUAL:
            return
        off, name = -float(found.residuals[1, k]), case.reduced.targets[k]
        way = f"{format_way(abs(off))} {'longer' if off > 0 else 'shorter'}"
        yield Doubt(
            rule="setup.backsight",
            subject="setup",
            names=(name,),
            value=off,
            grave=True,
            limit=abs(off) / w * RESIDUAL,
            text=f"The distance to {name} is {way} than its coordinates say.",
        )


def _directions(case: Case, found: Resection) -> Iterator[Doubt]:
    """The backsight that the others disagree with. Of two nothing tells which, unless a distance does."""
    w = np.nan_to_num(found.standardised[0])
    names = list(dict.fromkeys(case.reduced.targets))
    # The orientation goes through both: what one is off by shows halved in each.
    if not w.size or float(w.max()) <= RESIDUAL / np.sqrt(2.0 if len(names) == 2 else 1.0):
        return
    by_name = {n: max(float(w[k]) for k, t in enumerate(case.reduced.targets) if t == n) for n in names}
    wrong = max(names, key=lambda n: (_settled_without(case, found, n), _far(case, found, n), by_name[n]))
    rest = [t != wrong for t in case.reduced.targets]
    turned = oriented(part_of(case, np.array(rest)), _at(found), np.zeros((3, 3)))
    k = case.reduced.targets.index(wrong)
    way = case.known[:2, k] - _at(found)[:2]
    off = np.arctan2(way[0], way[1]) - turned.orientation - case.reduced.direction[k]
    seconds = float(np.arctan2(np.sin(off), np.cos(off))) / RAD_PER_SECOND
    others = tuple(n for n in names if n != wrong) if len(names) == 2 else ()
    either = (
        f" It may be {others[0]} as well: sight a third mark."
        if others and not _far(case, found, wrong)
        else ""
    )
    yield Doubt(
        rule="setup.orientation",
        subject="setup",
        names=(wrong, *others),
        value=-seconds,
        unit="s",
        grave=True,
        limit=RESIDUAL * float(np.sqrt(case.reduced.covariance[0, 0, k])) / RAD_PER_SECOND,
        text=f"The direction to {wrong} is {format_fixed(abs(seconds), 0)} s off what the other backsights "
        f"say.{either}",
    )


def _at(found: Resection) -> np.ndarray:
    return np.array([found.e, found.n, found.h])


def _settled_without(case: Case, found: Resection, name: str) -> bool:
    """Whether the directions agree once a target is left out; of two targets they always do."""
    rest = part_of(case, np.array([t != name for t in case.reduced.targets]))
    if len(set(rest.reduced.targets)) < 2:
        return True
    turned = oriented(rest, _at(found), np.zeros((3, 3)))
    return bool(np.nan_to_num(turned.standardised[0]).max() <= RESIDUAL)


def _far(case: Case, found: Resection, name: str) -> bool:
    """Whether a target's distance too is not that of the coordinates."""
    rows = [k for k, t in enumerate(case.reduced.targets) if t == name]
    return bool(np.nan_to_num(found.standardised[1, rows]).max(initial=0.0) > RESIDUAL)
