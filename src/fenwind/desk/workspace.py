"""Fills the shell with a job: stages, plan, trail, doubts, commands. Imported after the shell has been
painted."""

from __future__ import annotations

import os
from datetime import datetime
from functools import partial

from PySide6.QtCore import QObject, QPoint, QTimer
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QApplication, QFileDialog, QMenu, QStackedLayout, QWidget

from fenwind.desk.actions import ActionSet
from fenwind.desk.bridge import JobBridge, Results, Thinker
from fenwind.desk.doubts_bar import DoubtsBar, stage_of
from fenwind.desk.finder import Finder, Found
from fenwind.desk.message_line import MessageLine
from fenwind.desk.plan_commands import PlanCommands
from fenwind.desk.plan_pane import PlanPane
from fenwind.desk.rail import STAGES
from fenwind.desk.scene import add_coverage, add_differences, build_scene
from fenwind.desk.shell import Shell
from fenwind.desk.stages.comparing import ComparingSheet
from fenwind.desk.stages.fits import FitsSheet
from fenwind.desk.stages.frame import FrameSheet
from fenwind.desk.stages.handover import HandoverSheet
from fenwind.desk.stages.marks import MarksSheet
from fenwind.desk.stages.moving import MovingSheet
from fenwind.desk.stages.waiting import WaitingSheet
from fenwind.desk.theme import apply_theme, is_night
from fenwind.desk.trail import TrailPane
from fenwind.desk.workspace_actions import action_specs
from fenwind.errors import FenwindError
from fenwind.geodesy.frames import height_words, open_frame
from fenwind.geodesy.inverse import inverse
from fenwind.job import gestures
from fenwind.job.job import Job
from fenwind.job.moved import Moved
from fenwind.job.reader import with_grid_folder
from fenwind.job.steps.fit import fit_node
from fenwind.quantities.bearings import format_azimuth
from fenwind.quantities.lengths import format_length, format_way
from fenwind.reports.trail import trail


