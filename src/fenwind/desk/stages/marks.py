"""Marks: what is known of each mark, typed, pasted, set down a selection; and why its coordinates are what
they are."""

from __future__ import annotations

import math
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Literal, get_args, overload

from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication, QKeyEvent, QKeySequence
from PySide6.QtWidgets import (
    QHBoxLayout,
    QLineEdit,
    QMenu,
    QPushButton,
    QVBoxLayout,
    QWidget,
)

from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column
from fenwind.desk.shell import PlainLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.centres import ask_centre
from fenwind.desk.stages.sheet import Sheet
from fenwind.desk.statement import choice
from fenwind.desk.table import RecordTable
from fenwind.desk.theme import scaled
from fenwind.errors import FenwindError
from fenwind.geodesy.frames import height_words
from fenwind.job import gestures
from fenwind.job.adopted import Adopted, Candidate
from fenwind.job.centre_gestures import no_centre
from fenwind.job.job import new_id
from fenwind.job.merging import merge_marks
from fenwind.quantities.lengths import parse_length
from fenwind.quantities.numbers import format_fixed
from fenwind.records.entries import Add, Gesture, amend
from fenwind.records.records import GivenPosition, Mark, MarkRule, MarkSymbol
from fenwind.reports.fit_report import mm
from fenwind.reports.statement import Part


@dataclass(frozen=True, slots=True, kw_only=True)
class MarkRow:
    """One mark with its adopted position in the frame shown; metres, nan where there is none."""

    mark: Mark
    e: float = math.nan
    n: float = math.nan
    height: float = math.nan
    sigma_h: float = math.nan
    sigma_v: float = math.nan
    basis: str = ""
    why: str = ""
    given: bool = False


@dataclass(frozen=True, kw_only=True, eq=False)
class MarkRows(Sequence[MarkRow]):
    """The rows of marks, each made when it is looked at: a job may have a hundred thousand. given: by id
    the marks with a given position; typed: coordinates typed so far, by mark id; elsewhere: names of the
    other frames, each with what is given in it by mark id."""

    marks: Sequence[Mark]
    adopted: Adopted | None
    given: Mapping[str, int]
    typed: Mapping[str, dict[str, float]]
    elsewhere: Sequence[tuple[str, Mapping[str, int]]]

    def __len__(self) -> int:
        return len(self.marks)

    @overload
    def __getitem__(self, at: int) -> MarkRow: ...
    @overload
    def __getitem__(self, at: slice) -> list[MarkRow]: ...
    def __getitem__(self, at: int | slice) -> MarkRow | list[MarkRow]:
        if isinstance(at, slice):
            return [self._row(mark) for mark in self.marks[at]]
        return self._row(self.marks[at])

    def _row(self, mark: Mark) -> MarkRow:
        adopted = self.adopted
        place = adopted.place.get(mark.id) if adopted is not None else None
        if adopted is None or place is None:
            typed = self.typed.get(mark.id, {})
            e, n, height = (typed.get(key, math.nan) for key in ("e_m", "n_m", "height_m"))
            elsewhere = next((name for name, known in self.elsewhere if mark.id in known), "")
            why = f"no position here: given in {elsewhere}" if elsewhere else ""
            return MarkRow(mark=mark, e=e, n=n, height=height, why=why)
        return MarkRow(
            mark=mark,
            e=float(adopted.e_m[place]),
            n=float(adopted.n_m[place]),
            height=float(adopted.height_m[place]),
            sigma_h=float(adopted.sigma_h_m[place]),
            sigma_v=float(adopted.sigma_v_m[place]),
            basis=adopted.basis[place],
            why=adopted.why[place],
            given=mark.id in self.given,
        )


