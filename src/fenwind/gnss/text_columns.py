"""Numbers in fixed columns of many lines at once."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Bytes = NDArray[np.uint8]
FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
Bools = NDArray[np.bool_]

BLANK, ZERO, NINE = (ord(c) for c in " 09")
#: Cells that are read together.
CHUNK = 200_000


class Lines:
    """Lines of a text: their beginnings and ends, without what ends them."""

    def __init__(self, data: bytes) -> None:
        self.data = np.frombuffer(data, dtype=np.uint8)
        self._room = self.data
        feeds = np.flatnonzero(self.data == 10)
        self.starts = np.concatenate([[0], feeds + 1])
        self.ends = np.concatenate([feeds, [self.data.size]])
        if self.starts[-1] == self.data.size:
            self.starts, self.ends = self.starts[:-1], self.ends[:-1]
        some = self.ends > self.starts
        returns = np.zeros(self.ends.shape, dtype=bool)
        returns[some] = self.data[self.ends[some] - 1] == 13
        self.ends = self.ends - returns

    def __len__(self) -> int:
        return self.starts.size

    def text(self, i: int) -> str:
        """One line."""
        return bytes(self.data[self.starts[i] : self.ends[i]]).decode("ascii", "replace")

    def columns(self, rows: NDArray[np.intp], first: int, width: int) -> Bytes:
        """Columns (k, width) of lines, blank where a line is shorter."""
        starts = self.starts[rows]
        room = self._padded(first + width)
        found: Bytes = np.lib.stride_tricks.sliding_window_view(room, width)[starts + first]
        outside = np.arange(first, first + width) >= (self.ends[rows] - starts)[:, None]
        found[outside] = BLANK
        return found

    def _padded(self, more: int) -> Bytes:
        """The text with at least so many blanks behind it."""
        if self._room.size < self.data.size + more:
            self._room = np.concatenate([self.data, np.full(2 * more, BLANK, dtype=np.uint8)])
        return self._room


def whole_numbers(cells: Bytes) -> tuple[IntArray, Bools]:
    """Numbers (k,) of cells (k, w) and whether each is one; 0 for a blank cell, which is one."""
    digit = (cells >= ZERO) & (cells <= NINE)
    blank = cells == BLANK
    value = np.zeros(cells.shape[0], dtype=np.int64)
    for column in range(cells.shape[1]):
        here = digit[:, column]
        value = np.where(here, value * 10 + (cells[:, column].astype(np.int64) - ZERO), value)
    inner = np.zeros(cells.shape[0], dtype=bool)  # a blank after a digit and before another
    seen, ended = np.zeros_like(inner), np.zeros_like(inner)
    for column in range(cells.shape[1]):
        ended |= seen & blank[:, column]
        inner |= ended & digit[:, column]
        seen |= digit[:, column]
    return value, (digit | blank).all(axis=1) & ~inner


def decimals(cells: Bytes) -> tuple[FloatArray, Bools]:
    """Numbers (k,) of cells (k, w) and whether each is one; nan for a blank cell, which is one."""
    out = np.full(cells.shape[0], np.nan)
    fine = np.ones(cells.shape[0], dtype=bool)
    for start in range(0, cells.shape[0], CHUNK):
        part = slice(start, start + CHUNK)
        out[part], fine[part] = _decimals(np.ascontiguousarray(cells[part]))
    return out, fine


def _decimals(cells: Bytes) -> tuple[FloatArray, Bools]:
    out, fine = np.full(cells.shape[0], np.nan), np.ones(cells.shape[0], dtype=bool)
    allowed = _ALLOWED[cells].all(axis=1)
    filled = (cells != BLANK).any(axis=1)
    plain = np.flatnonzero(allowed & filled)
    texts = cells[plain].view(f"S{cells.shape[1]}").ravel()
    others = np.flatnonzero(~allowed & filled)
    try:
        out[plain] = texts.astype(np.float64)
    except ValueError:  # a cell among them is no number
        others = np.flatnonzero(filled)
    for row in others.tolist():
        out[row], fine[row] = _one(bytes(cells[row]))
    return out, fine


#: Bytes that a plain number is made of.
_ALLOWED = np.zeros(256, dtype=bool)
_ALLOWED[[ord(c) for c in "0123456789.-+ "]] = True


def _one(cell: bytes) -> tuple[float, bool]:
    text = cell.decode("ascii", "replace").strip().replace("D", "E").replace("d", "e")
    try:
        value = float(text)
    except ValueError:
        value = np.nan
    fine = bool(np.isfinite(value)) and "_" not in text
    return (value, True) if fine else (np.nan, False)
