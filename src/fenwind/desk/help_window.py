"""Help: the page of a stage, the list of shortcuts, and what Fenwind is made of; all of it offline."""

from __future__ import annotations

import platform
import re
from collections.abc import Sequence
from importlib import metadata
from importlib.resources import files

from PySide6.QtCore import Qt, qVersion
from PySide6.QtGui import QKeyEvent, QTextCursor
from PySide6.QtWidgets import QTextBrowser, QVBoxLayout, QWidget

import fenwind
from fenwind.desk.actions import ActionSpec

#: What Fenwind stands on, as the registry names it.
PACKAGES = (
    "PySide6-Essentials", "numpy", "scipy", "pyproj", "msgspec", "jinja2", "ezdxf", "openpyxl", "lxml",
    "pyogrio", "shapely", "reportlab", "pynmeagps", "pyrtcm", "pyserial", "contourpy",
)  # fmt: skip
#: Pixels under a paragraph.
AIR = 7
#: Keys that no command has.
KEYS = (
    ("Ctrl+1 … Ctrl+8", "go to a stage"), ("Tab, Ctrl+Tab", "leave a table"),
    ("F2, or typing", "edit a cell"), ("Space", "click the box of a row"),
    ("Delete", "leave out what is selected"), ("Esc", "leave a line or a menu"), ("Shift+F10", "the menu of "
        "what is selected"), ("F1", "help for this stage"),
)  # fmt: skip


def stage_help(stage: str) -> str:
    """The help page of a stage, Markdown."""
    return files("fenwind").joinpath("desk", "help", f"{stage.lower()}.md").read_text(encoding="utf-8")


def shortcuts(specs: Sequence[ActionSpec]) -> str:
    """All shortcuts, Markdown."""
    rows = [f"| {key} | {what} |" for key, what in KEYS]
    rows += [f"| {s.shortcut} | {s.text}: {s.tip[0].lower()}{s.tip[1:]} |" for s in specs if s.shortcut]
    return "\n".join(["# Shortcuts", "", "| key | what it does |", "|---|---|", *rows, ""])


def about() -> str:
    """What this is and what it stands on, with versions and licences, Markdown."""
    rows = []
    for name in PACKAGES:
        try:
            found = metadata.metadata(name)
        except metadata.PackageNotFoundError:
            continue
        rows.append(f"| {found['Name']} | {found['Version']} | {_licence(found)} |")
    return "\n".join(
        [f"# Fenwind {fenwind.__version__}", "",
         (fenwind.__doc__ or "").removeprefix("Fenwind: ").strip(), "",
         f"Python {platform.python_version()}, Qt {qVersion()}.", "",
         "Text in IBM Plex Sans, SIL Open Font License 1.1. Towns from GeoNames (geonames.org), "
         "Creative Commons Attribution 4.0.",
         "", "| stands on | version | licence |", "|---|---|---|", *rows, ""]
    )  # fmt: skip


def _licence(found: metadata.PackageMetadata) -> str:
    """A licence in a few words: as it is stated, else as it is classified."""
    stated = str(found["License-Expression"] or "")
    classified = [
        c.split(" :: ")[-1] for c in found.get_all("Classifier") or () if c.startswith("License ::")
    ]
    text = stated or ", ".join(classified) or str(found["License"] or "").split("\n")[0]
    return re.sub(r"\s+", " ", text).replace("|", "/")[:80]


class HelpWindow(QWidget):
    """A window beside the desk with one page."""

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent, Qt.WindowType.Window)
        self.resize(620, 640)
        self.page = QTextBrowser()
        self.page.setAccessibleName("Help")
        self.page.document().setDocumentMargin(22)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.addWidget(self.page)

    def keyPressEvent(self, event: QKeyEvent) -> None:
        if event.key() == Qt.Key.Key_Escape:
            self.close()
        else:
            super().keyPressEvent(event)

    def show_page(self, title: str, text: str) -> None:
        """Show a page of Markdown."""
        self.setWindowTitle(f"{title} – Fenwind")
        self.page.setMarkdown(text)
        cursor = QTextCursor(self.page.document())
        while True:
            if cursor.currentTable() is None:
                airy = cursor.blockFormat()
                airy.setBottomMargin(AIR)
                cursor.setBlockFormat(airy)
            if not cursor.movePosition(QTextCursor.MoveOperation.NextBlock):
                break
        self.show()
        self.raise_()
        self.page.setFocus()
