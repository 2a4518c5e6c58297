"""What a projection is laid for: the marks, an area between some of them or from a file, or a corridor; and
what is known of the heights there."""

from __future__ import annotations

import os
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any, Literal

import numpy as np
import pyproj
from numpy.typing import NDArray
from PySide6.QtWidgets import QFileDialog, QMenu, QWidget

from fenwind.desk.askline import AskLine
from fenwind.desk.bridge import JobBridge
from fenwind.desk.statement import choice
from fenwind.errors import FenwindError, ParseError
from fenwind.exchange.elevation import Elevation, read_elevation
from fenwind.exchange.outline import Outline, read_outline
from fenwind.geodesy.frames import Frame, FrameSpec, open_frame
from fenwind.job.ground_view import Marks, area_at, area_of_marks, designs
from fenwind.procedures.design_area import along, between_marks, heavier, with_heights, within
from fenwind.procedures.own_projection import Aim, Area, Candidate, distortions, shares
from fenwind.quantities.lengths import LengthUnit, parse_length
from fenwind.quantities.numbers import counted, format_fixed, parse_number
from fenwind.reports.statement import Part

FloatArray = NDArray[np.float64]

#: Distortions that shares are told of, parts per million.
LIMITS_PPM = (5.0, 10.0, 20.0, 50.0)
AIMS: dict[Aim, str] = {
    "max": "the least largest distortion", "p95": "the least distortion of 95 %", "rms": "the least rms"
}  # fmt: skip


@dataclass(frozen=True, kw_only=True)
class Wanted:
    """What a projection is to be laid for. names: marks at the corners of an area, or along a corridor;
    width_m: of that; corners: (e, n) of an area drawn on the plan, metres; path: of an outline; grid:
    the file of heights, low, high: of all the area in metres, where they are typed; aim: the figure that is
    made least. work: marks along which the work is; what is within near_m of them weighs so many times the
    rest."""

    kind: Literal["marks", "around", "corridor", "file", "drawn"] = "marks"
    names: tuple[str, ...] = ()
    corners: tuple[tuple[float, float], ...] = ()
    width_m: float = 0.0
    path: str = ""
    heights: Literal["marks", "grid", "range"] = "marks"
    grid: str = ""
    low_m: float = 0.0
    high_m: float = 0.0
    aim: Aim = "max"
    work: tuple[str, ...] = ()
    near_m: float = 0.0
    times: float = 1.0


@dataclass(frozen=True, kw_only=True, eq=False)
class Laid:
    """The area as it is looked for, and its outline (2, m) on the plane, empty for the marks alone."""

    area: Area
    outline: FloatArray


@dataclass(frozen=True, kw_only=True, eq=False)
class Designs:
    """Projections by kind, what they are laid for with its outline (2, m), and where the job has coordinates
    already: boxes (2, 2), metres."""

    by_kind: dict[str, Candidate]
    area: Area
    outline: FloatArray
    others: Sequence[FloatArray] = ()


def laid_designs(
    spec: FrameSpec,
    marks: Marks,
    wanted: Wanted,
    limit: float,
    others: Sequence[FloatArray],
    *,
    progress: Any,
) -> Designs:
    """Projections of every kind for what is wanted; in a worker."""
    laid = lay_out(spec, marks, wanted)
    found = designs(laid.area, wanted.aim, limit, progress)
    return Designs(by_kind=found, area=laid.area, outline=laid.outline, others=others)


