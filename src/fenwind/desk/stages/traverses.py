"""Traverses: the book with what each station was moved by, its misclosures, and what it hangs on, said in a
sentence."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from functools import partial
from typing import Any

from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QMenu, QPushButton, QWidget

from fenwind.desk.actions import ActionSpec
from fenwind.desk.bridge import JobBridge
from fenwind.desk.shell import PlainLabel, WholeLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.sheet import RecordSheet
from fenwind.desk.stages.traverse_rows import Edits, Row, columns, rows
from fenwind.desk.statement import choice
from fenwind.desk.table import RecordTable
from fenwind.errors import FenwindError, ParseError, ProcedureError
from fenwind.exchange.line_csv import book_record, read_book, typed_row
from fenwind.job.line_gestures import (
    book_row,
    change,
    collect_book,
    drop_rows,
    set_cell,
    start_book,
    take_book,
)
from fenwind.job.steps.outcome import Node
from fenwind.job.steps.traverse import Walked, collected_from
from fenwind.quantities.angles import RAD_PER_SECOND, format_angle, parse_angle, usual_decimals
from fenwind.quantities.bearings import format_azimuth, parse_bearing
from fenwind.quantities.lengths import format_way, parse_length
from fenwind.quantities.numbers import format_fixed, parse_number
from fenwind.records.entries import Gesture
from fenwind.records.lines import TraverseBook
from fenwind.records.setups import Setup
from fenwind.reports.fit_report import mm
from fenwind.reports.setup_words import grid_words
from fenwind.reports.statement import Part
from fenwind.reports.traverse_words import both_ways

METHODS = {
    "compass": "by the compass rule", "transit": "by the transit rule", "lsq": "by least squares",
    "none": "as they were walked",
}  # fmt: skip


class TraverseSheet(RecordSheet):
    """See the module."""

    kind = "traverse"

    wanted = Signal()

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self.statement.set_menus(
            {
                "traverse": self._menu_traverse, "close": self._menu_close, "angles": self._menu_angles,
                "method": self._menu_method, "grid": self._menu_grid, "heights": self._menu_heights,
            }
        )  # fmt: skip
        self.statement.part_clicked.connect(self._on_part)
        self.verdict = WholeLabel("")
        self.empty = PlainLabel(
            "A traverse is a walk from station to station, angle and distance by turns. Take in its book as "
            "a list (from, to, direction_kind, direction_dms, distance and, if there is one, dh), or book it "
            "here row by row. It hangs on what is known in the frame shown."
        )
        self.empty.setWordWrap(True)
        look(self.empty, "faint")
        self.first, self.begin = QPushButton("Take in a traverse …"), QPushButton("Book one here")
        self.gather = QPushButton("Collect one from setups …")
        look(self.gather, "second")
        self.gather.clicked.connect(self.ask_setups)
        look(self.first, "main")
        look(self.begin, "second")
        self.first.clicked.connect(self.choose_file)
        self.begin.clicked.connect(self.start)
        self.buttons = QWidget()
        row = QHBoxLayout(self.buttons)
        row.setContentsMargins(0, 0, 0, 0)
        row.addWidget(self.first)
        row.addWidget(self.gather)
        row.addWidget(self.begin)
        row.addStretch(1)
        self.table = RecordTable([])
        self.table.setAccessibleName("Rows of the traverse")
        self.table.row_picked.connect(lambda row: self.bridge.select(row.there))
        self.more = QPushButton("Book a row")
        look(self.more, "link")
        self.more.clicked.connect(self.ask_row)
        for widget in (self.verdict, self.empty, self.buttons):
            self.column.addWidget(widget)
        self.column.addWidget(self.table, 1)
        self.column.addWidget(self.more, 0, Qt.AlignmentFlag.AlignLeft)
        self.column.addStretch(0)

    def _angle(self, value: float) -> str:
        style = self.bridge.angle_style
        return format_angle(value, style, usual_decimals(style))

    # What is shown

    @property
    def book(self) -> TraverseBook | None:
        """The traverse looked at."""
        return self.looked_at(TraverseBook)

    def found(self) -> Walked | FenwindError | None:
        """What came of it."""
        found: Any = self.came_of(self.book)
        return found

    def show_job(self) -> None:
        book, found = self.book, self.found()
        for widget in (self.empty, self.buttons):
            widget.setVisible(book is None)
        for widget in (self.statement, self.verdict, self.table, self.more):
            widget.setVisible(book is not None)
        self.caption.setText("TRAVERSES" if book is None else book.name.upper())
        if book is None:
            return
        self.statement.show_parts(self._parts(book, found))
        self.verdict.setText(self._verdict(book, found))
        edits = None if book.setups else Edits(direction=self._edit_direction, length=self._edit_length)
        self.more.setVisible(not book.setups)
        self.table.records.set_columns(columns(self.bridge, book, edits))
        walked = found.book if isinstance(found, Walked) else book
        self.table.records.set_rows(rows(self.bridge.state, walked, found))

    def _parts(self, book: TraverseBook, found: Walked | FenwindError | None) -> list[Part]:
        walked = found.book if isinstance(found, Walked) else book
        start = (
            self.bridge.state.mark_name(walked.here[0], "?")
            if walked.here
            else "a mark that is not booked yet"
        )
        line = self.bridge.state.mark_name(book.back, "nothing yet")
        if book.start_azimuth_rad is not None:
            line = f"the azimuth {format_azimuth(book.start_azimuth_rad, self.bridge.angle_style)}"
        loop = bool(book.close) and (book.loop or book.close == (walked.here or ("",))[0])
        close = f"closes on {self.bridge.state.mark_name(book.close, '?')}" if book.close else "stays open"
        grid = "as they were measured"
        grid = grid_words(book.grid, found.factor if isinstance(found, Walked) else 1.0)
        return [
            Part(text="The traverse "), Part(text=book.name, key="traverse"),
            Part(text=f" begins at {start}, turned to "), Part(text=line, key="back"), Part(text=", and "),
            Part(text=f"{close}, its start" if loop else close, key="close"),
            *(self._closing(book, walked.closing_angle_rad) if book.close else []),
            Part(text="; angles "), Part(text="balanced" if book.balance else "as booked", key="angles"),
            Part(text=", stations "), Part(text=METHODS[book.method], key="method"),
            Part(text=", distances "), Part(text=grid, key="grid"), Part(text=", heights "),
            Part(text=f"by {'set-ups' if book.heights_by == 'setups' else 'distance'}", key="heights"),
            Part(text="; "), Part(text=f"1:{book.spec:.0f}", key="spec"), Part(text=" is asked for, of "),
            Part(
                text=f"{book.sigma_angle_s:g}″ and {book.sigma_distance_m * 1000.0:g} mm + "
                f"{book.sigma_distance_ppm:g} ppm", key="sigmas",
            ), Part(text="."),
        ]  # fmt: skip

    def _closing(self, book: TraverseBook, closing: float | None) -> list[Part]:
        angle = "no closing angle" if closing is None else f"the closing angle {self._angle(closing)}"
        line = self.bridge.state.mark_name(book.fore, "its first line")
        if book.closing_azimuth_rad is not None:
            line = f"the azimuth {format_azimuth(book.closing_azimuth_rad, self.bridge.angle_style)}"
        return [Part(text=" with "), Part(text=angle, key="angle"), Part(text=" to "),
                Part(text=line, key="fore")]  # fmt: skip

    def _verdict(self, book: TraverseBook, found: Walked | FenwindError | None) -> str:
        if isinstance(found, FenwindError):
            return found.sentences
        if found is None:
            return ""
        r, said, unit = found.found, both_ways(found), self.bridge.unit
        length = f"{format_fixed(r.length / unit.metres, 3)} {unit.key}"
        if not math.isnan(r.angular):
            many = "The angle misses" if r.angles == 1 else f"{r.angles} angles miss"
            said.append(
                f"{many} by {format_fixed(r.angular / RAD_PER_SECOND, 1, sign=True)}″, "
                f"{format_fixed(found.angle_limit / RAD_PER_SECOND, 1)}″ is allowed."
            )
        if found.work.ends.close is None:
            said.append(f"It is open: {length} that nothing checks.")
        else:
            height = "" if math.isnan(r.misclosure[2]) else f", H {mm(float(r.misclosure[2]), sign=True)}"
            axes = self.bridge.axes_in(self.bridge.state.frames.get(book.frame))
            plan = ", ".join(f"{a.title} {mm(float(a.of(*r.misclosure[:2])), sign=True)}" for a in axes)
            ratio = f", 1:{r.ratio:.0f}" if not math.isnan(r.ratio) else ""
            said.append(
                f"It misses by {plan}{height} mm: {format_way(r.linear)} on "
                f"{length}{ratio}; 1:{book.spec:.0f} is asked for."
            )
        if r.variance_factor is not None:
            said.append(f"{r.dof} left over, variance factor {format_fixed(r.variance_factor, 2)}.")
        return " ".join(said)

    # What is done

    def _known(self) -> list[str]:
        """Names of marks that are known where the traverse hangs: given or adjusted, in their order."""
        adopted = self.bridge.derived.adopted.get(self.bridge.frame_id)
        rows = zip(adopted.names, adopted.basis, strict=True) if adopted is not None else ()
        return [name for name, basis in rows if basis in ("given", "converted", "adjusted")]

    def take(self, path: str) -> bool:
        """Take in the book of a file."""

        def make() -> Gesture:
            b = self.bridge
            book = book_record(read_book(path, b.list_units), path)
            return take_book(b.state, book, b.frame_id, self._known())

        done = self.take_in(TraverseBook, make)
        book = self.book
        if done and book is not None and book.kind[0] != "azimuth":
            self._on_part("back")
        return done

    def choose_file(self) -> None:
        """Ask for the file of a book."""
        path, _ = QFileDialog.getOpenFileName(
            self, "Book of a traverse", self.bridge.folder, "CSV (*.csv *.txt);;All files (*)"
        )
        if path:
            self.take(path)

    def ask_setups(self) -> None:
        """Ask which setups make a traverse."""
        state = self.bridge.state
        every = [s.name for s in state.of(Setup).values() if s.active and s.frame == self.bridge.frame_id]
        if len(every) < 2:
            self.bridge.told.emit("A traverse is collected from two setups or more of the frame shown.", "")
            return
        self.ask.ask(
            "Setups in the order of the walk:", self.collect, text=", ".join(every), button="Collect"
        )

    def collect(self, text: str) -> bool:
        """Collect a traverse from setups by their names."""
        b = self.bridge
        by_name = {s.name.lower(): s for s in b.state.of(Setup).values() if s.active}

        def make() -> Gesture:
            asked = [part.strip() for part in text.split(",") if part.strip()]
            missing = next((name for name in asked if name.lower() not in by_name), None)
            if missing is not None:
                raise ProcedureError(f"there is no setup {missing}", hint="Type their names in their order")
            setups = [by_name[name.lower()] for name in asked]
            names = {key: mark.name for key, mark in b.state.marks.items() if mark.active}
            ends = collected_from(setups, names, self._known())
            return collect_book(b.state, b.frame_id, setups, ends)

        done = b.attempt(make)
        if done:
            self._key = list(b.state.of(TraverseBook))[-1]
            self.refresh()
        return done

    def start(self) -> None:
        """Start a traverse with nothing booked, and ask for its first row."""
        if self.bridge.attempt(lambda: start_book(self.bridge.state, self.bridge.frame_id)):
            self._key = list(self.bridge.state.of(TraverseBook))[-1]
            self.refresh()
            self.ask_row()

    def ask_row(self) -> None:
        """Ask for the next row, again and again until it is left."""
        book = self.book
        if book is None:
            return
        last = f"{self.bridge.state.mark_name(book.there[-1], '')}, " if book.there else ""
        self.ask.ask(
            f"From, to, angle, distance ({self.bridge.unit.key}), height difference:", self._use_row,
            text=last, placeholder="P-1, P-2, right 117-35-52, 84.213, 1.204", button="Book it",
        )  # fmt: skip
        self.ask.edit.setCursorPosition(len(last))

    def _use_row(self, text: str) -> bool:
        book, b = self.book, self.bridge
        if book is None:
            return True
        row = partial(typed_row, text, b.angle_style, b.unit)
        if b.attempt(lambda: book_row(b.state, book, row())):
            self.ask_row()
        return False

    def _change(self, what: str, **changes: Any) -> bool:
        book = self.book
        return book is not None and self.bridge.do(change(book, what, **changes))

    def _menu_traverse(self, menu: QMenu) -> None:
        for book in self.bridge.state.of(TraverseBook).values():
            if book.active:
                choice(menu, book.name, partial(self.look_at, book.id), checked=book is self.book)
        menu.addSeparator()
        choice(menu, "Take in another …", self.choose_file)
        choice(menu, "Collect another from setups …", self.ask_setups)
        choice(menu, "Book another here", self.start)

    def _menu_close(self, menu: QMenu) -> None:
        book = self.book
        if book is None or not book.here:
            return
        what, end = "Where it closes", book.there[-1]
        choice(menu, "stays open", partial(self._change, what, close=""), checked=not book.close)
        for key in dict.fromkeys((end, book.here[-1])):
            name = self.bridge.state.mark_name(key, "?")
            closes = partial(self._change, what, close=key, loop=False)
            on = book.close == key
            choice(menu, f"closes on {name}", closes, checked=on and not book.loop)
            loop = partial(self._change, what, close=key, loop=True)
            choice(menu, f"{name} is the start again", loop, checked=on and book.loop)

    def _menu_angles(self, menu: QMenu) -> None:
        book = self.book
        for balance, words in ((False, "as booked"), (True, "balanced")):
            choice(menu, words, partial(self._change, "Angles", balance=balance),
                   checked=book is not None and book.balance == balance)  # fmt: skip

    def _menu_method(self, menu: QMenu) -> None:
        book = self.book
        for method, words in METHODS.items():
            choice(menu, words, partial(self._change, "How it is adjusted", method=method),
                   checked=book is not None and book.method == method)  # fmt: skip

    def _menu_grid(self, menu: QMenu) -> None:
        book = self.book
        for grid, words in (
            (True, "to the grid, each by its own line's factor"), (False, "as they were measured"),
        ):  # fmt: skip
            choice(menu, words, partial(self._change, "Distances", grid=grid),
                   checked=book is not None and book.grid == grid)  # fmt: skip

    def _menu_heights(self, menu: QMenu) -> None:
        book = self.book
        for by, words in (("distance", "by distance"), ("setups", "by set-ups")):
            choice(menu, words, partial(self._change, "Heights", heights_by=by),
                   checked=book is not None and book.heights_by == by)  # fmt: skip

    def _on_part(self, key: str) -> None:
        book = self.book
        if book is None:
            return
        line = "a known mark, or an azimuth:"
        start = self.bridge.state.mark_name(book.here[0], "the start") if book.here else "the start"
        end = self.bridge.state.mark_name(book.close, "the end")
        questions = {
            "back": (f"What was sighted back to from {start}: {line}", self._use_back,
                     self.bridge.state.mark_name(book.back, "")),
            "fore": (f"What the closing angle at {end} leads to: {line}", self._use_fore,
                     self.bridge.state.mark_name(book.fore, "")),
            "angle": (f"Closing angle at {end}, from the last station; nothing for none:", self._use_angle,
                      "" if book.closing_angle_rad is None else self._angle(book.closing_angle_rad)),
            "spec": ("Misclosure asked for, 1:N:", self._use_spec, f"1:{book.spec:.0f}"),
            "sigmas": (
                "Sigma of an angle (seconds), of a distance (mm, ppm):", self._use_sigmas,
                f"{book.sigma_angle_s:g}, {book.sigma_distance_m * 1000.0:g}, {book.sigma_distance_ppm:g}",
            ),
        }  # fmt: skip
        question, use, text = questions[key]
        self.ask.ask(question, use, text=text, button="Use it")

    def _tried(self, act: Callable[[], bool]) -> bool:
        try:
            return act()
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False

    def _line(self, text: str) -> tuple[str, float | None]:
        """A mark's id, or an azimuth. Raises ParseError."""
        mark = self.bridge.state.mark_named(text.strip())
        if mark is not None:
            return mark.id, None
        if not text.strip():
            return "", None
        try:
            return "", parse_bearing(text, self.bridge.angle_style)
        except ParseError:
            raise ProcedureError(
                f"{text.strip()!r} is no mark of the job and no azimuth", hint="Type a mark's name"
            ) from None

    def _use_back(self, text: str) -> bool:
        def act() -> bool:
            mark, azimuth = self._line(text)
            return self._change("Start line", back=mark, start_azimuth_rad=azimuth)

        return self._tried(act)

    def _use_fore(self, text: str) -> bool:
        def act() -> bool:
            mark, azimuth = self._line(text)
            return self._change("Closing line", fore=mark, closing_azimuth_rad=azimuth)

        return self._tried(act)

    def _use_angle(self, text: str) -> bool:
        def act() -> bool:
            angle = parse_angle(text, self.bridge.angle_style) if text.strip() else None
            return self._change("Closing angle", closing_angle_rad=angle)

        return self._tried(act)

    def _use_spec(self, text: str) -> bool:
        def act() -> bool:
            spec = parse_number(text.strip().removeprefix("1:"))
            if not 1.0 <= spec < 1e9:
                raise ParseError(f"{text.strip()!r} is no 1:N", hint="Type 1:10000")
            return self._change("Misclosure asked for", spec=spec)

        return self._tried(act)

    def _use_sigmas(self, text: str) -> bool:
        def act() -> bool:
            values = [parse_number(part) for part in text.split(",")]
            if len(values) != 3 or not all(0.0 < v < 1e6 for v in values[:2]) or values[2] < 0.0:
                raise ParseError(f"{text.strip()!r} is not three sigmas", hint="Type for instance 5, 3, 2")
            return self._change("Sigmas", sigma_angle_s=values[0], sigma_distance_m=values[1] / 1000.0,
                                sigma_distance_ppm=values[2])  # fmt: skip

        return self._tried(act)

    def _edit_direction(self, row: Row, text: str) -> bool:
        book = self.book
        read = partial(parse_angle, text, self.bridge.angle_style)
        return book is not None and self.bridge.attempt(
            lambda: set_cell(book, "direction_rad", row.number, read())
        )

    def _edit_length(self, key: str, row: Row, text: str) -> bool:
        book = self.book

        def make() -> Gesture:
            value = parse_length(text, self.bridge.unit) if text.strip() else None
            if key == "distance" and not (value or 0.0) > 0.0:
                raise ParseError("a distance is above 0", hint="Type the horizontal distance")
            assert book is not None
            return set_cell(book, f"{key}_m", row.number, value)

        return book is not None and self.bridge.attempt(make)

    def _drop(self) -> None:
        book = self.book
        if book is not None:
            self.bridge.do(drop_rows(book, {row.number for row in self.table.selected_rows()}))

    # What the desk asks

    def focus(self) -> QWidget:
        return self.table if self.book is not None else self.first

    def plan_step(self) -> Node | None:
        return self.node_of(self.book)

    def select(self, name: str) -> None:
        self.table.pick(lambda row: row.there == name)

    def pick(self, names: set[str]) -> bool:
        self.table.pick_all(lambda row: row.there in names)
        return True

    def commands(self) -> Sequence[ActionSpec]:
        menu = self.stage.name

        def shown(act: Callable[[], object]) -> Callable[[], None]:
            def run() -> None:
                self.wanted.emit()
                act()

            return run

        return (
            ActionSpec(id="traverses.take", menu=menu, text="Take in a traverse …",
                       tip="A book of angles and distances from a list", run=shown(self.choose_file)),
            ActionSpec(id="traverses.collect", menu=menu, text="Collect a traverse from setups …",
                       tip="Both ways of each leg averaged", run=shown(self.ask_setups)),
            ActionSpec(id="traverses.start", menu=menu, text="Book a traverse",
                       tip="Row by row, from the keyboard", run=shown(self.start)),
            ActionSpec(id="traverses.drop", menu=menu, text="Take rows out of the book",
                       tip="The book as it was stays in its history", run=self._drop,
                       enabled=lambda: self.isVisible() and bool(self.table.selected_rows())),
        )  # fmt: skip
