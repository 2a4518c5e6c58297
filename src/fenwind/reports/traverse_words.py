"""A traverse in words."""

from __future__ import annotations

import math

from fenwind.job.steps.traverse import Walked
from fenwind.reports.fit_report import mm


def both_ways(found: Walked) -> list[str]:
    """How the two ways of the legs of a traverse from setups differ at most; empty for one that was booked,
    or measured one way alone."""
    legs = [leg for leg in found.apart if math.isfinite(leg.distance) or math.isfinite(leg.dh)]
    if not legs:
        return []
    words = []
    for what, values in (
        ("distance", [leg.distance for leg in legs]),
        ("height", [leg.dh for leg in legs]),
    ):
        fine = [(abs(v), i) for i, v in enumerate(values) if math.isfinite(v)]
        if fine:
            worst = max(fine)[1]
            ends = f"{legs[worst].here} to {legs[worst].there}"
            words.append(f"{mm(values[worst], sign=True)} mm in {what} ({ends})")
    return [f"{len(legs)} legs were measured both ways: they differ by at most {' and '.join(words)}."]
