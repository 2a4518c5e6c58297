"""Who works when: workers, turns of the window, and garbage."""

import gc
import weakref
from unittest import mock

from fenwind.desk.turns import Turns
from fenwind.job import gestures
from tests.desk.qt_case import QtTestCase


class LongWork(QtTestCase):
    own_windows = True

    def test_a_derivation_can_be_stopped(self) -> None:
        w = self.open()
        b = w.bridge
        self.let_run(w)
        before = b.derived
        b.do(gestures.set_use(b.state, b.fit, [b.state.marks["T-03"]], "off"))
        self.assertTrue(b.deriving)
        self.assertIs(b.derived, before, "what is shown stays until the results are there")
        w.shell.header.stop.click()
        self.wait_for(lambda: not b.deriving)
        if b.derived is before:  # it was stopped in time
            self.assertIn("F5", w.line.text())
        w.actions.run("edit.derive")
        self.wait_for(lambda: "T-03" in b.derived.fits[b.fit.id].case.result.options.off)

    def test_short_work_is_not_shown_as_work(self) -> None:
        header = self.open().shell.header
        header.show_busy(True)
        self.assertFalse(header.stop.isVisible())
        self.wait_for(header.stop.isVisible)
        header.show_progress(3, 10, "")
        self.assertEqual((header.progress.value(), header.progress.maximum()), (3, 10))
        header.show_busy(False)
        self.assertFalse(header.stop.isVisible() or header.progress.isVisible())

    def test_the_before_and_after_list_and_axis_order(self) -> None:
        w = self.open()
        w.doubts.findChild(type(w.doubts.all), "settle-swap-axes").click()
        w.line.list.click()
        rows = {r.name: r for r in w.line.table.records.rows}
        self.assertEqual(len(rows), 32)
        self.assertAlmostEqual(abs(rows["T-09"].de), 31.014, places=3)
        self.choose(w.shell.header.parts["units"], "northing first")
        w.show_stage("Marks")
        heads = [c.title for c in w.pages["Marks"].marks.table.records.columns]
        self.assertLess(heads.index("N"), heads.index("E"))
        w.show_stage("Handover")
        self.assertTrue(w.pages["Handover"].text.toPlainText().startswith("name,n (m),e (m),h (m)"))
        w.pages["Marks"].paste("Q-1 2000 1000 5\nQ-2 2001 1001 5\n")
        self.assertEqual(w.pages["Marks"].incoming._match.columns, {"name": 0, "n": 1, "e": 2, "h": 3})


class Ring:
    """Garbage that only a look at everything finds."""

    def __init__(self) -> None:
        self.own = self


class InAHurry(QtTestCase):
    def test_whoever_is_left_stays_in_a_hurry(self) -> None:
        b = self.open().bridge
        b.hurry("receivers")
        b.hurry("instrument")
        for who, hurried in (("instrument", True), ("instrument", True), ("receivers", False)):
            b.take_time(who)
            self.assertEqual(b.in_turns, hurried)
        with mock.patch("fenwind.desk.bridge.MANY_MARKS", 1):
            self.assertTrue(b.in_turns, "many marks")

    def test_a_trail_follows_the_selected_mark_a_turn_later(self) -> None:
        w = self.open()
        w.show_stage("Marks")
        w.bridge.hurry("receivers")
        w.bridge.select("T-02")
        self.assertNotEqual(w.trail_pane.links.title, "TRAIL OF T-02", "the mark first")
        self.wait_for(lambda: w.trail_pane.links.title == "TRAIL OF T-02")
        w.bridge.take_time("receivers")
        w.bridge.select("T-03")
        self.assertEqual(w.trail_pane.links.title, "TRAIL OF T-03")


class Collected(QtTestCase):
    def test_what_stays_is_looked_at_once(self) -> None:
        launch = self.launch()
        self.wait_for(lambda: launch.workspace)
        held = gc.get_freeze_count()
        self.assertGreater(held, 10_000, "the job that was opened")
        kept = [[k] for k in range(50_000)]
        ring = Ring()
        left = weakref.ref(ring)
        with (
            mock.patch("fenwind.desk.collector.LONG_S", 0.0),
            mock.patch("fenwind.desk.collector.gc.get_count", return_value=(10_000, 0, 0)),
        ):
            launch._collector.collect()
        self.assertGreater(gc.get_freeze_count(), held + len(kept) - 1, "what a long look has left")
        del ring
        with (
            mock.patch("fenwind.desk.collector.gc.get_count", return_value=(50_000, 0, 0)),
            mock.patch("fenwind.desk.collector.gc.collect") as looked,
        ):
            launch._collector.collect()
        looked.assert_not_called()  # so much that is new is set aside unseen
        gc.collect()
        self.assertIsNotNone(left(), "set aside")
        with (
            mock.patch("fenwind.desk.collector._nobody_looks", return_value=True),
            mock.patch("fenwind.desk.collector.gc.get_count", return_value=(0, 0, 100)),
        ):
            launch._collector.collect()
        self.assertIsNone(left(), "while nobody works everything is looked at")


class InTurns(QtTestCase):
    def test_pieces_come_one_a_turn_and_the_newest_only(self) -> None:
        done: list[str] = []
        turns = Turns(self.app)
        turns.run([lambda: done.append("old"), lambda: done.append("older")], apart=True)
        turns.run([lambda: done.append("a"), lambda: done.append("b")], apart=True)
        self.assertEqual(done, [])
        while not done:
            self.app.processEvents()
        self.assertEqual(done, ["a"])
        self.wait_for(lambda: len(done) == 2)
        turns.run([lambda: done.append("c"), lambda: done.append("d")], apart=False)
        self.assertEqual(done, ["a", "b", "c", "d"])
        turns.run([lambda: done.append("e")], apart=True)
        turns.then(lambda: done.append("f"))
        self.wait_for(lambda: len(done) == 6)
        self.assertEqual(done[4:], ["e", "f"])
