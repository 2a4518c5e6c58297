"""Shift grids named by file: an NTv2 grid of known shifts, written here by the published layout, on a frame
by the meridian of Paris in gon; both ways; what lies about itself; a file that is gone."""

import math
import struct
from pathlib import Path

import numpy as np

from fenwind.errors import FrameError
from fenwind.geodesy.frames import FrameSpec, open_frame
from fenwind.geodesy.shift_grid import reached, shift_grid_of, with_shift_grid, without_shift_grid
from fenwind.procedures.onto_plane import between_frames
from fenwind.procedures.positions import positions
from tests.support import TempFolder

#: South, north, west and east edge and step of the grid, degrees.
EDGE = (44.0, 49.0, 0.0, 6.0, 0.5)
OLD, NEW = "EPSG:27572", "EPSG:2154"


def shift(lat: float, lon: float) -> tuple[float, float]:
    """Seconds north and east from the old datum to the new one: linear, so that the grid is exact."""
    return -0.2 + 0.01 * (lat - 46.0), -2.0 - 0.02 * (lon - 3.0)


def ntv2(order: str = "<", edge: tuple[float, ...] = EDGE) -> bytes:
    """A grid; longitudes and their shifts count west, rows from south, columns from east."""

    def record(key: str, value: object) -> bytes:
        head = key.encode().ljust(8)
        if isinstance(value, int):
            return head + struct.pack(order + "i4x", value)
        if isinstance(value, float):
            return head + struct.pack(order + "d", value)
        return head + str(value).encode().ljust(8)

    south, north, west, east, step = edge
    lats, lons = np.arange(south, north + 1e-9, step), np.arange(east, west - 1e-9, -step)
    head = [("NUM_OREC", 11), ("NUM_SREC", 11), ("NUM_FILE", 1), ("GS_TYPE", "SECONDS"), ("VERSION", "TEST"),
            ("SYSTEM_F", "OLD"), ("SYSTEM_T", "NEW"), ("MAJOR_F", 6378249.2), ("MINOR_F", 6356515.0),
            ("MAJOR_T", 6378137.0), ("MINOR_T", 6356752.3)]  # fmt: skip
    sub = [("SUB_NAME", "ONE"), ("PARENT", "NONE"), ("CREATED", ""), ("UPDATED", ""),
           ("S_LAT", south * 3600.0), ("N_LAT", north * 3600.0), ("E_LONG", -east * 3600.0),
           ("W_LONG", -west * 3600.0), ("LAT_INC", step * 3600.0), ("LONG_INC", step * 3600.0),
           ("GS_COUNT", len(lats) * len(lons))]  # fmt: skip
    nodes = b"".join(
        struct.pack(order + "4f", shift(lat, lon)[0], -shift(lat, lon)[1], 0.1, 0.1)
        for lat in lats
        for lon in lons
    )
    return b"".join(record(*pair) for pair in (*head, *sub)) + nodes + record("END", 0.0)


class ShiftGrids(TempFolder):
    def grid(self, name: str = "shift.gsb", data: bytes | None = None) -> str:
        path = self.path(name)
        Path(path).write_bytes(ntv2() if data is None else data)
        return path

    def test_both_ways_between_frames(self) -> None:
        for order in "<>":
            bound = with_shift_grid(OLD, self.grid(f"s{ord(order)}.gsb", ntv2(order)), "EPSG:4171")
            old, new = (
                open_frame(FrameSpec(name="old", crs=bound)),
                open_frame(FrameSpec(name="new", crs=NEW)),
            )
            lat, lon = np.radians([46.3, 45.01, 48.7]), np.radians([2.9, 0.4, 5.6])
            d = np.array([shift(math.degrees(a), math.degrees(o)) for a, o in zip(lat, lon, strict=True)]).T
            there = lat + np.radians(d[0] / 3600.0), lon + np.radians(d[1] / 3600.0)
            points = positions(list("ABC"), *old.forward(lat, lon), np.full(3, 100.0))
            found, _, words = between_frames(points, old, new)
            wanted = new.forward(*there)
            np.testing.assert_allclose([found.e_m, found.n_m], wanted, atol=2e-3)
            self.assertIn("s6", words)
            back, _, _ = between_frames(found, new, old)
            np.testing.assert_allclose([back.e_m, back.n_m], [points.e_m, points.n_m], atol=1e-4)
            plain = between_frames(points, open_frame(FrameSpec(name="old", crs=OLD)), new)[0]
            self.assertGreater(float(np.hypot(found.e_m - plain.e_m, found.n_m - plain.n_m).min()), 1.0)

    def test_where_it_reaches_and_what_it_is(self) -> None:
        path = self.grid()
        bound = with_shift_grid(OLD, path, "EPSG:2154")  # of a projected system, the datum
        self.assertEqual(shift_grid_of(bound), (path, "RGF93 v1"))
        lat, lon = np.radians([46.0, 43.9, 46.0, 46.0, 49.1]), np.radians([3.0, 3.0, -0.1, 6.1, 3.0])
        self.assertEqual(reached(bound, lat, lon).tolist(), [True, False, False, False, False])
        again = with_shift_grid(bound, path, "EPSG:4258")
        self.assertEqual(shift_grid_of(again), (path, "ETRS89"))
        plain = without_shift_grid(bound)
        self.assertIsNone(shift_grid_of(plain))
        self.assertEqual(open_frame(FrameSpec(name="", crs=plain)).crs.to_epsg(), 27572)
        self.assertEqual((without_shift_grid(OLD), shift_grid_of(OLD), shift_grid_of("")), (OLD, None, None))
        # A frame whose file is gone says so, and nothing is made up.
        spec = FrameSpec(name="Old", crs=bound)
        Path(path).unlink()
        with self.assertRaises(FrameError) as said:
            open_frame(FrameSpec(name="gone", crs=bound), b"x")
        self.assertIn("its shift grid shift.gsb is not there", str(said.exception))
        self.assertEqual(spec.name, "Old")

    def test_what_lies_is_refused(self) -> None:
        good = ntv2()
        cut = bytearray(good)
        cut[40:44] = struct.pack("<i", 9)
        many = bytearray(good)
        many[176 + 168 : 176 + 172] = struct.pack("<i", 2_000_000_000)
        nowhere = bytearray(good)
        nowhere[176 + 72 : 176 + 80] = struct.pack("<d", math.nan)
        for name, data in (
            ("short.gsb", good[:900]), ("cut.gsb", bytes(cut)), ("many.gsb", bytes(many)), ("empty.gsb", b""),
            ("nan.gsb", bytes(nowhere)), ("head.gsb", b"NUM_OREC" + b"\x07" * 30), ("text.gsb", b"NUM_OREC"),
        ):  # fmt: skip
            with self.subTest(name), self.assertRaises(FrameError):
                with_shift_grid(OLD, self.grid(name, data), "EPSG:4171")
        with self.assertRaises(FrameError):
            with_shift_grid(OLD, self.path("none.gsb"), "EPSG:4171")
        with self.assertRaises(FrameError):
            with_shift_grid(OLD, self.grid("a blank.gsb"), "EPSG:4171")
        with self.assertRaises(FrameError):
            with_shift_grid(OLD, self.grid(), "EPSG:5941")  # heights alone
