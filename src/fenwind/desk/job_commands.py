"""Commands about the job as a whole, undo, and going from stage to stage."""

from __future__ import annotations

import os
import sys
from collections.abc import Callable, Sequence
from functools import partial
from typing import TYPE_CHECKING

from PySide6.QtCore import QProcess, QSettings
from PySide6.QtWidgets import QFileDialog, QMenu

from fenwind.desk.actions import ActionSpec
from fenwind.desk.help_window import HelpWindow, about, shortcuts, stage_help
from fenwind.desk.letterhead import read_logo, set_letterhead
from fenwind.desk.stage_table import STAGES
from fenwind.desk.theme import LEAST_TEXT, MOST_TEXT, text_scale
from fenwind.job import gestures

if TYPE_CHECKING:
    from fenwind.desk.workspace import Workspace


#: Jobs that are remembered as opened last.
RECENT = 10


def recent_jobs(settings: QSettings | None) -> list[str]:
    """Paths of the jobs opened last that are still there, the last first."""
    found = settings.value("jobs/recent", []) if settings is not None else []
    paths = found if isinstance(found, list) else [found] if found else []
    return [str(path) for path in paths if os.path.exists(str(path))]


def remember_job(settings: QSettings | None, path: str) -> None:
    """Remember a job as the one opened last."""
    if settings is not None:
        others = [p for p in recent_jobs(settings) if p != path]
        settings.setValue("jobs/recent", [path, *others][:RECENT])


