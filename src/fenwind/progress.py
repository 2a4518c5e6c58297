"""What long work is given so that it can tell how far it is and be asked to stop. No interface code here."""

from __future__ import annotations

from typing import Protocol


class Cancelled(Exception):
    """The caller asked the work to stop; nothing was changed."""


class Progress(Protocol):
    """Passed down into long work."""

    def report(self, done: int, total: int, text: str = "") -> None:
        """Tell that `done` of `total` parts are finished."""

    def check(self) -> None:
        """Raise Cancelled when the caller wants the work to stop."""


class NullProgress:
    """Progress for callers that do not care."""

    def report(self, done: int, total: int, text: str = "") -> None:
        """Ignore the report."""

    def check(self) -> None:
        """Never cancel."""


NULL_PROGRESS = NullProgress()
