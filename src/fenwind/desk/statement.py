"""The statement: one sentence whose parts can be clicked, and that is how the computation is driven."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import Qt, Signal
from PySide6.QtGui import QFontMetrics
from PySide6.QtWidgets import QMenu, QPushButton, QWidget

from fenwind.desk.flow import Flow
from fenwind.desk.shell import PlainLabel, look
from fenwind.desk.theme import MEDIUM, font
from fenwind.reports.statement import Part

MenuMaker = Callable[[QMenu], None]


class Statement(Flow):
    """Shows parts; a part with a menu maker opens that menu, others emit `part_clicked` with their key.
    small: the sentence of a panel under a sheet's own."""

    part_clicked = Signal(str)

    def __init__(self, parent: QWidget | None = None, small: bool = False) -> None:
        super().__init__(least=26, parent=parent)
        self._small = small
        self._makers: dict[str, MenuMaker] = {}
        self._shown: tuple[Part, ...] = ()
        self._words: list[PlainLabel] = []
        self.parts: dict[str, QPushButton] = {}

    def set_menus(self, makers: dict[str, MenuMaker]) -> None:
        """Menu makers by part key; each fills a fresh menu when its part is clicked."""
        self._makers = makers

    def show_parts(self, parts: Sequence[Part]) -> None:
        """Show a sentence; nothing happens when it reads the same already. Widgets are used again, since a
        sentence made anew takes longer than all else that a stage shows; so focus stays on the part it was
        on."""
        parts = tuple(parts)
        if parts == self._shown:
            return
        self._shown = parts
        before, self.parts, used = self.parts, {}, 0
        widgets: list[QWidget] = []
        for part in parts:
            if part.key:
                self.parts[part.key] = button = before.pop(part.key, None) or self._new_button(part.key)
                shown = part.text.replace("&", "&&")
                if button.text() != shown:
                    button.setText(shown)
                    self._fit(button)
                widgets.append(button)
                continue
            for text, glued in _words(part.text):
                if used == len(self._words):
                    self._words.append(self._new_word())
                label = self._words[used]
                label.setText(text)
                label.setProperty("glued", glued)
                widgets.append(label)
                used += 1
        for widget in self.set_widgets(widgets):
            if isinstance(widget, QPushButton):
                widget.deleteLater()
        self.setAccessibleName(self.text())

    def set_small(self, small: bool) -> None:
        """In smaller letters, or in its own again."""
        if small == self._small:
            return
        self._small = small
        for widget in (*self.parts.values(), *self._words):
            widget.setProperty("small", small)
            widget.style().unpolish(widget)
            widget.style().polish(widget)
        for button in self.parts.values():
            self._fit(button)

    def text(self) -> str:
        """The sentence as plain text."""
        return "".join(part.text for part in self._shown)

    def _new_button(self, key: str) -> QPushButton:
        button = QPushButton(self)
        look(button, "part").setProperty("small", self._small)
        button.setCursor(Qt.CursorShape.PointingHandCursor)
        button.setToolTip("Click to change")
        button.clicked.connect(lambda: self._open(key))
        return button

    def _fit(self, button: QPushButton) -> None:
        metrics = QFontMetrics(font(16 if self._small else 19, MEDIUM))
        button.setFixedWidth(metrics.horizontalAdvance(button.text().replace("&&", "&")) + 12)

    def _new_word(self) -> PlainLabel:
        label = PlainLabel("", self)
        look(label, "statement").setProperty("small", self._small)
        return label

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


def _words(text: str) -> list[tuple[str, bool]]:
    """Words with the blank after each, and whether each stays on the line of the part before."""
    texts = [word + " " for word in text.split()]
    if texts and not text.endswith(" "):
        texts[-1] = texts[-1].rstrip(" ")
    if text.startswith(" "):
        texts.insert(0, " ")
    return [(word, place == 0 and not word[0].isalnum()) for place, word in enumerate(texts)]


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
