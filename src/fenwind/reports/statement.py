"""The statement of a fit: one sentence whose parts can be clicked on the desk and that heads the report."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fenwind.job.gestures import use_of
from fenwind.job.state import JobState
from fenwind.job.steps.fit import known_and_measured
from fenwind.procedures.fit import FitResult
from fenwind.procedures.fit_case import FitCase
from fenwind.procedures.model_choice import ModelTrial
from fenwind.procedures.unseen import OUTSIDE_PART, unseen, unseen_words
from fenwind.quantities.lengths import format_way
from fenwind.records.records import FitStep, FrameRecord

PLAN_WORDS = {
    "auto": "the simplest model the pairs accept",
    "shift": "shift",
    "turn": "shift and turn",
    "scale": "shift, turn and scale",
    "pivot": "pivot and direction",
}
HEIGHT_WORDS = {"none": "left as they are", "shift": "one shift", "plane": "a tilted plane"}


@dataclass(frozen=True, slots=True, kw_only=True)
class Part:
    """A piece of the sentence; `key` names what a click on it changes, empty for plain words."""

    text: str
    key: str = ""


#: Said of the model chosen where the global test rejects all of them, and where it rejects this one alone.
NONE_FITS, OVER_SIGMAS = "best of these; none fits", "simplest by the test; residuals over their sigmas"


def model_words(trials: Sequence[ModelTrial]) -> str:
    """How well the model chosen among those tried fits: the simplest accepted, or what else is to be said."""
    if all(t.fits for t in trials if t.recommended):
        return "simplest accepted"
    return OVER_SIGMAS if any(t.fits for t in trials) else NONE_FITS


def fit_statement(
    *,
    source: str,
    target: str,
    horizontal: str,
    model: str,
    height: str,
    over: str,
    pivot: tuple[str, str] | None,
    checks: Sequence[str],
    fits: str = "simplest accepted",
    price: str = "",
) -> tuple[Part, ...]:
    """Parts of the sentence. source and target say what is carried onto what; model is the one used when
    horizontal is auto; over names what heights are counted from, empty where that is their own zero. fits:
    how well the model fits, as model_words. price: what the choice of a simple model may cost far outside
    the pairs, a sentence."""
    plan = (
        PLAN_WORDS[horizontal]
        if horizontal != "auto" or not model
        else f"{PLAN_WORDS[model]} ({'the simplest accepted' if fits == 'simplest accepted' else fits})"
    )
    parts = [
        Part(text="Carry "),
        Part(text=source, key="source"),
        Part(text=" onto "),
        Part(text=target, key="target"),
        Part(text=" by "),
        Part(text=plan, key="horizontal"),
    ]
    if horizontal == "pivot":
        held, towards = pivot or ("a pair", "another")
        parts += [
            Part(text=" holding "),
            Part(text=held, key="pivot"),
            Part(text=" towards "),
            Part(text=towards, key="pivot-towards"),
        ]
    parts += [
        Part(text=", heights " if height == "none" else ", heights by "),
        Part(text=HEIGHT_WORDS[height], key="height"),
    ]
    if over and height != "none":
        parts += [Part(text=" over "), Part(text=over, key="geoid")]
    if horizontal == "pivot":
        return (*parts, Part(text=", comparing all other pairs."))
    listed = (
        ", ".join(checks[:-1]) + (" and " if len(checks) > 1 else "") + checks[-1] if checks else "no pair"
    )
    parts += [
        Part(text=", holding out "),
        Part(text=listed, key="checks"),
        Part(text=" as a check." if len(checks) < 2 else " as checks."),
    ]
    if price:
        parts.append(Part(text=f" {price}"))
    return tuple(parts)


def _counted_over(frame: FrameRecord | None) -> str:
    """What heights of a frame are counted over, empty where that is their own zero."""
    if frame is None or not frame.spec.crs:
        return ""
    height = frame.spec.height
    return (height.name or "a geoid grid") if height.kind == "geoid" else "the ellipsoid"


def statement_of_fit(state: JobState, step: FitStep, case: FitCase | None) -> tuple[Part, ...]:
    """The sentence of a fit of a job; `case` what came of it, None where nothing did."""
    source, target = state.frames.get(step.source_frame), state.frames.get(step.target_frame)
    count = len(case.result.carried) if case is not None else 0
    what = " and ".join(step.sessions) if step.sessions else "measured positions"
    names = tuple(state.mark_name(m) for m in step.pivot or ())
    over = _counted_over(source)
    pairs = known_and_measured(state, step)
    checks = [m.name for m in state.marks.values() if m.name in pairs and use_of(state, step, m) == "check"]
    return fit_statement(
        source=f"{what}, {count}" if count else what,
        target=target.spec.name if target is not None else "a frame",
        horizontal=step.horizontal,
        model=case.result.model if case is not None else "",
        height=step.height,
        over=over,
        pivot=(names[0], names[1]) if len(names) == 2 else None,
        checks=checks,
        fits=model_words(() if case is None else case.result.models),
        price=(further_words(case.result) or price_words(case.result)) if case is not None else "",
    )


def further_words(result: FitResult) -> str:
    """What each further pair will add, while there are one or two in plan or in height; empty with more."""
    plan, heights = int(result.pairs.used_h.sum()), int(result.pairs.used_v.sum())
    said = {
        1: "With one pair it is only shifted: a second will turn it and show its scale, a third check both.",
        2: "Two pairs cannot check turn and scale: a third will.",
    }.get(plan, "")  # fmt: skip
    if said and result.options.height == "none":
        return f"{said} Heights stay as they are: holding one would shift them all by the same."
    if said and heights == 1:
        return f"{said} One height shifts all by the same; a second held one will check it, a fourth a tilt."
    return said


def price_words(result: FitResult) -> str:
    """What the simplest model may cost the mark that it would cost most, far outside the pairs; empty where
    no mark lies there."""
    found = unseen(result)
    if found is None:
        return ""
    table, carried = result.pairs, result.carried
    rows = table.measured_rows[table.used_h]
    extent = float(np.hypot(np.ptp(carried.e_m[rows]), np.ptp(carried.n_m[rows])))
    effect = np.where(found.outside_m > OUTSIDE_PART * extent, found.effect_m, 0.0)
    worst = int(effect.argmax())
    if effect[worst] <= 0.0:
        return ""
    moved = f"move {carried.names[worst]} by {format_way(effect[worst])}"
    return f"{unseen_words(found)} would not show and {moved}."


def sentence(parts: Sequence[Part]) -> str:
    """The statement as plain text."""
    return "".join(part.text for part in parts)
