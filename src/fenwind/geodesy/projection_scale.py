"""Point scale factor and convergence of the transverse Mercator, Lambert conformal and oblique Mercator
projections, by closed formulas and series for many places, and for many projections at once.

Transverse Mercator: the series of Krueger (1912) to the sixth power of the third flattening, as Karney gives
it (Transverse Mercator with an accuracy of a few nanometers, J. Geodesy 85, 2011, eq. 7 to 12, 23 to 26 and
35). Lambert conformal and oblique Mercator (Hotine): Snyder, Map Projections - A Working Manual (1987),
chapters 15 and 9, from memory; the oblique scale is written without the quotient that fails at the ends of
the line. Angles in radians; a scale of 1 on the line.
"""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenwind.quantities.angles import wrap_all

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, kw_only=True, eq=False)
class Places:
    """Places (k,), latitude and longitude, on an ellipsoid with semi-axes a and b; what projections need of
    the latitudes is worked out once."""

    lat: FloatArray
    lon: FloatArray
    a: float
    b: float

    @property
    def e2(self) -> float:
        """Square of the eccentricity."""
        return 1.0 - (self.b / self.a) ** 2

    @cached_property
    def isometric(self) -> FloatArray:
        """Isometric latitude."""
        return isometric(self.lat, self.e2)

    @cached_property
    def parallel(self) -> FloatArray:
        """Radius of the parallel over a."""
        return np.asarray(np.cos(self.lat) / np.sqrt(1.0 - self.e2 * np.sin(self.lat) ** 2))

    @cached_property
    def conformal(self) -> FloatArray:
        """Tangent of the conformal latitude."""
        return np.asarray(np.sinh(self.isometric))


def isometric(lat: FloatArray, e2: float) -> FloatArray:
    """Isometric latitude on the ellipsoid."""
    e = math.sqrt(e2)
    s = np.sin(lat)
    return np.asarray(np.arctanh(s) - e * np.arctanh(e * s))


def _kruger(a: float, b: float) -> tuple[float, tuple[float, ...]]:
    """Radius of the rectifying sphere over a, and the six coefficients."""
    n = (a - b) / (a + b)
    p = [n**k for k in range(7)]
    alpha = (
        p[1] / 2 - 2 * p[2] / 3 + 5 * p[3] / 16 + 41 * p[4] / 180 - 127 * p[5] / 288 + 7891 * p[6] / 37800,
        13 * p[2] / 48 - 3 * p[3] / 5 + 557 * p[4] / 1440 + 281 * p[5] / 630 - 1983433 * p[6] / 1935360,
        61 * p[3] / 240 - 103 * p[4] / 140 + 15061 * p[5] / 26880 + 167603 * p[6] / 181440,
        49561 * p[4] / 161280 - 179 * p[5] / 168 + 6601661 * p[6] / 7257600,
        34729 * p[5] / 80640 - 3418889 * p[6] / 1995840,
        212378941 * p[6] / 319334400,
    )  # fmt: skip
    return (1.0 + p[2] / 4 + p[4] / 64 + p[6] / 256) / (1.0 + n), alpha


def transverse(
    places: Places, lon0: FloatArray | float, turned: bool = True
) -> tuple[FloatArray, FloatArray]:
    """Scale and convergence of the transverse Mercator with an axis at lon0; lon0 (c, 1) gives (c, k).
    turned: whether convergence is wanted; it is empty without."""
    tau, d = places.conformal, places.lon - lon0
    radius, alpha = _kruger(places.a, places.b)
    cos_d, sin_d = np.cos(d), np.sin(d)
    spherical = np.hypot(tau, cos_d)
    # Twice the spherical transverse Mercator xi + i eta, whose cosine needs no further function.
    sinh_eta = sin_d / spherical
    cosh_eta = np.sqrt(1.0 + sinh_eta**2)
    cos_xi, sin_xi = cos_d / spherical, tau / spherical
    cosine = np.asarray(2.0 * (cos_xi * cosh_eta - 1j * (sin_xi * sinh_eta)) ** 2 - 1.0, dtype=complex)
    slope = _summed(alpha, cosine)
    scale = radius * np.abs(slope) / (spherical * places.parallel)
    if not turned:
        return np.asarray(scale), np.zeros(0)
    gamma = np.arctan2(tau * sin_d, np.sqrt(1.0 + tau**2) * cos_d) - np.angle(slope)
    return np.asarray(scale), np.asarray(gamma)


