"""What an adjusted network says of each of its observations."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from fenwind.estimation.distributions import detectable_shift
from fenwind.procedures.network import NetworkResult, Part

FloatArray = NDArray[np.float64]
IntArray = NDArray[np.intp]


@dataclass(frozen=True, kw_only=True, eq=False)
class RowFigures:
    """Of one observation: residual, redundancy, w, smallest error found (b,), external reliability (b,) in
    metres and the mark it is at; nan where the redundancy is under 1e-6."""

    residual: FloatArray
    redundancy: FloatArray
    w: FloatArray
    mdb: FloatArray
    external: FloatArray
    external_at: tuple[str, ...]


class FigureTable(Mapping[int, RowFigures]):
    """Figures of all observations by row number, kept as columns; those of one are made when asked for.
    columns: of each kind the rows (k,), their five figures (5, b, k), and the marks (b, k) that move most, as
    places among names."""

    def __init__(
        self, columns: Sequence[tuple[IntArray, FloatArray, IntArray]] = (), names: Sequence[str] = ()
    ) -> None:
        self._columns, self._names = columns, names

    @cached_property
    def _place(self) -> dict[int, tuple[int, int]]:
        """The column and the place there of every row."""
        return {
            row: (number, k)
            for number, (rows, _, _) in enumerate(self._columns)
            for k, row in enumerate(rows.tolist())
        }

    def __getitem__(self, row: int) -> RowFigures:
        number, k = self._place[row]
        _, values, where = self._columns[number]
        residual, redundancy, w, mdb, external = values[:, :, k]
        return RowFigures(
            residual=residual, redundancy=redundancy, w=w, mdb=mdb, external=external,
            external_at=tuple(self._names[i] for i in where[:, k].tolist()),
        )  # fmt: skip

    def __iter__(self) -> Iterator[int]:
        return iter(self._place)

    def __len__(self) -> int:
        return len(self._place)

    def worst(self, count: int) -> FloatArray:
        """Residual, redundancy, w, smallest error and external reliability (5, count) of the component of
        each row that has the largest |w|; nan for rows without figures."""
        out = np.full((5, count), np.nan)
        for rows, values, _ in self._columns:
            at = np.abs(np.nan_to_num(values[2])).argmax(axis=0)
            out[:, rows] = values[:, at, np.arange(rows.size)]
        return out

    def least_redundancy(self, count: int) -> FloatArray:
        """The smallest redundancy (count,) of a component of each row; nan for rows without figures."""
        out = np.full(count, np.nan)
        for rows, values, _ in self._columns:
            out[rows] = values[1].min(axis=0)
        return out

    def tests(self) -> FloatArray:
        """w of every component."""
        return np.concatenate([np.zeros(0), *(values[2].ravel() for _, values, _ in self._columns)])


def row_figures(result: NetworkResult, alpha: float, power: float) -> FigureTable:
    """Figures by row number."""
    assert result.found is not None
    d0 = detectable_shift(alpha, power)
    columns = []
    for part, group in zip(result.parts, result.found.groups, strict=False):
        q = group.cofactors  # first: what comes from it need not be read anew
        r, w = group.redundancy, group.standardised
        fine = r >= 1e-6
        mdb = np.where(fine, d0 / np.where(fine, group.sensitivity, 1.0), np.nan)
        # How the unknowns move (p, b, k) for the smallest error of each component: Q A' P e_c.
        weighted = group.whitening.weigh(group.whitened_design)
        shift = np.einsum("pqk,bqk->pbk", q, weighted) * mdb
        external, where = _longest(result, part, np.where(part.free[:, None], shift, 0.0))
        values = [group.residuals, r, np.where(fine, w, np.nan), mdb, np.where(fine, external, np.nan)]
        columns.append((part.rows, np.stack(values), where))
    return FigureTable(columns, result.marks.names)


def _longest(result: NetworkResult, part: Part, shift: FloatArray) -> tuple[FloatArray, IntArray]:
    """The largest way (b, k) that a mark of each observation moves for shifts (p, b, k), and the place (b, k)
    of that mark."""
    roles = 3 if part.kind == "angle" else 2
    ways = shift[: 3 * roles].reshape(roles, 3, *shift.shape[1:])[:, list(result.net.axes)]
    lengths = np.sqrt((ways**2).sum(axis=1))
    ends = np.take_along_axis(part.ends[:roles, None], lengths.argmax(axis=0)[None], axis=0)[0]
    return lengths.max(axis=0), ends
