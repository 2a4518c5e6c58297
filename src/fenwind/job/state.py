"""The records of a job as they stand after all its entries."""

from __future__ import annotations

from collections import deque
from collections.abc import Sequence
from itertools import compress, count
from typing import TypeVar, cast

from fenwind.records.entries import Add, Additions, Amend, Entry, apply_to
from fenwind.records.records import (
    Acceptance,
    Backdrop,
    FitStep,
    FrameRecord,
    GivenPosition,
    JobInfo,
    Layout,
    Mark,
    MarkRule,
    MeasuredPosition,
    PositionChoice,
    Record,
)

R = TypeVar("R", bound=Record)

#: Every change of any state gets a stamp of its own, so that the same stamp always means the same records.
_stamps = count(1)
#: Changes of a kind that are remembered one by one; after more of them everything counts as changed.
REMEMBERED = 256
#: Records that are taken in together: a call into C that fills a dictionary lets no other thread have a turn.
TOGETHER = 2000


class JobState:
    """Records by id and by kind, the amendments each has seen, and in which order (added_at, amended_at).

    Only `apply` and `revert` change it. set_aside: what of the job's file could not be read, in words."""

    def __init__(self) -> None:
        self.set_aside: tuple[str, ...] = ()
        self.records: dict[str, Record] = {}
        self.amendments: dict[str, list[Amend]] = {}
        self._kinds: dict[type, dict[str, Record]] = {}
        self._stamps: dict[type, int] = {}
        self._changes: dict[type, deque[tuple[int, int, str]]] = {}
        self._clock = 0
        self.added_at: dict[str, int] = {}
        self.amended_at: dict[str, list[int]] = {}

    def apply(self, entry: Entry) -> None:
        """Take an entry in. Raises KeyError for an amendment of an unknown record."""
        self._clock += 1
        if isinstance(entry, Add):
            self._put(entry.record)
            self.added_at[entry.record.id] = self._clock
        else:
            self._put(apply_to(self.records[entry.subject], entry.new))
            self.amendments.setdefault(entry.subject, []).append(entry)
            self.amended_at.setdefault(entry.subject, []).append(self._clock)

    def apply_all(self, entries: Sequence[Entry]) -> None:
        """Take many entries in, one after the other; what is added is not noted one by one where that is
        much."""
        if len(entries) <= REMEMBERED:
            for entry in entries:
                self.apply(entry)
            return
        if isinstance(entries, Additions):
            for begin in range(0, len(entries), TOGETHER):
                self._add_all(entries.records[begin : begin + TOGETHER])
            return
        run: list[Record] = []
        for entry in entries:
            if isinstance(entry, Add):
                run.append(entry.record)
                if len(run) == TOGETHER:
                    self._add_all(run)
                    run = []
            else:
                self._add_all(run)
                run = []
                self.apply(entry)
        self._add_all(run)

    def _add_all(self, added: Sequence[Record]) -> None:
        """Take in records that are new, without a note of each."""
        ids = [record.id for record in added]
        self.records.update(zip(ids, added, strict=True))
        self.added_at.update(zip(ids, range(self._clock + 1, self._clock + 1 + len(ids)), strict=True))
        self._clock += len(ids)
        kinds = list(map(type, added))
        for kind in set(kinds):
            own = compress(zip(ids, added, strict=True), [one is kind for one in kinds])
            self._kinds.setdefault(kind, {}).update(own)
            self._changes.pop(kind, None)
            self._stamps[kind] = next(_stamps)

    def revert(self, entry: Entry) -> None:
        """Take the latest entry back out."""
        if isinstance(entry, Add):
            record = self.records.pop(entry.record.id)
            del self._kinds[type(record)][record.id]
            del self.added_at[record.id]
            self._note(type(record), record.id)
        else:
            self._put(apply_to(self.records[entry.subject], entry.old))
            self.amendments[entry.subject].pop()
            self.amended_at[entry.subject].pop()

    def _put(self, record: Record) -> None:
        self.records[record.id] = record
        self._kinds.setdefault(type(record), {})[record.id] = record
        self._note(type(record), record.id)

    def _note(self, kind: type, key: str) -> None:
        before, now = self._stamps.get(kind, 0), next(_stamps)
        self._changes.setdefault(kind, deque(maxlen=REMEMBERED)).append((before, now, key))
        self._stamps[kind] = now

    def of(self, kind: type[R]) -> dict[str, R]:
        """Records of one kind by id, in the order they were added; do not change the dictionary."""
        return cast(dict[str, R], self._kinds.get(kind, {}))

    def kinds(self) -> tuple[type[Record], ...]:
        """Kinds of record there are or were."""
        return tuple(self._stamps)

    def stamp(self, kind: type[Record]) -> int:
        """A number that changes whenever a record of the kind does; 0 while there was none."""
        return self._stamps.get(kind, 0)

    def changed_since(self, kind: type[Record], stamp: int) -> set[str] | None:
        """Ids of the records of a kind that changed, came or went since a stamp; None when that is not
        known."""
        found: set[str] = set()
        for before, now, key in reversed(self._changes.get(kind, ())):
            if now == stamp:
                return found
            found.add(key)
            if before == stamp:
                return found
        return None

    def snapshot(self) -> JobState:
        """A copy that stays as it is while this one goes on; records are frozen and shared."""
        copy = JobState()
        copy.set_aside = self.set_aside
        copy.records = dict(self.records)
        copy.amendments = {key: list(value) for key, value in self.amendments.items()}
        copy._kinds = {kind: dict(records) for kind, records in self._kinds.items()}
        copy._stamps = dict(self._stamps)
        copy._changes = {kind: deque(known, REMEMBERED) for kind, known in self._changes.items()}
        copy._clock, copy.added_at = self._clock, dict(self.added_at)
        copy.amended_at = {key: list(value) for key, value in self.amended_at.items()}
        return copy

    @property
    def info(self) -> JobInfo:
        """Name and working frame of the job."""
        return self.of(JobInfo).get("job") or JobInfo(name="Untitled")

    @property
    def frames(self) -> dict[str, FrameRecord]:
        """Frames by id."""
        return self.of(FrameRecord)

    @property
    def marks(self) -> dict[str, Mark]:
        """Marks by id."""
        return self.of(Mark)

    @property
    def given(self) -> dict[str, GivenPosition]:
        """Given positions by id."""
        return self.of(GivenPosition)

    @property
    def measured(self) -> dict[str, MeasuredPosition]:
        """Occupations by id."""
        return self.of(MeasuredPosition)

    @property
    def fits(self) -> dict[str, FitStep]:
        """Fit steps by id."""
        return self.of(FitStep)

    @property
    def mark_rules(self) -> dict[str, MarkRule]:
        """Rules of classes and codes by id."""
        return self.of(MarkRule)

    @property
    def layouts(self) -> dict[str, Layout]:
        """Layouts of lists by id."""
        return self.of(Layout)

    @property
    def backdrops(self) -> dict[str, Backdrop]:
        """Drawings and images under the plan by id."""
        return self.of(Backdrop)

    def rule_of(self, by: str, value: str) -> MarkRule | None:
        """The rule of a class or a code, None when there is none."""
        return next(
            (r for r in self.mark_rules.values() if r.active and r.by == by and r.value == value), None
        )

    @property
    def choices(self) -> dict[str, PositionChoice]:
        """Choices of positions by id."""
        return self.of(PositionChoice)

    @property
    def acceptances(self) -> dict[str, Acceptance]:
        """Accepted doubts by id."""
        return self.of(Acceptance)

    def mark_named(self, name: str) -> Mark | None:
        """The mark of a name, None when there is none."""
        return next((m for m in self.marks.values() if m.name == name), None)

    def mark_name(self, key: str, other: str = "?") -> str:
        """The name of the mark of an id, `other` when there is none."""
        mark = self.marks.get(key)
        return mark.name if mark is not None else other
