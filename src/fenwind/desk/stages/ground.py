"""The Ground stage: how far a grid is from the ground at the marks, and systems that lie on the ground, which
can be taken as frames of the job."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QMenu, QProgressBar, QPushButton, QWidget

from fenwind.desk.actions import ActionSpec
from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column
from fenwind.desk.distortion_layer import DistortionLayer
from fenwind.desk.plan_scene import Scene
from fenwind.desk.shell import PlainLabel, WholeLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.area_writing import ask_area
from fenwind.desk.stages.fit_widgets import ModelCard
from fenwind.desk.stages.ground_area import Designs, GroundArea, Wanted, area_words, laid_designs
from fenwind.desk.stages.ground_rows import (
    KIND_WORDS,
    Draft,
    Found,
    Reach,
    Row,
    as_written,
    boxes_of_others,
    figure_words,
    layer_of,
    mark_columns,
    ppm_words,
    reach_of,
    worst_words,
)
from fenwind.desk.stages.ground_systems import SystemsView, ViewRow, systems_of
from fenwind.desk.stages.quarrels import Quarrels
from fenwind.desk.stages.sheet import Sheet
from fenwind.desk.statement import choice
from fenwind.desk.table import RecordTable
from fenwind.desk.tasks import Task, TaskRunner
from fenwind.doubts.ground_rules import ground_doubts
from fenwind.errors import FenwindError, ParseError
from fenwind.geodesy.frames import Frame, axes_of
from fenwind.geodesy.ground_frame import GroundScale
from fenwind.job import ground_view
from fenwind.job.distortion_map import ring
from fenwind.job.gestures import add_frame
from fenwind.procedures.own_projection import Candidate, Lines, by_hand, recommended
from fenwind.quantities.angles import format_angle, usual_decimals
from fenwind.quantities.lengths import UNITS, LengthUnit
from fenwind.quantities.numbers import counted, format_fixed, parse_number
from fenwind.reports.statement import Part

METHODS = ("grid", "factor", "own")


class GroundSheet(Sheet):
    """See the module."""

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self.draft = Draft()
        self.area = GroundArea(bridge, self.ask, self)
        self.area.changed, self.area.look_for = self._use_area, self._look_for_corners
        self._laid: Designs | None = None  # the designs with the area they are for
        self.designs: dict[str, Candidate] = {}
        self._best: dict[str, Candidate] = {}  # the designs before anybody turned them
        self._view = "marks"
        self.reach: Reach | None = None
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
        self.views = ViewRow()
        self.views.looked_at.connect(self._look_at)
        self.views.limit_asked.connect(partial(self._ask_part, "limit"))
        self.column.addWidget(self.views)
        self.quarrels = Quarrels(bridge, self.ask)
        self.column.addWidget(self.quarrels)
        self.systems = SystemsView(bridge, self.ask)
        self.systems.chosen.connect(self._use_system)
        self.systems.hand.turned.connect(self._turn)
        self.systems.hand.best_wanted.connect(lambda: self._replace(self._best[self.draft.kind]))
        self.column.addWidget(self.systems, 1)
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

    def _look_at(self, view: str) -> None:
        self._view = view
        if view == "systems" and not self.designs:
            self.work_out()
        self.show_job()

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
        axes = (
            axes_of(self.found.spec or self.found.frame.spec) if self.found is not None else self.bridge.axes
        )
        return mark_columns(axes, self._unit(), self.draft.limit_ppm, self._angle)

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
        side = shown and self._view == "systems"
        for widget in (self.statement, self.verdict, self.adopt, self.explain, self.views):
            widget.setVisible(shown)
        for one in (*self.cards, self.table):  # the systems side by side are in their place
            one.setVisible(shown and not side)
        self.systems.setVisible(side)
        self.views.show_view(self._view, self.draft.limit_ppm)
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
        if side:
            self._show_systems(self.found)
        else:
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
            others = self._laid.others if self._laid is not None else ()
            spec = ground_view.projection_spec(frame, one, f"Own projection, {d.kind}", others)
            opened = ground_view.opened(spec, self.bridge.folder)
            return replace(found, spec=spec, wanted=ground_view.distortion(opened, marks))
        scale, typed = self._scale(found)
        factor, unit, at = scale.factor, UNITS[frame.spec.unit].metres, np.array(scale.origin)
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

    def _scale(self, found: Found) -> tuple[GroundScale, bool]:
        """The one factor that is wanted, and whether it was typed. Raises ProcedureError without heights."""
        d, marks = self.draft, found.marks
        typed = d.at not in ("mean", *marks.ids)
        factor = float(d.at) if typed else ground_view.factor_at(found.grid, marks, d.at)
        unit = UNITS[found.frame.spec.unit].metres
        at = marks.plane[:, marks.ids.index(d.origin)] / unit if d.origin in marks.ids else np.zeros(2)
        return GroundScale(factor=factor, origin=(float(at[0]), float(at[1])), offset=d.offset), typed

    def _show_cards(self, found: Found) -> None:
        d = self.draft
        best = min(self.designs.values(), key=lambda c: c.figures.largest, default=None)
        texts = {
            "grid": ("The grid as it is", figure_words(found.grid)),
            "factor": ("One factor", figure_words(found.wanted) if d.method == "factor" else "about a place"),
            "own": ("A projection of its own", "click to work it out" if best is None else
                    f"at most {ppm_words(best.figures.largest)} ppm, "
                    f"{KIND_WORDS[best.lines.kind].split()[1].lower()}"),
        }  # fmt: skip
        for card, method in zip(self.cards, METHODS, strict=True):
            title, detail = texts[method]
            card.show_model(method, title, "", "faint", detail, method == d.method)

    def _parts(self, found: Found) -> list[Part]:
        d, count = self.draft, len(found.marks.names)
        parts = [
            Part(text=f"Put {counted(count, 'mark')} of "),
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
        self.reach = None
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
            f"Plane and ground distances differ by at most {ppm_words(off[worst])} ppm "
            f"({abs(off[worst]) * 1e5:.1f} mm on 100 m), at {found.marks.names[worst]}; rms "
            f"{ppm_words(found.wanted.rms)} ppm.",
            worst_words(found, self.bridge.folder, UNITS[found.frame.spec.unit]),
        ]
        if self.draft.method == "factor":
            back = 1.0 / found.factor
            words.append(f"Ground = grid times {found.factor:.10f}; its reciprocal {back:.10f} goes back.")
        if self.draft.method == "own" and self._laid is not None and self.draft.kind in self.designs:
            words.append(area_words(self._laid, self.draft.kind))
        self.reach = reach_of(found, self.bridge.folder, self.draft.limit_ppm)
        words.append(self.reach.words if self.reach is not None else "")
        return " ".join(word for word in (*words, *found.doubts) if word)

    # What is done

    def _change(self, **changes: Any) -> bool:
        self.draft = replace(self.draft, **changes)
        self.show_job()
        return True

    def _use_method(self, method: str, show: bool = False) -> None:
        if show:
            self.bridge.show_stage(self.stage.name)
        self._change(method=method)
        if method == "own" and not self.designs:
            self.work_out()

    def work_out(self) -> None:
        """Lay projections of every kind along the marks, in a worker."""
        if self._task is not None or self.found is None:
            return
        found, key = self.found, self.draft.frame
        made_for = (key, found.marks.names, found.marks.plane.tobytes(), found.marks.height_m.tobytes())
        d, others = self.draft, boxes_of_others(self.bridge, self.draft.frame)
        task = Task(laid_designs, found.frame.spec, found.marks, d.area, d.limit_ppm * 1e-6, others)
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
        self._for, self._laid, self.designs, self._best = made_for, laid, laid.by_kind, dict(laid.by_kind)
        self._view = "systems"
        best = recommended(list(self.designs.values()), self.draft.area.aim)
        self._change(kind=self.draft.kind or best.lines.kind)

    def _show_systems(self, found: Found) -> None:
        """The systems side by side, over what projections are laid for."""
        laid, d = self._laid, self.draft
        if laid is None or not self.designs:
            self.systems.show_systems([], d.limit_ppm * 1e-6)
            self.systems.hand.show_projection(None, None)
            return
        rows = systems_of(found.frame, laid.area, self._scale(found)[0].factor, self.designs, self._best, d)
        self.systems.show_systems(rows, d.limit_ppm * 1e-6)
        own = self.designs.get(d.kind) if d.method == "own" else None
        self.systems.hand.show_projection(own, self._best.get(d.kind))

    def _use_system(self, key: str) -> None:
        method, kind = ("own", key) if key in self.designs else (key, self.draft.kind)
        if (method, kind) != (self.draft.method, self.draft.kind):
            self._change(method=method, kind=kind)

    def _turn(self, lines: Lines, scale: float) -> None:
        """Take a projection as somebody set it by hand."""
        laid = self._laid
        if laid is not None:
            try:
                self._replace(by_hand(laid.area, lines, scale, self.draft.limit_ppm * 1e-6))
            except FenwindError as error:
                self.bridge.tell_error(error)

    def _replace(self, one: Candidate) -> None:
        if self._laid is not None:
            self.designs = self.designs | {one.lines.kind: one}
            self._laid = replace(self._laid, by_kind=self.designs)
            self.show_job()

    def _look_for_corners(self) -> None:
        """Corners are drawn on the plan of the frame that is put on the ground."""
        if self.draft.frame != self.bridge.frame_id:
            self.bridge.told.emit(f"Show {self.bridge.state.frames[self.draft.frame].spec.name} first.", "")
            return
        self.wants_place.emit()
        self.plan_changed.emit()

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
            largest, rms = ppm_words(one.figures.largest), ppm_words(one.figures.rms)
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
        elif key == "limit":
            text = f"{d.limit_ppm:g}"
            self.ask.ask("Which distortion stands out, in ppm?", self._use_limit, text=text, button="Use it")

    def _use_limit(self, text: str) -> bool:
        try:
            value = parse_number(text)
            if not 0.01 <= value <= 1e4:
                raise ParseError(f"{text} is no limit", hint="Type parts per million, such as 20")
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        return self._change(limit_ppm=value)

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
            self.bridge.tell_then(f"{spec.name} is a frame of the job now: choose it at the top.")
        return done

    def _show_map(self, found: Found) -> None:
        """Work the map out again where what it shows has changed; the plan is told."""
        key: tuple[object, ...] = ()
        if found.spec is not None and found.wanted is not None:
            key = (found.spec, self.draft.limit_ppm, self.bridge.frame_id, found.marks.plane.tobytes())
        if key == self._map_key:
            return
        self._map_key = key
        self.layer = layer_of(self.bridge, found, self.draft.limit_ppm) if key else None
        self.plan_changed.emit()

    def _write_area(self) -> None:
        f = self.found
        spec, frame, plane = (f.spec, f.frame, f.marks.plane) if f else (None, None, np.zeros((2, 0)))
        ask_area(self.bridge, self, self._laid, self.draft.kind, spec, frame, plane)

    # What the desk asks

    def place_picked(self, e_m: float, n_m: float) -> None:
        self.area.corner(e_m, n_m)

    def overlay(self, scene: Scene) -> None:
        if self.layer is not None:
            scene.under = (*scene.under, self.layer)
        shown_here = self.draft.frame == self.bridge.frame_id
        if shown_here and self.draft.method == "own" and self._laid is not None and self._laid.outline.size:
            scene.hull = self._laid.outline
        if shown_here and self.reach is not None and self.reach.way_m and self.found is not None:
            scene.hull = ring(self.found.frame, *self.reach.at, self.reach.way_m)
        if self.area.drawn and shown_here:
            scene.hull = np.array(self.area.drawn).T

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
                run=partial(self._use_method, "own", True),
            ),
            ActionSpec(
                id="ground.factor", menu=menu, text="Scale the grid to the ground",
                tip="By one factor about a place", run=partial(self._use_method, "factor", True),
            ),
            ActionSpec(id="ground.area", menu=menu, text="Write the area …", run=self._write_area,
                       tip="What the projection is laid for, as GeoJSON or GeoPackage"),
            ActionSpec(
                id="ground.explain", menu=menu, text="Explain two figures …",
                tip="Two distances for one line that do not agree: which cause fits here",
                run=self.quarrels.ask_figures,
            ),
        )  # fmt: skip
