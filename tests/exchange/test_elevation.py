"""Elevation grids and outlines of areas from files."""

import json
from unittest import mock

import numpy as np
import pyproj
from PIL import Image
from PIL.TiffImagePlugin import ImageFileDirectory_v2

from fenwind.errors import FormatError
from fenwind.exchange.backdrop import read_image
from fenwind.exchange.elevation import read_elevation
from fenwind.exchange.outline import read_outline
from fenwind.geodesy.frames import find_crs
from fenwind.quantities.lengths import FOOT
from tests.support import TempFolder


class Grids(TempFolder):
    def grid(
        self, name: str, values: np.ndarray, code: int, key: int, corner: tuple[float, float],
        step: float, point: bool = False, void: str = "",
    ) -> str:  # fmt: skip
        tags = ImageFileDirectory_v2()
        tags[33550], tags[33922] = (step, step, 0.0), (0.0, 0.0, 0.0, *corner, 0.0)
        for tag in (33550, 33922):
            tags.tagtype[tag] = 12
        keys = [1025, 0, 1, 2 if point else 1, key, 0, 1, code]
        tags[34735] = (1, 1, 0, len(keys) // 4, *keys)
        tags.tagtype[34735] = 3
        if void:
            tags[42113] = void
        path = self.path(name)
        Image.fromarray(values).save(path, tiffinfo=tags)
        return path

    def test_elevation_grids(self) -> None:
        """A sloping plane in a projected system and one in degrees, cells or points, with a void: heights as
        the plane has them, between the middles of cells."""
        rows, columns = np.mgrid[0:30, 0:40]
        e0, n0, step = 500_000.0, 5_600_000.0, 50.0

        def height(e: np.ndarray, n: np.ndarray) -> np.ndarray:
            return 300.0 + 0.02 * (e - e0) - 0.03 * (n - n0)

        cells = height(e0 + (columns + 0.5) * step, n0 - (rows + 0.5) * step).astype(np.float32)
        cells[5, 7] = -9999.0
        e, n = np.array([e0 + 612.0, e0 + 1200.0, e0 + 7.6 * step, e0 - 60.0]), np.array(
            [n0 - 333.0, n0 - 900.0, n0 - 5.4 * step, n0 - 100.0])  # fmt: skip
        lon, lat = pyproj.Transformer.from_crs(25832, 4258, always_xy=True).transform(e, n)
        datum = find_crs("EPSG:4258")
        for point in (False, True):
            values = cells if not point else height(e0 + columns * step, n0 - rows * step).astype(np.float32)
            path = self.grid("p.tif", values, 25832, 3072, (e0, n0), step, point, "-9999")
            found = read_elevation(path).heights(np.radians(lat), np.radians(lon), datum)
            np.testing.assert_allclose(found[:2], height(e[:2], n[:2]), atol=0.01, err_msg=str(point))
            self.assertTrue(np.isnan(found[3]))
            self.assertEqual(bool(np.isnan(found[2])), not point)  # beside a void
        degrees = (100.0 + 1000.0 * (columns + 0.5) * 0.001 - 500.0 * (rows + 0.5) * 0.001).astype(np.int32)
        path = self.grid("g.tif", degrees * 10, 4326, 2048, (10.0, 50.0), 0.001)
        found = read_elevation(path).heights(np.radians([49.99]), np.radians([10.02]), find_crs("EPSG:4326"))
        np.testing.assert_allclose(found, [10.0 * (100.0 + 20.0 - 5.0)], atol=12.0)
        bad = {
            "void.tif": (np.full((4, 4), -9999.0, dtype=np.float32), 25832, "every cell"),
            "none.tif": (np.ones((4, 4), dtype=np.float32), 32767, "does not state its system"),
            "photo.tif": (np.ones((4, 4, 3), dtype=np.uint8), 25832, "a picture, not a grid"),
        }
        for name, (values, code, words) in bad.items():
            with self.assertRaisesRegex(FormatError, words):
                read_elevation(self.grid(name, values, code, 3072, (e0, n0), step, False, "-9999"))
        for name, keys in (("one.tif", 7), ("short.tif", (1, 1, 0)), ("words.tif", "keys")):
            tags = ImageFileDirectory_v2()
            tags[33550], tags[33922] = (step, step, 0.0), (0.0, 0.0, 0.0, e0, n0, 0.0)
            tags[34735] = keys
            Image.fromarray(np.ones((4, 4), dtype=np.float32)).save(self.path(name), tiffinfo=tags)
            self.assertRaises(FormatError, read_elevation, self.path(name))
        with self.assertRaises(FormatError):
            read_elevation(self.write("text.tif", "no grid"))

    def test_a_picture_made_smaller_covers_the_same_ground(self) -> None:
        photo = np.zeros((20, 40, 3), dtype=np.uint8)
        Image.fromarray(photo).save(self.path("turned.png"))
        self.write("turned.pgw", "0.5\n0.2\n0.1\n-0.4\n1000.3\n1999.9\n")
        corners = np.array([[1000.0, 2000.0], [1020.0, 1990.0]])
        for name, point, wanted in (
            ("area.tif", False, corners), ("points.tif", True, corners + np.array([-0.25, 0.25])),
            ("turned.png", False, np.array([[1000.0, 2000.0], [1022.0, 2000.0]])),
        ):  # fmt: skip
            path = self.path(name)
            if name.endswith("tif"):
                path = self.grid(name, photo, 25832, 3072, (1000.0, 2000.0), 0.5, point)
            for side in (4000, 10):
                with mock.patch("fenwind.exchange.backdrop.LARGEST_SIDE", side):
                    found = read_image(path, FOOT)
                (a, b, c, d, f, g), (rows, columns) = found.place, found.pixels.shape[:2]
                self.assertEqual(max(rows, columns), min(side, 40))
                ends = [(a, d), (a + b * columns + c * rows, d + f * columns + g * rows)]
                np.testing.assert_allclose(ends, wanted * 0.3048, atol=1e-9, err_msg=f"{name} {side}")

    def test_outlines_from_files(self) -> None:
        small = [[10.0, 50.0], [10.001, 50.0], [10.001, 50.001], [10.0, 50.0]]
        large = [[11.0, 50.0], [11.01, 50.0], [11.01, 50.01], [11.0, 50.01], [11.0, 50.0]]
        features = [
            {"type": "Feature", "properties": {}, "geometry": {"type": "Polygon", "coordinates": [ring]}}
            for ring in (small, large)
        ]
        text = json.dumps({"type": "FeatureCollection", "features": features})
        found = read_outline(self.write("a.geojson", text))
        np.testing.assert_allclose(found.corners.T, large[:-1])
        self.assertTrue(found.crs.is_geographic)
        point = '{"type":"Feature","properties":{},"geometry":{"type":"Point","coordinates":[1,2]}}'
        for name, content, words in (("b.geojson", point, "no polygon"), ("c.txt", text, "no file of areas"),
                                     ("d.geojson", "{", "outline")):  # fmt: skip
            with self.assertRaisesRegex(FormatError, words):
                read_outline(self.write(name, content))
