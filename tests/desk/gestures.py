"""Random gestures on the real window, with stages switched while results are being derived: nothing may
raise, and what is kept is what is shown."""

from __future__ import annotations

import random
from dataclasses import replace
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtGui import QGuiApplication
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QMenu

from fenwind.desk.stage_table import STAGES
from fenwind.desk.workspace import Workspace
from fenwind.errors import FenwindError
from fenwind.job import gestures
from fenwind.records.entries import amend

PASTES = (
    "name,e,n,h\nT-01,693.4,3240.3,1241.1\nNEW,900,2500,1240\n",
    "name,lat,lon,h\nR1,61.301,8.31,1290\nT-02,61.304,8.312,1289\nR1,61.4,8.31,1290\n",
    "name,h\nT-05,1236.5\nP-01,1242.2\n", "T-03;12;13\n\nbad;row\n", "no list at all",
    "name,Y,X\nT-04,1,2\nT-04,3,4\n", "",
)  # fmt: skip


class RandomHand:
    """Does one thing after the other to a workspace, chosen by a seed."""

    def __init__(self, workspace: Workspace, seed: int) -> None:
        self.w, self.rng = workspace, random.Random(seed)
        self.done: list[str] = []

    def act(self) -> None:
        """One gesture."""
        names = [n for n in dir(self) if n.startswith("do_")]
        weights = [3 if n in ("do_stage", "do_undo", "do_field") else 1 for n in names]
        name = self.rng.choices(names, weights)[0]
        self.done.append(name)
        getattr(self, name)()
        if self.rng.random() < 0.3:  # otherwise the next comes while the last is still being derived
            QTest.qWait(self.rng.choice((0, 1, 3)))

    def _mark(self) -> Any:
        return self.rng.choice(list(self.w.bridge.state.marks.values()) or [None])

    def do_stage(self) -> None:
        self.w.show_stage(self.rng.choice(STAGES).name)

    def do_undo(self) -> None:
        for _ in range(self.rng.choice((1, 1, 2, 5))):
            self.w.actions.run("edit.undo")

    def do_redo(self) -> None:
        self.w.actions.run("edit.redo")

    def do_select(self) -> None:
        mark = self._mark()
        self.w.bridge.select(mark.name if mark is not None else "nobody")

    def do_field(self) -> None:
        mark = self._mark()
        if mark is not None:
            field, values = self.rng.choice(
                (("active", (True, False)), ("hold_horizontal", (True, False)), ("code", ("A", "B")))
            )
            self.w.bridge.do(gestures.set_field([mark], field, self.rng.choice(values), "field"))

    def do_rename(self) -> None:
        mark = self._mark()
        if mark is not None:
            name = self.rng.choice(("Ø", "T-01", f"N{self.rng.randrange(99)}", "<b>x</b>"))
            self.w.bridge.attempt(lambda: gestures.rename_mark(self.w.bridge.state, mark, name))

    def do_given(self) -> None:
        given = list(self.w.bridge.state.given.values())
        if given:
            record = self.rng.choice(given)
            change = self.rng.choice(
                ({"e_m": (record.e_m or 0.0) + 0.5} if record.e_m is not None else {"source": "s"},
                 {"active": not record.active}, {"frame": self.rng.choice(list(self.w.bridge.state.frames))})
            )  # fmt: skip
            self.w.bridge.attempt(lambda: gestures.Gesture("given", (amend(record, **change),)))

    def do_fit(self) -> None:
        bridge = self.w.bridge
        step = bridge.fit
        if step is None or self.rng.random() < 0.2:
            self.w.actions.run("fits.new")
            return
        change = self.rng.choice(
            ({"horizontal": self.rng.choice(("auto", "shift", "turn", "scale", "pivot"))},
             {"height": self.rng.choice(("none", "shift", "plane"))}, {"active": not step.active},
             {"target_frame": self.rng.choice(list(bridge.state.frames))},
             {"source_frame": self.rng.choice(list(bridge.state.frames))})
        )  # fmt: skip
        bridge.do(gestures.change_step(step, "fit", **change))

    def do_frame(self) -> None:
        bridge, page = self.w.bridge, self.w.pages["Frame"]
        record = bridge.frame
        way = self.rng.randrange(4)
        if way == 0:
            page._add(self.rng.choice(("EPSG:25832", "EPSG:2048", "EPSG:27572", "EPSG:2276")))
        elif way == 1 and record is not None:
            bridge.do(gestures.change_frame(record, "unit", unit=self.rng.choice(("m", "ft", "ftUS"))))
        elif way == 2 and record is not None:
            bridge.do(gestures.change_frame(record, "order", axis_order=self.rng.choice(("EN", "NE"))))
        elif bridge.state.frames:
            frame = self.rng.choice(list(bridge.state.frames))
            bridge.do(gestures.set_field([bridge.state.info], "frame", frame, "show"))

    def do_paste(self) -> None:
        QGuiApplication.clipboard().setText(self.rng.choice(PASTES))
        self.w.actions.run("marks.paste")
        incoming = self.w.pages["Marks"].incoming
        if incoming.isVisible():
            button = self.rng.choice((incoming.take, incoming.take, incoming.leave))
            button.click()
            if incoming.ask.isVisible():
                QTest.keyClick(incoming.ask.edit, self.rng.choice((Qt.Key.Key_Return, Qt.Key.Key_Escape)))

    def do_doubt(self) -> None:
        doubts = self.w.bridge.findings.open
        if doubts:
            doubt = self.rng.choice(doubts)
            if doubt.remedies and self.rng.random() < 0.6:
                self.w.bridge.settle(doubt, self.rng.choice(doubt.remedies))
            else:
                self.w.bridge.accept(doubt, "because")

    def do_statement(self) -> None:
        """A part of the sentence shown, and an entry of its menu that asks nothing of the disk."""
        page = self.w.page
        sheet = page if hasattr(page, "statement") else getattr(page, "fits", getattr(page, "marks", None))
        if sheet is None or not getattr(sheet, "statement", None) or not sheet.statement.parts:
            return
        maker = sheet.statement._makers.get(self.rng.choice(list(sheet.statement.parts)))
        if maker is None:
            return
        menu = QMenu()
        maker(menu)
        entries = [a for a in menu.actions() if a.text() and not a.text().endswith("…")]
        if entries:
            self.rng.choice(entries).trigger()
        menu.deleteLater()

    def do_control(self) -> None:
        table = self.w.pages["Marks"].marks
        mark = self._mark()
        if mark is not None:
            table.table.pick_all(lambda r: r.mark.name == mark.name)
            self.rng.choice((table.make_control, table.release_control, table.set_down))()

    def do_plan(self) -> None:
        plan = self.w.plan_pane.plan
        self.rng.choice((plan.fit_all, lambda: plan.zoom(1.5), lambda: plan.grab()))()

    def do_compare(self) -> None:
        self.w.actions.run(self.rng.choice(("fits.compare", "fits.next")))

    def do_mixed_up(self) -> None:
        """An answer that comes after what it was about is gone."""
        mark = self._mark()
        bridge = self.w.bridge
        if mark is not None:
            late = amend(mark, code="late")
            while bridge.undo_text and self.rng.random() < 0.7:
                bridge.undo()
            try:
                bridge.do(gestures.Gesture("late", (late,)))
            except FenwindError:
                raise AssertionError("an error came out of the bridge") from None

    def do_layout(self) -> None:
        info = self.w.bridge.state.info
        bridge = self.w.bridge
        bridge.do(gestures.Gesture("info", (amend(info, decimals=self.rng.choice((2, 3, 4, 5))),))
                  if replace(info, decimals=3) != info else gestures.Gesture("none", ()))  # fmt: skip