def area_words(designs: Designs, kind: str) -> str:
    """How a projection serves what it is laid for."""
    one, said, area = designs.by_kind[kind].figures, [], designs.area
    loss = designs.by_kind[kind].loss * 1e6
    within = shares(distortions(area, designs.by_kind[kind]), area.weight, [v * 1e-6 for v in LIMITS_PPM])
    for ppm, share in zip(LIMITS_PPM, within, strict=True):
        said.append(f"{format_fixed(100.0 * share, 0)} % within {ppm:g} ppm")
        if share > 0.9995:
            break
    largest = max(one.largest, 1e-12)
    ratio = format_fixed(round(1.0 / largest, -2), 0)
    most, p95, rms = (format_fixed(v * 1e6, 1) for v in (largest, one.p95, one.rms))
    return (
        f"All it is laid for: at most {most} ppm, 1 : {ratio}; 95 % under {p95} ppm, rms {rms}; "
        f"{', '.join(said)}."
        + (f" Rounding its parameters costs {format_fixed(loss, 2)} ppm." if loss >= 0.005 else "")
    )


def lay_out(spec: FrameSpec, marks: Marks, wanted: Wanted) -> Laid:
    """The places of what is wanted. In a worker too, which opens its own frame. Raises FenwindError."""
    frame = open_frame(spec)
    if wanted.kind == "marks" and wanted.heights == "marks":
        weight = _weights(marks, wanted, marks.plane)
        return Laid(area=area_of_marks(frame, marks, weight), outline=np.zeros((2, 0)))
    if wanted.kind == "marks":
        places, outline = marks.plane, np.zeros((2, 0))
    elif wanted.kind == "corridor":
        places, outline = along(_at(marks, wanted.names), wanted.width_m)
    else:
        if wanted.kind == "around":
            outline = _at(marks, wanted.names)
        elif wanted.kind == "drawn":
            outline = np.array(wanted.corners).T
        else:
            outline = _onto(frame, read_outline(wanted.path))
        places = within(outline)
    places, height = with_heights(places, _heights(frame, marks, wanted))
    return Laid(area=area_at(frame, places, height, _weights(marks, wanted, places)), outline=outline)


def _weights(marks: Marks, wanted: Wanted, places: FloatArray) -> FloatArray:
    """What each place weighs."""
    if not wanted.work:
        return np.ones(places.shape[1])
    return heavier(places, _at(marks, wanted.work), wanted.near_m, wanted.times)


def _at(marks: Marks, names: tuple[str, ...]) -> FloatArray:
    """Places (2, m) of marks. Raises ParseError for one that has none."""
    index = {name: i for i, name in enumerate(marks.names)}
    for name in names:
        if name not in index:
            raise ParseError(f"{name} has no place in this frame", hint="Name marks of the frame")
    return marks.plane[:, [index[name] for name in names]]


def _onto(frame: Frame, outline: Outline) -> FloatArray:
    """An outline on the frame's plane."""
    way = pyproj.Transformer.from_crs(outline.crs, frame.geodetic_crs.to_2d(), always_xy=True)
    lon, lat = way.transform(*outline.corners)
    found = np.stack(frame.forward(np.radians(lat), np.radians(lon)))
    if not np.isfinite(found).all():
        raise ParseError("the outline lies where the frame has no coordinates", hint="Choose another area")
    return found


def _heights(frame: Frame, marks: Marks, wanted: Wanted) -> Any:
    if wanted.heights == "range":
        return (wanted.low_m, wanted.high_m)
    if wanted.heights == "marks":
        return between_marks(marks.plane, marks.height_m)
    grid: Elevation = read_elevation(wanted.grid)
    datum = frame.geodetic_crs

    def at(places: FloatArray) -> FloatArray:
        lat, lon = frame.inverse(*places)
        return grid.heights(lat, lon, datum)

    return at


def _work_words(wanted: Wanted, unit: LengthUnit) -> str:
    if not wanted.work:
        return "all of it alike"
    near = format_fixed(wanted.near_m / unit.metres, 0)
    return f"{wanted.times:g} times within {near} {unit.key} of {' – '.join(wanted.work)}"


