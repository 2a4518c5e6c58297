"""A network in words: how it is weighed, its biases, what stands out, how well two marks are known to each
other."""

from __future__ import annotations

import math

from fenwind.job.steps.network import Adjusted
from fenwind.procedures.accuracy_classes import Relative
from fenwind.quantities.lengths import LengthUnit
from fenwind.quantities.numbers import format_fixed
from fenwind.reports.fit_report import mm

#: What a bias is called, the unit it is shown in, and what that is in its own.
BIAS_WORDS = {
    "scale": ("scale", "ppm", 1.0), "turn": ("turn", "″", 1.0), "refraction": ("refraction", "", 1.0),
    "height": ("height of the target", "mm", 1000.0),
}  # fmt: skip


def weighing_words(found: Adjusted) -> str:
    """What balanced groups and biases came to, sentences that end with a blank; empty where there is none."""
    said = ""
    if found.step.components:
        named = [(g.group.replace("_", " "), g.factor) for g in found.factors]
        factors = [f"{name} × {format_fixed(f**0.5, 2)}" for name, f in named if f is not None]
        stated = ", ".join(name for name, f in named if f is None)
        left = f"; as stated, since too little checks them: {stated}" if stated else ""
        said = f"Sigmas balanced by group: {', '.join(factors)}{left}. "
    return said + (f"Found as well: {_biases(found)}. " if found.biases else "")


def _biases(found: Adjusted) -> str:
    """Each bias with its value and one sigma."""
    said = []
    for bias, value, sigma in found.biases:
        word, unit, times = BIAS_WORDS[bias.kind]
        decimals = 4 if bias.kind == "refraction" else 1
        figures = [format_fixed(value * times, decimals, sign=True), format_fixed(sigma * times, decimals)]
        said.append(f"{word} of {bias.group.replace('_', ' ')} {' ± '.join(figures)} {unit}".rstrip())
    return ", ".join(said)


def opinion_words(found: Adjusted) -> str:
    """What a second opinion says, empty where there is none."""
    if found.opinion is None:
        return ""
    number = {result: row for row, result in enumerate(found.rows) if result >= 0}
    one, names = found.observations, {key: name for name, key in found.ids.items()}
    said = []
    for result in found.opinion.standing_out()[:6]:
        row = number[result]
        kind = one.kind[row].replace("_", " ")
        at, to = (names.get(key, key) for key in (one.at[row], one.to[row]))
        said.append(f"{kind} {at} – {to} ({format_fixed(found.opinion.residuals[result], 1)} sigmas)")
    if not said:
        return "A robust second opinion finds nothing that stands out."
    return f"To a robust second opinion stand out: {', '.join(said)}."


def missing_words(found: Adjusted) -> str:
    """What was observed and is not in it, a sentence; empty where all is."""
    return f"Not in it: {'; '.join(found.missing)}." if found.missing else ""


def between_words(first: str, second: str, found: Relative, unit: LengthUnit) -> str:
    """How well two marks are known to each other, in a sentence."""
    distance = f"{format_fixed(found.distance_m / unit.metres, 3)} {unit.key}"
    parts = [f"{first} – {second}, {distance}: at 95 %"]
    if math.isfinite(found.a_m):
        ppm, kept = 1e6 * found.a_m / found.distance_m, found.accuracy
        parts += [f"{mm(found.a_m)} by {mm(found.b_m)} mm in plan", f"{format_fixed(ppm, 1)} ppm"]
        parts.append(
            f"class {kept.name} of FGCC 1989 ({mm(kept.base_m, decimals=0)} mm + {kept.part * 1e6:g} ppm)"
            if kept is not None else "no class of FGCC 1989"
        )  # fmt: skip
    if math.isfinite(found.height_m):
        parts.append(f"± {mm(found.height_m)} mm in height")
    return f"{parts[0]} {', '.join(parts[1:])}."
