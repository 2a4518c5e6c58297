"""What a doubt is, and the registry of the rules that find them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Literal

if TYPE_CHECKING:
    from fenwind.procedures.fit_case import FitCase

RemedyKind = Literal["check", "off", "swap-axes", "exchange", "one-shift"]


@dataclass(frozen=True, slots=True, kw_only=True)
class Remedy:
    """A way to settle a doubt with one click: what it does to the marks named."""

    kind: RemedyKind
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


#: Rules that name why a pair is off; the plain outlier then has nothing to add.
CAUSES = ("fit.longitude-sign", "fit.unit-ratio", "fit.swapped-axes", "fit.exchanged-names")

Rule = Callable[["FitCase"], Iterable[Doubt]]
_FIT_RULES: dict[str, Rule] = {}


def fit_rule(function: Rule) -> Rule:
    """Put a rule about fits into the registry, under its own name."""
    _FIT_RULES[function.__name__] = function
    return function


def fit_rules() -> dict[str, Rule]:
    """All rules about fits, in the order they were written: causes before symptoms."""
    from fenwind.doubts import fit_blunders, fit_evidence, fit_geometry

    assert fit_blunders and fit_evidence and fit_geometry  # importing them registers their rules
    return dict(_FIT_RULES)


def doubts_about_fit(case: FitCase) -> tuple[Doubt, ...]:
    """Every doubt about one fit, the grave ones first, causes before symptoms."""
    return tuple(sorted(_run(case), key=lambda d: not d.grave))


def _run(case: FitCase) -> Iterator[Doubt]:
    explained: set[str] = set()
    for rule in fit_rules().values():
        for doubt in rule(case):
            # A longitude without its sign also mirrors the marks, as exchanged axes do; the first cause found
            # is the one told.
            if doubt.rule in (*CAUSES, "fit.outlier") and doubt.names and set(doubt.names) <= explained:
                continue
            if doubt.rule in CAUSES:
                explained.update(doubt.names)
            yield doubt
