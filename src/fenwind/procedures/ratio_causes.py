"""Why two distances that should agree do not: their ratio against every cause there can be at a place."""

from __future__ import annotations

import math
from collections.abc import Iterable, Iterator
from dataclasses import dataclass
from decimal import Decimal, InvalidOperation

from fenwind.errors import ParseError
from fenwind.geodesy.catalogue import neighbouring_zones
from fenwind.geodesy.frames import Frame, find_crs, open_frame, working_frame_spec
from fenwind.quantities.lengths import FOOT, US_SURVEY_FOOT

#: Causes in the order in which equals are told, each in words.
WORDS = {
    "combined-factor": "the combined factor of this place: one is on the ground, the other on the grid",
    "elevation-factor": "the elevation factor of this place: one is on the ground, one on the ellipsoid",
    "grid-scale": "the grid scale of this place: one is on the grid, the other on the ellipsoid",
    "factor-inverted": "the combined factor applied the wrong way",
    "geoid-left-out": "the geoid height left out of the elevation factor",
    "ft-ftus": "international feet against US survey feet",
    "slope": "slope distance taken for the horizontal one",
    "other-zone": "the grid scale of the neighbouring zone",
    "far-factor": "the combined factor of another place",
}


@dataclass(frozen=True, slots=True, kw_only=True)
class Cause:
    """A ratio that a cause gives, and how far (parts per million) the ratio looked at is from it."""

    key: str
    text: str
    ratio: float
    left_ppm: float


@dataclass(frozen=True, slots=True, kw_only=True)
class Place:
    """Factors at a place: point scale k, elevation factor R / (R + h), R = sqrt(M N) and ellipsoidal
    height in metres; undulation_m the geoid height, None where it is not known."""

    point_scale: float
    elevation: float
    radius_m: float
    height_m: float
    undulation_m: float | None = None

    @property
    def combined(self) -> float:
        """Point scale times elevation factor."""
        return self.point_scale * self.elevation


@dataclass(frozen=True, slots=True, kw_only=True)
class Explained:
    """What two figures for one line come to: the second over the first, the rounding of both together in
    parts per million, whether they agree within it, and the causes that fit."""

    ratio: float
    rounding_ppm: float
    agree: bool
    causes: tuple[Cause, ...]


def place_at(
    frame: Frame, lat_rad: float, lon_rad: float, h_m: float, undulation_m: float | None = None
) -> Place:
    """Factors of a frame at a place on its datum, h above the ellipsoid. Raises FrameError outside where the
    projection is defined."""
    meridian, prime = frame.radii(lat_rad)
    return Place(
        point_scale=float(frame.point_scale(lat_rad, lon_rad)[0]),
        elevation=float(frame.elevation_factor(lat_rad, h_m)),
        radius_m=math.sqrt(float(meridian) * float(prime)),
        height_m=h_m,
        undulation_m=undulation_m,
    )


def ratios(
    place: Place, zones: Iterable[float] = (), slope: float | None = None, far: Place | None = None
) -> Iterator[tuple[str, float]]:
    """Key and ratio of every cause at a place. zones: point scales of the neighbouring zones there; slope:
    horizontal over slope distance; far: factors of the place that a factor may come from."""
    yield "combined-factor", place.combined
    yield "elevation-factor", place.elevation
    yield "grid-scale", place.point_scale
    yield "factor-inverted", place.combined**2
    if place.undulation_m is not None:
        reach = place.radius_m + place.height_m
        yield "geoid-left-out", (reach - place.undulation_m) / reach
    yield "ft-ftus", FOOT.metres / US_SURVEY_FOOT.metres
    if slope is not None:
        yield "slope", slope
    for scale in zones:
        yield "other-zone", place.point_scale / scale
    if far is not None:
        yield "far-factor", place.combined / far.combined


def fitting(ratio: float, rounding_ppm: float, causes: Iterable[tuple[str, float]]) -> tuple[Cause, ...]:
    """The causes, or their reciprocals, that meet a ratio within its rounding; the nearest first, equals in
    the order of WORDS, each cause once."""
    found: dict[str, Cause] = {}
    for key, own in causes:
        for tried in (own, 1.0 / own):
            left = (ratio / tried - 1.0) * 1e6
            known = found.get(key)
            if abs(left) <= rounding_ppm and (known is None or abs(left) < abs(known.left_ppm)):
                found[key] = Cause(key=key, text=WORDS[key], ratio=tried, left_ppm=left)
    order = list(WORDS)
    return tuple(sorted(found.values(), key=lambda c: (abs(c.left_ppm), order.index(c.key))))


def zone_scales(frame: Frame, lat_rad: float, lon_rad: float) -> list[float]:
    """Point scales at a place in the zones beside the frame's own."""
    scales = []
    for code in neighbouring_zones(frame.spec.crs):
        other = open_frame(working_frame_spec(code))
        same = find_crs(frame.geodetic_name).equals(find_crs(other.geodetic_name), ignore_axis_order=True)
        if same:
            scales.append(float(other.point_scale(lat_rad, lon_rad)[0]))
    return scales


def explained(
    first: str, second: str, here: Place, zones: Iterable[float] = (), dh: str = "", far: Place | None = None
) -> Explained:
    """Why two figures, as they are written, do not agree; dh: the height difference of the line's ends, in
    their unit, empty where it is not known. Raises ParseError."""
    (one, half1), (two, half2) = _figure(first), _figure(second)
    slope = _slope(dh, float(max(one, two))) if dh else None
    ratio, rounding = float(two) / float(one), 1e6 * (float(half1 / one) + float(half2 / two))
    return explained_ratio(ratio, rounding, abs(two - one) <= half1 + half2, here, zones, slope, far)


def explained_ratio(
    ratio: float,
    rounding_ppm: float,
    agree: bool,
    here: Place,
    zones: Iterable[float] = (),
    slope: float | None = None,
    far: Place | None = None,
) -> Explained:
    """Why a ratio is not one, known to so many parts per million; no cause is looked for where it agrees."""
    causes = () if agree else fitting(ratio, rounding_ppm, ratios(here, zones, slope, far))
    return Explained(ratio=ratio, rounding_ppm=rounding_ppm, agree=agree, causes=causes)


def _figure(text: str) -> tuple[Decimal, Decimal]:
    """A distance as typed, and half a unit of its last digit."""
    try:
        value = Decimal(text.strip())
    except InvalidOperation:
        value = Decimal("nan")
    if not value.is_finite() or value <= 0:
        raise ParseError(f"{text!r} is not a distance above zero", hint="Type figures such as 1000.00")
    exponent = value.as_tuple().exponent
    assert isinstance(exponent, int)
    return value, Decimal(5).scaleb(exponent - 1)


def _slope(text: str, longer: float) -> float:
    """Horizontal over slope distance of a line with a height difference."""
    try:
        part = float(text) / longer
    except ValueError:
        part = float("nan")
    if not -1.0 < part < 1.0:
        raise ParseError(
            f"{text!r} is not a height difference of this line", hint="Give it in the unit of the figures"
        )
    return float((1.0 - part**2) ** 0.5)
