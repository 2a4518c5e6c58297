"""The total station on the Setups stage: a sentence that sights, what the instrument says now, what the last
reading left over or where it came to lie. Every reading is in the job when it is shown."""

from __future__ import annotations

import math
from collections.abc import Callable
from contextlib import suppress
from functools import partial

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QHBoxLayout, QMenu, QPushButton, QVBoxLayout, QWidget

from fenwind.desk.askline import AskLine
from fenwind.desk.instrument import LiveInstrument
from fenwind.desk.shell import PlainLabel, WholeLabel, look, show_look
from fenwind.desk.stages.rover_panel import way_said
from fenwind.desk.statement import Statement, choice
from fenwind.desk.theme import MEDIUM, font
from fenwind.devices.instrument import Instrument, Reading
from fenwind.devices.transport import DeviceError
from fenwind.errors import FenwindError, ParseError
from fenwind.geodesy.antenna import reduced
from fenwind.geodesy.frames import open_frame
from fenwind.job.reader import with_grid_folder
from fenwind.job.setup_gestures import Sighted, add_sightings
from fenwind.job.steps.base import antenna_model
from fenwind.job.steps.setup import Placed, one_more, setup_node
from fenwind.job.steps.sightings import air_typed
from fenwind.procedures.pointing_relation import Relation, relation_of
from fenwind.procedures.resection import Sighting
from fenwind.procedures.side_shots import pointing
from fenwind.quantities.angles import RAD_PER_DEGREE, RAD_PER_SECOND, format_angle, usual_decimals
from fenwind.quantities.lengths import format_length, format_way, parse_length
from fenwind.quantities.numbers import format_fixed, parse_number
from fenwind.records.entries import Gesture
from fenwind.records.setups import Air, Setup, ShotUse
from fenwind.reports.fit_report import mm
from fenwind.reports.statement import Part

ROLES = {"part": "to take part", "check": "as a check", "set out": "to set it out"}
#: Windows of a search, radians: around where it points, and all round.
NEAR, ROUND = 3.0 * RAD_PER_DEGREE, math.pi


