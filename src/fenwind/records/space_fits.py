"""Records of fits in space."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal


@dataclass(frozen=True, slots=True, kw_only=True)
class SpaceFit:
    """Carry the marks of one frame onto another in space (ids of frames, both with a datum), by a shift alone
    or with a turn and a scale. off: ids of marks that are compared only."""

    id: str
    name: str
    source_frame: str
    target_frame: str
    parameters: Literal[3, 7] = 7
    off: tuple[str, ...] = ()
    active: bool = True
