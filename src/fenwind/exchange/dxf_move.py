"""Moving the line work of a drawing: every entity of the model space by one similarity, layers, colours and
handles kept."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import numpy as np

from fenwind.errors import ProcedureError
from fenwind.exchange.dxf import labels_of, open_drawing
from fenwind.exchange.dxf import unit_of as unit_of_drawing
from fenwind.exchange.files import foreign_reader, write_whole
from fenwind.procedures.move import Move
from fenwind.progress import NULL_PROGRESS, Progress
from fenwind.quantities.lengths import UNITS, LengthUnit
from fenwind.quiet import collection_paused

#: Entities with a place of their own, by which they can be a target or carry a mark's name.
_PLACED = {"POINT": "location", "INSERT": "insert", "TEXT": "insert", "MTEXT": "insert", "CIRCLE": "center"}
_BLOCK = 2000


@dataclass(kw_only=True)
class MovedDrawing:
    """What a move did to a drawing: handles of what moved and of what stayed, each with the reason; counts by
    kind."""

    moved: list[str] = field(default_factory=list)
    stayed: list[tuple[str, str, str]] = field(default_factory=list)  # handle, what it is, why
    kinds: Counter[str] = field(default_factory=Counter)
    remarks: list[str] = field(default_factory=list)


def move_drawing(
    path: str,
    out: str,
    move: Move,
    stay: Iterable[str] = (),
    progress: Progress = NULL_PROGRESS,
    unit: LengthUnit | None = None,
    forced: bool = False,
) -> MovedDrawing:
    """Read a drawing, move its model space, write it to `out`.

    stay: names of what stays put, each a layer, a text, an attribute's value, or a handle. Entities at a
    pair's target stay by themselves; what the library cannot move stays and is listed. unit: None where the
    move counts in the drawing's own unit; else the move is in metres, the drawing in the unit it states, and
    in `unit` when it states none or `forced`. Raises FormatError
    when the drawing is damaged or cannot be written, ProcedureError for heights on a tilted plane, Cancelled.
    """
    with collection_paused():
        return _move(path, out, move, frozenset(s.lower() for s in stay), progress, (unit, forced))


#: The unit that a drawing is read in where it states none, and whether that holds whatever it states.
Asked = tuple[LengthUnit | None, bool]


def _unit_of(drawing: Any, asked: Asked) -> LengthUnit | None:
    """The unit that a drawing's coordinates are in, None where the move counts in it."""
    unit, forced = asked
    return unit if unit is None or forced else UNITS.get(unit_of_drawing(drawing), unit)


def _move(
    path: str, out: str, move: Move, stay: frozenset[str], progress: Progress, unit: Asked
) -> MovedDrawing:
    progress.report(0, 4, "reading the drawing")
    drawing = open_drawing(path)
    progress.check()
    done = MovedDrawing()
    with foreign_reader(
        path, "the drawing", "Save the drawing again as DXF, or check it in a drawing program"
    ):
        own = _unit_of(drawing, unit)
        _move_space(drawing, _Place(move, own.metres if own is not None else 1.0), stay, done, progress)
    if own is not None:
        done.remarks.append(f"The drawing's coordinates were taken as {own.plural}.")
    sheets = [layout.name for layout in drawing.layouts if layout.name != "Model" and len(layout) > 1]
    if sheets:
        done.remarks.append(
            f"Sheets stay as they are and still look at the old place: {', '.join(sheets[:6])}."
        )
    progress.report(3, 4, "writing")
    progress.check()
    with foreign_reader(out, "the drawing", "Save the drawing again in a drawing program", deed="written"):
        write_whole(out, drawing.saveas)
    progress.report(4, 4)
    return done


