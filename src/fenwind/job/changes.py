"""What may have changed since the last derivation, found without asking every step.

Most gestures change one record of thousands. The questions whose answers changed lead to the steps that
asked them, and those to the steps that stand on them; all others are taken over as they were.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any

from fenwind.job.reader import Digest, Question, Source
from fenwind.job.state import JobState
from fenwind.job.steps.outcome import Node, Outcome


@dataclass(eq=False)
class LastTime:
    """The last derivation: the job's stamps by kind of record, outcomes, what people see of them, and
    which step asked what (by the numbers of questions), both ways."""

    kinds: Mapping[str, Any] = field(default_factory=dict)
    folder: str = ""
    stamps: dict[type, int] = field(default_factory=dict)
    done: dict[Node, Outcome] = field(default_factory=dict)
    views: dict[Node, Any] = field(default_factory=dict)
    records: dict[Node, Any] = field(default_factory=dict)
    asks: dict[Node, dict[int, Digest]] = field(default_factory=dict)
    asked_by: dict[int, set[Node]] = field(default_factory=dict)
    broad: dict[int, Digest] = field(default_factory=dict)

    def note(self, node: Node, asked: Iterable[tuple[int, Digest]], source: Source) -> None:
        """Keep what a step asked this time."""
        for number in self.asks.pop(node, ()):
            self.asked_by[number].discard(node)
        own = self.asks[node] = dict(asked)
        for number, digest in own.items():
            self.asked_by.setdefault(number, set()).add(node)
            if source.shelf.questions[number].what in ("rows", "file", "giving"):
                self.broad[number] = digest

    def unaffected(self, state: JobState, source: Source, kinds: Mapping[str, Any]) -> set[Node]:
        """Steps of the last time whose outcome surely still holds."""
        if kinds is not self.kinds or source.folder != self.folder:
            return set()
        changed = self._changed(state, source)
        if changed is None:
            return set()
        affected: set[Node] = set()
        waiting = [node for number in changed for node in self.asked_by.get(number, ())]
        while waiting:
            node = waiting.pop()
            if node not in affected:
                affected.add(node)
                waiting += self.asked_by.get(source.shelf.number(Question("result", (node,))), ())
        return (self.asks.keys() & self.done.keys()) - affected

    def _changed(self, state: JobState, source: Source) -> set[int] | None:
        """Numbers of the questions that are answered otherwise now; None where that is not known."""
        changed: set[int] = set()
        moved = {kind for kind in state.kinds() if state.stamp(kind) != self.stamps.get(kind, 0)}
        for kind in moved:
            ids = state.changed_since(kind, self.stamps.get(kind, 0))
            if ids is None:
                return None
            changed |= {source.shelf.number(Question("record", (kind, key))) for key in ids}
        for number, digest in self.broad.items():
            question = source.shelf.questions[number]
            if question.what == "rows" and question.about[0] not in moved:
                continue
            if source.answer(number)[1] != digest:
                changed.add(number)
        return changed
