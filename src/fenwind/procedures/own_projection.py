"""A projection of one's own: the transverse Mercator, Lambert conformal and oblique Mercator projections with
the least distortion over an area, made presentable.

Distortion d = k R / (R + h) - 1, R = sqrt(M N), k the point scale factor. For given lines of a projection
its scale is found directly, since d is linear in it; the lines are searched globally on a grid within 1,000
km of the area's middle, then by the downhill simplex of Nelder and Mead.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, Literal

import numpy as np
import pyproj
from numpy.typing import NDArray

from fenwind.errors import ProcedureError
from fenwind.geodesy.geocentric import gaussian_radius
from fenwind.geodesy.projection_scale import Places, lambert, oblique, transverse
from fenwind.progress import NULL_PROGRESS, Progress
from fenwind.quantities.angles import RAD_PER_DEGREE, wrap_all
from fenwind.quantities.lengths import LengthUnit

FloatArray = NDArray[np.float64]
Kind = Literal["tm", "lcc", "om"]
Aim = Literal["max", "p95", "rms"]
#: The simplest first.
KINDS: tuple[Kind, ...] = ("tm", "lcc", "om")

#: How far from the area's middle lines are looked for, metres.
REACH_M = 1_000_000.0
#: Latitudes that a parallel or a centre may have, degrees, and the cost of what may not be.
LEAST_LAT, MOST_LAT, NEVER = 0.1, 89.95, 1e12
#: Loss by rounding that is allowed for in the aim, parts.
LOSS = 0.5e-6
#: Points that the search looks at; the best is then refined on all.
SEARCHED = 1200
#: Points that the grid of lines is held against, how many lines at a time, and how often the worst places
#: are taken in.
LOOKED_AT, BATCH, EXCHANGES = 300, 64, 4
#: Figures closer than this are equal, parts.
EQUAL = 0.1e-6


@dataclass(frozen=True, kw_only=True, eq=False)
class Area:
    """Places (k,) with ellipsoidal heights and weights, radians and metres, on an ellipsoid."""

    lat: FloatArray
    lon: FloatArray
    h: FloatArray
    weight: FloatArray
    a: float
    b: float

    @cached_property
    def places(self) -> Places:
        """Where they are."""
        return Places(lat=self.lat, lon=self.lon, a=self.a, b=self.b)

    @cached_property
    def elevation(self) -> FloatArray:
        """R / (R + h)."""
        radius = gaussian_radius(self.lat, self.a, self.b)
        return np.asarray(radius / (radius + self.h))

    def middle(self) -> tuple[float, float]:
        """Latitude and longitude of the middle of what has weight, longitudes as directions."""
        on = self.weight > 0.0
        lat = 0.5 * (self.lat[on].min() + self.lat[on].max())
        centre = math.atan2(np.sin(self.lon[on]).sum(), np.cos(self.lon[on]).sum())
        off = wrap_all(self.lon[on] - centre)
        return float(lat), float(centre + 0.5 * (off.min() + off.max()))

    def part(self, rows: NDArray[np.intp]) -> Area:
        """Some of the places."""
        return replace(self, lat=self.lat[rows], lon=self.lon[rows], h=self.h[rows], weight=self.weight[rows])


@dataclass(frozen=True, slots=True, kw_only=True)
class Lines:
    """What a projection of a kind is laid along, degrees: its axis (tm: lon), parallel (lcc: lat), or
    centre and azimuth (om)."""

    kind: Kind
    lat: float
    lon: float
    azimuth: float = 0.0

    def proj(self, scale: float, fe: float = 0.0, fn: float = 0.0, ellipsoid: str = "") -> str:
        """As a PROJ string."""
        end = f"+x_0={fe:.15g} +y_0={fn:.15g} {ellipsoid} +units=m"
        if self.kind == "om":
            return (
                f"+proj=omerc +lat_0={self.lat:.15g} +lonc={self.lon:.15g} +alpha={self.azimuth:.15g} "
                f"+gamma={self.azimuth:.15g} +k_0={scale:.15g} {end}"
            )
        first = f" +lat_1={self.lat:.15g}" if self.kind == "lcc" else ""
        name = "tmerc" if self.kind == "tm" else "lcc"
        return f"+proj={name} +lat_0={self.lat:.15g}{first} +lon_0={self.lon:.15g} +k_0={scale:.15g} {end}"


@dataclass(frozen=True, kw_only=True, eq=False)
class Figures:
    """Distortion over an area, parts: largest, 95 %, rms, and the share of weight within a limit."""

    largest: float
    p95: float
    rms: float
    share: float

    def of(self, aim: Aim) -> float:
        """The figure of an aim."""
        return {"max": self.largest, "p95": self.p95, "rms": self.rms}[aim]


@dataclass(frozen=True, kw_only=True, eq=False)
class Candidate:
    """A projection: its lines, scale and false origin in metres, its figures, and where the area then lies
    (2, 2): lowest and highest e, then n. loss: what its figures lost, in the aim, by being rounded to what
    can be read out, parts."""

    lines: Lines
    scale: float
    fe: float
    fn: float
    figures: Figures
    box: FloatArray
    loss: float = 0.0


def figures(d: FloatArray, weight: FloatArray, limit: float) -> Figures:
    """Figures of distortions (k,) with weights; a limit is met by what equals it."""
    on = weight > 0.0
    size, w = np.abs(d[on]), weight[on]
    order = np.argsort(size)
    reached = np.cumsum(w[order]) >= 0.95 * w.sum() * (1.0 - 1e-12)
    return Figures(
        largest=float(size.max()), p95=float(size[order][int(np.argmax(reached))]),
        rms=float(math.sqrt(np.sum(w * size**2) / w.sum())), share=float(w[size <= limit].sum() / w.sum()),
    )  # fmt: skip


def distortions(area: Area, one: Candidate) -> FloatArray:
    """How far a projection is from the ground at an area's places (k,), parts."""
    return one.scale * point_scales(area, one.lines) * area.elevation - 1.0


