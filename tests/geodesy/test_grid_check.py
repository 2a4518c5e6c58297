"""Grids whose headers lie are refused before PROJ sees them; whole ones are not."""

import struct
from pathlib import Path

from fenwind.errors import FrameError
from fenwind.geodesy.geoid import GeoidGrid
from fenwind.geodesy.grid_check import check_grid
from tests.support import DATA, TempFolder


def as_big_tiff(data: bytes) -> bytes:
    """A little-endian TIFF with its first directory as a BigTIFF has it (libtiff's BigTIFF design, from
    memory): 8 bytes for numbers and places."""
    sizes = {1: 1, 2: 1, 3: 2, 4: 4, 5: 8, 12: 8}
    (place,) = struct.unpack_from("<I", data, 4)
    (count,) = struct.unpack_from("<H", data, place)
    head, values = b"", data
    for at in range(place + 2, place + 2 + 12 * count, 12):
        tag, kind, number = struct.unpack_from("<HHI", data, at)
        length = sizes[kind] * number
        where = at + 8 if length <= 4 else struct.unpack_from("<I", data, at + 8)[0]
        raw = data[where : where + length]
        if length > 8:
            raw, values = struct.pack("<Q", 16 + len(values)), values + raw
        head += struct.pack("<HHQ", tag, kind, number) + raw.ljust(8, b"\0")
    start = struct.pack("<2sHHHQ", b"II", 43, 8, 0, 16 + len(values))
    return start + values + struct.pack("<Q", count) + head + struct.pack("<Q", 0)


class Headers(TempFolder):
    def test_whole_grids_pass(self) -> None:
        for name in ("egm96_15.gtx", "test_vgrid_deflate.tif"):
            check_grid(DATA / name)
            GeoidGrid(DATA / name)

    def test_gtx(self) -> None:
        good = (-90.0, -180.0, 10.0, 10.0, 5, 7)
        for bad, words in (
            ({4: 50_000, 5: 50_000}, "ends too early"), ({4: -5}, "size is none"), ({5: 0}, "size is none"),
            ({2: 0.0}, "none on earth"), ({0: float("nan")}, "no number"), ({1: 1e9}, "none on earth"),
        ):  # fmt: skip
            head = struct.pack(">ddddii", *(bad.get(i, v) for i, v in enumerate(good)))
            path = self.write("bad.gtx", head + b"\0" * 4 * 35)
            with self.subTest(bad), self.assertRaisesRegex(FrameError, words):
                GeoidGrid(path)
        check_grid(Path(self.write("good.gtx", struct.pack(">ddddii", *good) + b"\0" * 4 * 35)))

    def test_big_tiff(self) -> None:
        small = (DATA / "test_vgrid_deflate.tif").read_bytes()
        big = as_big_tiff(small)
        check_grid(Path(self.write("big.tif", big)))
        (place,) = struct.unpack_from("<Q", big, 8)
        for at, value, words in (
            (place, 0, "no length"), (place, 1, "size is none"), (place, 513, "no length"),
            (8, len(big), "past the end"), (len(big) - 8, place, "circle"),
        ):  # fmt: skip
            bad = bytearray(big)
            struct.pack_into("<Q", bad, at, value)
            with self.subTest(words), self.assertRaisesRegex(FrameError, words):
                check_grid(Path(self.write("bad.tif", bytes(bad))))

    def test_tiff(self) -> None:
        """Values of a tag's entry made absurd, one at a time."""
        data = (DATA / "test_vgrid_deflate.tif").read_bytes()
        (place,) = struct.unpack_from("<I", data, 4)
        (count,) = struct.unpack_from("<H", data, place)
        entries = {
            struct.unpack_from("<H", data, place + 2 + 12 * i)[0]: place + 2 + 12 * i for i in range(count)
        }
        for tag, value in ((256, 0), (257, 2**31), (258, 3), (278, 0), (273, 2**31), (279, 2**31), (259, 77)):
            bad = bytearray(data)
            struct.pack_into("<HII", bad, entries[tag] + 2, 4, 1, value)
            with self.subTest(tag), self.assertRaises(FrameError):
                check_grid(Path(self.write("bad.tif", bytes(bad))))
        for change in (
            lambda b: struct.pack_into("<I", b, 4, place - place % 2 + len(b)),  # directory past the end
            lambda b: struct.pack_into("<I", b, place + 2 + 12 * count, place),  # a circle of directories
            lambda b: struct.pack_into("<H", b, entries[278], 310),  # rows of a strip not said
            lambda b: struct.pack_into("<H", b, place, 60000),
        ):
            bad = bytearray(data)
            change(bad)
            with self.assertRaises(FrameError):
                check_grid(Path(self.write("bad.tif", bytes(bad))))
