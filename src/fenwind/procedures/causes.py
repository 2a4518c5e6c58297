"""Causes of what many readings share: each is a small model that is fitted together with the unknowns and
judged by what it leaves. Whoever tests a cause for one procedure has tested the mechanism.

A cause is told only when what is left passes the global test; the shortest explanation wins; causes that are
about as likely as the best one are told with it.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from dataclasses import dataclass
from typing import Generic, TypeVar

from fenwind.errors import FenwindError
from fenwind.estimation.distributions import chi2_quantile

T = TypeVar("T")

#: PENALTY: reduction of the sum of squares that makes a parameter worth having. AS_LIKELY: how far above the
#: best score a cause is still about as likely (likelihood ratio of e squared; common practice, no source).
PENALTY, AS_LIKELY = 4.0, 4.0
#: A cause explains only where it leaves at most this part of the sum of squares.
MOST_LEFT = 0.25


@dataclass(frozen=True, kw_only=True)
class Cause(Generic[T]):
    """One explanation: what it says (`told`), how many parameters it has, the sum of squares and the
    degrees of freedom that are left with it; prior: what its kind is less usual than others by (-2 log of
    the odds)."""

    told: T
    parameters: int
    squares: float
    dof: int
    prior: float = 0.0

    @property
    def score(self) -> float:
        """The smaller the likelier."""
        return self.squares + PENALTY * self.parameters + self.prior


def likely(
    causes: Iterable[Cause[T]], squares: float, alpha: float, most_left: float = MOST_LEFT
) -> list[Cause[T]]:
    """Causes that pass the global test at level alpha and leave at most a part of `squares`: the likeliest
    first, then those about as likely. A cause that leaves no degree of freedom cannot be judged; it is left
    out."""
    fine = [
        c
        for c in causes
        if c.dof > 0 and c.squares <= most_left * squares and c.squares <= chi2_quantile(1.0 - alpha, c.dof)
    ]
    if not fine:
        return []
    least = min(c.score for c in fine)
    return sorted((c for c in fine if c.score <= least + AS_LIKELY), key=lambda c: c.score)


def minimised(squares: Callable[[float], float], step: float, rounds: int = 6) -> tuple[float, float]:
    """The value of one parameter that leaves least, and what it leaves, by parabolas through three values,
    the first about zero; infinite where it cannot be worked out."""
    at, best = 0.0, float("inf")
    try:
        best = squares(0.0)
        for _ in range(rounds):
            below, above = squares(at - step), squares(at + step)
            curved = below - 2.0 * best + above
            if not curved > 0.0:
                at, best = (at - step, below) if below < above else (at + step, above)
                step *= 2.0
                continue
            move = 0.5 * step * (below - above) / curved
            found = squares(at + move)
            if found > best:
                step *= 0.5
                continue
            done = best - found < 1e-6 * max(found, 1.0)
            at, best, step = at + move, found, max(abs(move), 0.1 * step)
            if done:
                break
    except FenwindError:
        return at, float("inf")
    return at, best
