"""A test case for the real window: no exception in a slot, no Qt warning and no window may be left behind."""

from __future__ import annotations

import gc
import math
import os
import sys
import tempfile
import time
import unittest
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QEvent, QEventLoop, QSettings, QTimer, QtMsgType, qInstallMessageHandler
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMenu, QWidget

from fenwind.desk.launch import Launch, parse_arguments
from fenwind.desk.theme import apply_theme
from fenwind.desk.workspace import Workspace

#: What a platform says of itself that no test can help.
HARMLESS = ("propagateSizeHints", "This plugin does not support", "Could not initialize", "XDG_RUNTIME_DIR")


class QtTestCase(unittest.TestCase):
    @classmethod
    def setUpClass(cls) -> None:
        fresh = QApplication.instance() is None
        cls.app = QApplication.instance() or QApplication([])
        if fresh:
            apply_theme(cls.app)

    def setUp(self) -> None:
        self.errors: list[BaseException] = []
        self.messages: list[str] = []
        hook = sys.excepthook
        sys.excepthook = lambda kind, error, trace: self.errors.append(error)
        self.addCleanup(setattr, sys, "excepthook", hook)
        old = qInstallMessageHandler(self._on_message)
        self.addCleanup(qInstallMessageHandler, old)
        holder = tempfile.TemporaryDirectory()
        self.addCleanup(holder.cleanup)
        self.folder = Path(holder.name)
        os.environ["FENWIND_HOME"] = holder.name
        self.addCleanup(os.environ.pop, "FENWIND_HOME", None)

    def _on_message(self, kind: QtMsgType, context: object, text: str) -> None:
        if kind != QtMsgType.QtDebugMsg and not any(word in text for word in HARMLESS):
            self.messages.append(text)

    def tearDown(self) -> None:
        for widget in QApplication.topLevelWidgets():
            widget.close()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
        gc.unfreeze()
        gc.collect()
        self.assertEqual(self.errors, [], "exception in a slot")
        self.assertEqual(self.messages, [], "Qt warnings")

    def wait_for(self, true: Callable[[], object], ms: int = 20_000) -> None:
        until = time.monotonic() + ms / 1000
        while not true():
            if time.monotonic() > until:
                self.fail("timed out")
            # A loop of its own lets go of the interpreter while it waits; qWait keeps workers waiting too.
            loop = QEventLoop()
            QTimer.singleShot(5, loop.quit)
            loop.exec()

    def launch(self, *arguments: str) -> Launch:
        """The window as ./start opens it, not yet with its job."""
        settings = QSettings(str(self.folder / "settings.ini"), QSettings.Format.IniFormat)
        launch = self._launch = Launch(parse_arguments(list(arguments)), settings)  # keep it alive
        self.addCleanup(launch.shell.close)
        launch.shell.resize(1280, 800)
        launch.shell.show()
        return launch

    def open(self, *arguments: str) -> Workspace:
        launch = self.launch(*arguments)
        self.wait_for(lambda: launch.workspace)
        assert isinstance(launch.workspace, Workspace)
        QTest.qWaitForWindowExposed(launch.shell)
        launch.workspace.bridge.long_s = (
            math.inf
        )  # results are there when a gesture returns, however slow the machine
        return launch.workspace

    def choose(self, widget: QWidget, text: str) -> None:
        """Open a statement part's menu by the keyboard's own click and choose the entry of a text."""
        widget.click()  # type: ignore[attr-defined]
        self.wait_for(lambda: QApplication.activePopupWidget() is not None)
        menu = QApplication.activePopupWidget()
        assert isinstance(menu, QMenu)
        action = next((a for a in menu.actions() if a.text() == text), None)
        self.assertIsNotNone(action, [a.text() for a in menu.actions()])
        menu.close()
        action.trigger()
        QTest.qWait(1)
