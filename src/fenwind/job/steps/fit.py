"""A fit: occupations worked in one frame, carried onto the positions known in another."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any

import numpy as np

from fenwind.errors import FenwindError
from fenwind.geodesy.frames import Frame
from fenwind.job.reader import Digest, Reader, Rows, digest_of
from fenwind.job.state import JobState
from fenwind.job.steps.known import known
from fenwind.job.steps.occupied import Occupied, occupied
from fenwind.job.steps.outcome import (
    CandidateSet,
    Drawing,
    Figures,
    Node,
    OfRecord,
    Outcome,
    TrailStep,
    place_figures,
    with_names,
)
from fenwind.procedures.fit import FitOptions, FitResult, fit
from fenwind.procedures.fit_case import FitCase
from fenwind.procedures.positions import Positions
from fenwind.procedures.regions import factors95
from fenwind.procedures.to_plane import mean_place
from fenwind.progress import Progress
from fenwind.records.records import FitStep, Mark

MODEL_WORDS = {
    "shift": "shift",
    "turn": "shift and turn",
    "scale": "shift, turn and scale",
    "pivot": "pivot and direction",
}


def fit_node(step: str) -> Node:
    """The step of a fit's id."""
    return Node("fit", step)


@dataclass(frozen=True, kw_only=True, eq=False)
class Fitted:
    """A fit by mark ids, and the occupations it carried."""

    target: str
    case: FitCase
    occupied: Occupied


@dataclass(frozen=True, kw_only=True, eq=False)
class FitOutcome:
    """A fit step and what came of it, by names of marks: a case, or the error that kept it from being
    computed. raw: the same by ids."""

    step: FitStep
    names: Mapping[str, str]
    raw: Fitted | None = None
    error: FenwindError | None = None

    @cached_property
    def case(self) -> FitCase | None:
        """The fit with all that is needed to judge it."""
        return case_with_names(self.raw.case, self.names) if self.raw is not None else None

    @cached_property
    def occupied(self) -> Occupied | None:
        """What it carried."""
        if self.raw is None:
            return None
        return replace(self.raw.occupied, plane=with_names(self.raw.occupied.plane, self.names))


@dataclass(frozen=True, kw_only=True, eq=False)
class _Inputs:
    step: FitStep
    frame: Frame
    occupied: Occupied
    known: Positions
    options: FitOptions


class Fit(OfRecord):
    """See the module."""

    name = "fit"
    record = FitStep

    def targets(self, state: JobState, node: Node) -> tuple[str, ...]:
        """The frame it fits onto."""
        return (state.fits[node.subject].target_frame,)

    def read(self, node: Node, reader: Reader) -> tuple[_Inputs, Digest | None]:
        """Both sets of positions, and the options with the uses of the pairs."""
        step = reader.needed(FitStep, node.subject)
        reader.frame(step.target_frame)
        frame = reader.frame(step.source_frame)
        measured = reader.result(occupied(step.source_frame, step.sessions))
        points = reader.result(known(step.target_frame))
        marks = reader.rows(Mark, "hold_horizontal", "hold_height", "active")
        options = options_of(step, marks, points.index.keys() & measured.plane.index.keys())
        key = digest_of(
            *reader.digests("result"), options_text(options), step.target_frame, frame.spec, step.scale_reason
        )
        inputs = _Inputs(step=step, frame=frame, occupied=measured, known=points, options=options)
        return inputs, key

    def solve(self, inputs: _Inputs, progress: Progress) -> Fitted:
        """Fit, and put what is needed to judge it beside it."""
        frame, measured = inputs.frame, inputs.occupied
        result = fit(measured.plane, inputs.known, inputs.options)
        case = FitCase(
            subject=inputs.step.id,
            measured=measured.plane,
            known=inputs.known,
            result=result,
            lat_rad=measured.lat_rad if frame.has_datum else None,
            lon_rad=measured.lon_rad if frame.has_datum else None,
            area=frame.area_of_use(),
            place=mean_place(frame, measured.plane) if len(measured.plane) else None,
            over_geoid=frame.geoid is not None,
            crs=frame.spec.crs if frame.has_datum else "",
            scale_reason=inputs.step.scale_reason,
        )
        return Fitted(target=inputs.step.target_frame, case=case, occupied=measured)

    def gives(self, outcome: Outcome) -> Iterable[tuple[str, CandidateSet]]:
        """Every mark it carried."""
        result, why = outcome.result, f"carried by {outcome.title}"
        carried, key = result.case.result.carried, outcome.node.subject
        yield (
            result.target,
            CandidateSet(key=key, place="fit", basis="carried", why=why, positions=carried),
        )

    def trail(self, node: Node, result: Fitted, mark: str) -> Iterable[TrailStep]:
        """Where it carried the mark, and how that agrees with what is given."""
        fitted = result.case.result
        carried = fitted.carried
        row = carried.index.get(mark)
        if row is None:
            return
        figures = [*place_figures(carried, row)]
        if mark in fitted.pairs.names:
            i = fitted.pairs.names.index(mark)
            parts = (fitted.pairs.de_m[i], fitted.pairs.dn_m[i], fitted.pairs.dh_m[i])
            figures.append(Figures(kind="difference", values=parts))
        yield TrailStep(title="", note=MODEL_WORDS[fitted.model], figures=tuple(figures))

    def drawing(self, node: Node, result: Fitted) -> Drawing:
        """Residual vectors, covariances, roles, and the hull of the pairs held."""
        fitted = result.case.result
        pairs = fitted.pairs
        roles = {
            key: "held" if used else "check" for key, used in zip(pairs.names, pairs.used_h, strict=True)
        }
        roles |= dict.fromkeys(fitted.options.off, "off")
        return Drawing(
            frame=result.target,
            roles=roles,
            vector_marks=pairs.names,
            vectors=np.stack([pairs.de_m, pairs.dn_m]),
            covariance=fitted.carried.covariance[:2, :2, pairs.measured_rows],
            reach=factors95(fitted)[0],
            hull=tuple(key for key, used in zip(pairs.names, pairs.used_h, strict=True) if used),
        )

    def named(self, node: Node, outcome: Outcome, names: Mapping[str, str], state: JobState) -> FitOutcome:
        """The fit with names for ids."""
        error = outcome.error.with_names(names) if outcome.error is not None else None
        return FitOutcome(step=state.fits[node.subject], names=names, raw=outcome.result, error=error)


