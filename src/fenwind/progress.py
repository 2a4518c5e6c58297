"""What long work is given so that it can tell how far it is and be asked to stop. No interface code here."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from typing import Protocol, TypeVar

T = TypeVar("T")


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

_before: list[Callable[[], object]] = []


def give_way_to(waits: Callable[[], object]) -> None:
    """Have `breathe` call this, from whatever thread works: it waits while something else shall go first."""
    _before.append(waits)


def breathe() -> None:
    """Called within long work that has no progress to check: others, such as a window, may go first."""
    for waits in _before:
        waits()


def in_pieces(items: Iterable[T], size: int = 500) -> Iterator[T]:
    """The same items, with a breath before each piece of them."""
    for number, item in enumerate(items):
        if not number % size:
            breathe()
        yield item
