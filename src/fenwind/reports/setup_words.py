"""A setup in words: how its distances, targets and scale are treated, and how its readings spread."""

from __future__ import annotations

import math

from fenwind.job.steps.setup import Placed
from fenwind.job.steps.sightings import air_ppm, round_spreads
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.quantities.numbers import format_fixed
from fenwind.records.setups import Air, Setup
from fenwind.reports.fit_report import mm

TARGETS = {"held": "targets held", "weighted": "targets by their weights"}
SCALES = {
    "fixed": "scale 1", "show": "scale estimated and only shown", "apply": "scale estimated and applied",
}  # fmt: skip


def air_words(air: Air | None) -> str:
    """The air with what distances are corrected by."""
    if air is None:
        return "not corrected for"
    return (
        f"{air.temperature_c:g} °C, {air.pressure_hpa:g} hPa, {air.humidity_percent:g} %: "
        f"{format_fixed(air_ppm(air), 1, sign=True)} ppm"
    )


def grid_words(grid: bool, factor: float) -> str:
    """How horizontal distances come to the grid."""
    if not grid or factor == 1.0:
        return "as they were measured"
    return f"to the grid by {factor:.7f}"


def scale_words(found: Placed) -> str:
    """What an estimated scale came to; empty where there is none."""
    setup, f = found.setup, found.found
    if setup.scale == "fixed" or not math.isfinite(f.sigma_scale):
        return ""
    hides = ", which hides what the residuals would have told" if setup.scale == "apply" else ""
    ppm = format_fixed((f.scale - 1.0) * 1e6, 1, sign=True)
    return f"; its distances are off by {ppm} ± {format_fixed(f.sigma_scale * 1e6, 1)} ppm{hides}"


def rounds_words(found: Placed) -> str:
    """How far the readings of the target that differ most do so, as one sigma of a reading; empty where each
    was read once."""
    spreads = round_spreads(found.setup, found.reduced)
    if not spreads:
        return ""
    key, spread = max(spreads.items(), key=lambda one: one[1].worst)
    shown = [
        f"{what} {format_fixed(value / size, 1)}{unit}"
        for what, value, size, unit in zip(
            ("direction", "distance", "height"), spread.sigma,
            (RAD_PER_SECOND, 0.001, 0.001), ("″", " mm", " mm"), strict=True,
        ) if math.isfinite(value)
    ]  # fmt: skip
    return f"Readings of {found.names[key]} spread most ({spread.count} of them): {', '.join(shown)}."


def treated_words(setup: Setup) -> str:
    """How targets, scale and air are treated, for a report."""
    by = "" if setup.air is None else f" (first velocity correction, carrier {setup.air.carrier_um:g} µm)"
    return f"{TARGETS[setup.targets]}, {SCALES[setup.scale]}, air {air_words(setup.air)}{by}"


def checks_words(found: Placed) -> list[str]:
    """What each check misses by."""
    out = []
    for i, part in enumerate(found.part):
        if part == "check":
            key = found.setup.target[i]
            e, n, h = (float(v) for v in found.shots.position[:, i] - found.known[key].at)
            height = "" if math.isnan(h) else f", {mm(abs(h))} mm in height"
            out.append(
                f"The check on {found.names[key]} misses by {mm(math.hypot(e, n))} mm in plan{height}."
            )
    return out