def default_use(hold_horizontal: bool, hold_height: bool) -> str:
    """Use of a pair that follows from its mark's hold flags."""
    return {
        (True, True): "both",
        (True, False): "horizontal",
        (False, True): "height",
        (False, False): "check",
    }[hold_horizontal, hold_height]


def options_of(step: FitStep, marks: Rows, pairs: Iterable[str]) -> FitOptions:
    """Options of a fit by mark ids: uses are those set in the step, else those of the marks' hold flags.
    marks: rows with hold_horizontal, hold_height and active; pairs: ids of the marks that are measured and
    known."""
    uses, names = dict(step.uses), set(pairs)
    grouped: dict[str, set[str]] = {
        "check": set(),
        "height": set(),
        "horizontal": set(),
        "off": set(),
        "both": set(),
    }
    columns = (marks["hold_horizontal"].tolist(), marks["hold_height"].tolist(), marks["active"].tolist())
    for key, horizontal, height, active in zip(marks.ids.tolist(), *columns, strict=True):
        if key in names or key in uses or not active:
            use = uses.get(key) or default_use(horizontal, height)
            grouped["off" if not active else use].add(key)
    pivot = step.pivot if step.horizontal == "pivot" and step.pivot and set(step.pivot) <= names else None
    return FitOptions(
        horizontal=step.horizontal,
        height=step.height,
        pivot=pivot,
        rotation_rad=step.rotation_rad,
        scale=step.scale,
        check=frozenset(grouped["check"] & names),
        no_horizontal=frozenset(grouped["height"] & names),
        no_height=frozenset(grouped["horizontal"] & names),
        off=frozenset(grouped["off"]),
        tolerance_h_m=step.tolerance_h_m,
        tolerance_v_m=step.tolerance_v_m,
    )


def options_text(options: FitOptions) -> str:
    """repr with frozen sets in order, so that equal options have equal text."""
    values = {name: getattr(options, name) for name in options.__dataclass_fields__}
    return repr({k: sorted(v) if isinstance(v, frozenset) else v for k, v in values.items()})


def case_with_names(case: FitCase, names: Mapping[str, str]) -> FitCase:
    """A case by names of marks that was by ids; nothing is computed again."""
    return replace(
        case,
        measured=with_names(case.measured, names),
        known=with_names(case.known, names),
        result=_result_with_names(case.result, names),
    )


def _result_with_names(result: FitResult, names: Mapping[str, str]) -> FitResult:
    def name(key: str) -> str:
        return names.get(key, key)

    options = result.options
    sets = ("check", "no_horizontal", "no_height", "off")
    renamed: dict[str, Any] = {field: frozenset(map(name, getattr(options, field))) for field in sets}
    pivot = (name(options.pivot[0]), name(options.pivot[1])) if options.pivot else None
    return replace(
        result,
        options=replace(options, **renamed, pivot=pivot),
        pairs=replace(result.pairs, names=tuple(map(name, result.pairs.names))),
        carried=with_names(result.carried, names),
    )


def known_and_measured(state: JobState, step: FitStep) -> set[str]:
    """Names of the active marks with an active known position and an active occupation that this step
    uses."""
    marks = state.marks
    given = {g.mark for g in state.given.values() if g.active and g.frame == step.target_frame}
    measured = {
        m.mark
        for m in state.measured.values()
        if m.active and (not step.sessions or m.session in step.sessions)
    }
    return {marks[m].name for m in given & measured if m in marks and marks[m].active}
