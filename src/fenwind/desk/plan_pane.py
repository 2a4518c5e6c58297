"""The plan with its few commands, as a picture and on paper."""

from __future__ import annotations

from PySide6.QtCore import QMarginsF, QSize, Qt
from PySide6.QtGui import QImage, QPageLayout, QPainter
from PySide6.QtPrintSupport import QPrinter
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from fenwind.desk.plan import Plan
from fenwind.desk.shell import PlainLabel, look
from fenwind.desk.theme import SEMIBOLD, font

#: What can be hidden on the plan.
VIEW_LAYERS = ("map grid", "marks", "labels", "residuals", "error ellipses", "hull and area")


class PlanPane(QWidget):
    """The plan with its few commands and the line that says what was measured."""

    def __init__(self, parent: QWidget | None = None) -> None:
        super().__init__(parent)
        layout = QVBoxLayout(self)
        layout.setContentsMargins(0, 0, 0, 0)
        layout.setSpacing(0)
        self.plan = Plan(self)
        layout.addWidget(self.plan, 1)
        self.buttons = QWidget(self.plan)
        row = QHBoxLayout(self.buttons)
        row.setContentsMargins(9, 24, 0, 0)
        row.setSpacing(8)
        self.fit_all = QPushButton("fit all")
        self.fit_all.setToolTip("Show all marks (Ctrl+0)")
        self.measure = QPushButton("measure")
        self.measure.setToolTip("Pick two marks for distance, azimuth and height difference (Ctrl+M)")
        self.measure.setCheckable(True)
        self.layers = QPushButton("layers")
        self.layers.setToolTip("What the plan shows, and drawings and images under it")
        for button in (self.fit_all, self.measure, self.layers):
            look(button, "link")
            button.setFont(font(11))
            row.addWidget(button)
        self.fit_all.clicked.connect(self.plan.fit_all)
        self.measure.toggled.connect(self.plan.start_measuring)
        self.result = PlainLabel("")
        self.result.setWordWrap(True)
        self.result.setTextInteractionFlags(Qt.TextInteractionFlag.TextSelectableByMouse)
        look(self.result, "result")
        self.result.setFont(font(12, SEMIBOLD))
        self.result.hide()
        self.measure.toggled.connect(self._on_measure)
        layout.addWidget(self.result)

    def _on_measure(self, on: bool) -> None:
        self.result.setVisible(on)
        self.result.setText("Pick the first mark, then the second." if on else "")

    def picture(self, ratio: float = 2.0) -> QImage:
        """The plan as an image, `ratio` pixels to one on screen, without buttons."""
        image = QImage(
            QSize(round(self.plan.width() * ratio), round(self.plan.height() * ratio)),
            QImage.Format.Format_RGB32,
        )
        image.setDevicePixelRatio(ratio)
        self.buttons.hide()
        self.plan.render(image)
        self.buttons.show()
        return image

    def print_on(self, printer: QPrinter, title: str) -> None:
        """Print the plan on one page as large as it goes, its title under it."""
        printer.setPageOrientation(QPageLayout.Orientation.Landscape)
        printer.setPageMargins(QMarginsF(12, 12, 12, 12))
        painter = QPainter(printer)
        page = printer.pageRect(QPrinter.Unit.DevicePixel)
        image = self.picture(4.0)
        scale = min(page.width() / image.width(), 0.92 * page.height() / image.height())
        painter.save()
        painter.scale(scale, scale)
        image.setDevicePixelRatio(1.0)
        painter.drawImage(0, 0, image)
        painter.restore()
        painter.setFont(font(13))
        painter.drawText(
            0,
            round(0.92 * page.height()),
            round(page.width()),
            round(0.08 * page.height()),
            Qt.AlignmentFlag.AlignVCenter,
            title,
        )
        painter.end()
