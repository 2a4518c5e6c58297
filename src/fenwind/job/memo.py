"""Results kept under the content of all they were computed from."""

from __future__ import annotations

import hashlib
from collections import OrderedDict
from collections.abc import Callable
from typing import Any, TypeVar

import numpy as np

T = TypeVar("T")


class Memo:
    """Results by the content of what they were computed from; the ones used longest ago are forgotten first.

    `latest` saves even gathering that content: it holds one result a name while the versions it was made from
    stay the same. A memo belongs to one job.
    """

    LIMIT = 20_000

    def __init__(self) -> None:
        self._known: OrderedDict[bytes, Any] = OrderedDict()
        self._latest: dict[Any, tuple[Any, Any]] = {}
        self.computed: list[str] = []

    def aside(self) -> Memo:
        """A memo for a state that is only tried: it knows the results by content, but keeps its own by
        version, since the versions of what is tried and of what is really done next are the same numbers."""
        other = Memo()
        other._known = self._known
        return other

    def begin(self) -> None:
        """Start a derivation: `computed` will tell what it had to run."""
        self.computed = []

    def get(self, what: str, inputs: tuple[Any, ...], compute: Callable[[], T]) -> T:
        """The result for these inputs, computed when it is not known."""
        key = content_key(what, inputs)
        if key not in self._known:
            self.computed.append(what)
            self._known[key] = compute()
            if len(self._known) > self.LIMIT:
                self._known.popitem(last=False)
        self._known.move_to_end(key)
        return self._known[key]  # type: ignore[no-any-return]

    def latest(self, name: Any, versions: Any, make: Callable[[], T]) -> T:
        """The result made last under a name, made again when the versions differ."""
        held = self._latest.get(name)
        if held is None or held[0] != versions:
            held = (versions, make())
            self._latest[name] = held
        return held[1]


def content_key(what: str, inputs: tuple[Any, ...]) -> bytes:
    """A digest of a computation's name and inputs: arrays by their bytes, all else by its repr."""
    digest = hashlib.blake2b(what.encode(), digest_size=16)
    for item in inputs:
        if isinstance(item, np.ndarray):
            digest.update(repr((item.shape, item.dtype.str)).encode())
            digest.update(np.ascontiguousarray(item).tobytes())
        else:
            digest.update(repr(item).encode())
        digest.update(b"\x1f")
    return digest.digest()
