"""What the desk asks of a stage's page. A page tells by signals; the workspace knows no page by name."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from PySide6.QtCore import Signal
from PySide6.QtWidgets import QMenu, QWidget

from fenwind.desk.actions import ActionSpec
from fenwind.desk.bridge import JobBridge
from fenwind.desk.plan_scene import Scene
from fenwind.desk.stage_table import Stage
from fenwind.job.steps.outcome import Node
from fenwind.reports.trail import Link


class StagePage(QWidget):
    """A page of the desk; every answer here is the one of a page that has nothing of its own."""

    plan_changed = Signal()
    trail_changed = Signal()
    rover_at = Signal(object)  # easting and northing in the frame shown, metres; None for nowhere
    live_said = Signal(str, str)  # two short lines for the header about what runs now, empty for nothing
    wants_place = Signal()  # the next click on the plan picks a place, for `place_picked`

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__()
        self.bridge, self.stage = bridge, stage

    def place_picked(self, e_m: float, n_m: float) -> None:
        """A place in the frame shown was picked on the plan, as it wanted."""

    def rover_moved(self, at: tuple[float, float] | None) -> None:
        """The rover that is listened to is at a place in the frame shown, metres; None for nowhere."""

    def take_file(self, path: str) -> bool:
        """Take a file that was dropped on the window, where it is for this page; whether it is."""
        return False

    def refresh(self) -> None:
        """Show the job as it is now."""

    def pieces(self) -> Sequence[Callable[[], object]]:
        """What `refresh` does, in parts of which each may have a turn of its own."""
        return (self.refresh,)

    def shut_down(self) -> None:
        """Stop work of its own."""

    def commands(self) -> Sequence[ActionSpec]:
        """Its commands."""
        return ()

    def focus(self) -> QWidget | None:
        """What gets the keyboard when the page is shown."""
        return None

    def header_menus(self) -> dict[str, Callable[[QMenu], None]]:
        """Menus of the header's parts ("frame", "heights", "units") that this page fills."""
        return {}

    def plan_step(self) -> Node | None:
        """The step whose frame and drawing the plan shows; None for the frame shown."""
        return None

    def overlay(self, scene: Scene) -> None:
        """Add to what the plan shows."""

    def trail(self) -> tuple[str, Sequence[Link]] | None:
        """Heading and links to show instead of the trail of the selected mark."""
        return None

    def plan_selection(self) -> str | None:
        """Name to ring on the plan instead of the selected mark's."""
        return None

    def select(self, name: str) -> None:
        """Make a mark the current one of its tables."""

    def pick(self, names: set[str]) -> bool:
        """Select marks in its table; False when it has none."""
        return False
