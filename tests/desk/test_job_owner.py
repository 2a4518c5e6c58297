"""The owner of an open job: requests in order, answers after the commit, derivations that give way."""

import sqlite3
import threading
from typing import Any
from unittest import mock

from fenwind.desk.job_owner import Deriver
from fenwind.desk.trial import Trial
from fenwind.errors import JobError
from fenwind.job import gestures
from fenwind.job.job import Job
from fenwind.records.entries import Gesture, amend
from tests.desk.qt_case import QtTestCase


class Owner(QtTestCase):
    own_windows = True

    def setUp(self) -> None:
        super().setUp()
        self.w = self.open()
        self.b = self.w.bridge
        self.let_run(self.w)

    def code(self, name: str, code: str) -> Gesture:
        mark = self.b.state.mark_named(name)
        assert mark is not None
        return Gesture(f"Code {code}", (amend(mark, code=code),))

    def code_of(self, name: str) -> str:
        mark = self.b.state.mark_named(name)
        assert mark is not None
        return mark.code

    def refusing(self, what: str) -> Any:
        """The job's file as it is when there is no room for one gesture."""
        file = self.b._owner._job.file
        write = file.append

        def append(at: str, gesture: str, *rest: Any) -> int:
            if gesture == what:
                raise JobError("the disk is full", hint="Make room")
            return write(at, gesture, *rest)

        return mock.patch.object(file, "append", append)

    def test_requests_are_done_in_order_on_one_thread(self) -> None:
        done: list[tuple[str, str]] = []

        def seen(job: Job) -> tuple[str, str]:
            mark = job.state.mark_named("T-02")
            assert mark is not None
            return mark.code, threading.current_thread().name

        for code in ("A", "B", "C"):
            self.b.do(self.code("T-02", code))
            self.b.ask(seen, done.append)
        self.assertEqual(done, [], "answers come when the window has its turn")
        self.b.wait()
        self.assertEqual(done, [(code, "fenwind-job") for code in "ABC"])

    def test_nothing_is_called_kept_before_the_file_has_it(self) -> None:
        held, told = threading.Event(), []
        self.b.ask(lambda job: held.wait(60.0))
        self.b.do(self.code("T-02", "X"), told.append)
        self.w.shell.header.slow.emit()
        self.assertEqual((self.b.kept, told), (False, []))
        self.assertIn("keeping", self.w.shell.header.kept.text())
        held.set()
        self.wait_for(lambda: told and not self.b.deriving)
        self.assertTrue(self.b.kept)
        self.assertIn("all kept", self.w.shell.header.kept.text())

    def test_what_the_file_refuses_is_taken_back_and_the_rest_stays(self) -> None:
        """Also what was handed over after it, where it does not stand on it."""
        was, refused = self.code_of("T-02"), list[Exception]()
        with self.refusing("Code X"):
            self.b.do(self.code("T-02", "X"), None, refused.append)
            self.b.do(self.code("T-03", "Y"))
            self.assertEqual((self.code_of("T-02"), self.code_of("T-03")), ("X", "Y"))
            self.b.wait()
        self.assertEqual(len(refused), 1)
        self.assertEqual((self.code_of("T-02"), self.code_of("T-03")), (was, "Y"))
        self.assertEqual(self.b.undo_text, "Code Y")
        self.b.undo()
        self.b.wait()
        self.assertEqual(dict(self.b.state.records), dict(self.b._owner._job.state.records))

    def test_undo_of_what_is_refused_takes_nothing_else_back(self) -> None:
        self.b.do(self.code("T-02", "A"))
        self.b.wait()
        with self.refusing("Code B"):
            self.b.do(self.code("T-02", "B"))
            self.b.undo()  # before the window knows
            self.b.wait()
        self.assertEqual((self.code_of("T-02"), self.b.undo_text), ("A", "Code A"))
        self.b.undo()
        self.b.redo()
        self.b.wait()
        self.assertEqual((self.code_of("T-02"), self.b.undo_text), ("A", "Code A"))

    def test_epochs_are_kept_in_the_midst_of_a_derivation_and_a_change_ends_it(self) -> None:
        begun, ended, answers = threading.Event(), [], []
        results = Deriver.results

        def long(own: Deriver, state: Any, progress: Any) -> Any:
            begun.set()
            try:
                while not ended:  # a computation without end: only what is asked for ends it
                    progress.check()
            except BaseException as error:
                ended.append(type(error).__name__)
                raise
            return results(own, state, progress)

        with mock.patch.object(Deriver, "results", long):
            self.b.do(self.code("T-02", "X"))
            begun.wait()
            self.b.ask(lambda job: job.file.blobs_of("none"), answers.append, meanwhile=True)
            self.wait_for(lambda: answers)
            self.assertEqual((answers, ended), ([[]], []))
            self.assertTrue(self.b.deriving)
            self.b.do(self.code("T-02", "Y"))
            self.wait_for(lambda: not self.b.deriving)
        self.assertEqual(ended, ["Cancelled"])
        self.assertEqual(self.b.seen.mark_named("T-02").code, "Y")  # type: ignore[union-attr]

    def test_an_exception_in_a_request_costs_that_request(self) -> None:
        def broken(job: Job) -> None:
            raise sqlite3.OperationalError("database is locked")

        self.b.ask(broken)
        self.b.propose(
            lambda job: Gesture("none of that", (amend(gestures.new_mark(job.state, "Q")[0], code="1"),))
        )
        self.b.do(self.code("T-02", "X"))
        self.b.wait()
        self.assertEqual(self.code_of("T-02"), "X")
        self.assertEqual(self.b.undo_text, "Code X")

    def test_closing_keeps_what_was_handed_over(self) -> None:
        for code in ("A", "B"):
            self.b.do(self.code("T-02", code))
        self.w.shell.close()
        job = Job.open(self.b.path)
        self.addCleanup(job.close)
        self.assertEqual(job.undo_text, "Code B")

    def test_a_new_gesture_leaves_nothing_to_do_again(self) -> None:
        self.b.do(self.code("T-02", "A"))
        self.b.undo()
        self.assertEqual(self.b.redo_text, "Code A")
        self.b.do(self.code("T-02", "B"))
        self.b.wait()
        self.assertEqual((self.b.redo_text, self.b._owner._job.redo_text), ("", ""))

    def test_a_trial_that_something_else_has_overtaken_is_not_shown(self) -> None:
        asked: list[Any] = []
        bridge: Any = mock.Mock(revision=1, what_if=lambda entries, then: asked.append(then))
        came = mock.Mock()
        trial = Trial(bridge, came)
        for key in ("a", "b"):
            self.assertIsNone(trial.result(key, ()))
        asked[0]("of a")
        self.assertIsNone(trial.result("b", ()))
        asked[1]("of b")
        self.assertEqual((trial.result("b", ()), came.call_count), ("of b", 1))
