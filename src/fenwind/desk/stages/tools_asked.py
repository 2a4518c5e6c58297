"""Asking for instruments that are kept, and for distances by tape."""

from __future__ import annotations

from fenwind.desk.askline import AskLine
from fenwind.desk.bridge import JobBridge
from fenwind.errors import FenwindError
from fenwind.job.steps.setup import Placed
from fenwind.job.tool_gestures import keep_instrument, observed_with, tape
from fenwind.records.setups import Setup
from fenwind.records.tools import InstrumentModel


def instrument_name(bridge: JobBridge, setup: Setup | None) -> str:
    """What the instrument of a setup is called, empty for one that nobody keeps."""
    one = bridge.state.of(InstrumentModel).get(setup.instrument) if setup is not None else None
    return one.name if one is not None and one.active else ""


def ask_keep(
    bridge: JobBridge, ask: AskLine, setup: Setup | None, found: Placed | FenwindError | None
) -> None:
    """Ask under which name the instrument of a setup is kept."""
    if not isinstance(found, Placed):
        bridge.told.emit("A setup that is placed shows what its instrument is like.", "")
        return
    ask.ask(
        "Keep its sigmas, collimation and index under which name?",
        lambda text: bridge.attempt(lambda: keep_instrument(bridge.state, found, text)),
        text=instrument_name(bridge, setup), placeholder="TS-7", button="Keep it",
    )  # fmt: skip


def ask_observed_with(bridge: JobBridge, ask: AskLine, setup: Setup | None) -> None:
    """Ask with which of the kept instruments a setup was observed."""
    kept = [one.name for one in bridge.state.of(InstrumentModel).values() if one.active]
    if setup is None or not kept:
        bridge.told.emit("No instrument is kept yet: keep that of a setup in both faces first.", "")
        return
    ask.ask(
        f"Observed with which instrument? {', '.join(kept)}:",
        lambda text: bridge.attempt(lambda: observed_with(bridge.state, setup, text)),
        text=instrument_name(bridge, setup) or kept[0], button="Use it",
    )  # fmt: skip


def ask_tape(bridge: JobBridge, ask: AskLine) -> None:
    """Ask for a distance by tape."""
    ask.ask(
        f"From, to, distance by tape ({bridge.unit.key}); then h if it is horizontal, and the tape's °C:",
        lambda text: bridge.attempt(lambda: tape(bridge.state, text, bridge.unit)),
        placeholder="T-01, P-02, 28.412, h, 14", button="Keep it",
    )  # fmt: skip
