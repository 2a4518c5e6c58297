"""Work that makes many objects which all stay, without the garbage collector walking them again and again."""

from __future__ import annotations

import gc
from collections.abc import Iterator
from contextlib import contextmanager


@contextmanager
def collection_paused() -> Iterator[None]:
    """No collection of garbage until the end of the block, then as it was before."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()
