"""A network planned before fieldwork: marks and lines drawn, what each is worth, which to leave out and which
one more brings most; the day's list, ticked off as records come in."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QApplication, QMenu, QPushButton, QWidget

from fenwind.desk.actions import ActionSpec
from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column
from fenwind.desk.flow import Flow
from fenwind.desk.plan_scene import Scene
from fenwind.desk.plan_symbols import RING
from fenwind.desk.scene import error_ellipses
from fenwind.desk.shell import PlainLabel, WholeLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.network import LITTLE
from fenwind.desk.stages.sheet import RecordSheet
from fenwind.desk.statement import choice
from fenwind.desk.table import RecordTable
from fenwind.errors import FenwindError, ParseError
from fenwind.estimation.distributions import plan_reach
from fenwind.job import design_gestures as gestures
from fenwind.job.steps.design import Designed, PlannedFigures, design_node
from fenwind.job.steps.outcome import Node
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.quantities.numbers import counted, format_fixed, parse_number
from fenwind.records.network import DesignStep
from fenwind.reports.day_list import day_list
from fenwind.reports.fit_report import mm
from fenwind.reports.statement import Part

#: Kinds of line: what one is called, what its pen is called, and how its worth is asked for.
PENS = {"vector": "Draw vectors", "sighting": "Draw sightings", "levelling": "Draw levelling"}
MANY = {"vector": "vectors", "sighting": "sightings", "levelling": "levelling"}


@dataclass(frozen=True, slots=True, kw_only=True)
class _Row:
    """A planned line: its row in the design, and its figures where it takes part."""

    number: int
    kind: str
    at: str
    to: str
    on: bool
    figures: PlannedFigures | None


def _finds(row: _Row) -> str:
    """The smallest errors found in it."""
    if row.figures is None:
        return ""
    parts = []
    for kind, value in row.figures.finds.items():
        angle = kind in ("direction", "zenith")
        if math.isfinite(value):
            parts.append(f"{format_fixed(value / RAD_PER_SECOND, 0)}″" if angle else f"{mm(value)} mm")
    return ", ".join(parts)


class DesignSheet(RecordSheet):
    """See the module."""

    kind = "design"

    wanted = Signal()

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self._pen, self._from = "", ""
        self.statement.set_menus({"lines": self._menu_lines})
        self.statement.part_clicked.connect(self._ask_part)
        self.verdict = WholeLabel("")
        self.column.addWidget(self.verdict)
        self.tools = Flow(gap=6, line_gap=6)
        self.place = QPushButton("Plan a mark on the plan")
        self.place.clicked.connect(self.wants_place)
        self.pens = {}
        look(self.place, "second")
        for kind, words in PENS.items():
            pen = self.pens[kind] = QPushButton(words)
            pen.setCheckable(True)
            pen.setToolTip("Then click from mark to mark; click again to put it down")
            look(pen, "chip")
            pen.clicked.connect(partial(self._take_pen, kind))
        self.best = QPushButton("")
        look(self.best, "second")
        self.best.clicked.connect(self._plan_best)
        self.tools.set_widgets([self.place, *self.pens.values(), self.best])
        self.column.addWidget(self.tools)
        self.empty = PlainLabel(
            "A design says what a network would be worth before anybody drives out. Plan marks by a click on "
            "the plan, draw lines from mark to mark, and see the ellipses, what checks what, and which line "
            "more would bring most."
        )
        self.empty.setWordWrap(True)
        look(self.empty, "faint")
        self.first = QPushButton("New design")
        look(self.first, "main")
        self.first.clicked.connect(self._new)
        self.table = RecordTable(self._columns())
        self.table.setAccessibleName("Planned lines")
        self.table.row_picked.connect(self._on_row)
        self.column.addWidget(self.empty)
        self.column.addWidget(self.first, 0, Qt.AlignmentFlag.AlignLeft)
        self.column.addWidget(self.table, 1)
        self.column.addStretch(0)

    def _columns(self) -> list[Column]:
        def value(row: _Row, field: str) -> float:
            return math.nan if row.figures is None else float(getattr(row.figures, field))

        return [
            Column(
                key="use", title="plan", width=46, box=lambda r: r.on, toggle=self._toggle,
                tip="Click to see what is without it, or to plan it again",
            ),
            Column(key="kind", title="line", text=lambda r: r.kind, width=78, tone=_tone),
            Column(key="at", title="from", text=lambda r: r.at, width=54, whole=True, tone=_bold),
            Column(key="to", title="to", text=lambda r: r.to, width=54, whole=True, tone=_bold),
            Column(
                key="without", title="without it", unit="mm", right=True, width=78,
                value=lambda r: value(r, "without_m"), text=self._without,
                tone=lambda r: "doubt" if self._needed(r) else _tone(r),
                tip="The largest size of any mark if it is left out",
            ),
            Column(
                key="redundancy", title="redun-", unit="dancy", right=True, width=60,
                value=lambda r: value(r, "redundancy"),
                text=lambda r: format_fixed(value(r, "redundancy"), 2),
                tone=lambda r: "doubt" if value(r, "redundancy") < LITTLE else _tone(r),
                tip="The smallest part of an error in it that residuals would show",
            ),
            Column(
                key="external", title="would", unit="move mm", right=True, width=70, tone=_tone,
                value=lambda r: value(r, "would_move_m"), text=lambda r: mm(value(r, "would_move_m")),
                tip="What the smallest error that is found in it would do to its marks",
            ),
            Column(key="finds", title="finds from", text=_finds, right=True, width=122, tone=_tone,
                   tip="The smallest errors in it that would be found"),
            Column(key="done", title="observed", width=70, text=lambda r: "yes" if _done(r) else "",
                   tone=lambda r: "reed", tip="Something of the job was observed along it"),
        ]  # fmt: skip

    def _needed(self, row: _Row) -> bool:
        """Whether the limit does not hold without it."""
        step = self.step
        if row.figures is None or step is None:
            return False
        return not row.figures.without_m <= step.limit_m

    def _without(self, row: _Row) -> str:
        if row.figures is None:
            return ""
        left = row.figures.without_m
        return "undetermined" if math.isnan(left) else mm(left)

    # What is shown

    @property
    def step(self) -> DesignStep | None:
        """The design looked at."""
        return self.looked_at(DesignStep)

    def found(self) -> Designed | FenwindError | None:
        """What it comes to."""
        found: Any = self.came_of(self.step)
        return found

    def count(self) -> int:
        """How many designs there are."""
        return sum(step.active for step in self.bridge.state.of(DesignStep).values())

    def show_job(self) -> None:
        step, found = self.step, self.found()
        self.empty.setVisible(step is None)
        self.first.setVisible(step is None)
        for widget in (self.statement, self.verdict, self.tools, self.table):
            widget.setVisible(step is not None)
        if step is None:
            self.caption.setText("DESIGN")
            return
        self.caption.setText(step.name.upper())
        self.statement.show_parts(self._parts(step))
        self.verdict.setText(self._verdict(step, found))
        self._show_best(found)
        self.table.records.set_rows(self._rows(step, found))

    def _parts(self, step: DesignStep) -> list[Part]:
        frame = self.bridge.state.frames.get(step.frame)
        count = len(step.kind) - len(step.off)
        kinds = [kind for kind in PENS if kind in step.kind] or ["vector"]
        parts = [
            Part(text="Plan "),
            Part(text=f"{step.name}, {counted(count, 'line')}", key="lines"),
            Part(text=f" in {frame.spec.name if frame else '?'}, holding what is given there, "),
            Part(text="no ellipse over "),
            Part(text=f"{mm(step.limit_m)} mm", key="limit"), Part(text=" (95 %)"),
        ]  # fmt: skip
        for kind in kinds:
            parts += [Part(text=f", {MANY[kind]} "), Part(text=_worth(step, kind), key=kind)]
        return [*parts, Part(text=".")]

    def _verdict(self, step: DesignStep, found: Designed | FenwindError | None) -> str:
        if isinstance(found, FenwindError):
            return found.sentences
        if found is None:
            return ""
        key, size = found.worst
        name = self.bridge.seen.mark_name(key)
        lost = f" Nothing would determine {', '.join(found.lost)}." if found.lost else ""
        if not key:
            return f"No mark would move.{lost}"
        what = "95 % of its height" if found.heights else "semi-axis at 95 %"
        within = "within the limit" if size <= step.limit_m else f"over {mm(step.limit_m)} mm"
        weak = [f for f in found.figures.values() if f.redundancy < LITTLE]
        checked = f" {len(weak)} line{' is' if len(weak) == 1 else 's are'} hardly checked." if weak else ""
        done = sum(f.done for f in found.figures.values())
        ticked = f" {done} of {len(found.figures)} are observed." if done else ""
        return f"Worst is {name}, {what} {mm(size)} mm: {within}.{checked}{lost}{ticked}"

    def _show_best(self, found: Designed | FenwindError | None) -> None:
        if not isinstance(found, Designed) or not found.best:
            self.best.hide()
            return
        (line, left), worst = found.best[0], found.worst[1]
        self.best.setVisible(left < worst - 5e-5)
        self.best.setText(f"Plan the {line.kind} {line.at} – {line.to}: {mm(worst)} → {mm(left)} mm")
        others = "; ".join(f"{o.kind} {o.at} – {o.to}: {mm(size)} mm" for o, size in found.best[1:])
        then = f". Then {others}" if others else ""
        self.best.setToolTip(f"Of all lines of these kinds this one more brings most{then}")

    def _rows(self, step: DesignStep, found: Designed | FenwindError | None) -> list[_Row]:
        names, figures = self.bridge.state, found.figures if isinstance(found, Designed) else {}
        return [
            _Row(
                number=i, kind=kind, at=names.mark_name(at), to=names.mark_name(to), on=i not in step.off,
                figures=figures.get(i),
            )
            for i, (kind, at, to) in enumerate(zip(step.kind, step.at, step.to, strict=True))
        ]  # fmt: skip

    # What is done

    def _new(self) -> None:
        made = self.bridge.attempt(lambda: gestures.new_design(self.bridge.state, self.bridge.frame_id))
        if made:
            self.look_at(list(self.bridge.state.of(DesignStep))[-1])
            self.wanted.emit()

    def place_picked(self, e_m: float, n_m: float) -> None:
        step = self.step
        if step is None:
            return
        number = 1
        while self.bridge.state.mark_named(f"D-{number}") is not None:
            number += 1
        near, h = gestures.height_near(step, self._known(), e_m, n_m)
        unit = self.bridge.unit
        said = (
            f", as high as {self.bridge.seen.mark_name(near)} ({format_fixed(h / unit.metres, 2)} {unit.key})"
            if near else ", at height 0 (no mark has a height)"
        )  # fmt: skip
        self.ask.ask(f"Name of the planned mark{said}:", lambda text: self._plan_mark(text, (e_m, n_m, h)),
                     text=f"D-{number}", button="Plan it")  # fmt: skip

    def _plan_mark(self, name: str, at: tuple[float, float, float]) -> bool:
        step = self.step
        return step is not None and self.bridge.attempt(
            lambda: gestures.plan_mark(self.bridge.state, step, name.strip(), at)
        )

    def _known(self) -> list[tuple[str, float, float, float]]:
        step = self.step
        adopted = self.bridge.derived.adopted.get(step.frame) if step is not None else None
        if adopted is None:
            return []
        at = np.stack([adopted.e_m, adopted.n_m, adopted.height_m])
        return [(key, *place) for key, place in zip(adopted.ids, at.T.tolist(), strict=True)]

    def _place_of(self, key: str) -> tuple[float, float, float] | None:
        step = self.step
        adopted = self.bridge.derived.adopted.get(step.frame) if step is not None else None
        row = adopted.place.get(key) if adopted is not None else None
        if adopted is None or row is None:
            return None
        e, n, h = (float(v[row]) for v in (adopted.e_m, adopted.n_m, adopted.height_m))
        if math.isnan(h) and step is not None:
            _, h = gestures.height_near(step, self._known(), e, n)
        return (e, n, h) if math.isfinite(e + n) else None

    def _plan(self, kind: str, names: Sequence[str]) -> bool:
        step = self.step
        return step is not None and self.bridge.attempt(
            lambda: gestures.plan_lines(self.bridge.state, step, kind, names, self._place_of)
        )

    def _take_pen(self, kind: str) -> None:
        self._pen = kind if self.pens[kind].isChecked() else ""
        self._from = ""
        for other, pen in self.pens.items():
            pen.setChecked(other == self._pen)
        if self._pen:
            self.bridge.told.emit("Click from mark to mark on the plan; the pen again puts it down.", "")

    def select(self, name: str) -> None:
        """With a pen in hand, the marks that are clicked are joined: sightings from the first, all else from
        one to the next."""
        if not self._pen or not self.isVisible() or not name:
            return
        start, kind = self._from, self._pen
        if kind != "sighting" or not start:
            self._from = name
        if start and start != name:
            self._plan(kind, (start, name))

    def _plan_best(self) -> None:
        found = self.found()
        if isinstance(found, Designed) and found.best:
            line, _ = found.best[0]
            self._plan(line.kind, (line.at, line.to))

    def _menu_lines(self, menu: QMenu) -> None:
        for step in self.bridge.state.of(DesignStep).values():
            if step.active:
                choice(menu, step.name, partial(self.look_at, step.id), checked=step is self.step)
        menu.addSeparator()
        choice(menu, "New design", self._new)
        for kind in PENS:
            choice(menu, f"Plan {MANY[kind]} …", partial(self._ask_lines, kind))

    def _ask_lines(self, kind: str) -> None:
        self.wanted.emit()
        if self.step is None:
            self._new()
        self.ask.ask(f"{MANY[kind].capitalize()} along which marks?",
                     lambda text: self._plan(kind, text.replace(",", " ").split()),
                     placeholder="T-01 T-05 D-1", button="Plan them")  # fmt: skip

    def _ask_part(self, key: str) -> None:
        step = self.step
        if step is None:
            return
        if key == "limit":
            self.ask.ask("No ellipse over, mm:", partial(self._use, key), text=mm(step.limit_m),
                         button="Use it")  # fmt: skip
        elif key in PENS:
            self.ask.ask(f"{MANY[key].capitalize()} are worth: {_ASKED[key]}", partial(self._use, key),
                         text=", ".join(f"{v:g}" for v in _values(step, key)), button="Use it")  # fmt: skip

    def _use(self, key: str, text: str) -> bool:
        step = self.step
        try:
            values = [parse_number(part) for part in text.split(",")]
            fields = [("limit_m", 1e-3)] if key == "limit" else _FIELDS[key]
            if len(values) != len(fields) or not all(0.0 <= v < 1e5 for v in values) or values[0] <= 0.0:
                raise ParseError(f"{text.strip()!r} will not do", hint=f"Type {len(fields)} numbers above 0")
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        changes = {field: value * unit for (field, unit), value in zip(fields, values, strict=True)}
        return step is not None and self.bridge.do(gestures.change(step, "What lines are worth", **changes))

    def _toggle(self, row: _Row) -> None:
        step = self.step
        if step is not None:
            self.bridge.do(gestures.leave_out(step, [row.number], row.on))

    def _take_out(self) -> None:
        step = self.step
        if step is not None:
            self.bridge.do(gestures.take_out(step, [r.number for r in self.table.selected_rows()]))

    def _copy_list(self) -> None:
        step = self.step
        if step is not None:
            found = self.found()
            figures = found.figures if isinstance(found, Designed) else {}
            done = {i for i, f in figures.items() if f.done}
            QApplication.clipboard().setText(day_list(self.bridge.state, step, done))
            self.bridge.told.emit("The day's list is copied: paste it where you write or print.", "")

    def _on_row(self, row: _Row) -> None:
        if not self._pen:
            self.bridge.select(row.at)

    # What the desk asks

    def focus(self) -> QWidget:
        return self.table

    def plan_step(self) -> Node | None:
        step = self.step
        return design_node(step.id) if step is not None else None

    def overlay(self, scene: Scene) -> None:
        step = self.step
        if step is not None:
            draw_design(scene, step, self.found(), self.bridge)

    def pick(self, names: set[str]) -> bool:
        self.table.pick_all(lambda row: row.at in names or row.to in names)
        return True

    def commands(self) -> Sequence[ActionSpec]:
        def there() -> bool:
            return self.isVisible() and self.step is not None

        menu = self.stage.name
        lines = [
            ActionSpec(id=f"design.{kind}", menu=menu, text=f"Plan {MANY[kind]} …",
                       tip="Along marks that you name", run=partial(self._ask_lines, kind))
            for kind in PENS
        ]  # fmt: skip
        return (
            ActionSpec(id="design.new", menu=menu, text="New design", tip="A network before it is observed",
                       run=self._new),
            *lines,
            ActionSpec(id="design.mark", menu=menu, text="Plan a mark on the plan",
                       tip="Then click its place", run=self.wants_place.emit, enabled=there),
            ActionSpec(id="design.out", menu=menu, text="Take lines out of the plan", tip="Those selected",
                       run=self._take_out,
                       enabled=lambda: there() and bool(self.table.selected_rows())),
            ActionSpec(id="design.list", menu=menu, text="Copy the day's list", tip="Of sessions, setups and "
                       "levelling that are planned", run=self._copy_list, enabled=there),
        )  # fmt: skip


_FIELDS: dict[str, list[tuple[str, float]]] = {
    "vector": [("vector_m", 1e-3), ("vector_part", 1e-6)],
    "sighting": [("direction_s", 1.0), ("zenith_s", 1.0), ("distance_m", 1e-3), ("distance_part", 1e-6),
                 ("centring_m", 1e-3)],
    "levelling": [("levelling_m", 1e-3)],
}  # fmt: skip
_ASKED = {
    "vector": "mm, ppm",
    "sighting": "direction ″, zenith angle ″, distance mm, ppm, centring mm",
    "levelling": "mm on a root of kilometres",
}


def _values(step: DesignStep, kind: str) -> list[float]:
    return [round(getattr(step, field) / unit, 6) for field, unit in _FIELDS[kind]]


def _worth(step: DesignStep, kind: str) -> str:
    """What lines of a kind are worth, in words."""
    v = [f"{value:g}" for value in _values(step, kind)]
    if kind == "vector":
        return f"{v[0]} mm + {v[1]} ppm"
    if kind == "levelling":
        return f"{v[0]} mm on √km"
    return f"{v[0]}″, {v[1]}″, {v[2]} mm + {v[3]} ppm, centred to {v[4]} mm"


def _done(row: _Row) -> bool:
    return row.figures is not None and row.figures.done


def _tone(row: _Row) -> str:
    return "off" if not row.on or row.figures is None else ""


def _bold(row: _Row) -> str:
    return _tone(row) or "bold"


def draw_design(
    scene: Scene, step: DesignStep, found: Designed | FenwindError | None, bridge: JobBridge
) -> None:
    """Planned marks, lines coloured by redundancy, and ellipses on the plan."""
    name_of = bridge.seen.mark_name
    _add_planned(scene, [(name_of(m[0]), m[1], m[2]) for m in step.marks])
    place = {name: i for i, name in enumerate(scene.names)}
    figures = found.figures if isinstance(found, Designed) else {}
    lines = []
    for i, (a, b) in enumerate(zip(step.at, step.to, strict=True)):
        ends = [place.get(name_of(key)) for key in (a, b)]
        if i not in step.off and None not in ends:
            lines.append((*ends, figures[i].redundancy if i in figures else 0.0))
    scene.lines = np.array(lines, dtype=float).reshape(-1, 3).T
    if isinstance(found, Designed) and found.positions is not None and not found.heights:
        rows = {key: place.get(name_of(key)) for key in found.positions.names if key in found.sizes}
        shown = [(key, row) for key, row in rows.items() if row is not None]
        covariance = found.positions.covariance[:2, :2, [found.positions.index[key] for key, _ in shown]]
        scene.vector_rows = scene.ellipse_rows = np.array([row for _, row in shown], dtype=int)
        scene.vector_m = np.zeros((2, len(shown)))
        scene.ellipse = error_ellipses(covariance, plan_reach())


def _add_planned(scene: Scene, marks: Sequence[tuple[str, float, float]]) -> None:
    """Add marks that are planned and have no position yet."""
    have = set(scene.names)
    fresh = [mark for mark in marks if mark[0] not in have]
    k = len(fresh)
    scene.names = (*scene.names, *(name for name, _, _ in fresh))
    scene.e_m = np.concatenate([scene.e_m, np.array([e for _, e, _ in fresh])])
    scene.n_m = np.concatenate([scene.n_m, np.array([n for _, _, n in fresh])])
    scene.symbol = np.concatenate([scene.symbol, np.full(k, RING, dtype=np.int8)])
    scene.off = np.concatenate([scene.off, np.zeros(k, dtype=bool)])
    if scene.labelled.size:
        scene.labelled = np.concatenate([scene.labelled, np.ones(k, dtype=bool)])
