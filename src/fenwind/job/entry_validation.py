"""Entries tried before they are kept: they can be applied, written, and read back as what they are."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import fields, is_dataclass
from typing import Any

import numpy as np

from fenwind.errors import JobError
from fenwind.job.checksums import EntryRow
from fenwind.job.state import TOGETHER, JobState
from fenwind.records.entries import Add, Additions, Amend, Entry, apply_to, decode, decode_additions, encode
from fenwind.records.records import Record


def check_entries(state: JobState, entries: Iterable[Entry]) -> None:
    """Apply entries to a copy. Raises JobError when one speaks of a record that is not there (any more),
    adds one that is, or does not fit its record; the state is left as it is."""
    fresh: dict[str, Record] = {}
    for entry in entries:
        key = entry.subject
        known = fresh.get(key) or state.records.get(key)
        if isinstance(entry, Add):
            if known is not None:
                raise JobError("a record of that id is there already", where=key, hint="Do it again")
            fresh[key] = entry.record
        elif known is None:
            raise JobError(
                "what this changes is gone", where=key, hint="Look at what is there now, and do it again"
            )
        else:
            try:
                fresh[key] = apply_to(known, entry.new)
            except (TypeError, ValueError) as error:
                raise JobError(
                    f"the change does not fit its record: {error}", where=key, hint="Do it again"
                ) from error


def entry_rows(entries: Iterable[Entry]) -> list[EntryRow]:
    """Entries as the file keeps them: kind, id of the record, JSON. Raises JobError for what JSON in UTF-8
    cannot hold."""
    rows = []
    for entry in entries:
        try:
            kind, body = encode(entry)
            f"{kind}{entry.subject}".encode()
        except (TypeError, ValueError, AttributeError, RecursionError) as error:
            raise _cannot_be_kept(entry, _unwritable(entry) or str(error)) from error
        rows.append((kind, entry.subject, body))
    return rows


def read_back(state: JobState, entries: Sequence[Entry], rows: Sequence[EntryRow]) -> Sequence[Entry]:
    """Entries as their rows are read: what the job holds from now on is what it will hold when it is opened
    again. Raises JobError when that is not what they were, so that nothing was kept."""
    added, kinds = _added(entries, rows), {}  # type: dict[int, Record], dict[str, list[int]]
    for at in added:
        kinds.setdefault(rows[at][0], []).append(at)
    read: dict[int, Record] = {}
    for kind, every in kinds.items():
        for begin in range(0, len(every), TOGETHER):
            places = every[begin : begin + TOGETHER]
            try:
                read |= zip(places, decode_additions(kind, [rows[at][2] for at in places]), strict=True)
            except JobError as error:
                raise _cannot_be_kept(None, _why([added[at] for at in places], error)) from error
    for at, record in read.items():
        if record != added[at]:
            _require_same(Add(record=added[at]), Add(record=record))
    if len(read) == len(entries):
        return Additions([read[at] for at in range(len(entries))])
    fresh = {record.id: type(record) for record in added.values()}
    return tuple(
        Add(record=read[at]) if at in read else _amendment_back(state, fresh, entry, rows[at])
        for at, entry in enumerate(entries)
    )


def _added(entries: Sequence[Entry], rows: Sequence[EntryRow]) -> dict[int, Record]:
    """Records that entries add, by their place among them. Raises ValueError where there are not as many
    rows."""
    if len(entries) != len(rows):
        raise ValueError("entries and rows are not of one gesture")
    if isinstance(entries, Additions):
        return dict(enumerate(entries.records))
    return {at: entry.record for at, entry in enumerate(entries) if isinstance(entry, Add)}


def _amendment_back(state: JobState, fresh: Mapping[str, type[Record]], entry: Entry, row: EntryRow) -> Entry:
    """An amendment as its row is read. fresh: kinds of records that its gesture adds."""
    known = state.records.get(entry.subject)
    record_type = fresh.get(entry.subject) or (type(known) if known is not None else None)
    try:
        read = decode(*row, record_type)
    except JobError as error:
        raise _cannot_be_kept(entry, _why(_content(entry), error)) from error
    if read != entry:
        _require_same(entry, read)
    return read


def _require_same(entry: Entry, read: Entry) -> None:
    """Raise JobError where an entry and what was read of it differ in more than that a list became a
    tuple."""
    if isinstance(entry, Add) and isinstance(read, Add):
        pairs = [
            (f.name, getattr(entry.record, f.name), getattr(read.record, f.name))
            for f in fields(entry.record)
        ]
    elif isinstance(entry, Amend) and isinstance(read, Amend):
        pairs = [(name, entry.new[name], read.new.get(name)) for name in entry.new]
        pairs += [(name, entry.old[name], read.old.get(name)) for name in entry.old]
    else:
        pairs = [("kind", type(entry), type(read))]
    for name, value, again in pairs:
        if _plain(value) != _plain(again):
            found = _not_finite(_plain(value))
            shown = (
                f"is {found}, not a number" if found else f"({ascii(value)[:80]}) does not read back as it is"
            )
            raise _cannot_be_kept(entry, f"{name.replace('_', ' ')} {shown}")


def _plain(value: Any) -> Any:
    """A value without the difference between lists and tuples, or between arrays and numbers."""
    if isinstance(value, np.ndarray):
        return _plain(value.tolist())
    if isinstance(value, list | tuple):
        return [_plain(one) for one in value]
    if isinstance(value, dict):
        return {key: _plain(one) for key, one in value.items()}
    if is_dataclass(value) and not isinstance(value, type):
        return {f.name: _plain(getattr(value, f.name)) for f in fields(value)}
    return value


def _content(entry: Entry) -> Any:
    return entry.record if isinstance(entry, Add) else {"new": entry.new, "old": entry.old}


def _why(content: Any, error: JobError) -> str:
    """Why something does not read back: a number that is none, else what the reader says."""
    found = _not_finite(_plain(content))
    return (
        f"a value is {found}, not a number"
        if found
        else f"a value is missing or of another kind ({error.message})"
    )


def _not_finite(value: Any) -> str:
    """The first number at any depth that is nan or infinite, in words; empty for none."""
    if isinstance(value, float):
        return "" if np.isfinite(value) else f"{value}"
    parts = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
    return next((found for part in parts if (found := _not_finite(part))), "")


def _unwritable(entry: Entry) -> str:
    """The first text of an entry at any depth that UTF-8 has no bytes for, in words; empty for none."""

    def look(value: Any) -> str:
        if isinstance(value, str):
            try:
                value.encode()
            except UnicodeEncodeError:
                return f"{value[:80]!a} has letters that cannot be kept"
        parts = value.values() if isinstance(value, dict) else value if isinstance(value, list) else ()
        return next((found for part in parts if (found := look(part))), "")

    reason = entry.reason if isinstance(entry, Amend) else ""
    return look([_plain(_content(entry)), entry.subject, reason])


def _cannot_be_kept(entry: Entry | None, why: str) -> JobError:
    where = entry.subject if entry is not None else ""
    where = where if where.isprintable() and where.isascii() else ascii(where)
    return JobError(
        f"this cannot be kept: {why}",
        where=where,
        hint="Type or compute it again; nothing was changed",
    )
