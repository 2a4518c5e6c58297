"""Two networks as epochs of one: which marks stayed, how far the others moved, and whether that is more than
chance."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QMenu, QPushButton, QWidget

from fenwind.desk.actions import ActionSpec
from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column
from fenwind.desk.shell import PlainLabel, WholeLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.sheet import RecordSheet
from fenwind.desk.statement import choice
from fenwind.desk.table import RecordTable
from fenwind.errors import FenwindError
from fenwind.estimation.distributions import normal_quantile, plan_reach
from fenwind.job.design_gestures import change, compare_epochs
from fenwind.job.steps.epochs import Compared
from fenwind.job.steps.outcome import Node
from fenwind.procedures.regions import ellipses
from fenwind.quantities.numbers import format_fixed
from fenwind.records.network import EpochsStep, NetworkStep
from fenwind.reports.fit_report import mm
from fenwind.reports.statement import Part

LEVELS = (0.05, 0.01, 0.001)


@dataclass(frozen=True, slots=True, kw_only=True)
class _Row:
    """A mark in both epochs: ways as the frame writes them (first, second coordinate, height), what they are
    good to at 95 % (plan, height), and what is said of it."""

    name: str
    ways: tuple[float, float, float]
    reach: tuple[float, float]
    probability: float
    stable: bool
    moved: bool

    @property
    def said(self) -> str:
        """In words."""
        return "stayed" if self.stable else "moved" if self.moved else "not more than chance"


class EpochsSheet(RecordSheet):
    """See the module."""

    kind = "epochs"

    wanted = Signal()

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self.statement.set_menus(
            {
                "first": partial(self._menu_network, "first"),
                "second": partial(self._menu_network, "second"),
                "stable": self._menu_stable, "level": self._menu_level,
            }
        )  # fmt: skip
        self.verdict = WholeLabel("")
        self.empty = PlainLabel(
            "The same network observed again tells what has moved. It needs two networks of the job: take in "
            "the observations of both epochs under Adjustment, then compare them here."
        )
        self.empty.setWordWrap(True)
        look(self.empty, "faint")
        self.first = QPushButton("Compare two networks")
        look(self.first, "main")
        self.first.clicked.connect(self._new)
        self.table = RecordTable(self._columns())
        self.table.setAccessibleName("Marks in both epochs")
        self.table.row_picked.connect(lambda row: self.bridge.select(row.name))
        for widget in (self.verdict, self.empty):
            self.column.addWidget(widget)
        self.column.addWidget(self.first, 0, Qt.AlignmentFlag.AlignLeft)
        self.column.addWidget(self.table, 1)
        self.column.addStretch(0)

    def _columns(self) -> list[Column]:
        def way(at: int, title: str) -> Column:
            return Column(
                key=f"way{at}", title=title, unit="mm", right=True, width=76, tone=_tone,
                value=lambda r: r.ways[at], text=lambda r: mm(r.ways[at], sign=True),
                tip="Second epoch - first epoch",
            )  # fmt: skip

        first, second = self.bridge.axes
        return [
            Column(key="name", title="mark", text=lambda r: r.name, width=80, whole=True,
                   tone=lambda r: "bold"),
            way(0, f"Δ{first.title}"), way(1, f"Δ{second.title}"), way(2, "ΔH"),
            Column(key="plan", title="± plan", unit="mm", right=True, width=72, value=lambda r: r.reach[0],
                   text=lambda r: mm(r.reach[0]), tip="Semi-axis of its ellipse at 95 %"),
            Column(key="height", title="± height", unit="mm", right=True, width=76,
                   value=lambda r: r.reach[1], text=lambda r: mm(r.reach[1]), tip="At 95 %"),
            Column(key="p", title="by", unit="chance", right=True, width=72, value=lambda r: r.probability,
                   text=lambda r: format_fixed(r.probability, 4),
                   tip="How likely a mark that stayed would seem to move as much"),
            Column(key="said", title="", text=lambda r: r.said, width=150, tone=_tone),
        ]  # fmt: skip

    @property
    def step(self) -> EpochsStep | None:
        """The comparison looked at."""
        return self.looked_at(EpochsStep)

    def found(self) -> Compared | FenwindError | None:
        """What came of it."""
        found: Any = self.came_of(self.step)
        return found

    def count(self) -> int:
        """How many comparisons there are."""
        return sum(step.active for step in self.bridge.state.of(EpochsStep).values())

    def show_job(self) -> None:
        step, found = self.step, self.found()
        self.empty.setVisible(step is None)
        self.first.setVisible(step is None and len(self._networks()) > 1)
        for widget in (self.statement, self.verdict, self.table):
            widget.setVisible(step is not None)
        if step is None:
            self.caption.setText("TWO EPOCHS")
            return
        self.caption.setText("TWO EPOCHS")
        self.statement.show_parts(self._parts(step))
        self.verdict.setText(_verdict(found))
        self.table.records.set_columns(self._columns())
        self.table.records.set_rows(self._rows(found))

    def _networks(self) -> dict[str, NetworkStep]:
        return {k: s for k, s in self.bridge.state.of(NetworkStep).items() if s.active}

    def _parts(self, step: EpochsStep) -> list[Part]:
        state = self.bridge.state
        networks = state.of(NetworkStep)
        names = [networks[key].name if key in networks else "?" for key in (step.first, step.second)]
        stable = (
            ", ".join(state.mark_name(key) for key in step.stable) if step.stable else "found by themselves"
        )
        return [
            Part(text="From "), Part(text=names[0], key="first"), Part(text=" to "),
            Part(text=names[1], key="second"), Part(text=", on marks that stayed: "),
            Part(text=stable, key="stable"), Part(text="; tests at "),
            Part(text=f"{step.alpha * 100.0:g} %", key="level"), Part(text="."),
        ]  # fmt: skip

    def _rows(self, found: Compared | FenwindError | None) -> list[_Row]:
        if not isinstance(found, Compared):
            return []
        axes = self.bridge.axes_in(self.bridge.state.frames.get(found.frame))
        e, n, h = found.moves
        a, _, _ = ellipses(found.covariance[:2, :2])
        up = normal_quantile(0.975) * np.sqrt(found.covariance[2, 2])
        plan = np.where(np.isfinite(e), plan_reach() * a, np.nan)
        height = np.where(np.isfinite(h), up, np.nan)
        return [
            _Row(
                name=name, ways=(float(axes[0].of(e[i], n[i])), float(axes[1].of(e[i], n[i])), float(h[i])),
                reach=(float(plan[i]), float(height[i])), probability=float(found.found.probability[i]),
                stable=bool(found.found.stable[i]), moved=bool(found.found.moved[i]),
            )
            for i, name in enumerate(found.found.names)
        ]  # fmt: skip

    # What is done

    def _new(self) -> None:
        self.wanted.emit()
        keys = list(self._networks())
        if len(keys) < 2:
            self.bridge.told.emit("It takes two networks: take in another epoch.", "doubt")
        elif self.bridge.attempt(lambda: compare_epochs(self.bridge.state, keys[0], keys[-1])):
            self.look_at(list(self.bridge.state.of(EpochsStep))[-1])

    def _menu_network(self, which: str, menu: QMenu) -> None:
        step = self.step
        if step is None:
            return
        for key, network in self._networks().items():
            choice(menu, network.name, partial(self._change, f"The {which} epoch", **{which: key}),
                   checked=getattr(step, which) == key)  # fmt: skip
        menu.addSeparator()
        choice(menu, "Compare two others", self._new)

    def _menu_stable(self, menu: QMenu) -> None:
        step, found = self.step, self.found()
        if step is None:
            return
        choice(menu, "found by themselves", partial(self._change, "Stable marks", stable=()),
               checked=not step.stable)  # fmt: skip
        menu.addSeparator()
        if not isinstance(found, Compared):
            return
        names = found.found.names
        now = set(step.stable) or {found.ids[n] for i, n in enumerate(names) if found.found.stable[i]}
        for name in names[:40]:
            key = found.ids[name]
            fresh = tuple(found.ids[n] for n in names if (found.ids[n] in now) != (n == name))
            choice(menu, name, partial(self._change, "Stable marks", stable=fresh), checked=key in now)

    def _menu_level(self, menu: QMenu) -> None:
        step = self.step
        for level in LEVELS if step is not None else ():
            choice(menu, f"{level * 100.0:g} %", partial(self._change, "Level of the tests", alpha=level),
                   checked=step is not None and step.alpha == level)  # fmt: skip

    def _change(self, what: str, **changes: object) -> bool:
        step = self.step
        return step is not None and self.bridge.do(change(step, what, **changes))

    # What the desk asks

    def focus(self) -> QWidget:
        return self.table

    def plan_step(self) -> Node | None:
        return self.node_of(self.step)

    def pick(self, names: set[str]) -> bool:
        self.table.pick_all(lambda row: row.name in names)
        return True

    def commands(self) -> Sequence[ActionSpec]:
        return (
            ActionSpec(id="epochs.new", menu=self.stage.name, text="Compare two epochs",
                       tip="Two networks of the job: what has moved", run=self._new),
        )  # fmt: skip


def _tone(row: _Row) -> str:
    return "doubt" if row.moved else "faint" if row.stable else ""


def _verdict(found: Compared | FenwindError | None) -> str:
    if isinstance(found, FenwindError):
        return found.sentences
    if found is None:
        return ""
    d = found.found
    moved = [n for i, n in enumerate(d.names) if d.moved[i]]
    before = f"That all {len(d.names)} stayed has a probability of {format_fixed(d.before[2], 4)}"
    if not moved:
        return f"{before}: nothing has moved more than chance allows."
    return f"{before}; without {', '.join(moved)} the others agree ({format_fixed(d.whole[2], 3)})."
