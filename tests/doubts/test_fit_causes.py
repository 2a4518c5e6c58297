"""What many pairs of a fit share, by the command line, on simulated truth: eight marks near 61.3 N, 8.3 E."""

import math

import numpy as np

from fenwind.geodesy.frames import open_frame, working_frame_spec
from fenwind.geodesy.geoid import GeoidGrid
from fenwind.standins import tarnholt
from tests.support import CommandCase

SAID = {"feet": "The known heights", "twice": "applied twice", "taken off": "taken off again",
        "ground": "the combined factor"}  # fmt: skip


class Shared(CommandCase):
    def setUp(self) -> None:
        super().setUp()
        rng = np.random.default_rng(3)
        self.rng = rng
        self.lat = np.radians(61.3 + rng.uniform(-0.02, 0.02, 8))
        self.lon = np.radians(8.3 + rng.uniform(-0.04, 0.04, 8))
        self.h = 1280.0 + rng.uniform(-60.0, 60.0, 8)
        self.frame = open_frame(working_frame_spec("EPSG:25832"))
        self.e, self.n = self.frame.forward(self.lat, self.lon)

    def listed(self, name: str, head: str, *columns: np.ndarray) -> str:
        path = self.folder / name
        rows = (f"P{i},{a:.10f},{b:.10f},{c:.4f}" for i, (a, b, c) in enumerate(zip(*columns, strict=True)))
        path.write_text("\n".join([head, *rows]) + "\n")
        return str(path)

    def told(
        self, known: tuple[np.ndarray, ...], swapped: bool, code: int, *more: str
    ) -> dict[str, list[str]]:
        """Rules that are told, with names, but that no pair is left to check with."""
        lat, lon = np.degrees(self.lat), np.degrees(self.lon)
        first, second = (lon, lat) if swapped else (lat, lon)
        measured = self.listed("m.csv", "name,lat,lon,h", first, second, self.h)
        noisy = (column + self.rng.normal(0.0, 0.002, 8) for column in known)
        target = self.listed("k.csv", "name,e,n,h", *noisy)
        found = self.run_json("fit", measured, target, "--frame", "EPSG:25832", *more, code=code)
        self.said = " ".join(d["text"] for d in found["doubts"])
        return {d["rule"]: d["names"] for d in found["doubts"] if d["rule"] != "fit.no-check"}

    def local(self, scale: float = 1.0) -> tuple[np.ndarray, np.ndarray]:
        """A plane of the site, turned by 20 degrees."""
        c, s = scale * math.cos(0.35), scale * math.sin(0.35)
        e, n = self.e - self.e.mean(), self.n - self.n.mean()
        return 1000.0 + c * e - s * n, 5000.0 + s * e + c * n

    def test_heights_over_the_ellipsoid_against_heights_over_the_geoid(self) -> None:
        tarnholt.write_grid(self.folder)
        grid = self.folder / tarnholt.GRID_FILE
        over = self.h - GeoidGrid(str(grid)).height(self.lat, self.lon)
        for height, wanted, words in (
            (over, [], ""),
            (self.h, ["fit.geoid"], "over the ellipsoid"),
            (2.0 * over - self.h, ["fit.geoid"], "the geoid twice"),
        ):
            found = self.told((*self.local(), height), False, len(wanted), "--geoid", str(grid))
            self.assertEqual(list(found), wanted)
            self.assertIn(words, self.said)

    def test_each_is_told_and_nothing_beside_it(self) -> None:
        e, n = self.local()
        k = float(self.frame.point_scale(float(self.lat.mean()), float(self.lon.mean()))[0])
        factor = k * (1.0 - self.h.mean() / 6.385e6)
        two = np.zeros(8)
        two[[1, 4]] = 0.9
        zone = open_frame(working_frame_spec("EPSG:25833")).forward(self.lat, self.lon)
        for words, known, swapped, wanted, code in (
            ("clean", (e, n, self.h - 42.0), False, {}, 0),
            ("feet", (e, n, (self.h - 42.0) / 0.3048), False, {"fit.height-unit": []}, 1),
            ("two heights", (e, n, self.h - 42.0 + two), False, {"fit.outlier-height": ["P1", "P4"]}, 1),
            ("zone", (*zone, self.h), False, {"fit.zone": []}, 1),
            ("realisation", (self.e + 0.35, self.n - 0.25, self.h), False, {"fit.realisation": []}, 0),
            ("axes", (self.e, self.n, self.h), True, {"fit.axes": []}, 1),
            ("ground", (*self.local(1.0 / factor), self.h), False, {"fit.scale-reason": []}, 0),
            ("twice", (*self.local(factor**-2), self.h), False, {"fit.scale-factor": []}, 1),
            ("taken off", (*self.local(factor**2), self.h), False, {"fit.scale-factor": []}, 1),
        ):
            with self.subTest(words):
                self.assertEqual(self.told(known, swapped, code), wanted)
                self.assertIn(SAID.get(words, ""), self.said)
