"""Photo control and scan targets: whether they cover the ground they are to hold.

Limits are common practice, no source: three or more, spread over the area, with the corners and the centre
taken when there are five or more, the highest and the lowest ground covered, and one or more kept out as a
check.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.procedures.hull import least_rectangle
from fenwind.quantities.numbers import counted

FloatArray = NDArray[np.float64]

LEAST, MANY = 3, 5
#: How far from a corner or the centre a target may lie, as a part of the area's diagonal.
REACH = 0.25
#: Part of the area's longer side that three or four targets must span, and part of its height range.
SPAN, HEIGHT_SPAN = 0.5, 0.8
#: Height ranges below this need no thought, metres.
FLAT_M = 5.0


@dataclass(frozen=True, slots=True, kw_only=True)
class Judgement:
    """One thing judged: whether it is fine, in words, what was counted or measured and the limit; places (e,
    n) that lack a target."""

    rule: str
    fine: bool
    text: str
    value: float
    limit: float
    places: tuple[tuple[float, float], ...] = ()


@dataclass(frozen=True, kw_only=True, eq=False)
class Coverage:
    """What is judged of the targets. box (4, 2): corners of the area along its own axes, e and n."""

    judgements: tuple[Judgement, ...]
    box: FloatArray

    @property
    def fine(self) -> bool:
        """Whether nothing is lacking."""
        return all(j.fine for j in self.judgements)


def coverage(targets: FloatArray, check: NDArray[np.bool_], ground: FloatArray) -> Coverage:
    """Judge targets (3, k) of e, n, height, those in `check` (k,) kept out, against the ground (3, m) that
    they are to hold.

    ground: any places of the area, with nan heights where not known; needs at least one, of which the targets
    may be part.
    """
    control = targets[:, ~check]
    count = control.shape[1]
    box, centre = least_rectangle(ground[:2])
    diagonal = float(np.hypot(*(box[2] - box[0]))) or 1.0
    judged = [
        Judgement(
            rule="coverage.count",
            fine=count >= LEAST,
            text=f"{counted(count, 'control target')}; at least {LEAST} are needed.",
            value=count,
            limit=LEAST,
        ),
        _spread(control, box, centre, diagonal),
        _heights(control, ground),
    ]
    kept_out = int(check.sum())
    judged.append(
        Judgement(
            rule="coverage.check",
            fine=kept_out >= 1,
            text=f"{counted(kept_out, 'check target')}; one or more should be kept out of the adjustment.",
            value=kept_out,
            limit=1,
        )
    )
    return Coverage(judgements=tuple(judged), box=box)


def _spread(control: FloatArray, box: FloatArray, centre: FloatArray, diagonal: float) -> Judgement:
    count = control.shape[1]
    if count >= MANY:
        wanted = np.vstack([box, centre])
        apart = _own_target(
            np.hypot(wanted[:, :1] - control[0], wanted[:, 1:] - control[1]), REACH * diagonal
        )
        bare = np.flatnonzero(apart > REACH * diagonal)
        words = "Every corner and the centre have a target near"
        if bare.size:
            words = (
                f"{bare.size} of the four corners and the centre have no target of their own within "
                f"{REACH * diagonal:.0f} m"
            )
        places = tuple((float(e), float(n)) for e, n in wanted[bare])
        worst = float(min(apart.max() / diagonal, 1.0))
        return Judgement(
            rule="coverage.spread",
            fine=not bare.size,
            text=f"{words}.",
            value=worst,
            limit=REACH,
            places=places,
        )
    length, width = (float(np.hypot(*(box[1] - box[0]))), float(np.hypot(*(box[3] - box[0]))))
    part = 0.0
    if count >= 2 and max(length, width) > 0:
        along, across = (box[1] - box[0]) / (length or 1.0), (box[3] - box[0]) / (width or 1.0)
        spans = [
            float(np.ptp(axis @ control[:2])) / size
            for axis, size in ((along, length), (across, width))
            if size > 0.2 * diagonal
        ]
        part = min(spans) if spans else 0.0
    text = f"The control targets span {part:.0%} of the area's narrower way; {SPAN:.0%} is wanted."
    return Judgement(rule="coverage.spread", fine=part >= SPAN, text=text, value=part, limit=SPAN)


def _own_target(apart: FloatArray, reach: float) -> FloatArray:
    """Distance (5,) of each wanted place from the target that stands for it, of distances (5, k): no target
    stands for two places. As many places as can be have one within reach."""
    from scipy.optimize import linear_sum_assignment

    cost = np.where(apart <= reach, apart / max(reach, 1e-9) * 1e-3, 1.0 + apart / apart.max(initial=1e-9))
    rows, columns = linear_sum_assignment(cost)
    found = np.full(apart.shape[0], np.inf)
    found[rows] = apart[rows, columns]
    return found


def _heights(control: FloatArray, ground: FloatArray) -> Judgement:
    known = ground[2][np.isfinite(ground[2])]
    own = control[2][np.isfinite(control[2])]
    relief = float(np.ptp(known)) if known.size else 0.0
    if relief <= FLAT_M:
        return Judgement(
            rule="coverage.heights",
            fine=True,
            text=f"The ground is flat to {relief:.1f} m.",
            value=relief,
            limit=FLAT_M,
        )
    part = float(np.ptp(own)) / relief if own.size else 0.0
    low = float(own.min()) - float(known.min()) if own.size else relief
    high = float(known.max()) - float(own.max()) if own.size else relief
    text = f"The control targets cover {part:.0%} of the relief of {relief:.0f} m"
    fine = part >= HEIGHT_SPAN
    if not fine:
        text += f": the lowest ground lies {low:.0f} m below, the highest {high:.0f} m above them"
    return Judgement(rule="coverage.heights", fine=fine, text=text + ".", value=part, limit=HEIGHT_SPAN)
