"""Doubts about the results of one kind of step: each result is judged once, and a step without one is a doubt
itself."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from functools import partial
from typing import Any
from weakref import WeakKeyDictionary

from fenwind.doubts.registry import Doubt, guarded
from fenwind.errors import FenwindError
from fenwind.job.derive import Derived


class OnceJudged:
    """kind: of step; family: of its rules; about: what there is to say of a result. A result that came out
    the same is not judged again: trying other meanings of a value solves it anew."""

    def __init__(self, kind: str, family: str, about: Callable[[Any], Iterable[Doubt]]) -> None:
        self._kind, self._family, self._about = kind, family, about
        self._known: WeakKeyDictionary[Any, tuple[Doubt, ...]] = WeakKeyDictionary()

    def look(self, derived: Derived, name_of: Callable[[str], str]) -> Iterator[Doubt]:
        """Doubts about every step of the kind; name_of: its name by its id."""
        for key, found in derived.of_kind(self._kind).items():
            if isinstance(found, FenwindError):
                yield Doubt(
                    rule=f"{self._family}.failed", subject=key, names=(), unit="", grave=True,
                    limit_source="computation", text=f"{name_of(key)}: {found}. {found.hint}.",
                )  # fmt: skip
                continue
            if found not in self._known:
                about = partial(self._about, found)
                self._known[found] = tuple(guarded(f"{self._kind} {name_of(key)}", key, about))
            yield from self._known[found]
