"""Doubts about fits in space."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from fenwind.doubts.of_steps import OnceJudged
from fenwind.doubts.registry import Doubt
from fenwind.job.derive import Derived
from fenwind.job.state import JobState
from fenwind.job.steps.space_fit import Carried
from fenwind.quantities.lengths import format_way
from fenwind.records.space_fits import SpaceFit

#: The second principal spread of the pairs is at least this part of the first (common practice, no source); a
#: pair stands out when it misses by what it would by chance in one of a hundred such fits, and by more than
#: so much, metres.
FLAT, ALPHA, LEAST_M = 1.0 / 50.0, 0.01, 0.001


def space_fits(state: JobState, derived: Derived) -> Iterator[Doubt]:
    """Those of every fit in space, and fits without a result."""
    return _judged.look(derived, lambda key: state.of(SpaceFit)[key].name)


def _about(found: Carried) -> Iterator[Doubt]:
    key, names = found.step.id, tuple(found.names[k] for k in found.pairs)
    share = float(found.fit.spreads[1] / max(float(found.fit.spreads[0]), 1e-9))
    if found.step.parameters == 7 and share < FLAT:
        yield Doubt(
            rule="space.weak-geometry", subject=key, names=names, value=share, limit=FLAT, unit="",
            text=f"The pairs of {found.step.name} lie nearly on a line: turns about it are hardly "
            "determined.",
        )  # fmt: skip
    if any(found.loose):
        which = "neither frame's" if all(found.loose) else "one frame's"
        yield Doubt(
            rule="space.heights", subject=key, names=(), unit="",
            text=f"Nothing ties {which} heights to the ellipsoid: {found.step.name} takes them as above "
            "it, so that geoid heights are in its shift and its turn.",
        )  # fmt: skip
    if found.fit.sigma0_m is None:
        yield Doubt(
            rule="space.unchecked", subject=key, names=names, unit="",
            text=f"{found.step.name} has no pair more than it needs: nothing checks it.",
        )  # fmt: skip
        return
    yield from _standing_out(found)


def _standing_out(found: Carried) -> Iterator[Doubt]:
    """The pair that the others make least likely, where that is no chance among so many."""
    rows = np.flatnonzero(found.used & np.isfinite(found.chance))
    if not rows.size:
        return
    worst = rows[int(np.argmin(found.chance[rows]))]
    chance = float(found.chance[worst]) * rows.size
    name, away = found.names[found.pairs[worst]], float(np.linalg.norm(found.without[:, worst]))
    if chance < ALPHA and away > LEAST_M:
        yield Doubt(
            rule="space.outlier", subject=found.step.id, names=(name,), value=away, grave=True,
            text=f"{name} lies {format_way(away)} from where the other pairs of {found.step.name} put it in "
            "space.",
        )  # fmt: skip


_judged = OnceJudged("space fit", "space", _about)
