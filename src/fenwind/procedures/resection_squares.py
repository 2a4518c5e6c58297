"""The squares that a resection makes smallest: sightings whitened by their covariances, and what is solved
for from one start."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.errors import EstimationError
from fenwind.estimation.engine import Problem, adjust
from fenwind.estimation.few import STEPS, settle

FloatArray = NDArray[np.float64]

#: No line is shorter than this, metres: its direction would have no meaning.
SHORTEST_M = 1e-9


@dataclass(slots=True, eq=False)
class Solved:
    """x (n,): e, n, orientation, then h and scale where they are solved for; cofactors (n, n); rows (n + 1,
    3 k) at x, as `SightingSquares.at`; v^T P v."""

    x: FloatArray
    cofactors: FloatArray
    rows: FloatArray
    sum_squares: float


class SightingSquares:
    """k sightings of places known (3, k): read are directions, horizontal distances and height differences
    (k,) each, with covariance (3, 3, k); which of them are used (3, k). Radians and metres. heights, free:
    whether h and the scale are solved for."""

    def __init__(
        self,
        known: FloatArray,
        read: tuple[FloatArray, FloatArray, FloatArray],
        covariance: FloatArray,
        used: NDArray[np.bool_],
        heights: bool,
        free: bool,
    ) -> None:
        #: How many sightings, unknowns, and observed values.
        self.k, self.n = used.shape[1], 3 + heights + free
        self._heights, self._free, self._used = heights, free, used
        (self._direction, hd, dh), (self._e, self._n, h) = read, known
        self._hd, self._rise = np.where(used[1], hd, 0.0), np.where(used[2], h - dh, 0.0)
        mask = used.T
        blocks = covariance.transpose(2, 0, 1)
        self.observed = int(np.count_nonzero(used))
        if self.observed < used.size:
            blocks = np.where(mask[:, :, None] & mask[:, None], blocks, np.eye(3))
        self._lower = np.linalg.cholesky(blocks)
        #: What whitens the residuals of each sighting (k, 3, 3), none of what is not used.
        self.whitening = np.linalg.inv(self._lower) * mask[:, None]
        self._blank = np.zeros((self.k, 3, self.n + 1))
        self._blank[:, 0, 2] = -1.0
        if heights:
            self._blank[:, 2, 3] = -1.0
        self._start_height = float(self._rise.sum()) / np.count_nonzero(used[2]) if heights else math.nan

    def _raw(self, x: FloatArray) -> FloatArray:
        """Derivatives (k, 3, n + 1) of what is computed by each unknown, and last computed - observed."""
        out, n = self._blank.copy(), self.n
        e, north, turn = x[:3].tolist()
        e_off, n_off = e - self._e, north - self._n  # from the marks
        d = np.maximum(np.hypot(e_off, n_off), SHORTEST_M)
        scale = float(x[-1]) if self._free else 1.0
        by_e, by_n = np.divide(e_off, d, out=out[:, 1, 0]), np.divide(n_off, d, out=out[:, 1, 1])
        np.divide(by_n, d, out=out[:, 0, 0])
        np.divide(by_e, -d, out=out[:, 0, 1])
        turned = np.arctan2(e_off, n_off) - (self._direction + (turn - math.tau))
        np.subtract(np.remainder(turned, math.tau), math.pi, out=out[:, 0, n])
        if self._free:
            by_e /= scale
            by_n /= scale
            d /= scale
            np.divide(d, -scale, out=out[:, 1, n - 1])
        np.subtract(d, self._hd, out=out[:, 1, n])
        if self._heights:
            np.subtract(self._rise, float(x[3]), out=out[:, 2, n])
        return out

    def at(self, x: FloatArray) -> FloatArray:
        """Whitened derivatives of what is computed by each unknown, and last whitened computed - observed:
        rows (n + 1, 3 k)."""
        return (self.whitening @ self._raw(x)).reshape(-1, self.n + 1).T

    def solve(self, start: FloatArray, whole_steps: int = STEPS, damped: bool = True) -> Solved:
        """From a start (3,), by so many whole steps at most; damped: by halved ones where these do not lead.
        Raises EstimationError where it is not determined or does not settle."""
        x = [*start[:3].tolist(), *([self._start_height] if self._heights else []), *([1.0] * self._free)]
        found = settle(self.at, np.array(x), whole_steps)
        if found.cofactors is not None:
            return Solved(found.x, found.cofactors, found.rows, found.sum_squares)
        if not damped:
            raise EstimationError("it does not settle by whole steps", hint="Give better starting values")
        return self._damped(found.x)

    def _damped(self, x: FloatArray) -> Solved:
        """Where whole steps do not lead: the engine halves them, and names what is not determined."""
        m = 3 * self.k  # what is not used is 0 and does not move

        def model(x: FloatArray) -> tuple[FloatArray, FloatArray]:
            rows = self.at(x)
            return rows[-1:], rows[None, :-1]

        names = ("e", "n", "orientation", *(["h"] * self._heights), *(["scale"] * self._free))
        problem = Problem(
            names=names, start=x, observed=np.zeros((1, m)), covariance=np.ones((1, 1, m)), model=model
        )
        found = adjust(problem)
        return Solved(found.x, found.cofactors, self.at(found.x), found.sum_squares)

    def residuals(self, rows: FloatArray) -> FloatArray:
        """Adjusted - observed (3, k) of rows as `at` gives them; nan of what is not used."""
        v = self._lower @ rows[-1].reshape(self.k, 3, 1)
        return np.where(self._used, v[:, :, 0].T, np.nan)

    def weighed(self, rows: FloatArray) -> FloatArray:
        """Rows as `at` gives them times weights (k, n + 1, 3): A^T P of each sighting, and last P v."""
        return np.asarray(rows.reshape(-1, self.k, 3).transpose(1, 0, 2) @ self.whitening)

    def standardised(self, found: Solved) -> FloatArray:
        """Sizes of the standardised residuals (3, k), (P v)_i / sqrt((P Qvv P)_ii), Baarda 1968; 0 of what
        nothing controls, nan of what is not used."""
        every = self.weighed(found.rows)
        seen, pv = every[:, :-1], every[:, -1]
        weight = np.add.reduce(self.whitening * self.whitening, axis=1)
        spread = weight - np.add.reduce(seen * (found.cofactors @ seen), axis=1)
        fine = spread > 1e-9 * weight
        sizes = np.where(fine, np.abs(pv) / np.sqrt(np.where(fine, spread, 1.0)), 0.0)
        return np.where(self._used, sizes.T, np.nan)
