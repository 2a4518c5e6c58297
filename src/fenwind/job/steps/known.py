"""Positions given in a frame, gathered from the records, by mark id."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from typing import Any

import numpy as np

from fenwind.job.reader import Digest, Reader, Rows, digest_of
from fenwind.job.state import JobState
from fenwind.job.steps.outcome import Gathering, Node, Outcome, with_names
from fenwind.procedures.positions import Positions, positions
from fenwind.progress import Progress
from fenwind.records.records import GivenPosition, Mark

COORDINATES = ("e_m", "n_m", "height_m", "sigma_h_m", "sigma_v_m")


def known(frame: str) -> Node:
    """The step that gathers what is given in a frame."""
    return Node("known", frame)


def mark_names(reader: Reader) -> dict[str, str]:
    """Names of the marks that are on, by id."""
    marks = reader.rows(Mark, "name", active=True)
    return dict(zip(marks.ids.tolist(), marks["name"].tolist(), strict=True))


def given_in(reader: Reader, frame: str, *more: str) -> Rows:
    """Given positions of the active marks in a frame, the latest where a mark has more than one."""
    rows = reader.rows(GivenPosition, "mark", *COORDINATES, *more, active=True, frame=frame)
    active = set(reader.rows(Mark, active=True).ids.tolist())
    last = {mark: i for i, mark in enumerate(rows["mark"].tolist()) if mark in active}
    chosen = np.zeros(len(rows), dtype=bool)
    chosen[list(last.values())] = True
    return rows if chosen.all() else rows.where(chosen)


class Known(Gathering):
    """See the module."""

    name = "known"

    def nodes(self, state: JobState) -> Iterable[Node]:
        """One in every frame."""
        return [known(key) for key, record in state.frames.items() if record.active]

    def read(self, node: Node, reader: Reader) -> tuple[Rows, Digest | None]:
        """Rows of the frame."""
        rows = given_in(reader, node.subject)
        return rows, rows.digest()

    def solve(self, inputs: Rows, progress: Progress) -> Positions:
        """Positions in the order they were given."""
        return positions(inputs["mark"].tolist(), *(inputs[name] for name in COORDINATES))

    def digest(self, result: Any) -> Digest | None:
        """That of the positions themselves."""
        return positions_digest(result)

    def named(self, node: Node, outcome: Outcome, names: Mapping[str, str], state: JobState) -> Any:
        """With names for ids."""
        return with_names(outcome.result, names) if outcome.result is not None else None


def positions_digest(points: Positions) -> Digest:
    """Digest of ids and numbers of a set."""
    return digest_of(points.names, points.e_m, points.n_m, points.height_m, points.covariance)
