"""What a doubt is, and what a rule is that finds them; `rules.py` lists all."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from typing import Literal

from fenwind.errors import StepError
from fenwind.progress import Cancelled


@dataclass(frozen=True, slots=True, kw_only=True)
class Remedy:
    """A way to settle a doubt with one click: what it does (a key of REMEDIES in `settling`) to the marks
    named."""

    kind: str
    label: str
    names: tuple[str, ...] = ()


@dataclass(frozen=True, slots=True, kw_only=True)
class Doubt:
    """One finding. value and limit are in `unit`; names are the marks concerned, the culprit first;
    limit_source says who set the limit. A grave doubt makes a result unfit to hand on until it is settled or
    accepted."""

    rule: str
    subject: str
    names: tuple[str, ...]
    text: str
    value: float | None = None
    limit: float | None = None
    unit: str = "m"
    limit_source: str = "common practice, no source"
    grave: bool = False
    remedies: tuple[Remedy, ...] = field(default=())

    @property
    def key(self) -> str:
        """What an acceptance refers to: the rule, the computation and the marks."""
        return "|".join((self.rule, self.subject, *self.names))


Looks = Callable[..., Iterable[Doubt]]


@dataclass(frozen=True, slots=True, kw_only=True)
class Rule:
    """One rule. about: what its function is given: "fit" a FitCase, "job" a JobState and what is derived
    from it. look: the function. limit: the limit it goes by, in words with its number, and source: where
    that comes from. explains: the keys of doubts that say why a pair is off, so that the plain outlier
    then has nothing to add."""

    about: Literal["fit", "job"]
    look: Looks
    limit: str
    source: str = "common practice, no source"
    explains: tuple[str, ...] = ()

    @property
    def name(self) -> str:
        """Name of its function."""
        return self.look.__name__


def guarded(what: str, subject: str, look: Callable[[], Iterable[Doubt]]) -> Iterator[Doubt]:
    """The doubts that `look` finds, as far as it comes: where a check itself fails, that is a doubt of its
    own, and all other checks are made."""
    try:
        yield from look()
    except Cancelled:
        raise
    except Exception as error:
        failed = StepError.of(error)
        yield Doubt(
            rule="check.failed",
            subject=subject,
            names=(),
            unit="",
            grave=True,
            limit_source="computation",
            text=f"The check for {what}: {failed}. {failed.hint}.",
        )
