"""Systems for the ground side by side: what each makes of all that they are laid for, how often each
distortion occurs in the one looked at, and a projection's parameters set by hand."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field, replace
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QRectF, QSize, Qt, Signal
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QHBoxLayout, QPushButton, QVBoxLayout, QWidget

from fenwind.desk.askline import AskLine
from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column
from fenwind.desk.flow import Flow
from fenwind.desk.shell import PlainLabel, look
from fenwind.desk.stages.ground_area import LIMITS_PPM
from fenwind.desk.stages.ground_rows import KIND_WORDS, Draft
from fenwind.desk.table import RecordTable
from fenwind.desk.theme import colour, font, scaled
from fenwind.errors import FenwindError
from fenwind.geodesy.frames import Frame
from fenwind.job.ground_view import off_over
from fenwind.procedures.own_projection import Area, Candidate, Figures, Lines, distortions, figures, shares
from fenwind.quantities.angles import RAD_PER_DEGREE, format_angle, parse_angle
from fenwind.quantities.numbers import format_fixed, parse_number

FloatArray = NDArray[np.float64]

#: Bars of the histogram.
BARS = 30
#: Parameters of a kind that are set by hand, and what they are called.
PARAMETERS = {
    "tm": (("lon", "axis"), ("scale", "scale")),
    "lcc": (("lat", "parallel"), ("scale", "scale")),
    "om": (("lat", "centre N"), ("lon", "centre E"), ("azimuth", "azimuth"), ("scale", "scale")),
}
#: How far a click goes: a minute of arc, degrees; a part per million.
STEP = {"lat": 1.0 / 60.0, "lon": 1.0 / 60.0, "azimuth": 1.0 / 60.0, "scale": 1e-6}


@dataclass(frozen=True, slots=True, kw_only=True)
class System:
    """A system over an area: key, title, distortions (k,) with weights, their figures and shares within
    LIMITS_PPM; looked_at: the one in the sentence."""

    key: str
    title: str
    off: FloatArray = field(repr=False)
    weight: FloatArray = field(repr=False)
    figures: Figures
    within: tuple[float, ...]
    looked_at: bool = False


def system_of(key: str, title: str, off: FloatArray, weight: FloatArray, looked_at: bool) -> System:
    """A system by its distortions."""
    return System(
        key=key, title=title, off=off, weight=weight, figures=figures(off, weight, 0.0),
        within=shares(off, weight, [ppm * 1e-6 for ppm in LIMITS_PPM]), looked_at=looked_at,
    )  # fmt: skip


def systems_of(
    frame: Frame,
    area: Area,
    factor: float,
    designs: Mapping[str, Candidate],
    best: Mapping[str, Candidate],
    draft: Draft,
) -> list[System]:
    """The grid, the grid times one factor, and the projections, over what these are laid for; best: those
    that nobody turned."""
    grid = off_over(frame, area)
    rows = [
        system_of("grid", "the grid as it is", grid, area.weight, draft.method == "grid"),
        system_of("factor", "one factor", (1.0 + grid) * factor - 1.0, area.weight, draft.method == "factor"),
    ]
    for kind, one in designs.items():
        chosen = (draft.method, draft.kind) == ("own", kind)
        title = KIND_WORDS[kind].partition(" ")[2] + ("" if one is best.get(kind) else ", by hand")
        rows.append(system_of(kind, title, distortions(area, one), area.weight, chosen))
    return rows


def _within(k: int, system: System) -> float:
    return 100.0 * system.within[k]


def _columns() -> list[Column]:
    def number(
        key: str, title: str, unit: str, get: Callable[[System], float], decimals: int, tip: str = ""
    ) -> Column:
        return Column(
            key=key, tip=tip, title=title, unit=unit, right=True, width=52, value=get,
            text=lambda s: format_fixed(get(s), decimals),
        )  # fmt: skip

    return [
        Column(
            key="system", title="system", text=lambda s: s.title, whole=True, width=110,
            tone=lambda s: "bold" if s.looked_at else "",
        ),
        number("most", "most", "ppm", lambda s: s.figures.largest * 1e6, 1, "The largest distortion"),
        number("long", "100 m", "mm", lambda s: s.figures.largest * 1e5, 1, "On 100 m at most"),
        number("p95", "95 %", "ppm", lambda s: s.figures.p95 * 1e6, 1, "95 % are under it"),
        number("rms", "rms", "ppm", lambda s: s.figures.rms * 1e6, 1),
        *(
            number(f"in{ppm:g}", f"≤ {ppm:g}", "%", partial(_within, k), 0, f"Share within {ppm:g} ppm")
            for k, ppm in enumerate(LIMITS_PPM)
        ),
        Column(
            key="ratio", title="1 :", right=True, width=70,
            value=lambda s: 1.0 / max(s.figures.largest, 1e-12),
            text=lambda s: format_fixed(round(1.0 / max(s.figures.largest, 1e-12), -2), 0),
        ),
    ]  # fmt: skip


class DistortionBars(QWidget):
    """How much of the area has each distortion, with the limit."""

    def __init__(self) -> None:
        super().__init__()
        self._off, self._weight, self._limit = np.zeros(0), np.zeros(0), 1.0
        self.setFixedSize(QSize(scaled(250), scaled(58)))
        self.setAccessibleName("How much of the area has each distortion")

    def show_off(self, off: FloatArray, weight: FloatArray, limit: float) -> None:
        """Show distortions (k,) with weights, parts; what is beyond the limit stands out."""
        self._off, self._weight, self._limit = off * 1e6, weight, limit * 1e6
        over = 1.0 - shares(off, weight, [limit])[0] if off.size else 0.0
        self.setToolTip(
            f"{format_fixed(100.0 * over, 0)} % over {self._limit:g} ppm; "
            f"from {format_fixed(float(off.min(initial=0.0)) * 1e6, 1)} "
            f"to {format_fixed(float(off.max(initial=0.0)) * 1e6, 1)} ppm"
        )
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        if not self._off.size:
            return
        p = QPainter(self)
        low, high = float(self._off.min()), float(self._off.max())
        room = max(0.05 * (high - low), 0.05)
        low, high = low - room, high + room
        parts, edges = np.histogram(self._off, BARS, (low, high), weights=self._weight)
        foot, wide = self.height() - scaled(14), self.width() / BARS
        for i, part in enumerate(parts.tolist()):
            if part > 0.0:
                tall = max((foot - 2.0) * part / float(parts.max()), 1.0)
                inside = abs(0.5 * (edges[i] + edges[i + 1])) <= self._limit
                bar = QRectF(i * wide + 0.5, foot - tall, wide - 1.0, tall)
                p.fillRect(bar, colour("reed" if inside else "sun"))
        p.setPen(QPen(colour("ink"), 1.0, Qt.PenStyle.DashLine))
        for edge in (-self._limit, self._limit):
            if low < edge < high:
                x = int((edge - low) / (high - low) * self.width())
                p.drawLine(x, 0, x, int(foot))
        p.setPen(colour("faint"))
        p.setFont(font(10.5))
        box = QRectF(0, foot, self.width(), self.height() - foot)
        texts = (format_fixed(low + room, 1, sign=True), "ppm", format_fixed(high - room, 1, sign=True))
        for text, side in zip(texts, ("AlignLeft", "AlignHCenter", "AlignRight"), strict=True):
            p.drawText(box, getattr(Qt.AlignmentFlag, side) | Qt.AlignmentFlag.AlignVCenter, text)


class ByHand(Flow):
    """The parameters of a projection, each with less and more; `turned` tells lines and scale."""

    turned = Signal(object, float)
    best_wanted = Signal()

    def __init__(self, bridge: JobBridge, ask: AskLine) -> None:
        super().__init__(gap=6, line_gap=4)
        self._bridge, self._ask = bridge, ask
        self._lines: Lines | None = None
        self._scale = 1.0
        self.values: dict[str, QPushButton] = {}
        self._best = QPushButton("the best again")
        look(self._best, "link")
        self._best.clicked.connect(self.best_wanted)

    def show_projection(self, one: Candidate | None, best: Candidate | None) -> None:
        """Show a projection's parameters; where it is not the best, the way back to that."""
        self.setVisible(one is not None)
        if one is None:
            return
        kind = one.lines.kind
        if self._lines is None or self._lines.kind != kind:
            self._make(kind)
        self._lines, self._scale = one.lines, one.scale
        for name, value in self.values.items():
            value.setText(self._text(name))
        self._best.setVisible(best is not None and best is not one)

    def _make(self, kind: str) -> None:
        widgets: list[QWidget] = []
        self.values = {}
        for name, title in PARAMETERS[kind]:
            label = PlainLabel(title)
            look(label, "faint")
            value = self.values[name] = QPushButton()
            look(value, "link")
            value.setAccessibleName(f"{title}, type it")
            value.clicked.connect(partial(self._ask_value, name, title))
            steps = [QPushButton(sign) for sign in ("−", "+")]
            for step, way, word in zip(steps, (-1, 1), ("less", "more"), strict=True):
                look(step, "chip")
                step.setAutoRepeat(True)
                step.setFixedWidth(scaled(26))
                step.setAccessibleName(f"{title} {word}")
                step.setToolTip("A part per million" if name == "scale" else "A minute of arc")
                step.clicked.connect(partial(self._step, name, way))
                step.setProperty("glued", True)
            value.setProperty("glued", True)
            widgets += [label, value, *steps]
        self.set_widgets([*widgets, self._best])

    def _text(self, name: str) -> str:
        if name == "scale":
            return f"{self._scale:.7f}"
        assert self._lines is not None
        return format_angle(getattr(self._lines, name) * RAD_PER_DEGREE, "degrees", 0)

    def _step(self, name: str, way: int) -> None:
        self._set(name, (self._scale if name == "scale" else getattr(self._lines, name)) + way * STEP[name])

    def _set(self, name: str, value: float) -> None:
        assert self._lines is not None
        if name == "scale":
            self.turned.emit(self._lines, round(value, 9))
        else:
            changes: Any = {name: round(value * 3600.0) / 3600.0}
            self.turned.emit(replace(self._lines, **changes), self._scale)

    def _ask_value(self, name: str, title: str) -> None:
        def use(text: str) -> bool:
            try:
                value = parse_number(text) if name == "scale" else parse_angle(text) / RAD_PER_DEGREE
            except FenwindError as error:
                self._bridge.tell_error(error)
                return False
            self._set(name, value)
            return True

        unit = "" if name == "scale" else " (degrees)"
        self._ask.ask(f"The {title}{unit}:", use, text=self.values[name].text(), button="Use it")


