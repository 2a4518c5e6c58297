"""Projections of one's own: a design over 100,000 height cells, the map after a change by hand, and point
scale factors against PROJ's."""

from __future__ import annotations

import math
import time

import numpy as np
import pyproj

from bench.timing import best, median, say
from fenwind.geodesy.projection_scale import Places, lambert, oblique, transverse
from fenwind.procedures.own_projection import KINDS, Area, Lines, design, figures, point_scales

A, B = 6378137.0, 6356752.314140356


def area(count: int = 100_000) -> Area:
    """Cells over 90 km by 90 km: a slope with a ridge across it."""
    rng = np.random.default_rng(3)
    x, y = rng.uniform(-1.0, 1.0, (2, count))
    h = 900.0 + 500.0 * x + 700.0 * np.exp(-(((x - 0.5 * y) / 0.3) ** 2))
    return Area(
        lat=np.radians(46.5 + 0.4 * y), lon=np.radians(8.0 + 0.6 * x), h=h, weight=np.ones(count), a=A, b=B
    )


def designs() -> None:
    """Three kinds, one aim after the other."""
    cells = area()
    for aim in ("max", "p95", "rms"):
        start = time.perf_counter()
        for kind in KINDS:
            design(cells, kind, aim)
        taken = time.perf_counter() - start
        say(f"three designs over 100,000 cells, aim {aim}", taken, 5.0, "s")


def moved() -> None:
    """Distortion and figures of all cells again after a change of a line."""
    cells = area()
    weight, lon = cells.weight, [8.0]
    for lines in (Lines(kind="tm", lat=46.5, lon=8.0), Lines(kind="om", lat=46.5, lon=8.0, azimuth=30.0)):

        def again(lines: Lines = lines) -> None:
            lon[0] += 1e-4
            now = Lines(kind=lines.kind, lat=lines.lat, lon=lon[0], azimuth=lines.azimuth)
            figures(1.0001 * point_scales(cells, now) * cells.elevation - 1.0, weight, 20e-6)

        say(f"100,000 cells after a change, {lines.kind}", median(again, 5) * 1000.0, 50.0, "ms")


def factors() -> None:
    """Scale and convergence of a million points, as a share of PROJ's time."""
    rng = np.random.default_rng(5)
    lat, lon = np.radians(rng.uniform(45.0, 48.0, 1_000_000)), np.radians(rng.uniform(6.0, 10.0, 1_000_000))
    end, at = f"+a={A} +b={B}", math.radians
    for name, text, run in (
        ("transverse", "+proj=tmerc +lat_0=46 +lon_0=8", lambda p: transverse(p, at(8))),
        ("lambert", "+proj=lcc +lat_0=46 +lat_1=46 +lon_0=8", lambda p: lambert(p, at(46), at(8))),
        ("oblique", "+proj=omerc +lat_0=46 +lonc=8 +alpha=30 +gamma=30",
         lambda p: oblique(p, at(46), at(8), at(30))),
    ):  # fmt: skip
        own = best(lambda run=run: run(Places(lat=lat, lon=lon, a=A, b=B)), 3)
        proj = pyproj.Proj(f"{text} {end}")
        theirs = best(lambda proj=proj: proj.get_factors(lon, lat, radians=True), 3)
        say(f"a million points, {name}, share of PROJ's time", own / theirs, 0.5, "")


def to_ground_and_back(count: int = 100_000) -> None:
    """Marks of a grid onto the ground by one factor about an origin, and back."""
    from fenwind.geodesy.frames import FrameSpec, open_frame
    from fenwind.geodesy.ground_frame import GroundScale, derived_wkt

    rng = np.random.default_rng(6)
    grid = open_frame(FrameSpec(name="grid", crs="EPSG:25832"))
    at = np.stack([rng.uniform(450e3, 470e3, count), rng.uniform(6790e3, 6810e3, count)])
    scale = GroundScale(factor=1.000584, origin=(460e3, 6.8e6), offset=(-4e5, -6e6))
    ground = open_frame(FrameSpec(name="ground", crs=derived_wkt(grid, scale)))

    def there_and_back() -> np.ndarray:
        e, n = ground.forward(*grid.inverse(*at))
        return np.stack(grid.forward(*ground.inverse(e, n)))

    print(f"{count} marks come back within {np.abs(there_and_back() - at).max():.1e} m")
    say(f"ground and back of {count:,} marks", median(there_and_back, 5), 0.2, "s")


if __name__ == "__main__":
    designs()
    moved()
    factors()
    to_ground_and_back()
