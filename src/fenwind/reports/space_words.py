"""A fit in space in words."""

from __future__ import annotations

import math

import numpy as np

from fenwind.job.steps.space_fit import Carried
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.quantities.lengths import format_way
from fenwind.quantities.numbers import counted, format_fixed
from fenwind.reports.fit_report import mm

#: Below this the gain of the richer model is not taken for chance (decision 005).
ALPHA = 0.01


def verdict_words(found: Carried) -> str:
    """How many pairs, what they leave over, and which model they speak for."""
    used, count = int(found.used.sum()), len(found.pairs)
    pairs = counted(used, "pair")
    if used < count:
        pairs += f", {count - used} compared only"
    sigma = found.fit.sigma0_m
    said = f"{pairs}; " + (
        "nothing is left over to judge them by." if sigma is None
        else f"a coordinate is left over by {mm(sigma)} mm (one sigma)."
    )  # fmt: skip
    c = found.compared
    if math.isnan(c.p_value):
        return said
    better = "the turn and the scale are not chance" if c.p_value < ALPHA else (
        "a shift is enough: the gain may be chance"
    )  # fmt: skip
    chance = "below 0.001" if c.p_value < 0.001 else format_fixed(c.p_value, 3)
    return (
        f"{said} A shift alone leaves {format_way(c.shift_rms_m)} (root mean square), seven parameters "
        f"{format_way(c.seven_rms_m)}: {better} (p {chance})."
    )


def parameters_words(found: Carried) -> str:
    """The parameters with their sigmas: about the middle of the pairs, where they are not entangled, and
    about the geocentre, with the turn in both signs that are in use."""
    f = found.fit
    sigma = None if f.covariance is None else np.sqrt(np.maximum(np.diag(f.covariance), 0.0))
    shift = _three(f.shift_at_centre, None if sigma is None else sigma[:3], 1.0, 4, " m")
    words = [f"At the middle of the pairs: shift {shift}."]
    whole = ", ".join(f"{axis} {format_fixed(v, 4)}" for axis, v in zip("XYZ", f.shift, strict=True))
    words.append(f"At the geocentre: shift {whole} m.")
    if found.step.parameters == 7:
        turn = None if sigma is None else sigma[3:6]
        vector = _three(f.rotation, turn, RAD_PER_SECOND, 6, "\u2033")
        frame = _three(-f.rotation, None, RAD_PER_SECOND, 6, "\u2033")
        scale = f"{format_fixed(f.scale * 1e6, 5, sign=True)}"
        if sigma is not None:
            scale += f" \u00b1 {format_fixed(float(sigma[6]) * 1e6, 5)}"
        words.append(f"Turn, position vector: {vector}; coordinate frame: {frame}. Scale {scale} ppm.")
    return " ".join(words)


def _three(values: object, sigma: object, size: float, decimals: int, unit: str) -> str:
    v = np.asarray(values) / size
    s = None if sigma is None else np.asarray(sigma) / size
    parts = []
    for k, axis in enumerate("XYZ"):
        plus = "" if s is None else f" \u00b1 {format_fixed(float(s[k]), decimals)}"
        parts.append(f"{axis} {format_fixed(float(v[k]), decimals, sign=True)}{plus}")
    return f"{', '.join(parts)}{unit}"
