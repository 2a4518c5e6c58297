"""What a network's sentence says of weights: balanced groups, biases, centring, a second opinion; and the
bars of all its tests."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QRectF, QSize
from PySide6.QtGui import QPainter, QPaintEvent, QPen
from PySide6.QtWidgets import QMenu, QWidget

from fenwind.desk.askline import AskLine
from fenwind.desk.bridge import JobBridge
from fenwind.desk.statement import choice
from fenwind.desk.theme import colour, font
from fenwind.errors import FenwindError, ParseError
from fenwind.job.network_gestures import change
from fenwind.procedures.network_model import BIASES
from fenwind.quantities.numbers import parse_number
from fenwind.records.network import NetworkStep, ObservationSet
from fenwind.reports.fit_report import mm
from fenwind.reports.network_words import BIAS_WORDS
from fenwind.reports.statement import Part

FloatArray = NDArray[np.float64]

#: Sigmas on each side of the middle that bars are drawn for.
REACH = 4


def option_parts(step: NetworkStep) -> list[Part]:
    """What the sentence says of weights."""
    count = len(step.biases)
    centred = f"centred to {mm(step.centring_m)} mm" if step.centring_m else "centring left out"
    return [
        Part(text=", weights "),
        Part(text="balanced by group" if step.components else "as stated", key="weights"), Part(text=", "),
        Part(text=f"{count} bias{'es' if count > 1 else ''} found" if count else "no bias", key="biases"),
        Part(text=", "), Part(text=centred, key="centring"), Part(text=", "),
        Part(text="a robust second opinion" if step.robust else "no second opinion", key="robust"),
    ]  # fmt: skip


class NetworkOptions:
    """The menus behind these words."""

    def __init__(
        self, bridge: JobBridge, ask: AskLine, observations: Callable[[NetworkStep], ObservationSet | None]
    ) -> None:
        self.bridge, self.ask, self.observations = bridge, ask, observations
        self.step: NetworkStep | None = None  # the network looked at

    def menu_weights(self, menu: QMenu) -> None:
        """As stated, or balanced."""
        for on, words in ((False, "as stated"), (True, "each group balanced by what its residuals say")):
            choice(menu, words, partial(self._change, "Weights of groups", components=on),
                   checked=self.step is not None and self.step.components == on)  # fmt: skip

    def menu_robust(self, menu: QMenu) -> None:
        """Whether there is a second opinion."""
        for on, words in ((False, "none"), (True, "robust: which stand out when none may pull the others")):
            choice(menu, words, partial(self._change, "Second opinion", robust=on),
                   checked=self.step is not None and self.step.robust == on)  # fmt: skip

    def menu_biases(self, menu: QMenu) -> None:
        """A bias for every group that one can be found of."""
        step = self.step
        one = self.observations(step) if step is not None else None
        if step is None or one is None:
            return
        choice(menu, "no bias", partial(self._change, "Biases", biases=()), checked=not step.biases)
        menu.addSeparator()
        groups = dict.fromkeys(zip(one.group, one.kind, strict=True))
        for kind, (word, _, _) in BIAS_WORDS.items():
            for group in dict.fromkeys(g for g, k in groups if k in BIASES[kind][1]):
                now = (kind, group) in step.biases
                rest = tuple(b for b in step.biases if b != (kind, group))
                fresh = rest if now else (*rest, (kind, group))
                choice(menu, f"{word} of {group.replace('_', ' ')}",
                       partial(self._change, "Biases", biases=fresh), checked=now)  # fmt: skip

    def ask_centring(self) -> None:
        """How well instruments and targets are centred."""
        if self.step is not None:
            self.ask.ask("Instruments and targets are centred to, mm:", self._use_centring,
                         text=f"{self.step.centring_m * 1000.0:g}", button="Use it")  # fmt: skip

    def _use_centring(self, text: str) -> bool:
        try:
            value = parse_number(text)
            if not 0.0 <= value < 1000.0:
                raise ParseError(f"{text.strip()} is no centring", hint="Type millimetres, 0 to leave it out")
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        return self._change("Centring", centring_m=value / 1000.0)

    def _change(self, what: str, **changes: object) -> bool:
        return self.step is not None and self.bridge.do(change(self.step, what, **changes))


class TestBars(QWidget):
    """How often each size of w occurs, a bar half a sigma wide, with what a normal error would make of it."""

    def __init__(self) -> None:
        super().__init__()
        self._w: FloatArray = np.zeros(0)
        self.setFixedSize(QSize(150, 54))
        self.setAccessibleName("How often each size of w occurs")

    def show_tests(self, w: FloatArray) -> None:
        """Show standardised residuals (k,)."""
        self._w = w[np.isfinite(w)]
        self.setVisible(self._w.size > 0)
        over = int((np.abs(self._w) > REACH).sum())
        self.setToolTip(f"{self._w.size} tests w; {over} beyond {REACH} sigmas. The line: normal errors.")
        self.update()

    def paintEvent(self, event: QPaintEvent) -> None:
        if not self._w.size:
            return
        p = QPainter(self)
        p.setRenderHint(QPainter.RenderHint.Antialiasing)
        edges = np.linspace(-REACH, REACH, 4 * REACH + 1)
        counts, _ = np.histogram(np.clip(self._w, -REACH + 1e-9, REACH - 1e-9), edges)
        middles = 0.5 * (edges[1:] + edges[:-1])
        normal = self._w.size * 0.5 * np.exp(-0.5 * middles**2) / np.sqrt(2.0 * np.pi)
        high, foot = float(max(counts.max(), normal.max())), self.height() - 13.0
        wide = self.width() / counts.size
        for i, count in enumerate(counts.tolist()):
            tall = (foot - 3.0) * count / high
            far = abs(middles[i]) > 3.29
            p.fillRect(
                QRectF(i * wide + 0.5, foot - tall, wide - 1.0, tall), colour("sun" if far else "reed")
            )
        p.setPen(QPen(colour("ink"), 1.2))
        ends = [(x, foot - (foot - 3.0) * v / high) for x, v in zip(
            (np.arange(counts.size) + 0.5) * wide, normal.tolist(), strict=True)]  # fmt: skip
        for (x1, y1), (x2, y2) in pairwise(ends):
            p.drawLine(int(x1), int(y1), int(x2), int(y2))
        p.setFont(font(9))
        p.setPen(colour("faint"))
        for sigma in (-3, 0, 3):
            x = (sigma + REACH) / (2.0 * REACH) * self.width()
            p.drawText(QRectF(x - 15, foot, 30, 13), 0x84, f"{sigma}".replace("-", "−"))
