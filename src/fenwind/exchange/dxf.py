"""DXF through ezdxf: points and blocks with attributes into a raw table, and positions out as points, symbols
and labels on layers.

Group codes and entity names are those of the published DXF reference (from memory).
"""

from __future__ import annotations

import math
import re
from collections.abc import Iterable
from typing import Any

import numpy as np

from fenwind.errors import FormatError
from fenwind.exchange.files import check_size, foreign_reader, write_whole
from fenwind.exchange.outgoing import Outgoing
from fenwind.exchange.raw_table import RawTable, plain
from fenwind.quantities.lengths import UNITS

_HINT = "Save the drawing again as DXF, or check it in a drawing program"
#: $INSUNITS to our keys.
INSUNITS = {2: "ft", 4: "mm", 6: "m", 7: "km", 21: "ftUS"}


def open_drawing(path: str) -> Any:
    """The drawing of a DXF file, text or binary. Raises FormatError when it is missing, damaged, or no DXF at
    all."""
    check_size(path)
    with foreign_reader(path, "the drawing", _HINT):
        from ezdxf.filemanagement import readfile

        return readfile(path)


def unit_of(drawing: Any) -> str:
    """Key of the unit a drawing states, empty where it states none Fenwind knows."""
    return INSUNITS.get(int(drawing.header.get("$INSUNITS", 0)), "")


def read_dxf(path: str, part: str = "") -> RawTable:
    """POINT entities, and INSERT entities that carry attributes, of the model space as a raw table; `part`
    names one layer.

    A block's attributes become columns named by their tags. A point takes the text nearest to it, within
    three text heights, as its name. Raises FormatError when the drawing is damaged or holds neither.
    """
    drawing = open_drawing(path)
    with foreign_reader(path, "the drawing", _HINT):
        space = drawing.modelspace()
        inserts = [b for b in space.query("INSERT") if b.attribs and (not part or b.dxf.layer == part)]
        there = {_spot(_of_block(b)) for b in inserts}  # a block says more of the same mark than its point
        every = (p for p in space.query("POINT") if not part or p.dxf.layer == part)
        points = [p for p in every if _spot(p.dxf.location) not in there]
        layers = tuple(sorted({p.dxf.layer for p in space.query("POINT INSERT")}))
        tags = tuple(dict.fromkeys(a.dxf.tag for b in inserts for a in b.attribs))
        name_tag = next((t for t in tags if _NAME_TAG.fullmatch(t)), "")
        others = [t for t in tags if t != name_tag]
        rows = _rows_of_points(space, points, len(others)) + _rows_of_blocks(inserts, name_tag, others)
    if not rows:
        raise FormatError(
            "there are no points or blocks with attributes in it",
            where=path,
            hint="Lines and texts are moved, not read",
        )
    return RawTable(
        source=path,
        headers=("name", "e", "n", "h", "layer", "handle", *(_header(t) for t in others)),
        rows=rows,
        lines=range(1, len(rows) + 1),
        place="entity",
        unit=unit_of(drawing),
        part=part,
        parts=layers if len(layers) > 1 else (),
    )


def _rows_of_points(space: Any, points: list[Any], more: int) -> list[list[str]]:
    """Points under the names of the texts beside them, with so many empty cells more."""
    names = [text for _, text in labels_of(space, points)]
    return [
        [name, *_place(p.dxf.location), p.dxf.layer, p.dxf.handle, *[""] * more]
        for name, p in zip(names, points, strict=True)
    ]


def _rows_of_blocks(inserts: list[Any], name_tag: str, others: list[str]) -> list[list[str]]:
    """Blocks under the name in one attribute, with the others as cells."""
    rows: list[list[str]] = []
    for block in inserts:
        values = {a.dxf.tag: str(a.dxf.text).strip() for a in block.attribs}
        own = [values.get(name_tag, ""), *_place(_of_block(block)), block.dxf.layer, block.dxf.handle]
        rows.append([*own, *(values.get(t, "") for t in others)])
    return rows


_NAME_TAG = re.compile(r"(POINT_?)?(NAME|NO|NR|NUMBER|ID)|POINT|PT|MARK|STATION", re.IGNORECASE)


def _header(tag: str) -> str:
    """A tag as a header: the coordinates stand in columns of their own already."""
    return (
        f"attribute {tag}"
        if tag.lower() in ("e", "n", "h", "x", "y", "z", "layer", "handle", "height", "elevation")
        else tag
    )


def _of_block(entity: Any) -> Any:
    """Insertion point of a block or a text in the world's axes."""
    turned = entity.dxf.hasattr("extrusion")
    return entity.ocs().to_wcs(entity.dxf.insert) if turned else entity.dxf.insert


def _spot(point: Any) -> tuple[float, float]:
    return round(point.x, 6), round(point.y, 6)


def _place(point: Any) -> list[str]:
    """E, N, h as cells; a height of exactly zero is what flat drawings hold, and no height."""
    return [plain(point.x), plain(point.y), plain(point.z) if point.z else ""]


