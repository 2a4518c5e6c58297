"""A fit in space: which frame onto which, by how many parameters, what it leaves over at every pair, and the
parameters in both signs that are in use."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QApplication, QHBoxLayout, QMenu, QPushButton, QWidget

from fenwind.desk.actions import ActionSpec
from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column
from fenwind.desk.shell import WholeLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.sheet import RecordSheet
from fenwind.desk.statement import choice
from fenwind.desk.table import RecordTable
from fenwind.errors import FenwindError
from fenwind.geodesy.axes import geodetic_of
from fenwind.geodesy.frames import find_crs, open_frame
from fenwind.geodesy.helmert_words import bound_wkt, helmert_proj
from fenwind.job.space_gestures import change, new_space_fit, set_off
from fenwind.job.steps.outcome import Node
from fenwind.job.steps.space_fit import Carried
from fenwind.records.space_fits import SpaceFit
from fenwind.reports.fit_report import mm
from fenwind.reports.space_words import parameters_words, verdict_words
from fenwind.reports.statement import Part

PARAMETERS = {3: "a shift", 7: "a shift, a turn and a scale"}
#: Residuals are drawn against this, metres (common practice, no source).
SEEN_M = 0.05


@dataclass(frozen=True, slots=True, kw_only=True)
class _Row:
    """A pair: left over east, north, up and by the others alone (metres, nan where these are too few)."""

    key: str
    name: str
    used: bool
    left: tuple[float, float, float]
    without: float


class SpaceFitSheet(RecordSheet):
    """See the module."""

    kind = "space fit"
    closed = Signal()

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self.statement.set_menus(
            {
                "fit": self._menu_fit, "parameters": self._menu_parameters,
                "source": partial(self._menu_frame, "source_frame"),
                "target": partial(self._menu_frame, "target_frame"),
            }
        )  # fmt: skip
        self.verdict, self.said = WholeLabel(""), WholeLabel("")
        look(self.said, "faint")
        self.table = RecordTable(self._columns())
        self.table.setAccessibleName("Pairs in space")
        self.table.row_picked.connect(lambda row: self.bridge.select(row.name))
        self.proj, self.wkt = QPushButton("Copy the PROJ string"), QPushButton("Copy as WKT")
        self.back = QPushButton("Back to the fits")
        row = QHBoxLayout()
        for button, run in (
            (self.proj, self.copy_proj), (self.wkt, self.copy_wkt), (self.back, self.closed.emit),
        ):  # fmt: skip
            look(button, "second")
            button.clicked.connect(run)
            row.addWidget(button)
        row.addStretch(1)
        self.column.addWidget(self.verdict)
        self.column.addWidget(self.said)
        self.column.addLayout(row)
        self.column.addWidget(self.table, 1)
        self.column.addStretch(0)

    def _columns(self) -> list[Column]:
        def left(k: int, title: str) -> Column:
            return Column(
                key=f"v{k}", title=title, unit="mm", right=True, width=76,
                text=lambda r: mm(r.left[k], sign=True), value=lambda r: r.left[k] * 1000.0,
                bar=lambda r: r.left[k] / SEEN_M, tip="Carried - given",
            )  # fmt: skip

        return [
            Column(key="use", title="use", width=44, box=lambda r: True if r.used else "dashed",
                   toggle=self._toggle, tip="Click: take part, or be compared only"),
            Column(key="mark", title="mark", text=lambda r: r.name, width=80, whole=True,
                   tone=lambda r: "bold"),
            left(0, "ΔE"), left(1, "ΔN"), left(2, "Δup"),
            Column(key="without", title="by the others", unit="mm", right=True, width=110,
                   text=lambda r: mm(r.without), value=lambda r: r.without * 1000.0,
                   tip="How far it lies from where the other pairs alone put it"),
        ]  # fmt: skip

    # What is shown

    @property
    def step(self) -> SpaceFit | None:
        """The fit looked at."""
        return self.looked_at(SpaceFit)

    def found(self) -> Carried | FenwindError | None:
        """What came of it."""
        found: Any = self.came_of(self.step)
        return found

    def show_job(self) -> None:
        step, found = self.step, self.found()
        self.caption.setText("FIT IN SPACE" if step is None else step.name.upper())
        if step is None:
            self.statement.show_parts([Part(text="There is no fit in space.")])
            self.verdict.setText("")
            self.table.records.set_rows([])
            return
        names = {key: frame.spec.name for key, frame in self.bridge.state.frames.items()}
        self.statement.show_parts(
            [
                Part(text=step.name, key="fit"), Part(text=" carries "),
                Part(text=names.get(step.source_frame, "?"), key="source"), Part(text=" onto "),
                Part(text=names.get(step.target_frame, "?"), key="target"), Part(text=" in space by "),
                Part(text=PARAMETERS[step.parameters], key="parameters"), Part(text="."),
            ]
        )  # fmt: skip
        fine = isinstance(found, Carried)
        for widget in (self.proj, self.wkt, self.said):
            widget.setVisible(fine)
        if isinstance(found, Carried):
            self.verdict.setText(verdict_words(found))
            self.said.setText(parameters_words(found))
            self.table.records.set_rows(_rows(found))
        else:
            self.verdict.setText(found.sentences if found is not None else "")
            self.table.records.set_rows([])

    # What is done

    def new(self) -> bool:
        """Make one onto the frame shown and look at it."""
        done = self.bridge.attempt(lambda: new_space_fit(self.bridge.state, self.bridge.frame_id))
        if done:
            self._key = list(self.bridge.state.of(SpaceFit))[-1]
        self.refresh()
        return done

    def _change(self, what: str, **changes: Any) -> None:
        step = self.step
        if step is not None:
            self.bridge.do(change(step, what, **changes))

    def _menu_fit(self, menu: QMenu) -> None:
        for fit in self.bridge.state.of(SpaceFit).values():
            if fit.active:
                choice(menu, fit.name, partial(self.look_at, fit.id), checked=fit is self.step)
        menu.addSeparator()
        choice(menu, "Another fit in space", self.new)
        choice(menu, "Switch this one off", partial(self._change, "Fit in space off", active=False))

    def _menu_frame(self, field: str, menu: QMenu) -> None:
        for key, frame in self.bridge.state.frames.items():
            if frame.active:
                choice(menu, frame.spec.name, partial(self._change, "Frame of a fit", **{field: key}),
                       checked=self.step is not None and getattr(self.step, field) == key)  # fmt: skip

    def _menu_parameters(self, menu: QMenu) -> None:
        for count, words in PARAMETERS.items():
            choice(menu, words, partial(self._change, "Parameters", parameters=count),
                   checked=self.step is not None and self.step.parameters == count)  # fmt: skip

    def _toggle(self, row: _Row) -> None:
        step = self.step
        if step is not None:
            self.bridge.do(set_off(step, [row.key], row.used))

    def copy_proj(self) -> None:
        """The parameters as a PROJ string between geocentric positions."""
        found = self.found()
        if isinstance(found, Carried):
            f = found.fit
            text = helmert_proj(f.shift, f.rotation, f.scale, found.step.parameters)
            QApplication.clipboard().setText(text)
            self.bridge.told.emit("Copied: a PROJ string between geocentric positions.", "")

    def copy_wkt(self) -> None:
        """The datum of the first frame, bound to that of the second."""
        found = self.found()
        if isinstance(found, Carried):
            f, frames = found.fit, self.bridge.state.frames
            ends = [
                geodetic_of(find_crs(open_frame(frames[key].spec).geodetic_crs.to_wkt())).to_2d()
                for key in (found.step.source_frame, found.step.target_frame)
            ]
            QApplication.clipboard().setText(bound_wkt(f.shift, f.rotation, f.scale, *ends))
            self.bridge.told.emit("Copied: a bound system as WKT2.", "")

    # What the desk asks

    def focus(self) -> QWidget:
        return self.table

    def plan_step(self) -> Node | None:
        return self.node_of(self.step)

    def commands(self) -> Sequence[ActionSpec]:
        return ()


def _rows(found: Carried) -> list[_Row]:
    out = []
    for k, key in enumerate(found.pairs):
        e, n, u = (float(v) for v in found.residuals[:, k])
        out.append(
            _Row(
                key=key, name=found.names[key], used=bool(found.used[k]), left=(e, n, u),
                without=float(np.linalg.norm(found.without[:, k])),
            )
        )  # fmt: skip
    return out