class ViewRow(QWidget):
    """Between what is at the marks, and the systems side by side; and the limit that is looked for.
    `looked_at` tells the view, `limit_asked` that the limit was clicked."""

    looked_at = Signal(str)
    limit_asked = Signal()

    def __init__(self) -> None:
        super().__init__()
        row = QHBoxLayout(self)
        row.setContentsMargins(0, 0, 0, 0)
        row.setSpacing(6)
        self.chips = {"marks": QPushButton("At the marks"), "systems": QPushButton("Side by side")}
        for key, chip in self.chips.items():
            look(chip, "chip")
            chip.setCheckable(True)
            chip.clicked.connect(partial(self.looked_at.emit, key))
            row.addWidget(chip)
        self.limit = QPushButton()
        look(self.limit, "link")
        self.limit.setToolTip("Distortion over it stands out in the table, on the map and in the bars")
        self.limit.clicked.connect(self.limit_asked)
        row.addWidget(self.limit)
        row.addStretch(1)

    def show_view(self, view: str, limit_ppm: float) -> None:
        """Show which view is looked at, and the limit."""
        for key, chip in self.chips.items():
            chip.setChecked(key == view)
        self.limit.setText(f"limit {limit_ppm:g} ppm")


class SystemsView(QWidget):
    """See the module; `chosen` tells the key of a system that was picked."""

    chosen = Signal(str)

    def __init__(self, bridge: JobBridge, ask: AskLine) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(8)
        self.hand = ByHand(bridge, ask)
        self.bars = DistortionBars()
        row = QHBoxLayout()
        row.addWidget(self.hand, 1)
        row.addWidget(self.bars, 0, Qt.AlignmentFlag.AlignTop)
        column.addLayout(row)
        self.table = RecordTable(_columns(), filtered=False)
        self.table.setAccessibleName("Systems side by side")
        self.table.setMinimumHeight(110)
        self.table.row_picked.connect(lambda system: self.chosen.emit(system.key))
        column.addWidget(self.table, 1)

    def show_systems(self, systems: list[System], limit: float) -> None:
        """Show systems over an area; the one looked at is drawn as bars."""
        self.table.records.set_rows(systems)
        shown = next((s for s in systems if s.looked_at), None)
        self.bars.setVisible(shown is not None)
        if shown is not None:
            self.bars.show_off(shown.off, shown.weight, limit)
