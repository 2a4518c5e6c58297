"""A fit with all that is needed to judge it: the positions, its frame, and the majority the pairs agree
on."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenwind.procedures import similarity
from fenwind.procedures.fit import FitResult, with_sigmas
from fenwind.procedures.positions import Positions
from fenwind.procedures.ratio_causes import Place
from fenwind.procedures.similarity import PairSet, Similarity

FloatArray = NDArray[np.float64]

#: Hypotheses tried and pairs looked at when the majority is sought; beyond this a random sample (fixed seed)
#: stands for all.
MAX_HYPOTHESES = 1000
MAX_PAIRS = 300


@dataclass(frozen=True, kw_only=True, eq=False)
class FitCase:
    """A fit under examination. subject: its id. lat_rad, lon_rad (n,) of the measured marks, None when
    they were not geodetic. area: west, south, east, north in radians where the frame is meant to be used.
    place: factors at the mean of the measured marks, None without a datum. over_geoid: heights were
    reduced by a geoid grid. crs: the system that measured marks are in on the plane. scale_reason: why the
    scale is not 1, as somebody said."""

    subject: str
    measured: Positions
    known: Positions
    result: FitResult
    lat_rad: FloatArray | None = None
    lon_rad: FloatArray | None = None
    area: tuple[float, float, float, float] | None = None
    place: Place | None = None
    over_geoid: bool = False
    crs: str = ""
    scale_reason: str = ""

    @property
    def combined_factor(self) -> float | None:
        """Combined factor at the mean of the measured marks, None without a datum."""
        return self.place.combined if self.place is not None else None

    @property
    def in_plan(self) -> FitCase:
        """The same without the pairs that are known by their height alone."""
        return self._placed or self

    @cached_property
    def _placed(self) -> FitCase | None:
        """That, None where it is the same: what held itself would stay until somebody looks for garbage."""
        k = self.result.pairs.known_rows
        placed = np.isfinite(self.known.e_m[k] + self.known.n_m[k])
        if placed.all():
            return None
        return replace(self, result=replace(self.result, pairs=self.result.pairs.where(placed)))

    @cached_property
    def pairs(self) -> PairSet:
        """All pairs, checks included, in the order of the result's table."""
        table = self.result.pairs
        m, k = table.measured_rows, table.known_rows
        covariance, _ = with_sigmas(self.measured)
        known = self.known.covariance[:2, :2, k]
        return PairSet(
            source=np.stack([self.measured.e_m[m], self.measured.n_m[m]]),
            target=np.stack([self.known.e_m[k], self.known.n_m[k]]),
            source_covariance=covariance[:2, :2, m],
            target_covariance=np.where(np.isfinite(known), known, 0.0),
        )

    @cached_property
    def majority(self) -> Majority | None:
        """The similarity most pairs agree on, or None when there are under four pairs or no majority of
        three."""
        sigma = float(
            np.sqrt(np.median(self.pairs.source_covariance[0, 0] + self.pairs.target_covariance[0, 0]))
        )
        return find_majority(self.pairs, max(self.result.options.tolerance_h_m, 1.5 * sigma))


@dataclass(frozen=True, kw_only=True, eq=False)
class Majority:
    """A similarity (free scale) and which pairs lie within three tolerances of it (k,)."""

    plan: Similarity
    agrees: NDArray[np.bool_]


def find_majority(pairs: PairSet, tolerance_m: float) -> Majority | None:
    """Try similarities through two pairs each and keep the one with the most followers.

    A blunder pulls a least-squares fit towards itself and spreads over its neighbours; a vote does not
    (Fischler and Bolles, Random Sample Consensus, Communications of the ACM 24(6), 1981). Every couple of
    pairs is tried while there are few.
    """
    k = pairs.source.shape[1]
    if k < 4:
        return None
    rng = np.random.default_rng(1968)
    looked_at = np.arange(k) if k <= MAX_PAIRS else rng.choice(k, MAX_PAIRS, replace=False)
    first, second = np.triu_indices(looked_at.size, 1)
    if first.size > MAX_HYPOTHESES:
        chosen = rng.choice(first.size, MAX_HYPOTHESES, replace=False)
        first, second = first[chosen], second[chosen]
    source = (pairs.source[0] + 1j * pairs.source[1])[looked_at]
    target = (pairs.target[0] + 1j * pairs.target[1])[looked_at]
    source, target = (
        source - source.mean(),
        target - target.mean(),
    )  # their digits are for what they differ by
    apart = np.abs(source[second] - source[first])
    usable = apart > 0.2 * np.median(apart)
    first, second = first[usable], second[usable]
    ratio = (target[second] - target[first]) / (source[second] - source[first])
    off = ratio[:, None] * source[None]  # in place: as large as anything in a fit
    off += (target[first] - ratio * source[first])[:, None]
    off -= target[None]
    follows = np.abs(off) < 3.0 * tolerance_m
    followers = follows.sum(axis=1)
    if not followers.size or followers.max() < max(3, 0.5 * looked_at.size):
        return None
    rows = looked_at[follows[int(followers.argmax())]]
    plan, _ = similarity.estimate(similarity.alike(pairs.source[:, rows], pairs.target[:, rows]), "scale")
    east, north = plan.forward(pairs.source[0], pairs.source[1])
    agrees = np.hypot(east - pairs.target[0], north - pairs.target[1]) < 3.0 * tolerance_m
    return Majority(plan=plan, agrees=agrees)
