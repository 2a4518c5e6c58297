"""Fit: carries one set of positions onto another through pairs, in plan and in height, and judges the result.

The plan is a similarity (module similarity), the height a shift or a tilted plane (module heights). Residuals
are computed - known. Everything statistical comes from the estimation engine.
"""

from __future__ import annotations

import math
from dataclasses import dataclass, field, fields, replace
from functools import cached_property
from itertools import repeat

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.estimation.engine import Adjustment
from fenwind.procedures import heights, similarity
from fenwind.procedures.carry import CarriedTogether, carry, pivot_pair_covariance, used_pair_covariance
from fenwind.procedures.heights import HeightCorrection
from fenwind.procedures.model_choice import ModelTrial, compare_models
from fenwind.procedures.positions import ASSUMED_SIGMA_H_M, ASSUMED_SIGMA_V_M, Positions
from fenwind.procedures.similarity import PairSet, Similarity

FloatArray = NDArray[np.float64]
BoolArray = NDArray[np.bool_]


@dataclass(frozen=True, slots=True, kw_only=True)
class FitOptions:
    """What to fit. horizontal: auto, shift, turn, scale or pivot; height: none, shift or plane.

    check: names compared only; no_horizontal, no_height: names not held in that part. pivot: two names, the
    first held exactly, the second giving the direction. rotation_rad, scale: given values, held exactly.
    Tolerances in metres.
    """

    horizontal: str = "auto"
    height: str = "shift"
    pivot: tuple[str, str] | None = None
    rotation_rad: float | None = None
    scale: float | None = None
    check: frozenset[str] = frozenset()
    no_horizontal: frozenset[str] = frozenset()
    no_height: frozenset[str] = frozenset()
    off: frozenset[str] = frozenset()
    tolerance_h_m: float = 0.010
    tolerance_v_m: float = 0.020


@dataclass(frozen=True, kw_only=True, eq=False)
class PairTable:
    """Arrays over the pairs (k,) in the order of the measured marks; nan where there is no value.

    de_m, dn_m, dh_m: computed - known. loo_*: what these would be, had the pair not taken part; loo_h_m their
    length in plan. redundancy (3, k) for E, N, height; standardised (3, k); detectable (3, k) in metres.
    """

    names: tuple[str, ...]
    measured_rows: NDArray[np.intp]
    known_rows: NDArray[np.intp]
    used_h: BoolArray
    used_v: BoolArray
    de_m: FloatArray
    dn_m: FloatArray
    dh_m: FloatArray
    loo_e_m: FloatArray
    loo_n_m: FloatArray
    loo_v_m: FloatArray
    redundancy: FloatArray
    standardised: FloatArray
    detectable: FloatArray

    def where(self, chosen: BoolArray) -> PairTable:
        """Some of the pairs."""
        return PairTable(
            names=tuple(n for n, yes in zip(self.names, chosen.tolist(), strict=True) if yes),
            **{f.name: getattr(self, f.name)[..., chosen] for f in fields(self) if f.name != "names"},
        )

    @cached_property
    def loo_h_m(self) -> FloatArray:
        """Leave-one-out misfit in plan (k,), a length."""
        return np.asarray(np.hypot(self.loo_e_m, self.loo_n_m))

    @cached_property
    def misfit_h_m(self) -> FloatArray:
        """Residual in plan (k,), a length."""
        return np.asarray(np.hypot(self.de_m, self.dn_m))


