"""Why distances do not agree, in words: of two figures for a line, and of a drawing held against a grid."""

from __future__ import annotations

from fenwind.procedures.held_drawing import HeldDrawing
from fenwind.procedures.ratio_causes import Explained
from fenwind.quantities.lengths import LengthUnit
from fenwind.quantities.numbers import format_fixed


def ratio_words(found: Explained) -> str:
    """How far apart, how well that is known, and the causes that fit, the nearest first."""
    return f"{_apart(found)}. {causes_words(found)}"


def _apart(found: Explained) -> str:
    off = format_fixed((found.ratio - 1.0) * 1e6, 1, sign=True)
    return f"{off} ppm, known to {format_fixed(found.rounding_ppm, 1)} ppm"


def causes_words(found: Explained) -> str:
    """The causes that fit, or that there is none, or nothing to explain."""
    if found.agree:
        return "They agree within that."
    if not found.causes:
        return "No cause that is known here explains it."
    causes = [f"{c.text} (leaves {format_fixed(c.left_ppm, 1, sign=True)} ppm)" for c in found.causes]
    return f"{causes[0][:1].upper()}{'; or '.join(causes)[1:]}."


def drawing_words(drawing: str, grid: str, held: HeldDrawing, unit: LengthUnit) -> str:
    """A drawing against a grid: marks, size, what is left over in a unit, and what explains the size."""
    digits = 3 if unit.metres < 0.5 else 4
    rms, most = (
        f"{format_fixed(v / unit.metres, digits)} {unit.key}" for v in (held.rms_m, held.left_m[held.worst])
    )
    said = f"{held.unit}, then " if held.unit else ""
    off = ", ".join(
        f"{held.names[i]} ({format_fixed(held.left_m[i] / unit.metres, digits)} {unit.key})"
        for i in held.off.nonzero()[0]
    )
    far = f" Elsewhere on the drawing, and left out: {off}." if off else ""
    by = int((~held.off).sum())
    return (
        f"{drawing} against {grid} by {by} marks: {said}{_apart(held.found)}; {rms} left over (rms), "
        f"most at {held.names[held.worst]} ({most}). {causes_words(held.found)}{far}"
    )
