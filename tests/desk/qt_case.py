"""A test case for the real window: no exception in a slot, no Qt warning and no window may be left behind."""

from __future__ import annotations

import gc
import os
import sys
import tempfile
import time
import unittest
from collections.abc import Callable
from pathlib import Path

os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")

from PySide6.QtCore import QEvent, QEventLoop, QSettings, Qt, QTimer, QtMsgType, qInstallMessageHandler
from PySide6.QtTest import QTest
from PySide6.QtWidgets import QApplication, QMenu, QWidget

from fenwind.desk.askline import AskLine
from fenwind.desk.launch import Launch, parse_arguments
from fenwind.desk.theme import apply_theme
from fenwind.desk.workspace import Workspace

#: What a platform says of itself that no test can help.
HARMLESS = ("propagateSizeHints", "This plugin does not support", "Could not initialize", "XDG_RUNTIME_DIR")


class QtTestCase(unittest.TestCase):
    """One window with the demo for all tests of a class: what a test did to the job is undone after it. With
    `own_windows` every test opens its own, as where sheets keep what was chosen in them."""

    own_windows = False
    _shared: Launch | None = None

    @classmethod
    def setUpClass(cls) -> None:
        fresh = QApplication.instance() is None
        cls.app = QApplication.instance() or QApplication([])
        if fresh:
            apply_theme(cls.app)
        cls.class_folder = Path(cls.enterClassContext(tempfile.TemporaryDirectory()))
        cls.addClassCleanup(cls._close_all)

    @classmethod
    def _close_all(cls) -> None:
        for widget in QApplication.topLevelWidgets():
            widget.close()
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
        cls._shared = None
        gc.collect()

    def setUp(self) -> None:
        self.errors: list[BaseException] = []
        self.messages: list[str] = []
        hook = sys.excepthook
        sys.excepthook = lambda kind, error, trace: self.errors.append(error)
        self.addCleanup(setattr, sys, "excepthook", hook)
        old = qInstallMessageHandler(self._on_message)
        self.addCleanup(qInstallMessageHandler, old)
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        os.environ["FENWIND_HOME"] = str(self.folder)
        self.addCleanup(os.environ.pop, "FENWIND_HOME", None)

    def _on_message(self, kind: QtMsgType, context: object, text: str) -> None:
        if kind != QtMsgType.QtDebugMsg and not any(word in text for word in HARMLESS):
            self.messages.append(text)

    def tearDown(self) -> None:
        shared = type(self)._shared
        for widget in QApplication.topLevelWidgets():
            if shared is None or widget is not shared.shell:
                widget.close()
        if shared is not None:
            self._undo_all(shared)
        QApplication.sendPostedEvents(None, QEvent.Type.DeferredDelete)
        self.assertEqual(self.errors, [], "exception in a slot")
        self.assertEqual(self.messages, [], "Qt warnings")

    @staticmethod
    def _undo_all(launch: Launch) -> None:
        """The shared window as it was opened."""
        workspace = launch.workspace
        assert isinstance(workspace, Workspace)
        for ask in launch.shell.findChildren(AskLine):
            if ask.isVisible():
                QTest.keyClick(ask.edit, Qt.Key.Key_Escape)
        while workspace.bridge.undo_text:
            workspace.actions.run("edit.undo")
        workspace.bridge.select("")
        workspace.show_stage("Fits")
        launch.shell.resize(1280, 800)

    #: Only what hangs takes so long: no test goes by how fast anything is.
    def wait_for(self, true: Callable[[], object], ms: int = 180_000) -> None:
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
        launch.shell.resize(1280, 800)
        launch.shell.show()
        return launch

    def open(self, *arguments: str) -> Workspace:
        """The window with its job; the shared one where nothing else is asked for."""
        cls = type(self)
        if arguments or cls.own_windows:
            return self._opened(self.launch(*arguments))
        if cls._shared is None:
            os.environ["FENWIND_HOME"] = str(cls.class_folder)
            self._opened(self.launch())
            cls._shared = self._launch
        os.environ["FENWIND_HOME"] = str(cls.class_folder)
        self.folder = cls.class_folder
        workspace = cls._shared.workspace
        assert isinstance(workspace, Workspace)
        return workspace

    def _opened(self, launch: Launch) -> Workspace:
        self.wait_for(lambda: launch.workspace)
        assert isinstance(launch.workspace, Workspace)
        QTest.qWaitForWindowExposed(launch.shell)
        # Results are there when a gesture returns, however slow the machine; what is done before they are is
        # tested apart.
        launch.workspace.bridge.handed_over.connect(launch.workspace.bridge.wait)
        return launch.workspace

    def let_run(self, workspace: Workspace) -> None:
        """Wait for nothing that is handed over: results come when they are there, as in use."""
        bridge = workspace.bridge
        bridge.handed_over.disconnect(bridge.wait)
        if not type(self).own_windows:
            self.addCleanup(bridge.handed_over.connect, bridge.wait)
            self.addCleanup(bridge.wait)

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
