"""Ledger entries: a record added, or an amendment of some of its fields that keeps the old values and the
reason."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cache
from typing import Any, NamedTuple, cast, get_type_hints, overload

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


def decode(kind: str, subject: str, body: str, record_type: type[Record] | None) -> Entry:
    """Entry of a stored kind and body; `record_type` is the type of the record an amendment is for.

    Raises JobError when the body does not fit.
    """
    try:
        if kind.startswith("add "):
            return Add(record=_decoder(kind[4:]).decode(body))
        raw = msgspec.json.decode(body)
        if record_type is None:
            raise KeyError(subject)
        old, new = _typed(record_type, raw["old"]), _typed(record_type, raw["new"])
        return Amend(subject=subject, old=old, new=new, reason=raw["reason"])
    except (msgspec.MsgspecError, KeyError, TypeError, ValueError) as error:
        raise JobError(
            f"a ledger entry for {subject} cannot be read: {error}",
            hint="Open a copy of the job from a backup",
        ) from error


def decode_additions(kind: str, bodies: Sequence[str]) -> list[Record]:
    """Added records of one stored kind from their bodies, all at once. Raises JobError when one does not
    fit."""
    try:
        return _list_decoder(kind[4:]).decode(f"[{','.join(bodies)}]")
    except (msgspec.MsgspecError, KeyError, ValueError):
        # Finds and names the one that does not.
        return [cast(Add, decode(kind, "", body, None)).record for body in bodies]


@cache
def _list_decoder(kind: str) -> msgspec.json.Decoder[list[Any]]:
    record_type: Any = KINDS[kind]
    return msgspec.json.Decoder(list[record_type])


@cache
def _decoder(kind: str) -> msgspec.json.Decoder[Record]:
    return msgspec.json.Decoder(KINDS[kind])


@cache
def _field_types(record_type: Any) -> dict[str, Any]:
    return get_type_hints(record_type)


def _typed(record_type: Any, values: dict[str, Any]) -> dict[str, Any]:
    """Values in the types the record declares (JSON knows no tuples)."""
    types = _field_types(record_type)
    return {name: msgspec.convert(value, types[name]) for name, value in values.items()}
