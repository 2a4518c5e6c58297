"""Two sets of positions compared by name: adopted and given, two steps, before and after, two files."""

from __future__ import annotations

import math
import os
from dataclasses import dataclass
from functools import partial

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QMenu, QPushButton, QWidget

from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column
from fenwind.desk.shell import PlainLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.sheet import Sheet
from fenwind.desk.statement import choice
from fenwind.desk.table import RecordTable
from fenwind.desk.tasks import Task, TaskRunner
from fenwind.errors import FenwindError, ProcedureError
from fenwind.exchange.formats import read_table
from fenwind.exchange.point_list import interpret
from fenwind.job.adopted import Adopted
from fenwind.procedures.compare import Difference, compare
from fenwind.procedures.positions import Positions, positions
from fenwind.progress import Progress
from fenwind.quantities.lengths import UNITS, LengthUnit
from fenwind.quantities.numbers import counted, format_fixed
from fenwind.reports.fit_report import mm
from fenwind.reports.statement import Part

ADOPTED, GIVEN, BEFORE, CARRIED, FILE = "adopted", "given", "before", "carried:", "file:"


@dataclass(frozen=True, slots=True)
class _Row:
    """One mark: of both sets, or of one only."""

    of: Difference
    row: int
    only: str = ""
    name: str = ""

    def way(self, key: str) -> float:
        return math.nan if self.only else float(getattr(self.of, key)[self.row])

    @property
    def over(self) -> bool:
        return not self.only and bool(self.of.over[self.row])


class ComparingSheet(Sheet):
    """Statement, statistics, the list; the plan shows the same differences as vectors."""

    closed = Signal()
    compared = Signal()

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self.sides = {"a": GIVEN, "b": ADOPTED}
        self.tolerance = (0.010, 0.020)
        self.found: Difference | None = None
        self._files: dict[str, Positions | FenwindError] = {}
        self._runner = TaskRunner(self, "files")
        self.statement.set_menus(
            {
                "a": partial(self._menu_side, "a"),
                "b": partial(self._menu_side, "b"),
                "tolerance": self._menu_tolerance,
            }
        )
        self.note = PlainLabel("")
        self.note.setWordWrap(True)
        look(self.note, "faint")
        self.column.addWidget(self.note)

        self.table = RecordTable(self._columns())
        self.table.setAccessibleName("Differences by mark")
        self.table.row_picked.connect(lambda r: self.bridge.select(r.name))
        self.column.addWidget(self.table, 1)
        foot = QWidget()
        line = QHBoxLayout(foot)
        line.setContentsMargins(0, 0, 0, 0)
        self.leave = QPushButton("Leave it")
        look(self.leave, "second")
        self.leave.clicked.connect(self.closed)
        line.addWidget(self.leave)
        line.addStretch(1)
        self.column.addWidget(foot)

    def _columns(self) -> list[Column]:
        def way(key: str, title: str) -> Column:
            return Column(
                key=key,
                title=title,
                unit="mm",
                text=lambda r: mm(r.way(key), sign=key != "d_m"),
                value=lambda r: r.way(key) * 1000,
                tone=lambda r: "doubt" if r.over else "",
                right=True,
                width=92,
                tip="Second set - first set",
                bar=lambda r: r.way(key) / self.tolerance[key == "dh_m"],
            )

        return [
            Column(
                key="name", title="mark", text=lambda r: r.name, tone=lambda r: "bold", whole=True, width=90
            ),
            way("de_m", "ΔE"),
            way("dn_m", "ΔN"),
            way("dh_m", "ΔH"),
            way("d_m", "in plan"),
            Column(
                key="state",
                title="",
                text=lambda r: r.only or ("over the tolerance" if r.over else ""),
                tone=lambda r: "sun" if r.only else "doubt",
                width=170,
            ),
        ]

    def show_job(self) -> None:
        bridge = self.bridge
        frame = bridge.frame
        self.caption.setText("COMPARING")
        names = {key: self._words(side) for key, side in self.sides.items()}
        limits = f"{mm(self.tolerance[0])} and {mm(self.tolerance[1])} mm"
        parts = [
            Part(text="Compare "),
            Part(text=names["a"], key="a"),
            Part(text=" with "),
            Part(text=names["b"], key="b"),
        ]
        parts += [
            Part(text=f" in {frame.spec.name}" if frame else ""),
            Part(text=", tolerance "),
            Part(text=limits, key="tolerance"),
            Part(text="."),
        ]
        self.statement.show_parts(parts)
        try:
            self.found = compare(self._set(self.sides["a"]), self._set(self.sides["b"]), *self.tolerance)
        except FenwindError as error:
            self.found = None
            self.note.setText(error.one_line)
            self.table.records.set_rows([])
            self.compared.emit()
            return
        f = self.found
        rows = [_Row(f, i, "", name) for i, name in enumerate(f.names)]
        rows += [_Row(f, 0, f"only in {names['a']}", n) for n in f.only_a] + [
            _Row(f, 0, f"only in {names['b']}", n) for n in f.only_b
        ]
        self.table.records.set_rows(rows)
        self.note.setText(_statistics(f))
        self.compared.emit()

    def _words(self, side: str) -> str:
        if side.startswith(CARRIED):
            step = self.bridge.state.fits.get(side.removeprefix(CARRIED))
            return f"carried by {step.name}" if step else "a fit that is gone"
        if side.startswith(FILE):
            return os.path.basename(side.removeprefix(FILE))
        return {
            ADOPTED: "adopted positions",
            GIVEN: "given positions",
            BEFORE: "adopted before the last change",
        }[side]

    def _set(self, side: str) -> Positions:
        """Positions of one side in the frame shown. Raises FenwindError."""
        bridge = self.bridge
        frame = bridge.frame_id
        if side == GIVEN:
            given = bridge.derived.given.get(frame)
            if given is None:
                raise ProcedureError("nothing is given in this frame yet", hint="Choose another set")
            return given
        if side.startswith(CARRIED):
            outcome = bridge.derived.fits.get(side.removeprefix(CARRIED))
            if outcome is None or outcome.case is None:
                raise ProcedureError("that fit has no result", hint="Choose another set")
            return outcome.case.result.carried
        if side.startswith(FILE):
            found = self._files[side]
            if isinstance(found, FenwindError):
                raise found
            return found
        derived = bridge.derived if side == ADOPTED else bridge.before
        adopted = derived.adopted.get(frame) if derived is not None else None
        if adopted is None:
            raise ProcedureError("there are no such positions yet", hint="Choose another set")
        return _of_adopted(adopted)

    def _menu_side(self, key: str, menu: QMenu) -> None:
        sides = [ADOPTED, GIVEN, *(f"{CARRIED}{k}" for k in self.bridge.state.fits)]
        if self.bridge.before is not None:
            sides.append(BEFORE)
        for side in sides:
            choice(
                menu, self._words(side), partial(self.set_side, key, side), checked=self.sides[key] == side
            )
        choice(menu, "a file …", partial(self._browse, key))

    def set_side(self, key: str, side: str) -> None:
        """Choose a set: ADOPTED, GIVEN, BEFORE, CARRIED with a fit's id, FILE with a path."""
        self.sides[key] = side
        if not side.startswith(FILE):
            self.show_job()
            return
        unit = UNITS[self.bridge.frame.spec.unit] if self.bridge.frame else UNITS["m"]
        self._files.setdefault(side, ProcedureError("the file is being read", hint="Wait a moment"))
        task = Task(_read_file, side.removeprefix(FILE), unit)
        task.signals.succeeded.connect(partial(self._on_file, side))
        task.signals.failed.connect(partial(self._on_file, side))
        self._runner.start(task)

    def _on_file(self, side: str, found: Positions | FenwindError) -> None:
        self._files[side] = found
        self.show_job()

    def shut_down(self) -> None:
        """Stop reading."""
        self._runner.shut_down()

    def _browse(self, key: str) -> None:
        path, _ = QFileDialog.getOpenFileName(self, "Compare with a list", self.bridge.folder)
        if path:
            self.set_side(key, FILE + path)

    def _menu_tolerance(self, menu: QMenu) -> None:
        choice(menu, "other tolerances …", self._ask_tolerance)

    def _ask_tolerance(self) -> None:
        def use(plan_m: float, height_m: float) -> None:
            self.tolerance = (plan_m, height_m)
            self.show_job()

        self.ask_tolerances(
            "Tolerance in plan, in height", f"{mm(self.tolerance[0])}, {mm(self.tolerance[1])}", use
        )


