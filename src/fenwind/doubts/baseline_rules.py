"""Rules about a vector between two receivers: ends exchanged, a base that is elsewhere, a height that does
not agree, integers that were not found."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.doubts.registry import Doubt
from fenwind.gnss.baseline import BaselineResult
from fenwind.quantities.lengths import format_way

FloatArray = NDArray[np.float64]
#: A position by code is right within so much, metres.
CODE_M = 50.0
#: Known and found positions agree within so many sigmas and so many metres, in plan and in height.
SIGMAS, LEAST_PLAN_M, LEAST_UP_M = 4.0, 0.02, 0.03
#: Under so many seconds or epochs a session is short.
SHORT_S, SHORT_EPOCHS = 600.0, 10
#: Two files of one mark lie apart by more, metres.
ONE_MARK_M = 5.0


@dataclass(frozen=True, kw_only=True, eq=False)
class Ends:
    """Marks of base and rover, their positions by code, the base's position as given (None where it was not),
    and the difference east, north, up from the rover's known position with its sigmas (None without)."""

    base: str
    rover: str
    base_code: FloatArray
    rover_code: FloatArray
    given: FloatArray | None
    check: FloatArray | None
    sigmas: FloatArray | None


def baseline_doubts(ends: Ends, found: BaselineResult) -> Iterator[Doubt]:
    """Blunders first, then what makes the vector weak."""
    names = (ends.base, ends.rover)
    if ends.given is not None:
        off = float(np.linalg.norm(ends.given - ends.base_code))
        other = float(np.linalg.norm(ends.given - ends.rover_code))
        if off > CODE_M and other < CODE_M:
            yield Doubt(
                rule="baseline.swapped", subject="baseline", names=names, value=off, limit=CODE_M, grave=True,
                text=f"Base and rover are swapped: the position given for {ends.base} is where {ends.rover} "
                "stood.",
            )  # fmt: skip
        elif off > CODE_M:
            yield Doubt(
                rule="baseline.base-position", subject="baseline", names=names[:1], value=off, limit=CODE_M,
                grave=True, text=f"The base position given for {ends.base} lies {off:,.0f} m from where its "
                "ranges put it.",
            )  # fmt: skip
    yield from _check(ends)
    apart = float(np.linalg.norm(found.vector))
    if ends.base == ends.rover and apart > ONE_MARK_M:
        yield Doubt(
            rule="header.mark", subject="baseline", names=names[:1], value=apart, limit=ONE_MARK_M,
            grave=True, text=f"Both files have the name {ends.base}, and lie {apart:,.1f} m apart.",
        )  # fmt: skip
    if found.solution == "float":
        yield Doubt(
            rule="baseline.float", subject="baseline", names=names, unit="",
            text="The vector is float: too few ambiguities were found as integers.",
        )  # fmt: skip
    seconds = float(found.ticks.max() - found.ticks.min()) / 1e7
    if seconds < SHORT_S or found.ticks.size < SHORT_EPOCHS:
        yield Doubt(
            rule="baseline.short", subject="baseline", names=names, value=seconds, limit=SHORT_S, unit="s",
            text=f"The session is short: {found.ticks.size} epochs in common over {seconds:g} s.",
        )  # fmt: skip


def _check(ends: Ends) -> Iterator[Doubt]:
    """Disagreement with the known position of the rover, told as an antenna height where only the height
    disagrees."""
    if ends.check is None or ends.sigmas is None:
        return
    plan = float(np.hypot(*ends.check[:2]))
    up = float(ends.check[2])
    plan_limit = max(SIGMAS * float(np.hypot(*ends.sigmas[:2])), LEAST_PLAN_M)
    up_limit = max(SIGMAS * float(ends.sigmas[2]), LEAST_UP_M)
    if plan <= plan_limit and abs(up) > up_limit:
        yield Doubt(
            rule="baseline.antenna-height", subject="baseline", names=(ends.rover, ends.base), value=-up,
            limit=up_limit, grave=True, text=f"Only the height disagrees, by {format_way(abs(up))}: the "
            f"antenna height of {ends.rover} or of {ends.base}?",
        )  # fmt: skip
    elif plan > plan_limit:
        off = float(np.linalg.norm(ends.check))
        yield Doubt(
            rule="baseline.check", subject="baseline", names=(ends.rover, ends.base), value=off,
            limit=plan_limit, grave=True, text=f"{ends.rover} disagrees with its known position by "
            f"{format_way(off)}.",
        )  # fmt: skip
