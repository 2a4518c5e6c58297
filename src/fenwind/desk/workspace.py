"""Fills the shell with a job: the pages of all stages, plan, trail, doubts, commands. Imported after the
shell has been painted. It knows stages by their table only."""

from __future__ import annotations

import os
from datetime import datetime
from functools import partial

from PySide6.QtCore import QObject, QPoint, QTimer
from PySide6.QtGui import QKeySequence, QShortcut
from PySide6.QtWidgets import QApplication, QMenu, QWidget

from fenwind.desk.actions import ActionSet
from fenwind.desk.bridge import JobBridge
from fenwind.desk.doubts_bar import DoubtsBar
from fenwind.desk.finder import Finder, Found
from fenwind.desk.job_commands import JobCommands
from fenwind.desk.job_owner import Deriver, Results
from fenwind.desk.message_line import MessageLine
from fenwind.desk.plan_commands import PlanCommands
from fenwind.desk.plan_pane import PlanPane
from fenwind.desk.scene import build_scene, drawing_of
from fenwind.desk.shell import Shell
from fenwind.desk.stage_table import STAGES, stage_of
from fenwind.desk.stages.page import StagePage
from fenwind.desk.synonyms import SYNONYMS
from fenwind.desk.table import RecordTable
from fenwind.desk.theme import apply_theme, is_night
from fenwind.desk.trail import TrailPane
from fenwind.desk.turns import Turns
from fenwind.exchange.backdrop import IMAGE_ENDINGS
from fenwind.geodesy.frames import height_words
from fenwind.job.job import Job
from fenwind.job.moved import Moved
from fenwind.quantities.lengths import format_way
from fenwind.quantities.numbers import counted
from fenwind.reports.trail import trail

#: How often the desk looks whether the job's file is still there.
WATCH_MS = 2000


