"""Velocities of marks as steps ask for them: those given in a frame, and in others on the same datum."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FenwindError
from fenwind.geodesy.frames import Frame
from fenwind.job.reader import Digest, Reader
from fenwind.procedures.onto_plane import MARKS_MEAN, same_datum
from fenwind.records.velocities import MarkVelocity

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True, eq=False)
class Velocities:
    """Velocities (3, m) east, north, up in metres a year by mark id; mean (3,): what stands for all other
    marks, nan where nothing does."""

    by_mark: dict[str, FloatArray]
    mean: FloatArray
    digest: Digest

    def of(self, marks: Sequence[str]) -> FloatArray | None:
        """Those of marks (3, k), nan where nothing is known; None where no velocity is."""
        if not self.by_mark:
            return None
        return np.stack([self.by_mark.get(mark, self.mean) for mark in marks], axis=1)


def velocities(reader: Reader, key: str, frame: Frame) -> Velocities:
    """What counts in a frame; of a mark given twice, what is given in the frame itself."""
    rows = reader.rows(MarkVelocity, "mark", "frame", "east_m", "north_m", "up_m", active=True)
    alike = {other: other == key or _alike(reader, other, frame) for other in set(rows["frame"])}
    found: dict[str, FloatArray] = {}
    values = np.stack([rows["east_m"], rows["north_m"], rows["up_m"]])
    for own in (False, True):
        for i, (mark, place) in enumerate(zip(rows["mark"].tolist(), rows["frame"].tolist(), strict=True)):
            if alike[place] and (place == key) is own:
                found[mark] = values[:, i]
    mean = np.full(3, np.nan)
    if found and frame.spec.plate == MARKS_MEAN:
        mean = np.mean(list(found.values()), axis=0)
    return Velocities(by_mark=found, mean=mean, digest=rows.digest())


def _alike(reader: Reader, other: str, frame: Frame) -> bool:
    """Whether another frame of the job is on the datum of a frame."""
    try:
        there = reader.frame(other)
    except FenwindError:
        return False
    both = there.has_datum and frame.has_datum
    return both and same_datum(there.geodetic_crs.to_wkt(), frame.geodetic_crs.to_wkt())
