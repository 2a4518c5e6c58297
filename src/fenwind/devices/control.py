"""The control port of a receiver: one JSON object a line, answered by one (docs/formats/control.md)."""

from __future__ import annotations

import json
import time
from collections.abc import Callable
from typing import Any

from fenwind.devices.transport import Address, DeviceError, Link


def command(
    where: Address, timeout_s: float = 5.0, check: Callable[[], object] = lambda: None, **values: Any
) -> dict[str, Any]:
    """Send one command and give its answer; check: called while it waits, and may raise to end that. Raises
    DeviceError when there is none, or it says no."""
    link = Link(where)
    link.open()
    try:
        link.write(json.dumps(values).encode() + b"\n")
        answer = b""
        until = time.monotonic() + timeout_s
        while b"\n" not in answer and time.monotonic() < until and len(answer) < 200_000:
            answer += link.read(0.2)
            check()
    finally:
        link.close()
    try:
        found = json.loads(answer.split(b"\n", 1)[0])
    except (ValueError, RecursionError) as error:
        raise DeviceError(f"{where} does not answer", hint="Check that this is a control port") from error
    if not isinstance(found, dict) or not found.get("ok"):
        said = found.get("error", "it refuses") if isinstance(found, dict) else "it makes no sense"
        raise DeviceError(f"{where} says no: {str(said)[:200]}", hint="Check what was asked")
    return found