class Workspace(QObject):
    """One job on the desk."""

    def __init__(
        self, shell: Shell, job: Job, deriver: Deriver | None = None, results: Results | None = None
    ) -> None:
        super().__init__(shell)
        self.shell = shell
        self.bridge = JobBridge(job, self, deriver, results)
        self.pages: dict[str, StagePage] = {stage.name: stage.open(self.bridge) for stage in STAGES}
        for page in self.pages.values():
            shell.pages.addWidget(page)
        self._wanting = self.page
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
        self.job_commands = JobCommands(self)
        specs = [*self.job_commands.commands(), *self.plan_commands.commands()]
        specs += [spec for page in self.pages.values() for spec in page.commands()]
        self.actions = ActionSet(specs, shell)
        self.finder = Finder(self._findable, shell.body)
        self._quiet = QTimer(self)
        self._quiet.setSingleShot(True)
        self._quiet.setInterval(9000)
        self._quiet.timeout.connect(self.line.fade)
        self._turns = Turns(self)
        self._watch = QTimer(self)
        self._watch.setInterval(WATCH_MS)
        self._watch.timeout.connect(self._look_at_file)
        self._watch.start()
        self._connect()
        self.show_stage("Fits" if self.bridge.state.fits else "Marks")
        self.refresh()
        if self.bridge.state.set_aside:
            some = "; ".join(self.bridge.state.set_aside[:3])
            self.say(f"Set aside when the job was opened: {some}.", "doubt")

    def _connect(self) -> None:
        shell, bridge = self.shell, self.bridge
        shell.stage_requested.connect(self.show_stage)
        shell.closing.connect(self.close)
        shell.dropped.connect(self.open_dropped)
        bridge.changed.connect(self.refresh)
        bridge.selected.connect(self._on_selected)
        bridge.told.connect(self.say)
        bridge.moved.connect(self._on_moved)
        bridge.stage_requested.connect(self.show_stage)
        bridge.busy.connect(shell.header.show_busy)
        bridge.progressed.connect(shell.header.show_progress)
        shell.header.slow.connect(self._show_keeping)
        shell.header.stop.clicked.connect(bridge.stop)
        self.plan_pane.plan.mark_picked.connect(bridge.select)
        self.plan_pane.plan.menu_requested.connect(self._menu_on_plan)
        self.plan_pane.plan.window_picked.connect(self._on_window)
        self.plan_pane.plan.place_picked.connect(lambda e, n: self._wanting.place_picked(e, n))
        self.plan_commands.night.connect(self.toggle_night)
        header = shell.header
        header.job.clicked.connect(lambda: self._menu_under(header.job, self.actions.menu))
        header.finder.clicked.connect(self.open_finder)
        for page in self.pages.values():
            page.plan_changed.connect(self._show_plan)
            page.trail_changed.connect(self._show_trail)
            page.rover_at.connect(self.plan_pane.plan.show_rover)
            page.rover_at.connect(self._on_rover)
            for table in page.findChildren(RecordTable):
                table.off_requested.connect(partial(self._switch_off, page))
                table.menu_requested.connect(partial(self._menu_of, page, table))
            page.live_said.connect(shell.header.show_live)
            page.wants_place.connect(partial(self._pick_for, page))
            for key, fill in page.header_menus().items():
                header.parts[key].setEnabled(True)
                header.parts[key].clicked.connect(partial(self._open_menu, key, fill))
        for number, stage in enumerate(STAGES, 1):
            QShortcut(QKeySequence(f"Ctrl+{number}"), shell, partial(self.show_stage, stage.name))

        bridge.looked_at = lambda: self.page.plan_step()
        bridge.came_ahead.connect(lambda: self.page.refresh())

    def _on_rover(self, at: object) -> None:
        for page in self.pages.values():
            page.rover_moved(at)  # type: ignore[arg-type]

    def close(self) -> None:
        """Let go of the job; everything is kept already."""
        self._turns.run((), apart=False)
        self.plan_commands.shut_down()
        for page in self.pages.values():
            page.shut_down()
        self.bridge.shut_down()

    # Showing
    # ------------------------------------------------------------------------------------------------------

    @property
    def stage(self) -> str:
        """Name of the stage shown."""
        current = self.shell.pages.currentWidget()
        return next((name for name, page in self.pages.items() if page is current), "")

    @property
    def page(self) -> StagePage:
        """The page shown."""
        return self.pages[self.stage or STAGES[0].name]

    def show_stage(self, name: str) -> None:
        """Show a stage."""
        self.shell.rail.choose(name)
        page = self.pages[name]
        self.shell.pages.setCurrentWidget(page)
        first = page.focus()
        if first is not None:
            first.setFocus()
        self._show_plan()
        self._show_trail()
        self.actions.refresh()

    def refresh(self) -> None:
        """Show the job as it is now; in pieces where that takes long or somebody works with a device."""
        seen_first = sorted(self.pages.values(), key=lambda p: not p.isVisible())
        pages = [piece for page in seen_first for piece in page.pieces()]
        rest = [self._show_head, self._show_counts, self._show_plan, self._show_trail]
        self._turns.run([*pages, *rest], apart=self.bridge.in_turns)

    def _show_head(self) -> None:
        state, header = self.bridge.state, self.shell.header
        header.job.setText(state.info.name.replace("&", "&&"))
        header.job.setToolTip(f"{state.info.name}: all commands, by subject")
        self.shell.setWindowTitle(f"{state.info.name} - Fenwind")
        frame = self.bridge.frame
        header.parts["frame"].setText(frame.spec.name if frame else "no frame yet")
        header.parts["heights"].setText(height_words(frame.spec.height) if frame else "none")
        header.parts["units"].setText(f"{self.bridge.unit.key}, {self.bridge.angle_style}")
        if self.bridge.taken_away:
            header.show_kept("not kept", "the job file is gone")
        elif self.bridge.read_only:
            why = "made with a newer Fenwind" if self.bridge.newer else "the intact part"
            header.show_kept("read only", why)
        else:
            header.show_kept(f"all kept {datetime.now():%H:%M}", f"{len(state.records)} records")

    def _show_keeping(self) -> None:
        if not self.bridge.kept:
            self.shell.header.show_kept("keeping …", "not in the file yet")
            self.bridge.ask(lambda job: None, lambda _: self._show_head(), meanwhile=True)

    def _show_counts(self) -> None:
        state = self.bridge.state
        stages = [stage_of(d, state) for d in self.bridge.findings.open]
        for name in self.pages:
            self.shell.rail.show_doubts(name, stages.count(name))
        undo, redo = self.bridge.undo_text, self.bridge.redo_text
        self.actions.set_text("edit.undo", f"Undo {undo}" if undo else "Undo")
        self.actions.set_text("edit.redo", f"Do again: {redo}" if redo else "Do again")
        self.actions.refresh()

    def _shown_frame(self) -> str:
        drawing = drawing_of(self.bridge.derived, self.page.plan_step())
        return drawing.frame if drawing is not None else self.bridge.frame_id

    def _show_plan(self) -> None:
        scene = build_scene(self.bridge, self.page.plan_step())
        self.page.overlay(scene)
        scene.under = (*self.plan_commands.store.layers(self._shown_frame()), *scene.under)
        self.plan_pane.plan.show_scene(scene)

    def _show_trail(self) -> None:
        own, selection = self.page.trail(), self.page.plan_selection()
        self.plan_pane.plan.select(self.bridge.selection if selection is None else selection)
        if own is not None:
            self.trail_pane.show_links(own[0], tuple(own[1]))
            return
        mark = self.bridge.seen.mark_named(self.bridge.selection) if self.bridge.selection else None
        frame = self._shown_frame()
        if mark is None or not frame:
            self.trail_pane.show_links("", ())
            return
        links = trail(self.bridge.seen, self.bridge.derived, mark, frame, self.bridge.unit, self.bridge.axes)
        self.trail_pane.show_links(f"TRAIL OF {mark.name}", links)

    def _on_selected(self, name: str) -> None:
        for page in self.pages.values():
            page.select(name)
        if self.bridge.in_turns:
            self._turns.then(self._show_trail)
        else:
            self._show_trail()

    def say(self, text: str, tone: str = "") -> None:
        """Say something in the line above the doubts; it goes after a while unless it is an error."""
        self.line.say(text, tone)
        self._quiet.stop()
        if tone != "doubt":
            self._quiet.start()

    def _look_at_file(self) -> None:
        """Tell at once when the job's file is taken away or cut short while it is open."""
        if self.bridge.taken_away:
            self._watch.stop()
            self.say(
                "The job's file was deleted, moved, replaced or cut short: copy the job to a new file, "
                "everything up to here goes with it.",
                "doubt",
            )

    def _on_moved(self, changes: list[Moved]) -> None:
        if self.bridge.in_turns:
            self._turns.then(partial(self._show_moved, changes))
        else:
            self._show_moved(changes)

    def _show_moved(self, changes: list[Moved]) -> None:
        """The before/after list: a line that opens into every mark."""
        words = [text for change in changes for text in self._moved_words(change)]
        if words:
            text = "; ".join(words)
            self.say(f"{text[0].upper()}{text[1:]}.")
            self.line.show_rows(changes, {key: r.spec.name for key, r in self.bridge.seen.frames.items()})

    def _moved_words(self, change: Moved) -> list[str]:
        name = self.bridge.seen.frames[change.frame].spec.name
        words = []
        if change.names:
            many = counted(len(change.names), "mark")
            if change.largest_m > 0:
                way = format_way(change.largest_m)
                words.append(f"{many} moved in {name}, at most {way} ({change.farthest})")
            else:
                words.append(f"the heights of {many} came or went in {name}")
        if change.appeared:
            words.append(f"{len(change.appeared)} new in {name}")
        if change.gone:
            words.append(f"{len(change.gone)} gone from {name}")
        return words

    def _on_window(self, names: list[str]) -> None:
        """Marks in a window drawn on the plan: their rows in the table at hand."""
        if not self.page.pick(set(names)):
            self.show_stage("Marks")
            self.page.pick(set(names))
        self.say(f"{counted(len(names), 'mark')} in the window.")

    def _switch_off(self, page: StagePage) -> None:
        """Delete on a selection: what the page leaves out is kept, greyed, and undone like anything else."""
        keys = [spec.id for spec in page.commands() if spec.id.endswith((".off", ".out"))]
        if keys:
            self.actions.run(keys[0])

    def _menu_of(self, page: StagePage, table: RecordTable | None, at: QPoint) -> None:
        """What can be done with a selection, where it is."""
        self.actions.refresh()
        menu = QMenu(self.shell)
        if table is not None:
            menu.addAction("Copy with headers").triggered.connect(table.copy)
            menu.addSeparator()
        for spec in page.commands():
            if spec.enabled():
                menu.addAction(self.actions.actions[spec.id])
        menu.setToolTipsVisible(True)
        menu.aboutToHide.connect(menu.deleteLater)
        menu.popup(at)

    def _menu_on_plan(self, name: str, at: QPoint) -> None:
        self.bridge.select(name)
        self.page.pick({name})
        self._menu_of(self.page, None, at)

    def _pick_for(self, page: StagePage) -> None:
        """Let the next click on the plan pick a place for a page."""
        self._wanting = page
        self.plan_pane.plan.pick_place()

    def toggle_night(self) -> None:
        """Day or night colours, kept for the next time."""
        app = QApplication.instance()
        assert isinstance(app, QApplication)
        apply_theme(app, not is_night())
        if self.shell.settings is not None:
            self.shell.settings.setValue("window/night", is_night())
        self.refresh()
        self.doubts.refresh()

    # Menus and the finder
    # ------------------------------------------------------------------------------------------------------

    def _menu_under(self, button: QWidget, menu: QMenu) -> None:
        self.actions.refresh()
        menu.popup(button.mapToGlobal(QPoint(0, button.height() + 4)))

    def _open_menu(self, key: str, fill: object) -> None:
        menu = QMenu(self.shell)
        fill(menu)  # type: ignore[operator]
        menu.aboutToHide.connect(menu.deleteLater)
        self._menu_under(self.shell.header.parts[key], menu)

    def _findable(self) -> list[Found]:
        commands = [
            Found(
                s.text,
                f"{s.menu.lower()}{'  ' + s.shortcut if s.shortcut else ''}",
                partial(self.actions.run, s.id),
                SYNONYMS.get(s.id, ""),
            )
            for s in self.actions.specs.values()
        ]
        marks = [
            Found(m.name, m.description or m.mark_class or "mark", partial(self.bridge.select, m.name))
            for m in self.bridge.state.marks.values()
        ]
        return marks + commands

    def open_dropped(self, path: str) -> None:
        """Open a file that was dropped on the window as what it is: a job in a window of its own, a
        drawing or an image under the plan, anything else as a list coming in."""
        ending = os.path.splitext(path)[1].lower()
        if ending == ".fenwind":
            self.job_commands.open_path(path)
        elif ending in (".dxf", *IMAGE_ENDINGS):
            self.plan_commands.add_backdrop(path)
        else:
            any(page.take_file(path) for page in self.pages.values())

    def open_finder(self) -> None:
        """Open the finder under its button."""
        place = self.shell.header.finder.mapTo(self.shell.body, QPoint(-168, 34))
        self.finder.open(place)
