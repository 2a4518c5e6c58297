"""Moving a file, a drawing or a list, by a fit of the job, by a shift or by a turn; what will happen is seen
before it does."""

from __future__ import annotations

import math
import os
import re
from collections import Counter
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QMenu, QProgressBar, QPushButton, QWidget

from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column
from fenwind.desk.plan_extras import Coming
from fenwind.desk.shell import PlainLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.incoming_rows import list_columns
from fenwind.desk.stages.list_heads import ListHeads
from fenwind.desk.stages.moving_rows import (
    Preview,
    Reading,
    Row,
    Way,
    distance_columns,
    fate_column,
    move_task,
    preview_task,
    residual_columns,
    some,
    what_happens,
)
from fenwind.desk.stages.sheet import Sheet
from fenwind.desk.statement import choice
from fenwind.desk.table import RecordTable
from fenwind.desk.tasks import Task, TaskRunner
from fenwind.errors import FenwindError, ProcedureError
from fenwind.exchange.files import same_file
from fenwind.exchange.point_list import ColumnMatch
from fenwind.job import gestures
from fenwind.job.steps.fit import fit_node
from fenwind.job.steps.outcome import Node
from fenwind.procedures.fit import FitOptions
from fenwind.procedures.move import (
    Move,
    distances,
    move_fit,
    move_of,
    shift_pairs,
    turn,
    turn_between,
)
from fenwind.quantities.angles import parse_angle
from fenwind.quantities.lengths import FOOT, METRE, US_SURVEY_FOOT, LengthUnit, parse_length
from fenwind.quantities.numbers import format_fixed
from fenwind.reports.statement import Part


