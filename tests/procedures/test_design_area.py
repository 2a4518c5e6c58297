"""Areas that projections are laid for: outlines, corridors, heights between marks."""

import math

import numpy as np
import shapely

from fenwind.errors import ProcedureError
from fenwind.procedures.design_area import along, between_marks, heavier, with_heights, within
from tests.support import TempFolder


class Areas(TempFolder):
    def test_outlines_and_corridors(self) -> None:
        corner = np.array([[0.0, 400.0, 400.0, 200.0, 200.0, 0.0], [0.0, 0.0, 100.0, 100.0, 300.0, 300.0]])
        places = within(corner, 1000)
        polygon = shapely.Polygon(corner.T)
        self.assertTrue(shapely.covers(polygon, shapely.points(places.T)).all())
        self.assertAlmostEqual(places.shape[1], 1006, delta=80)
        self.assertAlmostEqual(float(places[0, :-6].mean()), polygon.centroid.x, delta=4.0)
        np.testing.assert_allclose(places[:, -6:], corner)
        line = np.array([[0.0, 1000.0, 1000.0], [0.0, 0.0, 500.0]])
        places, outline = along(line, 60.0, 900)
        away = shapely.distance(shapely.LineString(line.T), shapely.points(places.T))
        self.assertLessEqual(float(away.max()), 30.0 * math.sqrt(2.0) + 1e-9)
        self.assertGreater(float(np.quantile(away, 0.95)), 22.0)
        self.assertAlmostEqual(shapely.Polygon(outline.T).area, 60.0 * 1500.0, delta=60.0 * 60.0)
        crossing = np.array([[0.0, 500.0, 500.0, 250.0], [0.0, 0.0, 300.0, -300.0]])
        self.assertGreater(along(crossing, 40.0)[0].shape[1], 3000)  # crosses itself: still a corridor
        thin, _ = along(np.array([[0.0, 90_000.0], [0.0, 90_000.0]]), 5.0)
        self.assertGreater(thin.shape[1], 500)
        bow = np.array([[0.0, 100.0, 0.0, 100.0], [0.0, 100.0, 100.0, 0.0]])
        for make, words in (
            (lambda: within(bow), "self-intersection"), (lambda: within(bow[:, :2]), "fewer than three"),
            (lambda: within(np.zeros((2, 3))), "outline"), (lambda: along(line, 0.0), "not 0 m wide"),
            (lambda: along(line[:, :1], 5.0), "leads nowhere"),
        ):  # fmt: skip
            with self.assertRaisesRegex(ProcedureError, words):
                make()

    def test_weights(self) -> None:
        """Near a line from mark to mark, its middle too, or near one mark; the edge belongs to it."""
        at = np.array([[0.0, 50.0, 50.0, 50.0, 120.0], [0.0, 0.0, 10.0, 10.1, 0.0]])
        line = np.array([[0.0, 100.0], [0.0, 0.0]])
        self.assertEqual(heavier(at, line, 10.0, 5.0).tolist(), [5.0, 5.0, 5.0, 1.0, 1.0])
        self.assertEqual(heavier(at, line[:, :1], 10.0, 0.5).tolist(), [0.5, 1.0, 1.0, 1.0, 1.0])
        for within_m, times in ((0.0, 2.0), (1.0, 0.0), (1.0, -1.0), (1.0, 1e7)):
            with self.assertRaisesRegex(ProcedureError, "no weight"):
                heavier(at, line, within_m, times)
        with self.assertRaisesRegex(ProcedureError, "that near"):
            heavier(at, line + 1000.0, 5.0, 2.0)

    def test_heights(self) -> None:
        """Between marks a plane stays one; outside, the nearest mark's; on one line, the nearest's."""
        at = np.array([[0.0, 100.0, 0.0, 100.0, 50.0], [0.0, 0.0, 100.0, 100.0, 50.0]])
        plane = 10.0 + 0.1 * at[0] - 0.2 * at[1]
        find = between_marks(at, np.append(plane[:4], np.nan))
        np.testing.assert_allclose(find(np.array([[30.0], [60.0]])), [10.0 + 3.0 - 12.0])
        np.testing.assert_allclose(find(np.array([[130.0], [-40.0]])), [plane[1]])
        line = between_marks(at[:, [0, 4, 3]], plane[[0, 4, 3]])
        np.testing.assert_allclose(line(np.array([[80.0], [90.0]])), [plane[3]])
        with self.assertRaisesRegex(ProcedureError, "no mark has a height"):
            between_marks(at, np.full(5, np.nan))
        places, heights = with_heights(at, (5.0, 9.0))
        self.assertEqual((places.shape, heights.tolist()), ((2, 10), [5.0] * 5 + [9.0] * 5))
        places, heights = with_heights(at, lambda where: np.where(where[0] > 60.0, np.nan, 7.0))
        self.assertEqual((places.shape[1], heights.tolist()), (3, [7.0] * 3))
        with self.assertRaisesRegex(ProcedureError, "above the highest"):
            with_heights(at, (9.0, 5.0))
        with self.assertRaisesRegex(ProcedureError, "no height is known"):
            with_heights(at, lambda where: np.full(where.shape[1], np.nan))
