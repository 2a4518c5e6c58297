"""What lies under the plan: the line work of a drawing, flattened, and images with their place on the
ground."""

from __future__ import annotations

import os
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FormatError
from fenwind.exchange.dxf import open_drawing, unit_of
from fenwind.exchange.files import check_size, foreign_reader
from fenwind.progress import NULL_PROGRESS, Progress
from fenwind.quantities.lengths import METRE, UNITS, LengthUnit

FloatArray = NDArray[np.float64]

#: Longer side an image is kept at, pixels, and the most pixels an image may have before it is not opened at
#: all.
LARGEST_SIDE, MOST_PIXELS = 4096, 400_000_000
#: How far a flattened curve may lie beside the true one, as a part of its size.
FLAT = 0.002
IMAGE_ENDINGS = (".tif", ".tiff", ".png", ".jpg", ".jpeg")
#: No place on the ground has a coordinate as large, in any unit.
MOST_GROUND = 1e12
#: The tag of a GeoTIFF's keys, the key of what its pixels are, and that they are points.
KEYS, RASTER_TYPE, POINTS = 34735, 1025, 2
_HINT = "Give a GeoTIFF, or an image with a world file beside it"


@dataclass(frozen=True, kw_only=True, eq=False)
class LineWork:
    """Segments (4, k) of e, n to e, n in metres by layer."""

    layers: dict[str, FloatArray]


@dataclass(frozen=True, kw_only=True, eq=False)
class GroundImage:
    """Pixels (h, w, 4) of 8-bit RGBA and their place: e = a + b column + c row, n = d + f column + g row in
    metres, with `place` = (a, b, c, d, f, g) for the upper left corner of the upper left pixel."""

    pixels: NDArray[np.uint8]
    place: tuple[float, float, float, float, float, float]


def read_backdrop(
    path: str, unit: LengthUnit = METRE, progress: Progress = NULL_PROGRESS
) -> LineWork | GroundImage:
    """A drawing (.dxf) or an image; coordinates in `unit` where the file states none. Raises FormatError,
    Cancelled."""
    ending = os.path.splitext(path)[1].lower()
    if ending == ".dxf":
        return read_line_work(path, unit, progress)
    if ending in IMAGE_ENDINGS:
        return read_image(path, unit)
    raise FormatError(
        f"{ending or 'this'} is no drawing or image",
        where=path,
        hint="Give a DXF, a GeoTIFF, or an image with a world file",
    )


def read_line_work(path: str, unit: LengthUnit = METRE, progress: Progress = NULL_PROGRESS) -> LineWork:
    """Lines, polylines, arcs, circles, ellipses, splines and the blocks made of them, flattened. Raises
    FormatError, Cancelled."""
    from ezdxf import path as paths
    from ezdxf.disassemble import recursive_decompose

    drawing = open_drawing(path)
    stated = unit_of(drawing)
    metres = (UNITS[stated] if stated else unit).metres
    parts: dict[str, list[FloatArray]] = {}
    with foreign_reader(
        path, "the drawing", "Save the drawing again as DXF, or check it in a drawing program"
    ):
        for count, entity in enumerate(recursive_decompose(drawing.modelspace())):
            if count % 500 == 0:
                progress.check()
            corners = _corners(entity, paths)
            if corners is not None and len(corners) > 1:
                parts.setdefault(entity.dxf.layer, []).append(np.hstack([corners[:-1], corners[1:]]).T)
    return LineWork(layers={name: np.hstack(some) * metres for name, some in parts.items()})


def _corners(entity: Any, paths: Any) -> FloatArray | None:
    """Corners (k, 2) of an entity; None for what has no line, or one that ends nowhere."""
    kind = entity.dxftype()
    if kind == "LINE":
        ends = np.array([entity.dxf.start.vec2, entity.dxf.end.vec2], dtype=float)
        return ends if np.isfinite(ends).all() else None
    if kind not in ("LWPOLYLINE", "POLYLINE", "ARC", "CIRCLE", "ELLIPSE", "SPLINE"):
        return None
    try:
        made = paths.make_path(entity)
        box = paths.bbox([made], fast=True)
        if not np.isfinite([*box.size.xyz, *box.center.xyz]).all():
            return None  # it would be parted into ever smaller pieces
        size = max(float(box.size.x), float(box.size.y), 1e-6)
        return np.array([(v.x, v.y) for v in made.flattening(size * FLAT, segments=4)], dtype=float)
    except (TypeError, ValueError, ZeroDivisionError):
        return None  # an entity without extent


