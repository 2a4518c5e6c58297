"""The Ground stage: how far a grid is from the ground at the marks, and systems that lie on the ground, which
can be taken as frames of the job."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QMenu, QProgressBar, QPushButton, QWidget

from fenwind.desk.actions import ActionSpec
from fenwind.desk.bridge import JobBridge
from fenwind.desk.distortion_layer import DistortionLayer
from fenwind.desk.plan_scene import Scene
from fenwind.desk.shell import PlainLabel, WholeLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.area_writing import ask_area
from fenwind.desk.stages.fit_widgets import ModelCard
from fenwind.desk.stages.ground_area import Designs, GroundArea, Wanted, area_words, laid_designs
from fenwind.desk.stages.ground_rows import Draft, Found, Row, as_written
from fenwind.desk.stages.quarrels import Quarrels
from fenwind.desk.stages.sheet import Sheet
from fenwind.desk.statement import choice
from fenwind.desk.table import Column, RecordTable
from fenwind.desk.tasks import Task, TaskRunner
from fenwind.doubts.ground_rules import ground_doubts
from fenwind.errors import FenwindError, ParseError
from fenwind.geodesy.axes import ShownAxis
from fenwind.geodesy.frames import Frame, axes_of
from fenwind.geodesy.ground_frame import GroundScale
from fenwind.job import ground_view
from fenwind.job.distortion_map import carried, distortion_map, valid_radius
from fenwind.job.gestures import add_frame
from fenwind.job.ground_view import Distortion
from fenwind.procedures.own_projection import Candidate, recommended
from fenwind.quantities.angles import format_angle, usual_decimals
from fenwind.quantities.lengths import UNITS, LengthUnit
from fenwind.quantities.numbers import format_fixed, parse_number
from fenwind.reports.statement import Part

METHODS = ("grid", "factor", "own")
KIND_WORDS = {"tm": "a transverse Mercator", "lcc": "a Lambert conformal", "om": "an oblique Mercator"}


class GroundSheet(Sheet):
    """See the module."""

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self.draft = Draft()
        self.area = GroundArea(bridge, self.ask, self)
        self.area.changed = self._use_area
        self._laid: Designs | None = None  # the designs with the area they are for
        self.designs: dict[str, Candidate] = {}
        self._for: object = None  # what the designs were made for
        self._before: tuple[Draft, Designs | None, dict[str, Candidate]] | None = None
        self._runner = TaskRunner(self)
        self._task: Task | None = None
        self.found: Found | None = None
        self.layer: DistortionLayer | None = None
        self._map_key: tuple[object, ...] = ()
        self.statement.set_menus(
            {
                "frame": self._menu_frame, "at": self._menu_at, "origin": self._menu_origin,
                "kind": self._menu_kind, **self.area.menus(lambda: self.draft.area),
            }
        )  # fmt: skip
        self.statement.part_clicked.connect(self._ask_part)
        row = QHBoxLayout()
        row.setSpacing(8)
        self.cards = [ModelCard() for _ in METHODS]
        for card, method in zip(self.cards, METHODS, strict=True):
            card.clicked.connect(partial(self._use_method, method))
            row.addWidget(card, 1)
        self.column.addLayout(row)
        self.verdict = WholeLabel("")
        self.column.addWidget(self.verdict)
        self.quarrels = Quarrels(bridge, self.ask)
        self.column.addWidget(self.quarrels)
        self.table = RecordTable(self._columns())
        self.table.setAccessibleName("Marks on grid and ground")
        self.table.setMinimumHeight(130)
        self.table.row_picked.connect(lambda r: self.bridge.select(r.name))
        self.column.addWidget(self.table, 1)
        self._make_foot()
        self.empty = PlainLabel("")
        self.empty.setWordWrap(True)
        look(self.empty, "faint")
        self.column.addWidget(self.empty, 0, Qt.AlignmentFlag.AlignTop)
        self.column.addStretch(0)

    def _make_foot(self) -> None:
        """What is done with a system, and how far a search for one is."""
        foot = QHBoxLayout()
        self.adopt = QPushButton("Take it as a frame …")
        self.adopt.setToolTip("The system becomes a frame of the job, for all stages")
        look(self.adopt, "main")
        self.adopt.clicked.connect(self._ask_name)
        self.explain = QPushButton("Explain two figures …")
        self.explain.setToolTip("Two distances for one line that do not agree: which cause fits here")
        look(self.explain, "second")
        self.explain.clicked.connect(self.quarrels.ask_figures)
        self.progress = QProgressBar()
        self.progress.setTextVisible(False)
        self.progress.setFixedWidth(120)
        self.progress.hide()
        self.stop = QPushButton("stop")
        look(self.stop, "link")
        self.stop.clicked.connect(lambda: self._task.cancel() if self._task else None)
        self.stop.hide()
        for widget in (self.adopt, self.explain, self.progress, self.stop):
            foot.addWidget(widget)
        foot.addStretch(1)
        self.column.addLayout(foot)

    def _columns(self) -> list[Column]:
        def ppm(key: str, title: str, get: Callable[[Row], float], tip: str) -> Column:
            return Column(
                key=key, title=title, unit="ppm", right=True, width=76, value=lambda r: get(r) * 1e6,
                text=lambda r: format_fixed(get(r) * 1e6, 1, sign=True), tip=tip,
            )  # fmt: skip

        def place(axis: ShownAxis) -> Column:
            row, size = "en".index(axis.component), axis.sign / self._unit().metres
            return Column(
                key=axis.component, title=axis.title, unit=self._unit().key, right=True, width=106,
                text=lambda r: format_fixed(float(r.shown.plane[row, r.i]) * size, 3),
                value=lambda r: float(r.shown.plane[row, r.i]) * size,
            )  # fmt: skip

        axes = axes_of(self.found.frame.spec) if self.found is not None else self.bridge.axes

        return [
            Column(
                key="mark", title="mark", text=lambda r: r.name, tone=lambda r: "bold", whole=True, width=62
            ),
            ppm("scale", "projection", lambda r: float(r.shown.scale[r.i]) - 1.0, "Point scale less one"),
            ppm("elevation", "height", lambda r: float(r.shown.elevation[r.i]) - 1.0, "R / (R + h) less one"),
            Column(
                key="off", title="off", unit="ppm", right=True, width=76,
                value=lambda r: float(r.shown.off[r.i]) * 1e6,
                text=lambda r: format_fixed(float(r.shown.off[r.i]) * 1e6, 1, sign=True),
                bar=lambda r: float(r.shown.off[r.i]) * 1e6 / self.draft.limit_ppm,
                tone=lambda r: "doubt" if abs(r.shown.off[r.i]) * 1e6 > self.draft.limit_ppm else "",
                tip="Plane distance less ground distance, parts per million",
            ),
            Column(
                key="combined", title="combined", unit="factor", right=True, width=104,
                value=lambda r: float(r.shown.off[r.i]) + 1.0,
                text=lambda r: format_fixed(float(r.shown.off[r.i]) + 1.0, 9), tip="Plane over ground",
            ),
            *(place(axis) for axis in axes),
            Column(
                key="turn", title="convergence", right=True, width=104,
                value=lambda r: float(r.shown.convergence[r.i]),
                text=lambda r: self._angle(float(r.shown.convergence[r.i])),
            ),
        ]  # fmt: skip

    # What is shown

    def _angle(self, angle: float) -> str:
        style = self.bridge.angle_style
        return format_angle(angle, style, usual_decimals(style))

    def _unit(self) -> LengthUnit:
        spec = self.found.spec or self.found.frame.spec if self.found is not None else None
        return UNITS[spec.unit] if spec is not None else self.bridge.unit

    def show_job(self) -> None:
        self.caption.setText("GROUND")
        frames = self._frames()
        shown = bool(frames)
        for widget in (self.statement, self.verdict, self.table, self.adopt, self.explain, *self.cards):
            widget.setVisible(shown)
        self.quarrels.setVisible(False)
        self.empty.setVisible(not shown)
        if not shown:
            self.empty.setText(self.stage.empty)
            self.found = None
            return
        if self.draft.frame not in frames:
            own = self.bridge.frame_id
            self.draft = Draft(frame=own if own in frames else next(iter(frames)))
        self.found = self._work_out(frames[self.draft.frame])
        self._show_cards(self.found)
        self.statement.show_parts(self._parts(self.found))
        self.verdict.setText(self._verdict(self.found))
        adopted = self.bridge.derived.adopted[self.draft.frame]
        self.quarrels.show_for(self.draft.frame, self.found.frame, self.found.marks, adopted)
        rows = [Row(i=i, name=name, found=self.found) for i, name in enumerate(self.found.marks.names)]
        self.table.records.set_columns(self._columns())
        self.table.records.set_rows(rows)
        self.adopt.setEnabled(self.found.wanted is not None and self.draft.method != "grid")
        self._show_map(self.found)

    def _frames(self) -> dict[str, Frame]:
        """Frames with a datum and a mark."""
        specs = {k: r.spec for k, r in self.bridge.seen.frames.items() if r.active}
        found = ground_view.frames_with_datum(specs, self.bridge.folder)
        adopted = self.bridge.derived.adopted
        return {k: f for k, f in found.items() if k in adopted and len(adopted[k].e_m)}

    def _work_out(self, frame: Frame) -> Found:
        marks = ground_view.marks_of(frame, self.bridge.derived.adopted[self.draft.frame])
        grid = ground_view.distortion(frame, marks)
        found = Found(frame=frame, marks=marks, grid=grid, factor=1.0)
        if self._for != (self.draft.frame, marks.names, marks.plane.tobytes(), marks.height_m.tobytes()):
            self.designs = {}
        try:
            return self._wanted(found)
        except FenwindError as error:
            return replace(found, error=error.sentences)

    def _wanted(self, found: Found) -> Found:
        d, frame, marks = self.draft, found.frame, found.marks
        if d.method == "grid":
            return replace(found, spec=frame.spec, wanted=found.grid)
        if d.method == "own":
            one = self.designs.get(d.kind)
            if one is None:
                return found
            spec = ground_view.projection_spec(frame, one, f"Own projection, {d.kind}")
            opened = ground_view.opened(spec, self.bridge.folder)
            return replace(found, spec=spec, wanted=ground_view.distortion(opened, marks))
        typed = d.at not in ("mean", *marks.ids)
        factor = float(d.at) if typed else ground_view.factor_at(found.grid, marks, d.at)
        unit = UNITS[frame.spec.unit].metres
        at = marks.plane[:, marks.ids.index(d.origin)] / unit if d.origin in marks.ids else np.zeros(2)
        scale = GroundScale(factor=factor, origin=(float(at[0]), float(at[1])), offset=d.offset)
        spec = ground_view.scaled_spec(frame, scale, f"{frame.spec.name} on the ground")
        opened = ground_view.opened(spec, self.bridge.folder)
        wanted = ground_view.distortion(opened, marks)
        own = 1.0 / (1.0 + found.grid.off)
        half = 0.5 * 10.0 ** -len(d.at.partition(".")[2]) if typed else 0.0
        grid = marks.plane / unit
        farthest = float(np.hypot(*(grid - at[:, None])).max()) * unit
        told = ground_doubts(factor, half, own[np.isfinite(own)], farthest, grid, wanted.plane / unit)
        return replace(
            found, factor=factor, spec=spec, wanted=wanted, doubts=tuple(doubt.text for doubt in told)
        )

    def _show_cards(self, found: Found) -> None:
        d = self.draft
        best = min(self.designs.values(), key=lambda c: c.figures.largest, default=None)
        texts = {
            "grid": ("The grid as it is", _figures(found.grid)),
            "factor": ("One factor", _figures(found.wanted) if d.method == "factor" else "about a place"),
            "own": ("A projection of its own", "click to work it out" if best is None else
                    f"at most {_ppm(best.figures.largest)} ppm, "
                    f"{KIND_WORDS[best.lines.kind].split()[1].lower()}"),
        }  # fmt: skip
        for card, method in zip(self.cards, METHODS, strict=True):
            title, detail = texts[method]
            card.show_model(method, title, "", "faint", detail, method == d.method)

    def _parts(self, found: Found) -> list[Part]:
        d, count = self.draft, len(found.marks.names)
        parts = [
            Part(text=f"Put {count} mark{'' if count == 1 else 's'} of "),
            Part(text=found.frame.spec.name, key="frame"),
        ]
        if d.method == "grid":
            return [*parts, Part(text=" on the ground as they are: nothing is scaled.")]
        if d.method == "own":
            kind = KIND_WORDS.get(d.kind, "a projection that is not worked out yet")
            return [
                *parts, Part(text=" on the ground by "), Part(text=kind, key="kind"),
                *self.area.parts(d.area, self._unit()),
            ]  # fmt: skip
        at = {"mean": "the mean factor of all"}.get(d.at) or (
            f"the factor at {self.bridge.seen.mark_name(d.at)}"
            if d.at in found.marks.ids
            else f"the factor {d.at}"
        )
        origin = self.bridge.seen.mark_name(d.origin) if d.origin in found.marks.ids else "zero"
        axes = axes_of(found.frame.spec)
        offset = ", ".join(
            f"{axis.title} {format_fixed(v, 3, sign=True)}"
            for axis, v in zip(axes, as_written(d.offset, axes), strict=True)
        )
        return [
            *parts, Part(text=" on the ground by "), Part(text=at, key="at"), Part(text=" about "),
            Part(text=origin, key="origin"),
            Part(text=", moved by "), Part(text=offset if any(d.offset) else "nothing", key="offset"),
            Part(text="."),
        ]  # fmt: skip

    def _verdict(self, found: Found) -> str:
        if found.error:
            return found.error
        if found.wanted is None:
            return "Click the third card to lay projections of three kinds along the marks."
        off = found.wanted.off
        fine = np.flatnonzero(np.isfinite(off))
        if not fine.size:
            return "No mark has a height above the ellipsoid: how far the ground is cannot be said."
        worst = int(fine[np.abs(off[fine]).argmax()])
        words = [
            f"Plane and ground distances differ by at most {_ppm(off[worst])} ppm "
            f"({abs(off[worst]) * 1e5:.1f} mm on 100 m), at {found.marks.names[worst]}; rms "
            f"{_ppm(found.wanted.rms)} ppm."
        ]
        if self.draft.method == "factor":
            back = 1.0 / found.factor
            words.append(f"Ground = grid times {found.factor:.10f}; its reciprocal {back:.10f} goes back.")
        if self.draft.method == "own" and self._laid is not None and self.draft.kind in self.designs:
            words.append(area_words(self._laid, self.draft.kind))
        if fine.size < 3 and found.spec is not None:
            words.append(self._reach(found, int(fine[0])))
        return " ".join([*words, *found.doubts])

    def _reach(self, found: Found, i: int) -> str:
        """How far a system that stands on a corner or two serves, in words."""
        assert found.spec is not None
        opened, m = ground_view.opened(found.spec, self.bridge.folder), found.marks
        limit = self.draft.limit_ppm
        way = valid_radius(opened, float(m.lat[i]), float(m.lon[i]), float(m.h_m[i]), limit * 1e-6)
        if not way:
            return f"It is over {limit:g} ppm at {m.names[i]} itself."
        return f"At the height of {m.names[i]} it stays within {limit:g} ppm out to {way / 1000.0:.3g} km."

    # What is done

    def _change(self, **changes: Any) -> bool:
        self.draft = replace(self.draft, **changes)
        self.show_job()
        return True

    def _use_method(self, method: str) -> None:
        self._change(method=method)
        if method == "own" and not self.designs:
            self.work_out()

    def _go(self, method: str) -> None:
        self.bridge.show_stage(self.stage.name)
        self._use_method(method)

    def work_out(self) -> None:
        """Lay projections of every kind along the marks, in a worker."""
        if self._task is not None or self.found is None:
            return
        found, key = self.found, self.draft.frame
        made_for = (key, found.marks.names, found.marks.plane.tobytes(), found.marks.height_m.tobytes())
        task = Task(laid_designs, found.frame.spec, found.marks, self.draft.area, self.draft.limit_ppm * 1e-6)
        task.signals.progressed.connect(self._on_progress)
        task.signals.succeeded.connect(partial(self._on_designs, made_for))
        task.signals.failed.connect(self._on_failed)
        task.signals.finished.connect(self._on_finished)
        self.progress.setRange(0, 0)
        self.progress.show()
        self.stop.show()
        self._task = self._runner.start(task)

    def _on_progress(self, done: int, total: int, text: str) -> None:
        self.progress.setRange(0, total)
        self.progress.setValue(done)

    def _on_designs(self, made_for: object, laid: Designs) -> None:
        self._before = None
        self._for, self._laid, self.designs = made_for, laid, laid.by_kind
        best = recommended(list(self.designs.values()), self.draft.area.aim)
        self._change(kind=self.draft.kind or best.lines.kind)

    def _use_area(self, wanted: Wanted) -> None:
        """Lay projections for another area; where that fails, nothing is changed."""
        if self._task is not None:
            self.bridge.told.emit("Projections are being laid: wait for them, or stop that.", "")
            return
        self._before = self.draft, self._laid, self.designs
        self.designs, self._laid = {}, None
        self._change(area=wanted, method="own", kind="")
        self.work_out()

    def _on_failed(self, error: Exception) -> None:
        if isinstance(error, FenwindError):
            self.bridge.tell_error(error)
        else:
            self.bridge.told.emit(f"The projections were not laid: {error!r}.", "doubt")

    def _on_finished(self) -> None:
        self._task = None
        if self._before is not None:  # it failed, or was stopped
            (self.draft, self._laid, self.designs), self._before = self._before, None
            self.show_job()
        self.progress.hide()
        self.stop.hide()

    def _menu_frame(self, menu: QMenu) -> None:
        for key, frame in self._frames().items():
            choice(menu, frame.spec.name, partial(self._change, frame=key), checked=key == self.draft.frame)

    def _menu_at(self, menu: QMenu) -> None:
        choice(
            menu, "the mean factor of all", partial(self._change, at="mean"), checked=self.draft.at == "mean"
        )
        choice(menu, "a factor typed …", partial(self._ask_part, "typed"))
        menu.addSeparator()
        self._marks_menu(menu, "at", "the factor at ")

    def _menu_origin(self, menu: QMenu) -> None:
        choice(menu, "zero", partial(self._change, origin=""), checked=not self.draft.origin)
        menu.addSeparator()
        self._marks_menu(menu, "origin", "")

    def _marks_menu(self, menu: QMenu, key: str, lead: str) -> None:
        if self.found is None:
            return
        pairs = list(zip(self.found.marks.ids, self.found.marks.names, strict=True))
        chosen = self.bridge.mark()
        pairs.sort(key=lambda p: chosen is None or p[0] != chosen.id)
        for mark, name in pairs[:40]:
            now = getattr(self.draft, key) == mark
            choice(menu, f"{lead}{name}", partial(self._change, **{key: mark}), checked=now)

    def _menu_kind(self, menu: QMenu) -> None:
        for kind, one in self.designs.items():
            largest, rms = _ppm(one.figures.largest), _ppm(one.figures.rms)
            words = f"{KIND_WORDS[kind]}: at most {largest} ppm, rms {rms}"
            choice(menu, words, partial(self._change, kind=kind), checked=kind == self.draft.kind)
        if not self.designs:
            choice(menu, "Work them out", self.work_out)

    def _ask_part(self, key: str) -> None:
        d, unit = self.draft, self._unit()
        if key == "typed":
            text = d.at if self.found is not None and d.at not in ("mean", *self.found.marks.ids) else ""
            self.ask.ask("Ground = grid times which factor?", self._use_typed, text=text, button="Use it")
        elif key == "offset" and self.found is not None:
            axes = axes_of(self.found.frame.spec)
            text = ", ".join(f"{value:.3f}" for value in as_written(d.offset, axes))
            first, second = axes
            question = f"Move ground coordinates by {first.title}, {second.title} in {unit.plural}:"
            self.ask.ask(question, self._use_offset, text=text, button="Use it")

    def _use_typed(self, text: str) -> bool:
        try:
            value = parse_number(text)
            if not 0.5 < value < 2.0:
                raise ParseError(f"{text} is no factor near 1", hint="Give ground over grid, such as 1.0003")
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        return self._change(at=text.strip().replace(",", "."))

    def _use_offset(self, text: str) -> bool:
        try:
            values = [parse_number(part) for part in text.replace(";", ",").split(",")]
            if len(values) != 2:
                raise ParseError("two numbers make an offset", hint="Write -400000, -6700000")
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        if self.found is None:
            return False
        axes = axes_of(self.found.frame.spec)
        offset = {axis.component: axis.sign * value for axis, value in zip(axes, values, strict=True)}
        return self._change(offset=(offset["e"], offset["n"]))

    def _ask_name(self) -> None:
        if self.found is not None and self.found.spec is not None:
            self.ask.ask("Name of the frame:", self._adopt, text=self.found.spec.name, button="Take it")

    def _adopt(self, name: str) -> bool:
        found = self.found
        if found is None or found.spec is None:
            return False
        spec = replace(found.spec, name=name.strip())
        if not spec.name:
            return False
        done = self.bridge.do(add_frame(spec)[1])
        if done:
            self.bridge.told.emit(f"{spec.name} is a frame of the job now: choose it at the top.", "")
        return done

    def _show_map(self, found: Found) -> None:
        """Work the map out again where what it shows has changed; the plan is told."""
        key: tuple[object, ...] = ()
        if found.spec is not None and found.wanted is not None:
            key = (found.spec, self.draft.limit_ppm, self.bridge.frame_id, found.marks.plane.tobytes())
        if key == self._map_key:
            return
        self._map_key, self.layer = key, None
        if key:
            shown = self.bridge.derived.adopted.get(self.bridge.frame_id)
            there = np.full(found.marks.plane.shape, np.nan)
            for i, mark in enumerate(found.marks.ids):
                row = shown.place.get(mark) if shown is not None else None
                if shown is not None and row is not None:
                    there[:, i] = shown.e_m[row], shown.n_m[row]
            record = self.bridge.frame
            here = ground_view.opened(record.spec, self.bridge.folder) if record is not None else None
            wanted = ground_view.opened(found.spec, self.bridge.folder) if found.spec else found.frame
            carry = carried(found.frame, here, found.marks.plane, there)
            limit = self.draft.limit_ppm * 1e-6
            made = distortion_map(found.frame, wanted, found.marks, carry, limit)
            self.layer = DistortionLayer(made, limit) if made is not None else None
        self.plan_changed.emit()

    def _write_area(self) -> None:
        f = self.found
        spec, frame, plane = (f.spec, f.frame, f.marks.plane) if f else (None, None, np.zeros((2, 0)))
        ask_area(self.bridge, self, self._laid, self.draft.kind, spec, frame, plane)

    # What the desk asks

    def overlay(self, scene: Scene) -> None:
        if self.layer is not None:
            scene.under = (*scene.under, self.layer)
        shown = self.draft.method == "own" and self.draft.frame == self.bridge.frame_id
        if shown and self._laid is not None and self._laid.outline.size:
            scene.hull = self._laid.outline

    def focus(self) -> QWidget:
        return self.table

    def select(self, name: str) -> None:
        self.table.pick(lambda row: row.name == name)

    def pick(self, names: set[str]) -> bool:
        self.table.pick_all(lambda row: row.name in names)
        return True

    def shut_down(self) -> None:
        self._runner.shut_down()

    def commands(self) -> Sequence[ActionSpec]:
        menu = self.stage.name
        return (
            ActionSpec(
                id="ground.own", menu=menu, text="Lay a projection along the marks",
                tip="Transverse Mercator, Lambert and oblique, with the least distortion",
                run=partial(self._go, "own"),
            ),
            ActionSpec(
                id="ground.factor", menu=menu, text="Scale the grid to the ground",
                tip="By one factor about a place", run=partial(self._go, "factor"),
            ),
            ActionSpec(id="ground.area", menu=menu, text="Write the area …", run=self._write_area,
                       tip="What the projection is laid for, as GeoJSON or GeoPackage"),
            ActionSpec(
                id="ground.explain", menu=menu, text="Explain two figures …",
                tip="Two distances for one line that do not agree: which cause fits here",
                run=self.quarrels.ask_figures,
            ),
        )  # fmt: skip


def _figures(found: Distortion | None) -> str:
    if found is None or math.isnan(found.largest):
        return "not known"
    return f"at most {_ppm(found.largest)} ppm, rms {_ppm(found.rms)}"


def _ppm(part: float) -> str:
    return format_fixed(abs(float(part)) * 1e6, 1)
