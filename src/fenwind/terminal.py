"""What goes to a terminal: plain text. Names come from other people's files, and a terminal obeys what is
written to it."""

from __future__ import annotations

from typing import TextIO

#: Control characters but tab and line feed, each as people can read it.
_CONTROLS = {code: f"\\x{code:02x}" for code in (*range(9), *range(11, 32), *range(127, 160))}


def plain(text: str) -> str:
    """A text without control characters."""
    return text.translate(_CONTROLS)


class PlainStream:
    """A text stream that passes on what `plain` leaves of what is written."""

    def __init__(self, stream: TextIO) -> None:
        self._stream = stream

    def write(self, text: str) -> int:
        """Write without control characters."""
        return self._stream.write(plain(text))

    def __getattr__(self, name: str) -> object:
        return getattr(self._stream, name)
