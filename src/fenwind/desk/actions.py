"""Commands as data: one list makes the menus, the shortcuts, the tooltips and what Ctrl+K finds."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from PySide6.QtGui import QAction, QKeySequence
from PySide6.QtWidgets import QMenu, QWidget

from fenwind.desk.stage_table import STAGES

#: Menus in their order: the job, the stages that have commands, the plan.
MENUS = ("Job", "Edit", *(stage.name for stage in STAGES), "Plan", "Go", "Help")


@dataclass(frozen=True, slots=True, kw_only=True)
class ActionSpec:
    """One command. `menu` is one of MENUS; `enabled` is asked when the menu opens and before it runs."""

    id: str
    text: str
    tip: str
    menu: str
    run: Callable[[], object]
    shortcut: str = ""
    enabled: Callable[[], bool] = lambda: True


class ActionSet:
    """Actions by id, and the menu that holds all of them."""

    def __init__(self, specs: Sequence[ActionSpec], owner: QWidget) -> None:
        self.specs = {spec.id: spec for spec in specs}
        self.actions: dict[str, QAction] = {}
        self.menu = QMenu(owner)
        used = {spec.menu for spec in specs}
        submenus = {name: self.menu.addMenu(name) for name in MENUS if name in used}
        for spec in specs:
            action = QAction(spec.text, owner)
            action.setObjectName(spec.id)
            action.setToolTip(f"{spec.tip} ({spec.shortcut})" if spec.shortcut else spec.tip)
            if spec.shortcut:
                action.setShortcut(QKeySequence(spec.shortcut))
            action.triggered.connect(lambda _=False, s=spec: s.enabled() and s.run())
            owner.addAction(action)
            submenus[spec.menu].addAction(action)
            submenus[spec.menu].setToolTipsVisible(True)
            self.actions[spec.id] = action
        for submenu in submenus.values():
            submenu.aboutToShow.connect(self.refresh)

    def refresh(self) -> None:
        """Grey what cannot be done now."""
        for key, spec in self.specs.items():
            self.actions[key].setEnabled(spec.enabled())

    def set_text(self, key: str, text: str) -> None:
        """Name what an action would do now, such as what undo takes back."""
        self.actions[key].setText(text)

    def run(self, key: str) -> None:
        """Run a command if it can be done now."""
        spec = self.specs[key]
        if spec.enabled():
            spec.run()
