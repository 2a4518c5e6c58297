"""Rules about loops: what is over its limit, and the row that the bad ones share."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from fenwind.doubts.registry import Doubt
from fenwind.procedures.loop_closures import Closure
from fenwind.quantities.lengths import format_way
from fenwind.quantities.numbers import format_fixed

#: More rows than this that are equally likely are not named.
MOST_NAMED = 2


def loop_doubts(found: Sequence[Closure], rows: Mapping[int, tuple[str, str]]) -> list[Doubt]:
    """rows: at and to by line."""
    over = [one for one in found if one.over]
    out: list[Doubt] = []
    for kind in dict.fromkeys(one.kind for one in over):
        out += _shared(kind, [one for one in found if one.kind == kind], rows)
    return out + [_misclosure(one) for one in over]


def _shared(kind: str, found: Sequence[Closure], rows: Mapping[int, tuple[str, str]]) -> list[Doubt]:
    """Rows that stand in every loop over its limit, and in no other."""
    bad = [one for one in found if one.over]
    lines = set(bad[0].lines).intersection(*(one.lines for one in bad[1:]))
    if kind == "distance" and len(bad) == 1:
        lines = {bad[0].lines[-1]} - {x for one in found if not one.over for x in one.lines[1:]}
    else:
        lines -= {x for one in found if not one.over for x in one.lines}
    if not 0 < len(lines) <= MOST_NAMED:
        return []
    worst = max(bad, key=lambda one: float(np.abs(one.misclosure / one.limit).max()))
    value = float(np.linalg.norm(worst.misclosure))
    size = f"{format_fixed(value, 1)} s" if kind == "triangle" else format_way(value)
    return [
        Doubt(
            rule=f"loops.{kind}", subject="loops", names=rows[line], grave=True, value=value,
            limit=float(worst.limit.max()), unit="s" if kind == "triangle" else "m",
            text=f"The {kind} {rows[line][0]} – {rows[line][1]} is in every loop that misses, by {size}: "
            "observe it again.",
        )
        for line in sorted(lines)
    ]  # fmt: skip


def _misclosure(one: Closure) -> Doubt:
    k = int(np.argmax(np.abs(one.misclosure) / one.limit))
    value, limit = float(one.misclosure[k]), float(one.limit[k])
    unit = "s" if one.kind == "triangle" else "m"
    words = [f"{format_fixed(v, 1)} s" if unit == "s" else format_way(v) for v in (value, limit)]
    return Doubt(
        rule="loops.misclosure", subject="loops", names=one.names, value=value, limit=limit, unit=unit,
        grave=True, text=f"{' – '.join(one.names)} misses by {words[0]}; {words[1]} is allowed.",
    )  # fmt: skip
