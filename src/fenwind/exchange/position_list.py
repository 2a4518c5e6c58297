"""Lists of positions as CSV: carried ones, and those a job adopts."""

from __future__ import annotations

import math

from fenwind.exchange.csv_out import csv_text
from fenwind.geodesy.frames import FrameSpec
from fenwind.job.adopted import Adopted
from fenwind.procedures.positions import Positions
from fenwind.quantities.lengths import UNITS, LengthUnit


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


def adopted_csv(adopted: Adopted, spec: FrameSpec, decimals: int = 4) -> str:
    """CSV of a job's adopted positions in the frame's unit and axis order, with their basis; every row names the system."""
    unit = UNITS[spec.unit]
    suffix = "" if unit.key == "m" else f" ({unit.key})"
    plan = [(f"e{suffix}", adopted.e_m / unit.metres), (f"n{suffix}", adopted.n_m / unit.metres)]
    if spec.axis_order == "NE":
        plan.reverse()
    columns = [*plan, (f"h{suffix}", adopted.height_m / unit.metres), ("sh", adopted.sigma_h_m), ("sv", adopted.sigma_v_m)]
    rows = zip(adopted.names, zip(*(values for _, values in columns), strict=True), adopted.why, strict=True)
    cells = (
        [name, *("" if math.isnan(v) else f"{v:.{decimals}f}" for v in values), why, spec.name] for name, values, why in rows
    )
    return csv_text(("name", *(head for head, _ in columns), "adopted because", "system"), cells)
