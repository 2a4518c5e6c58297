"""What a step is, and what comes of it."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from typing import Any, Literal, NamedTuple, Protocol

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FenwindError
from fenwind.job.reader import Digest, Reader
from fenwind.job.state import JobState
from fenwind.procedures.positions import Positions
from fenwind.progress import Progress

FloatArray = NDArray[np.float64]

#: In which order positions are adopted when nobody chose: the first that a mark has. Steps name their place
#: in it.
ORDER = ("held", "space", "converted", "network", "levelling", "traverse", "setup", "fit", "measured",
         "centre", "given")  # fmt: skip


class Node(NamedTuple):
    """A step of the graph: its kind, the id of what it is about, and details that make it another step."""

    kind: str
    subject: str
    detail: tuple[str, ...] = ()


@dataclass(frozen=True, kw_only=True, eq=False)
class Outcome:
    """The result of a step or the error that kept it from having one. title: the name people know it by,
    empty for steps that only gather. digest: of what others may take from it."""

    node: Node
    title: str
    digest: Digest
    result: Any = None
    error: FenwindError | None = None


@dataclass(frozen=True, kw_only=True, eq=False)
class CandidateSet:
    """Positions of one origin that marks of a frame may adopt. key: what a choice names it by (a step's
    id, "given", "measured", a frame's id). place: one of ORDER. basis, why: as Adopted has them; why one
    for all or one a row. held (k,): control held in plan, None for no row. behind: the steps in other frames
    that a carried set comes from."""

    key: str
    place: str
    basis: str
    why: str | tuple[str, ...]
    positions: Positions
    held: NDArray[np.bool_] | None = None
    behind: tuple[Node, ...] = ()


#: A word, its value (metres, radians), and how it is written: angle, seconds, length, mm, ppm, factor,
#: number.
Term = tuple[str, float, str]


@dataclass(frozen=True, slots=True, kw_only=True)
class Figures:
    """A line of figures of a trail: coordinates (e, n, h), one sigma in plan and height, or differences
    (e, n, h), all metres; nan is left out. words: of differences, what they are. terms: of arithmetic."""

    kind: Literal["position", "sigma", "difference", "terms"]
    values: tuple[float, ...]
    words: str = "against given"
    native: bool = False  # in metres whatever the unit shown
    terms: tuple[Term, ...] = ()


def place_figures(points: Positions, row: int) -> tuple[Figures, Figures]:
    """A position and its sigmas, as lines of figures."""
    return (
        Figures(kind="position", values=(points.e_m[row], points.n_m[row], points.height_m[row])),
        Figures(kind="sigma", values=(points.sigma_h_m[row], points.sigma_v_m[row])),
    )


@dataclass(frozen=True, slots=True, kw_only=True)
class TrailStep:
    """What a step did for one mark: title, a note in words, lines of figures. frame: id of the frame it
    did it in, where that is worth saying."""

    title: str
    note: str
    figures: tuple[Figures, ...]
    frame: str = ""


@dataclass(frozen=True, kw_only=True, eq=False)
class Drawing:
    """What a step shows on the plan of its frame, by mark id. roles: "held", "check" or "off". vectors (2,
    k): de, dn in metres of `vector_marks`; covariance (2, 2, k) of the same, drawn so many standard
    deviations large (reach); hull: marks whose hull is drawn; lines: from, to, and the redundancy of what
    was observed along it."""

    frame: str
    roles: Mapping[str, str] = field(default_factory=dict)
    vector_marks: tuple[str, ...] = ()
    vectors: FloatArray = field(default_factory=lambda: np.zeros((2, 0)))
    covariance: FloatArray = field(default_factory=lambda: np.zeros((2, 2, 0)))
    reach: float = 1.0
    hull: tuple[str, ...] = ()
    lines: tuple[tuple[str, str, float], ...] = ()


class StepKind(Protocol):
    """A kind of step: how it finds itself in a job, reads, solves, and what it offers to others.

    A new one is a module of this folder and a line in `kinds.py`. Errors it raises become its outcome.
    """

    name: str

    def nodes(self, state: JobState) -> Iterable[Node]:
        """The steps of this kind that a job has of itself, in their order."""

    def title(self, state: JobState, node: Node) -> str:
        """Name people know the step by, empty when it has none."""

    def targets(self, state: JobState, node: Node) -> tuple[str, ...]:
        """Ids of the frames it may give positions in, without having solved it."""

    def read(self, node: Node, reader: Reader) -> tuple[Any, Digest | None]:
        """Everything it needs, and a digest of it when equal inputs may come from different records."""

    def solve(self, inputs: Any, progress: Progress) -> Any:
        """The result. Raises FenwindError when there is none, Cancelled when asked to stop."""

    def digest(self, result: Any) -> Digest | None:
        """Digest of what others may take from a result; None for that of what was read."""

    def gives(self, outcome: Outcome) -> Iterable[tuple[str, CandidateSet]]:
        """Positions that an outcome with a result offers: (id of the frame, set) each."""

    def trail(self, node: Node, result: Any, mark: str) -> Iterable[TrailStep]:
        """What it did for a mark."""

    def drawing(self, node: Node, result: Any) -> Drawing | None:
        """What the plan may draw of it."""

    def named(self, node: Node, outcome: Outcome, names: Mapping[str, str], state: JobState) -> Any:
        """The outcome as people see it, with names of marks for their ids; None to keep it as it is."""


class Gathering:
    """What a step kind does that only gathers for others: nothing of its own to show."""

    name = ""

    def nodes(self, state: JobState) -> Iterable[Node]:
        """See StepKind."""
        return ()

    def title(self, state: JobState, node: Node) -> str:
        """See StepKind."""
        return ""

    def targets(self, state: JobState, node: Node) -> tuple[str, ...]:
        """See StepKind."""
        return ()

    def digest(self, result: Any) -> Digest | None:
        """See StepKind."""
        return None

    def gives(self, outcome: Outcome) -> Iterable[tuple[str, CandidateSet]]:
        """See StepKind."""
        return ()

    def trail(self, node: Node, result: Any, mark: str) -> Iterable[TrailStep]:
        """See StepKind."""
        return ()

    def drawing(self, node: Node, result: Any) -> Drawing | None:
        """See StepKind."""
        return None

    def named(self, node: Node, outcome: Outcome, names: Mapping[str, str], state: JobState) -> Any:
        """See StepKind."""
        return None


class OfRecord(Gathering):
    """What a step kind does that has one step for every record of a class, by the record's id and name."""

    record: type[Any]

    def nodes(self, state: JobState) -> Iterable[Node]:
        """Records that are on, in the order they were made."""
        return [Node(self.name, r.id) for r in state.of(self.record).values() if r.active]

    def title(self, state: JobState, node: Node) -> str:
        """The record's name."""
        return str(state.of(self.record)[node.subject].name)


def with_names(points: Positions, names: Mapping[str, str]) -> Positions:
    """Positions by name that were by id."""
    return Positions(
        names=tuple(names.get(key, key) for key in points.names),
        e_m=points.e_m,
        n_m=points.n_m,
        height_m=points.height_m,
        covariance=points.covariance,
        joint=points.joint,
    )
