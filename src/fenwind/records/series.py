"""Long series, such as the epochs of an occupation, as columns of numbers: kept as blobs, never as one
record a number.

Layout, also in docs/formats/series.md: the line "FWSR1", a line of JSON with the columns in their order
(name, unit, dtype, count), then the numbers of one column after the other, little endian.
"""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass

import msgspec
import numpy as np
from numpy.typing import NDArray

from fenwind.errors import FormatError

MAGIC = b"FWSR1\n"
#: Kinds of number a column may hold.
DTYPES = ("<f8", "<f4", "<i8", "<i4", "<i2", "|i1", "|u1")


@dataclass(frozen=True, slots=True, kw_only=True)
class Column:
    """Head of one column: its name, its unit as text, what kind of number (of DTYPES), how many."""

    name: str
    unit: str
    dtype: str
    count: int


def encode(columns: Mapping[str, tuple[str, NDArray[np.generic]]]) -> bytes:
    """Columns by name, each with its unit and its numbers (k,), as the bytes of a blob. Raises FormatError
    for a kind of number that is not in DTYPES."""
    heads, parts = [], []
    for name, (unit, values) in columns.items():
        plain = np.ascontiguousarray(values).astype(values.dtype.newbyteorder("<"), copy=False)
        if plain.dtype.str not in DTYPES:
            raise FormatError(f"{name} holds {plain.dtype}", hint=f"Use one of {', '.join(DTYPES)}")
        heads.append(Column(name=name, unit=unit, dtype=plain.dtype.str, count=plain.size))
        parts.append(plain.tobytes())
    return MAGIC + msgspec.json.encode(heads) + b"\n" + b"".join(parts)


def decode(data: bytes) -> dict[str, tuple[str, NDArray[np.generic]]]:
    """Columns by name with unit and numbers. Raises FormatError when the bytes are no series, or not
    whole."""
    hint = "Read the file that it came from again"
    if not data.startswith(MAGIC) or b"\n" not in data[len(MAGIC) :]:
        raise FormatError("this is no series", hint=hint)
    head, _, rest = data[len(MAGIC) :].partition(b"\n")
    try:
        heads = msgspec.json.decode(head, type=list[Column])
    except msgspec.MsgspecError as error:
        raise FormatError(f"the head of a series cannot be read: {error}", hint=hint) from error
    if any(h.dtype not in DTYPES or h.count < 0 for h in heads):
        raise FormatError("a series holds numbers of an unknown kind", hint=hint)
    if sum(np.dtype(h.dtype).itemsize * h.count for h in heads) != len(rest):
        raise FormatError("a series is not whole", hint=hint)
    out: dict[str, tuple[str, NDArray[np.generic]]] = {}
    start = 0
    for h in heads:
        out[h.name] = (h.unit, np.frombuffer(rest, dtype=h.dtype, count=h.count, offset=start))
        start += np.dtype(h.dtype).itemsize * h.count
    return out
