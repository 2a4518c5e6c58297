"""What is done with the plan: layers on and off, backdrops, marks picked by a window, a picture of it, and
paper."""

from __future__ import annotations

import math
import os
from collections.abc import Callable, Sequence
from functools import partial

import numpy as np
from numpy.typing import NDArray
from PySide6.QtCore import QBuffer, QObject, Signal
from PySide6.QtPrintSupport import QPrintDialog, QPrinter
from PySide6.QtWidgets import QDialog, QFileDialog, QMenu

from fenwind.desk.actions import ActionSpec
from fenwind.desk.backdrops import BackdropStore
from fenwind.desk.bridge import JobBridge
from fenwind.desk.plan_pane import VIEW_LAYERS, PlanPane
from fenwind.desk.statement import choice
from fenwind.errors import FenwindError
from fenwind.exchange.backdrop import IMAGE_ENDINGS
from fenwind.exchange.files import write_bytes
from fenwind.geodesy.frames import open_frame
from fenwind.geodesy.inverse import Inverse, inverse
from fenwind.job import gestures
from fenwind.job.job import new_id
from fenwind.job.reader import with_grid_folder
from fenwind.quantities.bearings import format_azimuth
from fenwind.quantities.lengths import format_length
from fenwind.records.entries import Add, Gesture
from fenwind.records.records import Backdrop
from fenwind.reports.fit_report import mm

MEASURE_TIP = "Distance, azimuth and height difference, and how sure they are"
LAYERS_TIP = "What the plan shows, and what lies under it"
UNDER_TIP = "DXF, GeoTIFF, or an image with a world file"
NIGHT_TIP = "Dark colours for dark places, and back"


class PlanCommands(QObject):
    """Commands of one plan. `frame` tells the id of the frame it shows, `show` paints it again."""

    night = Signal()

    def __init__(
        self, pane: PlanPane, bridge: JobBridge, frame: Callable[[], str], show: Callable[[], object]
    ) -> None:
        super().__init__(pane)
        self.pane, self.bridge, self._frame, self._show = pane, bridge, frame, show
        self.store = BackdropStore(bridge)
        self.store.loaded.connect(show)
        pane.layers.clicked.connect(self.open_layers)
        pane.plan.measured.connect(self.measure)

    def measure(self, first: str, second: str) -> None:
        """Say how two marks lie to each other."""
        adopted = self.bridge.derived.adopted[self._frame()]
        record = self.bridge.state.frames[self._frame()]
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
        words = [f"{first} → {second}", *self._line_words(result)]
        covariance = adopted.difference_covariance(adopted.index[first], adopted.index[second])
        words += _sigma_words(covariance, result.grid_azimuth_rad)
        self.pane.result.setText("  ·  ".join(words))

    def _line_words(self, result: Inverse) -> list[str]:
        unit, style = self.bridge.unit, self.bridge.angle_style
        decimals = 4 if style == "gon" else 1
        words = [f"grid {format_length(result.grid_distance_m, unit, 4)}"]
        words.append(f"azimuth {format_azimuth(result.grid_azimuth_rad, style, decimals)}")
        if result.height_difference_m is not None:
            words.append(f"height difference {format_length(result.height_difference_m, unit, 4)}")
        if result.ellipsoid_distance_m is not None and result.geodetic_azimuth_rad is not None:
            words.append(f"ellipsoid {format_length(result.ellipsoid_distance_m, unit, 4)}")
            words.append(f"geodetic azimuth {format_azimuth(result.geodetic_azimuth_rad, style, decimals)}")
        if result.ground_distance_m is not None:
            length = format_length(result.ground_distance_m, unit, 4)
            words.append(f"ground {length} (combined factor {result.combined_factor:.8f})")
        return words

    def shut_down(self) -> None:
        """Stop reading backdrops."""
        self.store.shut_down()

    def commands(self) -> Sequence[ActionSpec]:
        """Its commands."""
        plan, night = self.pane.plan, self.night
        rows: tuple[tuple[str, str, str, Callable[[], object], str], ...] = (
            ("fit", "Show all marks", "Fit the plan to all marks", plan.fit_all, "Ctrl+0"),
            ("in", "Zoom in", "Show less, larger", partial(plan.zoom, 1.25), "Ctrl++"),
            ("out", "Zoom out", "Show more, smaller", partial(plan.zoom, 0.8), "Ctrl+-"),
            ("measure", "Measure between two marks", MEASURE_TIP, self.pane.measure.toggle, "Ctrl+M"),
            ("layers", "Layers of the plan", LAYERS_TIP, self.open_layers, ""),
            ("under", "Put a drawing or an image under the plan …", UNDER_TIP, self._browse, ""),
            ("png", "Save the plan as a picture …", "Write a PNG of the plan", self.save_png, ""),
            ("print", "Print the plan …", "Print the plan on one page", self.print_plan, "Ctrl+P"),
            ("night", "Night or day colours", NIGHT_TIP, night.emit, "Ctrl+Shift+D"),
        )
        return tuple(
            ActionSpec(id=f"plan.{key}", menu="Plan", text=text, tip=tip, run=run, shortcut=shortcut)
            for key, text, tip, run, shortcut in rows
        )

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
        self.bridge.do(Gesture(f"Put {os.path.basename(path)} under the plan", (Add(record=record),)))

    def save_png(self) -> None:
        """Ask for a file and write the plan as a picture."""
        path, _ = QFileDialog.getSaveFileName(
            self.pane, "Picture of the plan", os.path.join(self.bridge.folder, "plan.png"), "PNG (*.png)"
        )
        if path:
            self.write_png(path)

    def write_png(self, path: str) -> None:
        """Write the plan as a picture."""
        path = path if path.lower().endswith(".png") else f"{path}.png"
        data = QBuffer()
        self.pane.picture().save(data, "PNG")  # type: ignore[call-overload]
        try:
            write_bytes(path, bytes(data.data().data()))
        except FenwindError as error:
            self.bridge.tell_error(error)
        else:
            self.bridge.told.emit(f"Written: {path}", "")

    def print_plan(self) -> None:
        """Ask for a printer and print."""
        printer = QPrinter(QPrinter.PrinterMode.HighResolution)
        if QPrintDialog(printer, self.pane).exec() == QDialog.DialogCode.Accepted:
            self.print_to(printer)

    def print_to(self, printer: QPrinter) -> None:
        """Print the plan with the job's name and the frame under it."""
        plan = self.pane.plan
        self.pane.print_on(printer, f"{self.bridge.state.info.name}   {plan.scene.title}")


def _sigma_words(covariance: NDArray[np.float64], azimuth_rad: float) -> list[str]:
    """How sure a line is: one sigma along and across it, and in height, from the covariance of its ends'
    difference."""
    along = np.array([math.sin(azimuth_rad), math.cos(azimuth_rad)])
    across = np.array([along[1], -along[0]])
    plan, up = covariance[:2, :2], float(covariance[2, 2])
    if not np.isfinite(plan).all():
        return []
    parts = [math.sqrt(max(float(axis @ plan @ axis), 0.0)) for axis in (along, across)]
    words = f"± {mm(parts[0])} mm along, ± {mm(parts[1])} mm across"
    return [words + (f", ± {mm(math.sqrt(max(up, 0.0)))} mm in height" if math.isfinite(up) else "")]
