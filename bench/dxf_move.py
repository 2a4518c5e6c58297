"""A drawing of 100,000 entities moved and written, against the library's own reading and writing of the same
file."""

from __future__ import annotations

import os
import random
import tempfile

import ezdxf
import numpy as np

from bench.timing import best, say
from fenwind.exchange.dxf_move import move_drawing
from fenwind.procedures.fit import FitOptions
from fenwind.procedures.move import move_fit, move_of
from fenwind.procedures.positions import positions

ENTITIES = 100_000


def drawing(path: str) -> None:
    """A made-up drawing: lines, polylines, arcs, circles, texts, points and blocks."""
    source = random.Random(1)
    made = ezdxf.new()
    made.blocks.new("bolt").add_circle((0, 0), 1)
    space = made.modelspace()
    for i in range(ENTITIES):
        x, y = source.random() * 1000, source.random() * 1000
        kind = i % 10
        if kind < 4:
            space.add_line((x, y), (x + 5, y + 3))
        elif kind < 6:
            space.add_lwpolyline([(x, y), (x + 1, y), (x + 1, y + 2), (x, y + 2)])
        elif kind == 6:
            space.add_arc((x, y), 3, 10, 80)
        elif kind == 7:
            space.add_text(f"P{i}", dxfattribs={"insert": (x, y)})
        elif kind == 8:
            space.add_point((x, y, 5))
        else:
            space.add_blockref("bolt", (x, y))
    made.saveas(path)


def main() -> None:
    """Measure and print the ratio."""
    e, n = np.array([0.0, 1000.0]), np.array([0.0, 1000.0])
    source, target = positions(["A", "B"], e, n, e), positions(["A", "B"], 468000.0 - e, 6797000.0 - n, e)
    move = move_of(move_fit(source, target, FitOptions(horizontal="turn", height="none")), target)
    with tempfile.TemporaryDirectory() as folder:
        path, out = os.path.join(folder, "a.dxf"), os.path.join(folder, "b.dxf")
        drawing(path)
        plain = best(lambda: ezdxf.readfile(path).saveas(out), 2)
        ours = best(lambda: move_drawing(path, out, move), 2)
    say("100,000 entities read, moved and written", ours / plain, 1.3, "x ezdxf's read and write")


if __name__ == "__main__":
    main()
