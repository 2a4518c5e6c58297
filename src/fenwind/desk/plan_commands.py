"""What is done with the plan: layers on and off, backdrops, marks picked by a window, a picture of it, and
paper."""

from __future__ import annotations

import os
from collections.abc import Callable
from functools import partial

from PySide6.QtCore import QObject
from PySide6.QtPrintSupport import QPrintDialog, QPrinter
from PySide6.QtWidgets import QDialog, QFileDialog, QMenu

from fenwind.desk.backdrops import BackdropStore
from fenwind.desk.bridge import JobBridge
from fenwind.desk.plan_pane import VIEW_LAYERS, PlanPane
from fenwind.desk.statement import choice
from fenwind.exchange.backdrop import IMAGE_ENDINGS
from fenwind.job import gestures
from fenwind.job.job import new_id
from fenwind.records.entries import Add
from fenwind.records.records import Backdrop


class PlanCommands(QObject):
    """Commands of one plan. `frame` tells the id of the frame it shows, `show` paints it again."""

    def __init__(
        self, pane: PlanPane, bridge: JobBridge, frame: Callable[[], str], show: Callable[[], object]
    ) -> None:
        super().__init__(pane)
        self.pane, self.bridge, self._frame, self._show = pane, bridge, frame, show
        self.store = BackdropStore(bridge)
        self.store.loaded.connect(show)
        pane.layers.clicked.connect(self.open_layers)

    def open_layers(self) -> None:
        """The menu of what the plan shows."""
        menu = QMenu(self.pane)
        self.fill_layers(menu)
        menu.aboutToHide.connect(menu.deleteLater)
        menu.popup(self.pane.layers.mapToGlobal(self.pane.layers.rect().bottomLeft()))

    def fill_layers(self, menu: QMenu) -> None:
        """Fill the menu: what belongs to the plan itself, then backdrops with their layers."""
        for name in VIEW_LAYERS:
            choice(menu, name, partial(self.toggle_view, name), checked=name not in self.pane.plan.hidden)
        menu.addSeparator()
        for record in self.bridge.state.backdrops.values():
            if record.frame == self._frame():
                self._backdrop_menu(menu.addMenu(os.path.basename(record.path)), record)
        choice(menu, "a drawing or an image under the plan …", self._browse)

    def _backdrop_menu(self, menu: QMenu, record: Backdrop) -> None:
        switch = partial(
            gestures.set_field,
            [record],
            "active",
            not record.active,
            f"{'Hide' if record.active else 'Show'} {record.path}",
        )
        choice(menu, "shown", partial(self.bridge.attempt, switch), checked=record.active)
        names = self.store.names(record)
        if len(names) > 1:
            menu.addSeparator()
        for name in names if len(names) > 1 else ():
            choice(
                menu,
                name,
                partial(self.toggle_layer, record.id, name),
                checked=name not in record.hidden_layers,
            )

    def toggle_view(self, name: str) -> None:
        """Hide or show one of the plan's own layers."""
        self.pane.plan.hidden ^= {name}
        self.pane.plan.update()

    def toggle_layer(self, key: str, name: str) -> None:
        """Hide or show a layer of a backdrop; the job keeps that."""
        record = self.bridge.state.backdrops[key]
        hidden = tuple(sorted(set(record.hidden_layers) ^ {name}))
        self.bridge.attempt(
            lambda: gestures.set_field([record], "hidden_layers", hidden, f"Layer {name} of {record.path}")
        )

    def _browse(self) -> None:
        endings = " ".join(f"*{e}" for e in (".dxf", *IMAGE_ENDINGS))
        path, _ = QFileDialog.getOpenFileName(
            self.pane, "Under the plan", self.bridge.folder, f"Drawings and images ({endings})"
        )
        if path:
            self.add_backdrop(path)

    def add_backdrop(self, path: str) -> None:
        """Put a drawing or an image under the plan of the frame shown; the job keeps where its file is."""
        if not self._frame():
            self.bridge.told.emit("A backdrop needs a frame: choose one first.", "doubt")
            return
        inside = os.path.relpath(path, self.bridge.folder)
        record = Backdrop(id=new_id(), path=path if inside.startswith("..") else inside, frame=self._frame())
        self.bridge.do((f"Put {os.path.basename(path)} under the plan", (Add(record=record),)))

    def save_png(self) -> None:
        """Ask for a file and write the plan as a picture."""
        path, _ = QFileDialog.getSaveFileName(
            self.pane, "Picture of the plan", os.path.join(self.bridge.folder, "plan.png"), "PNG (*.png)"
        )
        if path:
            self.write_png(path)

    def write_png(self, path: str) -> None:
        """Write the plan as a picture."""
        done = self.pane.picture().save(path if path.lower().endswith(".png") else f"{path}.png")
        words = f"Written: {path}" if done else f"{path} cannot be written. Choose a folder you may write to."
        self.bridge.told.emit(words, "" if done else "doubt")

    def print_plan(self) -> None:
        """Ask for a printer and print."""
        printer = QPrinter(QPrinter.PrinterMode.HighResolution)
        if QPrintDialog(printer, self.pane).exec() == QDialog.DialogCode.Accepted:
            self.print_to(printer)

    def print_to(self, printer: QPrinter) -> None:
        """Print the plan with the job's name and the frame under it."""
        plan = self.pane.plan
        self.pane.print_on(printer, f"{self.bridge.state.info.name}   {plan.scene.title}")
