"""Kinds of report, a line each: about which kind of step, and who writes its contents."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

from fenwind.doubts.of_job import Findings
from fenwind.geodesy.axes import shown_axes
from fenwind.geodesy.frames import axes_of
from fenwind.job.derive import Derived
from fenwind.job.state import JobState
from fenwind.job.steps.outcome import Node
from fenwind.quantities.lengths import METRE, UNITS
from fenwind.reports.fit_report import fit_report
from fenwind.reports.model import Report
from fenwind.reports.statement import statement_of_fit


@dataclass(frozen=True, slots=True, kw_only=True)
class ReportKind:
    """A report about steps of one kind; write(state, derived, findings, id of the step, a line under the
    title) gives None where the step has no result."""

    kind: str
    write: Callable[[JobState, Derived, Findings, str, str], Report | None]


def _of_fit(state: JobState, derived: Derived, findings: Findings, key: str, subtitle: str) -> Report | None:
    outcome = derived.fits.get(key)
    if outcome is None or outcome.case is None:
        return None
    frame = state.frames.get(outcome.step.target_frame)
    return fit_report(
        outcome.case,
        [d for d in findings.open if d.subject == key],
        title=state.info.name,
        subtitle=f"{outcome.step.name}, {subtitle}" if subtitle else outcome.step.name,
        unit=UNITS[frame.spec.unit] if frame is not None else METRE,
        statement=statement_of_fit(state, outcome.step, outcome.case),
        accepted=[(d, a.reason) for d, a in findings.accepted if d.subject == key],
        angle_style=state.info.angle_style,
        axes=axes_of(frame.spec) if frame is not None else shown_axes(None),
    )


REPORTS: dict[str, ReportKind] = {r.kind: r for r in (ReportKind(kind="fit", write=_of_fit),)}


def report_of(
    state: JobState, derived: Derived, findings: Findings, node: Node, subtitle: str = ""
) -> Report | None:
    """The report about a step; None where there is none for its kind, or it has no result."""
    kind = REPORTS.get(node.kind)
    return kind.write(state, derived, findings, node.subject, subtitle) if kind is not None else None
