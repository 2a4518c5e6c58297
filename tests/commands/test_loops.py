"""Loops of a network from the command line: by hand, and against the rank of the graph."""

import math
from typing import Any
from unittest import mock

import numpy as np

from fenwind.procedures.loop_closures import WHOLE_SEARCH, loop_basis
from tests.support import CommandCase

HEAD = "kind,at,to,from,value,sigma,unit,set,dx,dy,dz,sxx,sxy,sxz,syy,syz,szz\n"


def vector(a: str, b: str, d: tuple[float, float, float], v: float = 1e-6) -> str:
    return f"vector,{a},{b},,,,,,{d[0]},{d[1]},{d[2]},{v},0,0,{v},0,{v}\n"


class Loops(CommandCase):
    def loops(self, rows: str, *more: str, code: int = 0) -> Any:
        path = self.write("obs.csv", rows if rows.startswith("kind") else HEAD + rows)
        return self.run_json("loops", path, *more, code=code)

    def test_a_triangle_of_vectors_and_a_repeated_one(self) -> None:
        found = self.loops(
            vector("A", "B", (100, 0, 0)) + vector("C", "B", (0, -50, 0)) + vector("A", "C", (100.002, 50, 0))
            + vector("B", "A", (-100.001, 0, 0))
        )  # fmt: skip
        self.assertEqual(sorted(len(one["lines"]) for one in found["loops"]), [2, 3])
        two = next(one for one in found["loops"] if len(one["lines"]) == 2)
        np.testing.assert_allclose(np.abs(two["misclosure"]), [0.001, 0.0, 0.0], atol=1e-12)
        np.testing.assert_allclose(two["sigma"], [math.sqrt(2e-6)] * 3)
        self.assertAlmostEqual(two["length"], 200.001)
        three = next(one for one in found["loops"] if len(one["lines"]) == 3)
        walk, total = three["names"], np.zeros(3)
        given = {2: ("A", "B", (100, 0, 0)), 3: ("C", "B", (0, -50, 0)), 4: ("A", "C", (100.002, 50, 0)),
                 5: ("B", "A", (-100.001, 0, 0))}  # fmt: skip
        for line, here in zip(three["lines"], walk, strict=False):
            a, _, d = given[line]
            total += np.array(d) * (1 if a == here else -1)
        np.testing.assert_allclose(three["misclosure"], total, atol=1e-12)
        self.assertEqual((walk[0], found["doubts"]), (walk[-1], []))

    def test_the_basis_has_its_rank_and_short_loops(self) -> None:
        """A grid of 5 by 5: 16 meshes of four edges are the fewest legs that there can be, 64; with diagonals
        32 triangles, and two for each edge measured again. From every mark, and from every row."""
        grid = [(f"{i},{j}", f"{i},{j + 1}") for i in range(5) for j in range(4)]
        grid += [(f"{i},{j}", f"{i + 1},{j}") for i in range(4) for j in range(5)]
        split = [*grid, *((f"{i + 1},{j + 1}", f"{i},{j}") for i in range(4) for j in range(4))]
        again = [*split, *grid[3:9], *(edge[::-1] for edge in split[-4:])]
        for search in (WHOLE_SEARCH, 0):
            for edges, legs in ((grid, 64), (split, 96), (again, 116)):
                with (
                    self.subTest(search=search, edges=len(edges)),
                    mock.patch("fenwind.procedures.loop_closures.WHOLE_SEARCH", search),
                ):
                    self.check_basis(edges, legs)
        ring = [(f"{i}", f"{(i + 1) % 9}") for i in range(9)]
        with mock.patch("fenwind.procedures.loop_closures.WHOLE_SEARCH", 0):
            self.check_basis([*ring, ("x", "y"), ("y", "z")], 9, parts=2)
            # Forty in a circle, each joined to eight on either side: triangles, and once around in five.
            circle = [(f"{i:02d}", f"{(i + d) % 40:02d}") for i in range(40) for d in range(1, 9)]
            with mock.patch("fenwind.procedures.loop_closures.TRIANGLES", 6):
                self.check_basis(circle, 845)

    def check_basis(self, edges: list[tuple[str, str]], legs: int, parts: int = 1) -> None:
        found = loop_basis(edges)
        self.assertEqual(len(found), len(edges) - len({name for edge in edges for name in edge}) + parts)
        self.assertEqual(sum(len(walk) for walk in found), legs)
        rows = np.zeros((len(found), len(edges)))
        for i, walk in enumerate(found):
            for k, sign in walk:
                rows[i, k] = sign
        self.assertEqual(np.linalg.matrix_rank(rows), len(found))
        for walk in found:
            ends = [edges[k][::sign] for k, sign in walk]
            self.assertEqual([b for _, b in ends], [a for a, _ in ends[1:]] + [ends[0][0]])

    def test_triangles(self) -> None:
        """Angles of 60 degrees and one of 60 0 3; a side of 10 km: excess 0.2203 s by area / R^2."""
        rows = "angle,A,C,B,60,,deg,,,,,,,,,,\ndirection,B,A,,300-0-0,,dms,1,,,,,,,,,\n" \
            "direction,B,C,,0,,,1,,,,,,,,,\nangle,C,A,B,333.333333333333,2,gon,,,,,,,,,,\n"  # fmt: skip
        side = "distance,A,B,,10000,,,,,,,,,,,,\n"
        plane = self.loops(rows + side, "--plane")["loops"][0]
        self.assertEqual((plane["kind"], plane["names"]), ("triangle", ["A", "B", "C", "A"]))
        self.assertAlmostEqual(plane["misclosure"][0], 0.0, 4)
        self.assertAlmostEqual(plane["sigma"][0], math.sqrt(50.0 + 50.0 + 4.0), 6)
        self.assertIsNone(plane["length"])
        sphere = self.loops(rows + side)["loops"][0]
        excess = math.sqrt(3.0) / 4.0 * 1e8 / 6_372_000.0**2 * 648000.0 / math.pi
        self.assertAlmostEqual(sphere["misclosure"][0], -excess, 4)

    def test_the_shared_row_is_named(self) -> None:
        marks = {"A": (0, 0, 0), "B": (900, 100, 5), "C": (800, 900, 9), "D": (50, 800, -4)}
        lines = ""
        for a, b in ("AB", "BC", "CD", "DA", "AC", "BD"):
            d = [y - x for x, y in zip(marks[a], marks[b], strict=True)]
            if a + b == "AC":
                d[1] += 0.25
            lines += vector(a, b, (d[0], d[1], d[2]))
        found = self.loops(lines, code=1)
        first = found["doubts"][0]
        self.assertEqual((first["rule"], first["names"]), ("loops.vector", ["A", "C"]))
        self.assertAlmostEqual(first["value"], 0.25, 6)
        self.assertIn("loops.misclosure", [d["rule"] for d in found["doubts"]])

    def test_heights_distances_and_limits(self) -> None:
        rows = "kind,at,to,value\nheight_difference,A,B,1\nheight_difference,B,C,1\n"
        rows += "height_difference,C,A,-2.004\n"
        rows += "distance,A,B,100\ndistance,B,A,100.05\n"
        found = self.loops(rows, "--limit", "5,0", code=1)
        kinds = {one["kind"]: one for one in found["loops"]}
        self.assertAlmostEqual(abs(kinds["height"]["misclosure"][0]), 0.004, 9)
        self.assertEqual((kinds["height"]["over"], kinds["height"]["limit"]), (False, [0.005]))
        self.assertAlmostEqual(kinds["distance"]["misclosure"][0], 0.05, 9)
        self.assertEqual([d["rule"] for d in found["doubts"]], ["loops.distance", "loops.misclosure"])

    def test_bad_input(self) -> None:
        for rows, words in (
            ("vector,A,B,,,,,,1,2,3,1,0,0,1,0,-1\n", "not positive definite"),
            ("distance,A,A,,5,,,,,,,,,,,,\n", "another mark than at"),
            ("distance,A,B,,-5,,,,,,,,,,,,\n", "a distance above 0"),
            ("angle,A,B,,5,,,,,,,,,,,,\n", "column from: empty"),
            ("zenith,A,B,,190,,,,,,,,,,,,\n", "a zenith angle above 0 and below 180"),
            ("direction,A,B,,5,,ft,,,,,,,,,,\n", "deg, dms or gon"),
            ("height_difference,A,B,,5,,,s,,,,,,,,,\n", "nothing for a height_difference"),
            ("sonar,A,B,,5,,,,,,,,,,,,\n", "line 2: column kind"),
        ):
            with self.subTest(rows=rows):
                self.assertIn(words, self.loops(rows, code=2))
