"""Byte streams from a place: TCP, a serial device, or a caster's mount point; taken up again when they
break."""

from __future__ import annotations

import base64
import io
import os
import re
import select
import socket
import time
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

from fenwind.errors import FenwindError

#: The variable that a caster's password is taken from.
PASSWORD = "FENWIND_CASTER_PASSWORD"
#: Seconds between tries to take a lost link up again, and for one try.
RETRY_S, CONNECT_S = 0.3, 3.0
#: Speed of a serial line.
BITS_A_SECOND = 115_200


class DeviceError(FenwindError, OSError):
    """A device or a service cannot be reached, or does not do what it is asked."""


@dataclass(frozen=True, slots=True, kw_only=True)
class Address:
    """Where a stream comes from. kind: tcp, serial, ntrip, or file for one that was recorded."""

    kind: str
    host: str = ""
    port: int = 0
    path: str = ""
    user: str = ""

    def __str__(self) -> str:
        if self.kind in ("serial", "file"):
            return self.path
        where = f"{self.host}:{self.port}"
        return where if self.kind == "tcp" else f"ntrip://{self.user}@{where}/{self.path}"


_HINT = "Give HOST:PORT, the path of a serial device or of a log, or ntrip://USER@HOST:PORT/NAME"


def address(text: str) -> Address:
    """The place that a text names. Raises DeviceError for one that names none, or that holds a password."""
    if text.startswith("ntrip://"):
        found = re.fullmatch(
            r"ntrip://(?:(?P<user>[^@/]*)@)?(?P<host>[^@/:]+):(?P<port>\d+)/(?P<name>[^/\s]+)", text
        )
        if found is None:
            raise DeviceError("that is no caster's address", hint=_HINT)
        if ":" in (found["user"] or ""):
            raise DeviceError(
                "a password does not belong on the command line", hint=f"Set {PASSWORD}, or be asked for it"
            )
        return Address(
            kind="ntrip",
            host=found["host"],
            port=_port(found["port"]),
            path=found["name"],
            user=found["user"] or "",
        )
    if os.path.isfile(text):
        return Address(kind="file", path=text)
    if text.startswith("/"):
        return Address(kind="serial", path=text)
    host, colon, port = text.rpartition(":")
    if not colon or not host or not port.isdigit():
        raise DeviceError(f"{text!r} is no place to connect to", hint=_HINT)
    return Address(kind="tcp", host=host, port=_port(port))


def _port(text: str) -> int:
    number = int(text)
    if not 0 < number < 65536:
        raise DeviceError(f"there is no port {text}", hint=_HINT)
    return number