class JobCommands:
    """See the module."""

    def __init__(self, desk: Workspace) -> None:
        self._desk, self._bridge = desk, desk.bridge
        self.help_window: HelpWindow | None = None
        remember_job(desk.shell.settings, os.path.abspath(desk.bridge.path))

    def commands(self) -> Sequence[ActionSpec]:
        """Its commands."""
        desk, bridge = self._desk, self._bridge
        rows: tuple[tuple[str, str, str, Callable[[], object], str], ...] = (
            ("job.new", "New job", "A new, empty job, in a window of its own", self.new, ""),
            ("job.open", "Open a job …", "In a window of its own", self.open, ""),
            ("job.recent", "Open a recent job …", "One of the jobs opened last", self.open_recent, ""),
            ("job.rename", "Rename the job", "Give the job another name", self.rename, ""),
            ("job.client", "Client, surveyor and notes …", CLIENT_TIP, self.ask_client, ""),
            ("job.letterhead", "Letterhead of reports …", LETTERHEAD_TIP, self.ask_letterhead, ""),
            ("job.copy", "Copy the job to …", "Write a copy of the job as it is now", self.copy, ""),
            ("job.quit", "Quit", "Close the window; everything is kept already", desk.shell.close, "Ctrl+Q"),
            ("edit.undo", "Undo", "Take the latest change back", bridge.undo, "Ctrl+Z"),
            ("edit.redo", "Do again", "Do the change undone last again", bridge.redo, "Ctrl+Shift+Z"),
            ("edit.find", "Find a mark or an action", FIND_TIP, desk.open_finder, "Ctrl+K"),
            ("edit.larger", "Larger text", TEXT_TIP, partial(self.resize_text, 1.0), "Ctrl+Alt++"),
            ("edit.smaller", "Smaller text", TEXT_TIP, partial(self.resize_text, -1.0), "Ctrl+Alt+-"),
            ("edit.derive", "Derive again", DERIVE_TIP, bridge.rederive, "F5"),
            ("edit.doubts", "Show all doubts", DOUBTS_TIP, desk.doubts.toggle_list, "Ctrl+L"),
            ("help.stage", "Help for this stage", "What is done here, and how", self.help, "F1"),
            ("help.shortcuts", "Shortcuts", "All keys that do something", self.shortcuts, ""),
            ("help.about", "About Fenwind", "Version, and what it stands on", self.about, ""),
            *(
                (f"go.{s.name.lower()}", s.name, f"Go to {s.name}", partial(desk.show_stage, s.name), "")
                for s in STAGES
            ),
        )
        enabled: dict[str, Callable[[], bool]] = {
            "edit.undo": lambda: bool(bridge.undo_text),
            "edit.redo": lambda: bool(bridge.redo_text),
        }
        return tuple(
            ActionSpec(
                id=key,
                menu=key.split(".")[0].capitalize(),
                text=text,
                tip=tip,
                run=run,
                shortcut=shortcut,
                enabled=enabled.get(key, lambda: True),
            )
            for key, text, tip, run, shortcut in rows
        )

    def new(self) -> None:
        """A new job in a window of its own."""
        self.start("--empty")

    def open(self) -> None:
        """Ask for a job and open it in a window of its own."""
        path, _ = QFileDialog.getOpenFileName(
            self._desk.shell, "Open a job", self._bridge.folder, "Fenwind job (*.fenwind)"
        )
        if path:
            self.open_path(path)

    def open_path(self, path: str) -> None:
        """Open a job in a window of its own."""
        if os.path.abspath(path) == os.path.abspath(self._bridge.path):
            self._desk.say(f"{os.path.basename(path)} is the job that is open here.")
        else:
            self.start(path)

    def open_recent(self) -> None:
        """Offer the jobs opened last."""
        menu = QMenu(self._desk.shell)
        here = os.path.abspath(self._bridge.path)
        for path in recent_jobs(self._desk.shell.settings):
            if path != here:
                action = menu.addAction(os.path.basename(path))
                action.setToolTip(path)
                action.triggered.connect(lambda _=False, p=path: self.open_path(p))
        if menu.isEmpty():
            self._desk.say("No other job was opened yet.")
            menu.deleteLater()
            return
        menu.setToolTipsVisible(True)
        menu.aboutToHide.connect(menu.deleteLater)
        job = self._desk.shell.header.job
        menu.popup(job.mapToGlobal(job.rect().bottomLeft()))

    def start(self, *arguments: str) -> None:
        """Start Fenwind again, beside this window."""
        command = ["-P", "-m", "fenwind.desk", *arguments]
        if not QProcess.startDetached(sys.executable, command)[0]:
            self._bridge.told.emit("The window could not be opened.", "doubt")

    def _page(self, title: str, text: str) -> None:
        if self.help_window is None:
            self.help_window = HelpWindow(self._desk.shell)
        self.help_window.show_page(title, text)

    def help(self) -> None:
        """Show the help page of the stage shown."""
        self._page(self._desk.stage, stage_help(self._desk.stage))

    def shortcuts(self) -> None:
        """Show all shortcuts."""
        self._page("Shortcuts", shortcuts(tuple(self._desk.actions.specs.values())))

    def about(self) -> None:
        """Show version and licences."""
        self._page("About", about())

    def rename(self) -> None:
        """Ask for another name."""
        info = self._bridge.state.info

        def answer(text: str) -> bool:
            name = text.strip()
            gesture = gestures.set_field([info], "name", name, f"Rename the job to {name}")
            return bool(name) and self._bridge.do(gesture)

        self._desk.doubts.ask.ask("Name of the job", answer, text=info.name, button="Rename")

    def ask_client(self) -> None:
        """Ask whom the job is for, who answers for it, and for notes, one after the other."""
        self._ask_fact("client", "Client")

    def _ask_fact(self, field: str, words: str) -> None:
        info = self._bridge.state.info
        following = {"client": ("surveyor", "Surveyor who answers for it"), "surveyor": ("notes", "Notes")}

        def answer(text: str) -> bool:
            now = self._bridge.state.info
            if not self._bridge.do(gestures.set_field([now], field, text.strip(), words)):
                return False
            if field in following:
                self._ask_fact(*following[field])
            return field not in following

        self._desk.doubts.ask.ask(words, answer, text=str(getattr(info, field)), button="Keep it")

    def ask_letterhead(self) -> None:
        """Ask for the name and the picture at the head of reports, for all jobs."""
        settings = self._desk.shell.settings
        if settings is None:
            return
        now = f"{settings.value('letterhead/name', '') or ''}, {settings.value('letterhead/logo', '') or ''}"

        def answer(text: str) -> bool:
            name, _, logo = (part.strip() for part in text.rpartition(","))
            if not text.rpartition(",")[1]:
                name, logo = text.strip(), ""
            try:
                if logo:
                    read_logo(logo)
            except OSError as error:
                self._bridge.told.emit(f"{error}.", "doubt")
                return False
            set_letterhead(settings, name, logo)
            self._desk.page.refresh()
            return True

        self._desk.doubts.ask.ask(
            "Name, and file of a picture (PNG or JPEG), for the head of reports", answer,
            text="" if now == ", " else now, button="Keep it",
        )  # fmt: skip

    def resize_text(self, way: float) -> None:
        """Make text a step larger or smaller, from the next start on."""
        settings = self._desk.shell.settings
        now = text_scale() if settings is None else float(str(settings.value("window/text", text_scale())))
        wanted = min(max(now + 0.125 * way, LEAST_TEXT), MOST_TEXT)
        if settings is not None:
            settings.setValue("window/text", wanted)
        self._desk.say(f"Text is {wanted:.0%} from the next start on.")

    def copy(self) -> None:
        """Ask for a file and copy the job to it."""
        path, _ = QFileDialog.getSaveFileName(
            self._desk.shell, "Copy the job to", self._bridge.folder, "Fenwind job (*.fenwind)"
        )
        if not path:
            return
        said = f"Copied to {os.path.basename(path)}."
        self._bridge.ask(lambda job: job.copy_to(path), lambda _: self._desk.say(said))


CLIENT_TIP = "Whom the job is for, who answers for it, and notes; they head its reports"
LETTERHEAD_TIP = "A name and a picture for the head of every report, kept for all jobs"
TEXT_TIP = "All text, and what is sized by it, from the next start on"
FIND_TIP = "Marks and commands by any part of the name"
DERIVE_TIP = "Compute all results from the records again"
DOUBTS_TIP = "Open or close the list of doubts"
