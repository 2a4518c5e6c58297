"""Ledger entries: a record added, or an amendment of some of its fields that keeps the old values and the
reason."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, is_dataclass, replace
from functools import cache
from typing import Any, NamedTuple, cast, get_args, get_type_hints, overload

import msgspec

from fenwind.errors import JobError
from fenwind.records.records import KIND_OF, KINDS, Record


@dataclass(frozen=True, slots=True, kw_only=True)
class Add:
    """A new record."""

    record: Record

    @property
    def subject(self) -> str:
        """Id of the record."""
        return self.record.id


@dataclass(frozen=True, slots=True, kw_only=True)
class Amend:
    """Fields of a record put right: `old` and `new` hold the same fields."""

    subject: str
    old: dict[str, Any]
    new: dict[str, Any]
    reason: str = ""


Entry = Add | Amend


class Additions(Sequence[Entry]):
    """Records added, as entries that are made when they are asked for: of a long list hardly ever."""

    __slots__ = ("records",)

    def __init__(self, records: Sequence[Record]) -> None:
        self.records = records

    def __len__(self) -> int:
        return len(self.records)

    @overload
    def __getitem__(self, at: int) -> Add: ...
    @overload
    def __getitem__(self, at: slice) -> Additions: ...
    def __getitem__(self, at: int | slice) -> Add | Additions:
        return Additions(self.records[at]) if isinstance(at, slice) else Add(record=self.records[at])


class Gesture(NamedTuple):
    """What one act of the user does, undone and redone as one: in words for undo, and its entries."""

    what: str
    entries: Sequence[Entry]


def amend(record: Record, *, reason: str = "", **changes: Any) -> Amend:
    """An amendment of `record` that sets the fields named in `changes`. Raises AttributeError for an unknown
    field."""
    old = {name: getattr(record, name) for name in changes}
    return Amend(subject=record.id, old=old, new=changes, reason=reason)


def apply_to(record: Record, values: dict[str, Any]) -> Record:
    """The record with some fields replaced."""
    return replace(record, **values)


def encode(entry: Entry) -> tuple[str, str]:
    """Kind and JSON body of an entry, as the job file keeps them; numbers keep every digit."""
    if isinstance(entry, Add):
        return f"add {KIND_OF[type(entry.record)]}", _encoder.encode(entry.record).decode()
    return "amend", _encoder.encode({"old": entry.old, "new": entry.new, "reason": entry.reason}).decode()


#: Numbers that come out of arrays are kept as the plain numbers they are.
_encoder = msgspec.json.Encoder(enc_hook=lambda value: value.item())


class NewerEntryError(JobError):
    """An entry has a kind or a field that this build does not know."""


def decode(kind: str, subject: str, body: str, record_type: type[Record] | None) -> Entry:
    """Entry of a stored kind and body; `record_type` is the type of the record an amendment is for.

    Raises NewerEntryError for a kind or a field that is not known, JobError when the body does not fit.
    """
    _require_known(kind, subject, body, record_type)
    try:
        if kind.startswith("add "):
            return Add(record=_decoder(kind[4:]).decode(body))
        raw = msgspec.json.decode(body)
        if record_type is None:
            raise KeyError(subject)
        old, new = _typed(record_type, raw["old"]), _typed(record_type, raw["new"])
        return Amend(subject=subject, old=old, new=new, reason=raw["reason"])
    except (msgspec.MsgspecError, KeyError, TypeError, ValueError, RecursionError) as error:
        raise JobError(
            f"a ledger entry for {subject} cannot be read: {error}",
            hint="Open a copy of the job from a backup",
        ) from error


def decode_additions(kind: str, bodies: Sequence[str]) -> list[Record]:
    """Added records of one stored kind from their bodies, all at once. Raises as `decode` does when one does
    not fit."""
    try:
        text = f"[{','.join(bodies)}]"
        records = _list_decoder(kind[4:]).decode(text)
        # Records that are written as they were read have no field that is not known.
        if _encoder.encode(records) == text.encode():
            return records
    except (msgspec.MsgspecError, KeyError, ValueError, RecursionError):
        pass
    return [cast(Add, decode(kind, "", body, None)).record for body in bodies]


def _require_known(kind: str, subject: str, body: str, record_type: type[Record] | None) -> None:
    """Raise NewerEntryError for a kind of entry, or a field at any depth, that this build does not know."""
    if kind.startswith("add "):
        known: Any = KINDS.get(kind[4:])
    else:
        known = record_type if kind == "amend" else None
    if known is None and (kind.startswith("add ") or kind != "amend"):
        raise _newer(subject, f"the kind {kind!r}")
    try:
        raw = msgspec.json.decode(body)
    except (msgspec.MsgspecError, RecursionError):
        return  # told by who decodes it
    values = [raw] if kind != "amend" else [raw.get("old"), raw.get("new")] if isinstance(raw, dict) else []
    for one in values:
        unknown = unknown_field(known, one) if known is not None else ""
        if unknown:
            raise _newer(subject, f"the field {unknown!r}")


def unknown_field(hint: Any, value: Any) -> str:
    """The first name of a JSON value that the type it is read as has no field for, at any depth; empty for
    none."""
    if isinstance(hint, type) and is_dataclass(hint):
        return _unknown_in(hint, value) if isinstance(value, dict) else ""
    parts = value if isinstance(value, list) else [value] if isinstance(value, dict) else []
    inner = [one for one in get_args(hint) if get_args(one) or is_dataclass(one)]
    found = (unknown_field(one, part) for one in inner for part in parts)
    return next((name for name in found if name), "")


def _unknown_in(record_type: type, value: dict[str, Any]) -> str:
    types = _field_types(record_type)
    strange = [name for name in value if name not in types]
    found = (unknown_field(types[name], part) for name, part in value.items() if name in types)
    return str(strange[0]) if strange else next((name for name in found if name), "")


def _newer(subject: str, what: str) -> NewerEntryError:
    return NewerEntryError(
        f"{what} of a ledger entry for {subject} is not known here: made with a newer Fenwind",
        hint="Update Fenwind; nothing was changed",
    )


@cache
def _list_decoder(kind: str) -> msgspec.json.Decoder[list[Any]]:
    record_type: Any = KINDS[kind]
    return msgspec.json.Decoder(list[record_type])


@cache
def _decoder(kind: str) -> msgspec.json.Decoder[Record]:
    return msgspec.json.Decoder(KINDS[kind])


@cache
def _field_types(record_type: type) -> dict[str, Any]:
    return get_type_hints(record_type)


def _typed(record_type: Any, values: dict[str, Any]) -> dict[str, Any]:
    """Values in the types the record declares (JSON knows no tuples)."""
    types = _field_types(record_type)
    return {name: msgspec.convert(value, types[name]) for name, value in values.items()}
