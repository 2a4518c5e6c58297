"""Grid files looked at before PROJ reads them: a header that lies makes its reader divide by zero or run
past the end, which no error can be caught of.

GTX: the layout of NOAA's VDatum grids (40 bytes: latitude and longitude of the south-west node, steps, rows,
columns; then float32, all big-endian). TIFF: TIFF 6.0, sections 2 and 15, and OGC 19-008r4 for the place.
"""

from __future__ import annotations

import math
import stat
import struct
from pathlib import Path
from typing import BinaryIO

from fenwind.errors import FrameError

#: Larger files are no geoid grids, bytes.
MOST_BYTES = 1 << 30
_HINT = "Use a whole GTX or GeoTIFF grid file"
#: Bytes of a value by TIFF type.
_SIZES = {
    1: 1,
    2: 1,
    3: 2,
    4: 4,
    5: 8,
    6: 1,
    7: 1,
    8: 2,
    9: 4,
    10: 8,
    11: 4,
    12: 8,
    13: 4,
    16: 8,
    17: 8,
    18: 8,
}
_CODES = {1: "B", 3: "H", 4: "I", 12: "d", 13: "I", 16: "Q", 18: "Q"}
#: None, LZW, deflate by either number, zstd, LERC.
_COMPRESSIONS = (1, 5, 8, 32946, 50000, 34887)
_MOST_DIRECTORIES, _MOST_SIDE = 64, 1_000_000

Tags = dict[int, tuple[float, ...]]


class _Lies(Exception):
    """What is wrong with a header."""


def check_grid(path: Path) -> None:
    """Raise FrameError when a file is no regular file, is too large, or does not hold what its header
    says."""
    try:
        seen = path.stat()
        if not stat.S_ISREG(seen.st_mode):
            raise FrameError("this is no grid file", where=str(path), hint=_HINT)
        if seen.st_size > MOST_BYTES:
            raise FrameError("the grid file is larger than 1 GB", where=str(path), hint=_HINT)
        with open(path, "rb") as file:
            start = file.read(8)
            if start == b"NUM_OREC":
                _check_ntv2(file, seen.st_size)
            elif start[:2] in (b"II", b"MM"):
                _check_tiff(file, seen.st_size, "<" if start[:2] == b"II" else ">")
            else:
                _check_gtx(file, seen.st_size)
    except OSError as error:
        raise FrameError(
            f"the grid cannot be read: {error.strerror}",
            where=str(path),
            hint="Check the file and its folder",
        ) from error
    except (_Lies, struct.error, ValueError) as error:
        raise FrameError(f"not a readable grid ({error})", where=str(path), hint=_HINT) from error


def _require(true: bool, words: str) -> None:
    if not true:
        raise _Lies(words)


def _check_gtx(file: BinaryIO, size: int) -> None:
    file.seek(0)
    lat, lon, dlat, dlon, rows, columns = struct.unpack(">ddddii", file.read(40))
    _require(all(math.isfinite(v) for v in (lat, lon, dlat, dlon)), "its place is no number")
    _require(
        dlat > 0.0 and dlon > 0.0 and abs(lat) <= 90.0 and abs(lon) <= 540.0, "its place is none on earth"
    )
    _require(2 <= rows <= _MOST_SIDE and 2 <= columns <= _MOST_SIDE, "its size is none")
    _require(size >= 40 + 4 * rows * columns, "it ends too early")


def _check_ntv2(file: BinaryIO, size: int) -> None:
    """Headers of 11 records of 16 bytes, the nodes of each grid after its own (NTv2 developer's guide, 1995;
    from memory)."""
    file.seek(8)
    head = file.read(4)
    order = next((o for o in "<>" if struct.unpack(o + "i", head)[0] == 11), "")
    _require(bool(order), "its header is none")
    file.seek(40)
    (grids,) = struct.unpack(order + "i", file.read(4))
    _require(1 <= grids <= _MOST_DIRECTORIES, "the number of its grids is none")
    place = 176
    for _ in range(grids):
        file.seek(place + 64)
        values = [struct.unpack(order + "8xd", file.read(16))[0] for _ in range(6)]
        south, north, east, west, dlat, dlon = values
        _require(all(math.isfinite(v) for v in values), "its place is no number")
        _require(dlat > 0.0 and dlon > 0.0 and north > south and west > east, "its place is none on earth")
        (count,) = struct.unpack(order + "8xi4x", file.read(16))
        sides = (north - south) / dlat, (west - east) / dlon
        _require(max(sides) < _MOST_SIDE, "its size is none")
        rows, columns = (round(side) + 1 for side in sides)
        _require(count == rows * columns, "its size is none")
        place += 176 + 16 * count
        _require(size >= place, "it ends too early")


