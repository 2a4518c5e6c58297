"""Centres of what cannot be occupied, in every frame where the points around them are."""

from __future__ import annotations

import math
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.job.adopted import Adopted
from fenwind.job.reader import Digest, Reader
from fenwind.job.state import JobState
from fenwind.job.steps.known import mark_names
from fenwind.job.steps.outcome import CandidateSet, Figures, Gathering, Node, Outcome, TrailStep
from fenwind.procedures.centre import Middle, middle
from fenwind.procedures.positions import Positions
from fenwind.progress import Progress
from fenwind.quantities.lengths import UNITS, LengthUnit, format_length
from fenwind.records.centres import Centre

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True, eq=False)
class _Inputs:
    centre: Centre
    adopted: Adopted
    names: Mapping[str, str]
    unit: LengthUnit


@dataclass(frozen=True, kw_only=True, eq=False)
class Found:
    """A centre in a frame, and from what in words."""

    centre: Centre
    middle: Middle
    why: str


class CentreKind(Gathering):
    """See the module."""

    name = "centre"

    def nodes(self, state: JobState) -> Iterable[Node]:
        """One for every centre and every frame, told to leave all centres out of what it stands on."""
        every = tuple(c.id for c in state.of(Centre).values() if c.active)
        frames = [key for key, record in state.frames.items() if record.active]
        return [Node(self.name, key, (frame, *every)) for key in every for frame in frames]

    def targets(self, state: JobState, node: Node) -> tuple[str, ...]:
        """Its frame."""
        return node.detail[:1]

    def read(self, node: Node, reader: Reader) -> tuple[_Inputs, Digest | None]:
        """What is adopted of the points around it, without any centre."""
        centre = reader.needed(Centre, node.subject)
        adopted = reader.result(Node("adopted", node.detail[0], node.detail[1:]))
        unit = UNITS[reader.frame(node.detail[0]).spec.unit]
        return _Inputs(centre=centre, adopted=adopted, names=mark_names(reader), unit=unit), None

    def solve(self, inputs: _Inputs, progress: Progress) -> Found:
        """The middle. Raises ProcedureError where a point has no place in the frame."""
        rim, adopted = inputs.centre.rim, inputs.adopted
        rows = [adopted.place.get(key, -1) for key in rim]
        for key, row in zip(rim, rows, strict=True):
            if row < 0 or not np.isfinite(adopted.e_m[row]):
                name = inputs.names.get(key, "a mark that is gone")
                raise ProcedureError(f"{name} has no place in this frame", hint="Measure or give it")
        at = np.stack([adopted.e_m[rows], adopted.n_m[rows], adopted.height_m[rows]])
        names = [inputs.names.get(key, "?") for key in rim]
        joint, lacking = _joint(adopted, rows)
        found = middle(at, joint)
        covariance, sigma = np.array(found.covariance), found.sigma_radius_m
        covariance[lacking], covariance[:, lacking] = np.nan, np.nan
        found = replace(found, covariance=covariance, sigma_radius_m=math.nan if lacking[:2].any() else sigma)
        radius = format_length(found.radius_m, inputs.unit, 3)
        what = "halfway between" if len(rim) == 2 else f"centre of the circle of radius {radius} through"
        return Found(centre=inputs.centre, middle=found, why=f"{what} {', '.join(names)}")

    def gives(self, outcome: Outcome) -> Iterable[tuple[str, CandidateSet]]:
        """Its mark."""
        found: Found = outcome.result
        at = found.middle.at
        positions = Positions(
            names=(found.centre.mark,), e_m=at[:1].copy(), n_m=at[1:2].copy(), height_m=at[2:].copy(),
            covariance=found.middle.covariance[:, :, None].copy(),
        )  # fmt: skip
        yield (
            outcome.node.detail[0],
            CandidateSet(
                key=found.centre.id, place="centre", basis="centre", why=found.why, positions=positions
            ),
        )

    def trail(self, node: Node, result: Found, mark: str) -> Iterable[TrailStep]:
        """From which points, and how round they lie."""
        if mark != result.centre.mark:
            return
        m = result.middle
        note = result.why
        if math.isfinite(m.sigma_radius_m):
            note += f"; radius ± {m.sigma_radius_m * 1000.0:.1f} mm"
        if len(m.residuals) > 3:
            note += f", at most {np.abs(m.residuals).max() * 1000.0:.1f} mm off the circle"
        sigma = np.sqrt(np.maximum(np.diag(m.covariance), 0.0))
        figures = (
            Figures(kind="position", values=(float(m.at[0]), float(m.at[1]), float(m.at[2]))),
            Figures(kind="sigma", values=(float(np.hypot(*sigma[:2])) / 2.0**0.5, float(sigma[2]))),
        )
        yield TrailStep(title="Centre", note=note, figures=figures)

    def named(self, node: Node, outcome: Outcome, names: Mapping[str, str], state: JobState) -> Any:
        """The centre, or why there is none."""
        return outcome.result if outcome.error is None else outcome.error


def _joint(adopted: Adopted, rows: list[int]) -> tuple[FloatArray, NDArray[np.bool_]]:
    """Covariance (3k, 3k) of adopted positions, with what those of one set share, zero where it is not known;
    in which of e, n and height (3,) that is so of one of them."""
    size = len(rows)
    out, lacking = np.zeros((3 * size, 3 * size)), np.zeros(3, dtype=bool)
    for i, a in enumerate(rows):
        one = adopted.sets[int(adopted.set_row[a])].positions
        for j, b in enumerate(rows):
            same = adopted.set_row[a] == adopted.set_row[b]
            first, second = int(adopted.row[a]), int(adopted.row[b])
            if i == j:
                block = one.covariance[:, :, first]
                lacking |= ~np.isfinite(np.diag(block))
            elif same and one.joint is not None:
                block = one.joint.between(np.array([first]), np.array([second]))[:, :, 0]
            else:
                continue
            out[3 * i : 3 * i + 3, 3 * j : 3 * j + 3] = np.nan_to_num(block)
    return out, lacking