def _read_file(path: str, unit: LengthUnit, progress: Progress) -> Positions:
    """Plane positions of a file, the first where a name stands twice. Raises FenwindError."""
    raw = read_table(path)
    found = interpret(raw, unit=UNITS[raw.unit] if raw.unit else unit, progress=progress)
    if found.geographic:
        raise ProcedureError(
            "latitude and longitude are not compared on a plane",
            where=found.source,
            hint="Take the file in first",
        )
    first: dict[str, int] = {}
    for i, name in enumerate(found.names):
        first.setdefault(name, i)
    return positions(list(first), *found.values[:3, list(first.values())])


def _of_adopted(adopted: Adopted) -> Positions:
    return positions(
        adopted.names, adopted.e_m, adopted.n_m, adopted.height_m, adopted.sigma_h_m, adopted.sigma_v_m
    )


def _statistics(f: Difference) -> str:
    """Count, means, root mean squares, largest, what is over and what stands in one set only, in words."""
    parts = [
        f"{counted(len(f.names), 'mark')} in both, "
        f"{len(f.only_a)} only in the first, {len(f.only_b)} only in the second"
    ]
    if f.names:
        for name, values in (("E", f.de_m), ("N", f.dn_m), ("H", f.dh_m)):
            fine = values[np.isfinite(values)]
            if fine.size:
                parts.append(
                    f"{name} mean {mm(float(fine.mean()), sign=True)}, rms "
                    f"{mm(float(np.sqrt(np.mean(fine**2))))} mm"
                )
        parts.append(f"largest in plan {mm(float(f.d_m.max()))} mm ({f.names[int(f.d_m.argmax())]})")
        parts.append(f"{format_fixed(float(f.over.sum()), 0)} over")
    return "; ".join(parts) + "."
