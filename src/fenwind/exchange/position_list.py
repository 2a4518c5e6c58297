"""Lists of positions as CSV: carried ones, and those a job adopts."""

from __future__ import annotations

import math

from fenwind.exchange.csv_out import csv_text
from fenwind.job.adopted import Adopted
from fenwind.procedures.positions import Positions
from fenwind.quantities.lengths import LengthUnit


def positions_csv(points: Positions, unit: LengthUnit, decimals: int = 4) -> str:
    """CSV of positions; e, n, h in `unit` with a fixed number of decimals, sigmas in metres; empty where there is none."""
    columns = (
        points.e_m / unit.metres,
        points.n_m / unit.metres,
        points.height_m / unit.metres,
        points.sigma_h_m,
        points.sigma_v_m,
    )
    rows = zip(points.names, *columns, strict=True)
    cells = ([name, *("" if math.isnan(v) else f"{v:.{decimals}f}" for v in values)] for name, *values in rows)
    suffix = "" if unit.key == "m" else f" ({unit.key})"
    return csv_text(("name", f"e{suffix}", f"n{suffix}", f"h{suffix}", "sh", "sv"), cells)


def adopted_csv(adopted: Adopted, unit: LengthUnit, system: str, decimals: int = 4) -> str:
    """CSV of a job's adopted positions with their basis; every row names the system."""
    columns = (
        adopted.e_m / unit.metres,
        adopted.n_m / unit.metres,
        adopted.height_m / unit.metres,
        adopted.sigma_h_m,
        adopted.sigma_v_m,
    )
    rows = zip(adopted.names, zip(*columns, strict=True), adopted.why, strict=True)
    cells = ([name, *("" if math.isnan(v) else f"{v:.{decimals}f}" for v in values), why, system] for name, values, why in rows)
    suffix = "" if unit.key == "m" else f" ({unit.key})"
    return csv_text(("name", f"e{suffix}", f"n{suffix}", f"h{suffix}", "sh", "sv", "adopted because", "system"), cells)