def preview(
    path: str, move: Move, stay: Iterable[str] = (), unit: LengthUnit | None = None, forced: bool = False
) -> tuple[Counter[str], list[tuple[str, str, str]], str]:
    """What a move would do: counts of what moves by kind and layer, what stays with the reason, and the key
    of the unit that the drawing states; nothing is changed.

    Raises FormatError when the drawing is damaged.
    """
    drawing = open_drawing(path)
    with foreign_reader(
        path, "the drawing", "Save the drawing again as DXF, or check it in a drawing program"
    ):
        own = _unit_of(drawing, (unit, forced))
        place = _Place(move, own.metres if own is not None else 1.0)
        _Matrices(place)  # refuses what cannot be done to a drawing
        entities, reasons = _entities(drawing, place, frozenset(s.lower() for s in stay))
        counts = Counter(f"{e.dxftype()} on {e.dxf.layer}" for e in entities if e not in reasons)
    stays = [(e.dxf.handle, _what(e), reasons[e]) for e in entities if e in reasons]
    return counts, stays, unit_of_drawing(drawing)


class _Place(NamedTuple):
    """A move, and how many of its units one unit of the drawing has."""

    move: Move
    unit: float


def _move_space(
    drawing: Any, move: _Place, stay: frozenset[str], done: MovedDrawing, progress: Progress
) -> None:
    from ezdxf import transform

    entities, reasons = _entities(drawing, move, stay)
    going = [e for e in entities if e not in reasons] if reasons else entities
    matrices = _Matrices(move)
    for start in range(0, len(going), _BLOCK):
        progress.check()
        progress.report(1000 + 2000 * start // max(len(going), 1), 4000, "moving")
        for matrix, some in matrices.groups(going[start : start + _BLOCK]):
            for entry in transform.inplace(some, matrix):
                reasons[entry.entity] = "the drawing library cannot move it"
    for entity in going:
        if entity not in reasons:
            done.moved.append(entity.dxf.handle)
            done.kinds[entity.dxftype()] += 1
    done.stayed = [(e.dxf.handle, _what(e), reasons[e]) for e in entities if e in reasons]


def _entities(drawing: Any, move: _Place, stay: frozenset[str]) -> tuple[list[Any], dict[Any, str]]:
    """What the model space holds, and why some of it stays, by entity."""
    entities = list(drawing.modelspace())
    return entities, _with_labels(drawing.modelspace(), _staying(entities, move, stay), stay)


def _staying(entities: list[Any], place: _Place, stay: frozenset[str]) -> dict[Any, str]:
    """Why some entities stay, by entity: named, on a named layer, or a target of a pair."""
    reasons: dict[Any, str] = {}
    placed = [e for e in entities if e.dxftype() in _PLACED]
    move = place.move
    if placed and move.targets.size:
        places = np.array([_world(e).vec2 for e in placed], dtype=float).T * place.unit
        for entity, there in zip(placed, move.at_target(places[0], places[1]).tolist(), strict=True):
            if there:
                reasons[entity] = "is a target of the move"
    if stay:
        for entity in entities:
            named = next((n for n in _names(entity) if n.lower() in stay), "")
            if named:
                reasons[entity] = f"named: {named}"
    return reasons


def _world(entity: Any) -> Any:
    """The place of an entity in the world's axes; most keep it in their own, which extrusion turns."""
    point = entity.dxf.get(_PLACED[entity.dxftype()])
    turned = entity.dxftype() not in ("POINT", "MTEXT") and entity.dxf.hasattr("extrusion")
    return entity.ocs().to_wcs(point) if turned else point


def _with_labels(space: Any, reasons: dict[Any, str], stay: frozenset[str]) -> dict[Any, str]:
    """A point and the text that names it belong together: what keeps one keeps the other."""
    points = list(space.query("POINT"))
    if not reasons or not points:
        return reasons
    both = dict(reasons)
    for point, (label, text) in zip(points, labels_of(space, points), strict=True):
        if label is None:
            continue
        if point in reasons:
            both.setdefault(label, f"names a point that stays: {text[:40]}")
        elif label in reasons and text.lower() in stay:
            both.setdefault(point, reasons[label])
    return both


def _names(entity: Any) -> list[str]:
    names = [entity.dxf.layer, entity.dxf.handle or ""]
    kind = entity.dxftype()
    if kind == "TEXT":
        names.append(entity.dxf.text.strip())
    elif kind == "MTEXT":
        names.append(entity.plain_text().strip())
    elif kind == "INSERT":
        names += [a.dxf.text.strip() for a in entity.attribs]
    return names


def _what(entity: Any) -> str:
    texts = [n for n in _names(entity)[2:] if n]
    return f"{entity.dxftype()} on {entity.dxf.layer}" + (f", {texts[0][:40]}" if texts else "")


class _Matrices:
    """The matrix of a move for each entity. Heights never scale, and what lies flat at zero has no height to
    shift."""

    def __init__(self, place: _Place) -> None:
        move, unit = place
        if move.heights and move.height.model == "plane":
            raise ProcedureError(
                "a drawing's heights can be shifted, not tilted",
                hint="Leave heights untouched, or use a fit with one height shift",
            )
        self._move = move
        zero = np.zeros(1)
        # The images of the origin and of the unit vectors, taken at the pairs' centre so that no digit is
        # lost far from the origin.
        centre = move.plan.target_centre if move.backwards else move.plan.source_centre
        e, n, _ = move.apply(zero + centre[0], zero + centre[1], zero)
        rotation, scale = (-move.plan.rotation_rad if move.backwards else move.plan.rotation_rad), move.scale
        self._c, self._s = scale * math.cos(rotation), scale * math.sin(rotation)
        self._shift = (
            float(e[0] - (centre[0] * self._c + centre[1] * self._s)) / unit,
            float(n[0] - (centre[1] * self._c - centre[0] * self._s)) / unit,
        )
        self._lift = self._height_shift(centre) / unit if move.heights else 0.0

    def _height_shift(self, centre: Any) -> float:
        zero = np.zeros(1)
        return float(self._move.apply(zero + centre[0], zero + centre[1], zero)[2][0])

    def groups(self, entities: list[Any]) -> list[tuple[Any, list[Any]]]:
        """Entities under the matrix each needs."""
        if not self._lift:
            return [(self._matrix(0.0), entities)]
        level = Levels()
        lifted = [e for e in entities if level.raised(e)]
        up = set(lifted)
        return [
            (self._matrix(self._lift), lifted),
            (self._matrix(0.0), [e for e in entities if e not in up]),
        ]

    def _matrix(self, lift: float) -> Any:
        from ezdxf.math import Matrix44

        c, s = self._c, self._s
        return Matrix44([c, -s, 0, 0, s, c, 0, 0, 0, 0, 1.0, 0, self._shift[0], self._shift[1], lift, 1])


#: Where an entity of one place keeps its height.
_PLACES = ("location", "insert", "center", "defpoint", "start", "vtx0", "vtx1", "vtx2", "vtx3", "end")


class Levels:
    """Which entities have a height at all: one of their places is not at zero. A block put in at zero has the
    heights of what it is made of."""

    def __init__(self) -> None:
        self._blocks: dict[str, bool] = {}

    def raised(self, entity: Any) -> bool:
        """Whether an entity has a height."""
        if any(heights_of(entity)):
            return True
        return entity.dxftype() == "INSERT" and self._in_block(entity)

    def _in_block(self, entity: Any) -> bool:
        name = entity.dxf.name
        if name not in self._blocks:
            self._blocks[name] = False  # a block that holds itself ends here
            block = entity.block()
            self._blocks[name] = block is not None and any(self.raised(e) for e in block)
        return self._blocks[name]


def heights_of(entity: Any) -> list[float]:
    """Heights of an entity's places, as they are stored."""
    kind, dxf = entity.dxftype(), entity.dxf
    if kind == "LWPOLYLINE":
        return [float(dxf.get("elevation", 0.0))]
    if kind in ("SPLINE", "HELIX"):
        return [float(p[2]) for points in (entity.control_points, entity.fit_points) for p in points]
    if kind in ("LEADER", "MESH"):
        return [float(p[2]) for p in entity.vertices]
    if kind == "MLINE":
        return [v.location.z for v in entity.vertices]
    heights = [v.dxf.location.z for v in entity.vertices] if kind == "POLYLINE" else []
    heights += (
        [dxf.elevation.z] if kind in ("HATCH", "MPOLYGON", "POLYLINE") and dxf.hasattr("elevation") else []
    )
    return heights + [float(dxf.get(name).z) for name in _PLACES if dxf.hasattr(name)]
