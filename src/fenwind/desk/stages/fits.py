"""Fits: carry measured positions onto known ones, with the evidence beside it."""

from __future__ import annotations

import math
from collections.abc import Callable
from dataclasses import replace
from functools import partial
from typing import Any

from PySide6.QtCore import Qt
from PySide6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QWidget

from fenwind.desk.bridge import JobBridge
from fenwind.desk.cells import Column
from fenwind.desk.shell import PlainLabel, WholeLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.fit_widgets import ModelCard, ParameterStrip
from fenwind.desk.stages.pair_rows import PairRow, pair_rows
from fenwind.desk.stages.sheet import Sheet
from fenwind.desk.statement import choice
from fenwind.desk.table import RecordTable
from fenwind.errors import FenwindError
from fenwind.geodesy.frames import HeightReference, working_frame_spec
from fenwind.job import gestures
from fenwind.job.job import new_id
from fenwind.job.steps.fit import FitOutcome, known_and_measured
from fenwind.procedures.fit import FitResult
from fenwind.procedures.model_choice import ModelTrial
from fenwind.quantities.angles import parse_angle
from fenwind.quantities.numbers import format_fixed, parse_number
from fenwind.records.entries import Add, Gesture
from fenwind.records.records import FitStep, Use
from fenwind.reports.fit_report import mm, parameter_rows, quality_line
from fenwind.reports.statement import HEIGHT_WORDS, PLAN_WORDS, model_words, statement_of_fit