class InstrumentPanel(QWidget):
    """See the module. known: names of known marks. begun: told the id of the setup that a reading began."""

    begun = Signal(str)

    def __init__(self, live: LiveInstrument, ask: AskLine, known: Callable[[], set[str]]) -> None:
        super().__init__()
        self.live, self.bridge, self.ask = live, live.bridge, ask
        self._known = known
        self._draft: Setup | None = None  # as it was set up, its station a name
        self._key = ""  # of the setup in the job that sightings go to
        self.target, self.role, self._said = "", "part", ""
        self.rover: tuple[float, float] | None = None  # where a receiver on the pole says it is
        self._seen: dict[str, tuple[tuple[float, float], tuple[float, float]]] = {}  # targets, by both
        self._kept_one = False  # whether what is said is of the reading that was kept last
        self._early: tuple[Setup | None, str] = (
            None,
            "",
        )  # what was said of a setup before all else was derived
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 4, 0, 2)
        column.setSpacing(6)
        self.statement = Statement(small=True)
        self.statement.set_menus({"faces": self._menu_faces, "role": self._menu_role})
        self.statement.part_clicked.connect(self._on_part)
        column.addWidget(self.statement)
        column.addLayout(self._make_buttons())
        self.reading, self.result, self.links = PlainLabel(""), WholeLabel(""), WholeLabel("")
        self.reading.setFont(font(13))
        self.result.setFont(font(17, MEDIUM))
        for label in (self.reading, self.result, self.links):
            column.addWidget(label)
        live.changed.connect(self.refresh)
        live.read.connect(self._on_reading)
        self.bridge.came_ahead.connect(self._say_early)

    def _make_buttons(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(8)
        self.buttons: dict[str, QPushButton] = {}
        for key, text, name, tip, run in (
            ("begin", "Set it up", "main", "Over a mark, with its height and the air", self.begin),
            ("measure", "Measure", "main", "Read the prism in sight", self.measure),
            ("find", "Find the prism", "second", "Turn to where the target is known to be and search there, "
             "or all round", self.find_prism),
            ("end", "End the setup", "second", "Sight no more from here", self.end),
            ("stop", "stop", "link", "Wait no longer for what it is doing", self.live.stop),
            ("leave", "Leave the instrument", "link", "", self.live.leave),
        ):  # fmt: skip
            button = self.buttons[key] = QPushButton(text)
            look(button, name)
            button.setToolTip(tip)
            button.clicked.connect(run)
            row.addWidget(button)
        row.addStretch(1)
        return row

    # What is shown

    @property
    def setup(self) -> Setup | None:
        """The setup that sightings go to; one that was undone begins anew."""
        kept = self.bridge.state.of(Setup).get(self._key)
        return kept if kept is not None and kept.active else self._draft

    def _found(self) -> Placed | FenwindError | None:
        return self.bridge.derived.of_kind("setup").get(self._key)

    def refresh(self) -> None:
        """Show how things stand."""
        on, setup, busy = bool(self.live.where), self.setup, bool(self.live.doing)
        self.setVisible(on)
        if not on:
            return
        self.statement.show_parts(self._parts(setup))
        for key in ("measure", "find", "end"):
            self.buttons[key].setVisible(setup is not None)
            self.buttons[key].setEnabled(not busy or key == "end")
        self.buttons["stop"].setVisible(busy)
        self.buttons["begin"].setVisible(setup is None)
        self.buttons["leave"].setVisible(setup is None)
        if self._kept_one and self.bridge.deriving:
            early = self._early[1] if self._early[0] is setup else ""
            self._said = early or "Kept; what follows from it is being worked out."
        elif self._kept_one:
            self._said = self._came_to(self._found())
        self.result.setText(self._said)
        self.result.setVisible(bool(self._said))
        self.reading.setVisible(bool(self.reading.text()))
        self.links.setText(self._links())
        quiet = not (self.live.problem or self.live.doing or self._leans())
        self.links.setVisible(not (quiet and self.reading.text()))
        show_look(self.links, "doubt" if self.live.problem or self._leans() else "faint")

    def _parts(self, setup: Setup | None) -> list[Part]:
        one, unit = self.live.equipment, self.bridge.unit
        if setup is None:
            return [Part(text="The instrument at "), Part(text=self.live.where, key="where"),
                    Part(text=" is ready to be set up.")]  # fmt: skip
        parts = [Part(text="Sight "), Part(text=self.target or "a mark to name", key="target")]
        if self._is_known():
            parts += [Part(text=" "), Part(text=ROLES[self.role], key="role")]
        return [
            *parts, Part(text=", its prism "), Part(text=format_length(one.target_m, unit, 3), key="height"),
            Part(text=" high, constant "), Part(text=f"{mm(one.prism_m)} mm", key="prism"),
            Part(text=", in "), Part(text="both faces" if one.both_faces else "one face", key="faces"),
            Part(text="."),
        ]  # fmt: skip

    def _leans(self) -> bool:
        return self.live.level is not None and not self.live.level[2]

    def _links(self) -> str:
        """How the instrument stands, in a sentence or two."""
        live = self.live
        if live.problem:
            return live.problem
        if live.doing:
            return f"It is {live.doing}."
        if live.state is None or live.level is None:
            return ""
        s, (along, across, _) = live.state, live.level
        lean = [format_fixed(v, 0, sign=True) for v in (along, across)]
        words = f"{s.name}, battery {s.battery:.0f} %, level {lean[0]}″ {lean[1]}″"
        words += f"; it applies a prism of {mm(s.prism_m)} mm and {format_fixed(s.applied_ppm, 1)} ppm."
        if self._leans():
            return f"{words} It is out of level: level it before it can measure."
        return words + self._pointer()

    def _pointer(self) -> str:
        """Whether a receiver on the pole can point the search, where one is listened to."""
        if self.rover is None or self.setup is None:
            return ""
        found = self._relation()
        if isinstance(found, str):
            return f" For the receiver to point the search it needs {found}."
        return f" The receiver points the search, to {format_way(found.rms_m)}."

    def _is_known(self) -> bool:
        return self._place_of(self.target) is not None

    def _place_of(self, name: str) -> np.ndarray | None:
        """Where a mark is in the frame of the setup (3,), None for nowhere."""
        setup, mark = self.setup, self.bridge.seen.mark_named(name) if name else None
        adopted = self.bridge.derived.adopted.get(setup.frame) if setup is not None else None
        row = adopted.place.get(mark.id) if adopted is not None and mark is not None else None
        if adopted is None or row is None:
            return None
        return np.array([adopted.e_m[row], adopted.n_m[row], adopted.height_m[row]])

    # What is done

    def look_at(self, name: str) -> None:
        """Make a mark the one to sight."""
        setup = self.setup
        if setup is None or self.live.doing or not name or name == self.target:
            return
        if name != self.bridge.seen.mark_name(setup.station, setup.station):
            self._name(name)

    def _name(self, name: str) -> None:
        self.target, self.role, self._said, self._kept_one = name.strip(), "part", "", False
        self.refresh()

    def begin(self) -> None:
        """Ask where the instrument stands."""
        state = self.live.state
        air = "in what air (°C, hPa, %)"
        if state is not None and state.air is not None:
            air += "; its sensors say {:.1f}, {:.0f}, {:.0f}".format(*state.air)
        self.ask.ask(
            f"Over which mark does it stand, how high ({self.bridge.unit.key}), {air}?",
            self._begin, placeholder="St-3, 1.612, 12, 1013, 60", button="Set it up",
        )  # fmt: skip

    def _begin(self, text: str) -> bool:
        try:
            self._draft, self._key, self._seen = self._begun(text), "", {}
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
        self._said, self._kept_one = "", False
        self.reading.setText("")
        self.refresh()
        return True

    def _begun(self, text: str) -> Setup:
        """A setup with nothing sighted, its station still a name."""
        state, (name, *rest) = self.live.state, [part.strip() for part in text.split(",")]
        if state is None:
            raise ParseError("the instrument does not answer yet", hint="Wait for it, or check its address")
        if not self.bridge.frame_id:
            raise ParseError("the job has no frame to place it in", hint="Set up a frame first")
        if not name:
            raise ParseError(f"{text.strip()!r} will not do", hint="Give a mark, a height, and the air")
        usual = Air(
            temperature_c=12.0, pressure_hpa=1013.25, carrier_um=state.carrier_um, reference=state.reference,
            applied_ppm=state.applied_ppm,
        )  # fmt: skip
        typed = rest[1:] or [f"{v:g}" for v in state.air or ()]
        air = air_typed(",".join(typed), usual)
        return Setup(
            id="", name="", frame=self.bridge.frame_id, station=name, source=f"{state.name}, read live",
            height_m=parse_length(rest[0], self.bridge.unit) if rest else 0.0, air=air,
            sigma_direction_s=state.sigma_direction_s, sigma_zenith_s=state.sigma_zenith_s,
            sigma_distance_m=state.sigma_distance_m, sigma_distance_ppm=state.sigma_distance_ppm,
            targets="weighted",
        )  # fmt: skip

    def go_on(self, setup: Setup) -> None:
        """Sight more from a setup of the job."""
        if setup.id != self._key:
            self._seen = {}
        self._draft, self._key, self._said, self._kept_one = None, setup.id, "", False
        self.refresh()

    def end(self) -> None:
        """Sight no more from here."""
        self._draft, self._key, self._said, self.target, self._kept_one = None, "", "", "", False
        self._seen = {}
        self.reading.setText("")
        self.refresh()

    def measure(self) -> None:
        """Read the prism in sight."""
        if not self.target:
            self._on_part("target")
        else:
            self.live.measure(self.live.equipment.both_faces and self.role != "set out")

    def find_prism(self) -> None:
        """Turn to where the target is known to be and search there, or to where a receiver on its pole says
        it is; all round where nobody knows, or it is not there."""
        at, placed = self._place_of(self.target), self._placed()
        there, window = None, NEAR
        if at is not None and placed is not None:
            there = pointing(placed.found, at, placed.setup.height_m, self.live.equipment.target_m)
        elif self.rover is not None and isinstance(relation := self._relation(), Relation):
            direction, window = relation.direction(*self.rover)
            there, window = (direction, 0.5 * math.pi), max(window, NEAR)

        def work(instrument: Instrument) -> None:
            if there is not None:
                instrument.turn(*there)
                with suppress(DeviceError):
                    instrument.search(window)
                    return
            instrument.search(ROUND)

        self.live.tell("searching", work)

    def _relation(self) -> Relation | str:
        """How the receiver lies to the instrument, or what is missing to know it."""
        receiver, seen = (
            np.array([pair[k] for pair in self._seen.values()]).reshape(-1, 2).T for k in (0, 1)
        )
        return relation_of(receiver, seen)

    def _pair(self, reading: Reading) -> None:
        """Keep where a receiver was while its pole was read."""
        if self.rover is None or reading.sd is None:
            return
        back = reading.face == 2
        hz, za = (reading.hz - math.pi, math.tau - reading.za) if back else (reading.hz, reading.za)
        level = reading.sd * math.sin(za)
        self._seen[self.target] = self.rover, (level * math.sin(hz), level * math.cos(hz))

    def _placed(self) -> Placed | None:
        found = self._found()
        return found if isinstance(found, Placed) else None

    # Readings

    def _on_reading(self, reading: Reading) -> None:
        setup, style = self.setup, self.bridge.angle_style
        if setup is None:
            return
        angles = [format_angle(v, style, usual_decimals(style)) for v in (reading.hz, reading.za)]
        way = "" if reading.sd is None else f"   {format_length(reading.sd, self.bridge.unit, 4)}"
        self._pair(reading)
        self.reading.setText(f"Face {reading.face}:   circle {angles[0]}   zenith {angles[1]}{way}")
        if self.role == "set out" and self._is_known():
            self._said, self._kept_one = self._to_go(reading), False
        elif self.bridge.attempt(lambda: self._kept(setup, reading)):
            if not setup.id:
                self._key = list(self.bridge.state.of(Setup))[-1]
                self.begun.emit(self._key)
            self._kept_one = True
        self.refresh()

    def _say_early(self) -> None:
        """Say what a reading left over as soon as its setup is solved: the rest of the job takes longer."""
        setup = self.setup
        outcome = self.bridge.ahead_of(setup_node(setup.id)) if setup is not None and setup.id else None
        if self._kept_one and outcome is not None and outcome.result is not None:
            self._early = setup, self._came_to(outcome.result)
            self.result.setText(self._early[1])
            self.result.show()
            self.result.repaint()

    def _kept(self, setup: Setup, reading: Reading) -> Gesture:
        """A reading as a sighting of the setup. Raises FenwindError."""
        one, mark = self.live.equipment, self.bridge.state.mark_named(self.target)
        applied = setup.air.applied_ppm if setup.air is not None else reading.applied_ppm
        if abs(applied - reading.applied_ppm) > 0.05:
            raise ParseError(
                f"the instrument applies {reading.applied_ppm:.1f} ppm now, {applied:.1f} when it was set up",
                hint="Set it back, or end this setup and begin another",
            )
        times = sum(
            key == mark.id and face == reading.face
            for key, face in zip(setup.target, setup.face, strict=True)
        ) if mark is not None else 0  # fmt: skip
        row = Sighted(
            target=self.target, direction_rad=reading.hz, zenith_rad=reading.za, distance_m=reading.sd,
            target_height_m=one.target_m, prism_m=one.prism_m - reading.prism_m, face=reading.face,
            round=times + 1, time=reading.time,
        )  # fmt: skip
        use: ShotUse = "check" if self.role == "check" else "used"
        return add_sightings(self.bridge.state, setup, [row], use, self._known())

    def _to_go(self, reading: Reading) -> str:
        """How far the prism is from the target's place."""
        at, placed, one = self._place_of(self.target), self._placed(), self.live.equipment
        record = self.bridge.state.frames.get(placed.setup.frame) if placed is not None else None
        if at is None or placed is None or record is None:
            return f"{self.target} cannot be set out yet: the instrument is not placed."
        shot = Sighting(
            target="", direction=reading.hz, zenith=reading.za,
            distance=math.nan if reading.sd is None else reading.sd, target_height=one.target_m,
            prism_m=one.prism_m - reading.prism_m, face=reading.face,
        )  # fmt: skip
        frame = open_frame(with_grid_folder(record.spec, self.bridge.folder))
        e, n, h = (float(v) for v in at - one_more(placed, frame, shot, at))
        return way_said(self.bridge, self.target, (e, n, h))

    def _came_to(self, found: Placed | FenwindError | None) -> str:
        """What the last reading left over, missed by, or where it came to lie."""
        placed, setup = found if isinstance(found, Placed) else None, self.setup
        if placed is None or setup is None or not setup.target:
            return f"Kept. {found.one_line}" if isinstance(found, FenwindError) else "Kept."
        i = len(setup.target) - 1
        name = self.bridge.state.mark_name(setup.target[i])
        if placed.rows[i] >= 0:
            v = placed.found.residuals[:, placed.rows[i]]
            words = [
                f"{what} {format_fixed(value / size, 1, sign=True)}{unit}"
                for what, value, size, unit in zip(
                    ("direction", "distance", "height"), v.tolist(), (RAD_PER_SECOND, 1e-3, 1e-3),
                    ("″", " mm", " mm"), strict=True,
                ) if math.isfinite(value)
            ]  # fmt: skip
            return f"{name} leaves over: {', '.join(words)}"
        at = placed.shots.position[:, i]
        if placed.part[i] == "check":
            e, n, h = (float(v) for v in at - placed.known[setup.target[i]].at)
            return f"{name} misses by: {way_said(self.bridge, name, (e, n, h)).split(': ', 1)[1]}"
        unit = self.bridge.unit
        shown = [
            f"{a.title} {format_fixed(a.of(float(at[0]), float(at[1])) / unit.metres, 3)}"
            for a in self.bridge.axes_in(self.bridge.state.frames.get(setup.frame))
        ]
        height = "" if math.isnan(at[2]) else f"   H {format_fixed(float(at[2]) / unit.metres, 3)}"
        return f"{name} lies at {'   '.join(shown)}{height} {unit.key}"

    # What is asked

    def _menu_faces(self, menu: QMenu) -> None:
        now = self.live.equipment.both_faces
        for both, words in ((False, "one face"), (True, "both faces")):
            choice(menu, words, partial(self._set, both_faces=both), checked=both == now)

    def _menu_role(self, menu: QMenu) -> None:
        for key, words in ROLES.items():
            choice(menu, words, partial(self._use_role, key), checked=key == self.role)

    def _use_role(self, role: str) -> None:
        self.role = role
        self.refresh()

    def _set(self, **changes: object) -> bool:
        done = self.live.set_equipment(**changes)
        self.refresh()
        return done

    def ask_where(self) -> None:
        """Ask for the instrument's address, and work with it."""
        self._on_part("where")

    def _on_part(self, key: str) -> None:
        one, unit = self.live.equipment, self.bridge.unit
        questions = {
            "where": ("Where is the instrument spoken to? HOST:PORT, or the path of a serial device",
                      one.instrument),
            "target": ("Which mark is sighted? A new name makes a new mark.",
                       self.target or self.bridge.selection),
            "height": (f"The prism over its mark, {unit.key} (antenna -0.12: so far under the rover's)",
                       f"{one.target_m / unit.metres:.4f}"),
            "prism": ("Constant of the prism, mm, to be added to a distance:", f"{one.prism_m * 1000.0:g}"),
        }  # fmt: skip
        question, text = questions[key]
        self.ask.ask(question, partial(self._answer, key), text=text, button="Use it")

    def _prism_height(self, text: str) -> float:
        """Metres of a height, or of what lies so far over or under the reference point of the rover's
        antenna, where prism and antenna share a pole. Raises FenwindError."""
        one, unit, word = self.live.equipment, self.bridge.unit, "antenna"
        if not text.strip().lower().startswith(word):
            return parse_length(text, unit)
        arp = reduced(one.height_m, one.method, antenna_model(self.bridge.state, one.antenna))
        return arp + parse_length(text.strip()[len(word) :].strip() or "0", unit)

    def _answer(self, key: str, text: str) -> bool:
        try:
            if key == "where":
                done = bool(text.strip()) and self.live.connect_to(text.strip())
                return done and self._set(instrument=text.strip())
            if key == "target":
                self._name(text)
                return bool(self.target)
            if key == "height":
                return self._set(target_m=self._prism_height(text))
            return self._set(prism_m=parse_number(text) / 1000.0)
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False
