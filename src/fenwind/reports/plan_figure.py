"""A plan for a report as SVG: marks, lines between them and ellipses with a round exaggeration, scale
bar, north and a key; readable in black and white."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, field
from html import escape

import numpy as np
from numpy.typing import NDArray

from fenwind.quantities.lengths import METRE, LengthUnit
from fenwind.quantities.numbers import format_fixed
from fenwind.reports.figure import (
    HEIGHT,
    INK,
    MARGIN,
    RULE,
    WATER,
    WIDTH,
    exaggeration,
    furniture,
)

FloatArray = NDArray[np.float64]
#: Corners that an ellipse is drawn with; PDF has straight pieces only.
CORNERS = 36


@dataclass(frozen=True, kw_only=True)
class PlanContent:
    """What is drawn, metres: marks by name at (2, k); held: names drawn as triangles; lines: names of their
    ends; ellipses: semi-axes and azimuth (3, k), nan for none; ways (2, m) with a word each, such as lines of
    equal distortion; unit: of the scale bar."""

    names: tuple[str, ...]
    at: FloatArray
    held: frozenset[str] = frozenset()
    lines: Sequence[tuple[str, str]] = ()
    ellipses: FloatArray = field(default_factory=lambda: np.zeros((3, 0)))
    ways: Sequence[tuple[str, FloatArray]] = ()
    unit: LengthUnit = METRE


def plan_figure(content: PlanContent, label: str) -> str:
    """The SVG, 720 by 460; empty where no mark has a place."""
    fine = np.atleast_1d(np.isfinite(content.at).all(axis=0))
    if not fine.any():
        return ""
    sheet = _Sheet(content.at[:, fine])
    place = {n: sheet.place(*content.at[:, i]) for i, n in enumerate(content.names) if fine[i]}
    out = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH:.0f} {HEIGHT:.0f}" role="img" '
        f'aria-label="{escape(label)}">'
        f'<rect width="{WIDTH:.0f}" height="{HEIGHT:.0f}" fill="#FFFFFF" stroke="{RULE}"/>'
    ]
    out += [_way(word, [sheet.place(*at) for at in way.T]) for word, way in content.ways if way.shape[1] > 1]
    for a, b in dict.fromkeys(content.lines):
        if a in place and b in place:
            (x1, y1), (x2, y2) = place[a], place[b]
            out.append(
                f'<line x1="{x1:.1f}" y1="{y1:.1f}" x2="{x2:.1f}" y2="{y2:.1f}" stroke="{WATER}" '
                'stroke-width="0.8"/>'
            )
    key = _grown(content, sheet, place, out)
    for name, (x, y) in place.items():
        out.append(_symbol(name, x, y, content))
        out.append(f'<text x="{x + 8:.1f}" y="{y - 6:.1f}" font-size="11" fill="{INK}">{escape(name)}</text>')
    out.append(furniture(sheet.scale, content.unit, key))
    return "".join(out) + "</svg>"


class _Sheet:
    """How the ground comes onto the paper."""

    def __init__(self, at: FloatArray) -> None:
        low = at.min(axis=1)
        self.extent = np.maximum(np.ptp(at, axis=1), 1.0)
        self.scale = float(min((WIDTH - 2 * MARGIN) / self.extent[0], (HEIGHT - 2 * MARGIN) / self.extent[1]))
        self._low = low
        self._offset = np.array([WIDTH, HEIGHT]) / 2 - self.extent * self.scale / 2

    def place(self, e: float, n: float) -> tuple[float, float]:
        """Pixels of a place."""
        x = self._offset[0] + (e - self._low[0]) * self.scale
        return float(x), float(HEIGHT - self._offset[1] - (n - self._low[1]) * self.scale)


def _grown(content: PlanContent, sheet: _Sheet, place: dict[str, tuple[float, float]], out: list[str]) -> str:
    """Draw the ellipses; says how many times as large."""
    if not (content.ellipses.size and np.isfinite(content.ellipses).any()):
        return ""
    factor = exaggeration(content.ellipses[0], float(sheet.extent.max()), 0.05)
    for i, name in enumerate(content.names):
        a, b, azimuth = content.ellipses[:, i]
        if name in place and math.isfinite(a + b + azimuth):
            out.append(_ellipse(place[name], a * factor * sheet.scale, b * factor * sheet.scale, azimuth))
    return f"95 % ellipses drawn {format_fixed(factor, 0 if factor >= 1 else 4)} times as large"


def _ellipse(at: tuple[float, float], a: float, b: float, azimuth: float) -> str:
    t = np.linspace(0.0, 2.0 * math.pi, CORNERS, endpoint=False)
    along, across = a * np.cos(t), b * np.sin(t)
    x = at[0] + along * math.sin(azimuth) + across * math.cos(azimuth)
    y = at[1] - along * math.cos(azimuth) + across * math.sin(azimuth)
    corners = "L".join(f"{u:.1f} {v:.1f}" for u, v in zip(x, y, strict=True))
    return f'<path d="M{corners}Z" fill="none" stroke="{WATER}"/>'


def _way(word: str, places: list[tuple[float, float]]) -> str:
    """A line with its word at the middle."""
    corners = "L".join(f"{x:.1f} {y:.1f}" for x, y in places)
    x, y = places[len(places) // 2]
    return (
        f'<path d="M{corners}" fill="none" stroke="{WATER}" stroke-width="0.8"/>'
        f'<text x="{x + 3:.1f}" y="{y - 3:.1f}" font-size="9" fill="{WATER}">{escape(word)}</text>'
    )


def _symbol(name: str, x: float, y: float, content: PlanContent) -> str:
    if name in content.held:
        return f'<path d="M{x:.1f} {y - 6:.1f}l6 10h-12z" fill="{INK}"/>'
    return f'<circle cx="{x:.1f}" cy="{y:.1f}" r="3" fill="#FFFFFF" stroke="{INK}"/>'
