"""Loops of the network looked at: each with what it misses by against its limit, the worst first; the one
looked at is drawn."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from PySide6.QtWidgets import QWidget

from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column
from fenwind.desk.plan_extras import Coming
from fenwind.desk.plan_scene import Scene
from fenwind.desk.shell import PlainLabel, WholeLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.network import NetworkSheet
from fenwind.desk.stages.sheet import Sheet
from fenwind.desk.table import RecordTable
from fenwind.errors import FenwindError, ParseError
from fenwind.job.network_gestures import change
from fenwind.job.steps.loops import Closed
from fenwind.job.steps.network import network_node
from fenwind.job.steps.outcome import Node
from fenwind.procedures.loop_closures import Closure
from fenwind.quantities.numbers import format_fixed, parse_number
from fenwind.reports.fit_report import mm
from fenwind.reports.statement import Part

KINDS = {"vector": "vectors", "height": "heights", "triangle": "triangle", "distance": "distance"}
#: Names of a way that are written out.
WRITTEN = 7


@dataclass(frozen=True, slots=True, kw_only=True)
class _Row:
    """A loop with the component that misses most of its limit."""

    loop: Closure
    worst: int

    @property
    def share(self) -> float:
        """Part of its limit that it misses by."""
        return abs(float(self.loop.misclosure[self.worst] / self.loop.limit[self.worst]))

    def shown(self, value: float, sign: bool = False) -> str:
        """A misclosure or a limit, in seconds for a triangle."""
        if self.loop.kind == "triangle":
            return f"{format_fixed(value, 1, sign=sign)}″"
        return f"{mm(value, sign=sign)} mm"


class LoopsSheet(Sheet):
    """See the module."""

    def __init__(self, bridge: JobBridge, stage: Stage, network: NetworkSheet) -> None:
        super().__init__(bridge, stage)
        self._network = network
        self._drawn: Closure | None = None
        self.statement.part_clicked.connect(self._ask_limit)
        self.verdict = WholeLabel("")
        self.empty = PlainLabel("A network closes where its observations come back to where they began.")
        self.empty.setWordWrap(True)
        look(self.empty, "faint")
        self.table = RecordTable(self._columns())
        self.table.setAccessibleName("Loops of the network")
        self.table.row_picked.connect(self._on_row)
        for widget in (self.verdict, self.empty):
            self.column.addWidget(widget)
        self.column.addWidget(self.table, 1)
        self.column.addStretch(0)

    def _columns(self) -> list[Column]:
        unit = self.bridge.unit

        def parts(row: _Row) -> str:
            several = row.loop.misclosure.size > 1
            return "  ".join(mm(float(v), sign=True) for v in row.loop.misclosure) if several else ""

        return [
            Column(key="kind", title="loop of", text=lambda r: KINDS[r.loop.kind], width=78,
                   tone=lambda r: "faint"),
            Column(key="way", title="way", text=_way, width=186, whole=True, tone=lambda r: "bold"),
            Column(
                key="misses", title="misses by", right=True, width=88, value=lambda r: r.share,
                text=lambda r: r.shown(float(r.loop.misclosure[r.worst]), True),
                bar=lambda r: float(r.loop.misclosure[r.worst] / r.loop.limit[r.worst]),
                tone=lambda r: "doubt" if r.loop.over else "",
                tip="The component that is nearest to its limit, or over it",
            ),
            Column(key="limit", title="allowed", right=True, width=72,
                   value=lambda r: float(r.loop.limit[r.worst]),
                   text=lambda r: r.shown(float(r.loop.limit[r.worst]))),
            Column(key="length", title="length", unit=unit.key, right=True, width=72,
                   value=lambda r: r.loop.length,
                   text=lambda r: format_fixed(r.loop.length / unit.metres, 1)),
            Column(key="parts", title="dx, dy, dz", unit="mm", right=True, width=130, text=parts,
                   tip="What a loop of vectors misses by, along the geocentric axes"),
        ]  # fmt: skip

    # What is shown

    def found(self) -> Closed | FenwindError | None:
        """What closes in the network looked at."""
        step = self._network.step
        return self.bridge.derived.of_kind("loops").get(step.id) if step is not None else None

    def count(self) -> int:
        """How many loops there are."""
        found = self.found()
        return len(found.closures) if isinstance(found, Closed) else 0

    def show_job(self) -> None:
        found, step = self.found(), self._network.step
        self.caption.setText("LOOPS" if step is None else f"LOOPS OF {step.name.upper()}")
        shown = isinstance(found, Closed)
        self.empty.setVisible(not shown)
        for widget in (self.statement, self.verdict, self.table):
            widget.setVisible(shown)
        if not isinstance(found, Closed):
            return
        over = sum(loop.over for loop in found.closures)
        limit = found.step.loop_limit
        count = len(found.closures)
        loops = "The loop" if count == 1 else f"Each of {count} loops"
        allowed = "3.29 of its sigmas" if limit is None else (
            f"{limit[0] * 1000.0:g} mm + {limit[1] * 1e6:g} ppm")  # fmt: skip
        self.statement.show_parts(
            [Part(text=f"{loops} may miss by "), Part(text=allowed, key="limit"), Part(text=".")]
        )  # fmt: skip
        self.verdict.setText(
            "Nothing closes: every mark is reached by one way only." if not found.closures
            else f"{over} {'misses' if over == 1 else 'miss'} by more." if over else "None misses by more."
        )  # fmt: skip
        rows = [
            _Row(loop=loop, worst=int(np.argmax(np.abs(loop.misclosure) / loop.limit)))
            for loop in found.closures
        ]
        self.table.records.set_columns(self._columns())
        self.table.records.set_rows(sorted(rows, key=lambda r: -r.share))

    # What is done

    def _ask_limit(self, key: str) -> None:
        step = self._network.step
        if step is not None:
            limit = step.loop_limit
            text = "" if limit is None else f"{limit[0] * 1000.0:g}, {limit[1] * 1e6:g}"
            self.ask.ask("Allowed, mm and ppm of the length; nothing for 3.29 sigmas:", self._use_limit,
                         text=text, button="Use it")  # fmt: skip

    def _use_limit(self, text: str) -> bool:
        step = self._network.step
        try:
            values = [parse_number(part) for part in text.split(",")] if text.strip() else []
            if len(values) not in (0, 2) or min(values, default=0.0) < 0.0 or values == [0.0, 0.0]:
                raise ParseError(f"{text.strip()!r} is no limit", hint="Type for instance 10, 2")
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        limit = (values[0] / 1000.0, values[1] * 1e-6) if values else None
        return step is not None and self.bridge.do(change(step, "Limit of loops", loop_limit=limit))

    def _on_row(self, row: _Row) -> None:
        self._drawn = row.loop
        self.plan_changed.emit()

    # What the desk asks

    def focus(self) -> QWidget:
        return self.table

    def plan_step(self) -> Node | None:
        step = self._network.step
        return network_node(step.id) if step is not None else None

    def overlay(self, scene: Scene) -> None:
        if self._drawn is None:
            return
        place = {name: i for i, name in enumerate(scene.names)}
        at = np.array(
            [[scene.e_m[place[n]], scene.n_m[place[n]]] if n in place else [math.nan, math.nan]
             for n in self._drawn.names]
        ).T  # fmt: skip
        scene.coming = Coming(lines=np.concatenate([at[:, :-1], at[:, 1:]]))

    def pick(self, names: set[str]) -> bool:
        self.table.pick_all(lambda row: bool(names & set(row.loop.names)))
        return True

    def select(self, name: str) -> None:
        """A mark stands in many loops: none is chosen by it."""


def _way(row: _Row) -> str:
    names = row.loop.names
    return " – ".join(names if len(names) <= WRITTEN else (*names[:3], "…", *names[-2:]))