class MovingSheet(Sheet):
    """Statement, distances in both systems, what moves and what stays; then the move."""

    closed = Signal()
    shown = Signal()

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self.path = self.out = ""
        self.way: Way | None = None
        self.stay: tuple[str, ...] = ()
        self.heights = self.backwards = False
        self._unit: LengthUnit | None = None  # that somebody chose; else what the file states
        self._match: ColumnMatch | None = None
        self._preview: Preview | None = None
        self._runner = TaskRunner(self, "files")
        self._task: Task | None = None
        self.statement.set_menus(
            {
                "file": self._menu_file,
                "by": self._menu_by,
                "heights": self._menu_heights,
                "stay": self._menu_stay,
                "direction": self._menu_direction,
                "unit": self._menu_unit,
                "out": self._menu_out,
            }
        )
        self.note = PlainLabel("")
        self.note.setWordWrap(True)
        look(self.note, "faint")
        self.column.addWidget(self.note)
        self._add_tables()
        self._add_foot()
        self.go.clicked.connect(self.move_file)
        self.leave.clicked.connect(self.closed)
        self.stop.clicked.connect(lambda: self._task.cancel() if self._task is not None else None)
        self._busy(False)

    def _add_tables(self) -> None:
        """Distances in both systems, and what moves: kinds of a drawing, or the rows of a list."""
        self.distances = RecordTable(distance_columns(self.bridge.unit, None))
        self.distances.setAccessibleName("Distances between the marks of the pairs in both systems")
        self.column.addWidget(self.distances, 1)
        self.table = RecordTable(
            [
                Column(key="what", title="what moves, what stays", text=lambda r: r.what, width=320),
                Column(
                    key="count",
                    title="count",
                    text=lambda r: str(r.count),
                    value=lambda r: r.count,
                    right=True,
                    width=80,
                ),
                Column(
                    key="why",
                    title="",
                    text=lambda r: r.why or "moves",
                    tone=lambda r: "sun" if r.why else "faint",
                    width=220,
                ),
            ]
        )
        self.table.setAccessibleName("What moves and what stays")
        self.column.addWidget(self.table, 1)
        self.heads = ListHeads(lead=1)
        self.heads.table.setAccessibleName("The list that moves")
        self.heads.changed.connect(self._on_meaning)
        self.heads.hide()
        self.column.addWidget(self.heads, 2)

    def _add_foot(self) -> None:
        """The buttons, and how far a move is."""
        foot = QWidget()
        line = QHBoxLayout(foot)
        line.setContentsMargins(0, 0, 0, 0)
        line.setSpacing(10)
        self.go, self.leave, self.stop = QPushButton("Move it"), QPushButton("Leave it"), QPushButton("stop")
        for button, name in ((self.go, "main"), (self.leave, "second"), (self.stop, "link")):
            look(button, name)
        self.progress = QProgressBar()
        self.progress.setFixedWidth(140)
        self.progress.setTextVisible(False)
        for widget in (self.go, self.leave, self.progress, self.stop):
            line.addWidget(widget)
        line.addStretch(1)
        self.column.addWidget(foot)

    # Opening
    # -----------------------------------------------------------------------------------------------------

    def open_file(self, path: str) -> None:
        """Show what moving a file by the fit looked at would do."""
        self.path, self.stay, self.backwards = path, (), False
        self._unit = self._match = self._preview = None
        self.leave.setText("Leave it")
        stem, ending = os.path.splitext(path)
        self.out = f"{stem} moved{ending if ending.lower() == '.dxf' else '.csv'}"
        step = self.bridge.fit
        self.way = self._way_of_fit(step.id) if step is not None else None
        self.heights = False
        self._look()

    def _way_of_fit(self, key: str) -> Way | None:
        outcome = self.bridge.derived.fits.get(key)
        if outcome is None or outcome.case is None:
            return None
        case = outcome.case
        names = case.result.pairs.names
        source = some(case.measured, names)
        return Way(
            words=outcome.step.name,
            source=source,
            target=some(case.known, names),
            result=case.result,
            step=key,
        )

    def _move(self) -> Move | None:
        if self.way is None:
            return None
        made = move_of(self.way.result, self.way.target, backwards=self.backwards)
        if not self.way.targets:
            made = replace(made, targets=made.targets[:, :0])
        return replace(made, heights=self.heights and self.way.result.options.height != "none")

    def _look(self) -> None:
        """Find out in the worker what would move and what would stay."""
        move = self._move()
        self.table.records.set_rows([])
        self._preview = None
        self.show_job()
        if move is not None and self.path:
            task = Task(preview_task, self.path, move, self.stay, self._reading(), self._both())
            self._work(task, self._show_preview)

    def _reading(self) -> Reading:
        """How the file is read."""
        forced = self._unit is not None
        unit = self._unit or self.bridge.unit
        assert self.way is not None
        there = self.way.target if self.backwards else self.way.source
        near = (float(np.mean(there.e_m)), float(np.mean(there.n_m)))
        return Reading(unit=unit, axes=self.bridge.axes, near=near, forced=forced, match=self._match)

    def _both(self) -> bool:
        """Whether the file lies in the frame shown before it moves, too."""
        step = self.bridge.state.fits.get(self.way.step) if self.way is not None else None
        return step is None or step.source_frame == step.target_frame

    def frame_step(self) -> Node | None:
        """The fit whose frame the file comes into."""
        return fit_node(self.way.step) if self.way is not None and self.way.step else None

    @property
    def coming(self) -> Coming | None:
        """What moves, for the plan."""
        return self._preview.coming if self._preview is not None and not self.backwards else None

    def show_job(self) -> None:
        if not self.path:
            return
        bridge, move = self.bridge, self._move()
        self.caption.setText("MOVING A FILE, NOTHING CHANGED YET")
        names = (
            f"{', '.join(self.stay[:3])}{' and more' if len(self.stay) > 3 else ''}"
            if self.stay
            else "targets only"
        )
        can_lift = self.way is not None and self.way.result.options.height != "none"
        parts = [Part(text="Move "), Part(text=os.path.basename(self.path), key="file"), Part(text=" by ")]
        parts += [Part(text=self.way.words if self.way else "nothing yet", key="by"), Part(text=", ")]
        parts += [
            Part(text="backwards" if self.backwards else "forwards", key="direction"),
            Part(text=", heights "),
        ]
        parts += [
            Part(text="shifted" if self.heights and can_lift else "untouched", key="heights"),
            Part(text=", leaving "),
        ]
        parts += [
            Part(text=names, key="stay"),
            Part(text=" where they are, read in "),
            Part(text=self._unit_words(), key="unit"),
            Part(text=", to "),
            Part(text=os.path.basename(self.out), key="out"),
            Part(text="."),
        ]
        self.statement.show_parts(parts)
        self.go.setEnabled(move is not None and self._task is None)
        if move is None or self.way is None:
            self.note.setText("Choose a fit with a result, a shift or a turn.")
            self.distances.records.set_rows([])
            return
        found = distances(self.way.source, self.way.target)
        self.note.setText(what_happens(self.way, move, found, bridge))
        self.distances.records.set_columns(distance_columns(bridge.unit, found))
        self.distances.records.set_rows(range(found.source.size))
        self.distances.setVisible(bool(found.source.size))

    def _show_preview(self, found: Preview) -> None:
        self._preview = found
        reasons = Counter((what, why) for _, what, why in found.stays)
        rows = [Row(what, count, why) for (what, why), count in reasons.items()]
        self.table.records.set_rows(
            rows + [Row(what, count, "") for what, count in sorted(found.moves.items())]
        )
        self.heads.setVisible(found.raw is not None)
        self.table.setVisible(found.raw is None)
        if found.raw is not None:
            self.heads.match = found.match
            self.heads.show_columns(
                [fate_column(found), *list_columns(found.raw, found.match)], found.raw.width
            )
            self.heads.table.records.set_rows(range(len(found.raw.rows)))
        self.show_job()
        self.shown.emit()

    def _on_meaning(self) -> None:
        """Somebody said what a column means."""
        self._match = self.heads.match
        self._look()

    # Statement
    # ---------------------------------------------------------------------------------------------------

    def _menu_file(self, menu: QMenu) -> None:
        choice(menu, "another file …", self.browse)

    def browse(self) -> None:
        """Ask for a file to move."""
        path, _ = QFileDialog.getOpenFileName(
            self, "Move a file", self.bridge.folder, "Drawings and lists (*.dxf *.csv *.txt *.xlsx *.xml)"
        )
        if path:
            self.open_file(path)

    def _menu_by(self, menu: QMenu) -> None:
        for key, step in self.bridge.state.fits.items():
            choice(
                menu,
                step.name,
                partial(self._use_fit, key),
                checked=self.way is not None and self.way.step == key,
            )
        menu.addSeparator()
        choice(menu, "a shift …", self._ask_shift)
        choice(menu, "a turn …", self._ask_turn)

    def _use_fit(self, key: str) -> None:
        self.way = self._way_of_fit(key)
        self._look()

    def _ask_shift(self) -> None:
        self.ask.ask(
            "Shift by",
            self.use_shift,
            placeholder="dE, dN, dH   or   MARK > MARK, which comes there",
            button="Use it",
        )

    def use_shift(self, text: str) -> bool:
        """A shift only, typed as dE, dN, dH in the unit shown, or by two marks."""
        try:
            if ">" in text:
                start, end = (self._place(name) for name in text.split(">", 1))
            else:
                values = [parse_length(t, self.bridge.unit) for t in text.replace(";", ",").split(",")]
                if len(values) not in (2, 3):
                    raise ProcedureError(
                        "a shift has two or three parts", hint="Type dE, dN, dH, or MARK > MARK"
                    )
                start, end = (
                    (0.0, 0.0, 0.0 if len(values) == 3 else math.nan),
                    (values[0], values[1], values[2] if len(values) == 3 else math.nan),
                )
            source, target = shift_pairs(*start, end)
            lifted = math.isfinite(start[2] + end[2])
            result = move_fit(
                source, target, FitOptions(horizontal="shift", height="shift" if lifted else "none")
            )
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        by_marks = ">" in text  # a shift by numbers has no mark whose target could stay
        self.way = Way(
            words=f"a shift, {text.strip()}", source=source, target=target, result=result, targets=by_marks
        )
        self._look()
        return True

    def _ask_turn(self) -> None:
        self.ask.ask(
            "Turn",
            self.use_turn,
            placeholder="about MARK by ANGLE   or   about MARK from MARK to MARK",
            button="Use it",
        )

    def use_turn(self, text: str) -> bool:
        """A turn only, clockwise: "about MARK by ANGLE", or "about MARK from MARK to MARK"."""
        by = re.fullmatch(r"\s*(?:about\s+)?(?P<about>.+?)\s+by\s+(?P<angle>.+)", text)
        between = re.fullmatch(
            r"\s*(?:about\s+)?(?P<about>.+?)\s+from\s+(?P<now>.+?)\s+to\s+(?P<then>.+)", text
        )
        try:
            if between:
                about = self._place(between["about"])
                angle = turn_between(
                    about[:2], self._place(between["now"])[:2], self._place(between["then"])[:2]
                )
            elif by:
                about, angle = self._place(by["about"]), parse_angle(by["angle"])
            else:
                raise ProcedureError(
                    "that is no turn", hint="Type: about T-01 by 12.5 gon, or: about T-01 from T-02 to T-03"
                )
            source, target, options = turn(about[:2], angle)
            self.way = Way(
                words=f"a turn {text.strip()}",
                source=source,
                target=target,
                result=move_fit(source, target, options),
            )
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        self._look()
        return True

    def _place(self, name: str) -> tuple[float, float, float]:
        """Adopted position of a mark in the frame shown. Raises ProcedureError."""
        adopted = self.bridge.derived.adopted.get(self.bridge.frame_id)
        row = adopted.index.get(name.strip()) if adopted is not None else None
        if adopted is None or row is None:
            raise ProcedureError(
                f"{name.strip()} has no position in the frame shown", hint="Name a mark of the frame shown"
            )
        return float(adopted.e_m[row]), float(adopted.n_m[row]), float(adopted.height_m[row])

    def _menu_heights(self, menu: QMenu) -> None:
        choice(menu, "untouched", partial(self._set, "heights", False), checked=not self.heights)
        if self.way is not None and self.way.result.options.height != "none":
            shift = format_fixed(self.way.result.height.shift_m / self.bridge.unit.metres, 4, sign=True)
            choice(
                menu,
                f"shifted as the fit says ({shift} {self.bridge.unit.key})",
                partial(self._set, "heights", True),
                checked=self.heights,
            )

    def _unit_words(self) -> str:
        if self._preview is None:
            return (self._unit or self.bridge.unit).plural
        said = ", as it states" if self._preview.stated else ""
        return f"{self._preview.unit.plural}{said}"

    def _menu_unit(self, menu: QMenu) -> None:
        words = "as the file states, else as the job"
        choice(menu, words, partial(self._set, "_unit", None), checked=self._unit is None)
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            choice(menu, unit.plural, partial(self._set, "_unit", unit), checked=unit is self._unit)

    def _menu_direction(self, menu: QMenu) -> None:
        choice(menu, "forwards", partial(self._set, "backwards", False), checked=not self.backwards)
        choice(
            menu,
            "backwards: the file is in the new system",
            partial(self._set, "backwards", True),
            checked=self.backwards,
        )

    def _set(self, name: str, value: object) -> None:
        setattr(self, name, value)
        self._look()

    def _menu_stay(self, menu: QMenu) -> None:
        choice(menu, "targets only", partial(self._set, "stay", ()), checked=not self.stay)
        choice(menu, "names: marks, layers, texts, handles …", self._ask_stay)

    def _ask_stay(self) -> None:
        def answer(text: str) -> None:
            self._set("stay", tuple(p.strip() for p in text.split(",") if p.strip()))

        self.ask.ask(
            "What stays",
            answer,
            text=", ".join(self.stay),
            placeholder="T-01, frame layer, …",
            button="Use it",
        )

    def _menu_out(self, menu: QMenu) -> None:
        choice(menu, "another name …", self._browse_out)

    def _browse_out(self) -> None:
        path, _ = QFileDialog.getSaveFileName(self, "Move to", self.out)
        if path:
            self._set("out", path)

    # Moving
    # ------------------------------------------------------------------------------------------------------

    def move_file(self) -> None:
        """Move the file into a new one; a scale that is not 1 is asked a reason first."""
        move, way = self._move(), self.way
        if move is None or way is None:
            return
        step = self.bridge.state.fits.get(way.step)
        if move.scale != 1.0 and step is not None and not step.scale_reason:

            def reason(text: str) -> bool:
                if not text.strip():
                    return False
                self.bridge.do(
                    gestures.change_step(step, "Say why the scale is not 1", scale_reason=text.strip())
                )
                self.move_file()
                return True

            ppm = format_fixed((move.scale - 1) * 1e6, 2, sign=True)
            self.ask.ask(
                f"The scale changes lengths by {ppm} ppm. Why?",
                reason,
                placeholder="the reason, for the report",
                button="Move it",
            )
            return
        if same_file(self.path, self.out):
            self.bridge.told.emit(
                "The result would overwrite the file it is made from. Name another file.", "doubt"
            )
            return
        self._work(
            Task(move_task, self.path, self.out, move, self.stay, way.result, self._reading()),
            self._on_moved,
        )

    def _on_moved(self, done: tuple[int, int, list[str]]) -> None:
        """Say what was done, and show the pairs against their targets in place of the distances."""
        moved, stayed, remarks = done
        self.bridge.told.emit(
            " ".join([f"Moved {moved}, stayed {stayed}. Written: {self.out}.", *remarks]), ""
        )
        if self.way is not None:
            self.caption.setText("MOVED  ·  THE PAIRS AGAINST THEIR TARGETS")
            table = self.way.result.pairs
            self.distances.records.set_columns(residual_columns(table))
            self.distances.records.set_rows(range(len(table.names)))
            self.distances.setVisible(True)
        self.leave.setText("Done")

    def _work(self, task: Task, then: Callable[[Any], None]) -> None:
        if self._task is not None:
            self._task.cancel()
        self._busy(True)
        task.signals.succeeded.connect(lambda found: then(found) if self._task in (task, None) else None)
        task.signals.failed.connect(self._on_failed)
        task.signals.cancelled.connect(
            lambda: self.bridge.told.emit("Stopped; no file was changed.", "") if self._task is task else None
        )
        task.signals.progressed.connect(
            lambda done, total, text: self.progress.setValue(done * 100 // max(total, 1))
        )
        task.signals.finished.connect(lambda: self._finished(task))
        self._task = self._runner.start(task)

    def _finished(self, task: Task) -> None:
        if self._task is task:
            self._task = None
            self._busy(False)

    def _on_failed(self, error: Exception) -> None:
        self.bridge.told.emit(
            error.one_line if isinstance(error, FenwindError) else f"The file cannot be moved: {error}.",
            "doubt",
        )

    def _busy(self, on: bool) -> None:
        self.progress.setVisible(on)
        self.progress.setValue(0)
        self.stop.setVisible(on)
        self.go.setEnabled(not on and self.way is not None)

    def shut_down(self) -> None:
        """Stop all work."""
        self._runner.shut_down()
