"""Scale and convergence of projections against PROJ's own factors, in both hemispheres and across the half
turn."""

import unittest

import numpy as np
import pyproj

from fenwind.geodesy.projection_scale import Places, lambert, oblique, transverse
from fenwind.quantities.angles import wrap_all

#: GRS 80 and Bessel 1841, semi-axes (EPSG dataset).
ELLIPSOIDS = ((6378137.0, 6356752.314140356), (6377397.155, 6356078.962818189))
#: Latitude, longitude and azimuth of the lines.
LINES = ((46.5, 8.2, 30.0), (-33.0, 151.0, -60.0), (5.0, 100.0, 90.0), (61.0, -120.0, 0.0),
         (-17.0, 179.8, 12.5), (64.0, 20.0, -89.9))  # fmt: skip


class Scale(unittest.TestCase):
    def test_against_proj(self) -> None:
        rng = np.random.default_rng(12)
        for (a, b), (lat0, lon0, azimuth) in zip(ELLIPSOIDS * 3, LINES, strict=True):
            lat = np.radians(np.clip(lat0 + rng.uniform(-6.0, 6.0, 200), -85.0, 85.0))
            lon = wrap_all(np.radians(lon0 + rng.uniform(-8.0, 8.0, 200)))
            places = Places(lat=lat, lon=lon, a=a, b=b)
            p, q, r = np.radians([lat0, lon0, azimuth])
            head, tail = f"+lat_0={lat0} +lon_0={lon0}", f"+a={a!r} +b={b!r}"
            for text, (scale, turn) in (
                (f"+proj=tmerc {head}", transverse(places, q)),
                (f"+proj=lcc +lat_1={lat0} {head}", lambert(places, p, q)),
                (f"+proj=omerc +lat_0={lat0} +lonc={lon0} +alpha={azimuth} +gamma={azimuth}",
                 oblique(places, p, q, r)),
            ):  # fmt: skip
                with self.subTest(text=text):
                    wanted = pyproj.Proj(f"{text} {tail}").get_factors(lon, lat, radians=True)
                    np.testing.assert_allclose(scale, np.sqrt(wanted.areal_scale), atol=3e-10, rtol=0)
                    apart = wrap_all(turn - np.radians(wanted.meridian_convergence))
                    np.testing.assert_allclose(apart, 0.0, atol=1e-10)

    def test_many_lines_at_once_are_each_alone(self) -> None:
        a, b = ELLIPSOIDS[0]
        places = Places(lat=np.radians([46.0, 47.5]), lon=np.radians([7.0, 9.0]), a=a, b=b)
        at = np.radians([[[46.0], [47.0]], [[8.0], [7.0]], [[10.0], [-40.0]]])
        for many, one in (
            (transverse(places, at[1], turned=False)[0], lambda k: transverse(places, at[1, k, 0])[0]),
            (lambert(places, at[0], 0.1, turned=False)[0], lambda k: lambert(places, at[0, k, 0], 0.1)[0]),
            (oblique(places, *at, turned=False)[0], lambda k: oblique(places, *at[:, k, 0])[0]),
        ):
            np.testing.assert_allclose(many, [one(0), one(1)], rtol=1e-15)
