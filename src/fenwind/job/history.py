"""The gestures of a job and the records as they stand after them: what undo takes back, what redo brings
back."""

from __future__ import annotations

from fenwind.job.state import JobState
from fenwind.records.entries import Gesture


class History:
    """`state` is for reading; `take`, `step_back` and `step_forward` change it. Each gesture has the number
    that it has in the job's file, 0 where it is not there yet."""

    def __init__(self) -> None:
        self.state = JobState()
        self._done: list[tuple[int, Gesture]] = []
        self._undone: list[tuple[int, Gesture]] = []

    def take(self, gesture: Gesture, number: int = 0) -> None:
        """Take in the entries of a gesture."""
        self.state.apply_all(gesture.entries)
        self.note(gesture, number)

    def note(self, gesture: Gesture, number: int) -> None:
        """Note a gesture whose entries the state has already; nothing can be done again from then on."""
        self._done.append((number, gesture))
        self._undone.clear()

    @property
    def depth(self) -> int:
        """How many gestures are not undone, the making of the job included."""
        return len(self._done)

    @property
    def undo_text(self) -> str:
        """What undo would take back, empty for nothing; the making of the job cannot be undone."""
        return self._done[-1][1].what if len(self._done) > 1 else ""

    @property
    def redo_text(self) -> str:
        """What redo would do again, empty for nothing."""
        return self._undone[-1][1].what if self._undone else ""

    @property
    def undo_number(self) -> int:
        """The number of the gesture that undo takes back."""
        return self._done[-1][0]

    @property
    def redo_number(self) -> int:
        """The number of the gesture that redo does again."""
        return self._undone[-1][0]

    def step_back(self) -> None:
        """Take the latest gesture back; nothing where there is none."""
        if self._done:
            number, gesture = self._done.pop()
            for entry in reversed(gesture.entries):
                self.state.revert(entry)
            self._undone.append((number, gesture))

    def step_forward(self) -> None:
        """Do the gesture undone last again; nothing where there is none."""
        if self._undone:
            number, gesture = self._undone.pop()
            self.state.apply_all(gesture.entries)
            self._done.append((number, gesture))

    def snapshot(self) -> History:
        """A copy that stays as it is while this one goes on."""
        copy = History()
        copy.state = self.state.snapshot()
        copy._done, copy._undone = list(self._done), list(self._undone)
        return copy
