"""Where a list that comes in belongs: its frame, its system, its unit; chosen by its numbers, changed by the
menus of the sentence."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from functools import partial

import numpy as np
from numpy.typing import NDArray
from PySide6.QtWidgets import QMenu

from fenwind.desk.askline import AskLine
from fenwind.desk.bridge import JobBridge
from fenwind.desk.plan_extras import Coming
from fenwind.desk.stages.incoming_taking import BY_CODE, NEW_PLANE, OWN_PLANE, Where, local_plane, same_system
from fenwind.desk.statement import choice
from fenwind.errors import FenwindError
from fenwind.exchange.point_list import PointList
from fenwind.exchange.raw_table import RawTable
from fenwind.geodesy.frames import Frame, FrameSpec, HeightReference, find_crs, open_frame, working_frame_spec
from fenwind.geodesy.own_plane import plane_through
from fenwind.geodesy.usual_systems import geographic_system, likely_systems
from fenwind.job import gestures
from fenwind.job.incoming import IncomingPoints
from fenwind.job.list_place import Listed, frame_of, likelier_unit
from fenwind.job.reader import with_grid_folder
from fenwind.procedures.onto_plane import onto_plane
from fenwind.quantities.lengths import FOOT, METRE, UNITS, US_SURVEY_FOOT

FloatArray = NDArray[np.float64]


class ListPlace:
    """The frame (an id of the job's, or one of NEW_PLANE, BY_CODE, OWN_PLANE), the system that latitudes and
    longitudes are in, the unit; `remark` is what is odd about the numbers there. `changed` is called when
    somebody chose otherwise."""

    def __init__(self, bridge: JobBridge, ask: AskLine, changed: Callable[[], object]) -> None:
        self._bridge, self._ask, self._changed = bridge, ask, changed
        self.frame = ""
        self.system = ""
        self.unit = METRE
        self.remark = ""
        self.geographic = False
        self._stated = ""
        self._points: PointList | None = None

    # Choosing by itself
    # -----------------------------------------------------------------------------------------------------

    def choose(self, raw: RawTable, points: PointList | None, geographic: bool) -> None:
        """Choose for a list just opened; points: its first rows, None where they cannot be read yet."""
        self.geographic, self.remark, self._points, self._stated = geographic, "", points, raw.crs
        bridge, frames = self._bridge, self._bridge.state.frames
        self.unit = METRE if geographic else UNITS[raw.unit] if raw.unit else bridge.unit
        self.system = raw.crs if geographic else ""
        stated = next((k for k, r in frames.items() if raw.crs and same_system(r.spec.crs, raw.crs)), "")
        if geographic:
            self.settle_geographic()
        elif stated or raw.crs:
            self.frame = stated or BY_CODE
        else:
            self.frame = self._by_numbers(points)

    def settle_geographic(self) -> None:
        """A frame that latitudes and longitudes can be in: the one shown, any other with a datum, a plane of
        their own."""
        frames = self._bridge.state.frames
        here = frames.get(self.frame) or self._bridge.frame
        if here is not None and here.spec.crs and here.active:
            self.frame = here.id
        else:
            self.frame = next((k for k, r in frames.items() if r.spec.crs and r.active), OWN_PLANE)
        if not self.system and self.frame in frames:
            spec = frames[self.frame].spec
            self.system = open_frame(FrameSpec(name=spec.name, crs=spec.crs)).geodetic_name

    def _by_numbers(self, points: PointList | None) -> str:
        frames = self._live_frames()
        if not frames:
            return NEW_PLANE
        if points is None or not np.isfinite(points.values[0]).any():
            return self._bridge.frame_id
        found = frame_of(self._listed(points), frames, self._bridge.derived.adopted, self._bridge.frame_id)
        if not found:
            unit = self._other_unit(points, frames)
            if unit is None:
                self.remark = "These numbers lie near nothing of the job: say which frame they are in."
                return BY_CODE
            found = unit
        self.look_at_unit(points, found)
        return found

    def _other_unit(self, points: PointList, frames: dict[str, Frame]) -> str | None:
        known = self._bridge.derived.adopted
        listed = self._listed(points)
        fitting = (k for k, f in frames.items() if likelier_unit(listed, self.unit, f, known.get(k)))
        return next(fitting, None)

    def look_at_unit(self, points: PointList, key: str) -> None:
        """Note the unit in which the numbers would fit, where they do not in the one chosen."""
        frame = self._live_frames().get(key)
        self.remark = ""
        if frame is None or self.geographic:
            return
        other = likelier_unit(self._listed(points), self.unit, frame, self._bridge.derived.adopted.get(key))
        if other is not None:
            self.remark = (
                f"Read as {self.unit.plural} these numbers lie outside {frame.spec.name}; as "
                f"{other.plural} they "
                "lie inside: choose the unit in the sentence."
            )

    @staticmethod
    def _listed(points: PointList) -> Listed:
        rows = np.flatnonzero(np.isfinite(points.values[0]))
        names = points.names if rows.size == len(points.names) else [points.names[i] for i in rows]
        return Listed(names=names, e_m=points.values[0, rows], n_m=points.values[1, rows])

    def _live_frames(self) -> dict[str, Frame]:
        """The job's frames that open."""
        found: dict[str, Frame] = {}
        for key, record in self._bridge.state.frames.items():
            if record.active:
                try:
                    found[key] = open_frame(with_grid_folder(record.spec, self._bridge.folder))
                except FenwindError:
                    continue  # it has a doubt of its own
        return found

    # What follows from it
    # -----------------------------------------------------------------------------------------------------

    def where(self) -> Where:
        """How positions reach the frame's plane."""
        record = self._bridge.state.frames.get(self.frame)
        spec = with_grid_folder(record.spec, self._bridge.folder) if record is not None else None
        return Where(system=self.system, spec=spec, own=self.frame == OWN_PLANE)

    @property
    def name(self) -> str:
        """The frame for people."""
        words = {
            NEW_PLANE: "a new local plane",
            BY_CODE: "a system you name",
            OWN_PLANE: "a plane of its own through their middle",
        }
        return words.get(self.frame) or self._bridge.state.frames[self.frame].spec.name

    @property
    def system_name(self) -> str:
        """The system of latitudes and longitudes for people."""
        return str(find_crs(self.system).name) if self.system else "a system you name"

    def still_there(self) -> None:
        """Go back to the frame shown when the chosen one was undone meanwhile."""
        if self.frame not in (NEW_PLANE, BY_CODE, OWN_PLANE, *self._bridge.state.frames):
            self.frame = self._bridge.frame_id or (OWN_PLANE if self.geographic else NEW_PLANE)

    def new_frame(self, points: PointList) -> FrameSpec | None:
        """The recipe of the plane that taking the list makes; None where it goes into a frame that is
        there."""
        if self.frame == NEW_PLANE:
            return local_plane("Local plane", self.unit.key)
        if self.frame == OWN_PLANE:
            return plane_through(self.system, *points.values[:3])
        return None

    def coming(self, points: IncomingPoints, shown: str) -> Coming | None:
        """The points on the plan of the frame shown; alone where that frame cannot be reached."""
        frames = self._live_frames()
        here, there = frames.get(shown), frames.get(self.frame)
        at: FloatArray = points.values[:2]
        try:
            if points.geographic:
                if not self.system or here is None or not here.has_datum:
                    return None
                lat, lon, h = points.values[:3]
                at = onto_plane(lat, lon, h, self.system, here, here.spec.epoch_year)[0][:2]
            elif self.frame != shown:
                if here is None or there is None or not (here.has_datum and there.has_datum):
                    return Coming(names=points.names, at=at, alone=self.name)
                lat, lon = there.inverse(*at)
                h = np.full(lat.shape, np.nan)
                at = onto_plane(lat, lon, h, there.geodetic_crs.to_wkt(), here, here.spec.epoch_year)[0][:2]
        except FenwindError:
            return None  # the sheet says what is wrong
        now = np.full(at.shape, np.nan)
        adopted = self._bridge.derived.adopted.get(shown)
        rows = [adopted.index.get(n, -1) if adopted is not None else -1 for n in points.names]
        known = np.flatnonzero(np.array(rows) >= 0)
        if adopted is not None and known.size:
            chosen = np.array(rows)[known]
            now[:, known] = adopted.e_m[chosen], adopted.n_m[chosen]
        return Coming(names=points.names, at=at, now=now)

    # Menus
    # -----------------------------------------------------------------------------------------------------

    def menu_frame(self, menu: QMenu, measured: bool) -> None:
        """The frames a list could be in."""
        for key, record in self._bridge.state.frames.items():
            if record.spec.crs or not self.geographic:
                choice(menu, record.spec.name, partial(self._set_frame, key), checked=key == self.frame)
        if self.geographic:
            words = "a plane of its own through their middle"
            choice(menu, words, partial(self._set_frame, OWN_PLANE), checked=self.frame == OWN_PLANE)
        else:
            choice(menu, "a new local plane …", self._ask_plane, checked=self.frame == NEW_PLANE)
        ask = partial(self.ask_code, measured)
        choice(menu, "a system you name …", ask, checked=self.frame == BY_CODE)

    def menu_system(self, menu: QMenu) -> None:
        """What latitudes and longitudes could be in: likely ones, or one that is named."""
        for code, name in self._likely():
            choice(menu, name, partial(self._set_system, code), checked=same_system(code, self.system))
        menu.addSeparator()
        choice(menu, "another, by its name or code …", self.ask_system)

    def _likely(self) -> list[tuple[str, str]]:
        points = self._points
        if points is None or not points.geographic or not points.names:
            return []
        lat, lon = (float(np.nanmedian(v)) for v in points.values[:2])
        return likely_systems(lat, lon)

    def menu_unit(self, menu: QMenu) -> None:
        """Units of easting, northing and height."""
        for unit in (METRE, FOOT, US_SURVEY_FOOT):
            choice(menu, unit.plural, partial(self._set_unit, unit.key), checked=unit is self.unit)

    def _set_unit(self, key: str) -> None:
        self.unit, self.remark = UNITS[key], ""
        self._changed()

    def _set_frame(self, key: str) -> None:
        self.frame, self.remark = key, ""
        self._changed()

    def _set_system(self, text: str) -> None:
        self.system = text
        self._changed()

    def ask_system(self, then: Callable[[], object] = lambda: None) -> None:
        """Ask for the system of latitudes and longitudes by name, then go on."""

        def answer(text: str) -> bool:
            try:
                self._set_system(geographic_system(text))
            except FenwindError as error:
                self._bridge.tell_error(error)
                return False
            then()
            return True

        likely = self._likely()
        self._ask.ask(
            "System of latitude and longitude",
            answer,
            text=likely[0][1] if likely else "",
            placeholder="ETRS89, WGS 84, EPSG:4258 …",
            button="Use it",
        )

    def _add_frame(self, spec: FrameSpec) -> bool:
        key, gesture = gestures.add_frame(spec)
        self.frame, self.remark = key, ""
        if not self._bridge.do(gesture):
            return False
        self._changed()
        return True

    def _ask_plane(self) -> None:
        def answer(text: str) -> bool:
            return self._add_frame(local_plane(text.strip() or "Local plane", self.unit.key))

        self._ask.ask("Name of the plane", answer, text="Local plane", button="Make it")

    def ask_code(self, measured: bool) -> None:
        """Ask for the system of the list and make it a frame of the job."""

        def answer(text: str) -> bool:
            try:
                # What heights of a list are counted from is not known by the system alone; measured ones are
                # above the ellipsoid.
                height = HeightReference() if measured else HeightReference(kind="unknown")
                spec = replace(working_frame_spec(text), height=height)
            except FenwindError as error:
                self._bridge.tell_error(error)
                return False
            return self._add_frame(spec)

        text = "" if self.geographic else self._stated
        placeholder = "EPSG:25832, WKT or a PROJ string"
        self._ask.ask("System", answer, text=text, placeholder=placeholder, button="Use it")