@dataclass(frozen=True, kw_only=True, eq=False)
class FitResult:
    """Result of fit. variance_scale: 1, or the variance factors in plan and height that uncertainties were
    multiplied by because no sigmas were given; nan where nothing is left over to estimate them from, then no
    uncertainty is known. carried: every measured mark in the target system."""

    options: FitOptions
    model: str
    plan: Similarity
    height: HeightCorrection
    pairs: PairTable
    models: tuple[ModelTrial, ...]
    carried: Positions
    plan_adjustment: Adjustment = field(repr=False)
    height_adjustment: Adjustment | None = field(repr=False)
    sigmas_assumed: bool
    variance_scale: tuple[float, float]

    def forward(self, points: Positions) -> Positions:
        """Carry other positions of the source system; covariance contains the fit's own where that is
        known. Sigmas that came with a position are never scaled."""
        covariance, _ = with_sigmas(points)
        given = np.isfinite(points.covariance[0, 0])
        own = np.where(given, covariance, covariance * self._own_scale())
        plan = replace(self.plan, covariance=np.nan_to_num(self.plan.covariance))
        height = replace(self.height, covariance=np.nan_to_num(self.height.covariance))
        return carry(plan, height, points, own)

    def _own_scale(self) -> FloatArray:
        """What the marks' own covariances are multiplied by, (3, 3, 1)."""
        root = np.sqrt([self.variance_scale[0], self.variance_scale[0], self.variance_scale[1]])
        return np.asarray((root[:, None] * root)[:, :, None])

    def inverse(
        self, e_m: FloatArray, n_m: FloatArray, height_m: FloatArray
    ) -> tuple[FloatArray, FloatArray, FloatArray]:
        """Carry target positions (k,) back onto the source system."""
        e, n = self.plan.inverse(e_m, n_m)
        return e, n, np.asarray(height_m - self.height.correction(e_m, n_m))

    def backward(self, points: Positions) -> Positions:
        """Carry positions of the target system back; covariance contains the fit's own at those places."""
        e, n, height = self.inverse(points.e_m, points.n_m, points.height_m)
        there = replace(
            points, e_m=e, n_m=n, height_m=height, covariance=np.zeros(points.covariance.shape), joint=None
        )
        total = self.forward(there).covariance + points.covariance
        c, s = math.cos(self.plan.rotation_rad), math.sin(self.plan.rotation_rad)
        turn = np.array([[c, -s, 0.0], [s, c, 0.0], [0.0, 0.0, self.plan.scale]]) / self.plan.scale
        return replace(there, covariance=np.einsum("ij,jlk,ml->imk", turn, total, turn))


def match(
    measured: Positions, known: Positions, off: frozenset[str]
) -> tuple[tuple[str, ...], NDArray[np.intp], NDArray[np.intp]]:
    """Names that stand in both sets and are not switched off, in the order of the measured ones, with their
    rows in both."""
    if measured.names == known.names:
        rows = np.arange(len(measured))
    else:
        rows = np.fromiter(
            map(known.index.get, measured.names, repeat(-1)), dtype=np.intp, count=len(measured)
        )
    for name in off & measured.index.keys():
        rows[measured.index[name]] = -1
    m_rows = np.flatnonzero(rows >= 0)
    names = measured.names if m_rows.size == len(measured) else tuple(measured.names[i] for i in m_rows)
    return names, m_rows, rows[m_rows]


def _without(excluded: frozenset[str], place: dict[str, int]) -> BoolArray:
    """True for every pair but the named ones."""
    flags = np.ones(len(place), dtype=bool)
    flags[[place[name] for name in excluded]] = False
    return flags


def selector(mask: BoolArray) -> NDArray[np.intp] | slice:
    """What selects the true rows; a slice, which copies nothing, when all are true."""
    return slice(None) if mask.all() else np.flatnonzero(mask)


