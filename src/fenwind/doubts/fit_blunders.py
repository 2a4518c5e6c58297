"""Rules that name a blunder behind a bad fit: units, swapped axes, exchanged names, a longitude without its
sign."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.doubts.registry import Doubt, Remedy
from fenwind.estimation.distributions import chi2_quantile, chi2_tail, f_tail
from fenwind.geodesy.area import inside_area
from fenwind.procedures import similarity
from fenwind.procedures.fit_case import FitCase
from fenwind.procedures.similarity import PairSet, Similarity
from fenwind.quantities.lengths import (
    FOOT,
    KILOMETRE,
    METRE,
    MILLIMETRE,
    US_SURVEY_FOOT,
    LengthUnit,
    format_way,
)
from fenwind.quantities.numbers import format_fixed

FloatArray = NDArray[np.float64]

#: Level, shared among the pairs, at which a leave-one-out misfit stands out.
OUTLIER_ALPHA = 0.01
_UNITS = (METRE, FOOT, US_SURVEY_FOOT, KILOMETRE, MILLIMETRE)


@dataclass(frozen=True, slots=True, kw_only=True)
class _Ratio:
    value: float
    spread: float


def _distance_ratio(pairs: PairSet) -> _Ratio | None:
    """Median over the pairs of known / measured distance between neighbours in the list and across it, and
    its spread."""
    k = pairs.source.shape[1]
    if k < 2:
        return None
    shifts = [s for s in {1, k // 3, k // 2} if 0 < s < k]
    source = np.concatenate([np.hypot(*(pairs.source - np.roll(pairs.source, s, axis=1))) for s in shifts])
    target = np.concatenate([np.hypot(*(pairs.target - np.roll(pairs.target, s, axis=1))) for s in shifts])
    far = source > 0.2 * np.median(source)
    if not far.any() or not (target[far] > 0).any():
        return None
    ratio = target[far] / source[far]
    middle = float(np.median(ratio))
    return _Ratio(value=middle, spread=float(1.4826 * np.median(np.abs(ratio - middle)) / middle))


def longitude_sign(case: FitCase) -> Iterator[Doubt]:
    """Longitudes that fall into the frame's area once their sign is changed."""
    if case.area is None or case.lat_rad is None or case.lon_rad is None:
        return
    outside = ~inside_area(case.area, case.lat_rad, case.lon_rad)
    flipped = outside & inside_area(case.area, case.lat_rad, -case.lon_rad)
    if flipped.any():
        names = tuple(case.measured.names[i] for i in np.flatnonzero(flipped))
        listed = ", ".join(names[:3]) + (f" and {len(names) - 3} more" if len(names) > 3 else "")
        degrees = float(np.degrees(case.lon_rad[np.flatnonzero(flipped)[0]]))
        yield Doubt(
            rule="fit.longitude-sign",
            subject=case.subject,
            names=names,
            text=f"The longitude of {listed} lacks its sign or has one too many: "
            f"{format_fixed(degrees, 4)}° is outside the frame's area of "
            f"use, {format_fixed(-degrees, 4)}° is inside.",
            value=degrees,
            limit=float(np.degrees(case.area[0] if degrees < 0 else case.area[2])),
            unit="deg",
            limit_source="area of use in the EPSG dataset",
            grave=True,
        )


def unit_ratio(case: FitCase) -> Iterator[Doubt]:
    """All distances off by the ratio of two length units."""
    case = case.in_plan
    ratio = _distance_ratio(case.pairs)
    if ratio is None or ratio.value <= 0.0 or abs(math.log(ratio.value)) < 1e-4:
        return
    # The two feet against each other are 2 ppm apart, which no ratio of 0.1 % can mean.
    couples = [
        (abs(math.log(ratio.value * k.metres / m.metres)), m, k)
        for m in _UNITS
        for k in _UNITS
        if m is not k and {m.key, k.key} != {"ft", "ftUS"}
    ]
    off, measured, known = min(couples, key=lambda c: c[0])
    if off > 1e-3 + 3.0 * ratio.spread or ratio.spread > 0.01:
        return
    feet = {measured.key, known.key} & {"ft", "ftUS"}
    other = _other_foot(measured, known)
    undecided = feet and other is not None and ratio.spread + off > 1e-6
    words = f"{_plural(known)} against {_plural(measured)}"
    if undecided:
        words += ", or the other foot: the two feet differ by 2 ppm, which these distances do not resolve"
    yield Doubt(
        rule="fit.unit-ratio",
        subject=case.subject,
        names=case.result.pairs.names,
        text=f"Distances between all pairs differ by the factor {ratio.value:.7f}: known positions in "
        f"{words}?",
        value=ratio.value,
        limit=1.0,
        unit="",
        limit_source="definitions of the units",
        grave=True,
    )


