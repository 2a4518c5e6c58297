"""All doubts about a job, parted into open and accepted ones."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from fenwind.doubts import session_rules
from fenwind.doubts.registry import Doubt
from fenwind.doubts.rules import doubts_about_fit, doubts_about_job
from fenwind.errors import FenwindError, StepError
from fenwind.job.derive import Derived
from fenwind.job.state import JobState
from fenwind.job.steps.fit import FitOutcome
from fenwind.progress import NULL_PROGRESS, Progress
from fenwind.records.records import Acceptance


@dataclass(frozen=True, kw_only=True)
class Findings:
    """open: the gravest first. accepted: with the acceptance that holds the reason."""

    open: tuple[Doubt, ...]
    accepted: tuple[tuple[Doubt, Acceptance], ...]


class Judge:
    """Finds doubts; a fit that came out the same as last time is not judged again."""

    def __init__(self) -> None:
        self._known: dict[str, tuple[FitOutcome, tuple[Doubt, ...]]] = {}

    def judge(self, state: JobState, derived: Derived, progress: Progress = NULL_PROGRESS) -> Findings:
        """Doubts about everything derived. Raises Cancelled when `progress` says so."""
        about_job = doubts_about_job(state, derived, progress)
        uncontrolled = {d.subject for d in about_job if d.rule == "job.no-control"}
        # A fit without control fails; that it lacks control says it better.
        found = [
            d for o in derived.fits.values() if o.step.id not in uncontrolled for d in self._about(o)
        ] + list(about_job)
        for key, error in derived.frame_errors.items():
            found.append(_failed(f"Frame {state.frames[key].spec.name}", key, error))
        return _part([*found, *_faults(derived, found)], state)

    def _about(self, outcome: FitOutcome) -> Iterator[Doubt]:
        step = outcome.step
        if outcome.error is not None:
            yield _failed(step.name, step.id, outcome.error)
        if outcome.case is not None:
            known = self._known.get(step.id)
            if known is None or known[0] is not outcome:
                known = self._known[step.id] = (outcome, doubts_about_fit(outcome.case))
            yield from known[1]
        if outcome.occupied is not None:
            for note in outcome.occupied.notes:
                yield Doubt(
                    rule=note.rule,
                    subject=step.id,
                    names=(),
                    text=note.text,
                    unit="",
                    limit_source="EPSG dataset",
                )


def _faults(derived: Derived, found: list[Doubt]) -> Iterator[Doubt]:
    """Steps that ended in an exception and are not told yet, as those that only gather for others."""
    told = {doubt.subject for doubt in found if doubt.rule.endswith(".failed")}
    for node, outcome in derived.outcomes.items():
        if isinstance(outcome.error, StepError) and node.subject not in told:
            yield _failed(outcome.title or f"{node.kind} {node.subject}".strip(), str(node), outcome.error)


def _failed(what: str, subject: str, error: FenwindError) -> Doubt:
    text = f"{what}: {error}. {error.hint}."
    return Doubt(
        rule="step.failed",
        subject=subject,
        names=(),
        text=text,
        grave=True,
        unit="",
        limit_source="computation",
    )


def about_sessions(state: JobState, derived: Derived) -> tuple[Doubt, ...]:
    """Open doubts about bases and occupations alone."""
    looks = (session_rules.bases, session_rules.occupations, session_rules.sessions)
    return _part([doubt for look in looks for doubt in look(state, derived)], state).open


def _part(found: list[Doubt], state: JobState) -> Findings:
    """An acceptance lapses when the number it was given for grows by a tenth."""
    reasons = {a.doubt: a for a in state.acceptances.values() if a.active}
    still_open: list[Doubt] = []
    accepted: list[tuple[Doubt, Acceptance]] = []
    for doubt in found:
        acceptance = reasons.get(doubt.key)
        if acceptance is None or _grown(doubt.value, acceptance.value):
            still_open.append(doubt)
        else:
            accepted.append((doubt, acceptance))
    return Findings(open=tuple(sorted(still_open, key=lambda d: not d.grave)), accepted=tuple(accepted))


def _grown(now: float | None, then: float | None) -> bool:
    return now is not None and then is not None and abs(now) > 1.1 * abs(then) + 1e-12
