"""How marks are drawn, on the plan and in drawings handed over: by their state, and by the rules of their
code or class."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from fenwind.job.adopted import Adopted
from fenwind.job.state import JobState


def appearance(state: JobState, adopted: Adopted) -> tuple[tuple[str, ...], NDArray[np.bool_]]:
    """Symbols (k,) by the names of `MarkSymbol` and whether each is labelled (k,).

    By state: triangle for held control, square for control that is not held, cross for a single occupation,
    ring for what is derived. A code's rule goes before that of a class.
    """
    marks = {m.name: m for m in state.marks.values()}
    rules = {(r.by, r.value): r for r in state.mark_rules.values() if r.active}
    occupied: dict[str, int] = {}
    for m in state.measured.values():
        if m.active:
            occupied[m.mark] = occupied.get(m.mark, 0) + 1
    symbols: list[str] = []
    labelled = np.ones(len(adopted.names), dtype=bool)
    for i, name in enumerate(adopted.names):
        mark, basis = marks[name], adopted.basis[i]
        rule = rules.get(("code", mark.code)) or rules.get(("class", mark.mark_class)) if rules else None
        symbol = "ring"
        if basis in ("given", "converted"):
            symbol = "triangle" if adopted.held[i] else "square"
        elif basis == "measured" and occupied.get(mark.id) == 1:
            symbol = "cross"
        if rule is not None:
            labelled[i] = rule.label
            symbol = symbol if rule.symbol == "by state" else rule.symbol
        symbols.append(symbol)
    return tuple(symbols), labelled