def shares(d: FloatArray, weight: FloatArray, limits: Sequence[float]) -> tuple[float, ...]:
    """Shares of the weight that distortions (k,) keep within limits, parts."""
    size, total = np.abs(d), weight.sum()
    return tuple(float(weight[size <= limit].sum() / total) for limit in limits)


def best_scale(a: FloatArray, weight: FloatArray, aim: Aim) -> float:
    """The scale k that makes k a - 1 least, a (k,) being the factors with a scale of 1."""
    on = weight > 0.0
    a, w = a[on], weight[on]
    if aim == "max":
        return float(2.0 / (a.max() + a.min()))
    if aim == "rms":
        return float(np.sum(w * a) / np.sum(w * a * a))
    order = np.argsort(a)
    a, total = a[order], np.concatenate([[0.0], np.cumsum(w[order])])
    need = 0.95 * total[-1] * (1.0 - 1e-12)
    ends = np.searchsorted(total, total[:-1] + need)
    fine = ends <= a.size
    low, high = a[fine], a[ends[fine] - 1]
    best = int(np.argmin((high - low) / (high + low)))
    return float(2.0 / (low[best] + high[best]))


def _aimed(a: FloatArray, weight: FloatArray, aim: Aim) -> tuple[float, float]:
    """The aim's figure at the best scale for factors a (k,), and that scale."""
    if not np.isfinite(a).all():
        return math.inf, 1.0
    scale = best_scale(a, weight, aim)
    return figures(scale * a - 1.0, weight, 0.0).of(aim), scale


def _cost(area: Area, lines: Lines, aim: Aim) -> tuple[float, float]:
    """The aim's figure at the best scale, and that scale."""
    return _aimed(point_scales(area, lines) * area.elevation, area.weight, aim)


def point_scales(area: Area, lines: Lines) -> FloatArray:
    """Point scale factors (k,) with a scale of 1 on the lines."""
    lat, lon, azimuth = (v * RAD_PER_DEGREE for v in (lines.lat, lines.lon, lines.azimuth))
    return _scales(area, lines.kind, lat, lon, azimuth)


def _scales(area: Area, kind: Kind, lat: Any, lon: Any, azimuth: Any) -> FloatArray:
    with np.errstate(all="ignore"):
        if kind == "tm":
            return transverse(area.places, lon, turned=False)[0]
        if kind == "lcc":
            return lambert(area.places, lat, 0.0, turned=False)[0]
        return oblique(area.places, lat, lon, azimuth, turned=False)[0]


