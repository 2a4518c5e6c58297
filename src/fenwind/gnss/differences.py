"""Single differences between two receivers that see the same satellites: what was observed less what is
computed, by arcs without a slip."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.gnss.ranges import Geometry, Rows
from fenwind.gnss.signals import SPEED_OF_LIGHT

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
Bools = NDArray[np.bool_]


@dataclass(frozen=True, kw_only=True, eq=False)
class Pairs:
    """Rows of a system that both receivers have: epoch (m,) of those in common, satellite codes (m,), ranges
    and phases of rover less base (m, k), metres, frequency (m, k), flagged (m, 2) where a phase was lost at
    base and at rover; row numbers at both."""

    system: str
    epoch: IntArray
    code: IntArray
    ranges: FloatArray
    phases: FloatArray
    frequency: FloatArray
    flagged: Bools
    base_row: NDArray[np.intp]
    rover_row: NDArray[np.intp]

    def take(self, rows: NDArray[np.intp]) -> Pairs:
        """Some rows."""
        return Pairs(
            system=self.system, epoch=self.epoch[rows], code=self.code[rows], ranges=self.ranges[rows],
            phases=self.phases[rows], frequency=self.frequency[rows], flagged=self.flagged[rows],
            base_row=self.base_row[rows], rover_row=self.rover_row[rows],
        )  # fmt: skip


def pairs_of(base: Rows, rover: Rows, base_epoch: IntArray, rover_epoch: IntArray, phases: bool) -> Pairs:
    """Rows in common. base_epoch, rover_epoch: the epoch in common of each file's epochs, -1 where there is
    none. Rows without all ranges, and with `phases` without all phases or with an open half cycle, are left
    out."""
    keys = []
    for rows, common in ((base, base_epoch), (rover, rover_epoch)):
        fine = np.isfinite(rows.ranges).all(axis=1) & np.isfinite(rows.frequency).all(axis=1)
        if phases:
            fine &= np.isfinite(rows.phases).all(axis=1) & ~rows.half.any(axis=1)
        epoch = common[rows.epoch]
        keys.append(np.where(fine & (epoch >= 0), epoch * 1000 + rows.code, -1 - np.arange(epoch.size)))
    both, one, two = np.intersect1d(keys[0], keys[1], assume_unique=False, return_indices=True)
    kept = both >= 0
    one, two = one[kept], two[kept]
    flagged = np.stack([base.slip[one].any(axis=1), rover.slip[two].any(axis=1)], axis=1)
    return Pairs(
        system=base.system, epoch=both[kept] // 1000, code=base.code[one],
        ranges=rover.ranges[two] - base.ranges[one], phases=rover.phases[two] - base.phases[one],
        frequency=rover.frequency[two], flagged=flagged, base_row=one, rover_row=two,
    )  # fmt: skip


def computed_difference(base: Geometry, rover: Geometry) -> FloatArray:
    """Ranges of rover less base (m,) by geometry and satellite clocks, metres."""
    return np.asarray(
        (rover.distance - base.distance) - SPEED_OF_LIGHT * (rover.clock - base.clock), dtype=np.float64
    )


#: A phase that leaps by more than so many sigmas of its change has slipped, and at least by so much, metres.
LEAP, LEAST_LEAP = 6.0, 0.045
#: One sigma of the change of a difference of phases at the zenith, metres.
CHANGE = 0.0035


def arcs(
    pairs: Pairs, phases: FloatArray, elevation: FloatArray, seconds: FloatArray, length_km: float
) -> tuple[IntArray, int]:
    """The arc (m,) of every row, and how many slips were found or flagged. phases (m, k): observed less
    computed; seconds (t,) of the epochs in common. An arc ends where a phase was flagged or leaps, or is
    missing for more than a few epochs."""
    order = np.lexsort((pairs.epoch, pairs.code))
    code, epoch = pairs.code[order], pairs.epoch[order]
    before = np.concatenate([[0], epoch[:-1]])
    same = np.concatenate([[False], code[1:] == code[:-1]])
    step = seconds[epoch] - seconds[before]
    follows = same & (epoch - before <= MOST_MISSING + 1) & (step <= LONGEST_STEP_S)
    change = np.zeros((code.size, phases.shape[1]))
    change[1:] = phases[order][1:] - phases[order][:-1]
    next_ = follows & (epoch == before + 1)
    for k in range(change.shape[1]):
        drift, broken = _drift(change[:, k], epoch, next_, seconds.size)
        change[:, k] -= drift[epoch] - drift[before]
        follows &= broken[epoch] == broken[before]
    sigma = CHANGE / np.sin(elevation[order]) + 3e-6 * length_km * step
    limit = np.maximum(LEAP * sigma, LEAST_LEAP)
    leaps = follows & (np.abs(change) > limit[:, None]).any(axis=1)
    if change.shape[1] == 2:  # equal leaps of both stay in neither, but not in their difference
        leaps |= follows & (np.abs(change[:, 0] - change[:, 1]) > limit)
    flagged = pairs.flagged[order]
    begins = ~follows | leaps | flagged.any(axis=1)
    count = int((flagged & follows[:, None]).sum()) + int((leaps & ~flagged.any(axis=1)).sum())
    out = np.empty(code.size, dtype=np.int64)
    out[order] = np.cumsum(begins) - 1
    return out, count


#: Epochs that a satellite may lack within an arc, and the longest step between two, seconds.
MOST_MISSING, LONGEST_STEP_S = 4, 330.0


def _drift(change: FloatArray, epoch: IntArray, next_: Bools, count: int) -> tuple[FloatArray, IntArray]:
    """What all satellites' differences drift by, the receivers' clocks: the sum (count,) of the medians of
    their changes from epoch to epoch, and how often (count,) it was broken since no satellite was seen in
    both."""
    rows = np.flatnonzero(next_)
    step = np.full(count, np.nan)
    if rows.size:
        order = rows[np.lexsort((change[rows], epoch[rows]))]
        epochs, first, number = np.unique(epoch[order], return_index=True, return_counts=True)
        low, high = change[order[first + (number - 1) // 2]], change[order[first + number // 2]]
        step[epochs] = 0.5 * (low + high)
    return np.cumsum(np.nan_to_num(step)), np.cumsum(np.isnan(step))


def from_median(values: FloatArray, epoch: IntArray) -> FloatArray:
    """Values (m,) less the median of their epoch."""
    order = np.lexsort((values, epoch))
    epochs, first, number = np.unique(epoch[order], return_index=True, return_counts=True)
    low, high = values[order[first + (number - 1) // 2]], values[order[first + number // 2]]
    return np.asarray(values - (0.5 * (low + high))[np.searchsorted(epochs, epoch)])


def components(arc: IntArray, epoch: IntArray, count: int) -> IntArray:
    """Which arcs (count,) hang together by epochs in common: the lowest arc of each part."""
    from scipy.sparse import coo_matrix
    from scipy.sparse.csgraph import connected_components

    size = count + int(epoch.max(initial=-1)) + 1
    graph = coo_matrix((np.ones(arc.size), (arc, count + epoch)), shape=(size, size))
    _, label = connected_components(graph, directed=False)
    return np.asarray(label[:count], dtype=np.int64)


def matched(base: IntArray, rover: IntArray, within: int) -> tuple[IntArray, IntArray]:
    """Epochs in common of two files' times (ticks): for each epoch of base and of rover its number among
    them, -1 where there is none; tags may differ by `within` ticks."""
    one = np.full(base.size, -1, dtype=np.int64)
    two = np.full(rover.size, -1, dtype=np.int64)
    if not base.size or not rover.size:
        return one, two
    order = np.argsort(base, kind="stable")
    place = np.clip(np.searchsorted(base[order], rover), 1, max(base.size - 1, 1))
    left, right = np.maximum(place - 1, 0), np.minimum(place, base.size - 1)
    nearer = np.where(np.abs(base[order][left] - rover) <= np.abs(base[order][right] - rover), left, right)
    close = np.abs(base[order][nearer] - rover) <= within
    number = 0
    for r in np.flatnonzero(close)[np.argsort(rover[close], kind="stable")].tolist():
        b = int(order[nearer[r]])
        if one[b] < 0:
            one[b] = two[r] = number
            number += 1
    return one, two