class Link:
    """A stream of bytes that reconnects by itself. password: asked for once where a caster wants one."""

    def __init__(
        self, where: Address, password: Callable[[], str] = lambda: os.environ.get(PASSWORD, "")
    ) -> None:
        self.where = where
        self._password = password
        self._socket: socket.socket | None = None
        self._serial: Any = None  # a serial.Serial, which has no types
        self._file: io.BufferedReader | None = None
        self._chunks: _Chunks | None = None
        self.ended = False  # a file was read to its end
        self._next_try = 0.0
        self.losses = 0
        self.problem = ""

    @property
    def connected(self) -> bool:
        """Whether the stream is open."""
        return self._socket is not None or self._serial is not None or self._file is not None

    def open(self) -> None:
        """Connect. Raises DeviceError."""
        try:
            if self.where.kind == "file":
                self._file = open(self.where.path, "rb")  # noqa: SIM115 - closed with the link
            elif self.where.kind == "serial":
                from serial import Serial

                self._serial = Serial(self.where.path, BITS_A_SECOND, timeout=0, write_timeout=CONNECT_S)
            else:
                self._socket = socket.create_connection((self.where.host, self.where.port), CONNECT_S)
                if self.where.kind == "ntrip":
                    self._ask_caster(self._socket)
                self._socket.setblocking(False)
        except (OSError, UnicodeError) as error:
            self.close()
            if isinstance(error, DeviceError):
                raise
            reason = getattr(error, "strerror", None) or str(error)
            raise DeviceError(
                f"cannot connect to {self.where}: {reason}",
                hint="Check that it is switched on and the address",
            ) from error
        self.problem = ""

    def _ask_caster(self, link: socket.socket) -> None:
        """Ask for the mount point, in version 2 with answers of version 1 understood."""
        secret = base64.b64encode(f"{self.where.user}:{self._password()}".encode()).decode()
        link.sendall(
            f"GET /{self.where.path} HTTP/1.1\r\nHost: {self.where.host}\r\nNtrip-Version: Ntrip/2.0\r\n"
            f"User-Agent: NTRIP Fenwind/1\r\nAuthorization: Basic {secret}\r\n"
            "Connection: close\r\n\r\n".encode()
        )
        head, until = b"", time.monotonic() + CONNECT_S
        while b"\r\n\r\n" not in head and not head.startswith(b"ICY 200 OK\r\n"):
            link.settimeout(max(until - time.monotonic(), 0.001))
            piece = link.recv(1024)
            head += piece
            if not piece or len(head) > 16_384:
                break
        self._check_answer(head)
        end = b"\r\n\r\n" if b"\r\n\r\n" in head else b"\r\n"
        rest = head.split(end, 1)[1]
        self._chunks = _Chunks() if b"chunked" in head.lower() else None
        self._early = rest

    def _check_answer(self, head: bytes) -> None:
        """Raise DeviceError with the cause where a caster does not begin its stream."""
        first, *rest = head.decode("latin-1").split("\r\n")
        parted = (line.partition(":") for line in rest)
        fields = {name.strip().lower(): value.strip() for name, _, value in parted}
        if "401" in first or "403" in first:
            raise DeviceError("the caster refuses the password", hint=f"Set {PASSWORD} to the right one")
        if re.search(r" 30\d", first):
            raise DeviceError(
                f"the caster sends elsewhere: {fields.get('location', 'it does not say where')[:200]}",
                hint="Name that place, if it is the one that is meant",
            )
        page = "html" in fields.get("content-type", "").lower() or first.lstrip().lower().startswith("<")
        if page:
            raise DeviceError(
                "a page for people came, not a stream", hint="Check the port and the name of the stream"
            )
        if "200" not in first or first.startswith("SOURCETABLE"):
            raise DeviceError(
                f"the caster has no {self.where.path!r}", hint="Ask the caster for its table of streams"
            )
        if len(head) > 16_384:
            raise DeviceError("the caster's answer never comes to its stream", hint="Check the address")

    def read(self, timeout_s: float) -> bytes:
        """Bytes that are there, or come within some seconds; empty for none. A lost link is taken up
        again."""
        if not self.connected:
            now = time.monotonic()
            if now < self._next_try:
                time.sleep(min(timeout_s, self._next_try - now))
                return b""
            self._next_try = now + RETRY_S
            try:
                self.open()
            except DeviceError as error:
                self.problem = str(error)
                return b""
        if self._file is not None:
            piece = self._file.read(4096)
            self.ended = not piece
            return piece
        early, self._early = getattr(self, "_early", b""), b""
        if early:
            return self._unpacked(early)
        handle = (self._socket if self._socket is not None else self._serial).fileno()
        ready, _, _ = select.select([handle], [], [], timeout_s)
        if not ready:
            return b""
        try:
            data = self._socket.recv(65_536) if self._socket is not None else self._serial.read(65_536)
        except BlockingIOError:
            return b""
        except OSError as error:
            data, self.problem = b"", error.strerror or str(error)
        if not data:
            self.close()
            self.losses += 1
            return b""
        return self._unpacked(data)

    def _unpacked(self, data: bytes) -> bytes:
        return self._chunks.feed(data) if self._chunks is not None else data

    def write(self, data: bytes) -> None:
        """Send bytes. Raises DeviceError when they cannot be sent."""
        try:
            if self._socket is not None:
                self._socket.setblocking(True)
                self._socket.settimeout(CONNECT_S)
                self._socket.sendall(data)
                self._socket.setblocking(False)
            else:
                self._serial.write(data)
        except OSError as error:
            raise DeviceError(f"{self.where} takes nothing: {error}", hint="Check the link") from error

    def close(self) -> None:
        """Let go of it."""
        with suppress(OSError):
            if self._socket is not None:
                self._socket.close()
            if self._serial is not None:
                self._serial.close()
            if self._file is not None:
                self._file.close()
        self._socket, self._serial, self._file, self._chunks, self._early = None, None, None, None, b""


class _Chunks:
    """Takes the chunks of HTTP apart."""

    def __init__(self) -> None:
        self._buffer = b""

    def feed(self, data: bytes) -> bytes:
        """Contents of the chunks that are whole by now."""
        self._buffer += data
        out = b""
        while True:
            head, found, rest = self._buffer.partition(b"\r\n")
            if not found:
                break
            try:
                size = int(head.split(b";")[0], 16) if head else -1
            except ValueError:
                self._buffer = b""  # no chunk: out of step, begin again with what comes
                break
            if size < 0:
                self._buffer = rest
                continue
            if len(rest) < size + 2:
                break
            out, self._buffer = out + rest[:size], rest[size + 2 :]
        if len(self._buffer) > 1_000_000:
            self._buffer = b""
        return out
