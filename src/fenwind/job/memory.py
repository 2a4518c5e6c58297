"""Results remembered with what they were read from, bounded by the memory they take."""

from __future__ import annotations

import sys
from collections import OrderedDict
from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, fields, is_dataclass
from itertools import count, islice
from typing import Any

import numpy as np

from fenwind.job.changes import LastTime
from fenwind.job.reader import Digest, Shelf
from fenwind.job.steps.outcome import CandidateSet, Node, Outcome
from fenwind.procedures.shared_errors import Errors

#: What results may take before those used longest ago are forgotten, bytes.
LIMIT_BYTES = 256_000_000
_PER_ENTRY = 400
#: Results that are kept of one step at most: those of as many gestures that may be undone. A day of work
#: would else fill the memory with what nobody goes back to.
MOST_OF_ONE = 6
#: Of a step whose results are large fewer are kept, but some: what they may take together, bytes.
BYTES_OF_ONE, LEAST_OF_ONE = 6_000_000, 3


@dataclass(frozen=True, slots=True, kw_only=True, eq=False)
class Remembered:
    """One result: the questions it was read from (by their numbers) with the digests of the answers, the
    digest of what went into the computation where the step gives one, and the size in bytes."""

    node: Node
    asked: tuple[tuple[int, Digest], ...]
    inputs: Digest | None
    outcome: Outcome
    size: int


class Memory:
    """Results of the steps of one job. `computed` lists what the derivation under way had to solve, by
    title or kind.

    Kept by what was read, so that undo finds the results of before and a state that is only tried can
    share them.
    """

    def __init__(self, limit_bytes: int = LIMIT_BYTES) -> None:
        self.limit_bytes = limit_bytes
        self.size_bytes = 0
        self.computed: list[str] = []
        self.shelf = Shelf()
        self.last = LastTime()
        self._entries: OrderedDict[int, Remembered] = OrderedDict()
        self._of_node: dict[Node, list[int]] = {}
        self._numbers = count()

    def of(self, node: Node) -> Iterator[Remembered]:
        """What is remembered of a step, the latest used first."""
        for number in reversed(self._of_node.get(node, ())):
            yield self._entries[number]

    def used(self, found: Remembered) -> None:
        """Note that a result was used again."""
        numbers = self._of_node[found.node]
        number = next(n for n in numbers if self._entries[n] is found)
        self._entries.move_to_end(number)
        if numbers[-1] != number:
            numbers.remove(number)
            numbers.append(number)

    def keep(self, node: Node, asked: Mapping[int, Digest], inputs: Digest | None, outcome: Outcome) -> None:
        """Remember a result; what was used longest ago goes when the limit is passed."""
        size = _PER_ENTRY + 200 * len(asked) + bytes_of(outcome.result)
        entry = Remembered(node=node, asked=tuple(asked.items()), inputs=inputs, outcome=outcome, size=size)
        number = next(self._numbers)
        self._entries[number] = entry
        self._of_node.setdefault(node, []).append(number)
        self.size_bytes += size
        while self._too_many(self._of_node[node]):
            self._forget(self._of_node[node][0])
        while self.size_bytes > self.limit_bytes and len(self._entries) > 1:
            self._forget(next(iter(self._entries)))

    def _too_many(self, numbers: list[int]) -> bool:
        taken = sum(self._entries[n].size for n in numbers)
        return len(numbers) > MOST_OF_ONE or (len(numbers) > LEAST_OF_ONE and taken > BYTES_OF_ONE)

    def _forget(self, number: int) -> None:
        gone = self._entries.pop(number)
        numbers = self._of_node[gone.node]
        numbers.remove(number)
        if not numbers:
            del self._of_node[gone.node]
        self.size_bytes -= gone.size


#: So many of many things are looked at for their size.
SAMPLED = 16


def bytes_of(value: Any) -> int:
    """About what a result takes: its arrays, and a little for everything else. Shared parts count each
    time; of many things the first stand for all."""
    if isinstance(value, (np.ndarray, Errors)):
        return int(value.nbytes) + 100
    if isinstance(value, (tuple, list)):
        if value and isinstance(value[0], (str, CandidateSet)):  # the positions of sets are other results'
            return 80 * len(value)
        return 60 + _of_many(value)
    if isinstance(value, dict):
        return 60 + 100 * len(value) + _of_many(value.values())
    if is_dataclass(value):
        return 100 + sum(bytes_of(getattr(value, f.name)) for f in fields(value))
    return sys.getsizeof(value, 50)


def _of_many(values: Collection[Any]) -> int:
    some = [bytes_of(v) for v in islice(values, SAMPLED)]
    return sum(some) * len(values) // len(some) if some else 0
