"""How marks are drawn, on the plan and in drawings handed over: by their state, and by the rules of their
code or class."""

from __future__ import annotations

from collections import Counter

import numpy as np
from numpy.typing import NDArray

from fenwind.job.adopted import Adopted
from fenwind.job.state import JobState


def appearance(state: JobState, adopted: Adopted) -> tuple[tuple[str, ...], NDArray[np.bool_]]:
    """Symbols (k,) by the names of `MarkSymbol` and whether each is labelled (k,).

    By state: triangle for held control, square for control that is not held, cross for a single occupation,
    ring for what is derived. A code's rule goes before that of a class.
    """
    basis = np.array(adopted.basis, dtype=np.str_)
    given = np.isin(basis, ("given", "converted"))
    symbols = np.full(len(basis), "ring", dtype=object)
    symbols[given & adopted.held] = "triangle"
    symbols[given & ~adopted.held] = "square"
    measured = np.flatnonzero(basis == "measured").tolist()
    occupied = Counter(m.mark for m in state.measured.values() if m.active) if measured else Counter()
    for i in measured:
        if occupied[adopted.ids[i]] == 1:
            symbols[i] = "cross"
    labelled = np.ones(len(basis), dtype=bool)
    rules = {(r.by, r.value): r for r in state.mark_rules.values() if r.active}
    for i, key in enumerate(adopted.ids) if rules else ():
        mark = state.marks[key]
        rule = rules.get(("code", mark.code)) or rules.get(("class", mark.mark_class))
        if rule is not None:
            labelled[i] = rule.label
            symbols[i] = symbols[i] if rule.symbol == "by state" else rule.symbol
    return tuple(symbols.tolist()), labelled
