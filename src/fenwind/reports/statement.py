"""The statement of a fit: one sentence whose parts can be clicked on the desk and that heads the report."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

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
) -> tuple[Part, ...]:
    """Parts of the sentence. source and target say what is carried onto what; model is the one used when
    horizontal is auto; over names what heights are counted from, empty where that is their own zero."""
    plan = (
        PLAN_WORDS[horizontal]
        if horizontal != "auto" or not model
        else f"{PLAN_WORDS[model]} (the simplest accepted)"
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
    return tuple(parts)


def sentence(parts: Sequence[Part]) -> str:
    """The statement as plain text."""
    return "".join(part.text for part in parts)
