"""The six jobs derived: no step fails, whatever is switched off, and the job opens again."""

import random
from typing import Any

from fenwind.doubts.of_job import Judge
from fenwind.errors import StepError
from fenwind.job import gestures
from fenwind.job.derive import Derived
from fenwind.job.job import Job
from fenwind.job.memory import Memory
from fenwind.records.records import Record
from tests.support import TempFolder
from tests.worlds import WORLDS


class SixWorlds(TempFolder):
    def faults(self, derived: Derived, job: Job) -> list[str]:
        """Steps and checks that ended in an exception."""
        found = [f"{n}: {o.error}" for n, o in derived.outcomes.items() if isinstance(o.error, StepError)]
        open_ = Judge().judge(job.state, derived).open
        return found + [d.text for d in open_ if d.rule == "check.failed"]

    def test_marks_off_one_by_one_and_all(self) -> None:
        for world in WORLDS:
            with self.subTest(world=world.name):
                job = world.make(self.folder / f"{world.name}.fenwind")
                memory = Memory()
                self.assertEqual(self.faults(self.derive(job, memory), job), [])
                marks = list(job.state.marks.values())
                for chosen in ([marks[0]], [marks[1]], marks[2:]):
                    gesture = gestures.set_field(chosen, "active", False, "off")
                    job.record(gesture.what, gesture.entries)
                    self.assertEqual(self.faults(self.derive(job, memory), job), [])
                job.close()
                again = Job.open(job.path)
                self.assertFalse(any(m.active for m in again.state.marks.values()))
                self.assertEqual(self.faults(self.derive(again), again), [])
                again.close()

    def test_subsets_of_records_take_no_step_down(self) -> None:
        """A few of the thousands of `bench.attacks`: records left out or switched off at random."""
        dice = random.Random(30)
        for world in WORLDS:
            whole = world.make(self.folder / f"{world.name}.fenwind")
            every = [r for r in whole.state.records.values() if r.id != "job"]
            frame = whole.state.info.frame
            whole.close()
            for number in range(4):
                kept: list[Record] = [r for r in every if dice.random() < 0.6]
                with self.subTest(world=world.name, number=number):
                    job = Job.create(self.folder / f"{world.name} {number}.fenwind", "part", kept, frame)
                    self.assertEqual(self.faults(self.derive(job), job), [])
                    job.close()


class OneFault(TempFolder):
    """A step that raises what nobody foresaw is its own outcome; all that does not stand on it is there."""

    def test_a_fault_in_any_method_of_any_kind(self) -> None:
        from fenwind.job.derive import derive
        from fenwind.job.steps.kinds import STEP_KINDS

        job = WORLDS[5].make(self.folder / "j.fenwind")
        self.addCleanup(job.close)
        sound = self.derive(job)

        class Faulty:
            def __init__(self, kind: Any, method: str) -> None:
                self._kind, self._method = kind, method

            def __getattr__(self, name: str) -> Any:
                if name == self._method:
                    raise ZeroDivisionError("put in on purpose")
                return getattr(self._kind, name)

        for name in STEP_KINDS:
            for method in ("read", "solve", "digest", "title", "nodes", "targets", "gives", "named"):
                with self.subTest(kind=name, method=method):
                    kinds = STEP_KINDS | {name: Faulty(STEP_KINDS[name], method)}
                    found = derive(job.state, Memory(), str(self.folder), kinds=kinds)  # type: ignore
                    others = [n for n, o in sound.outcomes.items() if o.error is None and n.kind == "known"]
                    if name != "known":
                        for node in others:
                            self.assertIsNone(found.outcomes[node].error)
                    if method in ("read", "solve"):
                        own = [o for n, o in found.outcomes.items() if n.kind == name]
                        for outcome in own:
                            self.assertIn("this step failed: put in on purpose", str(outcome.error))
                    Judge().judge(job.state, found)

    def test_a_check_that_fails_is_a_doubt(self) -> None:
        from unittest import mock

        from fenwind.doubts import rules
        from fenwind.doubts.registry import Rule

        job = WORLDS[1].make(self.folder / "j.fenwind")
        self.addCleanup(job.close)

        def broken(state: object, derived: object) -> Any:
            raise KeyError("gone")
            yield

        with mock.patch.object(rules, "RULES", (Rule(about="job", look=broken, limit=""), *rules.RULES)):
            found = Judge().judge(job.state, self.derive(job))
        self.assertEqual(found.open[0].rule, "check.failed")