def _check_tiff(file: BinaryIO, size: int, order: str) -> None:
    file.seek(2)
    (version,) = struct.unpack(order + "H", file.read(2))
    big = version == 43
    _require(version in (42, 43), "it is no TIFF")
    file.seek(8 if big else 4)
    (place,) = struct.unpack(order + ("Q" if big else "I"), file.read(8 if big else 4))
    seen: set[int] = set()
    while place:
        _require(place not in seen and len(seen) < _MOST_DIRECTORIES, "its directories run in a circle")
        seen.add(place)
        tags, place = _directory(file, size, order, big, place)
        _check_image(tags, size)
    _require(bool(seen), "it holds no image")


def _directory(file: BinaryIO, size: int, order: str, big: bool, place: int) -> tuple[Tags, int]:
    """Numbers of a directory by tag, and where the next one is."""
    _require(place < size, "a directory lies past the end")
    file.seek(place)
    (count,) = struct.unpack(order + ("Q" if big else "H"), file.read(8 if big else 2))
    _require(0 < count <= 512, "a directory has no length")
    width, inline = (20, 8) if big else (12, 4)
    entries = file.read(width * count)
    (following,) = struct.unpack(order + ("Q" if big else "I"), file.read(inline))
    tags: Tags = {}
    for at in range(0, width * count, width):
        tag, kind = struct.unpack_from(order + "HH", entries, at)
        (number,) = struct.unpack_from(order + ("Q" if big else "I"), entries, at + 4)
        _require(kind in _SIZES, "a value is of no type")
        length = _SIZES[kind] * number
        if length <= inline:
            raw = entries[at + width - inline : at + width - inline + length]
        else:
            (there,) = struct.unpack_from(order + ("Q" if big else "I"), entries, at + width - inline)
            _require(there + length <= size, "a value lies past the end")
            file.seek(there)
            raw = file.read(length) if kind in _CODES else b""
        if kind in _CODES:
            tags[tag] = struct.unpack(f"{order}{number}{_CODES[kind]}", raw)
    return tags, following


def _one(tags: Tags, tag: int, default: int = 0) -> int:
    values = tags.get(tag, (default,))
    return int(values[0]) if values else default


def _check_image(tags: Tags, size: int) -> None:
    """Size, strips or tiles, and place of one image."""
    width, length = _one(tags, 256), _one(tags, 257)
    _require(0 < width <= _MOST_SIDE and 0 < length <= _MOST_SIDE, "its size is none")
    samples, planes = _one(tags, 277, 1), _one(tags, 284, 1)
    _require(_one(tags, 259, 1) in _COMPRESSIONS, "it is packed in an unknown way")
    _require(1 <= samples <= 64 and planes in (1, 2), "it has no layers")
    _require(all(bits in (8, 16, 32, 64) for bits in tags.get(258, (1,))), "its values have no size")
    if 322 in tags or 323 in tags:
        across, down = _one(tags, 322), _one(tags, 323)
        _require(0 < across <= 65536 and 0 < down <= 65536, "its tiles have no size")
        pieces = -(-width // across) * -(-length // down)
        places, counts = tags.get(324, ()), tags.get(325, ())
    else:
        rows = min(_one(tags, 278), length)
        _require(rows > 0, "its strips have no rows")
        pieces = -(-length // rows)
        places, counts = tags.get(273, ()), tags.get(279, ())
    pieces *= samples if planes == 2 else 1
    _require(len(places) == len(counts) == pieces, "pieces of it are missing")
    _require(all(a + b <= size for a, b in zip(places, counts, strict=True)), "pieces of it lie past the end")
    scale = tags.get(33550)
    _require(
        scale is None or (len(scale) >= 2 and all(math.isfinite(v) and v > 0 for v in scale[:2])),
        "it has no scale",
    )
    tie = tags.get(33922, ())
    _require(all(math.isfinite(v) for v in tie), "its place is no number")