def _summed(alpha: tuple[float, ...], cosine: NDArray[np.complex128]) -> NDArray[np.complex128]:
    """1 + sum of 2 j alpha_j cos(2 j zeta), from cos(2 zeta), by Clenshaw's recurrence."""
    later, last = np.zeros_like(cosine), np.zeros_like(cosine)
    twice = 2.0 * cosine
    for j in range(len(alpha), 0, -1):
        later, last = 2.0 * j * alpha[j - 1] + twice * later - last, later
    return np.asarray(1.0 + cosine * later - last)


def lambert(
    places: Places, lat0: FloatArray | float, lon0: float, turned: bool = True
) -> tuple[FloatArray, FloatArray]:
    """Scale and convergence of the Lambert conformal projection with one parallel, lat0; see transverse."""
    at = np.asarray(lat0, dtype=float)
    n = np.sin(at)
    radius = np.cos(at) / np.sqrt(1.0 - places.e2 * n**2)
    scale = radius * np.exp(n * (isometric(at, places.e2) - places.isometric)) / places.parallel
    return np.asarray(scale), np.asarray(n * wrap_all(places.lon - lon0)) if turned else np.zeros(0)


def oblique(
    places: Places, lat0: FloatArray | float, lonc: FloatArray | float, azimuth: FloatArray | float,
    turned: bool = True,
) -> tuple[FloatArray, FloatArray]:  # fmt: skip
    """Scale and convergence of the oblique Mercator projection through a centre in an azimuth, rectified by
    the same angle; see transverse. The centre is not at a pole or, for a line along it, on the equator."""
    e2, lat0 = places.e2, np.asarray(lat0, dtype=float)
    s0, c0 = np.sin(lat0), np.cos(lat0)
    b = np.sqrt(1.0 + e2 * c0**4 / (1.0 - e2))
    size = b * math.sqrt(1.0 - e2) / (1.0 - e2 * s0**2)
    d = np.maximum(b * math.sqrt(1.0 - e2) / (c0 * np.sqrt(1.0 - e2 * s0**2)), 1.0)
    sign = np.where(lat0 < 0.0, -1.0, 1.0)
    root = sign * np.sqrt(d**2 - 1.0)
    sin_g = np.sin(azimuth) / d
    cos_g = np.sqrt(np.maximum(1.0 - sin_g**2, 0.0))
    with np.errstate(divide="ignore", invalid="ignore"):
        shift = np.arcsin(np.clip(np.where(cos_g > 0.0, root * sin_g / cos_g, sign), -1.0, 1.0))
    lon0 = lonc - shift / b
    # ln F + B (psi - psi0), F = D + root: the isometric latitude on the aposphere.
    high = np.arcsinh(root) + b * (places.isometric - isometric(lat0, e2))
    away = b * wrap_all(places.lon - lon0)
    wide, tall = np.cosh(high), np.sinh(high)
    across = (tall * sin_g - np.sin(away) * cos_g) / wide
    rest = np.maximum(1.0 - across**2, 1e-300)
    scale = size / (wide * places.parallel * np.sqrt(rest))
    if not turned:
        return np.asarray(scale), np.zeros(0)
    v_east, u_east = np.cos(away) * cos_g / wide, sin_g - across * tall / wide
    cc, sc = np.cos(azimuth), np.sin(azimuth)
    return np.asarray(scale), np.asarray(np.arctan2(u_east * cc - v_east * sc, v_east * cc + u_east * sc))
