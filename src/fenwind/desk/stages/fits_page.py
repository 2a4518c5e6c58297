"""The Fits stage: the fit looked at, moving a file by it, and comparing sets of positions, one in the
place of the other."""

from __future__ import annotations

from collections.abc import Sequence
from functools import partial

from PySide6.QtWidgets import QStackedLayout, QWidget

from fenwind.desk.actions import ActionSpec
from fenwind.desk.bridge import JobBridge
from fenwind.desk.plan_scene import Scene
from fenwind.desk.scene import add_differences
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages.comparing import ComparingSheet
from fenwind.desk.stages.fits import FitsSheet
from fenwind.desk.stages.moving import MovingSheet
from fenwind.desk.stages.page import StagePage
from fenwind.desk.stages.space_fits import SpaceFitSheet
from fenwind.job.steps.fit import fit_node
from fenwind.job.steps.outcome import Node
from fenwind.records.records import Use

USES: tuple[tuple[Use, str, str], ...] = (
    ("both", "Hold in plan and height", "Ctrl+H"),
    ("horizontal", "Hold in plan only", ""),
    ("height", "Hold in height only", ""),
    ("check", "Hold out as a check", "Ctrl+E"),
    ("off", "Switch the pair off", "Ctrl+D"),
)


class FitsPage(StagePage):
    """See the module."""

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self.fits = FitsSheet(bridge, stage)
        self.moving = MovingSheet(bridge, stage)
        self.comparing = ComparingSheet(bridge, stage)
        self.space = SpaceFitSheet(bridge, stage)
        self.sheets = (self.fits, self.moving, self.comparing, self.space)
        self.stack = QStackedLayout(self)
        for sheet in self.sheets:
            self.stack.addWidget(sheet)
        self.comparing.compared.connect(self.plan_changed)
        self.moving.shown.connect(self.plan_changed)
        for sheet in (self.moving, self.comparing, self.space):
            sheet.closed.connect(self._back)

    def _back(self) -> None:
        self.stack.setCurrentWidget(self.fits)
        self.plan_changed.emit()

    def refresh(self) -> None:
        for sheet in self.sheets:
            sheet.refresh()

    def shut_down(self) -> None:
        for sheet in (self.moving, self.comparing):
            sheet.shut_down()

    def focus(self) -> QWidget:
        return self.fits.table

    def plan_step(self) -> Node | None:
        if self.stack.currentWidget() is self.moving:
            return self.moving.frame_step()
        if self.stack.currentWidget() is self.space:
            return self.space.plan_step()
        step = self.bridge.fit
        return fit_node(step.id) if step is not None and self.stack.currentWidget() is self.fits else None

    def overlay(self, scene: Scene) -> None:
        if self.stack.currentWidget() is self.moving:
            scene.coming = self.moving.coming
        if self.stack.currentWidget() is self.comparing and self.comparing.found is not None:
            add_differences(scene, self.comparing.found)

    def select(self, name: str) -> None:
        self.fits.table.pick(lambda r: r.mark.name == name)

    def pick(self, names: set[str]) -> bool:
        self.fits.table.pick_all(lambda r: r.mark.name in names)
        return True

    def fit_in_space(self) -> None:
        """Look at the fit in space, or make the first."""
        if self.space.step is None and not self.space.new():
            return
        self.stack.setCurrentWidget(self.space)
        self.bridge.show_stage(self.stage.name)
        self.plan_changed.emit()

    def compare(self) -> None:
        """Compare two sets of positions."""
        self.stack.setCurrentWidget(self.comparing)
        self.bridge.show_stage(self.stage.name)

    def move_a_file(self) -> None:
        """Ask for a file and show what moving it would do."""
        self.moving.browse()
        if self.moving.path:
            self.stack.setCurrentWidget(self.moving)
            self.bridge.show_stage(self.stage.name)

    def new_fit(self) -> None:
        """Make a fit and look at it."""
        self.bridge.show_stage(self.stage.name)
        self.fits.new_fit()

    def commands(self) -> Sequence[ActionSpec]:
        def on_fit() -> bool:
            return self.isVisible() and self.bridge.fit is not None

        menu = self.stage.name
        return (
            ActionSpec(
                id="fits.new",
                menu=menu,
                text="New fit",
                tip="Carry measured positions onto known ones",
                run=self.new_fit,
                shortcut="Ctrl+N",
            ),
            ActionSpec(
                id="fits.next",
                menu=menu,
                text="Next fit",
                tip="Look at the next fit of the job",
                run=self.fits.next_fit,
                shortcut="Ctrl+J",
                enabled=lambda: len(self.bridge.state.fits) > 1,
            ),
            ActionSpec(
                id="fits.space",
                menu=menu,
                text="Fit in space",
                tip="From one datum onto another by three or seven parameters",
                run=self.fit_in_space,
            ),
            ActionSpec(
                id="fits.move",
                menu=menu,
                text="Move a file …",
                tip="Move a drawing or a list by a fit, a shift or a turn",
                run=self.move_a_file,
            ),
            ActionSpec(
                id="fits.compare",
                menu=menu,
                text="Compare two sets of positions",
                tip="By name: adopted, given, carried, before the last change, or a file",
                run=self.compare,
            ),
            *(
                ActionSpec(
                    id=f"fits.use.{use}",
                    menu=menu,
                    text=text,
                    tip="For the selected pairs",
                    run=partial(self.fits.set_use, use),
                    shortcut=key,
                    enabled=on_fit,
                )
                for use, text, key in USES
            ),
        )
