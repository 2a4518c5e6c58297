"""The rover on the Sessions stage: a sentence that measures, what the receiver says now, the sky, the
scatter of an occupation under way, and how far it is to the mark looked at."""

from __future__ import annotations

import math
from functools import partial

import numpy as np
from PySide6.QtCore import Signal
from PySide6.QtWidgets import QGridLayout, QHBoxLayout, QMenu, QPushButton, QVBoxLayout, QWidget

from fenwind.desk.askline import AskLine
from fenwind.desk.bridge import JobBridge
from fenwind.desk.receivers import Receivers
from fenwind.desk.shell import PlainLabel, look, show_look
from fenwind.desk.sky_charts import ScatterChart, SkyChart
from fenwind.desk.stages.antennas import fill_antennas
from fenwind.desk.statement import Statement, choice
from fenwind.desk.steady import SteadyLabel, SteadyText
from fenwind.desk.theme import MEDIUM, font
from fenwind.desk.turns import Turns
from fenwind.devices.following import Corrections
from fenwind.devices.nmea_in import Epoch
from fenwind.devices.transport import address
from fenwind.errors import FenwindError, ParseError
from fenwind.job.live_place import LivePlane, OnPlane
from fenwind.job.session_gestures import antenna_height
from fenwind.job.session_view import known_of
from fenwind.quantities.bearings import format_azimuth
from fenwind.quantities.lengths import format_length, format_way
from fenwind.quantities.numbers import counted, format_fixed, parse_number
from fenwind.records.sessions import BaseSetup, Equipment
from fenwind.reports.fit_report import mm
from fenwind.reports.statement import Part

#: What the stream may say away from what the job has before that is told, metres.
SAME_M = 0.005
#: Age from which corrections are said to fail (common practice, no source), seconds.
OLD_S = 5.0
_PLACE = "HOST:PORT, the path of a serial device, or ntrip://USER@HOST:PORT/NAME"


