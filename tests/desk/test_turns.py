"""Who works when: workers, turns of the window, and garbage."""

import gc
import threading
import weakref
from collections.abc import Callable
from unittest import mock

from PySide6.QtWidgets import QWidget

from fenwind.desk.bridge import JobBridge
from fenwind.desk.receivers import Receivers
from fenwind.desk.shell import Shell
from fenwind.desk.tasks import AT_WORK, PATIENCE_S, Task
from fenwind.desk.turns import Turns
from fenwind.job import gestures
from fenwind.progress import breathe, in_pieces
from fenwind.records.network import ObservationSet
from tests.desk.qt_case import QtTestCase


class LongWork(QtTestCase):
    own_windows = True

    def test_a_long_derivation_goes_to_a_worker_and_can_be_stopped(self) -> None:
        w = self.open()
        b = w.bridge
        b.long_s = 0.0
        step, marks = b.fit, b.state.marks
        before = b.derived
        b.do(gestures.set_use(b.state, step, [marks["T-03"]], "off"))
        self.assertTrue(b.deriving)
        self.assertIs(b.derived, before, "what is shown stays until the worker is done")
        b.do(
            gestures.set_use(b.state, b.fit, [marks["T-06"]], "off")
        )  # another change meanwhile: the worker starts again
        self.wait_for(lambda: b.derived is not before)
        self.assertEqual(b.derived.fits[b.fit.id].case.result.options.off, frozenset(["T-03", "T-06"]))
        self.assertFalse(b.deriving)
        before = b.derived
        b.undo()
        w.shell.header.stop.click()
        self.wait_for(lambda: not b.deriving)
        if b.derived is before:  # it was stopped in time
            self.assertIn("F5", w.line.text())
        w.actions.run("edit.derive")
        self.wait_for(lambda: "T-06" not in b.derived.fits[b.fit.id].case.result.options.off)

    def test_the_first_change_of_a_large_job_goes_to_a_worker(self) -> None:
        """Before it is known how long one takes: by its marks, or by the observations of its network."""
        job = self.open().bridge.job
        many, few = len(job.state.marks), {"MANY_MARKS": 10**6, "MANY_OBSERVATIONS": 10**6}
        rows = max(len(one.kind) for one in job.state.of(ObservationSet).values())
        for limits, apart in (
            ({}, False), ({"MANY_MARKS": many}, False), ({"MANY_MARKS": many - 1}, True),
            ({"MANY_OBSERVATIONS": rows}, False), ({"MANY_OBSERVATIONS": rows - 1}, True),
        ):  # fmt: skip
            with self.subTest(limits), mock.patch.multiple("fenwind.desk.bridge", **(few | limits)):
                bridge = JobBridge(job)
                self.addCleanup(bridge._runner.shut_down)
                bridge.rederive()
                self.assertEqual(bridge.deriving, apart)

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
        self.assertTrue(w.pages["Handover"].text.toPlainText().startswith("name,n,e,h"))
        w.pages["Marks"].paste("Q-1 2000 1000 5\nQ-2 2001 1001 5\n")
        self.assertEqual(w.pages["Marks"].incoming._match.columns, {"name": 0, "n": 1, "e": 2, "h": 3})


class Ring:
    """Garbage that only a look at everything finds."""

    def __init__(self) -> None:
        self.own = self


class InAHurry(QtTestCase):
    def test_whoever_is_left_stays_in_a_hurry(self) -> None:
        b = self.open().bridge
        b.hurry("receivers", derive_apart=True)
        b.hurry("instrument")
        for who, hurried, apart in (("instrument", True, True), ("instrument", True, True),
                                    ("receivers", False, False)):  # fmt: skip
            b.take_time(who)
            self.assertEqual((b.in_turns, b.long_s == 0.0), (hurried, apart))
        with mock.patch("fenwind.desk.bridge.MANY_MARKS", 1):
            self.assertEqual((b.in_turns, b.long_s > 0.0), (True, True), "many marks")
        b.hurry("instrument")
        self.assertEqual((b.in_turns, b.long_s > 0.0), (True, True))

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


class GoingFirst(QtTestCase):
    def test_workers_pause_while_the_window_is_at_work(self) -> None:
        """For a while, not for ever, each time they look whether to stop or breathe; never its own thread."""
        task, slept = Task(lambda progress: None), []

        def sleep(seconds: float) -> None:
            slept.append(seconds)
            self.assertLess(len(slept), 1000)

        with (
            mock.patch("fenwind.desk.tasks.time.sleep", side_effect=sleep),
            mock.patch("fenwind.desk.tasks.time.monotonic", side_effect=lambda: sum(slept)),
        ):
            looks = (task.check, breathe, lambda: list(in_pieces(range(7), 4)))
            for look, times in zip(looks, (1, 1, 2), strict=True):
                self.in_a_worker(look)
                self.assertEqual(slept, [])
                with AT_WORK, AT_WORK:
                    look()
                    self.assertEqual(slept, [], "the window does not wait for itself")
                    self.in_a_worker(look)
                self.assertAlmostEqual(sum(slept), times * PATIENCE_S, delta=0.004)
                del slept[:]
                self.in_a_worker(look)
                self.assertEqual(slept, [])

    @staticmethod
    def in_a_worker(look: Callable[[], object]) -> None:
        worker = threading.Thread(target=look)
        worker.start()
        worker.join()

    def test_all_that_is_painted_goes_first(self) -> None:
        depths: list[int] = []

        class Probe(QWidget):
            def paintEvent(self, event: object) -> None:
                depths.append(AT_WORK._depth)

        shell = Shell()
        probe = Probe(shell.body)
        shell.show()
        self.wait_for(lambda: depths)
        del depths[:]
        probe.update()
        self.wait_for(lambda: depths)
        self.assertEqual((depths, AT_WORK._depth), ([1], 0))


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

    def test_one_piece_of_work_after_another_waits_a_moment(self) -> None:
        """However they come: pieces, what receivers say, or painting; and not for ever."""
        now, done = [100.0], []
        turns, devices = Turns(self.app), Receivers(self.open().bridge)
        with mock.patch("fenwind.desk.tasks.time.monotonic", side_effect=lambda: now[0]):
            with AT_WORK:
                now[0] += 0.5
            turns.run([lambda: done.append("piece")], apart=True)
            for later, came in ((0.0009, []), (0.0002, ["piece"])):
                now[0] += later
                turns._next()
                self.assertEqual(done, came)
            devices._following = mock.Mock()
            with AT_WORK:
                pass
            with mock.patch.object(devices, "_take_from") as taken:
                devices._take()
                self.assertEqual((taken.call_count, devices._soon.isActive()), (0, True))
                devices._take()
                self.assertEqual(taken.call_count, 1, "once only")
                devices._take()
                self.assertEqual(taken.call_count, 1, "what came after it waits again")
                now[0] += 0.01
                devices._take()
                self.assertEqual(taken.call_count, 2)
            devices._following = None
