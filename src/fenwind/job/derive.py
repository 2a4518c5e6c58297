"""Derivation: what follows from the records. Orders steps by what they need, remembers, and can be
stopped; it knows nothing about any kind of step (those are in `steps/`)."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from fenwind.errors import FenwindError, ProcedureError, StepError
from fenwind.job.adopted import Adopted
from fenwind.job.memory import Memory, Remembered
from fenwind.job.reader import Digest, Pending, Reader, Source, digest_of
from fenwind.job.state import JobState
from fenwind.job.steps.fit import FitOutcome
from fenwind.job.steps.kinds import STEP_KINDS
from fenwind.job.steps.outcome import Node, Outcome, StepKind
from fenwind.procedures.positions import Positions
from fenwind.progress import NULL_PROGRESS, Cancelled, Progress
from fenwind.quiet import collection_paused
from fenwind.records.records import FrameRecord, Mark

CIRCLE_HINT = "Take one of these steps out of the circle"


@dataclass(frozen=True, kw_only=True, eq=False)
class Derived:
    """Everything that follows from the records: the outcome of every step by its node, and the same as
    people see it, with names of marks. frame_errors, missing_grids: frames that failed, and grids without
    which heights are not known, by frame id. folder: where grids with a relative name are."""

    outcomes: Mapping[Node, Outcome]
    views: Mapping[Node, Any]
    frame_errors: Mapping[str, FenwindError]
    missing_grids: Mapping[str, tuple[str, ...]]
    folder: str = "."

    def of_kind(self, kind: str) -> dict[str, Any]:
        """What a kind of step came to, by the id it is about; only where there is something to see."""
        return {
            n.subject: v for n, v in self.views.items() if n.kind == kind and not n.detail and v is not None
        }

    @cached_property
    def fits(self) -> dict[str, FitOutcome]:
        """Fits by step id."""
        return self.of_kind("fit")

    @cached_property
    def given(self) -> dict[str, Positions]:
        """Given positions by frame id."""
        return self.of_kind("known")

    @cached_property
    def adopted(self) -> dict[str, Adopted]:
        """Adopted positions by frame id."""
        return self.of_kind("adopted")

    @cached_property
    def elsewhere(self) -> dict[str, Any]:
        """What was given in other frames, by the id of the frame it was converted into."""
        return self.of_kind("elsewhere")

    @cached_property
    def measured(self) -> dict[str, Any]:
        """Everything measured on the plane of each frame, by its id, or why it cannot be carried there."""
        return {key: v for key, v in self.of_kind("occupied").items() if key not in self.frame_errors}


#: What a step of a state comes to.
Solve = Callable[[JobState, Node], Outcome]


def derive(
    state: JobState,
    memory: Memory,
    folder: str = ".",
    progress: Progress = NULL_PROGRESS,
    kinds: Mapping[str, StepKind] = STEP_KINDS,
) -> Derived:
    """All results of a job; geoid grids with a relative name are looked for in `folder`.

    Errors of single steps become part of the result, never an exception. Raises Cancelled when `progress`
    says so.
    """
    with collection_paused():
        return _derived(state, memory, folder, progress, kinds)


def solve_one(
    state: JobState,
    node: Node,
    memory: Memory,
    folder: str = ".",
    kinds: Mapping[str, StepKind] = STEP_KINDS,
    progress: Progress = NULL_PROGRESS,
) -> Outcome:
    """The outcome of one step, before all else is derived; what it took is remembered for that."""
    with collection_paused():
        run = _Run(state, memory, folder, progress, kinds, whole=False)
        run.solve(node)
        return run.done[node]


def _derived(
    state: JobState, memory: Memory, folder: str, progress: Progress, kinds: Mapping[str, StepKind]
) -> Derived:
    memory.computed = []
    run = _Run(state, memory, folder, progress, kinds)
    nodes = run.source.nodes
    todo = [node for node in nodes if node not in run.done]
    for done, node in enumerate(todo):
        progress.check()
        progress.report(done, len(todo), title_of(kinds[node.kind], state, node))
        run.solve(node)
    views = run.views(nodes)
    errors, missing = run.frames()
    progress.report(1, 1, "")
    return Derived(outcomes=run.done, views=views, frame_errors=errors, missing_grids=missing, folder=folder)


def title_of(kind: StepKind, state: JobState, node: Node) -> str:
    """Name people know a step by; a step that cannot say it has none."""
    try:
        return kind.title(state, node)
    except Exception:
        return ""


class _Run:
    """One derivation; whole: of all steps, so that the next one may take over what has not changed since."""

    def __init__(
        self,
        state: JobState,
        memory: Memory,
        folder: str,
        progress: Progress,
        kinds: Mapping[str, StepKind],
        whole: bool = True,
    ) -> None:
        self.whole = whole
        self.state, self.memory, self.progress, self.kinds = state, memory, progress, kinds
        self.done: dict[Node, Outcome] = {}
        self.source = Source(state, memory.shelf, folder, self.done, kinds)
        last = memory.last
        self.taken_over = last.unaffected(state, self.source, kinds)
        self.done |= {node: last.done[node] for node in self.taken_over}

    def solve(self, node: Node) -> None:
        """The outcome of a step, after those it turns out to need."""
        stack: list[tuple[Node, list[Node]]] = [(node, [])]
        while stack:
            current, needed = stack[-1]
            while needed and needed[-1] in self.done:
                needed.pop()
            if current in self.done:
                stack.pop()
            elif needed:
                ancestors = [n for n, _ in stack]
                if needed[-1] in ancestors:
                    self._close(ancestors[ancestors.index(needed[-1]) :])
                else:
                    stack.append((needed.pop(), []))
            else:
                try:
                    self.done[current] = self._outcome(current)
                except Pending as pending:
                    needed += reversed(pending.nodes)

    def _still_holds(self, known: Remembered) -> bool:
        """Whether everything a result was read from is still answered the same."""
        # In the order it was asked: a later question may follow from an earlier answer.
        answers, answer = self.source.answers, self.source.answer
        for number, digest in known.asked:
            now = (answers.get(number) or answer(number))[1]
            if now is not digest and now != digest:
                return False
        return True

    def _outcome(self, node: Node) -> Outcome:
        self.progress.check()
        for known in self.memory.of(node):
            if self._still_holds(known):
                self.memory.used(known)
                self._note(node, known.asked)
                return known.outcome
        kind, reader = self.kinds[node.kind], Reader(self.source)
        title, key, result, error = title_of(kind, self.state, node), None, None, None
        digest: Digest | None = None
        try:
            inputs, key = kind.read(node, reader)
            same = next(
                (m.outcome for m in self.memory.of(node) if key is not None and m.inputs == key), None
            )
            if same is None:
                self.memory.computed.append(title or f"{node.kind} {node.subject}")
            result, error = (same.result, same.error) if same else (kind.solve(inputs, self.progress), None)
            digest = kind.digest(result) if result is not None else None
        except FenwindError as caught:
            result, error = None, caught
        except (Cancelled, Pending):
            raise
        except Exception as caught:  # one step's fault is that step's outcome, and nobody else's
            result, error = None, StepError.of(caught)
        if digest is None:
            digest = digest_of(str(node), title, *reader.asked.values())
        outcome = Outcome(node=node, title=title, digest=digest, result=result, error=error)
        self.memory.keep(node, reader.asked, key, outcome)
        self._note(node, reader.asked.items())
        return outcome

    def _note(self, node: Node, asked: Iterable[tuple[int, Digest]]) -> None:
        if self.whole:
            self.memory.last.note(node, asked, self.source)

    def _close(self, circle: list[Node]) -> None:
        """Steps that need each other: each says so, nothing of them is remembered."""
        titles = [title_of(self.kinds[n.kind], self.state, n) for n in circle]
        named = [title for title in titles if title] or [f"{n.kind} {n.subject}" for n in circle]
        for node, title in zip(circle, titles, strict=True):
            start = named.index(title) if title else 0
            order = [*named[start:], *named[: start + 1]]
            words = ", which needs ".join(order[1:])
            error = ProcedureError(f"{order[0]} needs {words}", hint=CIRCLE_HINT)
            self.done[node] = Outcome(node=node, title=title, digest=digest_of(str(node), words), error=error)

    def views(self, nodes: list[Node]) -> dict[Node, Any]:
        """Outcomes as people see them; those of the last time where neither they nor any mark changed.
        Also keeps this derivation for the next time."""
        last, stamp = self.memory.last, self.state.stamp(Mark)
        same_marks = stamp == last.stamps.get(Mark, 0)
        names = {mark.id: mark.name for mark in self.state.marks.values()}
        views: dict[Node, Any] = {}
        for node in nodes:
            outcome = self.done[node]
            if same_marks and node in last.views and (node in self.taken_over or self._seen_before(node)):
                views[node] = last.views[node]
            else:
                views[node] = self._named(node, outcome, names)
        last.kinds, last.folder = self.kinds, self.source.folder
        last.done, last.views = self.done, views
        last.stamps = {kind: self.state.stamp(kind) for kind in self.state.kinds()}
        last.records = {node: self.state.records.get(node.subject) for node in nodes}
        return views

    def _named(self, node: Node, outcome: Outcome, names: Mapping[str, str]) -> Any:
        """An outcome as people see it; where that fails, the error is what they see."""
        try:
            return self.kinds[node.kind].named(node, outcome, names, self.state)
        except Exception as error:
            failed = Outcome(
                node=node,
                title=outcome.title,
                digest=outcome.digest,
                error=outcome.error or StepError.of(error),
            )
            self.done[node] = failed
            try:
                return self.kinds[node.kind].named(node, failed, names, self.state)
            except Exception:
                return None

    def _seen_before(self, node: Node) -> bool:
        """Whether a step came out, and is called, as the last time."""
        last = self.memory.last
        same = last.records.get(node) is self.state.records.get(node.subject)
        return same and last.done.get(node) is self.done[node]

    def frames(self) -> tuple[dict[str, FenwindError], dict[str, tuple[str, ...]]]:
        """Frames that cannot be opened, and the grids that others lack, by id."""
        errors: dict[str, FenwindError] = {}
        missing: dict[str, tuple[str, ...]] = {}
        for key, record in self.state.of(FrameRecord).items():
            if not record.active:
                continue
            try:
                lacking = getattr(Reader(self.source).frame(key).geoid, "missing", ())
            except FenwindError as error:
                errors[key] = error
            except Exception as error:
                errors[key] = StepError.of(error)
            else:
                if lacking:
                    missing[key] = lacking
        return errors, missing
