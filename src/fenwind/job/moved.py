"""What moved between two derivations: the before and after of every adopted position."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from fenwind.job.adopted import Adopted

FloatArray = NDArray[np.float64]

#: Movements below this are rounding, metres.
LEAST_M = 5e-6


@dataclass(frozen=True, kw_only=True, eq=False)
class Moved:
    """Marks of one frame that moved (k,), after - before in metres; height nan where it came or went.
    appeared, gone: names."""

    frame: str
    names: tuple[str, ...]
    de_m: FloatArray
    dn_m: FloatArray
    dh_m: FloatArray
    appeared: tuple[str, ...]
    gone: tuple[str, ...]

    @property
    def largest_m(self) -> float:
        """Longest way in space, metres."""
        return float(self._ways.max(initial=0.0))

    @property
    def farthest(self) -> str:
        """Name of the mark that moved by it, empty for none."""
        return self.names[int(np.argmax(self._ways))] if self.names else ""

    @property
    def _ways(self) -> FloatArray:
        """Ways in space (k,), in plan alone where a height came or went."""
        return np.asarray(np.sqrt(self.de_m**2 + self.dn_m**2 + np.nan_to_num(self.dh_m) ** 2))


def moved(frame: str, before: Adopted, after: Adopted) -> Moved:
    """Compare two sets of adopted positions of one frame, mark by mark; names are those of after, of what
    is gone those of before."""
    common = [key for key in after.ids if key in before.place]
    a = np.array([after.place[key] for key in common], dtype=int)
    b = np.array([before.place[key] for key in common], dtype=int)
    de, dn = after.e_m[a] - before.e_m[b], after.n_m[a] - before.n_m[b]
    dh = after.height_m[a] - before.height_m[b]
    height_changed = np.isfinite(after.height_m[a]) != np.isfinite(before.height_m[b])
    rows = np.flatnonzero(
        (np.abs(de) > LEAST_M) | (np.abs(dn) > LEAST_M) | (np.abs(dh) > LEAST_M) | height_changed
    )
    return Moved(
        frame=frame,
        names=tuple(after.names[a[i]] for i in rows),
        de_m=de[rows],
        dn_m=dn[rows],
        dh_m=dh[rows],
        appeared=tuple(after.names[i] for i, key in enumerate(after.ids) if key not in before.place),
        gone=tuple(before.names[i] for i, key in enumerate(before.ids) if key not in after.place),
    )
