"""Errors of geocentric positions by their sources, so that what two positions share falls out of their
difference.

A source acts on a position by a matrix (3, 3) and has a covariance (3, 3). What many positions have in
common, such as the errors of the base that they were measured from, is kept once and referred to: a day has
hundreds of occupations, each with all the sources of a base that stands on hundreds of others.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from weakref import WeakKeyDictionary

import numpy as np
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
#: How a source acts (3, 3), and its covariance (3, 3), square metres.
Source = tuple[FloatArray, FloatArray]

#: More sources than this are worth an array.
FEW = 6


class Errors:
    """Errors of one position: own sources by name, and (weight (3, 3), errors) of others that it stands on. A
    source that is in several of them counts with the sum of how it acts."""

    __slots__ = ("__weakref__", "_flat", "_total", "_with", "common", "own")

    def __init__(
        self, own: Mapping[str, Source] | None = None, common: Sequence[tuple[FloatArray, Errors]] = ()
    ) -> None:
        self.own: dict[str, Source] = dict(own or {})
        self.common = tuple(common)
        self._flat: dict[str, Source] | None = None
        self._total: FloatArray | None = None
        self._with: WeakKeyDictionary[Errors, FloatArray] | None = None

    @property
    def nbytes(self) -> int:
        """About what its own sources take."""
        return 600 * len(self.own)

    def plus(self, more: Mapping[str, Source]) -> Errors:
        """With more sources."""
        out = Errors(self.own, self.common)
        for key, source in more.items():
            _add(out.own, key, source)
        return out

    @property
    def flat(self) -> Mapping[str, Source]:
        """All sources by name, those in common among them."""
        if not self.common:
            return self.own
        if self._flat is None:
            out: dict[str, Source] = {}
            for weight, part in self.common:
                for key, (act, covariance) in part.flat.items():
                    _add(out, key, (weight @ act, covariance))
            for key, source in self.own.items():
                _add(out, key, source)
            self._flat = out
        return self._flat

    @property
    def total(self) -> FloatArray:
        """Covariance (3, 3) of the position, geocentric."""
        if self._total is None:
            total = _of_sources(self.own, self.own)
            for weight, part in self.common:
                cross = _of_sources(self.own, part.flat) @ weight.T
                total = total + cross + cross.T
                for second, there in self.common:
                    total = total + weight @ part.shared_with(there) @ second.T
            self._total = total
        return self._total

    def shared_with(self, other: Errors) -> FloatArray:
        """Covariance (3, 3) between two positions, remembered."""
        if other is self:
            return self.total
        if self._with is None:
            self._with = WeakKeyDictionary()
        known = self._with.get(other)
        if known is None:
            known = self._with[other] = _between(self, other)
        return known


def shared(one: Errors, other: Errors) -> FloatArray:
    """Covariance (3, 3) between two geocentric positions, from the sources that both have."""
    return one.total if one is other else _between(one, other)


def totals(every: Sequence[Errors]) -> FloatArray:
    """Covariances (n, 3, 3) of n positions; those that stand on one other are worked out at once."""
    fresh = [e for e in every if e._total is None and _stands_apart(e, e.common)]
    if fresh:
        weights = np.array([e.common[0][0] for e in fresh])
        below = np.array([e.common[0][1].total for e in fresh])
        whole = _own_shares(fresh, [e.own for e in fresh]) + weights @ below @ weights.transpose(0, 2, 1)
        for errors, total in zip(fresh, whole, strict=True):
            errors._total = total
    return np.array([e.total for e in every])


def shared_by(every: Sequence[Errors], other: Errors) -> FloatArray:
    """Covariances (n, 3, 3) between each of n positions and another; of those that stand on one other at
    once."""
    apart = [_stands_apart(e, other.common) for e in every]
    some = [e for e, alone in zip(every, apart, strict=True) if alone]
    out = np.empty((len(every), 3, 3))
    if some:
        weights = np.array([e.common[0][0] for e in some])
        parts = [e.common[0][1] for e in some]
        each = {part: part.shared_with(other) for part in set(parts)}
        below = np.array([each[part] for part in parts])
        out[apart] = _own_shares(some, [other.own] * len(some)) + weights @ below
    for row, (errors, alone) in enumerate(zip(every, apart, strict=True)):
        if not alone:
            out[row] = shared(errors, other)
    return out


def _stands_apart(errors: Errors, common: Sequence[tuple[FloatArray, Errors]]) -> bool:
    """Whether a position stands on one other, and none of its own sources is in what is common."""
    if len(errors.common) != 1:
        return False
    mine = errors.own.keys()
    return all([mine.isdisjoint(part.flat.keys()) for _, part in common])


def _own_shares(every: Sequence[Errors], others: Sequence[Mapping[str, Source]]) -> FloatArray:
    """Covariances (n, 3, 3) by the sources of its own that each has with others."""
    rows, acts, covariances, theirs = list[int](), [], [], []
    for row, (errors, other) in enumerate(zip(every, others, strict=True)):
        for key, (act, covariance) in errors.own.items():
            if key in other:
                rows.append(row)
                acts.append(act)
                covariances.append(covariance)
                theirs.append(other[key][0])
    out = np.zeros((len(every), 3, 3))
    if rows:
        np.add.at(out, rows, np.array(acts) @ np.array(covariances) @ np.array(theirs).transpose(0, 2, 1))
    return out


def combined(parts: Iterable[tuple[FloatArray, Errors]]) -> Errors:
    """Errors of a weighted sum; weights (3, 3)."""
    own: dict[str, Source] = {}
    common: dict[int, tuple[FloatArray, Errors]] = {}
    weights, names, acts, covariances = [], list[str](), [], []
    for weight, errors in parts:
        for key, (act, covariance) in errors.own.items():
            weights.append(weight)
            names.append(key)
            acts.append(act)
            covariances.append(covariance)
        for inner, part in errors.common:
            before = common.get(id(part))
            share = weight @ inner
            common[id(part)] = (share if before is None else before[0] + share, part)
    if names:
        weighted = np.array(weights) @ np.array(acts)
        for key, act, covariance in zip(names, weighted, covariances, strict=True):
            _add(own, key, (act, covariance))
    return Errors(own, tuple(common.values()))


def _add(to: dict[str, Source], key: str, source: Source) -> None:
    known = to.get(key)
    to[key] = source if known is None else (known[0] + source[0], source[1])


def _between(one: Errors, other: Errors) -> FloatArray:
    total = _of_sources(one.own, other.own)
    for weight, part in other.common:
        total = total + _of_sources(one.own, part.flat) @ weight.T
    for weight, part in one.common:
        total = total + weight @ part.shared_with(other)
    return total


def _of_sources(one: Mapping[str, Source], other: Mapping[str, Source]) -> FloatArray:
    """Covariance (3, 3) by the sources that two have."""
    keys = [key for key in one if key in other] if len(one) <= len(other) else [k for k in other if k in one]
    if len(keys) <= FEW:
        total = np.zeros((3, 3))
        for key in keys:
            act, covariance = one[key]
            total += act @ covariance @ other[key][0].T
        return total
    first, second = (np.array([some[key][0] for key in keys]) for some in (one, other))
    covariances = np.array([one[key][1] for key in keys])
    return np.asarray((first @ covariances @ second.transpose(0, 2, 1)).sum(axis=0))
