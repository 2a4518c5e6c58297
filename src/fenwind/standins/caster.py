"""A correction caster: NTRIP versions 1 and 2 (RTCM 10410.0 and .1, from memory), one mount point, a
source table."""

from __future__ import annotations

import asyncio
import base64
import hmac
from contextlib import suppress

MOST_WAITING = 65_536
LARGEST_REQUEST = 8192


class Caster:
    """One stream of corrections for whoever knows the password; without one it lets nobody in."""

    def __init__(self, name: str, user: str, password: str) -> None:
        self.name, self.user = name, user
        self._password = password
        self.listeners: dict[asyncio.StreamWriter, bool] = {}  # writer: chunked

    def send(self, data: bytes) -> None:
        """Pass a message on to everybody who has room for it."""
        for writer, chunked in list(self.listeners.items()):
            if writer.is_closing():
                self.listeners.pop(writer, None)
            elif writer.transport.get_write_buffer_size() + len(data) <= MOST_WAITING:
                writer.write(f"{len(data):x}\r\n".encode() + data + b"\r\n" if chunked else data)

    async def client(self, reader: asyncio.StreamReader, writer: asyncio.StreamWriter) -> None:
        """Serve one client."""
        with suppress(ConnectionError, asyncio.CancelledError, asyncio.IncompleteReadError, TimeoutError):
            head = await asyncio.wait_for(_head(reader), 20.0)
            listening = self._answer(writer, head)
            while listening and await reader.read(4096):
                pass  # positions that a rover sends are nothing to us
        self.listeners.pop(writer, None)
        with suppress(ConnectionError):
            await writer.drain()
        writer.close()

    def _answer(self, writer: asyncio.StreamWriter, head: list[str]) -> bool:
        """Answer a request; whether the client listens from now on."""
        parts = (head[0] if head else "").split()
        fields = {k.strip().lower(): v.strip() for k, _, v in (line.partition(":") for line in head[1:])}
        second = fields.get("ntrip-version", "").lower().startswith("ntrip/2")
        if len(parts) < 2 or parts[0] != "GET":
            writer.write(b"HTTP/1.1 400 Bad Request\r\nConnection: close\r\n\r\n")
            return False
        name = parts[1].lstrip("/").split("?")[0]
        if name != self.name:
            self._table(writer, second, missing=bool(name))
            return False
        if not self._let_in(fields.get("authorization", "")):
            realm = f'WWW-Authenticate: Basic realm="/{self.name}"\r\n'
            writer.write(f"HTTP/1.1 401 Unauthorized\r\n{realm}Connection: close\r\n\r\n".encode())
            return False
        if second:
            writer.write(
                b"HTTP/1.1 200 OK\r\nNtrip-Version: Ntrip/2.0\r\nServer: Fenwind stand-in\r\n"
                b"Content-Type: gnss/data\r\nTransfer-Encoding: chunked\r\nConnection: close\r\n\r\n"
            )
        else:
            writer.write(b"ICY 200 OK\r\n\r\n")
        self.listeners[writer] = second
        return True

    def _let_in(self, authorization: str) -> bool:
        kind, _, coded = authorization.partition(" ")
        if kind.lower() != "basic" or not self._password:
            return False
        try:
            said = base64.b64decode(coded, validate=True)
        except ValueError:
            return False
        return hmac.compare_digest(said, f"{self.user}:{self._password}".encode())

    def _table(self, writer: asyncio.StreamWriter, second: bool, missing: bool) -> None:
        """The source table; to version 2 an unknown name is not found."""
        if second and missing:
            writer.write(b"HTTP/1.1 404 Not Found\r\nNtrip-Version: Ntrip/2.0\r\nConnection: close\r\n\r\n")
            return
        row = (
            f"STR;{self.name};Stand-in;RTCM 3;1006(1),1033(1),1077(1),1087(1),1097(1),1127(1),1230(1);2;"
            "GPS+GLO+GAL+BDS;none;;0.00;0.00;0;0;Fenwind stand-in;none;B;N;9600;"
        )
        table = f"{row}\r\nENDSOURCETABLE\r\n".encode()
        if second:
            lead = "HTTP/1.1 200 OK\r\nNtrip-Version: Ntrip/2.0\r\nContent-Type: gnss/sourcetable\r\n"
        else:
            lead = "SOURCETABLE 200 OK\r\nContent-Type: text/plain\r\n"
        writer.write(f"{lead}Content-Length: {len(table)}\r\nConnection: close\r\n\r\n".encode() + table)


async def _head(reader: asyncio.StreamReader) -> list[str]:
    """Lines of a request up to the empty one."""
    lines: list[str] = []
    size = 0
    while True:
        line = await reader.readline()
        size += len(line)
        if not line or size > LARGEST_REQUEST:
            return lines
        text = line.decode("latin-1").strip()
        if not text:
            return lines
        lines.append(text)