def read_image(path: str, unit: LengthUnit = METRE) -> GroundImage:
    """An image with its place from GeoTIFF tags (OGC 19-008r4) or from a world file beside it. Raises
    FormatError without either."""
    from PIL import Image

    check_size(path)
    with foreign_reader(path, "the image", _HINT):
        Image.MAX_IMAGE_PIXELS = MOST_PIXELS
        with Image.open(path) as image:
            place = _world_file(path) or geotiff_place(image)
            if place is None:
                raise FormatError("nothing says where the image lies", where=path, hint=_HINT)
            if image.width * image.height > MOST_PIXELS:
                raise FormatError("the image is too large", where=path, hint="Give a smaller one")
            before = (image.width, image.height)
            image.draft("RGB", (LARGEST_SIDE, LARGEST_SIDE))
            image.thumbnail((LARGEST_SIDE, LARGEST_SIDE))
            pixels = np.array(image.convert("RGBA"), dtype=np.uint8)
    across, down = before[0] / pixels.shape[1], before[1] / pixels.shape[0]
    a, b, c, d, f, g = (v * unit.metres for v in place)
    return GroundImage(pixels=pixels, place=(a, b * across, c * down, d, f * across, g * down))


def _world_file(path: str) -> tuple[float, float, float, float, float, float] | None:
    """Six lines: b, f, c, g, and the centre of the upper left pixel (common practice; the format has no
    standard)."""
    stem, ending = os.path.splitext(path)
    short = ending[1:2] + ending[-1:] + "w"
    for candidate in (f"{stem}.{short}", f"{stem}{ending}w", f"{stem}.wld", f"{stem}.{short.upper()}"):
        if os.path.isfile(candidate):
            try:
                b, f, c, g, e0, n0 = (float(line) for line in Path(candidate).read_text().split()[:6])
            except ValueError as error:
                raise FormatError(
                    "the world file does not hold six numbers", where=candidate, hint=_HINT
                ) from error
            sane = all(abs(v) < MOST_GROUND for v in (b, f, c, g, e0, n0))  # nan is not
            if not sane or b * g == c * f:
                raise FormatError("the world file gives the image no extent", where=candidate, hint=_HINT)
            return e0 - 0.5 * (b + c), b, c, n0 - 0.5 * (f + g), f, g
    return None


def geotiff_place(image: Any) -> tuple[float, float, float, float, float, float] | None:
    """ModelTransformation (34264), or ModelPixelScale (33550) with one ModelTiepoint (33922): where the upper
    left corner of the first pixel lies, whether the file says that or where its middle does (raster type)."""
    tags = getattr(image, "tag_v2", None)
    if tags is None:
        return None
    if 34264 in tags:
        m = tags[34264]
        a, b, c, d, f, g = m[3], m[0], m[1], m[7], m[4], m[5]
    elif 33550 in tags and 33922 in tags:
        sx, sy = tags[33550][:2]
        column, row, _, e, n = tags[33922][:5]
        a, b, c, d, f, g = e - column * sx, sx, 0.0, n + row * sy, 0.0, -sy
    else:
        return None
    if geo_keys(tags).get(RASTER_TYPE) == POINTS:
        return a - 0.5 * (b + c), b, c, d - 0.5 * (f + g), f, g
    return a, b, c, d, f, g


def geo_keys(tags: Any) -> dict[int, int]:
    """Short values of a GeoTIFF's keys."""
    numbers = [int(v) for v in tags.get(KEYS, ())]
    rows = [numbers[i : i + 4] for i in range(4, len(numbers) - 3, 4)]
    return {key: value for key, where, count, value in rows if where == 0 and count == 1}