class Workspace(QObject):
    """One job on the desk."""

    def __init__(
        self, shell: Shell, job: Job, thinker: Thinker | None = None, results: Results | None = None
    ) -> None:
        super().__init__(shell)
        self.shell = shell
        self.bridge = JobBridge(job, self, thinker, results)
        self.fits = FitsSheet(self.bridge)
        self.marks = MarksSheet(self.bridge)
        self.handover = HandoverSheet(self.bridge, self._fit_parts)
        self.frame = FrameSheet(self.bridge)
        self.moving = MovingSheet(self.bridge)
        self.comparing = ComparingSheet(self.bridge)
        fits_stage = QWidget()
        self.fits_stack = QStackedLayout(fits_stage)
        for sheet in (self.fits, self.moving, self.comparing):
            self.fits_stack.addWidget(sheet)
        self.sheets: dict[str, QWidget] = {
            "Frame": self.frame,
            "Marks": self.marks,
            "Fits": fits_stage,
            "Handover": self.handover,
        }
        for name in STAGES:
            if name not in self.sheets:
                self.sheets[name] = WaitingSheet(name)
            shell.pages.addWidget(self.sheets[name])
        self.plan_pane = PlanPane()
        self.plan_commands = PlanCommands(self.plan_pane, self.bridge, self._shown_frame, self._show_plan)
        self.trail_pane = TrailPane()
        self.line = MessageLine()
        shell.side.addWidget(self.plan_pane)
        shell.side.addWidget(self.trail_pane)
        shell.side.setSizes([416, 306])
        self.doubts = DoubtsBar(self.bridge)
        shell.bar_layout.addWidget(self.line)
        shell.bar_layout.addWidget(self.doubts)
        self.actions = ActionSet(action_specs(self), shell)
        self.finder = Finder(self._findable, shell.body)
        self._quiet = QTimer(self)
        self._quiet.setSingleShot(True)
        self._quiet.setInterval(9000)
        self._quiet.timeout.connect(self.line.fade)
        self._connect()
        self.show_stage("Fits" if self.bridge.state.fits else "Marks")
        self.refresh()

    def _connect(self) -> None:
        shell, bridge = self.shell, self.bridge
        shell.stage_requested.connect(self.show_stage)
        shell.closing.connect(self.close)
        bridge.changed.connect(self.refresh)
        bridge.selected.connect(self._on_selected)
        bridge.told.connect(self.say)
        bridge.moved.connect(self._on_moved)
        bridge.stage_requested.connect(self.show_stage)
        bridge.busy.connect(shell.header.show_busy)
        bridge.progressed.connect(shell.header.show_progress)
        shell.header.stop.clicked.connect(bridge.stop)
        self.plan_pane.plan.mark_picked.connect(bridge.select)
        self.plan_pane.plan.measured.connect(self._on_measured)
        self.plan_pane.plan.window_picked.connect(self._on_window)
        self.handover.judged.connect(self._show_plan)
        self.marks.incoming.looked_at.connect(self._show_incoming)
        self.marks.incoming.closed.connect(self._leave_incoming)
        self.comparing.compared.connect(self._show_plan)
        for sheet in (self.moving, self.comparing):
            sheet.closed.connect(self._back_to_fits)
        header = shell.header
        header.job.clicked.connect(lambda: self._menu_under(header.job, self.actions.menu))
        header.finder.clicked.connect(self.open_finder)
        makers = {
            "frame": self.frame.menu_frame,
            "heights": self.frame.menu_heights,
            "units": self.frame.menu_units,
        }
        for key, maker in makers.items():
            header.parts[key].setEnabled(True)
            header.parts[key].clicked.connect(partial(self._open_menu, key, maker))
        for number, name in enumerate(STAGES, 1):
            QShortcut(QKeySequence(f"Ctrl+{number}"), shell, partial(self.show_stage, name))

    def close(self) -> None:
        """Let go of the job; everything is kept already."""
        self.marks.incoming._runner.shut_down()
        self.plan_commands.store.shut_down()
        for sheet in (self.frame, self.moving, self.comparing, self.handover):
            sheet.shut_down()
        self.bridge.shut_down()

    # Showing
    # -----------------------------------------------------------------------------------------------------

    @property
    def stage(self) -> str:
        """Name of the stage shown."""
        current = self.shell.pages.currentWidget()
        return next((name for name, sheet in self.sheets.items() if sheet is current), "")

    def show_stage(self, name: str) -> None:
        """Show a stage."""
        self.shell.rail.choose(name)
        self.shell.pages.setCurrentWidget(self.sheets[name])
        first: QWidget | None = {
            "Fits": self.fits.table,
            "Marks": self.marks.marks.table,
            "Handover": self.handover.write,
        }.get(name)
        if first is not None:
            (first if first.isVisible() or name != "Marks" else self.marks.marks.first).setFocus()
        self._show_plan()
        self._show_trail()
        self.actions.refresh()

    def refresh(self) -> None:
        """Show the job as it is now."""
        state, header = self.bridge.state, self.shell.header
        header.job.setText(state.info.name.replace("&", "&&"))
        self.shell.setWindowTitle(f"{state.info.name} - Fenwind")
        frame = self.bridge.frame
        header.parts["frame"].setText(frame.spec.name if frame else "no frame yet")
        header.parts["heights"].setText(height_words(frame.spec.height) if frame else "none")
        header.parts["units"].setText(f"{self.bridge.unit.key}, {self.bridge.angle_style}")
        count = len(state.records)
        header.show_kept(f"all kept {datetime.now():%H:%M}", f"{count} records")
        self.frame.refresh()
        self.fits.refresh()
        self.moving.refresh()
        self.comparing.refresh()
        self.marks.refresh()
        self.handover.refresh()
        stages = [stage_of(d, self.bridge) for d in self.bridge.findings.open]
        for name in ("Frame", "Marks", "Fits"):
            self.shell.rail.show_doubts(name, stages.count(name))
        undo, redo = self.bridge.job.undo_text, self.bridge.job.redo_text
        self.actions.set_text("edit.undo", f"Undo {undo}" if undo else "Undo")
        self.actions.set_text("edit.redo", f"Do again: {redo}" if redo else "Do again")
        self.actions.refresh()
        self._show_plan()
        self._show_trail()

    def _plan_follows_fit(self) -> bool:
        return self.stage == "Fits" and self.fits_stack.currentWidget() is self.fits

    def _back_to_fits(self) -> None:
        self.fits_stack.setCurrentWidget(self.fits)
        self._show_plan()

    def open_comparison(self) -> None:
        """Compare two sets of positions."""
        self.fits_stack.setCurrentWidget(self.comparing)
        self.show_stage("Fits")

    def move_a_file(self) -> None:
        """Ask for a file and show what moving it would do."""
        self.moving.browse()
        if self.moving.path:
            self.fits_stack.setCurrentWidget(self.moving)
            self.show_stage("Fits")

    def _shown_frame(self) -> str:
        step = self.bridge.fit
        return step.target_frame if self._plan_follows_fit() and step is not None else self.bridge.frame_id

    def _show_plan(self) -> None:
        step = self.bridge.fit if self._plan_follows_fit() else None
        scene = build_scene(self.bridge, fit_node(step.id) if step is not None else None)
        if self.stage == "Handover" and self.handover.coverage is not None:
            add_coverage(scene, self.handover.coverage)
        if (
            self.stage == "Fits"
            and self.fits_stack.currentWidget() is self.comparing
            and self.comparing.found is not None
        ):
            add_differences(scene, self.comparing.found)
        scene.under = self.plan_commands.store.layers(self._shown_frame())
        self.plan_pane.plan.show_scene(scene)

    def _show_trail(self) -> None:
        mark = self.bridge.mark()
        frame = self._shown_frame()
        if mark is None or not frame:
            self.trail_pane.show_links("", ())
            return
        unit = self.bridge.unit
        links = trail(self.bridge.state, self.bridge.derived, mark, frame, unit)
        self.trail_pane.show_links(f"TRAIL OF {mark.name}", links)

    def _show_incoming(self, point: int) -> None:
        """The trail of a point that is coming in, and its mark on the plan when there is one."""
        incoming = self.marks.incoming
        name = incoming.name_of(point)
        self.plan_pane.plan.select(name)
        self.trail_pane.show_links(f"{name}, COMING IN", incoming.links(point))

    def _leave_incoming(self) -> None:
        self.plan_pane.plan.select(self.bridge.selection)
        self._show_trail()

    def _on_selected(self, name: str) -> None:
        self.plan_pane.plan.select(name)
        self.fits.table.pick(lambda r: r.mark.name == name)
        self.marks.marks.table.pick(lambda r: r.mark.name == name)
        self._show_trail()

    def say(self, text: str, tone: str = "") -> None:
        """Say something in the line above the doubts; it goes after a while unless it is an error."""
        self.line.say(text, tone)
        self._quiet.stop()
        if tone != "doubt":
            self._quiet.start()

    def _on_moved(self, changes: list[Moved]) -> None:
        """The before/after list: a line that opens into every mark."""
        words = []
        for change in changes:
            name = self.bridge.state.frames[change.frame].spec.name
            if change.names:
                worst = max(range(len(change.names)), key=lambda i: abs(change.de_m[i]) + abs(change.dn_m[i]))
                many = f"{len(change.names)} mark{'' if len(change.names) == 1 else 's'}"
                if change.largest_m > 0:
                    words.append(
                        f"{many} moved in {name}, at most {format_way(change.largest_m)} "
                        f"({change.names[worst]})"
                    )
                else:
                    words.append(f"the heights of {many} came or went in {name}")
            if change.appeared:
                words.append(f"{len(change.appeared)} new in {name}")
            if change.gone:
                words.append(f"{len(change.gone)} gone from {name}")
        if words:
            text = "; ".join(words)
            self.say(f"{text[0].upper()}{text[1:]}.")
            self.line.show_rows(changes, {key: r.spec.name for key, r in self.bridge.state.frames.items()})

    def _on_window(self, names: list[str]) -> None:
        """Marks in a window drawn on the plan: their rows in the table at hand."""
        if self.stage not in ("Fits", "Marks"):
            self.show_stage("Marks")
        table = self.fits.table if self.stage == "Fits" else self.marks.marks.table
        chosen = set(names)
        table.pick_all(lambda r: r.mark.name in chosen)
        self.say(f"{len(names)} mark{'' if len(names) == 1 else 's'} in the window.")

    def toggle_night(self) -> None:
        """Day or night colours, kept for the next time."""
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        apply_theme(app, not is_night())
        if self.shell.settings is not None:
            self.shell.settings.setValue("window/night", is_night())
        self.refresh()
        self.doubts.refresh()

    def _on_measured(self, first: str, second: str) -> None:
        adopted = self.bridge.derived.adopted[self._shown_frame()]
        record = self.bridge.state.frames[self._shown_frame()]
        try:
            frame = open_frame(with_grid_folder(record.spec, self.bridge.folder))
            ends = []
            for name in (first, second):
                i = adopted.index[name]
                height = float(adopted.height_m[i])
                ends.append(
                    (float(adopted.e_m[i]), float(adopted.n_m[i]), None if height != height else height)
                )
            result = inverse(frame, ends[0], ends[1])
        except FenwindError as error:
            self.bridge.tell_error(error)
            return
        unit, style = self.bridge.unit, self.bridge.angle_style
        decimals = 4 if style == "gon" else 1
        words = [f"{first} → {second}", f"grid {format_length(result.grid_distance_m, unit, 4)}"]
        words.append(f"azimuth {format_azimuth(result.grid_azimuth_rad, style, decimals)}")
        if result.height_difference_m is not None:
            words.append(f"height difference {format_length(result.height_difference_m, unit, 4)}")
        if result.ellipsoid_distance_m is not None and result.geodetic_azimuth_rad is not None:
            words.append(f"ellipsoid {format_length(result.ellipsoid_distance_m, unit, 4)}")
            words.append(f"geodetic azimuth {format_azimuth(result.geodetic_azimuth_rad, style, decimals)}")
        if result.ground_distance_m is not None:
            words.append(
                f"ground {format_length(result.ground_distance_m, unit, 4)} (combined factor "
                f"{result.combined_factor:.8f})"
            )
        self.plan_pane.result.setText("  ·  ".join(words))

    # Menus of the header
    # -----------------------------------------------------------------------------------------

    def _menu_under(self, button: QWidget, menu: QMenu) -> None:
        self.actions.refresh()
        menu.popup(button.mapToGlobal(QPoint(0, button.height() + 4)))

    def _open_menu(self, key: str, maker: object) -> None:
        menu = QMenu(self.shell)
        maker(menu)  # type: ignore[operator]
        menu.aboutToHide.connect(menu.deleteLater)
        self._menu_under(self.shell.header.parts[key], menu)

    def _find_system(self) -> None:
        self.show_stage("Frame")
        self.frame.find_system()

    # Commands
    # ----------------------------------------------------------------------------------------------------

    def _findable(self) -> list[Found]:
        commands = [
            Found(
                s.text,
                f"{s.menu.lower()}{'  ' + s.shortcut if s.shortcut else ''}",
                partial(self.actions.run, s.id),
            )
            for s in self.actions.specs.values()
        ]
        marks = [
            Found(m.name, m.description or m.mark_class or "mark", partial(self.bridge.select, m.name))
            for m in self.bridge.state.marks.values()
        ]
        return marks + commands

    def open_finder(self) -> None:
        """Open the finder under its button."""
        place = self.shell.header.finder.mapTo(self.shell.body, QPoint(-168, 34))
        self.finder.open(place)

    def paste_list(self) -> None:
        """Show the clipboard's list against the job."""
        from PySide6.QtGui import QGuiApplication

        self.show_stage("Marks")
        self.marks.paste(QGuiApplication.clipboard().text())

    def _read_file(self) -> None:
        path, _ = QFileDialog.getOpenFileName(self.shell, "Read a list", self.bridge.folder)
        if path:
            self.show_stage("Marks")
            self.marks.read_file(path)

    def _new_fit(self) -> None:
        self.show_stage("Fits")
        self.fits.new_fit()

    def _hand_over(self, kind: str) -> None:
        self.show_stage("Handover")
        self.handover.set_kind(kind)

    def _ask_name(self) -> None:
        info = self.bridge.state.info
        self.show_stage("Marks")

        def answer(text: str) -> bool:
            name = text.strip()
            return bool(name) and self.bridge.do(
                gestures.set_field([info], "name", name, f"Rename the job to {name}")
            )

        self.marks.marks.ask.ask("Name of the job", answer, text=info.name, button="Rename")

    def _copy_job(self) -> None:
        path, _ = QFileDialog.getSaveFileName(
            self.shell, "Copy the job to", self.bridge.folder, "Fenwind job (*.fenwind)"
        )
        if path:
            try:
                self.bridge.job.copy_to(path)
            except FenwindError as error:
                self.bridge.tell_error(error)
                return
            self.say(f"Copied to {os.path.basename(path)}.")

    def _fit_parts(self) -> object:
        """The statement of the fit, for the head of its report."""
        return self.fits.statement._shown or None
