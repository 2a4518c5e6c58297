"""The vector between two static receivers from their phases and ranges.

First float, with the ionosphere held to what such a distance may differ by, so that both frequencies of every
arc find their integers (`integers`); then with these held, free of the ionosphere where two frequencies are
used. Errors of phases are correlated in time: the covariance is enlarged by what the residuals' own
autocorrelation says, 1 + 2 sum r(k) (Bartlett 1946, effective number of observations).
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.geodesy.geocentric import GRS80_A, GRS80_F, enu_axes, from_xyz
from fenwind.gnss.atmosphere import mapping, tropospheric_delay
from fenwind.gnss.differences import (
    Pairs,
    arcs,
    components,
    computed_difference,
    from_median,
    matched,
    pairs_of,
)
from fenwind.gnss.double_differences import GLOBAL, Normal, Part, normal_equations, residuals, weights
from fenwind.gnss.gps_time import TICKS, decimal_year
from fenwind.gnss.integers import searched
from fenwind.gnss.observations import Observations
from fenwind.gnss.other_files import AntennaType
from fenwind.gnss.point import PointResult
from fenwind.gnss.ranges import Geometry, geometry, ionosphere_free, phase_centre, rows_of, seconds_of
from fenwind.gnss.satellites import Sky, satellite_name
from fenwind.gnss.signals import SPEED_OF_LIGHT, Signal

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
Solution = Literal["fixed", "float", "code"]

#: One sigma at the zenith of a difference between receivers, metres: of a phase, and of a range.
SIGMA_PHASE, SIGMA_RANGE = 0.0028, 0.6
#: How much the ionosphere and the zenith troposphere may differ, metres: ever, by the kilometre, and the
#: troposphere by the metre of height.
IONOSPHERE = (0.005, 0.003)
TROPOSPHERE = (0.001, 0.0005, 0.00002)
#: A difference in the zenith troposphere under this sigma is not worth an unknown, metres.
NO_TROPOSPHERE = 0.002
#: The ionosphere is left open by so much once the integers are held, metres.
OPEN_IONOSPHERE = 1.0
#: Ambiguities that are searched together, and epochs that an arc needs to be among them.
MOST_TOGETHER, LEAST_EPOCHS = 36, 8
#: Ranges that differ from the others of their epoch by more are no ranges, metres.
GROSS_M = 30.0
#: Residuals over so many sigmas are left out.
OUT = 5.0
#: Tags of epochs in common differ by less, ticks.
WITHIN = TICKS // 10


@dataclass(frozen=True, kw_only=True, eq=False)
class Station:
    """One end: its file, signals by system, antenna reference point less mark (up, east, north), correction
    of its antenna, and its position by code."""

    obs: Observations
    signals: Mapping[str, Sequence[Signal]]
    delta: tuple[float, float, float]
    antenna: AntennaType | None
    point: PointResult


@dataclass(frozen=True, kw_only=True, eq=False)
class BaselineResult:
    """Mark of the rover less mark of the base (3,), geocentric, and its covariance (3, 3), m^2; how it was
    found; ratio and success rate of the first step to integers, None without; ambiguities held; slips; rms of
    the phases, metres (of the ranges where there are none); troposphere: zenith difference, None where it was
    not estimated."""

    vector: FloatArray
    covariance: FloatArray
    solution: Solution
    ratio: float | None
    success_rate: float | None
    ticks: IntArray
    used: dict[str, int]
    share: float
    ambiguities: int
    slips: int
    rms: float
    troposphere: float | None


def baseline(
    base: Station, rover: Station, base_xyz: FloatArray, sky: Sky, systems: Sequence[str], mask: float
) -> BaselineResult:
    """The vector, with the mark of the base held at base_xyz (3,). Raises ProcedureError where too little is
    in common."""
    work = _Work(base, rover, base_xyz, sky, systems, mask)
    work.gather(with_phases=False)
    code = work.by_code()
    # The air between both is computed for where the rover is; its position by code alone is not good enough.
    work.rover_mark = base_xyz + code.vector
    work.gather(with_phases=True)
    return work.by_phase() if work.rows >= 2 * GLOBAL and work.arcs else code


@dataclass(kw_only=True, eq=False)
class _System:
    """A system's pairs with what they are seen under."""

    pairs: Pairs
    elevation: FloatArray
    part: Part


