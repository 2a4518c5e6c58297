"""Two networks that are epochs of one: which marks stayed, and how far the others moved."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.estimation.distributions import plan_reach
from fenwind.geodesy.frames import Frame
from fenwind.job.reader import Digest, Reader
from fenwind.job.steps.known import mark_names
from fenwind.job.steps.network import Adjusted, network_node
from fenwind.job.steps.outcome import Drawing, Node, OfRecord, Outcome
from fenwind.procedures.congruence import Displacement, displacement
from fenwind.procedures.network_case import plane_turn
from fenwind.procedures.network_whole import free_again
from fenwind.progress import Progress
from fenwind.records.network import EpochsStep

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True, eq=False)
class Compared:
    """Two epochs compared: moves (3, m) and their covariance (3, 3, m) on the plane of the first network's
    frame, in the order of `found.names`; ids by name."""

    step: EpochsStep
    frame: str
    found: Displacement
    moves: FloatArray
    covariance: FloatArray
    ids: Mapping[str, str]


@dataclass(frozen=True, kw_only=True, eq=False)
class _Inputs:
    step: EpochsStep
    first: Adjusted
    second: Adjusted
    frame: Frame
    stable: tuple[str, ...]
    ids: Mapping[str, str]


class EpochsKind(OfRecord):
    """See the module."""

    name = "epochs"
    record = EpochsStep

    def read(self, node: Node, reader: Reader) -> tuple[_Inputs, Digest | None]:
        """The two networks."""
        step = reader.needed(EpochsStep, node.subject)
        if step.first == step.second:
            raise ProcedureError("both epochs are one network", hint="Choose another for the second")
        first, second = (reader.result(network_node(key)) for key in (step.first, step.second))
        names = mark_names(reader)
        stable = tuple(names[key] for key in step.stable if key in names)
        inputs = _Inputs(
            step=step, first=first, second=second, frame=reader.frame(first.step.frame), stable=stable,
            ids={name: key for key, name in names.items()},
        )  # fmt: skip
        return inputs, None

    def solve(self, inputs: _Inputs, progress: Progress) -> Compared:
        """Adjust both free, lay them on what stayed, tell what moved."""
        first, second, step = inputs.first.result, inputs.second.result, inputs.step
        names = [n for n in first.marks.names if n in second.marks.index]
        a = free_again(first, names, first)
        progress.check()
        b = free_again(second, names, first)
        progress.check()
        found = displacement(a, b, step.alpha, inputs.stable or None)
        turn = np.repeat(np.eye(3)[:, :, None], len(found.names), axis=2)
        if not first.net.plane:
            columns = [first.marks.index[name] for name in found.names]
            turn = plane_turn(inputs.frame, *first.marks.place[:2, columns])
        moves, covariance = np.nan_to_num(found.moves), np.nan_to_num(found.covariance)
        none = ~np.isfinite(found.moves)
        moves = np.einsum("ijm,jm->im", turn, moves)
        moves[none] = np.nan
        return Compared(
            step=step, frame=inputs.first.step.frame, found=found, moves=moves, ids=inputs.ids,
            covariance=np.einsum("ijm,jkm,lkm->ilm", turn, covariance, turn),
        )  # fmt: skip

    def drawing(self, node: Node, result: Compared) -> Drawing:
        """Displacements with their 95 % ellipses; stable marks are held."""
        found = result.found
        shown = [i for i, n in enumerate(found.names) if n in result.ids and not found.stable[i]]
        roles = {
            result.ids[n]: "held" for i, n in enumerate(found.names) if n in result.ids and found.stable[i]
        }
        return Drawing(
            frame=result.frame, roles=roles, vector_marks=tuple(result.ids[found.names[i]] for i in shown),
            vectors=np.nan_to_num(result.moves[:2, shown]), covariance=result.covariance[:2, :2, shown],
            reach=plan_reach(),
        )  # fmt: skip

    def named(self, node: Node, outcome: Outcome, names: Mapping[str, str], state: Any) -> Any:
        """What moved, or why that cannot be said."""
        return outcome.result if outcome.error is None else outcome.error
