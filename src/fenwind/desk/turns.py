"""The window's work in pieces, one for each turn of the event loop, so that what arrives meanwhile is served
and painted between them."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import QObject, QTimer

Piece = Callable[[], object]


class Turns(QObject):
    """Pieces that wait; those of a new run take the place of those that wait still."""

    def __init__(self, parent: QObject) -> None:
        super().__init__(parent)
        self._waiting: list[Piece] = []
        self._timer = QTimer(self)
        self._timer.setInterval(0)
        self._timer.timeout.connect(self._next)

    def run(self, pieces: Sequence[Piece], *, apart: bool) -> None:
        """Do the pieces in order: apart, or all now."""
        self._waiting = list(pieces)
        if apart:
            self._timer.start()
            return
        while self._waiting:
            self._waiting.pop(0)()

    def then(self, piece: Piece) -> None:
        """Do one more after those that wait."""
        self._waiting.append(piece)
        self._timer.start()

    def _next(self) -> None:
        if self._waiting:
            self._waiting.pop(0)()
        else:
            self._timer.stop()