def fit(measured: Positions, known: Positions, options: FitOptions) -> FitResult:
    """Carry `measured` onto `known`.

    Raises ProcedureError when pairs are missing for what is asked, or options contradict each other;
    EstimationError for covariances that are not positive definite.
    """
    names, m_rows, k_rows = match(measured, known, options.off)
    if not names:
        raise ProcedureError(
            "no mark stands in both sets under the same name", hint="Give marks the same names in both sets"
        )
    measured = measured.beside(m_rows, heights=options.height != "none")
    place = measured.index if names is measured.names else {name: i for i, name in enumerate(names)}
    _check_options(options, names, place)
    source_cov, lacking = with_sigmas(measured)
    # Where one pair has no sigma, only the misfits of all can say how good they are.
    assumed = bool(lacking[m_rows].any())
    pairs_cov = source_cov[:, :, slice(None) if names is measured.names else m_rows]
    known_cov = _finite_or_zero(known.covariance, k_rows)
    held = _without(options.check, place)
    in_plan = np.isfinite(known.e_m[k_rows]) & np.isfinite(known.n_m[k_rows])
    used_h = held & in_plan & _without(options.no_horizontal, place)
    if options.horizontal == "pivot":
        used_h = ~_without(frozenset(options.pivot or ()), place)
    everything = PairSet(
        source=np.stack([measured.e_m[m_rows], measured.n_m[m_rows]]),
        target=np.stack([known.e_m[k_rows], known.n_m[k_rows]]),
        source_covariance=pairs_cov[:2, :2],
        target_covariance=known_cov[:2, :2],
    )
    plan, model, plan_adj, trials = _fit_plan(everything, used_h, names, options, assumed)
    all_e, all_n = plan.forward(measured.e_m, measured.n_m)
    pair_e, pair_n = all_e[m_rows], all_n[m_rows]
    known_h, measured_h = known.height_m[k_rows], measured.height_m[m_rows]
    has_height = np.isfinite(known_h) & np.isfinite(measured_h)
    used_v = held & has_height & _without(options.no_height, place) & (options.height != "none")
    correction, height_adj = heights.no_correction(), None
    if options.height != "none":
        variance = pairs_cov[2, 2] + known_cov[2, 2]
        correction, height_adj = heights.estimate(
            options.height,
            *(values[selector(used_v)] for values in (pair_e, pair_n, measured_h, known_h, variance)),
        )
    dh = np.where(has_height, correction.forward(pair_e, pair_n, measured_h) - known_h, np.nan)
    residual = np.stack([pair_e - everything.target[0], pair_n - everything.target[1], dh])
    table = _pair_table(names, m_rows, k_rows, used_h, used_v, residual, plan_adj, height_adj, model)
    if model != "pivot":
        table = _exact_where_it_matters(table, everything, used_h, model, options)
    result = FitResult(
        options=options,
        model=model,
        plan=plan,
        height=correction,
        pairs=table,
        models=trials,
        carried=carry(plan, correction, measured, source_cov, _took_part(table, len(measured))),
        plan_adjustment=plan_adj,
        height_adjustment=height_adj,
        sigmas_assumed=assumed,
        variance_scale=_variance_scale(plan_adj, height_adj, assumed),
    )
    result = _with_pair_covariances(result, everything, measured, source_cov, pairs_cov, known_cov)
    return _scaled(result) if assumed else _without_assumed(result, lacking)


def _took_part(table: PairTable, k: int) -> tuple[BoolArray, BoolArray]:
    """Measured marks (k,) that took part in plan and in height."""
    plan, height = np.zeros(k, dtype=bool), np.zeros(k, dtype=bool)
    plan[table.measured_rows[table.used_h]] = height[table.measured_rows[table.used_v]] = True
    return plan, height


def _with_pair_covariances(
    result: FitResult,
    pairs: PairSet,
    measured: Positions,
    measured_cov: FloatArray,
    source_cov: FloatArray,
    known_cov: FloatArray,
) -> FitResult:
    """Put right the covariance of the marks that took part, whose own errors have gone into the fit."""
    covariance, table = np.array(result.carried.covariance), result.pairs
    used_h, used_v = selector(table.used_h), selector(table.used_v)
    everything = table.measured_rows.size == len(result.carried)

    def rows_of(used: NDArray[np.intp] | slice) -> NDArray[np.intp] | slice:
        return used if everything and isinstance(used, slice) else table.measured_rows[used]

    pivot_known, rows_h = None, table.measured_rows[used_h]
    if result.model == "pivot":
        order = np.array([table.names.index(n) for n in result.options.pivot or ()])
        rows_h, pivot_known = table.measured_rows[order], known_cov[:2, :2, order]
        covariance[:2, :2, rows_h] = pivot_pair_covariance(result.plan, pairs.take(order))
    else:
        own = used_pair_covariance(result.plan, result.plan_adjustment, source_cov[:2, :2, used_h])
        covariance[:2, :2, rows_of(used_h)] = own
    if result.height_adjustment is not None:
        mine = source_cov[2, 2, used_v]
        hat = result.height_adjustment.hat_blocks[0, 0]
        covariance[2, 2, rows_of(used_v)] = hat * (mine + known_cov[2, 2, used_v]) + mine - 2.0 * hat * mine
    joint = CarriedTogether(
        plan=result.plan,
        height=result.height,
        plan_adjustment=result.plan_adjustment,
        height_adjustment=result.height_adjustment,
        variance_scale=result.variance_scale,
        points=measured,
        own=measured_cov,
        used_h=rows_h,
        used_v=table.measured_rows[used_v],
        pivot_known=pivot_known,
    )
    return replace(result, carried=replace(result.carried, covariance=covariance, joint=joint))