class GroundArea:
    """The two parts of the sentence and what they ask; `changed` is called with what is wanted then."""

    def __init__(self, bridge: JobBridge, ask: AskLine, parent: QWidget) -> None:
        self.bridge, self.ask, self._parent = bridge, ask, parent
        self.changed: Callable[[Wanted], None] = lambda wanted: None
        self.look_for: Callable[[], None] = lambda: None
        self.drawn: list[tuple[float, float]] = []  # corners so far

    def menus(self, wanted: Callable[[], Wanted]) -> dict[str, Callable[[QMenu], None]]:
        """Menus of the parts, for what is wanted when they are opened."""
        return {
            "area": lambda menu: self.menu_area(menu, wanted()),
            "heights": lambda menu: self.menu_heights(menu, wanted()),
            "aim": lambda menu: self.menu_aim(menu, wanted()),
            "work": lambda menu: self.menu_work(menu, wanted()),
        }

    def parts(self, wanted: Wanted, unit: LengthUnit) -> list[Part]:
        """What the sentence says."""
        names = " – ".join(wanted.names)
        width = f"{format_fixed(wanted.width_m / unit.metres, 0)} {unit.key}"
        area = {
            "marks": "the marks", "around": f"the area {names}",
            "corridor": f"a corridor {width} wide along {names}",
            "file": f"the area of {os.path.basename(wanted.path)}",
            "drawn": f"the area of {len(wanted.corners)} corners on the plan",
        }[wanted.kind]  # fmt: skip
        low, high = (format_fixed(v / unit.metres, 1) for v in (wanted.low_m, wanted.high_m))
        heights = {
            "marks": "as at the marks", "grid": f"of {os.path.basename(wanted.grid)}",
            "range": f"from {low} to {high} {unit.key}",
        }[wanted.heights]  # fmt: skip
        return [
            Part(text=" laid for "), Part(text=area, key="area"), Part(text=", heights "),
            Part(text=heights, key="heights"), Part(text=", with "), Part(text=AIMS[wanted.aim], key="aim"),
            Part(text=", "), Part(text=_work_words(wanted, unit), key="work"), Part(text="."),
        ]  # fmt: skip

    def menu_area(self, menu: QMenu, wanted: Wanted) -> None:
        """Which area."""
        choice(menu, "the marks", lambda: self._use(wanted, kind="marks"), checked=wanted.kind == "marks")
        choice(menu, "the area between marks …", lambda: self._ask_names(wanted, "around"))
        choice(menu, "an area drawn on the plan …", lambda: self._draw(wanted))
        choice(menu, "a corridor along marks …", lambda: self._ask_names(wanted, "corridor"))
        choice(menu, "an area from a file …", lambda: self._choose(wanted, "file"))

    def menu_aim(self, menu: QMenu, wanted: Wanted) -> None:
        """What is made least."""
        for aim, words in AIMS.items():
            choice(menu, words, partial(self._use, wanted, aim=aim), checked=wanted.aim == aim)

    def menu_work(self, menu: QMenu, wanted: Wanted) -> None:
        """What weighs more."""
        choice(menu, "all of it alike", partial(self._use, wanted, work=()), checked=not wanted.work)
        choice(menu, "more where the work is …", lambda: self._ask_work(wanted))

    def _ask_work(self, wanted: Wanted) -> None:
        unit = self.bridge.unit
        near = format_fixed(wanted.near_m / unit.metres, 0, group=False)
        text = f"{' '.join(wanted.work)}, {near}, {wanted.times:g}" if wanted.work else ""
        self.ask.ask(
            f"Along which marks is the work, how near ({unit.key}), and how many times does it weigh?",
            lambda said: self._use_work(wanted, said), text=text, placeholder="T-01 T-05, 300, 10",
            button="Use it",
        )  # fmt: skip

    def _use_work(self, wanted: Wanted, text: str) -> bool:
        names, *rest = text.split(",")
        try:
            if len(rest) != 2 or not names.split():
                raise ParseError(
                    f"{text.strip()!r} is not it", hint="Type marks, a distance, a weight: T-01, 300, 10"
                )
            near, times = parse_length(rest[0], self.bridge.unit), parse_number(rest[1])
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        if wanted.aim == "max":
            self.bridge.told.emit(
                "The largest distortion counts every place alike; weights count for the 95 % and the rms.",
                "",
            )
        return self._use(wanted, work=tuple(names.split()), near_m=near, times=times)

    def menu_heights(self, menu: QMenu, wanted: Wanted) -> None:
        """Which heights."""
        choice(menu, "as at the marks", lambda: self._use(wanted, heights="marks"),
               checked=wanted.heights == "marks")  # fmt: skip
        choice(menu, "of an elevation grid …", lambda: self._choose(wanted, "grid"))
        choice(menu, "from the lowest to the highest …", lambda: self._ask_range(wanted))

    def _draw(self, wanted: Wanted) -> None:
        """Ask for corners on the plan, until it is said that these are all."""
        self.drawn = []
        self.ask.ask("Click the corners on the plan, in their order:", lambda said: self._use_drawn(wanted),
                     text="none yet", button="Use them")  # fmt: skip
        self.look_for()

    def corner(self, e_m: float, n_m: float) -> None:
        """One more corner was clicked."""
        if self.ask.isVisible():
            self.drawn.append((e_m, n_m))
            self.ask.edit.setText(counted(len(self.drawn), "corner"))
            self.look_for()

    def _use_drawn(self, wanted: Wanted) -> bool:
        corners, self.drawn = tuple(self.drawn), []
        return self._use(wanted, kind="drawn", corners=corners)

    def _ask_names(self, wanted: Wanted, kind: str) -> None:
        unit = self.bridge.unit
        if kind == "around":
            question, example = "Between which marks, in their order?", "T-01 T-03 T-09 T-06"
        else:
            question, example = f"Along which marks, and how wide ({unit.key})?", "T-01 T-05 T-09, 200"
        text = " ".join(wanted.names) if wanted.kind == kind else ""
        self.ask.ask(question, lambda said: self._use_names(wanted, kind, said), text=text,
                     placeholder=example, button="Use it")  # fmt: skip

    def _use_names(self, wanted: Wanted, kind: str, text: str) -> bool:
        names, _, width = text.partition(",") if kind == "corridor" else (text.replace(",", " "), "", "0")
        try:
            way = parse_length(width, self.bridge.unit) if kind == "corridor" else 0.0
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        return self._use(wanted, kind=kind, names=tuple(names.split()), width_m=way)

    def _ask_range(self, wanted: Wanted) -> None:
        unit = self.bridge.unit
        self.ask.ask(f"Lowest and highest height ({unit.key}):", lambda said: self._use_range(wanted, said),
                     placeholder="1180, 1320", button="Use it")  # fmt: skip

    def _use_range(self, wanted: Wanted, text: str) -> bool:
        try:
            values = [parse_number(part) * self.bridge.unit.metres for part in text.split(",")]
            if len(values) != 2:
                raise ParseError(f"{text.strip()!r} is no lowest and highest", hint="Type two numbers")
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        return self._use(wanted, heights="range", low_m=values[0], high_m=values[1])

    def _choose(self, wanted: Wanted, what: str) -> None:
        kinds = (
            "Areas (*.geojson *.json *.gpkg *.kml)" if what == "file" else "Elevation grids (*.tif *.tiff)"
        )
        path, _ = QFileDialog.getOpenFileName(self._parent, "Area" if what == "file" else "Elevation grid",
                                              self.bridge.folder, kinds)  # fmt: skip
        if path:
            self.use_file(wanted, what, path)

    def use_file(self, wanted: Wanted, what: str, path: str) -> bool:
        """Use an outline ("file") or a grid of heights ("grid")."""
        changes = {"kind": "file", "path": path} if what == "file" else {"heights": "grid", "grid": path}
        return self._use(wanted, **changes)

    def _use(self, wanted: Wanted, **changes: Any) -> bool:
        self.changed(replace(wanted, **changes))
        return True
