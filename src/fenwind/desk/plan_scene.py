"""What the plan shows: marks of one frame, residuals, ellipses, backdrops, what is coming in."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np
from numpy.typing import NDArray

from fenwind.desk.plan_extras import Apart, Coming
from fenwind.geodesy.axes import ShownAxis, shown_axes
from fenwind.quantities.lengths import METRE, LengthUnit

FloatArray = NDArray[np.float64]


@dataclass(kw_only=True, eq=False)
class Scene:
    """What the plan shows, metres. symbol (k,) holds RING, TRIANGLE, SQUARE or CROSS; off (k,) greys.
    vectors: rows with residuals de, dn (computed - known). ellipses: rows with semi-axes a, b (95 %) and
    the azimuth of a in radians. lines (3, k): rows of both ends, and the redundancy of what was observed
    along each. labelled (k,), empty for all. gaps: places that lack a target. under: backdrops, which
    paint themselves."""

    title: str = ""
    unit: LengthUnit = METRE
    axes: tuple[ShownAxis, ShownAxis] = shown_axes(None)
    names: tuple[str, ...] = ()
    e_m: FloatArray = field(default_factory=lambda: np.zeros(0))
    n_m: FloatArray = field(default_factory=lambda: np.zeros(0))
    symbol: NDArray[np.int8] = field(default_factory=lambda: np.zeros(0, dtype=np.int8))
    off: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, dtype=bool))
    vector_rows: NDArray[np.intp] = field(default_factory=lambda: np.zeros(0, dtype=int))
    vector_m: FloatArray = field(default_factory=lambda: np.zeros((2, 0)))
    ellipse_rows: NDArray[np.intp] = field(default_factory=lambda: np.zeros(0, dtype=int))
    ellipse: FloatArray = field(default_factory=lambda: np.zeros((3, 0)))
    lines: FloatArray = field(default_factory=lambda: np.zeros((3, 0)))
    hull: FloatArray = field(default_factory=lambda: np.zeros((2, 0)))
    labelled: NDArray[np.bool_] = field(default_factory=lambda: np.zeros(0, dtype=bool))
    gaps: FloatArray = field(default_factory=lambda: np.zeros((2, 0)))
    under: tuple[Any, ...] = ()
    coming: Coming | None = None
    apart: Apart | None = None

    def show_alone(self, coming: Coming) -> None:
        """Show what is coming in a frame of its own, without the marks."""
        fresh = Scene(title=coming.alone, unit=self.unit, coming=coming)
        self.__dict__.update(fresh.__dict__)
