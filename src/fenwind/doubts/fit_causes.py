"""What many pairs of a fit share: heights in feet, a geoid left out or applied twice, a minority in height,
another zone, latitude and longitude exchanged, a factor applied twice, another realisation."""

from __future__ import annotations

import math
from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from fenwind.doubts.fit_evidence import SCALE_REACH, pair_scale
from fenwind.doubts.registry import Doubt, Remedy
from fenwind.errors import FenwindError
from fenwind.geodesy.area import inside_area
from fenwind.geodesy.catalogue import neighbouring_zones
from fenwind.geodesy.frames import open_frame, working_frame_spec
from fenwind.procedures.fit_case import FitCase
from fenwind.quantities.lengths import FEET, format_way
from fenwind.quantities.numbers import format_fixed

FloatArray = NDArray[np.float64]

#: Heights vary by so much at least where their unit is judged by how they vary, metres.
LEAST_RELIEF_M = 2.0
#: How near a slope of heights must be to a ratio of units.
NEAR_UNIT = 0.02
#: Undulations that are looked for, and how near a shift must be to one, metres.
LEAST_UNDULATION_M, NEAR_GEOID_M = 2.0, 1.0
#: A common offset of a minority stands apart by so many tolerances, and agrees to so many.
APART, TOGETHER = 4.0, 2.0
#: Northings of neighbouring zones differ by less, and a zone fits nearer than, metres.
ZONE_REACH_M, ZONE_FITS_M = 30_000.0, 30.0
#: Shifts between realisations and epochs of one datum, metres.
REALISATION_M = (0.03, 3.0)


def _grave(case: FitCase, rule: str, text: str, value: float | None, limit: float | None, unit: str = "m",
           names: tuple[str, ...] = (), grave: bool = True) -> Doubt:  # fmt: skip
    return Doubt(rule=rule, subject=case.subject, names=names, text=text, value=value, limit=limit, unit=unit,
                 grave=grave)  # fmt: skip


def _heights(case: FitCase) -> tuple[FloatArray, FloatArray, tuple[str, ...]]:
    """Measured and known heights (k,) of the pairs that have both, and their names."""
    table = case.result.pairs
    measured = case.measured.height_m[table.measured_rows]
    known = case.known.height_m[table.known_rows]
    both = np.isfinite(measured) & np.isfinite(known)
    return measured[both], known[both], tuple(n for n, yes in zip(table.names, both, strict=True) if yes)


def height_unit(case: FitCase) -> Iterator[Doubt]:
    """Known heights that vary as measured ones do in another unit."""
    measured, known, _ = _heights(case)
    if measured.size < 3 or float(np.ptp(measured)) < LEAST_RELIEF_M or float(np.ptp(known)) < LEAST_RELIEF_M:
        return
    tolerance = case.result.options.tolerance_v_m
    as_they_are = float(np.std(known - measured))
    for words, metres in FEET.items():
        for ratio, which in ((1.0 / metres, "known"), (metres, "measured")):
            left = float(np.std(known - ratio * measured))
            slope = float(np.polyfit(measured, known, 1)[0])
            if abs(slope / ratio - 1.0) < NEAR_UNIT and left < max(0.05 * as_they_are, 3.0 * tolerance):
                text = (
                    f"The {which} heights look like {words}: they vary by {format_fixed(slope, 4)} times "
                    "what the others do."
                )
                yield _grave(case, "fit.height-unit", text, slope, 1.0, "")
                return


def geoid(case: FitCase) -> Iterator[Doubt]:
    """Known heights that lie off the measured ones by the height of the geoid, which was taken off already
    (or never)."""
    n = case.place.undulation_m if case.place is not None else None
    measured, known, _ = _heights(case)
    if n is None or not case.over_geoid or abs(n) < LEAST_UNDULATION_M or measured.size < 2:
        return
    shift = float(np.median(known - measured))
    for sign, words in ((1.0, "are over the ellipsoid, without the geoid"), (-1.0, "have the geoid twice")):
        if abs(shift - sign * n) < NEAR_GEOID_M:
            text = (
                f"The known heights {words}: they lie {format_way(abs(shift))} "
                f"{'above' if shift > 0 else 'below'} the measured ones over the geoid, which is "
                f"{format_fixed(n, 2)} m there."
            )
            yield _grave(case, "fit.geoid", text, shift, NEAR_GEOID_M)
            return