class FitsSheet(Sheet):
    """Statement, models side by side, pairs with residual bars, parameters."""

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self.statement.set_menus(
            {
                "source": self._menu_source,
                "target": self._menu_target,
                "horizontal": self._menu_horizontal,
                "pivot": partial(self._menu_pivot, 0),
                "pivot-towards": partial(self._menu_pivot, 1),
                "height": self._menu_height,
                "geoid": self._menu_geoid,
                "checks": self._menu_checks,
            }
        )
        self.cards = [ModelCard() for _ in range(3)]
        row = QHBoxLayout()
        row.setSpacing(8)
        for card in self.cards:
            card.clicked.connect(partial(self._choose_card, card))
            row.addWidget(card, 1)
        self.column.addLayout(row)
        self.table = RecordTable(self._columns())
        self.table.setAccessibleName("Pairs of the fit")
        self.table.row_picked.connect(lambda r: self.bridge.select(r.mark.name))
        self.column.addWidget(self.table, 1)
        self.strip = ParameterStrip()
        self.column.addWidget(self.strip)
        foot = QWidget()
        line = QHBoxLayout(foot)
        line.setContentsMargins(0, 0, 0, 0)
        self.quality = WholeLabel()
        look(self.quality, "faint")
        self.tolerance = QPushButton("")
        self.tolerance.setToolTip("Residuals and checks over these are doubts: click to change")
        look(self.tolerance, "link")
        self.tolerance.clicked.connect(self._ask_tolerance)
        line.addWidget(self.quality, 1)
        line.addWidget(self.tolerance, 0, Qt.AlignmentFlag.AlignTop)
        self.column.addWidget(foot)
        self.empty = PlainLabel("")
        self.empty.setWordWrap(True)
        self.first = QPushButton("New fit")
        look(self.first, "main")
        self.first.clicked.connect(self.new_fit)
        self.column.addWidget(self.empty)
        self.column.addWidget(self.first, 0, Qt.AlignmentFlag.AlignLeft)
        self.column.addStretch(0)
        self._foot = foot

    # What is shown
    # -----------------------------------------------------------------------------------------------

    def outcome(self) -> FitOutcome | None:
        """Result of the fit looked at."""
        step = self.bridge.fit
        return self.bridge.derived.fits.get(step.id) if step else None

    def _columns(self) -> list[Column]:
        return [*self._columns_of_pairs(), *self._columns_of_figures()]

    def _columns_of_pairs(self) -> list[Column]:
        """What a pair is, and how it takes part."""
        return [
            Column(
                key="plan",
                title="plan",
                box=self._plan_box,
                toggle=self._toggle_plan,
                tone=_faint_when_pivot,
                width=44,
                tip="Held in plan: click to change",
            ),
            Column(
                key="height",
                title="height",
                box=self._height_box,
                toggle=self._toggle_height,
                tone=lambda r: "faint" if not r.has_height else "",
                width=54,
                tip="Held in height: click to change",
            ),
            Column(
                key="mark",
                title="mark",
                whole=True,
                text=lambda r: r.mark.name,
                tone=lambda r: _off(r) or "bold",
                width=58,
            ),
            Column(
                key="role", title="part", text=lambda r: r.role, tone=lambda r: _off(r) or "faint", width=106
            ),
        ]

    def _columns_of_figures(self) -> list[Column]:
        """What came of it."""

        def figure(key: str, title: str, tolerance: Callable[[FitStep], float]) -> Column:
            return Column(
                key=key,
                title=title,
                unit="mm",
                text=lambda r: mm(getattr(r, key), sign=True),
                value=lambda r: getattr(r, key) * 1000.0,
                bar=lambda r: getattr(r, key) / tolerance(self._step()),
                tone=_off,
                right=True,
                width=76,
                tip="Computed - known",
            )

        return [
            figure("de", "ΔE", lambda s: s.tolerance_h_m),
            figure("dn", "ΔN", lambda s: s.tolerance_h_m),
            figure("dh", "ΔH", lambda s: s.tolerance_v_m),
            Column(
                key="loo",
                title="left out",
                unit="mm",
                text=lambda r: mm(r.loo_h),
                value=lambda r: r.loo_h * 1000.0,
                tone=_off,
                right=True,
                width=72,
                tip="Misfit in plan, had the pair taken no part",
            ),
            Column(
                key="redundancy",
                title="redundancy",
                unit="E      N",
                text=_redundancy,
                value=lambda r: r.redundancy[0],
                tone=_off,
                right=True,
                width=92,
                tip="Part of an error in the pair that its residual shows",
            ),
        ]

    def _step(self) -> FitStep:
        step = self.bridge.fit
        assert step is not None
        return step

    def show_job(self) -> None:
        step = self.bridge.fit
        for widget in (self.statement, self.table, self._foot, *self.cards):
            widget.setVisible(step is not None)
        self.empty.setVisible(step is None)
        self.first.setVisible(step is None)
        if step is None:
            self.caption.setText("FITS")
            self.strip.show_cells([])
            self.empty.setText(self.stage.empty)
            return
        fits = list(self.bridge.state.fits)
        self.caption.setText(f"{step.name.upper()}  ·  {fits.index(step.id) + 1} OF {len(fits)}")
        outcome = self.outcome()
        result = outcome.case.result if outcome is not None and outcome.case is not None else None
        rows = pair_rows(self.bridge, step, outcome)
        case = outcome.case if outcome is not None else None
        self.statement.show_parts(statement_of_fit(self.bridge.seen, step, case))
        self.table.records.set_rows(rows)
        self._show_cards(step, result)
        self._show_result(step, outcome, result)

    def _show_cards(self, step: FitStep, result: FitResult | None) -> None:
        trials = {t.model: t for t in result.models} if result is not None else {}
        for card, model in zip(self.cards, ("shift", "turn", "scale"), strict=True):
            card.setVisible(step.horizontal != "pivot")
            card.setEnabled(model in trials)
            title = PLAN_WORDS[model].capitalize() if model != "scale" else "With scale"
            if model not in trials:
                card.show_model(model, title, "", "faint", "needs more pairs", False)
                continue
            tag, tone = _judged(trials, model)
            chosen = result is not None and result.model == model
            card.show_model(model, title, tag, tone, _trial_words(trials[model]), chosen)

    def _show_result(self, step: FitStep, outcome: FitOutcome | None, result: FitResult | None) -> None:
        if result is None:
            self.strip.show_cells([])
            error = outcome.error if outcome is not None else None
            self.quality.setText(error.sentences if error is not None else "")
        else:
            cells = [
                (a, b, f"± {c}" if c[:1].isdigit() else c)
                for a, b, c in parameter_rows(result, self.bridge.unit, self.bridge.angle_style)
            ]
            self.strip.show_cells(
                [(a.replace(", clockwise", ""), b, c.replace(" at the centre", "")) for a, b, c in cells]
            )
            self.quality.setText(quality_line(result))
        self.tolerance.setText(
            f"tolerance {mm(step.tolerance_h_m, decimals=0)} and {mm(step.tolerance_v_m, decimals=0)} mm"
        )

    # What can be done
    # --------------------------------------------------------------------------------------------

    def _plan_box(self, row: PairRow) -> Any:
        if self._step().horizontal == "pivot":
            return True if row.pivot else "dashed"
        return True if row.use in ("both", "horizontal") else "dashed" if row.use == "check" else False

    def _height_box(self, row: PairRow) -> Any:
        if not row.has_height:
            return False
        return True if row.use in ("both", "height") else "dashed" if row.use == "check" else False

    def _toggle_plan(self, row: PairRow) -> None:
        if not row.pivot:
            self._toggle(
                row,
                {
                    "both": "height",
                    "horizontal": "check",
                    "height": "both",
                    "check": "horizontal",
                    "off": "horizontal",
                },
            )

    def _toggle_height(self, row: PairRow) -> None:
        if row.has_height:
            self._toggle(
                row,
                {
                    "both": "horizontal",
                    "horizontal": "both",
                    "height": "check",
                    "check": "height",
                    "off": "height",
                },
            )

    def _toggle(self, row: PairRow, following: dict[str, Use]) -> None:
        use = following[row.use]
        if not row.has_height:
            use = {"height": "check", "both": "both"}.get(use, use)  # type: ignore[assignment]
        self.bridge.do(gestures.set_use(self.bridge.state, self._step(), [row.mark], use))

    def set_use(self, use: Use) -> None:
        """Set the use of all selected pairs."""
        rows = self.table.selected_rows()
        if rows:
            self.bridge.do(gestures.set_use(self.bridge.state, self._step(), [r.mark for r in rows], use))

    def _choose_card(self, card: ModelCard) -> None:
        self._change(f"Fit by {PLAN_WORDS[card.model]}", horizontal=card.model)

    def _change(self, what: str, **changes: Any) -> bool:
        return self.bridge.do(gestures.change_step(self._step(), what, **changes))

    def new_fit(self) -> None:
        """Make a fit from the frames at hand: measured positions in a frame with a datum, onto given ones in
        another."""
        state = self.bridge.state
        with_given = [f for f in state.frames if any(g.frame == f for g in state.given.values())]
        plane = [f for f in state.frames if any(m.frame == f for m in state.measured.values())]
        sources = plane + [f for f, r in state.frames.items() if r.spec.crs]
        if not with_given or not sources:
            missing = (
                "known positions" if not with_given else "a frame the measured positions can be worked in"
            )
            self.bridge.told.emit(f"A fit needs {missing}. Paste a list in Marks first.", "doubt")
            self.bridge.stage_requested.emit("Marks")
            return
        target = self.bridge.frame_id if self.bridge.frame_id in with_given else with_given[0]
        source = next((f for f in sources if f != target), sources[0])
        step = FitStep(
            id=new_id(), name=f"Fit {len(state.fits) + 1}", source_frame=source, target_frame=target
        )
        pairs = known_and_measured(state, step)
        heights = {g.mark for g in state.given.values() if g.frame == target and g.height_m is not None}
        if pairs and not any(state.marks[key].name in pairs for key in heights if key in state.marks):
            step = replace(step, height="none")  # control that is known in plan only
        self.bridge.fit_id = step.id
        self.bridge.do(Gesture(f"New {step.name}", (Add(record=step),)))

    def next_fit(self) -> None:
        """Look at the next fit."""
        fits = list(self.bridge.state.fits)
        step = self.bridge.fit
        if step is not None and len(fits) > 1:
            self.bridge.fit_id = fits[(fits.index(step.id) + 1) % len(fits)]
            self.bridge.changed.emit()

    # Menus of the statement
    # --------------------------------------------------------------------------------------

    def _menu_source(self, menu: QMenu) -> None:
        step, state = self._step(), self.bridge.state
        sessions = sorted({m.session for m in state.measured.values() if m.session})
        choice(
            menu,
            "all measured positions",
            lambda: self._change("Fit all measured positions", sessions=()),
            checked=not step.sessions,
        )
        for name in sessions:
            choice(
                menu,
                name,
                partial(self._change, f"Fit {name}", sessions=(name,)),
                checked=step.sessions == (name,),
            )
        menu.addSeparator()
        for key, record in state.frames.items():
            if key != step.target_frame:
                text = f"worked in {record.spec.name}"
                choice(
                    menu,
                    text,
                    partial(self._change, f"Work in {record.spec.name}", source_frame=key),
                    checked=key == step.source_frame,
                )
        choice(menu, "worked in another system, by its code …", self._ask_source_frame)

    def _ask_source_frame(self) -> None:
        def answer(text: str) -> bool:
            try:
                spec = working_frame_spec(text)
            except FenwindError as error:
                self.bridge.tell_error(error)
                return False
            key, (what, entries) = gestures.add_frame(spec)
            _, change = gestures.change_step(self._step(), "", source_frame=key)
            return self.bridge.do(Gesture(what, (*entries, *change)))

        self.ask.ask("Work in", answer, placeholder="EPSG:25832, WKT or a PROJ string", button="Use it")

    def _menu_target(self, menu: QMenu) -> None:
        step, state = self._step(), self.bridge.state
        for key, record in state.frames.items():
            count = sum(g.frame == key and g.active for g in state.given.values())
            change = partial(self._change, f"Carry onto {record.spec.name}", target_frame=key)
            choice(menu, f"{record.spec.name}, {count} known", change, checked=key == step.target_frame)

    def _menu_horizontal(self, menu: QMenu) -> None:
        step = self._step()
        for key, words in PLAN_WORDS.items():
            choice(menu, words, partial(self._choose_horizontal, key), checked=key == step.horizontal)
        menu.addSeparator()
        choice(menu, "hold the turn at …", self._ask_rotation, checked=step.rotation_rad is not None)
        choice(menu, "hold the scale at …", self._ask_scale, checked=step.scale is not None)

    def _choose_horizontal(self, key: str) -> None:
        step = self._step()
        pivot = step.pivot
        if key == "pivot" and pivot is None:
            marks = [r.mark.id for r in self.table.records.rows]
            if len(marks) < 2:
                self.bridge.told.emit("A pivot needs two pairs.", "doubt")
                return
            pivot = (marks[0], marks[1])
        self._change(f"Fit by {PLAN_WORDS[key]}", horizontal=key, pivot=pivot)

    def _menu_pivot(self, place: int, menu: QMenu) -> None:
        step = self._step()
        pair = step.pivot or ("", "")
        for row in self.table.records.rows:
            chosen = (row.mark.id, pair[1]) if place == 0 else (pair[0], row.mark.id)
            if chosen[0] != chosen[1]:
                choice(
                    menu,
                    row.mark.name,
                    partial(self._change, f"Pivot on {row.mark.name}", pivot=chosen),
                    checked=pair[place] == row.mark.id,
                )

    def _menu_height(self, menu: QMenu) -> None:
        for key, words in HEIGHT_WORDS.items():
            choice(
                menu,
                words,
                partial(self._change, f"Heights by {words}", height=key),
                checked=key == self._step().height,
            )

    def _menu_geoid(self, menu: QMenu) -> None:
        record = self.bridge.state.frames[self._step().source_frame]
        kind = record.spec.height.kind
        plain = partial(gestures.change_frame, record, "Heights over the ellipsoid", height=HeightReference())
        choice(menu, "the ellipsoid", lambda: self.bridge.do(plain()), checked=kind != "geoid")
        if kind == "geoid":
            choice(menu, f"{record.spec.height.name or record.spec.height.grid}", lambda: None, checked=True)
        choice(menu, "a geoid grid file …", self._ask_geoid)

    def _ask_geoid(self) -> None:
        record = self.bridge.state.frames[self._step().source_frame]

        def answer(text: str) -> bool:
            from fenwind.geodesy.geoid import GeoidGrid

            try:
                grid = GeoidGrid(text.strip())
            except FenwindError as error:
                self.bridge.tell_error(error)
                return False
            height = HeightReference(kind="geoid", grid=str(grid.path), name=grid.path.stem)
            return self.bridge.do(
                gestures.change_frame(record, f"Heights over {grid.path.stem}", height=height)
            )

        self.ask.ask("Geoid grid", answer, placeholder="path of a GTX or GeoTIFF file", button="Use it")

    def _menu_checks(self, menu: QMenu) -> None:
        for row in self.table.records.rows:
            is_check = row.use == "check"
            use: Use = "both" if is_check else "check"
            act = partial(gestures.set_use, self.bridge.state, self._step(), [row.mark], use)
            choice(menu, row.mark.name, partial(self.bridge.attempt, act), checked=is_check)

    def _ask_rotation(self) -> None:
        def answer(text: str) -> bool:
            if not text.strip():
                return self._change("Let the turn free", rotation_rad=None)
            try:
                return self._change(
                    f"Hold the turn at {text.strip()}",
                    rotation_rad=parse_angle(text, self.bridge.angle_style),
                )
            except FenwindError as error:
                self.bridge.tell_error(error)
                return False

        self.ask.ask(
            "Turn, clockwise",
            answer,
            placeholder="11 53 47.6, or 13.218 gon; empty lets it free",
            button="Hold it",
        )

    def _ask_scale(self) -> None:
        def answer(text: str) -> bool:
            if not text.strip():
                return self._change("Let the scale free", scale=None)
            try:
                return self._change(f"Hold the scale at {text.strip()}", scale=parse_number(text))
            except FenwindError as error:
                self.bridge.tell_error(error)
                return False

        self.ask.ask("Scale", answer, placeholder="1.000012; empty lets it free", button="Hold it")

    def _ask_tolerance(self) -> None:
        step = self._step()

        def use(plan_m: float, height_m: float) -> bool:
            return self._change("Set tolerances", tolerance_h_m=plan_m, tolerance_v_m=height_m)

        text = f"{step.tolerance_h_m * 1000:g} {step.tolerance_v_m * 1000:g}"
        self.ask_tolerances("Tolerance in plan and height, mm", text, use)