class MarksTable(Sheet):
    """Statement, filter and table of the marks."""

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self._class = ""
        self._by: Literal["class", "code"] = "class"
        self._typed: dict[str, dict[str, float]] = {}
        self.statement.set_menus(
            {
                "class": self._menu_class,
                "frame": self._menu_frame,
                "tolerance": self._menu_tolerance,
                "symbol": self._menu_symbol,
                "label": self._menu_label,
            }
        )
        line = QWidget()
        row = QHBoxLayout(line)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(8)
        self.filter = QLineEdit()
        self.filter.setPlaceholderText("Show only rows with …")
        self.filter.setClearButtonEnabled(True)
        self.filter.setFixedWidth(scaled(210))
        self.new = QLineEdit()
        self.new.setPlaceholderText("New mark: name, Enter")
        self.new.setFixedWidth(scaled(190))
        self.new.returnPressed.connect(self._new_mark)
        self.down = QPushButton("set down the selection")
        self.down.setToolTip(
            "Put the value of the topmost selected cell into all selected cells of its column (Ctrl+Down)"
        )
        look(self.down, "link")
        self.down.clicked.connect(self.set_down)
        row.addWidget(self.filter)
        row.addWidget(self.new)
        row.addStretch(1)
        row.addWidget(self.down)
        self.column.addWidget(line)
        self._line = line
        self.table = RecordTable(self._columns())
        self.table.setAccessibleName("Marks of the job")
        self.table.row_picked.connect(lambda r: self.bridge.select(r.mark.name))
        self.filter.textChanged.connect(self.table.look_for)
        self.column.addWidget(self.table, 1)
        self.empty = QWidget()
        column = QVBoxLayout(self.empty)
        column.setContentsMargins(0, 12, 0, 0)
        words = PlainLabel(stage.empty)
        words.setWordWrap(True)
        look(words, "faint")
        self.first = QPushButton("Paste a list  (Ctrl+V)")
        self.first.setToolTip("Show the copied list against the job")
        look(self.first, "main")
        self.first.clicked.connect(self._paste)
        column.addWidget(words)
        column.addSpacing(8)
        column.addWidget(self.first, 0, Qt.AlignmentFlag.AlignLeft)
        column.addStretch(1)
        self.column.addWidget(self.empty, 1)

    def _paste(self) -> None:
        self.table.paste_requested.emit(QGuiApplication.clipboard().text())

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.matches(QKeySequence.StandardKey.Paste):
            self._paste()
        else:
            super().keyPressEvent(event)

    def _columns(self) -> list[Column]:
        axes = [
            self._coordinate(axis.component, axis.title, f"{axis.component}_m", axis.sign)
            for axis in self.bridge.axes
        ]
        return [
            Column(
                key="name",
                title="mark",
                whole=True,
                text=lambda r: r.mark.name,
                edit=self._rename,
                tone=lambda r: "bold" if r.mark.active else "off",
                width=66,
            ),
            self._word("class", "class", "mark_class", 80),
            self._word("code", "code", "code", 46),
            *axes,
            self._coordinate("height", "height", "height_m"),
            *self._columns_of_state(),
            self._word("monument", "monument", "monument", 110, "faint"),
            self._word("description", "description", "description", 190, "faint"),
        ]

    def _coordinate(self, key: str, title: str, field: str, sign: float = 1.0) -> Column:
        """E, N or height in the unit shown; sign: -1 where the system counts the other way."""
        factor, decimals = sign / self.bridge.unit.metres, self.bridge.state.info.decimals
        return Column(
            key=key,
            title=title,
            unit=self.bridge.unit.key,
            text=lambda r: format_fixed(getattr(r, key) * factor, decimals),
            value=lambda r: getattr(r, key) * factor,
            edit=lambda r, text: self._edit_position(r, field, text, sign),
            editable=lambda r: r.given or not r.basis,
            tone=lambda r: "" if r.basis == "given" else "faint",
            right=True,
            width=104,
            tip="Dark: given. Grey: derived, not to be typed over",
        )

    def _word(self, key: str, title: str, field: str, width: int, tone: str = "") -> Column:
        """A word of the mark, to be typed."""
        return Column(
            key=key,
            title=title,
            text=lambda r: str(getattr(r.mark, field)),
            edit=lambda r, text: self._set([r], field, text),
            tone=lambda r: tone if r.mark.active else "off",
            width=width,
        )

    def _columns_of_state(self) -> list[Column]:
        """What may be held, how sure it is, and why it is adopted."""
        return [
            Column(
                key="hold_h",
                title="hold\nplan",
                box=lambda r: r.mark.hold_horizontal,
                toggle=partial(self._toggle, "hold_horizontal"),
                width=44,
                tip="A known position of this mark may be held in plan",
            ),
            Column(
                key="hold_v",
                title="hold\nheight",
                box=lambda r: r.mark.hold_height,
                toggle=partial(self._toggle, "hold_height"),
                width=50,
                tip="A known height of this mark may be held",
            ),
            Column(
                key="sigma",
                title="± plan",
                unit="mm",
                text=lambda r: mm(r.sigma_h),
                value=lambda r: r.sigma_h * 1000,
                tone=lambda r: "faint",
                right=True,
                width=58,
            ),
            Column(
                key="sigma_v",
                title="± height",
                unit="mm",
                text=lambda r: mm(r.sigma_v),
                value=lambda r: r.sigma_v * 1000,
                tone=lambda r: "faint",
                right=True,
                width=68,
            ),
            Column(
                key="why",
                title="adopted because",
                text=lambda r: r.why if r.mark.active else "switched off",
                tone=lambda r: "faint",
                width=170,
            ),
        ]

    def show_job(self) -> None:
        state, bridge = self.bridge.state, self.bridge
        rows = self._rows()
        total = len(state.marks)
        self.caption.setText(f"MARKS  ·  {total}")
        frame = bridge.frame
        height = height_words(frame.spec.height) if frame else ""
        shown = f"{self._by} {self._class}, {len(rows)}" if self._class else f"every class, {total}"
        parts = [Part(text="Marks of "), Part(text=shown, key="class")]
        if self._class:
            rule = state.rule_of(self._by, self._class) or MarkRule(id="", by=self._by, value=self._class)
            limits = (
                mm(rule.tolerance_h_m)
                if rule.tolerance_h_m == rule.tolerance_v_m
                else f"{mm(rule.tolerance_h_m)}, {mm(rule.tolerance_v_m)}"
            )
            if self._by == "class":
                parts += [Part(text=", to "), Part(text=f"{limits} mm", key="tolerance")]
            parts += [Part(text=", drawn "), Part(text=rule.symbol, key="symbol")]
            parts += [
                Part(text=", "),
                Part(text="labelled" if rule.label else "not labelled", key="label"),
                Part(text=","),
            ]
        if frame is not None:
            parts += [
                Part(text=" in "),
                Part(text=frame.spec.name, key="frame"),
                Part(text=f", heights above {height}."),
            ]
        else:
            parts.append(Part(text=", no frame yet: the first list brings one."))
        self.statement.show_parts(parts)
        self.table.records.set_columns(self._columns())
        self.table.records.set_rows(rows)
        self.empty.setVisible(not total)
        self.table.setVisible(bool(total))
        for widget in (self.filter, self.down):
            widget.setVisible(bool(total))

    def _rows(self) -> MarkRows:
        state, bridge = self.bridge.state, self.bridge
        marks, frame, given = list(state.marks.values()), bridge.frame_id, bridge.derived.given
        if self._class:
            field = "mark_class" if self._by == "class" else "code"
            marks = [mark for mark in marks if getattr(mark, field) == self._class]
        return MarkRows(
            marks=marks,
            adopted=bridge.derived.adopted.get(frame),
            given=given[frame].index if frame in given else {},
            typed=self._typed,
            elsewhere=[
                (state.frames[key].spec.name, known.index)
                for key, known in given.items() if key != frame and key in state.frames
            ],
        )  # fmt: skip

    def _menu_class(self, menu: QMenu) -> None:
        choice(menu, "every class", partial(self._show_class, ""), checked=not self._class)
        for name in sorted({m.mark_class for m in self.bridge.state.marks.values() if m.mark_class}):
            choice(
                menu,
                name,
                partial(self._show_class, name),
                checked=(self._by, self._class) == ("class", name),
            )
        menu.addSeparator()
        for name in sorted({m.code for m in self.bridge.state.marks.values() if m.code}):
            choice(
                menu,
                f"code {name}",
                partial(self._show_class, name, "code"),
                checked=(self._by, self._class) == ("code", name),
            )

    def _show_class(self, name: str, by: Literal["class", "code"] = "class") -> None:
        self._class, self._by = name, by
        self.show_job()

    def _rule(self, what: str, **changes: object) -> None:
        self.bridge.do(gestures.set_rule(self.bridge.state, self._by, self._class, what, **changes))

    def _menu_tolerance(self, menu: QMenu) -> None:
        for value in (0.003, 0.005, 0.010, 0.020, 0.050):
            act = partial(
                self._rule, f"Class {self._class} to {mm(value)} mm", tolerance_h_m=value, tolerance_v_m=value
            )
            choice(menu, f"{mm(value)} mm in plan and height", act)
        choice(menu, "other …", self._ask_class_tolerance)

    def _ask_class_tolerance(self) -> None:
        def use(plan_m: float, height_m: float) -> None:
            self._rule(f"Tolerance of class {self._class}", tolerance_h_m=plan_m, tolerance_v_m=height_m)

        self.ask_tolerances("Tolerance in plan, in height, mm", "", use)

    def _menu_symbol(self, menu: QMenu) -> None:
        for name in get_args(MarkSymbol):
            choice(menu, name, partial(self._rule, f"Draw class {self._class}: {name}", symbol=name))

    def _menu_label(self, menu: QMenu) -> None:
        for on, words in ((True, "labelled"), (False, "not labelled")):
            choice(menu, words, partial(self._rule, f"Class {self._class} {words}", label=on))

    def make_control(self) -> None:
        """Make control of the selected derived marks."""
        marks = [r.mark for r in self.table.selected_rows()]
        adopted = self.bridge.derived.adopted.get(self.bridge.frame_id)
        if adopted is not None:
            self.bridge.attempt(
                lambda: gestures.make_control(self.bridge.state, adopted, marks, self.bridge.frame_id)
            )

    def merge(self) -> None:
        """Ask which of the two selected marks stays; the other's records go over to it."""
        marks = [r.mark for r in self.table.selected_rows()]
        if len(marks) != 2:
            self.bridge.told.emit("Select the two marks that are one.", "")
            return
        current = self.table.row_at(self.table.currentIndex())
        kept, other = marks if current is None or current.mark.id == marks[0].id else marks[::-1]

        def answer(text: str) -> bool:
            if text.strip() not in (kept.name, other.name):
                self.bridge.told.emit(f"Type {kept.name} or {other.name}.", "doubt")
                return False
            pair = (kept, other) if text.strip() == kept.name else (other, kept)
            return self.bridge.attempt(lambda: merge_marks(self.bridge.state, *pair))

        self.ask.ask(f"{kept.name} and {other.name} are one mark. Which name stays?", answer, text=kept.name,
                     button="Merge them")  # fmt: skip

    def make_centre(self) -> None:
        """Ask which mark is the middle of the selected ones."""
        ask_centre(self.bridge, self.ask, [r.mark for r in self.table.selected_rows()])

    def no_centre(self) -> None:
        """Let the selected marks be centres no longer."""
        marks = [r.mark for r in self.table.selected_rows()]
        self.bridge.attempt(lambda: no_centre(self.bridge.state, marks))

    def choose_position(self) -> None:
        """Offer all positions that the selected mark could have in the frame shown."""
        rows = self.table.selected_rows()
        adopted = self.bridge.derived.adopted.get(self.bridge.frame_id)
        if len(rows) != 1 or adopted is None:
            self.bridge.told.emit("Select one mark first.", "")
            return
        menu = QMenu(self)
        menu.aboutToHide.connect(menu.deleteLater)
        self.fill_choices(menu, rows[0].mark)
        menu.popup(
            self.table.viewport().mapToGlobal(self.table.visualRect(self.table.currentIndex()).bottomLeft())
        )

    def fill_choices(self, menu: QMenu, mark: Mark) -> None:
        """The candidates of a mark, each with its difference from the adopted position, and the usual
        order."""
        adopted = self.bridge.derived.adopted[self.bridge.frame_id]
        every = adopted.candidates(mark.id)
        own = next((c for c in every if c.adopted), None)
        for candidate in every:
            words = candidate.why
            if own is not None and not candidate.adopted:
                way = (candidate.e_m - own.e_m, candidate.n_m - own.n_m, candidate.height_m - own.height_m)
                words += f"   {'  '.join(mm(v, sign=True) for v in way if math.isfinite(v))} mm"
            choice(menu, words, partial(self._ask_why, mark, candidate), checked=candidate.adopted)
        menu.addSeparator()
        choice(menu, "the usual order", partial(self._choose, mark, "", "", ""))

    def _ask_why(self, mark: Mark, candidate: Candidate) -> None:
        use = partial(self._choose, mark, candidate.key, candidate.why)
        self.ask.ask(f"Adopt {mark.name} as {candidate.why}, because", use, button="Adopt it")

    def _choose(self, mark: Mark, origin: str, words: str, reason: str) -> bool:
        frame = self.bridge.frame_id
        return self.bridge.attempt(
            lambda: gestures.choose_position(self.bridge.state, mark, frame, origin, words, reason)
        )

    def release_control(self) -> None:
        """Let the selected control be derived again."""
        marks = [r.mark for r in self.table.selected_rows()]
        self.bridge.attempt(lambda: gestures.release_control(self.bridge.state, marks, self.bridge.frame_id))

    def _menu_frame(self, menu: QMenu) -> None:
        info = self.bridge.state.info
        for key, record in self.bridge.state.frames.items():
            act = partial(gestures.set_field, [info], "frame", key, f"Show {record.spec.name}")
            choice(
                menu, record.spec.name, partial(self.bridge.attempt, act), checked=key == self.bridge.frame_id
            )

    def _new_mark(self) -> None:
        name = self.new.text()

        def make() -> Gesture:
            return gestures.new_mark(self.bridge.state, name)[1]

        if self.bridge.attempt(make):
            self.new.clear()
            self.bridge.select(name.strip())

    def _rename(self, row: MarkRow, text: str) -> bool:
        return self.bridge.attempt(lambda: gestures.rename_mark(self.bridge.state, row.mark, text))

    def _set(self, rows: list[MarkRow], field: str, value: object) -> bool:
        names = ", ".join(r.mark.name for r in rows[:3]) + (" and more" if len(rows) > 3 else "")
        word = {
            "mark_class": "class",
            "hold_horizontal": "hold in plan",
            "hold_height": "hold in height",
        }.get(field, field)
        return self.bridge.do(
            gestures.set_field([r.mark for r in rows], field, value, f"Set {word} of {names}")
        )

    def _toggle(self, field: str, row: MarkRow) -> None:
        self._set([row], field, not getattr(row.mark, field))

    def _edit_position(self, row: MarkRow, field: str, text: str, sign: float = 1.0) -> bool:
        try:
            value = sign * parse_length(text, self.bridge.unit) if text.strip() else None
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        given = self._given_of(row)
        if given is not None and (field == "height_m" or given.e_m is not None):
            frame = self.bridge.frame_id
            return self.bridge.attempt(
                lambda: gestures.set_given(
                    self.bridge.state, row.mark, frame, field, value, "typed over in Marks"
                )
            )
        if value is None:
            return False
        return self._type_new(row, field, value)

    def _given_of(self, row: MarkRow) -> GivenPosition | None:
        return next(
            (
                g
                for g in reversed(self.bridge.state.given.values())
                if g.active and (g.mark, g.frame) == (row.mark.id, self.bridge.frame_id)
            ),
            None,
        )

    def _type_new(self, row: MarkRow, field: str, value: float) -> bool:
        """Collect typed coordinates until easting and northing are both there; then they become a given
        position, or join the height that was given alone. A height is given alone at once."""
        if not self.bridge.frame_id:
            self.bridge.told.emit("Coordinates need a frame: choose one at the top first.", "doubt")
            return False
        typed = self._typed.setdefault(row.mark.id, {})
        typed[field] = value
        if field != "height_m" and not {"e_m", "n_m"} <= set(typed):
            self.show_job()
            return True
        del self._typed[row.mark.id]
        given, what = self._given_of(row), f"Type the position of {row.mark.name}"
        source = "typed in Marks"
        if given is not None:
            return self.bridge.do(Gesture(what, (amend(given, reason=source, **typed),)))
        record = GivenPosition(
            id=new_id(),
            mark=row.mark.id,
            frame=self.bridge.frame_id,
            e_m=typed.get("e_m"),
            n_m=typed.get("n_m"),
            height_m=typed.get("height_m"),
            source=source,
        )
        return self.bridge.do(Gesture(what, (Add(record=record),)))

    def set_down(self) -> None:
        """Put the topmost selected cell's value into all selected cells of its column."""
        indexes = self.table.selectionModel().selectedIndexes()
        current = self.table.currentIndex()
        if not indexes or not current.isValid():
            self.bridge.told.emit("Select cells of one column first.", "")
            return
        column = self.table.records.columns[current.column()]
        in_column = sorted((i for i in indexes if i.column() == current.column()), key=lambda i: i.row())
        rows: list[MarkRow] = [self.table.row_at(i) for i in in_column]
        field = {
            "class": "mark_class",
            "code": "code",
            "description": "description",
            "hold_h": "hold_horizontal",
            "hold_v": "hold_height",
        }.get(column.key)
        if field is None or len(rows) < 2:
            self.bridge.told.emit(
                "Class, code, description and the hold flags can be set down a selection of two or more "
                "rows.",
                "",
            )
            return
        self._set(rows, field, getattr(rows[0].mark, field))

    def switch(self, active: bool) -> None:
        """Switch the selected marks off or on; they never go away."""
        rows = [r for r in self.table.selected_rows() if r.mark.active != active]
        if rows:
            self._set(rows, "active", active)
