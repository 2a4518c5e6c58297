"""What the compiled part of the estimation has in common. Loops over unknowns and elements of sparse matrices
are compiled to machine code when they first run on this machine, and kept beside the source or in the user's
cache; they hold no lock of the interpreter, so that others go on meanwhile.

Only systems of many unknowns import such modules. `python -m fenwind.estimation.compiled` compiles all.
"""

from __future__ import annotations

from collections.abc import Callable
from typing import Any, TypeVar, cast

import numpy as np
from numba import njit

F = TypeVar("F", bound=Callable[..., Any])

#: Arrays of float64, of int64 or int32, and of truth values, as compiled code takes them apart. What is not a
#: plain array is described where it is used.
Floats = Any
Ints = Any
Flags = Any


def compiled(function: F) -> F:
    """Compile a function; division by zero gives what NumPy gives."""
    options: Any = {"nogil": True, "error_model": "numpy"}
    try:
        return cast(F, njit(cache=True, **options)(function))
    except RuntimeError:  # neither the source's folder nor the user's may be written to
        return cast(F, njit(**options)(function))


def main() -> None:
    """Solve a ring of unknowns, so that everything is compiled."""
    from fenwind.estimation.engine import GroupProblem, ObservationGroup, adjust
    from fenwind.estimation.solver import SparseSolver

    n = 4000  # in two lanes
    ends = np.stack([np.arange(n), np.roll(np.arange(n), 1)])
    sides = np.array([[[1.0], [-1.0]]]).repeat(n, axis=2)
    group = ObservationGroup(
        observed=np.zeros((1, n)), covariance=np.ones((1, 1, n)), unknowns=ends,
        model=lambda x: ((x[ends[0]] - x[ends[1]])[None], sides),
    )  # fmt: skip
    held = ObservationGroup(
        observed=np.zeros((1, 1)), covariance=np.ones((1, 1, 1)), unknowns=np.zeros((1, 1), dtype=np.intp),
        model=lambda x: (x[None, :1], np.ones((1, 1, 1))),
    )  # fmt: skip
    names = tuple(map(str, range(n)))
    found = adjust(GroupProblem(names=names, start=np.ones(n), groups=(group, held)), SparseSolver())
    assert abs(float(found.groups[0].redundancy.sum()) - 1.0) < 1e-6
    found.factor.cofactor_blocks(ends, ends)


if __name__ == "__main__":
    main()
