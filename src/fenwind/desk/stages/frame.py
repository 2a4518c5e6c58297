"""Frame: the system of the job, what its heights are counted from, and what both mean on the ground."""

from __future__ import annotations

import math
from collections.abc import Callable, Sequence
from dataclasses import replace
from functools import partial

import numpy as np
from PySide6.QtCore import Qt
from PySide6.QtGui import QShowEvent
from PySide6.QtWidgets import QFileDialog, QMenu

from fenwind.desk.actions import ActionSpec
from fenwind.desk.bridge import JobBridge
from fenwind.desk.plan_scene import Scene
from fenwind.desk.shell import PlainLabel, look
from fenwind.desk.stage_table import Stage
from fenwind.desk.stages import shift_asked, velocity_asked
from fenwind.desk.stages.frame_preview import FramePreview, preview_of
from fenwind.desk.stages.frame_rows import Place, Way, find_ways, place_columns, way_columns
from fenwind.desk.stages.incoming_taking import local_plane
from fenwind.desk.stages.sheet import Sheet
from fenwind.desk.stages.system_search import SystemSearch, degrees_of
from fenwind.desk.statement import choice
from fenwind.desk.table import RecordTable, column_width
from fenwind.desk.tasks import Task, TaskRunner
from fenwind.desk.theme import scaled
from fenwind.errors import FenwindError
from fenwind.geodesy.catalogue import System, systems
from fenwind.geodesy.frames import (
    FrameSpec,
    HeightReference,
    height_words,
    is_dynamic,
    open_frame,
    working_frame_spec,
)
from fenwind.geodesy.plate_motion import MODELS, find_plate, plates, rates
from fenwind.job import gestures
from fenwind.job.derive import Derived
from fenwind.job.reader import with_grid_folder
from fenwind.job.velocity_gestures import velocities_in, velocity_words
from fenwind.procedures.frame_meaning import PLACES, FrameMeaning, frame_meaning
from fenwind.procedures.onto_plane import MARKS_MEAN
from fenwind.progress import Progress
from fenwind.quantities.lengths import FOOT, METRE, UNITS, US_SURVEY_FOOT
from fenwind.quantities.numbers import counted, format_fixed
from fenwind.records.entries import Gesture
from fenwind.reports.statement import Part