def _scaled(result: FitResult) -> FitResult:
    """Multiply every covariance by the variance factors where no sigmas were given."""
    scale_h, scale_v = result.variance_scale
    if (scale_h, scale_v) == (1.0, 1.0):
        return result
    return replace(
        result,
        plan=replace(result.plan, covariance=_times(result.plan.covariance, scale_h)),
        height=replace(result.height, covariance=_times(result.height.covariance, scale_v)),
        carried=replace(result.carried, covariance=result.carried.covariance * result._own_scale()),
    )


def _without_assumed(result: FitResult, lacking: BoolArray) -> FitResult:
    """In a fit of given sigmas a mark without one has no uncertainty: nothing says how good it is."""
    if not lacking.any():
        return result
    covariance = np.array(result.carried.covariance)
    covariance[:, :, lacking] = np.nan
    return replace(result, carried=replace(result.carried, covariance=covariance))


def _times(covariance: FloatArray, scale: float) -> FloatArray:
    """Scaled, but for what is held: that stays zero even where the scale is not known."""
    return np.where(covariance == 0.0, 0.0, covariance * scale)


def _check_options(options: FitOptions, names: tuple[str, ...], place: dict[str, int]) -> None:
    if options.horizontal not in ("auto", "shift", "turn", "scale", "pivot") or options.height not in (
        "none",
        "shift",
        "plane",
    ):
        raise ProcedureError(
            f"{options.horizontal!r} in plan with {options.height!r} in height is not a fit",
            hint="Use auto, shift, turn, scale or pivot in plan, and none, shift or plane in height",
        )
    unknown = [
        n
        for group in (options.check, options.no_height, options.no_horizontal, options.pivot or ())
        for n in group
        if n not in names
    ]
    if unknown:
        raise ProcedureError(
            f"{unknown[0]} is not a pair of this fit",
            hint=f"Pairs are {', '.join(names[:12])}",
            marks=(unknown[0], *names[:12]),
        )
    if options.horizontal == "pivot" and (options.pivot is None or options.pivot[0] == options.pivot[1]):
        raise ProcedureError(
            "a pivot needs two different pairs",
            hint="Name the pair held exactly and the pair that gives the direction",
        )
    if options.horizontal == "pivot" and set(options.pivot or ()) & options.check:
        raise ProcedureError(
            "a pivot pair cannot be a check", hint="Choose another check, or another pivot pair"
        )
    if options.scale is not None and not options.scale > 0.0:
        raise ProcedureError("a scale must be above zero", hint="Give a scale near 1")


def with_sigmas(points: Positions) -> tuple[FloatArray, BoolArray]:
    """Covariance (3, 3, k) with the assumed sigmas where none are given, and for which (k,) the one in plan
    was assumed."""
    if np.isfinite(points.covariance).all():
        return points.covariance, np.zeros(len(points), dtype=bool)
    covariance = np.array(points.covariance)
    no_h, no_v = ~np.isfinite(covariance[0, 0]), ~np.isfinite(covariance[2, 2])
    for axis, missing, sigma in (
        (0, no_h, ASSUMED_SIGMA_H_M),
        (1, no_h, ASSUMED_SIGMA_H_M),
        (2, no_v, ASSUMED_SIGMA_V_M),
    ):
        covariance[axis, axis, missing] = sigma**2
    covariance[np.isnan(covariance)] = 0.0
    return covariance, no_h


def _finite_or_zero(covariance: FloatArray, rows: NDArray[np.intp]) -> FloatArray:
    """Covariances (3, 3, k) of known positions, which are exact where nothing is said of them."""
    if np.isnan(covariance[0, 0]).all() and np.isnan(covariance[2, 2]).all():
        return np.zeros((3, 3, rows.size))
    taken = covariance[:, :, rows]
    return np.where(np.isfinite(taken), taken, 0.0)


