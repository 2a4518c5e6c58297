"""What would follow from a change that is only looked at: asked of the job's owner once, shown when it is
there."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Sequence
from functools import partial

from fenwind.desk.bridge import JobBridge
from fenwind.job.derive import Derived
from fenwind.records.entries import Entry


class Trial:
    """The latest of the trials of one page. came: called when its result is there."""

    def __init__(self, bridge: JobBridge, came: Callable[[], object]) -> None:
        self._bridge, self._came = bridge, came
        self._asked: Hashable = None
        self._found: Derived | None = None

    def result(self, key: Hashable, entries: Sequence[Entry]) -> Derived | None:
        """What would follow from entries, which `key` tells from others; None while that is not known."""
        asked = (key, self._bridge.revision)
        if asked != self._asked:
            self._asked, self._found = asked, None
            self._bridge.what_if(entries, partial(self._on_found, asked))
        return self._found

    def _on_found(self, asked: Hashable, found: Derived | None) -> None:
        if asked == self._asked and found is not None:
            self._found = found
            self._came()