class FrameSheet(Sheet):
    """Statement, the search, factors at the middle and the corners, operations."""

    def __init__(self, bridge: JobBridge, stage: Stage) -> None:
        super().__init__(bridge, stage)
        self._preview: FramePreview | None = None
        self.ask.closed.connect(self._forget_preview)
        self.statement.set_menus(
            {
                "frame": self.menu_frame,
                "heights": self.menu_heights,
                "epoch": self._menu_epoch,
                "plate": self._menu_plate,
                "unit": self._menu_unit,
                "angle": self._menu_angle,
                "axes": self._menu_axes,
                "decimals": self._menu_decimals,
            }
        )
        self._runner = TaskRunner(self)
        self._ways_known: dict[tuple[object, ...], list[Way]] = {}
        self.search = SystemSearch(self._use_system)
        self.column.addWidget(self.search, 1)
        self.note = PlainLabel("")
        self.note.setWordWrap(True)
        look(self.note, "faint")
        self.column.addWidget(self.note)
        self.places = RecordTable([])
        self.places.setAccessibleName("What the frame means at the middle and the corners of the job")
        self.places.setFixedHeight(scaled(38) + 5 * scaled(30) + 6)
        self.places.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.places.setVerticalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.column.addWidget(self.places)
        self.ways_note = PlainLabel("")
        self.ways_note.setWordWrap(True)
        look(self.ways_note, "faint")
        self.column.addWidget(self.ways_note)
        self.ways = RecordTable(way_columns())
        self.ways.setAccessibleName("Operations from other systems into the frame")
        self.column.addWidget(self.ways, 1)
        self.column.addStretch(0)

    def showEvent(self, event: QShowEvent) -> None:
        super().showEvent(event)
        if not self._runner.live:  # the list of all systems takes a moment: have it before somebody types
            self._runner.start(Task(_list_systems))

    # Showing
    # -----------------------------------------------------------------------------------------------------

    def show_job(self) -> None:
        bridge = self.bridge
        record, info = bridge.frame, bridge.state.info
        self.caption.setText("FRAME")
        if record is None:
            self.statement.show_parts(
                [Part(text="The job is in "), Part(text="no frame yet", key="frame"), Part(text=".")]
            )
            self.note.setText(
                "Find the system by name, code or country; or paste a list in Marks, and the frame is "
                "asked there."
            )
            self.places.hide()
            self.ways.hide()
            self.ways_note.setText("")
            return
        spec = record.spec
        epoch = "no epoch" if spec.epoch_year is None else f"epoch {spec.epoch_year:g}"
        parts = [
            Part(text="The job is in "),
            Part(text=spec.name, key="frame"),
            Part(text=", heights above "),
        ]
        parts += [Part(text=height_words(spec.height), key="heights"), Part(text=", ")]
        if spec.crs:
            parts += [Part(text=epoch, key="epoch"), Part(text=", ")]
            own = len(velocities_in(bridge.state, record.id))
            if spec.epoch_year is not None and (own or is_dynamic(spec.crs)):
                plate = (
                    f"moving as {own} mark{'s do' if own > 1 else ' does'}" if own else "on no named plate"
                )
                plate = f"moving with {spec.plate}" if spec.plate else plate
                parts += [Part(text=plate, key="plate"), Part(text=", ")]
        parts += [Part(text=UNITS[spec.unit].plural, key="unit"), Part(text=" and ")]
        parts += [Part(text="gon" if info.angle_style == "gon" else "degrees", key="angle"), Part(text=", ")]
        parts += [
            Part(text="easting first" if spec.axis_order == "EN" else "northing first", key="axes"),
            Part(text=", shown to "),
        ]
        parts += [Part(text=counted(info.decimals, "decimal"), key="decimals"), Part(text=".")]
        self.statement.show_parts(parts)
        self._show_meaning()
        self._show_ways()

    def header_menus(self) -> dict[str, Callable[[QMenu], None]]:
        return {"frame": self.menu_frame, "heights": self.menu_heights, "units": self.menu_units}

    def commands(self) -> Sequence[ActionSpec]:
        return (
            ActionSpec(
                id="frame.find",
                menu=self.stage.name,
                text="Find a system",
                tip="By name, code, country, or where the job lies",
                run=self._show_search,
            ),
            ActionSpec(id="frame.shift", menu=self.stage.name, text="Shift grid of its datum …",
                       tip="The way to other datums goes by a grid of your own: NTv2 or GeoTIFF",
                       run=lambda: shift_asked.browse(self, self.bridge, self.ask)),
            ActionSpec(id="frame.no-shift", menu=self.stage.name, text="Without its shift grid",
                       tip="PROJ finds the way to other datums again",
                       run=lambda: shift_asked.leave_out(self.bridge)),
            ActionSpec(id="frame.velocity", menu=self.stage.name, text="Velocity of a mark …",
                       tip="How a mark moves in this datum, mm a year: it wins over the frame's plate",
                       run=lambda: velocity_asked.ask_velocity(self.bridge, self.ask)),
            ActionSpec(id="frame.velocities", menu=self.stage.name, text="Velocities from a list …",
                       tip="CSV with name,ve,vn,vu in mm a year",
                       run=lambda: velocity_asked.browse(self, self.bridge)),
            ActionSpec(id="frame.no-velocities", menu=self.stage.name, text="Without velocities of marks",
                       tip="What is given of them in this frame is switched off",
                       run=lambda: velocity_asked.leave_out(self.bridge)),
        )  # fmt: skip

    def _show_search(self) -> None:
        self.bridge.show_stage(self.stage.name)
        self.find_system()

    def shut_down(self) -> None:
        """Stop looking."""
        self._runner.shut_down()

    def _meaning(self) -> FrameMeaning | str:
        """The meaning of the frame over the adopted marks, or why there is none."""
        record = self.bridge.frame
        assert record is not None
        adopted = self.bridge.derived.adopted.get(self.bridge.frame_id)
        if not record.spec.crs:
            return (
                "A local plane has no known relation to the earth: no factors, no convergence, no "
                "ellipsoidal heights. Fits tie it to other frames."
            )
        if adopted is None or not len(adopted.names):
            return "No marks yet: what the system means on the ground is shown as soon as there are some."
        try:
            frame = open_frame(with_grid_folder(record.spec, self.bridge.folder))
            return frame_meaning(frame, adopted.e_m, adopted.n_m, adopted.height_m)
        except (FenwindError, ValueError) as error:
            return error.one_line if isinstance(error, FenwindError) else f"{error}."

    def _show_meaning(self) -> None:
        found = self._meaning()
        self.places.setVisible(isinstance(found, FrameMeaning))
        record = self.bridge.frame
        assert record is not None
        moving = velocity_words(self.bridge.state, record.id)
        more = shift_asked.words(record.spec.crs) + (f" {moving}" if moving else "") + self._plate_words()
        if isinstance(found, str):
            self.note.setText(found + more)
            return
        middle = float(found.combined_ppm[0])
        words = "No heights are known, so only the scale of the projection is."
        if math.isfinite(middle):
            way = "longer" if middle > 0 else "shorter"
            words = (
                f"In the middle of the job 100 m on the ground are {abs(middle) / 10:.1f} mm {way} on the "
                f"grid (combined factor {found.combined[0]:.8f})."
            )
        if found.outside:
            words += " A corner of the job lies outside the area the system is meant for."
        self.note.setText(words + more)
        columns = place_columns(self.bridge)
        self.places.records.set_columns(columns)
        for i, column in enumerate(columns):
            self.places.setColumnWidth(i, column_width(column))
        self.places.records.set_rows([Place(name, found, i) for i, name in enumerate(PLACES)])

    def _plate_words(self) -> str:
        """How the plate that is named moves where the job lies."""
        record, at = self.bridge.frame, self.place()
        plate = record.spec.plate if record is not None else ""
        if record is None or at is None or plate in ("", MARKS_MEAN) or not is_dynamic(record.spec.crs):
            return ""
        try:
            base, named = open_frame(FrameSpec(name="", crs=record.spec.crs)).geodetic_crs, find_plate(plate)
        except FenwindError as error:
            return f" {error.sentences}"
        rate = rates(base, named, np.array([at[0]]), np.array([at[1]]), np.zeros(1))[:, 0] * 1e3
        east, north, up = (format_fixed(float(v), 1, sign=True) for v in rate)
        return f" The plate {named.name} moves east {east}, north {north}, up {up} mm a year here."

    def place(self) -> tuple[float, float] | None:
        """Where the job lies: latitude and longitude in radians, from measured positions or from any frame
        with a datum."""
        for m in self.bridge.state.measured.values():
            if m.active and m.lat_rad is not None and m.lon_rad is not None:
                return m.lat_rad, m.lon_rad
        for key, record in self.bridge.state.frames.items():
            adopted = self.bridge.derived.adopted.get(key)
            if record.active and record.spec.crs and adopted is not None and len(adopted.names):
                lat, lon = open_frame(FrameSpec(name="", crs=record.spec.crs)).inverse(
                    adopted.e_m[:1], adopted.n_m[:1]
                )
                if math.isfinite(float(lat[0])):
                    return float(lat[0]), float(lon[0])
        return None

    def _show_ways(self) -> None:
        """The operations from each other system that positions of the job are in; looked up in the worker,
        once."""
        record = self.bridge.frame
        assert record is not None
        if not record.spec.crs:
            self._fill_ways(record.spec.name, [], "")
            return
        wanted = (record.spec.crs, tuple(self._other_systems()), self._area())
        if wanted in self._ways_known:
            same = (
                "Everything with a datum in this job is in the frame's own datum: no operation stands "
                "between."
            )
            self._fill_ways(record.spec.name, self._ways_known[wanted], same)
            return
        self._fill_ways(record.spec.name, [], "Looking for the ways from other systems …")
        task = Task(find_ways, *wanted)
        task.signals.succeeded.connect(partial(self._on_ways, wanted))
        task.signals.failed.connect(lambda error: self.ways_note.setText(f"{error}."))
        self._runner.start(task)

    def _on_ways(self, wanted: tuple[object, ...], rows: list[Way]) -> None:
        self._ways_known[wanted] = rows
        self.refresh()

    def _fill_ways(self, frame: str, rows: list[Way], otherwise: str) -> None:
        self.ways.records.set_rows(rows)
        self.ways.setVisible(bool(rows))
        lacking = sum(not r.operation.present for r in rows)
        words = f"Ways into {frame}: the best that is here is used" + (
            f"; {lacking} lack a grid." if lacking else "."
        )
        self.ways_note.setText(words if rows else otherwise)

    def _area(self) -> tuple[float, float, float, float] | None:
        place = self.place()
        if place is None:
            return None
        lat, lon = math.degrees(place[0]), math.degrees(place[1])
        return lon - 1e-4, lat - 1e-4, lon + 1e-4, lat + 1e-4

    def _other_systems(self) -> list[str]:
        measured = [m.crs for m in self.bridge.state.measured.values() if m.active and m.crs]
        frames = [
            r.spec.crs
            for k, r in self.bridge.state.frames.items()
            if r.active and r.spec.crs and k != self.bridge.frame_id
        ]
        return list(dict.fromkeys([*measured, *frames]))

    # Choosing
    # ----------------------------------------------------------------------------------------------------

    def _change(self, what: str, **changes: object) -> None:
        """Change the frame; what that moves is shown before it is taken."""
        record = self.bridge.frame
        if record is None:
            return
        gesture = gestures.change_frame(record, what, **changes)
        self.bridge.what_if(gesture.entries, partial(self._offer, gesture))

    def _offer(self, gesture: Gesture, after: Derived | None) -> None:
        self._preview = preview_of(self.bridge, gesture, after)
        if self._preview is None:
            self.bridge.do(gesture)
            return
        self.ask.ask(self._preview.words, lambda _: self.bridge.do(gesture),
                     placeholder="Enter takes it, Esc leaves it", button="Take it")  # fmt: skip
        self.plan_changed.emit()

    def overlay(self, scene: Scene) -> None:
        if self._preview is not None:
            self._preview.show(scene)

    def _forget_preview(self) -> None:
        if self._preview is not None:
            self._preview = None
            self.plan_changed.emit()

    def _info(self, what: str, field: str, value: object) -> None:
        self.bridge.do(gestures.set_field([self.bridge.state.info], field, value, what))

    def menu_frame(self, menu: QMenu) -> None:
        """Frames of the job, and ways to another."""
        info = self.bridge.state.info
        for key, record in self.bridge.state.frames.items():
            act = partial(gestures.set_field, [info], "frame", key, f"Show {record.spec.name}")
            choice(
                menu, record.spec.name, partial(self.bridge.attempt, act), checked=key == self.bridge.frame_id
            )
        menu.addSeparator()
        choice(menu, "find a system …", self.find_system)
        choice(menu, "a system by WKT or PROJ string …", self._ask_text)
        choice(menu, "a local plane …", self._ask_plane)

    def find_system(self) -> None:
        """Open the search for a horizontal system."""
        self.bridge.stage_requested.emit("Frame")
        self.search.open("projected", self.place())
        place = self.place()
        if place is not None:
            self.search.here.setText(f"only where the job lies ({degrees_of(place)})")

    def _use_system(self, system: System) -> bool:
        if system.projection or self.search._kind == "projected":
            return self._add(system.code)
        height = HeightReference(kind="vertical", crs=system.code, name=system.name)
        self._change(f"Count heights from {system.name}", height=height)
        return True

    def _add(self, text: str) -> bool:
        """Add a system as a frame and show it; heights stay what they were counted from where the datum
        allows."""
        try:
            spec = working_frame_spec(text)
            before = self.bridge.frame
            if before is not None and before.spec.crs and before.spec.height.kind in ("geoid", "vertical"):
                spec = replace(spec, height=before.spec.height, epoch_year=before.spec.epoch_year)
            open_frame(with_grid_folder(spec, self.bridge.folder))
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        key, (what, entries) = gestures.add_frame(spec)
        shown = gestures.set_field([self.bridge.state.info], "frame", key, "")[1]
        return self.bridge.do(Gesture(what, (*entries, *shown)))

    def _ask_text(self) -> None:
        self.bridge.stage_requested.emit("Frame")
        self.ask.ask("System", self._add, placeholder="EPSG:25832, WKT or a PROJ string", button="Use it")

    def _ask_plane(self) -> None:
        self.bridge.stage_requested.emit("Frame")

        def answer(text: str) -> bool:
            key, (what, entries) = gestures.add_frame(
                local_plane(text.strip() or "Local plane", self.bridge.unit.key)
            )
            return self.bridge.do(
                Gesture(what, (*entries, *gestures.set_field([self.bridge.state.info], "frame", key, "")[1]))
            )

        self.ask.ask("Name of the plane", answer, text="Local plane", button="Make it")

    def menu_heights(self, menu: QMenu) -> None:
        """What heights of the frame shown can be counted from."""
        record = self.bridge.frame
        if record is None:
            menu.addAction("Choose a frame first").setEnabled(False)
            return
        kind = record.spec.height.kind
        if record.spec.crs:
            ellipsoid = HeightReference()
            choice(
                menu,
                "the ellipsoid",
                partial(self._change, "Count heights from the ellipsoid", height=ellipsoid),
                checked=kind == "ellipsoid",
            )
            choice(menu, "a geoid grid file …", self._browse_grid, checked=kind == "geoid")
            choice(
                menu,
                "a height system, by its name …",
                partial(self._find_heights),
                checked=kind == "vertical",
            )
        choice(menu, "a local zero …", self._ask_zero, checked=kind == "local")
        unknown = HeightReference(kind="unknown")
        choice(
            menu,
            "nobody said",
            partial(self._change, "Heights from something unstated", height=unknown),
            checked=kind == "unknown",
        )

    def _find_heights(self) -> None:
        self.bridge.stage_requested.emit("Frame")
        self.search.open("vertical", self.place())

    def _browse_grid(self) -> None:
        path, _ = QFileDialog.getOpenFileName(
            self, "Geoid grid", self.bridge.folder, "Geoid grids (*.gtx *.tif *.tiff)"
        )
        if path:
            self.use_grid(path)

    def use_grid(self, path: str) -> None:
        """Count heights from a grid file; for a height system the grid realises it."""
        from fenwind.geodesy.geoid import GeoidGrid

        record = self.bridge.frame
        assert record is not None
        try:
            grid = GeoidGrid(path)
        except FenwindError as error:
            self.bridge.tell_error(error)
            return
        before = record.spec.height
        height = (
            replace(before, grid=str(grid.path))
            if before.kind == "vertical"
            else HeightReference(kind="geoid", grid=str(grid.path), name=grid.path.stem)
        )
        self._change(f"Count heights from {grid.path.name}", height=height)

    def _ask_zero(self) -> None:
        self.bridge.stage_requested.emit("Frame")

        def answer(text: str) -> None:
            self._change(
                "Count heights from a local zero",
                height=HeightReference(kind="local", name=text.strip() or "its own zero"),
            )

        self.ask.ask("Name of the zero", answer, text="its own zero", button="Use it")

    def menu_units(self, menu: QMenu) -> None:
        """Units, axis order and angles in one menu."""
        if self.bridge.frame is not None:
            self._menu_unit(menu)
            menu.addSeparator()
            self._menu_axes(menu)
            menu.addSeparator()
        self._menu_angle(menu)

    def _menu_epoch(self, menu: QMenu) -> None:
        choice(menu, "no epoch", partial(self._change, "No epoch", epoch_year=None))
        choice(menu, "a decimal year …", self._ask_epoch)

    def _ask_epoch(self) -> None:
        def answer(text: str) -> bool:
            try:
                year = float(text.replace(",", "."))
            except ValueError:
                year = math.nan
            if not 1900.0 < year < 2200.0:
                self.bridge.told.emit(f"{text!r} is no decimal year. Type one such as 2026.9.", "doubt")
                return False
            self._change(f"Epoch {year:g}", epoch_year=year)
            return True

        self.ask.ask("Epoch of coordinates that carry none", answer, placeholder="2026.9", button="Use it")

    def _menu_plate(self, menu: QMenu) -> None:
        record = self.bridge.frame
        assert record is not None
        model = next((m for m in MODELS if m in record.spec.name.upper()), MODELS[1])
        own = record.spec.plate
        choice(menu, "no plate", partial(self._change, "No plate", plate=""), checked=not own)
        if velocities_in(self.bridge.state, record.id):
            act = partial(self._change, "Move as the marks with velocities do", plate=MARKS_MEAN)
            choice(menu, "the mean of the marks with velocities", act, checked=own == MARKS_MEAN)
        choice(menu, "the velocity of a mark …", lambda: velocity_asked.ask_velocity(self.bridge, self.ask))
        menu.addSeparator()
        for name in sorted(plates(model)):
            key = f"{model}:{name}"
            checked = own == key
            choice(menu, key, partial(self._change, f"Move with {key}", plate=key), checked=checked)

    def _menu_unit(self, menu: QMenu) -> None:
        record = self.bridge.frame
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            name = unit.plural
            checked = record is not None and record.spec.unit == unit.key
            choice(
                menu,
                f"{name} ({unit.key})",
                partial(self._change, f"Show {name}", unit=unit.key),
                checked=checked,
            )

    def _menu_angle(self, menu: QMenu) -> None:
        for style, words in (("gon", "gon"), ("degrees", "degrees, minutes, seconds")):
            choice(
                menu,
                words,
                partial(self._info, f"Show {style}", "angle_style", style),
                checked=self.bridge.angle_style == style,
            )

    def _menu_axes(self, menu: QMenu) -> None:
        for order, words in (("EN", "easting first"), ("NE", "northing first")):
            checked = self.bridge.frame is not None and self.bridge.frame.spec.axis_order == order
            choice(menu, words, partial(self._change, f"Show {words}", axis_order=order), checked=checked)

    def _menu_decimals(self, menu: QMenu) -> None:
        for count in (2, 3, 4, 5):
            checked = self.bridge.state.info.decimals == count
            choice(
                menu,
                counted(count, "decimal"),
                partial(self._info, f"Show {counted(count, 'decimal')}", "decimals", count),
                checked=checked,
            )


def _list_systems(progress: Progress) -> None:
    systems("projected")
    systems("vertical")
