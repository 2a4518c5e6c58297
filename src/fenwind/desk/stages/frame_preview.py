"""What a change of a frame's realisation, epoch or plate would move, before it is taken."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.desk.bridge import JobBridge
from fenwind.desk.plan_scene import Scene
from fenwind.job.derive import Derived
from fenwind.job.moved import moved
from fenwind.quantities.lengths import format_way
from fenwind.quantities.numbers import counted
from fenwind.records.entries import Gesture

#: What is looked at before it is taken, metres: less is no change that anybody sees, more is another place.
LEAST_M, MOST_M = 0.0005, 100.0


@dataclass(frozen=True, kw_only=True, eq=False)
class FramePreview:
    """A change in words, and the marks with how they move, east and north (2, k), metres."""

    words: str
    names: tuple[str, ...]
    ways: NDArray[np.float64]

    def show(self, scene: Scene) -> None:
        """As vectors on the plan, in the place of residuals."""
        rows = {name: i for i, name in enumerate(scene.names)}
        there = [k for k, name in enumerate(self.names) if name in rows]
        scene.vector_rows = np.array([rows[self.names[k]] for k in there], dtype=np.intp)
        scene.vector_m = self.ways[:, there]


def preview_of(bridge: JobBridge, gesture: Gesture, after: Derived | None) -> FramePreview | None:
    """What a gesture would move in the frame shown, after: what would follow from it; None where that is
    nothing to look at, or takes long."""
    before = bridge.derived.adopted.get(bridge.frame_id)
    there = after.adopted.get(bridge.frame_id) if after is not None else None
    if before is None or there is None:
        return None
    found = moved(bridge.frame_id, before, there)
    if not LEAST_M <= found.largest_m <= MOST_M:
        return None
    parts = (found.de_m, found.dn_m, found.dh_m)
    ways = (float(np.nanmean(v)) if np.isfinite(v).any() else 0.0 for v in parts)
    mean = ", ".join(
        f"{axis} {'−' if way < 0.0 else '+'}{format_way(abs(way))}"
        for axis, way in zip(("east", "north", "up"), ways, strict=True)
    )
    count = len(found.names)
    return FramePreview(
        words=f"{gesture.what} moves {counted(count, 'mark')} by up to "
        f"{format_way(found.largest_m)}, in the mean {mean}: see the plan.",
        names=found.names, ways=np.stack([found.de_m, found.dn_m]),
    )  # fmt: skip
