"""Entries tried before they are kept: what is committed can be applied, and holds no number that is none."""

from __future__ import annotations

import math
from collections.abc import Iterable
from dataclasses import fields
from typing import Any

from fenwind.errors import JobError
from fenwind.job.state import JobState
from fenwind.progress import in_pieces
from fenwind.records.entries import Add, Entry, apply_to
from fenwind.records.records import Record


def check_entries(state: JobState, entries: Iterable[Entry]) -> None:
    """Apply entries to a copy. Raises JobError when one speaks of a record that is not there (any more),
    adds one that is, does not fit its record, or holds nan or infinity; the state is left as it is."""
    fresh: dict[str, Record] = {}
    for entry in in_pieces(entries):
        key = entry.subject
        known = fresh.get(key) or state.records.get(key)
        if isinstance(entry, Add):
            if known is not None:
                raise JobError("a record of that id is there already", where=key, hint="Do it again")
            fresh[key] = entry.record
            _require_numbers(key, (getattr(entry.record, f.name) for f in fields(entry.record)))
        elif known is None:
            raise JobError(
                "what this changes is gone", where=key, hint="Look at what is there now, and do it again"
            )
        else:
            _require_numbers(key, entry.new.values())
            try:
                fresh[key] = apply_to(known, entry.new)
            except (TypeError, ValueError) as error:
                raise JobError(
                    f"the change does not fit its record: {error}", where=key, hint="Do it again"
                ) from error


def _require_numbers(key: str, values: Iterable[Any]) -> None:
    for value in values:
        if isinstance(value, float) and not math.isfinite(value):
            raise JobError(
                "a value is not a number", where=key, hint="Type or compute it again; nothing was changed"
            )
