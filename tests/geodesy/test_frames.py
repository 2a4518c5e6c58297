"""Frames: recipes that cannot be opened say why; damaged and foreign geoid grids; threads."""

import math
import threading
from dataclasses import replace

import numpy as np

from fenwind.errors import FrameError
from fenwind.geodesy.conversion import convert
from fenwind.geodesy.frames import (
    Frame,
    FrameSpec,
    HeightReference,
    find_crs,
    open_frame,
    unit_key_of,
    working_frame_spec,
)  # fmt: skip
from fenwind.geodesy.geoid import GeoidGrid
from fenwind.standins import tarnholt
from fenwind.standins.geoid_grid import undulation
from tests.support import DATA, TempFolder


class Recipes(TempFolder):
    def test_refusals(self) -> None:
        rows = [
            (lambda: find_crs("EPSG:999999"), "not a known"),
            (lambda: find_crs("nonsense"), "not a known"),
            (lambda: working_frame_spec("EPSG:4326"), "not a projected"),
            (lambda: Frame(FrameSpec(name="x", crs="EPSG:25832", unit="ell")), "unit"),
            (
                lambda: Frame(
                    FrameSpec(name="x", height=HeightReference(kind="geoid", grid=str(DATA / "egm96_15.gtx")))
                ),
                "datum",
            ),
            (lambda: Frame(FrameSpec(name="x")).forward(1.0, 0.1), "local plane"),
            (lambda: convert("EPSG:4978", "EPSG:4326", *np.zeros((3, 1))), "neither"),
        ]
        for act, words in rows:
            with self.subTest(words), self.assertRaisesRegex(FrameError, words) as caught:
                act()
            self.assertTrue(caught.exception.hint)

    def test_units_and_areas(self) -> None:
        self.assertEqual(
            [unit_key_of(c) for c in ("EPSG:25832", "EPSG:2278", "EPSG:2222")], ["m", "ftUS", "ft"]
        )
        west, south, east, north = (
            math.degrees(v) for v in open_frame(working_frame_spec("EPSG:25832")).area_of_use()
        )
        self.assertTrue(west < 8.4 < east and south < 61.3 < north)
        self.assertIsNone(Frame(FrameSpec(name="x")).area_of_use())
        self.assertEqual(open_frame(working_frame_spec("EPSG:25832")).geodetic_name, "EPSG:4258")

    def test_grids(self) -> None:
        for name in ("test_vgrid_unsupported_byte.tif", "egm96_15_uncompressed_truncated.tif", "README.md"):
            with self.subTest(name):
                try:
                    found = GeoidGrid(DATA / name).height(math.radians(0.0), math.radians(0.0))
                    self.assertTrue(np.isnan(found), "a damaged grid gives no height")
                except FrameError as error:
                    self.assertIn(name, error.where)
        with self.assertRaisesRegex(FrameError, "not found"):
            GeoidGrid(self.folder / "none.gtx")
        # A path with a blank and a comma, which would end the word in a PROJ pipeline.
        folder = self.folder / "a b, c"
        folder.mkdir()
        tarnholt.write_grid(folder)
        grid = GeoidGrid(folder / tarnholt.GRID_FILE)
        lat, lon = np.array([61.30, 61.32, 61.28]), np.array([8.40, 8.44, 8.36])  # nodes of the grid
        np.testing.assert_allclose(
            grid.height(np.radians(lat), np.radians(lon)), undulation(lat, lon), atol=1e-5
        )
        self.assertTrue(np.isnan(grid.height(math.radians(50), math.radians(8))))

    def test_factors_without_a_closed_form(self) -> None:
        """Point scale and convergence against differences of the projection itself, and radii against their
        definition."""
        frame = open_frame(working_frame_spec("EPSG:25832"))
        lat, lon, step = math.radians(61.3), math.radians(8.4), 1e-6
        e, n = frame.forward(
            np.array([lat, lat, lat + step, lat - step]), np.array([lon + step, lon - step, lon, lon])
        )
        meridian, prime = frame.radii(lat)
        scale, convergence = frame.point_scale(lat, lon)
        along = math.hypot(e[0] - e[1], n[0] - n[1]) / (2 * step * prime * math.cos(lat))
        up = math.hypot(e[2] - e[3], n[2] - n[3]) / (2 * step * meridian)
        self.assertAlmostEqual(along, float(scale), delta=1e-8)
        self.assertAlmostEqual(up, float(scale), delta=1e-8)
        # The image of the meridian points to true north: its grid azimuth is minus the convergence.
        self.assertAlmostEqual(math.atan2(e[2] - e[3], n[2] - n[3]), -float(convergence), delta=1e-8)

    def test_each_thread_opens_its_own(self) -> None:
        """PROJ's objects may not be shared between threads: the caches are per thread, and threads may come
        and go."""
        spec = replace(working_frame_spec("EPSG:25832"), name="threads")
        frames, results = [], []

        def work() -> None:
            frames.append(open_frame(spec))
            results.append(float(open_frame(spec).forward(1.07, 0.147)[0]))

        for _ in range(4):
            thread = threading.Thread(target=work)
            thread.start()
            thread.join()
        work()
        self.assertEqual((len({id(f) for f in frames}), len(set(results))), (5, 1))
