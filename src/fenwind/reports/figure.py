"""The plan figure of a fit as SVG: pairs, carried marks, residual vectors with their exaggeration, scale bar
and north."""

from __future__ import annotations

import math
from html import escape

import numpy as np
from numpy.typing import NDArray

from fenwind.procedures.fit import FitResult
from fenwind.quantities.lengths import METRE, LengthUnit
from fenwind.quantities.numbers import format_fixed

FloatArray = NDArray[np.float64]
INK, FAINT, RULE, FLARE, WATER = "#1F2A30", "#6C7378", "#D9D4C7", "#C2410C", "#1F6F8B"
WIDTH, HEIGHT, MARGIN = 720.0, 460.0, 48.0


def nice_length(target: float) -> float:
    """1, 2 or 5 times a power of ten, the largest that is not over `target`."""
    power = 10.0 ** math.floor(math.log10(target))
    return next(step * power for step in (5.0, 2.0, 1.0) if step * power <= target * (1 + 1e-12))


def exaggeration(residuals_m: FloatArray, extent_m: float, part: float = 0.08) -> float:
    """A round factor that draws the largest residual about `part` of the extent long; 1 when there are
    none."""
    largest = float(np.nanmax(residuals_m, initial=0.0))
    return nice_length(part * extent_m / largest) if largest > 1e-9 and extent_m > 0 else 1.0


def furniture(scale: float, unit: LengthUnit, key: str) -> str:
    """Scale bar in a unit, north and a key of a plan; scale: pixels a metre."""
    bar = nice_length(120.0 / scale / unit.metres)
    wide = bar * unit.metres * scale
    return (
        f'<path d="M{WIDTH - 24 - wide:.1f} {HEIGHT - 20}v-6m0 3h{wide:.1f}m0 -3v6" stroke="{INK}" '
        f'fill="none"/><text x="{WIDTH - 24 - wide / 2:.1f}" y="{HEIGHT - 30}" font-size="11" '
        f'text-anchor="middle" fill="{INK}">{format_fixed(bar, 0 if bar >= 1 else 2)} {unit.key}</text>'
        f'<path d="M{WIDTH - 28} 48v-28m-4 6l4 -6l4 6" stroke="{INK}" fill="none"/>'
        f'<text x="{WIDTH - 28}" y="62" font-size="11" text-anchor="middle" fill="{INK}">N</text>'
        f'<text x="14" y="{HEIGHT - 16}" font-size="11" fill="{FAINT}">{escape(key)}</text>'
    )


def fit_figure(result: FitResult, unit: LengthUnit = METRE) -> str:
    """SVG of a fit, 720 by 460, in the target system, with a scale bar in a unit; readable in black and
    white."""
    carried, table = result.carried, result.pairs
    rows = table.measured_rows
    low = np.array([carried.e_m.min(), carried.n_m.min()])
    extent = np.maximum(np.array([np.ptp(carried.e_m), np.ptp(carried.n_m)]), 1.0)
    scale = float(min((WIDTH - 2 * MARGIN) / extent[0], (HEIGHT - 2 * MARGIN) / extent[1]))
    offset = np.array([WIDTH - extent[0] * scale, HEIGHT - extent[1] * scale]) / 2

    def place(e: float, n: float) -> tuple[float, float]:
        return offset[0] + (e - low[0]) * scale, HEIGHT - offset[1] - (n - low[1]) * scale

    factor = exaggeration(table.misfit_h_m, float(extent.max()))
    pair_rows = set(rows.tolist())
    out = [
        f'<svg xmlns="http://www.w3.org/2000/svg" viewBox="0 0 {WIDTH:.0f} {HEIGHT:.0f}" role="img" '
        'aria-label="Plan of the fit">'
    ]
    out.append(f'<rect width="{WIDTH:.0f}" height="{HEIGHT:.0f}" fill="#FFFFFF" stroke="{RULE}"/>')
    for i in range(len(carried)):
        if i not in pair_rows:
            x, y = place(carried.e_m[i], carried.n_m[i])
            out.append(f'<circle cx="{x:.1f}" cy="{y:.1f}" r="2.5" fill="none" stroke="{FAINT}"/>')
    for i, row in enumerate(rows):
        x, y = place(carried.e_m[row], carried.n_m[row])
        dx, dy = table.de_m[i] * factor * scale, -table.dn_m[i] * factor * scale
        out.append(
            f'<line x1="{x:.1f}" y1="{y:.1f}" x2="{x + dx:.1f}" y2="{y + dy:.1f}" stroke="{FLARE}" '
            'stroke-width="2"/>'
        )
        if table.used_h[i]:
            out.append(f'<path d="M{x:.1f} {y - 6:.1f}l6 10h-12z" fill="{INK}"/>')
        else:
            out.append(
                f'<rect x="{x - 5:.1f}" y="{y - 5:.1f}" width="10" height="10" fill="#FFFFFF" '
                f'stroke="{INK}" stroke-width="1.5"/>'
            )
        out.append(
            f'<text x="{x + 9:.1f}" y="{y - 7:.1f}" font-size="12" '
            f'fill="{INK}">{escape(table.names[i])}</text>'
        )
    times = format_fixed(factor, 0 if factor >= 1 else 4)
    out.append(furniture(scale, unit, f"residuals drawn {times} times as large") + "</svg>")
    return "".join(out)
