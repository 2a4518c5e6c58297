"""The statement: one sentence whose parts can be clicked, and that is how the computation is driven."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QFontMetrics, QResizeEvent
from PySide6.QtWidgets import QMenu, QPushButton, QSizePolicy, QWidget

from fenwind.desk.flow import FlowLayout
from fenwind.desk.shell import PlainLabel, look
from fenwind.desk.theme import MEDIUM, font
from fenwind.reports.statement import Part

MenuMaker = Callable[[QMenu], None]


class Statement(QWidget):
    """Shows parts; a part with a menu maker opens that menu, others emit `part_clicked` with their key."""

    part_clicked = Signal(str)

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        self._layout = FlowLayout(self)
        self._makers: dict[str, MenuMaker] = {}
        self._shown: tuple[Part, ...] = ()
        self.parts: dict[str, QPushButton] = {}
        policy = QSizePolicy(QSizePolicy.Policy.Preferred, QSizePolicy.Policy.Fixed)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)

    def set_menus(self, makers: dict[str, MenuMaker]) -> None:
        """Menu makers by part key; each fills a fresh menu when its part is clicked."""
        self._makers = makers

    def show_parts(self, parts: Sequence[Part]) -> None:
        """Show a sentence; nothing happens when it reads the same already. Focus stays on the part it was
        on."""
        parts = tuple(parts)
        if parts == self._shown:
            return
        focused = next((key for key, button in self.parts.items() if button.hasFocus()), "")
        self._shown = parts
        while (item := self._layout.takeAt(0)) is not None:
            widget = item.widget()
            if widget is not None:
                widget.hide()
                widget.deleteLater()
        self.parts = {}
        for part in parts:
            for widget in self._widgets(part):
                self._layout.addWidget(widget)
                widget.show()
        if focused in self.parts:
            self.parts[focused].setFocus()
        self.setAccessibleName(self.text())
        self._fit_height()

    def text(self) -> str:
        """The sentence as plain text."""
        return "".join(part.text for part in self._shown)

    def _widgets(self, part: Part) -> list[QWidget]:
        if part.key:
            button = QPushButton(part.text.replace("&", "&&"), self)
            look(button, "part")
            button.setCursor(Qt.CursorShape.PointingHandCursor)
            button.setToolTip("Click to change")
            width = QFontMetrics(font(19, MEDIUM)).horizontalAdvance(part.text)
            button.setFixedWidth(width + 12)
            button.clicked.connect(lambda _=False, k=part.key: self._open(k))
            self.parts[part.key] = button
            return [button]
        texts = [word + " " for word in part.text.split()]
        if texts and not part.text.endswith(" "):
            texts[-1] = texts[-1].rstrip(" ")
        if part.text.startswith(" "):
            texts.insert(0, " ")
        labels: list[QWidget] = []
        for place, text in enumerate(texts):
            label = PlainLabel(text, self)
            look(label, "statement")
            label.setProperty("glued", place == 0 and not text[0].isalnum())
            labels.append(label)
        return labels

    def _open(self, key: str) -> None:
        maker = self._makers.get(key)
        if maker is None:
            self.part_clicked.emit(key)
            return
        menu = QMenu(self)
        menu.setToolTipsVisible(True)
        maker(menu)
        button = self.parts[key]
        menu.aboutToHide.connect(menu.deleteLater)
        menu.popup(button.mapToGlobal(button.rect().bottomLeft()))

    def _fit_height(self) -> None:
        self.setFixedHeight(max(self._layout.heightForWidth(max(self.width(), 100)), 26))

    def resizeEvent(self, event: QResizeEvent) -> None:
        super().resizeEvent(event)
        self._fit_height()


def choice(
    menu: QMenu, text: str, run: Callable[[], object], *, checked: bool | None = None, tip: str = ""
) -> None:
    """Add an entry that runs something; checked puts a tick to it."""
    action = menu.addAction(text)
    if checked is not None:
        action.setCheckable(True)
        action.setChecked(checked)
    if tip:
        action.setToolTip(tip)
    action.triggered.connect(lambda _=False: run())
