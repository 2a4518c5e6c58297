"""Kinds of report, a line each: about which kind of step, and who writes its contents."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, replace

from fenwind.doubts.of_job import Findings
from fenwind.geodesy.axes import shown_axes
from fenwind.geodesy.frames import axes_of
from fenwind.job.derive import Derived
from fenwind.job.state import JobState
from fenwind.job.steps.kinds import STEP_KINDS
from fenwind.job.steps.outcome import Node
from fenwind.quantities.lengths import METRE, UNITS
from fenwind.reports import evidence
from fenwind.reports.fit_report import fit_report
from fenwind.reports.frame_sheet import frame_sheet
from fenwind.reports.line_reports import levelling_report, traverse_report
from fenwind.reports.model import Report
from fenwind.reports.network_report import network_report, setup_report
from fenwind.reports.statement import statement_of_fit


def _of_step(state: JobState, node: Node) -> str:
    return STEP_KINDS[node.kind].title(state, node)


def _of_system(state: JobState, node: Node) -> str:
    spec = state.frames[node.subject].spec
    return f"System {spec.name}" if spec.crs else ""


@dataclass(frozen=True, slots=True, kw_only=True)
class ReportKind:
    """A report about steps of one kind; write(state, derived, findings, id of the step, when it is computed,
    in words) gives None where the step has no result. name(state, node): what people know it by, empty where
    there is none."""

    kind: str
    write: Callable[[JobState, Derived, Findings, str, str], Report | None]
    name: Callable[[JobState, Node], str] = _of_step


def _of_fit(state: JobState, derived: Derived, findings: Findings, key: str, computed: str) -> Report | None:
    outcome = derived.fits.get(key)
    if outcome is None or outcome.case is None:
        return None
    step = outcome.step
    frame = state.frames.get(step.target_frame)
    report = fit_report(
        outcome.case,
        [d for d in findings.open if d.subject == key],
        title=state.info.name,
        subtitle=step.name,
        unit=UNITS[frame.spec.unit] if frame is not None else METRE,
        statement=statement_of_fit(state, step, outcome.case),
        accepted=[(d, a) for d, a in findings.accepted if d.subject == key],
        angle_style=state.info.angle_style,
        axes=axes_of(frame.spec) if frame is not None else shown_axes(None),
    )
    ids = {mark.name: mark.id for mark in state.marks.values()}
    known = [ids[name] for name in outcome.case.known.names if name in ids]
    return replace(
        report, facts=evidence.facts(state, computed), signed=evidence.SIGNED,
        sections=(
            *report.sections, evidence.frames_section(state, [step.source_frame, step.target_frame]),
            evidence.control_section(state, step.target_frame, known), *evidence.equipment_section(state),
        ),
    )  # fmt: skip


REPORTS: dict[str, ReportKind] = {
    r.kind: r
    for r in (
        ReportKind(kind="fit", write=_of_fit),
        ReportKind(kind="network", write=network_report),
        ReportKind(kind="setup", write=setup_report),
        ReportKind(kind="traverse", write=traverse_report),
        ReportKind(kind="levelling", write=levelling_report),
        ReportKind(kind="adopted", write=frame_sheet, name=_of_system),
    )
}


def reportable(state: JobState, derived: Derived) -> dict[Node, str]:
    """Steps that there is a report of, fits first, systems last, with the names people know them by."""
    named = (
        (node, kind.name(state, node))
        for kind in REPORTS.values()
        for node, outcome in derived.outcomes.items()
        if node.kind == kind.kind and not node.detail and outcome.result is not None
    )
    return {node: name for node, name in named if name}


def report_of(
    state: JobState, derived: Derived, findings: Findings, node: Node, computed: str = ""
) -> Report | None:
    """The report about a step, computed then (in words); None where there is none for its kind, or it has no
    result."""
    kind = REPORTS.get(node.kind)
    return kind.write(state, derived, findings, node.subject, computed) if kind is not None else None
