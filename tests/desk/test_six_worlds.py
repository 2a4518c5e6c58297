"""Every command of every stage in each of the six jobs, with everything selected: no exception, no step
that failed, nothing of Qt's to say. What a command opens is answered with Esc."""

from __future__ import annotations

import unittest.mock
from contextlib import ExitStack

from PySide6.QtCore import Qt
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QFileDialog, QPushButton

from fenwind.desk.askline import AskLine
from fenwind.desk.stage_table import STAGES
from fenwind.desk.statement import Statement
from fenwind.desk.table import RecordTable
from fenwind.desk.workspace import Workspace
from fenwind.errors import StepError
from tests.desk.qt_case import QtTestCase
from tests.worlds import WORLDS, World

#: Commands that leave the window or the process.
LEAVE = {"job.quit", "job.new", "job.open", "plan.print"}
#: Worlds whose sentences are gone through entry by entry.
MENUS_OF = ("control only", "own plane")


class SixWorlds(QtTestCase):
    own_windows = True

    def setUp(self) -> None:
        super().setUp()
        stack = ExitStack()
        self.addCleanup(stack.close)
        for name in ("getOpenFileName", "getSaveFileName"):
            stack.enter_context(unittest.mock.patch.object(QFileDialog, name, return_value=("", "")))
        self.started: list[str] = []
        stack.enter_context(
            unittest.mock.patch("PySide6.QtCore.QProcess.startDetached", side_effect=lambda *a: (True, 0))
        )

    def world(self, world: World) -> Workspace:
        job = world.make(self.folder / f"{world.name}.fenwind")
        job.close()
        return self.open(job.path)

    def close_what_opened(self, w: Workspace) -> None:
        for _ in range(4):
            popup = QApplication.activePopupWidget()
            if popup is None:
                break
            popup.close()
        for ask in w.shell.findChildren(AskLine):
            if ask.isVisible():
                QTest.keyClick(ask.edit, Qt.Key.Key_Escape)

    def check(self, w: Workspace, doing: str) -> None:
        self.assertEqual(self.errors, [], doing)
        self.assertEqual(self.messages, [], doing)
        failed = [str(o.error) for o in w.bridge.derived.outcomes.values() if isinstance(o.error, StepError)]
        self.assertEqual(failed, [], doing)
        found = [d.text for d in w.bridge.findings.open if d.rule == "check.failed"]
        self.assertEqual(found, [], doing)

    def run_all(self, w: Workspace) -> None:
        for stage in STAGES:
            w.show_stage(stage.name)
            for spec in w.page.commands():
                if spec.id in LEAVE:
                    continue
                depth = w.bridge._history.depth
                for table in w.page.findChildren(RecordTable):
                    if table.isVisible():
                        table.selectAll()
                w.actions.run(spec.id)
                QApplication.processEvents()
                self.check(w, f"{stage.name}: {spec.id}")
                self.close_what_opened(w)
                while w.bridge._history.depth > depth:
                    w.actions.run("edit.undo")
                self.check(w, f"{stage.name}: {spec.id}, undone")

    def test_every_command(self) -> None:
        for world in WORLDS:
            with self.subTest(world=world.name):
                w = self.world(world)
                self.check(w, "opened")
                self.run_all(w)
                w.shell.close()

    def test_every_menu_of_every_sentence(self) -> None:
        """Each entry of each part of each statement, taken and undone; `bench.attacks` does it in all six."""
        for world in (w for w in WORLDS if w.name in MENUS_OF):
            with self.subTest(world=world.name):
                w = self.world(world)
                for stage in STAGES:
                    w.show_stage(stage.name)
                    for statement in w.page.findChildren(Statement):
                        if statement.isVisible():
                            self.take_all(w, stage.name, statement)
                w.shell.close()

    def take_all(self, w: Workspace, stage: str, statement: Statement) -> None:
        for key in list(statement.parts):
            count = 1
            at = 0
            while at < count:
                part = statement.parts.get(key)
                if part is None or not isinstance(part, QPushButton) or not part.isEnabled():
                    break
                depth = w.bridge._history.depth
                part.click()
                QApplication.processEvents()
                menu = QApplication.activePopupWidget()
                actions = [a for a in menu.actions() if a.isEnabled()] if menu is not None else []
                count = len(actions)
                if menu is not None:
                    menu.close()
                if at < count:
                    actions[at].trigger()
                    QApplication.processEvents()
                self.check(w, f"{stage}: {key}, entry {at}")
                self.close_what_opened(w)
                while w.bridge._history.depth > depth:
                    w.actions.run("edit.undo")
                at += 1
