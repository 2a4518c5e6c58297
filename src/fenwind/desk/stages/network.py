"""The Network stage: observations in one adjustment, said in a sentence, each with its residual, test,
redundancy and the error it would show."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import Any

import numpy as np
from PySide6.QtCore import Qt, Signal
from PySide6.QtWidgets import QFileDialog, QHBoxLayout, QMenu, QPushButton, QWidget

from fenwind.desk.actions import ActionSpec
from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column
from fenwind.desk.shell import PlainLabel, WholeLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.network_options import NetworkOptions, TestBars, option_parts
from fenwind.desk.stages.sheet import RecordSheet
from fenwind.desk.statement import choice
from fenwind.desk.table import RecordTable
from fenwind.desk.trial import Trial
from fenwind.errors import FenwindError, ParseError
from fenwind.estimation.distributions import normal_quantile
from fenwind.exchange.landxml_survey import read_observations
from fenwind.exchange.network_csv import observation_set
from fenwind.geodesy.frames import height_words
from fenwind.job.derive import Derived
from fenwind.job.network_gestures import (
    adjust_everything,
    change,
    hold,
    set_off,
    take_observations,
    weigh_down,
)
from fenwind.job.state import JobState
from fenwind.job.steps.network import Adjusted
from fenwind.job.steps.outcome import Node
from fenwind.procedures.accuracy_classes import between
from fenwind.procedures.network_robust import STANDS_OUT
from fenwind.quantities.angles import RAD_PER_SECOND
from fenwind.quantities.numbers import counted, format_fixed, parse_number
from fenwind.records.entries import Gesture, amend
from fenwind.records.network import EVERYTHING, NetworkStep, ObservationSet, RowKey
from fenwind.records.sessions import BaseSetup
from fenwind.reports.fit_report import mm
from fenwind.reports.network_words import between_words, missing_words, opinion_words, weighing_words
from fenwind.reports.statement import Part
from fenwind.reports.trail import Link

ANGLES = ("direction", "angle", "azimuth", "zenith")
DIMENSIONS = {1: "in height", 2: "in plan", 3: "in three dimensions"}
#: Redundancy under which an observation is hardly checked (common practice, no source).
LITTLE = 0.1


@dataclass(slots=True, kw_only=True, eq=False)
class _Row:
    """One observation of the set: its number there, and of its worst component residual, w, redundancy,
    smallest error found, what that would do; what a second opinion leaves of its weight; nan without.
    factor: what its sigma is enlarged by."""

    number: int
    key: RowKey
    kind: str
    at: str
    to: str
    on: bool
    lost: bool
    residual: float
    w: float
    redundancy: float
    mdb: float
    external_m: float
    keeps: float
    factor: float

    @property
    def angle(self) -> bool:
        """Whether it is shown in seconds."""
        return self.kind in ANGLES


class NetworkSheet(RecordSheet):
    """See the module."""

    kind = "network"

    wanted = Signal()

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self._trial = Trial(bridge, self.trail_changed.emit)
        self.options = NetworkOptions(bridge, self.ask, lambda step: self._observations(step, self.found()))
        self.statement.set_menus(
            {
                "rows": self._menu_rows, "hold": self._menu_hold, "slope": self._menu_slope,
                "weights": self.options.menu_weights, "biases": self.options.menu_biases,
                "robust": self.options.menu_robust,
            }
        )  # fmt: skip
        self.statement.part_clicked.connect(self._ask_part)
        self.verdict, self.bars = WholeLabel(""), TestBars()
        line = QHBoxLayout()
        line.addWidget(self.verdict, 1)
        line.addWidget(self.bars, 0, Qt.AlignmentFlag.AlignTop)
        self.column.addLayout(line)
        self.empty = PlainLabel("")
        self.empty.setWordWrap(True)
        look(self.empty, "faint")
        self.first = QPushButton("Take in observations …")
        look(self.first, "main")
        self.first.clicked.connect(self._choose_file)
        self.table = RecordTable(self._columns())
        self.table.setAccessibleName("Observations of the network")
        self.table.row_picked.connect(self._on_row)
        # A click makes a row current before it is selected, and the trail is that of the selected one.
        self.table.selectionModel().selectionChanged.connect(lambda *_: self.trail_changed.emit())
        self.column.addWidget(self.empty)
        self.column.addWidget(self.first, 0, Qt.AlignmentFlag.AlignLeft)
        self.column.addWidget(self.table, 1)
        self.column.addStretch(0)

    def _columns(self) -> list[Column]:
        def figure(key: str, title: str, get: Callable[[_Row], float], width: int, tip: str) -> Column:
            def text(r: _Row) -> str:
                value = get(r)
                if math.isnan(value):
                    return ""
                if r.angle:
                    return f"{format_fixed(value / RAD_PER_SECOND, 1, sign=key == 'residual')}″"
                return f"{mm(value, sign=key == 'residual')} mm"

            return Column(
                key=key, title=title, text=text, value=get, tone=_tone, right=True, width=width, tip=tip
            )

        limit = normal_quantile(1.0 - 0.5 * 0.001)
        return [
            Column(
                key="use", title="use", width=44, box=lambda r: r.on, toggle=self._toggle,
                tip="Click to leave it out, or to take it in again",
            ),
            Column(key="kind", title="kind", text=_kind_words, width=112, tone=_tone, whole=True),
            Column(key="at", title="at", text=lambda r: r.at, width=60, tone=_bold, whole=True),
            Column(key="to", title="to", text=lambda r: r.to, width=60, tone=_bold, whole=True),
            figure("residual", "left over", lambda r: r.residual, 84, "Adjusted - observed"),
            Column(
                key="w", title="w", right=True, width=62, value=lambda r: abs(r.w),
                text=lambda r: format_fixed(r.w, 2, sign=True), bar=lambda r: r.w / limit,
                tone=lambda r: "doubt" if abs(r.w) > limit else _tone(r), tip="Residual over its sigma",
            ),
            Column(
                key="redundancy", title="redun-", unit="dancy", right=True, width=64,
                value=lambda r: r.redundancy, text=lambda r: format_fixed(r.redundancy, 2),
                tone=lambda r: "doubt" if r.redundancy < LITTLE else _tone(r),
                tip="Part of an error in it that its residual shows",
            ),
            figure("mdb", "finds from", lambda r: r.mdb, 88, "The smallest error in it that would be found"),
            Column(
                key="external", title="would move", unit="mm", right=True, width=84,
                value=lambda r: r.external_m, text=lambda r: mm(r.external_m), tone=_tone,
                tip="What such an error would do to its marks",
            ),
            *self._opinion_columns(),
        ]  # fmt: skip

    def _opinion_columns(self) -> list[Column]:
        """What a second opinion says of each."""
        step = self.step
        if step is None or not step.robust:
            return []
        return [
            Column(
                key="keeps", title="keeps of", unit="its weight", right=True, width=76,
                value=lambda r: r.keeps, text=lambda r: f"{format_fixed(100.0 * r.keeps, 0)} %"
                if r.keeps == r.keeps else "",
                tone=lambda r: "doubt" if r.keeps < STANDS_OUT else _tone(r),
                tip="When none may pull the others: under half, it stands out",
            )
        ]  # fmt: skip

    # What is shown

    @property
    def step(self) -> NetworkStep | None:
        """The network looked at."""
        return self.looked_at(NetworkStep)

    def found(self) -> Adjusted | FenwindError | None:
        """What came of it."""
        found: Any = self.came_of(self.step)
        return found

    def show_job(self) -> None:
        step, found = self.step, self.found()
        self.empty.setVisible(step is None)
        self.first.setVisible(step is None)
        for widget in (self.statement, self.verdict, self.table, self.bars):
            widget.setVisible(step is not None)
        self.options.step = step
        if step is None:
            self.caption.setText("NETWORK")
            self.empty.setText(self.stage.empty)
            return
        self.caption.setText(step.name.upper())
        self.statement.show_parts(self._parts(step, found))
        said = missing_words(found) if isinstance(found, Adjusted) else ""
        self.verdict.setText(f"{_verdict(step, found)} {said}".rstrip())
        self.table.records.set_columns(self._columns())
        self.table.records.set_rows(self._rows(step, found))
        self.bars.show_tests(found.figures.tests() if isinstance(found, Adjusted) else np.zeros(0))

    def _parts(self, step: NetworkStep, found: Adjusted | FenwindError | None) -> list[Part]:
        state = self.bridge.state
        one = self._observations(step, found)
        frame = state.frames.get(step.frame)
        count = 0 if one is None else sum(one.key(i) not in step.off for i in range(len(one.kind)))
        many = counted(count, "observation")
        what = f"{one.name}, {many}" if one is not None else "observations that are gone"
        parts = [Part(text="Adjust "), Part(text=what, key="rows")]
        if isinstance(found, Adjusted):
            parts.append(Part(text=f" {DIMENSIONS[found.result.net.dimensions]}"))
        parts += [
            Part(text=f" in {frame.spec.name if frame else '?'}, "),
            Part(text=_datum_words(state, step), key="hold"),
        ]
        if not (isinstance(found, Adjusted) and found.result.net.plane):  # a plane's plumb lines are parallel
            parts += [Part(text=", plumb lines "), Part(text=_slope_words(state, step), key="slope")]
        parts += [Part(text=", refraction "), Part(text=f"{step.k:g}", key="k")]
        return [*parts, *option_parts(step), Part(text=".")]

    def _rows(self, step: NetworkStep, found: Adjusted | FenwindError | None) -> list[_Row]:
        state = self.bridge.seen
        one = self._observations(step, found)
        if one is None:
            return []
        bases = {key: base.name for key, base in state.of(BaseSetup).items()}
        off, down, nan, out = set(step.off), dict(step.down), math.nan, []
        adjusted = found if isinstance(found, Adjusted) else None
        figures = adjusted.figures.worst(len(adjusted.result.net.rows)).T.tolist() if adjusted else []
        opinion = adjusted.opinion if adjusted is not None else None
        named = {key: state.mark_name(key, bases.get(key, "?")) for key in {*one.at, *one.to}}
        for i, kind in enumerate(one.kind):
            number, key = adjusted.rows[i] if adjusted is not None else -1, one.key(i)
            residual, redundancy, w, mdb, external = figures[number] if number >= 0 else [nan] * 5
            keeps = float(opinion.weights[number]) if opinion is not None and number >= 0 else nan
            out.append(
                _Row(
                    number=i, kind=kind, at=named[one.at[i]], to=named[one.to[i]], key=key,
                    on=key not in off, lost=number < 0, residual=residual, w=w, redundancy=redundancy,
                    mdb=mdb, external_m=external, keeps=keeps, factor=down.get(key, 1.0),
                )
            )  # fmt: skip
        return out

    # What is done

    def take(self, path: str) -> bool:
        """Take in the observations of a file."""

        def make() -> Gesture:
            rows = read_observations(path, units=self.bridge.list_units)
            name = path.rsplit("/", 1)[-1].rsplit(".", 1)[0]
            return take_observations(
                self.bridge.state, observation_set(rows, name, path), self.bridge.frame_id
            )

        return self.take_in(NetworkStep, make)

    def _take_in(self) -> None:
        self.wanted.emit()
        self._choose_file()

    def _choose_file(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self,
            "Observations of a network",
            self.bridge.folder,
            "Observations (*.csv *.txt *.xml);;All files (*)",
        )
        if path:
            self.take(path)

    def _menu_rows(self, menu: QMenu) -> None:
        for step in self.bridge.state.of(NetworkStep).values():
            if step.active:
                choice(menu, step.name, partial(self.look_at, step.id), checked=step is self.step)
        menu.addSeparator()
        choice(menu, "Take in observations …", self._choose_file)
        choice(menu, "Adjust everything observed", self._adjust_everything)

    def _adjust_everything(self) -> None:
        self.wanted.emit()
        bridge = self.bridge
        if bridge.attempt(lambda: adjust_everything(bridge.state, bridge.frame_id)):
            self.look_at(list(bridge.state.of(NetworkStep))[-1])

    def _observations(
        self, step: NetworkStep, found: Adjusted | FenwindError | None
    ) -> ObservationSet | None:
        """What it adjusts; of everything, what came of it knows."""
        if step.observations == EVERYTHING:
            return found.observations if isinstance(found, Adjusted) else None
        return self.bridge.state.of(ObservationSet).get(step.observations)

    def _given(self, step: NetworkStep) -> dict[str, str]:
        """Names by id of the marks that are given in its frame and observed."""
        state = self.bridge.state
        one = self._observations(step, self.found())
        seen = set() if one is None else {*one.at, *one.to, *one.back}
        given = {g.mark for g in state.given.values() if g.active and g.frame == step.frame}
        return {key: state.marks[key].name for key in state.marks if key in given & seen}

    def _menu_hold(self, menu: QMenu) -> None:
        step = self.step
        if step is None:
            return
        given = self._given(step)
        do = self.bridge.do
        choice(menu, f"holding all that is known ({len(given)})", lambda: do(hold(step, "hold")),
               checked=step.datum == "hold" and not step.hold)  # fmt: skip
        choice(menu, "what is known as weights", lambda: do(hold(step, "weighted")),
               checked=step.datum == "weighted")  # fmt: skip
        choice(
            menu, "free, lying on what is known", lambda: do(hold(step, "free")), checked=step.datum == "free"
        )
        menu.addSeparator()
        now = set(step.hold) if step.hold else set(given)
        for key, name in list(given.items())[:40]:
            fresh = tuple(k for k in given if (k in now) != (k == key))
            choice(menu, name, partial(self._hold_some, fresh), checked=step.datum == "hold" and key in now,
                   tip="Held, or not")  # fmt: skip

    def _hold_some(self, keys: tuple[str, ...]) -> None:
        step = self.step
        if step is not None and keys:
            self.bridge.do(hold(step, "hold", keys))

    def _menu_slope(self, menu: QMenu) -> None:
        step = self.step
        if step is None:
            return
        for slope, words in ((True, "of the frame's geoid"), (False, "taken as normals of the ellipsoid")):
            choice(
                menu, words, partial(self._change, "Plumb lines", slope=slope), checked=step.slope == slope
            )

    def _change(self, what: str, **changes: object) -> bool:
        step = self.step
        return step is not None and self.bridge.do(change(step, what, **changes))

    def _ask_part(self, key: str) -> None:
        step = self.step
        if key == "centring":
            self.options.ask_centring()
        elif step is not None:
            self.ask.ask("Coefficient of refraction:", self._use_k, text=f"{step.k:g}", button="Use it")

    def _use_k(self, text: str) -> bool:
        try:
            value = parse_number(text)
            if not -5.0 < value < 5.0:
                raise ParseError(f"{text} is no coefficient of refraction", hint="Common is 0.13")
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        return self._change("Refraction", k=value)

    def _toggle(self, row: _Row) -> None:
        step = self.step
        if step is not None:
            self.bridge.do(set_off(step, [row.key], row.on))

    def _switch(self, off: bool) -> None:
        step = self.step
        if step is not None:
            self.bridge.do(set_off(step, [r.key for r in self.table.selected_rows()], off))

    def _ask_down(self) -> None:
        rows = self.table.selected_rows()
        if rows:
            self.ask.ask("Enlarge their sigmas by:", self._weigh_down, text=f"{rows[0].factor:g}",
                         placeholder="2", button="Weigh down")  # fmt: skip

    def _weigh_down(self, text: str) -> bool:
        step = self.step
        try:
            factor = parse_number(text)
            if not 1.0 <= factor <= 1e6:
                raise ParseError(f"{text.strip()} is no factor", hint="Type 1 for its own weight, or more")
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        keys = [r.key for r in self.table.selected_rows()]
        return step is not None and self.bridge.do(weigh_down(step, keys, factor))

    def _ask_between(self) -> None:
        self.wanted.emit()
        self.ask.ask("How well are which two marks known to each other?", self._tell_between,
                     placeholder="T-01 T-05", button="Tell it")  # fmt: skip

    def _tell_between(self, text: str) -> bool:
        found, names = self.found(), text.replace(",", " ").split()
        if not isinstance(found, Adjusted) or len(names) != 2 or names[0] == names[1] or (
            not set(names) <= set(found.result.marks.index)
        ):  # fmt: skip
            self.bridge.told.emit("Type the names of two marks of the network.", "doubt")
            return False
        a, b = names
        self.bridge.told.emit(between_words(a, b, between(found.result, a, b), self.bridge.unit), "")
        return True

    def _on_row(self, row: _Row) -> None:
        self.bridge.select(row.at)
        self.trail_changed.emit()

    # What the desk asks

    def focus(self) -> QWidget:
        return self.table

    def plan_step(self) -> Node | None:
        return self.node_of(self.step)

    def pick(self, names: set[str]) -> bool:
        self.table.pick_all(lambda row: row.at in names or row.to in names)
        return True

    def trail(self) -> tuple[str, Sequence[Link]] | None:
        rows, found, step = self.table.selected_rows(), self.found(), self.step
        if (
            len(rows) != 1
            or step is None
            or not isinstance(found, Adjusted)
            or not rows[0].on
            or rows[0].lost
        ):
            return None
        entries = (amend(step, off=(*step.off, rows[0].key)),)
        without = self._trial.result((step.id, rows[0].key), entries)
        if without is None:
            return None
        heading = f"WITHOUT THE {rows[0].kind.replace('_', ' ').upper()} {rows[0].at} – {rows[0].to}"
        return heading, _without(found, without, step)

    def commands(self) -> Sequence[ActionSpec]:
        def some() -> bool:
            return self.isVisible() and bool(self.table.selected_rows())

        menu = self.stage.name
        return (
            ActionSpec(
                id="network.take", menu=menu, text="Take in observations …", tip="From a list of a network",
                run=self._take_in,
            ),
            ActionSpec(
                id="network.everything", menu=menu, text="Adjust everything observed",
                tip="Vectors, setups, levelling, traverses and lists of the job in one solution",
                run=self._adjust_everything,
            ),
            ActionSpec(
                id="network.off", menu=menu, text="Leave observations out", tip="They are kept and take "
                    "no part",
                run=partial(self._switch, True), enabled=some,
            ),
            ActionSpec(
                id="network.on", menu=menu, text="Use observations again", tip="They take part",
                run=partial(self._switch, False), enabled=some,
            ),
            ActionSpec(
                id="network.down", menu=menu, text="Weigh observations down …",
                tip="Their sigmas are enlarged", run=self._ask_down, enabled=some,
            ),
            ActionSpec(
                id="network.between", menu=menu, text="Accuracy between two marks …",
                tip="Relative ellipse, and the class it keeps", run=self._ask_between,
                enabled=lambda: isinstance(self.found(), Adjusted),
            ),
        )  # fmt: skip


def _tone(row: _Row) -> str:
    return "off" if not row.on or row.lost else ""


def _kind_words(row: _Row) -> str:
    times = f" ÷ {row.factor:g}" if row.factor != 1.0 else ""
    return f"{row.kind.replace('_', ' ')}{times}"


def _bold(row: _Row) -> str:
    return _tone(row) or "bold"


def _datum_words(state: JobState, step: NetworkStep) -> str:
    if step.datum == "free":
        return "free, lying on what is known"
    if step.datum == "weighted":
        return "what is known as weights"
    if not step.hold:
        return "holding all that is known"
    names = [state.marks[key].name for key in step.hold if key in state.marks]
    return f"holding {', '.join(names[:4])}{' and more' if len(names) > 4 else ''}"


def _slope_words(state: JobState, step: NetworkStep) -> str:
    frame = state.frames.get(step.frame)
    if not step.slope or frame is None:
        return "as normals of the ellipsoid"
    return f"of {height_words(frame.spec.height)}"


def _verdict(step: NetworkStep, found: Adjusted | FenwindError | None) -> str:
    if isinstance(found, FenwindError):
        return found.sentences
    if found is None or found.result.found is None:
        return "Nothing is determined yet."
    dof = found.result.found.dof
    if found.variance_factor is None or found.p_value is None:
        return "Nothing is left over: no observation is checked by another."
    passed = (
        "the sigmas stated hold" if found.p_value >= step.alpha else "larger than the sigmas stated allow"
    )
    lost = f" Not determined: {', '.join(found.result.lost)}." if found.result.lost else ""
    return (
        f"{dof} left over; variance factor {format_fixed(found.variance_factor, 2)}, probability "
        f"{format_fixed(found.p_value, 3)}: {passed}. Tests at {step.alpha:g}, power {step.power:g}.{lost} "
        + weighing_words(found)
        + opinion_words(found)
    ).rstrip()


def _without(found: Adjusted, without: Derived, step: NetworkStep) -> list[Link]:
    """What would be without an observation: the test of the whole, and what would move most."""
    other = without.of_kind("network").get(step.id)
    if not isinstance(other, Adjusted) or other.variance_factor is None:
        said = f"{other}" if isinstance(other, FenwindError) else "nothing would be left over"
        return [Link(kind="other", title="It cannot be done without", note=said, values=())]
    a, b = found.positions, other.positions
    links = [
        Link(
            kind="other", title="Variance factor",
            note=f"with it {format_fixed(found.variance_factor or math.nan, 2)}",
            values=(format_fixed(other.variance_factor, 2),),
        )
    ]  # fmt: skip
    ways = []
    for key, i in a.index.items():
        j = b.index.get(key)
        if j is not None:
            way = (b.e_m[j] - a.e_m[i], b.n_m[j] - a.n_m[i], b.height_m[j] - a.height_m[i])
            ways.append((float(np.nan_to_num(np.abs(way)).max()), key, way))
    names = {key: name for name, key in found.ids.items()}
    for size, key, way in sorted(ways, reverse=True)[:4]:
        if size > 5e-6:
            text = "   ".join(f"{mm(float(v), sign=True, decimals=2)}" for v in way if v == v)
            links.append(
                Link(
                    kind="other",
                    title=f"{names.get(key, key)} would move",
                    note="ΔE, ΔN, ΔH in mm",
                    values=(text,),
                )
            )
    return links
