"""Writing the area that a projection was laid for as a polygon."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from PySide6.QtWidgets import QFileDialog, QWidget

from fenwind.desk.bridge import JobBridge
from fenwind.desk.stages.ground_area import Designs
from fenwind.errors import FenwindError, ProcedureError
from fenwind.exchange.area_out import write_area
from fenwind.geodesy.frames import Frame, FrameSpec
from fenwind.job.steps.receiver_known import to_receivers
from fenwind.procedures.hull import convex_hull

FloatArray = NDArray[np.float64]


def ask_area(
    bridge: JobBridge, parent: QWidget, designs: Designs | None, kind: str, spec: FrameSpec | None,
    frame: Frame | None, marks: FloatArray,
) -> None:  # fmt: skip
    """Ask where to, then write; what there is not is said."""
    if designs is None or spec is None or frame is None or kind not in designs.by_kind:
        bridge.told.emit("There is no projection yet: lay one first.", "")
        return
    path, _ = QFileDialog.getSaveFileName(
        parent, "Write the area", f"{bridge.folder}/area.geojson", "GeoJSON (*.geojson);;GeoPackage (*.gpkg)"
    )
    if not path:
        return
    try:
        written(path, designs, kind, spec, frame, marks)
    except FenwindError as error:
        bridge.tell_error(error)
        return
    bridge.told.emit(f"The area is in {path}.", "")


def written(path: str, designs: Designs, kind: str, spec: FrameSpec, frame: Frame, marks: FloatArray) -> None:
    """Write the outline that a projection was laid for, else the hull of its marks (2, k), with what
    describes the projection. Raises FenwindError."""
    corners = designs.outline if designs.outline.size else convex_hull(marks[0], marks[1])
    if corners.shape[1] < 3:
        raise ProcedureError("the marks lie on one line", hint="Lay it for an area or a corridor")
    lat, lon = frame.inverse(corners[0], corners[1])
    lat, lon, _ = to_receivers(frame, lat, lon, np.zeros(lat.size))
    figures = designs.by_kind[kind].figures
    words: dict[str, str | float] = {
        "name": spec.name, "definition": spec.crs, "largest_ppm": figures.largest * 1e6,
        "p95_ppm": figures.p95 * 1e6, "rms_ppm": figures.rms * 1e6,
    }  # fmt: skip
    write_area(path, np.degrees(lon), np.degrees(lat), words)
