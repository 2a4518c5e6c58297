"""Choosing an antenna model, and telling the job of another."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial

from PySide6.QtWidgets import QFileDialog, QMenu

from fenwind.desk.askline import AskLine
from fenwind.desk.bridge import JobBridge
from fenwind.desk.statement import choice
from fenwind.exchange.antenna_list import read_antennas
from fenwind.geodesy.antenna import AntennaModel
from fenwind.job.session_gestures import add_antennas, antenna_of_text
from fenwind.records.entries import Gesture
from fenwind.records.sessions import Antenna

Use = Callable[[str], object]


def fill_antennas(menu: QMenu, bridge: JobBridge, ask: AskLine, now: str, use: Use) -> None:
    """The models of the job; then another one, typed or from a file. use: gets the name of what is chosen."""
    models = sorted((a for a in bridge.state.of(Antenna).values() if a.active), key=lambda a: a.model)
    choice(menu, "without a model: vertical heights only", partial(use, ""), checked=not now)
    for one in models:
        tip = (
            f"radius {one.radius_m:.4f} m, rim {one.rim_offset_m:.4f} m above the reference point, that "
            f"{one.mount_offset_m:.4f} m above the bottom of the mount, L1 {one.arp_to_l1_m:.4f} m above it"
        )
        choice(menu, one.model, partial(use, one.model), checked=one.model == now, tip=tip)
    menu.addSeparator()
    choice(menu, "another model …", partial(_ask, bridge, ask, use))
    choice(menu, "models from a file …", partial(_choose, bridge, menu))


def _ask(bridge: JobBridge, ask: AskLine, use: Use) -> None:
    ask.ask(
        "Model; radius of the rim, rim above the reference point, that above the mount, L1 above it (m):",
        partial(_take, bridge, use), placeholder="ANT-2, 0.0750, 0.0250, 0.0400, 0.0610", button="Keep it",
    )  # fmt: skip


def _take(bridge: JobBridge, use: Use, text: str) -> bool:
    found: list[AntennaModel] = []

    def make() -> Gesture:
        found.append(antenna_of_text(text))
        return add_antennas(bridge.state, found)

    done = bridge.attempt(make)
    if done:
        use(found[0].model)
    return done


def _choose(bridge: JobBridge, menu: QMenu) -> None:
    kinds = "JSON (*.json);;All files (*)"
    path, _ = QFileDialog.getOpenFileName(menu.parentWidget(), "Antenna models", bridge.folder, kinds)
    if path:
        take_file(bridge, path)


def take_file(bridge: JobBridge, path: str) -> bool:
    """Take in the models of a file."""
    return bridge.attempt(lambda: add_antennas(bridge.state, list(read_antennas(path).values())))