def _accepted(area: Area, lines: Lines) -> bool:
    """Whether PROJ has such a projection, and sees the area's scales as they are here."""
    few = area.part(np.array([0, area.lat.size // 2, area.lat.size - 1]))
    try:
        proj = pyproj.Proj(lines.proj(1.0, ellipsoid=f"+a={area.a!r} +b={area.b!r}"))
        found = proj.get_factors(few.lon, few.lat, radians=True)
    except (pyproj.exceptions.ProjError, pyproj.exceptions.CRSError):
        return False
    theirs = np.sqrt(np.abs(np.asarray(found.areal_scale)))
    return bool(np.allclose(theirs, point_scales(few, lines), rtol=0.0, atol=1e-8))


def design(
    area: Area, kind: Kind, aim: Aim = "max", limit: float = 20e-6, progress: Progress = NULL_PROGRESS
) -> Candidate:
    """The best presentable projection of a kind. Raises ProcedureError when nothing has weight."""
    if not (area.weight > 0.0).any():
        raise ProcedureError("no point of the area has weight", hint="Give weights above 0")
    few = _thinned(area, SEARCHED)
    lines = _best_lines(few, kind, aim, progress)
    for _ in range(EXCHANGES if few.lat.size < area.lat.size else 0):
        progress.check()
        before = _cost(area, lines, aim)[0]
        few = _with_worst(area, few, lines, aim)
        finer = _simplex(few, lines, aim, 0.02)
        if _cost(area, finer, aim)[0] > before - 1e-9:
            break
        lines = finer
    return _presentable(area, lines, aim, limit)


def _thinned(area: Area, count: int) -> Area:
    """Places that the search looks at: an even choice, and the outermost and the highest."""
    if area.lat.size <= count:
        return area
    rows = set(np.linspace(0, area.lat.size - 1, count).astype(np.intp).tolist())
    for values in (area.lat, area.lon, area.h, area.lat + area.lon, area.lat - area.lon):
        rows |= {int(np.argmin(values)), int(np.argmax(values))}
    return area.part(np.array(sorted(rows), dtype=np.intp))


def _with_worst(area: Area, few: Area, lines: Lines, aim: Aim) -> Area:
    """More of the places, with those where the lines do worst: what decides the largest distortion."""
    if aim != "max":
        return _thinned(area, 10 * SEARCHED)
    d = _cost(area, lines, aim)[1] * point_scales(area, lines) * area.elevation - 1.0
    d = np.where(area.weight > 0.0, d, 0.0)
    order = np.argsort(d)
    worst = area.part(np.concatenate([order[:40], order[-40:]]))
    columns = [np.concatenate([getattr(few, f), getattr(worst, f)]) for f in ("lat", "lon", "h", "weight")]
    return replace(few, lat=columns[0], lon=columns[1], h=columns[2], weight=columns[3])


def _best_lines(area: Area, kind: Kind, aim: Aim, progress: Progress) -> Lines:
    lat, lon = (v / RAD_PER_DEGREE for v in area.middle())
    here = Lines(kind=kind, lat=lat, lon=lon)
    if np.unique(np.stack([area.lat, area.lon, area.h]), axis=1).shape[1] == 1:
        return here
    found: list[tuple[float, int, Lines]] = []
    every = _grid(kind, lat, lon, area)
    seen = _thinned(area, LOOKED_AT)
    for start in range(0, len(every), BATCH):
        progress.check()
        some = every[start : start + BATCH]
        at = np.array([(one.lat, one.lon, one.azimuth) for one in some]).T[:, :, None] * RAD_PER_DEGREE
        for one, a in zip(some, _scales(seen, kind, *at) * seen.elevation, strict=True):
            found.append((_aimed(a, seen.weight, aim)[0], len(found), one))
    found.sort()
    starts = [lines for _, _, lines in found[: 8 if kind == "om" else 4]]
    refined = []
    for lines in starts:
        progress.check()
        refined.append(_simplex(area, lines, aim, 0.3, (lat, lon)))
    return min(refined, key=lambda lines: _cost(area, lines, aim)[0])


def _grid(kind: Kind, lat: float, lon: float, area: Area) -> list[Lines]:
    """Lines within reach, denser near the area."""
    geod = pyproj.Geod(a=area.a, b=area.b)
    steps = REACH_M * np.sign(np.linspace(-1, 1, 61)) * np.abs(np.linspace(-1, 1, 61)) ** 1.6

    def away(azimuth: float, way: float) -> tuple[float, float, float]:
        x, y, back = geod.fwd(lon, lat, azimuth if way >= 0 else azimuth + 180.0, abs(way))
        return x, y, back

    if kind == "tm":
        return [Lines(kind=kind, lat=lat, lon=away(90.0, s)[0]) for s in steps]
    if kind == "lcc":
        return [
            Lines(kind=kind, lat=y, lon=lon)
            for s in steps
            if LEAST_LAT < abs(y := away(0.0, s)[1]) < MOST_LAT
        ]
    out = []
    for azimuth in np.arange(-85.0, 91.0, 7.5):
        for s in steps[::3]:
            x, y, back = away(azimuth + 90.0, s)
            # The line runs square to the way that led there.
            along = (back + 90.0 if s < 0 else back - 90.0) if abs(s) > 0 else azimuth
            if abs(y) < MOST_LAT:
                out.append(Lines(kind=kind, lat=y, lon=x, azimuth=_half_turn(along)))
    return out


def _half_turn(azimuth: float) -> float:
    """The same line with an azimuth over -90 up to 90."""
    found = (azimuth + 90.0) % 180.0 - 90.0
    return 90.0 if found == -90.0 else found


def _values(lines: Lines) -> FloatArray:
    return np.array(
        {"tm": [lines.lon], "lcc": [lines.lat], "om": [lines.lat, lines.lon, lines.azimuth]}[lines.kind]
    )


def _with(lines: Lines, x: Sequence[float]) -> Lines:
    if lines.kind == "tm":
        return replace(lines, lon=float(x[0]))
    if lines.kind == "lcc":
        return replace(lines, lat=float(x[0]))
    return replace(lines, lat=float(x[0]), lon=float(x[1]), azimuth=_half_turn(float(x[2])))


def _simplex(
    area: Area, lines: Lines, aim: Aim, step: float, middle: tuple[float, float] | None = None
) -> Lines:
    from scipy.optimize import minimize

    lat, lon = middle if middle is not None else (v / RAD_PER_DEGREE for v in area.middle())

    def cost(x: FloatArray) -> float:
        one = _with(lines, x.tolist())
        least = LEAST_LAT if lines.kind == "lcc" else 0.0
        if not least <= abs(one.lat) <= MOST_LAT or _away(area.a, lat, lon, one) > REACH_M:
            return NEVER
        return min(_cost(area, one, aim)[0] * 1e6, NEVER)

    x = _values(lines)
    for size in (step, step / 8.0):
        corners = np.vstack([x, x + size * np.diag(np.where(np.arange(x.size) == 2, 10.0, 1.0))])
        found = minimize(
            cost, x, method="Nelder-Mead",
            options={"initial_simplex": corners, "xatol": 1e-5, "fatol": 1e-4, "maxiter": 400},
        )  # fmt: skip
        x = found.x
    return _with(lines, x.tolist())


def _away(radius: float, lat: float, lon: float, lines: Lines) -> float:
    """How far lines are from a place, metres on a sphere."""
    p, q, d = (v * RAD_PER_DEGREE for v in (lat, lines.lat, lines.lon - lon))
    half = math.sin(0.5 * (q - p)) ** 2 + math.cos(p) * math.cos(q) * math.sin(0.5 * d) ** 2
    return 2.0 * radius * math.asin(min(1.0, math.sqrt(half)))


# Presentable
# ---------------------------------------------------------------------------------------------------------


def _presentable(area: Area, lines: Lines, aim: Aim, limit: float) -> Candidate:
    """Angles in whole minutes where that costs little, else in seconds; scale with 7 decimals; a false
    origin that keeps e and n positive and apart."""
    best = _cost(area, lines, aim)[0]
    for parts in (60.0, 3600.0):
        rounded = _rounded(lines, parts)
        scale = round(_cost(area, rounded, aim)[1], 7)
        d = scale * point_scales(area, rounded) * area.elevation - 1.0
        if figures(d, area.weight, limit).of(aim) - best < 0.9 * LOSS and _accepted(area, rounded):
            break
    if not _accepted(area, rounded):
        raise ProcedureError(
            "no such projection can be laid along this area", hint="Choose another kind of projection"
        )
    found = _placed(area, rounded, scale, limit)
    return replace(found, loss=max(found.figures.of(aim) - best, 0.0))


def by_hand(area: Area, lines: Lines, scale: float, limit: float = 20e-6) -> Candidate:
    """A projection along lines and with a scale as somebody set them. Raises ProcedureError where PROJ has no
    such, and where they are farther from the area than any is looked for."""
    lat, lon = (v / RAD_PER_DEGREE for v in area.middle())
    along = {"tm": replace(lines, lat=lat), "lcc": replace(lines, lon=lon), "om": lines}
    at = along[lines.kind]
    if not 0.5 < scale < 2.0 or _away(area.a, lat, lon, at) > REACH_M or not _accepted(area, lines):
        raise ProcedureError("no such projection serves here", hint="Keep nearer to the area")
    return _placed(area, lines, scale, limit)


def _placed(area: Area, lines: Lines, scale: float, limit: float) -> Candidate:
    """With its false origin and figures."""
    proj = pyproj.Proj(lines.proj(scale, ellipsoid=f"+a={area.a!r} +b={area.b!r}"))
    e, n = proj(area.lon, area.lat, radians=True)
    fe, fn = false_origin(np.asarray(e), np.asarray(n))
    box = np.array([[np.min(e) + fe, np.max(e) + fe], [np.min(n) + fn, np.max(n) + fn]])
    d = scale * point_scales(area, lines) * area.elevation - 1.0
    return Candidate(lines=lines, scale=scale, fe=fe, fn=fn, figures=figures(d, area.weight, limit), box=box)


def _rounded(lines: Lines, parts: float) -> Lines:
    lat, lon, azimuth = (round(v * parts) / parts for v in (lines.lat, lines.lon, lines.azimuth))
    lon = lon - 360.0 if lon > 180.0 else lon + 360.0 if lon < -180.0 else lon
    return replace(lines, lat=lat, lon=lon, azimuth=_half_turn(azimuth) if azimuth <= -90.0 else azimuth)


def false_origin(e: FloatArray, n: FloatArray) -> tuple[float, float]:
    """Whole kilometres to add, so that e begins a little over 10 km, and n over the highest e."""
    step = 10_000.0
    fe = math.ceil((step - float(e.min())) / 1000.0) * 1000.0
    high = float(e.max()) + fe
    wanted = math.ceil(high / step + 1.0) * step
    fn = math.ceil((wanted - float(n.min())) / 1000.0) * 1000.0
    return fe, fn


def recommended(candidates: Sequence[Candidate], aim: Aim) -> Candidate:
    """The one with the smallest figure; within 0.1 ppm the simpler."""
    least = min(c.figures.of(aim) for c in candidates)
    near = [c for c in candidates if c.figures.of(aim) <= least + EQUAL]
    return min(near, key=lambda c: KINDS.index(c.lines.kind))


def projected_crs(one: Candidate, datum: pyproj.CRS, name: str = "A projection of one's own") -> pyproj.CRS:
    """The projected system on its datum, with the parameters that EPSG names."""
    from pyproj.crs import ProjectedCRS
    from pyproj.crs.coordinate_operation import (
        HotineObliqueMercatorBConversion,
        LambertConformalConic1SPConversion,
        TransverseMercatorConversion,
    )

    at = one.lines
    if at.kind == "om":
        conversion: Any = HotineObliqueMercatorBConversion(
            latitude_projection_centre=at.lat, longitude_projection_centre=at.lon,
            azimuth_projection_centre=at.azimuth, angle_from_rectified_to_skew_grid=at.azimuth,
            scale_factor_projection_centre=one.scale, easting_projection_centre=one.fe,
            northing_projection_centre=one.fn,
        )  # fmt: skip
    else:
        kind = TransverseMercatorConversion if at.kind == "tm" else LambertConformalConic1SPConversion
        conversion = kind(
            latitude_natural_origin=at.lat, longitude_natural_origin=at.lon, false_easting=one.fe,
            false_northing=one.fn, scale_factor_natural_origin=one.scale,
        )  # fmt: skip
    return ProjectedCRS(conversion, name=name, geodetic_crs=datum)


def in_unit(crs: pyproj.CRS, unit: LengthUnit) -> pyproj.CRS:
    """A projected system in metres as one whose coordinates, and false origin, are in another unit."""
    if unit.metres == 1.0:
        return crs
    parts = crs.to_json_dict()
    name = {"ft": "foot", "ftUS": "US survey foot"}[unit.key]
    words = {"type": "LinearUnit", "name": name, "conversion_factor": unit.metres}
    for axis in parts["coordinate_system"]["axis"]:
        axis["unit"] = words
    for parameter in parts["conversion"]["parameters"]:
        if parameter["unit"] == "metre":
            parameter |= {"value": round(parameter["value"] / unit.metres, 6), "unit": words}
    return pyproj.CRS.from_json_dict(parts)