def height_minority(case: FitCase) -> Iterator[Doubt]:
    """Two or more marks whose heights are off by one common offset while most agree: another geoid model,
    or another reference."""
    measured, known, names = _heights(case)
    if case.result.height_adjustment is None or measured.size < 5:
        return
    limit = case.result.options.tolerance_v_m
    off = (measured - known) - float(np.median(measured - known))
    odd = np.flatnonzero(np.abs(off) > APART * limit)
    if not 2 <= odd.size < measured.size / 2.0:
        return
    common = float(np.median(off[odd]))
    rest = np.delete(off, odd)
    if (
        float(np.ptp(off[odd])) > TOGETHER * limit
        or float(np.std(rest)) > limit
        or abs(common) < APART * limit
    ):
        return
    who = tuple(names[i] for i in odd.tolist())
    text = (
        f"The heights of {', '.join(who)} are off by {format_way(abs(common))} together, while others "
        "agree: another geoid model, or another height reference."
    )
    doubt = _grave(case, "fit.outlier-height", text, abs(common), APART * limit, names=who)
    yield Doubt(
        **{f: getattr(doubt, f) for f in doubt.__dataclass_fields__ if f != "remedies"},
        remedies=tuple(Remedy(kind="check", label=f"hold out {n} as a check", names=(n,)) for n in who),
    )


def axes(case: FitCase) -> Iterator[Doubt]:
    """Latitude and longitude exchanged: outside the area as they are, inside when exchanged."""
    if case.area is None or case.lat_rad is None or case.lon_rad is None or not case.lat_rad.size:
        return
    if inside_area(case.area, case.lat_rad, case.lon_rad).any():
        return
    if inside_area(case.area, case.lon_rad, case.lat_rad).all():
        first = f"{format_fixed(math.degrees(float(case.lat_rad[0])), 4)}°"
        text = (
            f"Latitude and longitude look exchanged: a latitude of {first} is outside the area of "
            "use, exchanged all are inside."
        )
        yield _grave(case, "fit.axes", text, None, None, "")


def zone(case: FitCase) -> Iterator[Doubt]:
    """Known coordinates that are those of the measured marks in a neighbouring zone."""
    case = case.in_plan
    if not case.crs or case.lat_rad is None or case.lon_rad is None or case.pairs.source.shape[1] < 2:
        return
    apart = np.median(np.abs(case.pairs.target - case.pairs.source), axis=1)
    if apart[0] < ZONE_REACH_M or apart[1] > ZONE_REACH_M:
        return
    rows = case.result.pairs.measured_rows
    for code in neighbouring_zones(case.crs):
        try:
            frame = open_frame(working_frame_spec(code))
            e, n = frame.forward(case.lat_rad[rows], case.lon_rad[rows])
        except FenwindError:
            continue
        off = float(np.median(np.hypot(e - case.pairs.target[0], n - case.pairs.target[1])))
        if off < ZONE_FITS_M:
            text = (
                f"The known coordinates are in another zone: in {frame.spec.name} they fit to "
                f"{format_way(off)}."
            )
            yield _grave(case, "fit.zone", text, None, None, "")
            return


def scale_factor(case: FitCase) -> Iterator[Doubt]:
    """A scale that is the square of the combined factor, or its reciprocal: applied twice, or the wrong
    way."""
    case = case.in_plan
    found, factor = pair_scale(case), case.combined_factor
    if found is None or factor is None:
        return
    scale, sigma, extent = found
    covariance = case.pairs.source_covariance + case.pairs.target_covariance
    stated = float(np.sqrt(np.mean(covariance[0, 0] + covariance[1, 1]) / 2.0))
    sigma = max(sigma, stated / max(extent, 1.0))
    if abs(math.log(factor)) < 2.0 * SCALE_REACH * sigma:
        return
    for power in (2.0, -2.0):
        if abs(scale - factor**power) < SCALE_REACH * sigma:
            ppm = (scale - 1.0) * 1e6
            way = "applied twice" if power < 0.0 else "taken off again where it was not applied"
            text = (
                f"The pairs want a scale of {format_fixed(ppm, 1, sign=True)} ppm, the combined factor "
                f"{way} ({format_fixed((factor - 1.0) * 1e6, 1, sign=True)} ppm once)."
            )
            yield _grave(case, "fit.scale-factor", text, ppm, (factor - 1.0) * 1e6, "ppm")
            return


def realisation(case: FitCase) -> Iterator[Doubt]:
    """A shift that all pairs share between coordinates of one system: another realisation, or another
    epoch."""
    case = case.in_plan
    if not case.crs or case.pairs.source.shape[1] < 3:
        return
    d = case.pairs.target - case.pairs.source
    shift = np.median(d, axis=1)
    size, spread = float(np.hypot(*shift)), float(np.median(np.hypot(*(d - shift[:, None]))))
    if REALISATION_M[0] < size < REALISATION_M[1] and spread < 0.3 * size:
        text = (
            f"Known and measured coordinates of one system are {format_way(size)} apart, all alike: "
            "another realisation of the datum, or another epoch."
        )
        yield _grave(case, "fit.realisation", text, size, REALISATION_M[0], grave=False)
