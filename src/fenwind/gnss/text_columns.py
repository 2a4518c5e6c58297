"""Numbers in fixed columns of many lines at once."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

Bytes = NDArray[np.uint8]
FloatArray = NDArray[np.float64]
IntArray = NDArray[np.int64]
Bools = NDArray[np.bool_]

BLANK, DOT, MINUS, PLUS, ZERO, NINE = (ord(c) for c in " .-+09")
#: Cells that are read together.
CHUNK = 200_000


class Lines:
    """Lines of a text: their beginnings and ends, without what ends them."""

    def __init__(self, data: bytes) -> None:
        self.data = np.frombuffer(data, dtype=np.uint8)
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
        at = self.starts[rows][:, None] + np.arange(first, first + width)
        inside = at < self.ends[rows][:, None]
        return np.where(inside, self.data[np.minimum(at, self.data.size - 1)], BLANK)


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
    """Numbers (k,) of cells (k, w) and whether each is one; nan for a blank cell, which is one. Cells whose
    point stands where that of most does are read together, the others one by one."""
    out = np.full(cells.shape[0], np.nan)
    fine = np.ones(cells.shape[0], dtype=bool)
    for start in range(0, cells.shape[0], CHUNK):
        part = slice(start, start + CHUNK)
        out[part], fine[part] = _decimals(cells[part])
    return out, fine


def _decimals(cells: Bytes) -> tuple[FloatArray, Bools]:
    n, width = cells.shape
    out, fine = np.full(n, np.nan), np.ones(n, dtype=bool)
    empty = (cells == BLANK).all(axis=1)
    points = cells == DOT
    if not points.any():
        return _one_by_one(cells, out, fine, np.flatnonzero(~empty))
    place = int(points.sum(axis=0).argmax())
    digit = (cells >= ZERO) & (cells <= NINE)
    minus = cells == MINUS
    left, right = digit[:, :place], digit[:, place + 1 :]
    # Blanks and one sign may stand before the digits, nothing but digits behind the point.
    before = ~left & ~minus[:, :place] & (cells[:, :place] != BLANK)
    started = np.logical_or.accumulate(left | minus[:, :place], axis=1)
    broken = (started[:, :-1] & ~left[:, 1:]).any(axis=1) if place > 1 else np.zeros(n, dtype=bool)
    plain = points[:, place] & ~before.any(axis=1) & ~broken & right.all(axis=1) & left.any(axis=1)
    plain &= minus[:, place + 1 :].sum(axis=1) == 0
    weights = np.concatenate([10.0 ** np.arange(place - 1, -1, -1), 10.0 ** -np.arange(1.0, width - place)])
    digits = np.where(digit, cells - ZERO, 0)
    digits = np.delete(digits, place, axis=1)
    # Whole digits first: a sum of decimal fractions would lose the last bit.
    scale = 10.0 ** (width - place - 1)
    whole = digits.astype(np.float64) @ np.round(weights * scale) / scale
    out[plain] = np.where(minus[:, :place].any(axis=1), -whole, whole)[plain]
    return _one_by_one(cells, out, fine, np.flatnonzero(~plain & ~empty))


def _one_by_one(
    cells: Bytes, out: FloatArray, fine: Bools, rows: NDArray[np.intp]
) -> tuple[FloatArray, Bools]:
    for row in rows.tolist():
        text = bytes(cells[row]).decode("ascii", "replace").strip().replace("D", "E").replace("d", "e")
        try:
            value = float(text)
        except ValueError:
            value = np.nan
        fine[row] = np.isfinite(value) and "_" not in text
        out[row] = value if fine[row] else np.nan
    return out, fine
