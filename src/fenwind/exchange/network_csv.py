"""Observations of a network from a CSV file: one row an observation of the line from `at` to `to`."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FormatError, ParseError
from fenwind.exchange.list_units import ANGLES as ANGLE_STYLES
from fenwind.exchange.list_units import METRIC, ListUnits
from fenwind.exchange.named_csv import NamedRow, read_named
from fenwind.quantities.angles import RAD_PER_SECOND, AngleStyle, parse_angle
from fenwind.quantities.lengths import UNITS
from fenwind.records.network import ObservationSet

FloatArray = NDArray[np.float64]

KINDS = (
    "distance", "horizontal_distance", "direction", "angle", "azimuth", "zenith", "height_difference",
    "vector",
)  # fmt: skip
ANGLES = ("direction", "angle", "azimuth", "zenith")
COVARIANCE = ("sxx", "sxy", "sxz", "syy", "syz", "szz")
OPTIONAL = (
    "from", "value", "sigma", "unit", "hi", "ht", "set", "group", "dx", "dy", "dz", *COVARIANCE,
)  # fmt: skip


@dataclass(frozen=True, slots=True, kw_only=True)
class Sigmas:
    """What an empty sigma stands for: metres and a part of the length, and radians."""

    distance_m: float = 0.003
    distance_part: float = 2e-6
    direction: float = 5.0 * RAD_PER_SECOND
    zenith: float = 5.0 * RAD_PER_SECOND
    height_m: float = 0.001


@dataclass(frozen=True, kw_only=True, eq=False)
class Observation:
    """One row: value (b,) in metres or radians with its covariance (b, b); back: the first target of an
    angle."""

    line: int
    kind: str
    at: str
    to: str
    back: str
    value: FloatArray
    covariance: FloatArray
    set: str
    group: str
    hi: float
    ht: float


def read_network(
    path: str, sigmas: Sigmas | None = None, valued: bool = True, units: ListUnits = METRIC
) -> list[Observation]:
    """The observations of a file; without values those that are planned, whose values are nan, and so is the
    covariance of a distance without a sigma. Raises FormatError with the place of the first bad cell."""
    _, rows = read_named(path, ("kind", "at", "to"), OPTIONAL, units)
    return [_observation(row, sigmas or Sigmas(), valued) for row in rows]


def _observation(row: NamedRow, sigmas: Sigmas, valued: bool) -> Observation:
    kind = row.text("kind")
    if kind not in KINDS:
        raise row.bad("kind", ", ".join(KINDS))
    at, to = row.text("at"), row.text("to")
    back = row.text("from", needed=kind == "angle")
    if at == to:
        raise row.bad("to", "another mark than at")
    if kind == "angle" and back in (at, to):
        raise row.bad("from", "another mark than at and to")
    _empty_where_unused(row, kind)
    if not valued:
        for column in ("value", "dx", "dy", "dz"):
            if row.text(column, needed=False):
                raise row.bad(column, "nothing, in a design")
    value, covariance = _vector(row, valued) if kind == "vector" else _single(row, kind, sigmas, valued)
    hi, ht = (0.0 if math.isnan(v := row.length(c)) else v for c in ("hi", "ht"))
    if kind in ("height_difference", "vector") and (hi or ht):
        raise row.bad("hi" if hi else "ht", "0 or nothing: it goes from mark to mark")
    return Observation(
        line=row.line, kind=kind, at=at, to=to, back=back, value=value, covariance=covariance,
        set=row.text("set", needed=False), group=row.text("group", needed=False) or kind, hi=hi, ht=ht,
    )  # fmt: skip


def _empty_where_unused(row: NamedRow, kind: str) -> None:
    unused = ["from"] if kind != "angle" else []
    unused += ["value", "sigma", "unit"] if kind == "vector" else ["dx", "dy", "dz", *COVARIANCE]
    unused += ["set"] if kind != "direction" else []
    for column in unused:
        if row.text(column, needed=False):
            raise row.bad(column, f"nothing for a {kind}")


def _vector(row: NamedRow, valued: bool) -> tuple[FloatArray, FloatArray]:
    value = np.array([row.needed_length(c) if valued else math.nan for c in ("dx", "dy", "dz")])
    xx, xy, xz, yy, yz, zz = (row.square(c) for c in COVARIANCE)
    covariance = np.array([[xx, xy, xz], [xy, yy, yz], [xz, yz, zz]])
    if not np.linalg.eigvalsh(covariance)[0] > 0.0:
        raise FormatError(
            "columns sxx to szz: not positive definite, expected a covariance",
            where=f"{row.source}, line {row.line}", hint="Give all six, in the square of one unit",
        )  # fmt: skip
    return value, covariance


def _single(row: NamedRow, kind: str, sigmas: Sigmas, valued: bool) -> tuple[FloatArray, FloatArray]:
    unit = row.text("unit", needed=False)
    if kind in ANGLES:
        value = _angle(row, unit) if valued else math.nan
        if kind == "zenith" and valued and not 0.0 < value < math.pi:
            raise row.bad("value", "a zenith angle above 0 and below 180")
        default = sigmas.zenith if kind == "zenith" else sigmas.direction
        default *= math.sqrt(2.0) if kind == "angle" else 1.0
        factor = RAD_PER_SECOND
    else:
        value = _length(row, kind, unit) if valued else math.nan
        default = (
            sigmas.height_m
            if kind == "height_difference"
            else sigmas.distance_m + sigmas.distance_part * value
        )
        factor = 1.0
    sigma = row.sigma("sigma")
    if kind in ANGLES:  # seconds, whatever lengths are in
        factor /= row.unit("sigma").metres
    sigma = default if math.isnan(sigma) else sigma * factor
    return np.array([value]), np.array([[sigma**2]])


def _length(row: NamedRow, kind: str, unit: str) -> float:
    if unit not in ("", "m", "ft", "ftUS"):
        raise row.bad("unit", "m, ft or ftUS")
    above = (lambda v: v > 0.0) if kind in ("distance", "horizontal_distance") else None
    expected = "a distance above 0" if above else "a number"
    return row.needed_length("value", expected, above, UNITS[unit] if unit else None)


def _angle(row: NamedRow, unit: str) -> float:
    if unit not in ("", "deg", "dms", "gon"):
        raise row.bad("unit", "deg, dms or gon")
    if "value" in row.stated:
        raise row.bad("value", "no unit of length in the head of a column with angles")
    text = row.text("value")
    style: AngleStyle = ANGLE_STYLES[unit] if unit else row.read_in.angle
    try:
        return parse_angle(text, style)
    except ParseError:
        raise row.bad("value", "an angle such as 117.5979 or 117-35-52.5") from None


def observation_set(rows: list[Observation], name: str, source: str) -> ObservationSet:
    """Observations as a record whose marks are still names; it has no id yet."""
    upper = np.triu_indices(3)
    return ObservationSet(
        id="", name=name, source=source, line=tuple(o.line for o in rows), kind=tuple(o.kind for o in rows),
        at=tuple(o.at for o in rows), to=tuple(o.to for o in rows), back=tuple(o.back for o in rows),
        setup=tuple(o.set for o in rows), group=tuple(o.group for o in rows), hi_m=tuple(o.hi for o in rows),
        ht_m=tuple(o.ht for o in rows), value=tuple(tuple(o.value.tolist()) for o in rows),
        covariance=tuple(
            tuple((o.covariance[upper] if o.kind == "vector" else o.covariance.ravel()).tolist())
            for o in rows
        ),
    )  # fmt: skip
