"""The stand-ins on ports of this machine: NMEA, RTCM and control on TCP, NMEA on pseudo-terminals, a
correction caster. One thread, one loop; a client that does not read loses whole messages, the others
nothing."""

from __future__ import annotations

import asyncio
import json
import os
import pty
import select
import signal
import sys
import time
import tty
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, field
from datetime import UTC, datetime
from functools import partial
from typing import Any

from fenwind.standins.caster import Caster
from fenwind.standins.receivers import Refused, Simulation
from fenwind.standins.station import Station
from fenwind.standins.world import World

#: Bytes that may wait for one client; more and the next messages pass it by.
MOST_WAITING = 65_536
#: A line of the control port is at most so long.
LONGEST_LINE = 65_536
#: Ticks done at most before others get their turn.
BURST = 50


@dataclass(eq=False)
class Stream:
    """One stream, its TCP clients and its pseudo-terminal."""

    clients: set[asyncio.StreamWriter] = field(default_factory=set)
    terminal: int = -1
    path: str = ""
    _poll: select.poll = field(default_factory=select.poll)

    def send(self, data: bytes) -> None:
        """Pass a whole message to everybody who has room for it."""
        for client in list(self.clients):
            if client.is_closing():
                self.clients.discard(client)
            elif client.transport.get_write_buffer_size() + len(data) <= MOST_WAITING:
                client.write(data)
        if self.terminal >= 0 and not self._poll.poll(0):
            # Somebody reads. Sentence by sentence: what does not fit is left out whole.
            for sentence in data.splitlines(keepends=True):
                with suppress(BlockingIOError, OSError):
                    written = os.write(self.terminal, sentence)
                    if written < len(sentence):
                        break

    async def serve(self) -> asyncio.Server:
        """Listen on a free port."""
        return await asyncio.start_server(self._client, "127.0.0.1", 0)

    async def _client(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        self.clients.add(writer)
        with suppress(ConnectionError, asyncio.CancelledError):
            while await reader.read(4096):
                pass  # what a client says here is nothing to us
        self.clients.discard(writer)
        writer.close()

    def open_terminal(self) -> None:
        """Make the pseudo-terminal."""
        self.terminal, other = pty.openpty()
        tty.setraw(other)
        os.set_blocking(self.terminal, False)
        self.path = os.ttyname(other)
        os.close(other)
        self._poll.register(self.terminal, 0)  # it tells of a hang-up while nobody has it open


class StandIns:
    """A simulation and its ports."""

    def __init__(self, world: World, seed: int, start: datetime, speed: float) -> None:
        self.simulation = Simulation(world, seed, start)
        self.speed = speed
        self.streams = {name: Stream() for name in ("base", "rover", "rtcm")}
        self.caster = Caster("FENWIND", "rover", os.environ.get("FENWIND_CASTER_PASSWORD", ""))
        self._servers: list[asyncio.Server] = []
        self._ended = asyncio.Event()

    async def open(self) -> dict[str, Any]:
        """Listen everywhere; the ports, as they are printed."""
        ports: dict[str, int] = {}
        for name, stream in self.streams.items():
            ports[name] = await self._listen(await stream.serve())
        for name in ("base", "rover"):
            self.streams[name].open_terminal()
            ports[f"{name} control"] = await self._listen(
                await asyncio.start_server(self._controller(name), "127.0.0.1", 0, limit=LONGEST_LINE)
            )
        caster = await self._listen(await asyncio.start_server(self.caster.client, "127.0.0.1", 0))
        said: dict[str, Any] = {
            name: {
                "nmea": ports[name],
                "control": ports[f"{name} control"],
                "serial": self.streams[name].path,
            }
            for name in ("base", "rover")
        }
        said["base"]["rtcm"] = ports["rtcm"]
        said["caster"] = {
            "port": caster,
            "name": self.caster.name,
            "user": self.caster.user,
            "password_env": "FENWIND_CASTER_PASSWORD",
        }
        return said | {"start": self.simulation.start.isoformat()}

    async def _listen(self, server: asyncio.Server) -> int:
        self._servers.append(server)
        return int(server.sockets[0].getsockname()[1])

    async def run(self, seconds: float | None = None) -> None:
        """Run until ended, or for so many simulated seconds."""
        began, simulation = time.monotonic(), self.simulation
        while not self._ended.is_set():
            due = (time.monotonic() - began) * self.speed
            for _ in range(BURST):
                if simulation.now_s > due or (seconds is not None and simulation.now_s >= seconds):
                    break
                self._tick()
            if seconds is not None and simulation.now_s >= seconds:
                return
            behind = simulation.now_s <= due
            await asyncio.sleep(0.0 if behind else min((simulation.now_s - due) / self.speed, 0.05))

    def _tick(self) -> None:
        wanted = bool(self.streams["rtcm"].clients or self.caster.listeners)
        for name, data in self.simulation.run_tick(wanted).items():
            if name == "rtcm" and data:
                self.caster.send(data)
            if data:
                self.streams[name].send(data)

    def end(self) -> None:
        """Stop running."""
        self._ended.set()

    def close(self) -> None:
        """Let go of all ports."""
        for server in self._servers:
            server.close()
        for stream in self.streams.values():
            for client in stream.clients:
                client.close()
            if stream.terminal >= 0:
                os.close(stream.terminal)

    # Control
    # -----------------------------------------------------------------------------------------------------

    def _controller(self, which: str) -> Callable[..., Any]:
        def respond(line: bytes) -> dict[str, Any]:
            now = self.simulation.time.isoformat()
            return answered(line, now, partial(self.simulation.control, which))

        return line_server(respond)


def line_server(respond: Callable[[bytes], dict[str, Any]]) -> Callable[..., Any]:
    """Serves clients that send a line and get a line, whatever they send."""

    async def serve(reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        with suppress(ConnectionError, asyncio.CancelledError):
            while True:
                try:
                    line = await reader.readuntil(b"\n")
                except asyncio.LimitOverrunError as error:
                    await reader.read(error.consumed + 1)  # the rest of it comes as lines of its own
                    writer.write(_answer({"ok": False, "error": "the line is too long"}))
                    continue
                except asyncio.IncompleteReadError:
                    break
                if writer.transport.get_write_buffer_size() <= MOST_WAITING:
                    writer.write(_answer(respond(line)))
                await asyncio.sleep(0)
        writer.close()

    return serve


def answered(line: bytes, now: str, control: Callable[[dict[str, Any]], dict[str, Any]]) -> dict[str, Any]:
    """The answer to a line: what a command came to, or why not."""
    try:
        command = json.loads(line)
    except (ValueError, RecursionError):
        return {"ok": False, "time": now, "error": "that is no JSON"}
    if not isinstance(command, dict):
        return {"ok": False, "time": now, "error": "a command is an object with do"}
    try:
        return {"ok": True, "time": now} | control(command)
    except Refused as error:
        return {"ok": False, "time": now, "error": str(error)}
    except (TypeError, ValueError, OverflowError) as error:
        return {"ok": False, "time": now, "error": f"that cannot be: {error}"}


def _answer(found: dict[str, Any]) -> bytes:
    return json.dumps(found, allow_nan=False).encode() + b"\n"


async def serve(world: World, seed: int, start: datetime, speed: float, seconds: float | None) -> None:
    """Open the stand-ins, print where they are, run until the end or a signal."""
    stand_ins = StandIns(world, seed, start, speed)
    loop = asyncio.get_running_loop()
    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, stand_ins.end)
    said = await stand_ins.open()
    sys.stdout.write(f"{json.dumps(said)}\n")
    sys.stdout.flush()
    try:
        await stand_ins.run(seconds)
    finally:
        stand_ins.close()


async def serve_station(station: Station, seconds: float | None) -> None:
    """Open the port of an instrument, print where it is, run until the end or a signal."""

    def respond(line: bytes) -> dict[str, Any]:
        return answered(line, datetime.now(UTC).isoformat(timespec="milliseconds"), station.control)

    ended, loop = asyncio.Event(), asyncio.get_running_loop()
    for number in (signal.SIGTERM, signal.SIGINT):
        loop.add_signal_handler(number, ended.set)
    server = await asyncio.start_server(line_server(respond), "127.0.0.1", 0, limit=LONGEST_LINE)
    port = server.sockets[0].getsockname()[1]
    sys.stdout.write(f"{json.dumps({'station': {'port': port}})}\n")
    sys.stdout.flush()
    try:
        async with asyncio.timeout(seconds):
            await ended.wait()
    except TimeoutError:
        pass
    finally:
        server.close()