def labels_of(space: Any, points: list[Any]) -> list[tuple[Any, str]]:
    """For every POINT the TEXT or MTEXT nearest to it within three text heights, each used once, and what it
    says; (None, "") without one."""
    texts = [(t, _of_block(t), t.dxf.get("height", 1.0), t.dxf.text.strip()) for t in space.query("TEXT")]
    texts += [
        (t, t.dxf.insert, t.dxf.get("char_height", 1.0), t.plain_text().strip()) for t in space.query("MTEXT")
    ]
    texts = [t for t in texts if t[3]]
    if not texts:
        return [(None, "")] * len(points)
    at = np.array([(t[1].x, t[1].y) for t in texts])
    reach = 3.0 * np.array([t[2] for t in texts])
    order = np.argsort(at[:, 0], kind="stable")
    at, reach, widest = at[order], reach[order], float(reach.max())
    found: list[tuple[Any, str]] = []
    used: set[int] = set()
    for point in points:
        x, y = point.dxf.location.x, point.dxf.location.y
        low, high = np.searchsorted(at[:, 0], [x - widest, x + widest])
        distance = np.hypot(at[low:high, 0] - x, at[low:high, 1] - y)
        near = next(
            (
                int(i) + low
                for i in np.argsort(distance)
                if distance[i] <= reach[i + low] and int(i) + low not in used
            ),
            -1,
        )
        used.add(near)
        found.append((texts[order[near]][0], texts[order[near]][3]) if near >= 0 else (None, ""))
    return found


def write_dxf(path: str, out: Outgoing, text_height: float = 0.0) -> None:
    """Write positions as points in the frame's unit, with a symbol (a block named by it) and a label each; a
    layer a class for points, symbols and labels. The system stands in a text at the lower left. text_height 0
    chooses one by the marks' spacing.

    Raises FormatError when the file cannot be written.
    """
    from ezdxf.filemanagement import new

    unit = UNITS[out.spec.unit]
    drawing = new("R2018", setup=True)
    drawing.header["$INSUNITS"] = next((code for code, key in INSUNITS.items() if key == unit.key), 0)
    drawing.header["$PDMODE"] = 0
    space = drawing.modelspace()
    e, n, h = out.e_m / unit.metres, out.n_m / unit.metres, np.nan_to_num(out.height_m / unit.metres)
    height = text_height or _text_height(e, n)
    _define_symbols(drawing, sorted(set(out.symbols)))
    for index, name in enumerate(sorted({_layer_of(c) for c in out.words["class"]})):
        for kind in ("points", "symbols", "labels"):
            drawing.layers.add(f"{name} {kind}", color=(7, 5, 3, 1, 6, 4, 30, 94)[index % 8])
    for i, name in enumerate(out.names):
        layer = _layer_of(out.words["class"][i])
        at = (float(e[i]), float(n[i]), float(h[i]))
        space.add_point(at, dxfattribs={"layer": f"{layer} points"})
        size = height * 0.8
        look = {"layer": f"{layer} symbols", "xscale": size, "yscale": size, "zscale": size}
        symbol = space.add_blockref(_block_name(out.symbols[i]), at, dxfattribs=look)
        for tag, text in (
            ("NAME", name),
            ("CODE", out.words["code"][i]),
            ("DESCRIPTION", out.words["description"][i]),
        ):
            symbol.add_attrib(
                tag,
                _line(text),
                insert=at,
                dxfattribs={"layer": f"{layer} symbols", "height": height, "invisible": 1},
            )
        if out.labelled[i]:
            label = space.add_text(_line(name), dxfattribs={"layer": f"{layer} labels", "height": height})
            label.set_placement((at[0] + height, at[1] + 0.4 * height, at[2]))
    fine = np.isfinite(e) & np.isfinite(n)
    if fine.any():
        corner = (float(e[fine].min()), float(n[fine].min()) - 5.0 * height)
        note = space.add_text(_line(out.system_words), dxfattribs={"layer": "0", "height": height})
        note.set_placement(corner)

    def put(name: str) -> None:
        with foreign_reader(path, "the drawing", "Choose another folder or name", "written"):
            drawing.saveas(name)

    write_whole(path, put)


def _layer_of(mark_class: str) -> str:
    """A class as a layer name, without the characters that DXF forbids in one."""
    return re.sub(r'[<>/\\":;?*|=`,]', "_", mark_class).strip() or "marks"


def _line(text: str) -> str:
    return " ".join(text.split())


def _block_name(symbol: str) -> str:
    return f"MARK_{symbol.upper()}"


def _define_symbols(drawing: Any, symbols: Iterable[str]) -> None:
    """Symbols as blocks, about one unit across, with the marks' attributes."""
    for symbol in symbols:
        block = drawing.blocks.new(_block_name(symbol))
        if symbol == "triangle":
            block.add_solid([(-0.5, -0.35), (0.5, -0.35), (0.0, 0.6)])
        elif symbol == "square":
            block.add_lwpolyline([(-0.4, -0.4), (0.4, -0.4), (0.4, 0.4), (-0.4, 0.4)], close=True)
        elif symbol == "cross":
            block.add_line((-0.45, -0.45), (0.45, 0.45))
            block.add_line((-0.45, 0.45), (0.45, -0.45))
        else:
            block.add_circle((0, 0), 0.42 if symbol == "ring" else 0.15)
        for tag in ("NAME", "CODE", "DESCRIPTION"):
            block.add_attdef(tag, (0.6, 0.2), dxfattribs={"height": 1.0, "invisible": 1})


def _text_height(e: Any, n: Any) -> float:
    """A round height of labels, about a fortieth of the extent for few marks and less for many."""
    fine = np.isfinite(e) & np.isfinite(n)
    if fine.sum() < 2:
        return 1.0
    extent = float(max(np.ptp(e[fine]), np.ptp(n[fine]), 1.0))
    wanted = extent / (20.0 * math.sqrt(float(fine.sum())))
    power = 10.0 ** math.floor(math.log10(wanted))
    return float(max(p for p in (1.0, 2.0, 5.0) if p * power <= wanted * (1 + 1e-9)) * power)
