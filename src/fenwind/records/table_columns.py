"""Check of records that hold a table, a column a field."""

from __future__ import annotations

from typing import Any


def require_one_length(record: Any, *names: str, optional: tuple[str, ...] = ()) -> None:
    """Raise ValueError unless the fields `names` of a record have one length; those in `optional` may be
    empty instead."""
    lengths = {name: len(getattr(record, name)) for name in names}
    wanted = max(lengths.values(), default=0)
    lengths |= {name: len(getattr(record, name)) or wanted for name in optional}
    odd = [name for name, length in lengths.items() if length != wanted]
    if odd:
        raise ValueError(f"{', '.join(odd)} has another number of rows than the other columns ({wanted})")