def _faint_when_pivot(row: PairRow) -> str:
    return "faint" if row.pivot else ""


def _off(row: PairRow) -> str:
    """Grey for a pair that is switched off."""
    return "off" if row.use == "off" else ""


def _judged(trials: dict[str, ModelTrial], model: str) -> tuple[str, str]:
    """What the comparison says of a model, in a word or two, and its tone."""
    trial = trials[model]
    if trial.recommended:
        return model_words(list(trials.values())), "reed" if trial.fits else "flare"
    recommended = next((t for t in trials.values() if t.recommended), trial)
    order = list(trials)
    if order.index(model) > order.index(recommended.model):
        return ("adds nothing" if trial.p_value is not None else "cannot be tested"), "faint"
    return "rejected", "faint"


def _trial_words(trial: ModelTrial) -> str:
    """What is left over by a model, and what speaks for it."""
    words = _left_over(trial.rms_m)
    if trial.model == "scale":
        words += f" · {format_fixed((trial.scale - 1) * 1e6, 1, sign=True)} ppm"
    if trial.p_value is not None and trial.p_value >= 1e-4:
        return f"{words} · p = {trial.p_value:.2f}"
    if (trial.recommended or trial.model != "scale") and trial.rms_m < 1.0:
        words += f" · {trial.dof} degrees of freedom"
    return words


def _left_over(rms_m: float) -> str:
    return f"{mm(rms_m)} mm" if rms_m < 1.0 else f"{format_fixed(rms_m, 1)} m left over"


def _redundancy(row: PairRow) -> str:
    return "   ".join(format_fixed(v, 2) for v in row.redundancy if math.isfinite(v))