#: How near the part by which coordinates differ must be to that of the two feet.
FEET_NEAR = 0.1


def two_feet(case: FitCase) -> Iterator[Doubt]:
    """Easting and northing off together by the 2 ppm that lie between the two feet: seen in large
    coordinates, never in the distances between the pairs."""
    pairs = case.in_plan.pairs
    middle, shift = pairs.source.mean(axis=1), (pairs.target - pairs.source).mean(axis=1)
    if not np.isfinite(shift).all() or np.abs(middle).min(initial=np.inf) < 1e4:
        return
    part, feet = shift / middle, US_SURVEY_FOOT.metres / FOOT.metres - 1.0
    sign = np.sign(part[0])
    left = pairs.target - pairs.source * (1.0 + sign * feet)
    off = float(np.hypot(*shift))
    near = np.abs(np.abs(part) / feet - 1.0) < FEET_NEAR
    if not near.all() or sign != np.sign(part[1]) or float(np.abs(left).max()) > 0.2 * off:
        return
    yield Doubt(
        rule="fit.two-feet",
        subject=case.subject,
        names=case.result.pairs.names,
        text="Easting and northing are off together by "
        f"{format_fixed(float(part.mean()) * 1e6, 2, sign=True)} "
        f"ppm of themselves, {format_way(off)}: US survey feet against international feet?",
        value=float(part.mean()) * 1e6,
        limit=feet * 1e6,
        unit="ppm",
        limit_source="definitions of the units",
        grave=True,
    )


def _other_foot(measured: LengthUnit, known: LengthUnit) -> LengthUnit | None:
    for unit in (measured, known):
        if unit.key == "ft":
            return US_SURVEY_FOOT
        if unit.key == "ftUS":
            return FOOT
    return None


def _plural(unit: LengthUnit) -> str:
    return unit.name.replace("foot", "feet") if "foot" in unit.name else f"{unit.name}s"


def swapped_axes(case: FitCase) -> Iterator[Doubt]:
    """Northing and easting exchanged, in the whole list or for single marks."""
    case = case.in_plan
    pairs, names = case.pairs, case.result.pairs.names
    tolerance = case.result.options.tolerance_h_m
    if len(names) >= 3 and case.majority is None:
        errors = []
        for target in (pairs.target, pairs.target[::-1]):
            _, adjustment = similarity.estimate(similarity.alike(pairs.source, target), "scale")
            errors.append(float(np.median(np.hypot(*adjustment.residuals))))
        if errors[0] > 20.0 * tolerance and errors[1] < 0.05 * errors[0]:
            yield Doubt(
                rule="fit.swapped-axes",
                subject=case.subject,
                names=names,
                text="Northing and easting look exchanged in one of the two lists: exchanged, the pairs "
                f"agree to {format_way(errors[1])} "
                f"instead of {format_way(errors[0])}.",
                value=errors[0],
                limit=20.0 * tolerance,
                grave=True,
                remedies=(
                    Remedy(kind="swap-axes", label="exchange E and N of the known positions", names=names),
                ),
            )
    if case.majority is None:
        return
    east, north = case.majority.plan.forward(pairs.source[0], pairs.source[1])
    as_given = np.hypot(east - pairs.target[0], north - pairs.target[1])
    exchanged = np.hypot(east - pairs.target[1], north - pairs.target[0])
    for i in np.flatnonzero(
        ~case.majority.agrees & (exchanged < 10.0 * tolerance) & (as_given > 50.0 * tolerance)
    ):
        yield Doubt(
            rule="fit.swapped-axes",
            subject=case.subject,
            names=(names[i],),
            text=f"{names[i]} lies {format_way(float(as_given[i]))} from where the other pairs put it; with "
            "easting and northing exchanged "
            "it falls into line.",
            value=float(as_given[i]),
            limit=10.0 * tolerance,
            grave=True,
            remedies=(Remedy(kind="swap-axes", label=f"exchange E and N of {names[i]}", names=(names[i],)),),
        )


def exchanged_names(case: FitCase) -> Iterator[Doubt]:
    """Two pairs whose names look exchanged."""
    case = case.in_plan
    if case.majority is None:
        return
    pairs, names = case.pairs, case.result.pairs.names
    rows = np.flatnonzero(~case.majority.agrees)[:200]
    east, north = case.majority.plan.forward(pairs.source[0, rows], pairs.source[1, rows])
    apart = np.hypot(east[:, None] - pairs.target[0, rows], north[:, None] - pairs.target[1, rows])
    limit = 10.0 * case.result.options.tolerance_h_m
    for i, j in zip(*np.nonzero(np.triu((apart < limit) & (limit > apart.T), 1)), strict=True):
        a, b = names[rows[i]], names[rows[j]]
        yield Doubt(
            rule="fit.exchanged-names",
            subject=case.subject,
            names=(a, b),
            text=f"The names {a} and {b} look exchanged: each was measured where the other is known, "
            f"{format_way(float(apart[i, i]))} from its own place.",
            value=float(apart[i, i]),
            limit=limit,
            grave=True,
            remedies=(Remedy(kind="exchange", label=f"exchange {a} and {b}", names=(a, b)),),
        )


