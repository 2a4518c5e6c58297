"""What networks and setups gave in one frame, carried on into the others: through the fits onto a frame that
has no other tie, by conversion between frames with a datum. No mark is lost when another frame is shown."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from fenwind.errors import FenwindError
from fenwind.geodesy.frames import Frame
from fenwind.job.reader import Digest, Reader
from fenwind.job.state import JobState
from fenwind.job.steps.fit import fit_node
from fenwind.job.steps.network import network_node
from fenwind.job.steps.outcome import CandidateSet, Gathering, Node, Outcome
from fenwind.job.steps.sighted import sighted
from fenwind.procedures.fit import FitResult
from fenwind.procedures.onto_plane import between_frames
from fenwind.progress import Progress
from fenwind.records.network import NetworkStep
from fenwind.records.records import FitStep
from fenwind.records.setups import Setup


def carried_on(frame: str) -> Node:
    """The step of a frame."""
    return Node("carried on", frame)


@dataclass(frozen=True, kw_only=True, eq=False)
class _Inputs:
    """fits: name and result of each with the sets that it can carry. converted: sets of setups with the frame
    that each is in."""

    frame: Frame
    fits: tuple[tuple[str, FitResult, tuple[CandidateSet, ...]], ...]
    converted: tuple[tuple[Frame, CandidateSet], ...]


class CarriedOn(Gathering):
    """See the module."""

    name = "carried on"

    def nodes(self, state: JobState) -> Iterable[Node]:
        """One in every frame, where there is a network or a setup."""
        if not state.of(NetworkStep) and not state.of(Setup):
            return []
        return [carried_on(key) for key, record in state.frames.items() if record.active]

    def targets(self, state: JobState, node: Node) -> tuple[str, ...]:
        """Its frame."""
        return (node.subject,)

    def read(self, node: Node, reader: Reader) -> tuple[_Inputs, Digest | None]:
        """Fits onto the frame, and what there is to carry."""
        frame = reader.frame(node.subject)
        fits = reader.rows(FitStep, "source_frame", active=True, target_frame=node.subject)
        nodes = [fit_node(key) for key in fits.ids.tolist()]
        found = []
        for outcome, source in zip(reader.outcomes(nodes), fits["source_frame"].tolist(), strict=True):
            if outcome.result is not None:
                sets = tuple(s for key, s in _sets(reader, NetworkStep, Setup) if key == source)
                found.append((outcome.title, outcome.result.case.result, sets))
        converted = []
        for key, one in _sets(reader, Setup) if frame.has_datum else ():
            try:
                other = reader.frame(key) if key != node.subject else None
            except FenwindError:
                continue  # that frame has a doubt of its own
            if other is not None and other.has_datum:
                converted.append((other, one))
        return _Inputs(frame=frame, fits=tuple(found), converted=tuple(converted)), None

    def solve(self, inputs: _Inputs, progress: Progress) -> tuple[CandidateSet, ...]:
        """Carry what the fits have not carried themselves."""
        out = []
        for title, result, sets in inputs.fits:
            for one in sets:
                rows = [i for i, key in enumerate(one.positions.names) if key not in result.carried.index]
                if rows:
                    points = result.forward(one.positions.take(np.array(rows, dtype=np.intp)))
                    said = (one.why,) * len(one.positions) if isinstance(one.why, str) else one.why
                    why = tuple(f"{said[i]}, carried by {title}" for i in rows)
                    out.append(
                        replace(
                            one,
                            key=f"{one.key} {title}",
                            place="fit",
                            basis="carried",
                            why=why,
                            positions=points,
                        )
                    )
        for other, one in inputs.converted:
            progress.check()
            points, _, _ = between_frames(one.positions, other, inputs.frame)
            place = one.positions.index
            why = tuple(one.why[place[key]] for key in points.names)
            out.append(replace(one, key=f"{one.key} converted", why=why, positions=points))
        return tuple(out)

    def gives(self, outcome: Outcome) -> Iterable[tuple[str, CandidateSet]]:
        """All of it."""
        for one in outcome.result:
            yield outcome.node.subject, one


def _sets(reader: Reader, *kinds: Any) -> list[tuple[str, CandidateSet]]:
    """What networks and setups give, by frame: networks first, since a setup may stand on one."""
    nodes = []
    if NetworkStep in kinds:
        nodes += [network_node(key) for key in reader.rows(NetworkStep, "name", active=True).ids.tolist()]
    if Setup in kinds:
        frames = reader.rows(Setup, "frame", active=True)["frame"].tolist()
        nodes += [sighted(key) for key in dict.fromkeys(frames)]
    done = [outcome for outcome in reader.outcomes(nodes) if outcome.result is not None]
    return [pair for outcome in done for pair in reader.gives(outcome)]
