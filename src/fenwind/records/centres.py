"""Records of centres: marks that cannot be occupied, from points around them."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True, slots=True, kw_only=True)
class Centre:
    """A mark that is the middle of others, ids all: of two that lie opposite each other, or of the circle
    through three or more on its rim. Its height is the mean of theirs."""

    id: str
    name: str
    mark: str
    rim: tuple[str, ...]
    active: bool = True
