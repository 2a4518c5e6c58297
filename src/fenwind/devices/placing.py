"""The client of a service that places static receivers: upload, poll, fetch; with pauses that grow, nothing
followed to another host, and nothing of an answer run or opened."""

from __future__ import annotations

import http.client
import json
import time
from collections.abc import Callable
from typing import Any
from urllib.parse import urlencode, urljoin, urlsplit

from fenwind.devices.transport import DeviceError

#: Larger answers are refused, bytes.
MOST_ANSWER = 16_000_000
#: Seconds that one request may take, and the longest pause between two.
REQUEST_S, LONGEST_PAUSE_S = 60.0, 30.0
ENDED = ("done", "failed", "cancelled")
_HINT = "Check --url"


class Waited(Exception):
    """The time was over: the job's id and its state as last told."""

    def __init__(self, job: str | None, state: str | None) -> None:
        super().__init__("the time was over")
        self.job, self.state = job, state


class _Broken(Exception):
    """The link broke, or the service was busy: try again after so many seconds, None for a growing pause."""

    def __init__(self, after: float | None = None) -> None:
        super().__init__("again")
        self.after = after


class PlacingService:
    """A service at an address, for at most `wait` seconds altogether."""

    def __init__(self, url: str, wait: float, sleep: Callable[[float], None] = time.sleep) -> None:
        parts = urlsplit(url)
        if parts.scheme not in ("http", "https") or not parts.hostname:
            raise DeviceError(f"{url!r} is no address of a service", hint="Give --url http://HOST:PORT")
        self.url, self.end, self.sleep = url.rstrip("/"), time.monotonic() + wait, sleep
        self.job: str | None = None
        self.state: str | None = None

    def send(self, body: bytes, asked: dict[str, str]) -> str:
        """Hand over a file; the id of its job. Raises DeviceError, Waited."""
        path = f"/jobs?{urlencode(asked)}" if asked else "/jobs"
        told = self._again("POST", path, body)
        self.job, self.state = _text(told, "id"), _text(told, "state")
        return self.job

    def answer(self, job: str) -> dict[str, Any]:
        """The answer to a job, waited for. Raises DeviceError where it failed, Waited."""
        self.job = job
        while True:
            told = self._again("GET", f"/jobs/{job}")
            self.state = _text(told, "state")
            if self.state in ENDED:
                break
            after = told.get("poll_after", 1.0)
            self._pause(float(after) if isinstance(after, int | float) and 0.0 <= after < 3600.0 else 1.0)
        if self.state != "done":
            words = told.get("error")
            said = words if isinstance(words, str) and words else f"the job is {self.state}"
            raise DeviceError(f"the service refused it: {_line(said)}", hint=f"Its id is {job}")
        return self._again("GET", f"/jobs/{job}/result")

    def _again(self, method: str, path: str, body: bytes | None = None) -> dict[str, Any]:
        pause = 0.5
        while True:
            try:
                return self._once(method, path, body)
            except _Broken as broken:
                self._pause(pause if broken.after is None else broken.after)
                pause = min(2.0 * pause, LONGEST_PAUSE_S)

    def _pause(self, seconds: float) -> None:
        left = self.end - time.monotonic()
        if left <= 0.0 or seconds > left:
            self.sleep(max(min(seconds, left), 0.0))
            raise Waited(self.job, self.state)
        self.sleep(seconds)

    def _once(self, method: str, path: str, body: bytes | None) -> dict[str, Any]:
        url = self.url + path
        for _ in range(4):
            status, headers, data = self._request(method, url, body)
            if status not in (301, 302, 303, 307, 308):
                break
            onward = urljoin(url, headers.get("Location", ""))
            here, there = urlsplit(url), urlsplit(onward)
            if (there.scheme, there.hostname, there.port) != (here.scheme, here.hostname, here.port):
                raise DeviceError(
                    f"the service sends on to another host, {there.hostname}",
                    hint="Ask whom that is, and give --url",
                )
            url = onward
        if status == 503:
            after = headers.get("Retry-After", "")
            raise _Broken(float(after) if after.isdigit() else None)
        if status >= 500:
            raise _Broken
        told = _object(data, status)
        if status >= 400:
            words = told.get("error")
            raise DeviceError(
                f"the service refused it: {_line(words) if isinstance(words, str) else status}", hint=_HINT
            )
        return told

    def _request(self, method: str, url: str, body: bytes | None) -> tuple[int, Any, bytes]:
        parts = urlsplit(url)
        kind = http.client.HTTPSConnection if parts.scheme == "https" else http.client.HTTPConnection
        limit = min(REQUEST_S, max(self.end - time.monotonic(), 0.5))
        connection = kind(parts.hostname or "", parts.port, timeout=limit)
        target = parts.path + (f"?{parts.query}" if parts.query else "")
        try:
            connection.request(
                method, target or "/", body, {"Content-Type": "application/octet-stream"} if body else {}
            )
            answer = connection.getresponse()
            data = answer.read(MOST_ANSWER + 1)
        except (OSError, http.client.HTTPException) as error:
            raise _Broken from error
        finally:
            connection.close()
        if len(data) > MOST_ANSWER:
            raise DeviceError("the answer is over 16 MB", hint="It is not what such a service sends")
        return answer.status, answer.headers, data


def _object(data: bytes, status: int) -> dict[str, Any]:
    try:
        told = json.loads(data)
    except (ValueError, RecursionError):
        told = None
    if not isinstance(told, dict):
        raise DeviceError(
            f"the answer ({status}) is not what such a service sends",
            hint="Check that --url is one of a service",
        )
    return told


def _text(told: dict[str, Any], key: str) -> str:
    value = told.get(key)
    if not isinstance(value, str) or not value:
        raise DeviceError(f"the answer lacks {key!r}", hint="It is not what such a service sends")
    return value


def _line(words: str) -> str:
    return " ".join(words.split())[:300]