class RoverPanel(QWidget):
    """See the module. rover_at: where the rover is on the plan shown, None for nowhere."""

    rover_at = Signal(object)
    live_said = Signal(str, str)

    def __init__(self, receivers: Receivers, ask: AskLine) -> None:
        super().__init__()
        self.devices, self.bridge, self.ask = receivers, receivers.bridge, ask
        self.mark, self._check, self._plane = "", False, None  # type: str, bool, LivePlane | None
        self._somewhere = False  # whether the rover was at a place when it was last told
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 6, 0, 0)
        column.setSpacing(7)
        self.statement = Statement(small=True)
        self.statement.set_menus(
            {
                "base": self._menu_base,
                "role": self._menu_role,
                "solution": self._menu_solution,
                "antenna": self._menu_antenna,
            }
        )
        self.statement.part_clicked.connect(self._on_part)
        column.addWidget(self.statement)
        column.addLayout(self._make_buttons())
        self.live = QWidget()
        column.addWidget(self.live)
        self._fill_live()
        self._turns = Turns(self)
        receivers.changed.connect(self.refresh)
        receivers.came.connect(self._on_came)

    def _make_buttons(self) -> QHBoxLayout:
        row = QHBoxLayout()
        row.setSpacing(8)
        self.measure = QPushButton("Measure")
        self.measure.setToolTip("Take epochs of this mark until enough count")
        self.listen = QPushButton("Listen")
        self.early = QPushButton("Finish now")
        self.early.setToolTip("Keep the occupation with the epochs that came so far; you are asked why")
        self.leave = QPushButton("Leave it")
        self.leave.setToolTip("The epochs so far stay in the job as an unfinished occupation")
        self.progress = SteadyLabel("")
        self.progress.setFont(font(13, MEDIUM))
        for button, name in (
            (self.measure, "main"), (self.early, "second"), (self.leave, "second"), (self.listen, "second"),
        ):  # fmt: skip
            look(button, name)
            row.addWidget(button)
        row.addWidget(self.progress)
        row.addStretch(1)
        self.measure.clicked.connect(self.begin)
        self.listen.clicked.connect(self.toggle_listening)
        self.early.clicked.connect(self._early)
        self.leave.clicked.connect(self.devices.leave)
        return row

    def _fill_live(self) -> None:
        column = QVBoxLayout(self.live)
        column.setContentsMargins(0, 0, 0, 0)
        column.setSpacing(6)
        row = QHBoxLayout()
        row.setSpacing(14)
        self.sky, self.scatter = SkyChart(), ScatterChart()
        grid = QGridLayout()
        grid.setHorizontalSpacing(16)
        grid.setVerticalSpacing(1)
        self.figures: dict[str, SteadyLabel] = {}
        names = (
            "solution",
            "satellites",
            "PDOP",
            "sigma plan",
            "sigma height",
            "corrections",
            "from base",
            "heard",
        )
        for k, name in enumerate(names):
            head, value = PlainLabel(name), SteadyLabel("")
            look(head, "caption")
            value.setFont(font(15, MEDIUM))
            self.figures[name] = value
            grid.addWidget(head, 2 * (k // 2), k % 2)
            grid.addWidget(value, 2 * (k // 2) + 1, k % 2)
        row.addWidget(self.sky)
        row.addLayout(grid)
        row.addWidget(self.scatter)
        row.addStretch(1)
        column.addLayout(row)
        self.links = SteadyText()
        self.place, self.to_mark = SteadyText(font(13)), SteadyText(font(19, MEDIUM))
        look(self.links.label, "faint")
        for label in (self.place, self.to_mark, self.links):
            column.addWidget(label)

    # What is shown

    def refresh(self) -> None:
        """Show the job and the receivers as they are now."""
        r = self.devices
        bridge = self.bridge
        self._plane = LivePlane(bridge.seen, bridge.derived, bridge.frame_id, bridge.folder)
        measuring = r.measuring is not None
        self.statement.show_parts(self._parts())
        self.measure.setVisible(r.listening and not measuring)
        self.early.setVisible(measuring)
        self.leave.setVisible(measuring)
        self.listen.setVisible(not measuring)
        self.listen.setText("Stop listening" if r.listening else "Listen")
        self.live.setVisible(r.listening)
        self.scatter.setVisible(measuring)
        if not measuring:
            self.progress.setText("")
            self.scatter.show_ways(np.zeros((3, 0)))
        self._show_came(apart=False)

    def _parts(self) -> list[Part]:
        one, base = self.devices.equipment, self.devices.base
        if not self.devices.listening:
            return [
                Part(text="Listen to the rover at "), Part(text=one.rover or "a place to name", key="rover"),
                Part(text=", corrections from "), Part(text=one.corrections or "nowhere", key="corrections"),
                Part(text="."),
            ]  # fmt: skip
        name = self.mark or "a mark to name"
        parts = [Part(text="Measure "), Part(text=name, key="mark")]
        if self.mark:
            now = self.devices.measuring
            if now.new if now is not None else self.bridge.state.mark_named(self.mark) is None:
                parts.append(Part(text=" as a new mark"))
            else:
                parts += [Part(text=" as "), Part(text=self._role(), key="role")]
        parts += [
            Part(text=" from base "), Part(text=base.name if base else "a base to start", key="base"),
            Part(text=", antenna "), Part(text=one.antenna or "without a model", key="antenna"),
            Part(text=" "),
            Part(text=f"{format_length(one.height_m, decimals=3)} {one.method}", key="height"),
            Part(text=", until "), Part(text=counted(one.epochs, "epoch"), key="epochs"),
            Part(text=" count: "), Part(text=one.solution, key="solution"), Part(text=", "),
            Part(text=_limit_words(one), key="limits"), Part(text="."),
        ]  # fmt: skip
        return parts

    def _role(self) -> str:
        if not self._check:
            return "a further occupation"
        mark = self.bridge.state.mark_named(self.mark)
        known = mark is not None and mark.id in known_of(self.bridge.derived)
        return "a check of the known mark" if known else "a check"

    def _on_came(self) -> None:
        self._show_came(apart=True)

    def _show_came(self, *, apart: bool) -> None:
        """What was heard, in two pieces: apart, so that whoever clicks meanwhile waits for one of them."""
        self._turns.run((self._show_heard, self._show_where), apart=apart)

    def _show_heard(self) -> None:
        r = self.devices
        self._say_live()
        if not (self.isVisible() and r.listening):
            return
        self._show_figures()
        one = r.measuring
        if one is not None:
            rows = one.keeper.rows
            passed = f", {one.passed_by} passed by" if one.passed_by else ""
            self.progress.setText(f"{len(rows)} of {counted(one.epochs, 'epoch')}{passed}")
            self.scatter.show_ways(one.vectors() if rows else np.zeros((3, 0)))

    def _show_where(self) -> None:
        r = self.devices
        ground = r.ground() if r.listening else None
        at = self._plane.place(ground) if self._plane is not None and ground is not None else None
        if at is not None or self._somewhere:
            self.rover_at.emit(None if at is None else (at.e_m, at.n_m))
        self._somewhere = at is not None
        if self.isVisible() and r.listening:
            self._show_place(at)

    def _say_live(self) -> None:
        """The rover in the header, whatever stage is shown."""
        r, epoch = self.devices, self.devices.epoch
        if not r.listening:
            self.live_said.emit("", "")
        elif epoch is None:
            self.live_said.emit("Rover: nothing yet", r.equipment.rover)
        else:
            plan = (
                "" if epoch.sigma is None else f" · ±{mm(math.hypot(*epoch.sigma[:2]) / math.sqrt(2.0))} mm"
            )
            away, base = r.base_away_m(), r.base
            far = ""
            if away is not None and base is not None:
                far = f"base {base.name}, {format_length(away, self.bridge.unit)}"
            self.live_said.emit(f"Rover {epoch.solution} · {epoch.satellites} sat{plan}", far)

    def _show_figures(self) -> None:
        heard, epoch = self.devices.heard, self.devices.epoch
        self.sky.show_sky(heard.satellites if heard is not None else {})
        away, sigma = self.devices.base_away_m(), epoch.sigma if epoch is not None else None
        plan = None if sigma is None else math.sqrt(0.5 * (sigma[0] ** 2 + sigma[1] ** 2))
        texts = {
            "solution": epoch.solution if epoch is not None else "nothing yet",
            "satellites": f"{epoch.satellites}" if epoch is not None else "",
            "PDOP": format_fixed(epoch.pdop, 1)
            if epoch is not None and epoch.pdop is not None
            else "not said",
            "sigma plan": f"{mm(plan)} mm" if plan is not None else "not said",
            "sigma height": f"{mm(sigma[2])} mm" if sigma is not None else "not said",
            "corrections": _age_words(epoch),
            "from base": format_length(away, self.bridge.unit) if away is not None else "not known",
            "heard": f"{heard.sentences} sentences" if heard is not None else "",
        }
        for name, text in texts.items():
            self.figures[name].setText(text)
        show_look(
            self.figures["solution"], "" if epoch is not None and epoch.solution == "fixed" else "caution"
        )
        words, bad = self._link_words()
        self.links.setText(words)
        show_look(self.links.label, "doubt" if bad else "faint")

    def _link_words(self) -> tuple[str, bool]:
        """How the links are, in a sentence or two, and whether something is wrong."""
        heard = self.devices.heard
        if heard is None:
            return "Waiting for the receiver.", False
        if not heard.rover.connected:
            return f"The rover is not there: {heard.rover.problem or 'connecting'}.", True
        words, bad = [], False
        epoch = self.devices.epoch
        if epoch is not None and epoch.age is not None and epoch.age > OLD_S:
            words, bad = [f"The rover gets no corrections: its last are {epoch.age:.0f} s old."], True
            sent = heard.corrections
            if sent is not None and sent.link.connected and sent.age_s is not None and sent.age_s <= OLD_S:
                words.append("The base does send: look at the radio, its channel, and what is between.")
        if heard.wrong:
            words.append(f"{counted(heard.wrong, 'sentence')} could not be read.")
        if heard.without_height:
            words, bad = [*words, "The receiver gives no height above the ellipsoid."], True
        if heard.corrections is None:
            words.append("What the base sends is not listened to: its position is taken from the job.")
        else:
            said, wrong = self._correction_words(heard.corrections)
            words, bad = [*words, said], bad or wrong
        return " ".join(words), bad

    def _correction_words(self, c: Corrections) -> tuple[str, bool]:
        if not c.link.connected:
            return f"No corrections: {c.link.problem or 'connecting'}.", True
        if c.position is None:
            return "The corrections do not say where the base is yet.", False
        known = self.devices.known_broadcast()
        many = counted(c.satellites, "satellite")
        said = f"Corrections arrive: {c.message_set or 'positions only'}, {many}"
        if c.age_s is not None and c.age_s > OLD_S:
            return f"{said}; the last came {c.age_s:.0f} s ago.", True
        if known is None:
            return f"{said}.", False
        off = float(np.linalg.norm(c.position - known))
        if off > SAME_M:
            return f"{said}. They say the base {format_way(off)} from where the job has it sent.", True
        return f"{said}. The stream says the base where the job has it.", False

    def _show_place(self, at: OnPlane | None) -> None:
        frame = self.bridge.frame
        if at is None or frame is None:
            somewhere = self.devices.ground() is not None
            self.place.setText("The rover has no place in the frame shown." if somewhere else "")
            self.to_mark.setText("")
            return
        unit = self.bridge.unit
        shown = [
            f"{axis.title} {format_fixed(axis.of(at.e_m, at.n_m) / unit.metres, 3)}"
            for axis in self.bridge.axes
        ]
        if math.isfinite(at.height_m):
            shown.append(f"H {format_fixed(at.height_m / unit.metres, 3)}")
        self.place.setText(f"Rover in {frame.spec.name}: {'   '.join(shown)} {unit.key}")
        adopted = self.bridge.derived.adopted.get(self.bridge.frame_id)
        mark = self.bridge.seen.mark_named(self.mark) if self.mark else None
        row = adopted.place.get(mark.id) if adopted is not None and mark is not None else None
        if adopted is None or row is None:
            self.to_mark.setText("")
        else:
            to = (adopted.e_m[row] - at.e_m, adopted.n_m[row] - at.n_m, adopted.height_m[row] - at.height_m)
            self.to_mark.setText(way_said(self.bridge, self.mark, to))

    # What is done

    def look_at(self, mark: str) -> None:
        """Make a mark the one to measure, unless one is being measured."""
        if self.devices.measuring is None and mark and mark != self.mark:
            self._name(mark)

    def _name(self, mark: str) -> None:
        self.mark = mark.strip()
        found = self.bridge.state.mark_named(self.mark)
        self._check = found is not None and found.id in known_of(self.bridge.derived)
        self.refresh()

    def begin(self) -> None:
        """Measure the mark of the sentence."""
        if not self.mark:
            self._on_part("mark")
            return
        check = self._check and self.bridge.state.mark_named(self.mark) is not None
        self.devices.measure(self.mark, check)

    def toggle_listening(self) -> None:
        """Listen to the rover, or stop."""
        if self.devices.listening:
            self.devices.stop()
        elif self.devices.equipment.rover:
            self.devices.listen()
        else:
            self._on_part("rover")

    def _early(self) -> None:
        self.ask.ask(
            "Why are so few epochs enough?", self._finish_early, placeholder="the reason is kept",
            button="Finish now",
        )  # fmt: skip

    def _finish_early(self, why: str) -> bool:
        return bool(why.strip()) and self.devices.finish(why.strip())

    def _menu_base(self, menu: QMenu) -> None:
        now = self.devices.base
        for base in self.bridge.state.of(BaseSetup).values():
            if base.active:
                choice(
                    menu,
                    f"{base.name}, {base.started[:10]}",
                    partial(self._use_base, base.id),
                    checked=base is now,
                )

    def _use_base(self, key: str) -> None:
        self.devices.base_id = key
        self.refresh()

    def _menu_antenna(self, menu: QMenu) -> None:
        fill_antennas(
            menu,
            self.bridge,
            self.ask,
            self.devices.equipment.antenna,
            lambda model: self._set(antenna=model),
        )

    def _menu_role(self, menu: QMenu) -> None:
        for check, words in ((False, "a further occupation"), (True, "a check, compared only")):
            choice(menu, words, partial(self._set_role, check), checked=check == self._check)

    def _set_role(self, check: bool) -> None:
        self._check = check
        self.refresh()

    def _menu_solution(self, menu: QMenu) -> None:
        now = self.devices.equipment.solution
        for word, words in (("fixed", "fixed only"), ("float", "float or better"), ("any", "any solution")):
            choice(menu, words, partial(self._set, solution=word), checked=word == now)

    def _set(self, **changes: object) -> bool:
        done = self.devices.set_equipment(**changes)
        self.refresh()
        return done

    def _on_part(self, key: str) -> None:
        one, use = self.devices.equipment, "Use it"
        mark, height = self.mark or self.bridge.selection, f"{one.height_m:.3f} {one.method}"
        questions = {
            "mark": ("Which mark? A new name makes a new mark.", mark, "Measure this"),
            "rover": (f"Where do the rover's sentences come from? {_PLACE}", one.rover, use),
            "corrections": (f"Where do the corrections come from? {_PLACE}; or empty", one.corrections, use),
            "height": ("The rover's antenna: metres, and vertical, slant or mount", height, use),
            "epochs": ("How many epochs are to count?", f"{one.epochs}", use),
            "limits": ("Sigma in plan and height (mm) and PDOP at most, 0 for any:", _limit_text(one), use),
        }
        if key in questions:
            question, text, button = questions[key]
            self.ask.ask(question, partial(self._answer, key), text=text, button=button)

    def _answer(self, key: str, text: str) -> bool:
        try:
            return self._use_answer(key, text.strip())
        except FenwindError as error:
            self.bridge.tell_error(error)
            return False

    def _use_answer(self, key: str, text: str) -> bool:
        if key == "mark":
            self._name(text)
            return bool(text)
        if key in ("rover", "corrections"):
            if text:
                address(text)
            done = self._set(**{key: text})
            return self.devices.listen() if done and key == "rover" and text else done
        if key == "height":
            height, method = antenna_height(text, self.devices.equipment.method)
            return self._set(height_m=height, method=method)
        if key == "epochs":
            if not text.isdigit() or not 0 < int(text) <= 1_000_000:
                raise ParseError(f"{text!r} is no number of epochs", hint="Give 1 or more")
            return self._set(epochs=int(text))
        return self._set(**_limits(text))


def _limit_words(one: Equipment) -> str:
    plan, height = one.max_sigma_h_m, one.max_sigma_v_m
    words = [
        *([] if plan is None else [f"plan to {plan * 1000:g} mm"]),
        *([] if height is None else [f"height to {height * 1000:g} mm"]),
        *([] if one.max_pdop is None else [f"PDOP to {one.max_pdop:g}"]),
    ]
    return ", ".join(words) or "any precision"


def _limit_text(one: Equipment) -> str:
    plan, height = ((v or 0.0) * 1000.0 for v in (one.max_sigma_h_m, one.max_sigma_v_m))
    return f"{plan:g}, {height:g}, {one.max_pdop or 0.0:g}"


def _limits(text: str) -> dict[str, float | None]:
    """Limits of epochs as typed: plan and height in millimetres, PDOP; one that is not said is none. Raises
    ParseError."""
    values = [parse_number(part) for part in text.split(",") if part.strip()]
    if len(values) > 3 or any(v < 0.0 for v in values):
        raise ParseError(f"{text.strip()!r} will not do", hint="Type three numbers, as 10, 20, 3")
    plan, height, pdop = (v or None for v in (*values, *[0.0] * (3 - len(values))))
    return {
        "max_sigma_h_m": plan and plan / 1000.0, "max_sigma_v_m": height and height / 1000.0,
        "max_pdop": pdop,
    }  # fmt: skip


def _age_words(epoch: Epoch | None) -> str:
    if epoch is None or epoch.age is None:
        return "none"
    return f"{epoch.age:.1f} s old"


def way_said(bridge: JobBridge, mark: str, to: tuple[float, float, float]) -> str:
    """How far it is to a mark, east, north and up in metres, in the coordinates and the unit shown."""
    unit = bridge.unit
    e, n, h = (float(v) for v in to)
    words = [
        f"{axis.title} {format_fixed(axis.of(e, n) / unit.metres, 3, sign=True)}" for axis in bridge.axes
    ]
    if math.isfinite(h):
        words.append(f"H {format_fixed(h / unit.metres, 3, sign=True)}")
    style = bridge.angle_style
    bearing = format_azimuth(math.atan2(e, n) % (2.0 * math.pi), style, 1 if style == "gon" else 0)
    way = f"{format_fixed(math.hypot(e, n) / unit.metres, 3)} {unit.key}"
    return f"To {mark}: {'   '.join(words)}   {way} at {bearing}"
