"""Lists of bare positions as CSV."""

from __future__ import annotations

import math

from fenwind.exchange.csv_out import csv_text
from fenwind.procedures.positions import Positions
from fenwind.quantities.lengths import LengthUnit


def positions_csv(points: Positions, unit: LengthUnit, decimals: int = 4) -> str:
    """CSV of positions in `unit` with a fixed number of decimals, every head with its unit; empty where there
    is none."""
    columns = (
        points.e_m / unit.metres,
        points.n_m / unit.metres,
        points.height_m / unit.metres,
        points.sigma_h_m / unit.metres,
        points.sigma_v_m / unit.metres,
    )
    rows = zip(points.names, *columns, strict=True)
    cells = (
        [name, *("" if math.isnan(v) else f"{v:.{decimals}f}" for v in values)] for name, *values in rows
    )
    return csv_text(("name", *(f"{head} ({unit.key})" for head in ("e", "n", "h", "sh", "sv"))), cells)