def standing_out(case: FitCase) -> Iterator[Doubt]:
    """A pair whose leave-one-out misfit stands out, in plan or in height."""
    yield from _standing_out_in_plan(case.in_plan)
    yield from _standing_out_in_height(case)


def _standing_out_in_plan(case: FitCase) -> Iterator[Doubt]:
    """Pairs are judged by a fit through those that agree, so that the culprit cannot hide behind its
    neighbours."""
    table, majority, options = case.result.pairs, case.majority, case.result.options
    if majority is None or case.result.model == "pivot" or not (table.used_h & majority.agrees).any():
        return
    good, plan = _without_outliers(case, table.used_h & majority.agrees)
    east, north = plan.forward(case.pairs.source[0], case.pairs.source[1])
    misfit = np.hypot(east - case.pairs.target[0], north - case.pairs.target[1])
    for i in np.flatnonzero(table.used_h & ~good & (misfit > options.tolerance_h_m)):
        name = table.names[i]
        yield Doubt(
            rule="fit.outlier",
            subject=case.subject,
            names=(name,),
            text=f"{name} stands out: the other pairs put it {format_way(float(misfit[i]))} from its known "
            "position.",
            value=float(misfit[i]),
            limit=options.tolerance_h_m,
            limit_source="tolerance of this fit, and significant at 1 % over all pairs",
            grave=True,
            remedies=(Remedy(kind="check", label=f"hold out {name} as a check", names=(name,)),),
        )


def _without_outliers(case: FitCase, good: NDArray[np.bool_]) -> tuple[NDArray[np.bool_], Similarity]:
    """Take pairs out one by one while the worst is significant by its deleted residual; returns what is left
    and its fit."""
    options, assumed = case.result.options, case.result.sigmas_assumed
    model = case.result.model
    if options.horizontal == "auto" and case.majority is not None:
        extent = float(np.ptp(case.pairs.source, axis=1).max())
        model = "scale" if abs(case.majority.plan.scale - 1.0) * extent > options.tolerance_h_m else "turn"
    good = good.copy()
    while True:
        rows = np.flatnonzero(good)
        plan, adjustment = similarity.estimate(
            case.pairs.take(rows), model, options.rotation_rad, options.scale
        )
        drop, rest_dof = adjustment.deleted_statistic, adjustment.dof - 2
        if rest_dof < 1 or not np.isfinite(drop).any():
            return good, plan
        worst = int(np.nanargmax(drop))
        rest = max((adjustment.sum_squares - drop[worst]) / rest_dof, 1e-12 if assumed else 1.0)
        p = f_tail(drop[worst] / 2.0 / rest, 2, rest_dof) if assumed else chi2_tail(drop[worst] / rest, 2)
        size = float(np.hypot(*adjustment.deleted_residuals[:, worst]))
        if p > OUTLIER_ALPHA / len(case.result.pairs.names) or size < options.tolerance_h_m:
            return good, plan
        good[rows[worst]] = False


def _standing_out_in_height(case: FitCase) -> Iterator[Doubt]:
    adjustment, table = case.result.height_adjustment, case.result.pairs
    if adjustment is None or adjustment.dof < 2:
        return
    rows = np.flatnonzero(table.used_v)
    drop = adjustment.deleted_statistic
    if not np.isfinite(drop).any():
        return
    worst = int(np.nanargmax(drop))
    # Judged by the spread of the others, or by the given sigmas where those promise less.
    rest = max(
        (adjustment.sum_squares - drop[worst]) / (adjustment.dof - 1),
        0.0 if case.result.sigmas_assumed else 1.0,
    )
    reach = chi2_quantile(1.0 - OUTLIER_ALPHA / rows.size, 1)
    misfit = float(table.loo_v_m[rows[worst]])
    limit = max(
        case.result.options.tolerance_v_m, abs(misfit) * math.sqrt(reach * rest / max(drop[worst], 1e-300))
    )
    if abs(misfit) > limit:
        name = table.names[rows[worst]]
        yield Doubt(
            rule="fit.outlier-height",
            subject=case.subject,
            names=(name,),
            text=f"{name} stands out in height: the other pairs put it {format_way(abs(misfit))} "
            f"{'above' if misfit > 0 else 'below'} "
            "its known height.",
            value=abs(misfit),
            limit=limit,
            limit_source="chi-square at 1 % over all pairs",
            grave=True,
            remedies=(Remedy(kind="check", label=f"hold out {name} as a check", names=(name,)),),
        )