def _fit_plan(
    pairs: PairSet, used: BoolArray, names: tuple[str, ...], options: FitOptions, assumed: bool
) -> tuple[Similarity, str, Adjustment, tuple[ModelTrial, ...]]:
    held = pairs.take(selector(used))
    if options.horizontal == "pivot":
        assert options.pivot is not None
        both = pairs.take(np.array([names.index(n) for n in options.pivot]))
        plan, adjustment = similarity.pivot(both)
        return plan, "pivot", adjustment, ()
    tried: dict[str, tuple[Similarity, Adjustment]] = {}
    first_error: ProcedureError | None = None
    ready = similarity.prepare(held)
    for model in similarity.FREE:
        try:
            tried[model] = similarity.estimate(ready, model, options.rotation_rad, options.scale)
        except ProcedureError as error:
            if not tried or model == options.horizontal:
                first_error = first_error or error
    if first_error is not None:
        raise first_error
    trials = compare_models(
        tried, assumed, np.sqrt(np.mean(held.source_covariance[0, 0] + held.target_covariance[0, 0]))
    )
    model = (
        options.horizontal if options.horizontal != "auto" else next(t.model for t in trials if t.recommended)
    )
    plan, adjustment = tried[model]
    return plan, model, adjustment, trials


def _pair_table(
    names: tuple[str, ...],
    m_rows: NDArray[np.intp],
    k_rows: NDArray[np.intp],
    used_h: BoolArray,
    used_v: BoolArray,
    residual: FloatArray,
    plan: Adjustment,
    height: Adjustment | None,
    model: str,
) -> PairTable:
    loo = np.array(residual)
    redundancy, standardised = np.full(residual.shape, np.nan), np.full(residual.shape, np.nan)
    detectable = np.full(residual.shape, np.nan)
    h, v = selector(used_h), selector(used_v)
    if model == "pivot":
        loo[:2, h] = np.nan
        redundancy[:2, h] = 0.0
    else:
        loo[:2, h] = plan.deleted_residuals
        redundancy[:2, h], standardised[:2, h], detectable[:2, h] = (
            plan.redundancy,
            plan.standardised,
            plan.detectable,
        )
    if height is not None:
        loo[2, v] = height.deleted_residuals[0]
        redundancy[2, v], standardised[2, v] = height.redundancy[0], height.standardised[0]
        detectable[2, v] = height.detectable[0]
    return PairTable(
        names=names,
        measured_rows=m_rows,
        known_rows=k_rows,
        used_h=used_h,
        used_v=used_v,
        de_m=residual[0],
        dn_m=residual[1],
        dh_m=residual[2],
        loo_e_m=loo[0],
        loo_n_m=loo[1],
        loo_v_m=loo[2],
        redundancy=redundancy,
        standardised=standardised,
        detectable=detectable,
    )


def _exact_where_it_matters(
    table: PairTable, pairs: PairSet, used: BoolArray, model: str, options: FitOptions
) -> PairTable:
    """Refit without the pair where the first-order misfit is not good to a tenth of a millimetre.

    The neglected term is about misfit² / extent; only gross blunders reach it, so few pairs are ever
    refitted.
    """
    extent = float(np.ptp(pairs.source[:, selector(used)], axis=1).max(initial=0.0)) or 1.0
    square = table.loo_e_m**2 + table.loo_n_m**2
    matters = np.flatnonzero(used & (square > 1e-4 * extent))
    if not matters.size:
        return table
    rows, loo_e, loo_n = np.flatnonzero(used), np.array(table.loo_e_m), np.array(table.loo_n_m)
    for row in matters[np.argsort(-square[matters])[:50]]:
        rest = pairs.take(rows[rows != row])
        plan, _ = similarity.estimate(rest, model, options.rotation_rad, options.scale)
        e, n = plan.forward(pairs.source[0, row], pairs.source[1, row])
        loo_e[row], loo_n[row] = e - pairs.target[0, row], n - pairs.target[1, row]
    return replace(table, loo_e_m=loo_e, loo_n_m=loo_n)


#: Variance factors below this are those of residuals that are rounding: nothing is left over to judge by.
LEAST_FACTOR = 1e-10


def _variance_scale(plan: Adjustment, height: Adjustment | None, assumed: bool) -> tuple[float, float]:
    if not assumed:
        return 1.0, 1.0
    factor_h = plan.variance_factor
    factor_v = height.variance_factor if height is not None else 1.0
    return (
        np.nan if factor_h is None or factor_h < LEAST_FACTOR else factor_h,
        np.nan if factor_v is None or factor_v < LEAST_FACTOR else factor_v,
    )