class _Work:
    """One computation, step by step."""

    def __init__(
        self,
        base: Station,
        rover: Station,
        base_xyz: FloatArray,
        sky: Sky,
        systems: Sequence[str],
        mask: float,
    ) -> None:
        self.base, self.rover, self.sky, self.mask = base, rover, sky, mask
        self.wanted = list(systems)
        self.base_mark = base_xyz
        self.base_antenna = base_xyz + _lifted(base_xyz, base.delta)
        # Errors that both codes share fall out of their difference.
        rough = base_xyz + rover.point.xyz - base.point.xyz
        self.rover_mark = rough
        one, two = matched(base.obs.ticks, rover.obs.ticks, WITHIN)
        self.common = (one, two)
        # Of each epoch in common, its number in the file of base and of rover.
        self.epochs = [np.flatnonzero(c >= 0)[np.argsort(c[c >= 0])] for c in self.common]
        if not self.epochs[0].size:
            raise ProcedureError(
                "the two files have no epoch in common", hint="Give files that were logged together"
            )
        self.length_km = float(np.linalg.norm(rough - base_xyz)) / 1000.0
        heights = [float(from_xyz(x, GRS80_A, GRS80_F)[2]) for x in (base_xyz, rough)]
        self.rise = abs(heights[1] - heights[0])
        self.systems: list[_System] = []
        self.slips = self.arcs = self.above = 0

    @property
    def rows(self) -> int:
        """Rows of all systems."""
        return sum(s.pairs.epoch.size for s in self.systems)

    # Gathering
    # ----------------------------------------------------------------------------------------------------

    def gather(self, with_phases: bool) -> None:
        """Differences of all systems, by arcs."""
        self.systems, self.slips, self.arcs, self.above = [], 0, 0, 0
        for letter in self.wanted:
            signals = self.base.signals.get(letter), self.rover.signals.get(letter)
            if not signals[0] or not signals[1]:
                continue
            rows = [
                rows_of(s.obs, letter, tuple(some[:2]))
                for s, some in ((self.base, signals[0]), (self.rover, signals[1]))
            ]
            if rows[0].ranges.shape[1] != rows[1].ranges.shape[1]:
                continue
            pairs = pairs_of(rows[0], rows[1], *self.common, phases=with_phases)
            if pairs.epoch.size:
                self._add(
                    pairs,
                    rows[0].ranges[pairs.base_row, 0],
                    rows[1].ranges[pairs.rover_row, 0],
                    with_phases,
                )
        if not self.systems and not with_phases:
            raise ProcedureError(
                "the two files have no signals in common", hint="Name signals with --signals"
            )

    def _add(
        self,
        pairs: Pairs,
        base_range: FloatArray,
        rover_range: FloatArray,
        with_phases: bool,
    ) -> None:
        base_epoch, rover_epoch = self.epochs
        seen: list[Geometry] = []
        for station, epoch, range_, antenna in (
            (self.base, base_epoch[pairs.epoch], base_range, self.base_antenna),
            (
                self.rover,
                rover_epoch[pairs.epoch],
                rover_range,
                self.rover_mark + _lifted(self.rover_mark, self.rover.delta),
            ),
        ):
            tag = seconds_of(station.obs, self.sky.start)[epoch]
            seen.append(geometry(self.sky, pairs.code, tag, antenna, range_ / SPEED_OF_LIGHT))
        low = np.minimum(seen[0].elevation, seen[1].elevation)
        fine = np.isfinite(seen[0].distance + seen[1].distance + seen[0].clock + seen[1].clock) & (
            low > self.mask
        )
        self.above += int(fine.sum())
        seen_rows = np.flatnonzero(fine)
        plain = computed_difference(seen[0], seen[1])[seen_rows]
        for k in range(pairs.ranges.shape[1]):
            off = from_median(pairs.ranges[seen_rows, k] - plain, pairs.epoch[seen_rows])
            fine[seen_rows] &= np.abs(off) < GROSS_M
        kept = np.flatnonzero(fine)
        if not kept.size:
            return
        pairs, low = pairs.take(kept), low[kept]
        bases, rovers = (
            replace(g, distance=g.distance[kept], way=g.way[:, kept], elevation=g.elevation[kept],
                    azimuth=g.azimuth[kept], clock=g.clock[kept], delays=g.delays[kept])
            for g in seen
        )  # fmt: skip
        seconds = self.base.obs.ticks[base_epoch] / TICKS
        self._take(pairs, bases, rovers, low, seconds - seconds[0], with_phases)

    def _take(
        self, pairs: Pairs, bases: Geometry, rovers: Geometry, low: FloatArray, seconds: FloatArray,
        with_phases: bool,
    ) -> None:  # fmt: skip
        """Add a system's rows, all of which count: what was observed less what is computed, by arcs."""
        air, rise = self._air(bases, rovers)
        computed = computed_difference(bases, rovers) + air
        centres = self._centres(pairs.system, bases.way, rovers.way)
        ranges = pairs.ranges - computed[:, None] - centres
        phases = pairs.phases - computed[:, None] - centres
        design = np.concatenate([-rovers.way.T, rise[:, None]], axis=1)
        if not with_phases:
            part = Part(
                epoch=pairs.epoch, arc=np.zeros(low.size, dtype=np.int64), observed=ranges, design=design,
                weight=np.eye(ranges.shape[1]) * (np.sin(low)[:, None, None] / SIGMA_RANGE) ** 2, phases=0,
            )  # fmt: skip
            self.systems.append(_System(pairs=pairs, elevation=low, part=part))
            return
        arc, slips = arcs(pairs, phases, low, seconds, self.length_km)
        phases = phases - _whole_cycles(phases - ranges, arc, SPEED_OF_LIGHT / pairs.frequency)
        self.slips += slips
        part = Part(
            epoch=pairs.epoch, arc=arc + self.arcs, observed=np.concatenate([phases, ranges], axis=1),
            design=design, weight=np.zeros((0, 0, 0)), phases=phases.shape[1],
        )  # fmt: skip
        self.arcs += int(arc.max()) + 1
        self.systems.append(_System(pairs=pairs, elevation=low, part=part))

    def _air(self, base: Geometry, rover: Geometry) -> tuple[FloatArray, FloatArray]:
        """Difference of the slant tropospheres (m,), and how the zenith difference acts."""
        day = (decimal_year(int(self.base.obs.ticks[0])) % 1.0) * 365.25
        slants = []
        for xyz, g in ((self.base_mark, base), (self.rover_mark, rover)):
            lat, _, h = (float(v) for v in from_xyz(xyz, GRS80_A, GRS80_F))
            slants.append(tropospheric_delay(g.elevation, lat, h, day))
        _, wet = mapping(rover.elevation, lat, h, day)
        return slants[1] - slants[0], wet

    def _centres(self, letter: str, base_way: FloatArray, rover_way: FloatArray) -> FloatArray:
        out = []
        for station, xyz, way in (
            (self.base, self.base_mark, base_way),
            (self.rover, self.rover_mark, rover_way),
        ):
            lat, lon, _ = from_xyz(xyz, GRS80_A, GRS80_F)
            axes = enu_axes(np.atleast_1d(lat), np.atleast_1d(lon))[:, :, 0]
            bands = tuple(s.band for s in station.signals[letter][:2])
            out.append(phase_centre(station.antenna, letter, bands, axes @ way))
        return np.asarray(out[1] - out[0])

    # Solving
    # ----------------------------------------------------------------------------------------------------

    def by_code(self) -> BaselineResult:
        """Where there are no phases."""
        parts = [s.part for s in self.systems]
        normal = self._restrained(normal_equations(parts, 0, 0))
        x, cofactors = _solved(normal, {})
        rest = [residuals(p, x) for p in parts]
        factor, kappa = self._spread(rest, parts)
        return self._result(
            x, np.asarray(cofactors[:3, :3] * factor * kappa), "code", None, None, 0, rest, parts
        )

    def by_phase(self) -> BaselineResult:
        """Float, integers, and with these held again."""
        kinds = max(s.part.phases for s in self.systems)
        parts = self._weighted(self._ionosphere())
        for _ in range(2):
            normal = self._restrained(normal_equations(parts, self.arcs, kinds))
            reference = self._references(kinds)
            x, cofactors = _solved(normal, reference)
            parts = self._without_outliers(parts, x)
        factor, kappa = self._spread([residuals(p, x) for p in parts], parts)
        held, ratio, success = self._integers(normal, reference, kinds, factor * kappa)
        two = kinds == 2
        open_parts = self._kept(self._weighted(OPEN_IONOSPHERE if two else 0.0), parts)
        fixed = dict.fromkeys(reference, 0.0) | held
        for _ in range(2):
            last = self._restrained(normal_equations(open_parts, self.arcs, kinds))
            x, cofactors = _solved(last, fixed)
            open_parts = self._without_outliers(open_parts, x)
        rest = [residuals(p, x) for p in open_parts]
        factor, kappa = self._spread(rest, open_parts)
        satellites = {i // kinds for i in (k - GLOBAL for k in held)}
        solution: Solution = "fixed" if len(satellites) >= 4 else "float"
        covariance = np.asarray(cofactors[:3, :3] * factor * kappa)
        return self._result(x, covariance, solution, ratio, success, len(held), rest, open_parts)

    def _ionosphere(self) -> float:
        return IONOSPHERE[0] + IONOSPHERE[1] * self.length_km

    def _weighted(self, ionosphere: float) -> list[Part]:
        out = []
        for s in self.systems:
            single = s.part.phases == 1
            w = weights(
                s.elevation, s.pairs.frequency, SIGMA_PHASE, SIGMA_RANGE, 0.0 if single else ionosphere
            )
            out.append(replace(s.part, weight=w))
        return out

    def _restrained(self, normal: Normal) -> Normal:
        """With the zenith difference held to what such a distance may make."""
        sigma = TROPOSPHERE[0] + TROPOSPHERE[1] * self.length_km + TROPOSPHERE[2] * self.rise
        sigma = sigma if sigma > NO_TROPOSPHERE else 1e-5
        normal.matrix[3, 3] += 1.0 / sigma**2
        self.estimated = sigma > NO_TROPOSPHERE
        return normal

    def _references(self, kinds: int) -> list[int]:
        """Ambiguities that are held at nothing, one of each signal in every part that hangs together: of the
        longest arc."""
        out: list[int] = []
        for s in self.systems:
            first = int(s.part.arc.min())
            arc = s.part.arc - first
            count = int(arc.max()) + 1
            label = components(arc, s.part.epoch, count)
            length = np.bincount(arc, minlength=count)
            for one in np.unique(label).tolist():
                mine = np.flatnonzero(label == one)
                best = int(mine[length[mine].argmax()]) + first
                out += [GLOBAL + best * kinds + f for f in range(kinds)]
        used = {
            GLOBAL + int(a) * kinds + f
            for s in self.systems
            for a in np.unique(s.part.arc)
            for f in range(s.part.phases)
        }
        every = range(GLOBAL, GLOBAL + self.arcs * kinds)
        return [*out, *(i for i in every if i not in used and i not in out)]

    def _integers(
        self, normal: Normal, reference: list[int], kinds: int, inflation: float
    ) -> tuple[dict[int, float], float | None, float | None]:
        """Ambiguities that are integers, in metres by their unknown; ratio and success rate of the first
        step. Those best known are searched together, then the others beside what is held."""
        wavelength = self._wavelengths(kinds)
        open_ = [i for i in wavelength if i not in set(reference)]
        held: dict[int, float] = {}
        ratio = success = None
        while open_:
            fixed = dict.fromkeys(reference, 0.0) | held
            x, cofactors = _solved(normal, fixed)
            scale = np.array([wavelength[i] for i in open_])
            q = cofactors[np.ix_(open_, open_)] * inflation / np.outer(scale, scale)
            chosen = self._best_known(q, open_, kinds)
            found = searched(x[open_] / scale, q, chosen)
            if ratio is None and success is None and found is not None:
                ratio, success = found.ratio, found.success
            if found is None or not found.accepted:
                break
            rows = [open_[k] for k in found.rows]
            held |= {i: v * wavelength[i] for i, v in zip(rows, found.integers, strict=True)}
            open_ = [i for i in open_ if i not in held]
        return held, ratio, success

    def _best_known(self, q: FloatArray, open_: list[int], kinds: int) -> list[int]:
        """Rows of whole arcs, those of the least variance first, as many as are searched together."""
        variance: dict[int, float] = {}
        for k, i in enumerate(open_):
            arc = (i - GLOBAL) // kinds
            variance[arc] = max(variance.get(arc, 0.0), float(q[k, k]))
        order = sorted(variance, key=lambda a: variance[a])[: max(MOST_TOGETHER // kinds, 1)]
        wanted = set(order)
        return [k for k, i in enumerate(open_) if (i - GLOBAL) // kinds in wanted]

    def _wavelengths(self, kinds: int) -> dict[int, float]:
        """Wavelengths of ambiguities that are integers, metres: those of systems whose satellites all send on
        the same frequency, of arcs that are long enough."""
        out: dict[int, float] = {}
        for s in self.systems:
            if s.pairs.system == "R":
                continue
            arcs_, first, count = np.unique(s.part.arc, return_index=True, return_counts=True)
            for arc, row, n in zip(arcs_.tolist(), first.tolist(), count.tolist(), strict=True):
                if n >= LEAST_EPOCHS:
                    for f in range(s.part.phases):
                        out[GLOBAL + arc * kinds + f] = SPEED_OF_LIGHT / float(s.pairs.frequency[row, f])
        return out

    def _without_outliers(self, parts: list[Part], x: FloatArray) -> list[Part]:
        """The parts without rows whose phases, or ranges, lie over their limit; the weights of these are
        nothing from now on."""
        out = []
        rest = [residuals(p, x) for p in parts]
        sizes = [_sizes(r, p) for r, p in zip(rest, parts, strict=True)]
        live = [p.weight[:, 0, 0] > 0.0 for p in parts]
        spread = 1.4826 * float(np.median(np.concatenate([z[m] for z, m in zip(sizes, live, strict=True)])))
        for p, size, some in zip(parts, sizes, live, strict=True):
            keep = some & (size <= OUT * max(spread, 0.2))
            out.append(
                replace(p, weight=p.weight * np.where(keep, 1.0, 1e-12)[:, None, None])
                if not keep.all()
                else p
            )
        return out

    def _kept(self, fresh: list[Part], before: list[Part]) -> list[Part]:
        """New weights for the rows that were not left out."""
        out = []
        for p, old in zip(fresh, before, strict=True):
            out.append(replace(p, weight=p.weight * np.where(_live(old), 1.0, 1e-12)[:, None, None]))
        return out

    def _spread(self, rest: list[FloatArray], parts: list[Part]) -> tuple[float, float]:
        """Variance factor of the observations, and by how much correlation in time enlarges covariances."""
        squares, count = 0.0, 0
        lags = np.zeros(MOST_LAGS)
        pairs = np.zeros(MOST_LAGS)
        for r, p in zip(rest, parts, strict=True):
            live = _live(p)
            some = np.einsum("mi,mij,mj->m", r, p.weight, r)[live]
            squares += float(some.sum())
            count += int(live.sum()) * r.shape[1]
            series = _standardised(r, p)
            _correlate(series[live], p.arc[live], p.epoch[live], lags, pairs)
        epochs = sum(np.unique(p.epoch).size * p.observed.shape[1] for p in parts)
        unknowns = GLOBAL + (sum(np.unique(p.arc).size * p.phases for p in parts) if parts[0].phases else 0)
        two = parts[0].observed.shape[1] == 4 and parts[0].phases == 2
        # An ionosphere that is left open takes an observation of every row.
        lost = sum(int(_live(p).sum()) for p in parts) if two else 0
        factor = max(squares / max(count - epochs - unknowns - lost, 1), 0.04)
        r = np.where(pairs > 30, lags / np.maximum(pairs, 1.0), 0.0)
        arcs_ = sum(np.unique(p.arc[_live(p)]).size for p in parts)
        live_rows = sum(int(_live(p).sum()) for p in parts)
        return factor, enlargement(r, live_rows / max(arcs_, 1))

    def _result(
        self, x: FloatArray, covariance: FloatArray, solution: Solution, ratio: float | None,
        success: float | None, ambiguities: int, rest: list[FloatArray], parts: list[Part],
    ) -> BaselineResult:  # fmt: skip
        epochs, used, took = [], dict[str, int](), 0
        squares, number = 0.0, 0
        for r, p, s in zip(rest, parts, self.systems, strict=True):
            live = _live(p)
            epochs.append(s.pairs.epoch[live])
            codes, count = np.unique(s.pairs.code[live], return_counts=True)
            used |= {satellite_name(int(c)): int(n) for c, n in zip(codes, count, strict=True)}
            took += int(live.sum())
            value = _combined(r, p, s.pairs.frequency)[live]
            squares += float((value**2).sum())
            number += value.size
        vector = self.rover_mark + x[:3] - self.base_mark
        return BaselineResult(
            vector=vector, covariance=covariance, solution=solution, ratio=ratio, success_rate=success,
            ticks=self.base.obs.ticks[self.epochs[0][np.unique(np.concatenate(epochs))]], used=used,
            share=took / max(self.above, 1), ambiguities=ambiguities, slips=self.slips,
            rms=float(np.sqrt(squares / max(number, 1))), troposphere=float(x[3]) if self.estimated else None,
        )  # fmt: skip


#: Lags, in epochs, over which residuals may be correlated.
MOST_LAGS = 240


#: Correlations under this are noise.
LEAST_CORRELATION = 0.05


def enlargement(products: FloatArray, length: float) -> float:
    """By how much correlation enlarges a covariance: 1 + 2 sum r(k), from mean products of residuals so many
    epochs apart. The sum ends where they are lost in noise, and goes on from there as an exponential;
    residuals about a mean over `length` epochs are correlated less by the result over the length."""
    if not products[0] > 0.0:
        return 1.0
    r = products / products[0]
    small = np.flatnonzero(r < LEAST_CORRELATION)
    end = int(small[0]) if small.size else r.size
    if end <= 1:
        return 1.0
    fall = float(np.log(max(r[1], 2.0 * LEAST_CORRELATION) / LEAST_CORRELATION)) / max(end - 1, 1)
    tail = LEAST_CORRELATION / (1.0 - np.exp(-fall))
    out = 1.0
    for _ in range(4):
        out = 1.0 + 2.0 * float((r[1:end] + 0.5 * out / length).sum() + tail)
    return out


def _whole_cycles(ahead: FloatArray, arc: IntArray, wavelength: FloatArray) -> FloatArray:
    """Whole cycles (m, k), metres, by which phases are ahead of ranges at the beginning of their arcs: taken
    off, so that what is left is small and no digits are lost."""
    _, first, of = np.unique(arc, return_index=True, return_inverse=True)
    whole = np.round(ahead[first] / wavelength[first]) * wavelength[first]
    return np.asarray(whole[of])


def _lifted(xyz: FloatArray, delta: tuple[float, float, float]) -> FloatArray:
    """What an antenna reference point lies off its mark, geocentric (3,)."""
    lat, lon, _ = from_xyz(xyz, GRS80_A, GRS80_F)
    up, east, north = delta
    return np.asarray(
        enu_axes(np.atleast_1d(lat), np.atleast_1d(lon))[:, :, 0].T @ np.array([east, north, up])
    )


def _solved(normal: Normal, held: Mapping[int, float] | Sequence[int]) -> tuple[FloatArray, FloatArray]:
    """Unknowns (n,) and cofactors (n, n) with some held. Raises ProcedureError where they are not
    determined."""
    values = held if isinstance(held, Mapping) else dict.fromkeys(held, 0.0)
    size = normal.right.size
    fixed = np.array(sorted(values), dtype=np.intp)
    free = np.setdiff1d(np.arange(size), fixed)
    x, cofactors = np.zeros(size), np.zeros((size, size))
    x[fixed] = [values[int(i)] for i in fixed]
    right = normal.right[free] - normal.matrix[np.ix_(free, fixed)] @ x[fixed]
    matrix = normal.matrix[np.ix_(free, free)]
    scale = 1.0 / np.sqrt(np.maximum(np.diag(matrix), 1e-300))
    try:
        inverse = np.linalg.inv(matrix * scale[:, None] * scale)
    except np.linalg.LinAlgError as error:
        raise ProcedureError(
            "the observations in common do not determine the vector", hint="Log longer together"
        ) from error
    inverse = inverse * scale[:, None] * scale
    if not np.isfinite(inverse).all() or not (np.diag(inverse) > 0.0).all():
        raise ProcedureError(
            "the observations in common do not determine the vector", hint="Log longer together"
        )
    x[free] = inverse @ right
    cofactors[np.ix_(free, free)] = inverse
    return x, cofactors


def _live(part: Part) -> NDArray[np.bool_]:
    """Rows (m,) that were not left out as outliers."""
    return np.asarray(part.weight[:, 0, 0] > 1e-3)


def _sizes(rest: FloatArray, part: Part) -> FloatArray:
    """Size (m,) of each row's residuals in sigmas: the root of their weighted mean square, phases and ranges
    together."""
    size = np.sqrt(np.maximum(np.einsum("mi,mij,mj->m", rest, part.weight, rest), 0.0) / rest.shape[1])
    return np.asarray(size)


def _combined(rest: FloatArray, part: Part, frequency: FloatArray) -> FloatArray:
    """Residuals (m,) in metres of what the answer rests on: of the phases' ionosphere-free combination, of
    the one phase, or of the range."""
    if part.phases == 2:
        return ionosphere_free(rest[:, :2], frequency)
    return np.asarray(rest[:, 0])


def _standardised(rest: FloatArray, part: Part) -> FloatArray:
    """One residual (m,) a row, in sigmas: of the phases weighted as they count for the vector."""
    ones = part.weight.sum(axis=2)
    return np.asarray((ones * rest).sum(axis=1) / np.sqrt(np.maximum(ones.sum(axis=1), 1e-30)))


def _correlate(
    series: FloatArray, arc: IntArray, epoch: IntArray, lags: FloatArray, pairs: FloatArray
) -> None:
    """Add products of residuals so many epochs apart within their arcs."""
    order = np.lexsort((epoch, arc))
    series, arc, epoch = series[order], arc[order], epoch[order]
    for lag in range(min(lags.size, series.size)):
        same = (arc[lag:] == arc[: arc.size - lag]) & (epoch[lag:] == epoch[: epoch.size - lag] + lag)
        lags[lag] += float((series[lag:] * series[: series.size - lag])[same].sum())
        pairs[lag] += int(same.sum())
