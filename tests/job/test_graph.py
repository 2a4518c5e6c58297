"""The graph of steps: order by need, circles and failures in words, what was read noted by itself, memory
in bounds."""

import math
import time
from collections.abc import Iterable
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

from fenwind.errors import ProcedureError
from fenwind.geodesy.frames import FrameSpec
from fenwind.job import gestures
from fenwind.job.adopted import adopt
from fenwind.job.derive import derive
from fenwind.job.memory import MOST_OF_ONE, Memory
from fenwind.job.reader import Digest, Reader
from fenwind.job.state import JobState
from fenwind.job.steps.adoption import adoption
from fenwind.job.steps.kinds import STEP_KINDS
from fenwind.job.steps.outcome import ORDER, CandidateSet, Gathering, Node, Outcome
from fenwind.procedures.positions import positions
from fenwind.progress import Cancelled, Progress
from fenwind.records.entries import Add, amend
from fenwind.records.records import FitStep, GivenPosition, Layout, Mark, MeasuredPosition
from fenwind.standins import tarnholt
from fenwind.standins.geoid_grid import write_gtx
from tests.support import TempFolder


@dataclass
class Sum(Gathering):
    """A made-up kind: a layout is a step, its columns are the steps it needs or numbers; the result is
    their sum."""

    name = "sum"

    def nodes(self, state: JobState) -> Iterable[Node]:
        return [Node("sum", key) for key, layout in state.layouts.items() if layout.active]

    def title(self, state: JobState, node: Node) -> str:
        return state.layouts[node.subject].name

    def read(self, node: Node, reader: Reader) -> tuple[Any, Digest | None]:
        layout = reader.record(Layout, node.subject)
        assert layout is not None
        return [float(c) if c.isdigit() else reader.result(Node("sum", c)) for c in layout.columns], None

    def solve(self, inputs: Any, progress: Progress) -> Any:
        if 987654.0 in inputs:
            raise ProcedureError("that is too much", hint="Take another")
        return sum(inputs)


KINDS = {"sum": Sum()}


class Sums(TempFolder):
    def job_of(self, **steps: str) -> JobState:
        state = JobState()
        for key, needs in steps.items():
            layout = Layout(id=key, name=f"Step {key}", columns=tuple(needs.split()))
            state.apply(Add(record=layout))
        return state

    def results(self, state: JobState, memory: Memory | None = None) -> dict[str, Any]:
        outcomes = derive(state, memory or Memory(), kinds=KINDS).outcomes
        return {n.subject: o.result if o.error is None else str(o.error) for n, o in outcomes.items()}

    def test_steps_are_solved_in_the_order_they_need_each_other(self) -> None:
        found = self.results(self.job_of(a="b c", b="c 1", c="2", d="7"))
        self.assertEqual(found, {"a": 5.0, "b": 3.0, "c": 2.0, "d": 7.0})

    def test_a_circle_is_told_at_each_step_in_it_and_the_rest_derived(self) -> None:
        found = self.results(self.job_of(x="a 1", a="b", b="c 2", c="a", d="5", e="e"))
        self.assertEqual(found["a"], "Step a needs Step b, which needs Step c, which needs Step a")
        self.assertEqual(found["b"], "Step b needs Step c, which needs Step a, which needs Step b")
        self.assertEqual(found["c"], "Step c needs Step a, which needs Step b, which needs Step c")
        self.assertEqual(found["e"], "Step e needs Step e")
        self.assertTrue(found["x"].startswith("it needs Step a, which has no result"), found["x"])
        self.assertEqual(found["d"], 5.0)

    def test_siblings_are_no_circle(self) -> None:
        self.assertEqual(self.results(self.job_of(a="b c", b="1", c="b")), {"a": 2.0, "b": 1.0, "c": 1.0})

    def test_what_needs_a_failed_step_names_it(self) -> None:
        found = self.results(self.job_of(a="987654", b="a 1", c="b"))
        self.assertEqual(found["a"], "that is too much")
        self.assertEqual(found["b"], "it needs Step a, which has no result: that is too much")
        self.assertIn("it needs Step b", found["c"])

    def test_a_deep_chain_and_one_change_in_it(self) -> None:
        steps = {f"s{i}": f"s{i - 1} 1" if i else "1" for i in range(3000)}
        state, memory = self.job_of(**dict(reversed(steps.items()))), Memory()
        self.assertEqual(self.results(state, memory)["s2999"], 3000.0)
        state.apply(amend(state.layouts["s2998"], columns=("s2997", "5")))
        self.assertEqual(self.results(state, memory)["s2999"], 3004.0)
        self.assertEqual(sorted(memory.computed), ["Step s2998", "Step s2999"])

    def test_it_can_be_stopped(self) -> None:
        class Stop:
            def report(self, done: int, total: int, text: str = "") -> None:
                if done == 2:
                    raise Cancelled

            def check(self) -> None: ...

        with self.assertRaises(Cancelled):
            derive(self.job_of(a="1", b="2", c="3"), Memory(), progress=Stop(), kinds=KINDS)

    def test_memory_stays_in_bounds_and_forgets_the_oldest(self) -> None:
        state, memory = self.job_of(**{f"s{i}": str(i) for i in range(50)}), Memory(limit_bytes=20_000)
        self.results(state, memory)
        self.assertLessEqual(memory.size_bytes, 20_000)
        self.results(self.job_of(s49="49"), memory)
        self.assertEqual(memory.computed, [])
        self.results(self.job_of(s0="0"), memory)
        self.assertEqual(memory.computed, ["Step s0"])

    def test_of_one_step_the_latest_results_are_kept(self) -> None:
        memory = Memory()
        for value in range(40):
            self.results(self.job_of(a=str(value), b="5"), memory)
        size = memory.size_bytes
        for value in range(39, 39 - MOST_OF_ONE, -1):
            self.results(self.job_of(a=str(value)), memory)
            self.assertEqual(memory.computed, [], value)
        self.results(self.job_of(b="5"), memory)
        self.assertEqual(memory.computed, [], "which never changed")
        self.results(self.job_of(a=str(39 - MOST_OF_ONE)), memory)
        self.assertEqual(memory.computed, ["Step a"])
        self.assertEqual(memory.size_bytes, size)

    def test_of_large_results_fewer_are_kept(self) -> None:
        """Together at most BYTES_OF_ONE, but three of them."""
        for size, kept in ((10_000, MOST_OF_ONE), (1_000_000, 5), (4_000_000, 3)):
            memory, node = Memory(), Node("step", "a")
            for _ in range(20):
                outcome = Outcome(node=node, title="", digest=b"", result=np.zeros(size // 8))
                memory.keep(node, {}, None, outcome)
            self.assertEqual(len(list(memory.of(node))), kept, size)


class OfTheDemo(TempFolder):
    def test_a_grid_that_changes_at_its_place_changes_the_results(self) -> None:
        job, memory = self.demo(), Memory()
        before = self.derive(job, memory).adopted["map"]
        path = Path(self.folder / tarnholt.GRID_FILE)
        data = bytearray(path.read_bytes())
        numbers = np.frombuffer(bytes(data[40:]), ">f4") + np.float32(1.5)
        path.write_bytes(bytes(data[:40]) + numbers.astype(">f4").tobytes())
        after = self.derive(job, memory).adopted["map"]
        i, j = before.index["P-01"], after.index["P-01"]
        self.assertAlmostEqual(after.height_m[j] - before.height_m[i], -1.5, places=4)
        write_gtx(path)
        again = self.derive(job, memory).adopted["map"]
        self.assertAlmostEqual(again.height_m[j], before.height_m[i], places=9)

    def test_a_change_elsewhere_solves_nothing_again(self) -> None:
        job, memory = self.demo(), Memory()
        self.derive(job, memory)
        job.record("class", gestures.set_field(job.state.marks.values(), "mark_class", "x", "")[1])
        job.record("rename", gestures.rename_mark(job.state, job.state.marks["T-01"], "Q")[1])
        self.derive(job, memory)
        self.assertEqual(memory.computed, [])
        new = [Mark(id="n", name="N"), GivenPosition(id="gn", mark="n", frame="map", e_m=5e5, n_m=68e5)]
        job.record("new", [Add(record=r) for r in new])
        self.derive(job, memory)
        self.assertNotIn("Fit 1", memory.computed)

    def test_errors_speak_of_names_not_of_ids(self) -> None:
        error = ProcedureError("P-1 and P-11 lie on a line", hint="Leave P-1 out", marks=("P-1", "P-11"))
        told = error.with_names({"P-1": "Church", "P-11": "Mill"})
        self.assertEqual((told.message, told.hint), ("Church and Mill lie on a line", "Leave Church out"))

    def test_one_amendment_among_many_occupations_is_quick_work(self) -> None:
        """Ratios in one run: what is asked again after one amendment is a small part of the first time."""
        job = self.many(4000)
        memory, state = Memory(), job
        started = time.perf_counter()
        first = derive(state, memory)
        whole = time.perf_counter() - started
        state.apply(amend(state.measured["o7-1"], h_m=11.0))
        second = derive(state, memory)
        self.assertEqual(memory.computed, ["occupied f", "adopted f"])
        row = first.adopted["f"].index["M7"]
        self.assertAlmostEqual(second.adopted["f"].height_m[row] - first.adopted["f"].height_m[row], 0.5)
        self.assertGreater(whole, 0.0)

    @staticmethod
    def many(k: int) -> JobState:
        """k marks, each occupied twice on the plane of one frame."""
        from fenwind.records.records import FrameRecord

        state = JobState()
        state.apply(Add(record=FrameRecord(id="f", spec=FrameSpec(name="F"))))
        for i in range(k):
            state.apply(Add(record=Mark(id=f"m{i}", name=f"M{i}")))
            for day in (1, 2):
                place = {"e_m": 10.0 * i, "n_m": 5.0 * i, "h_m": 10.0, "frame": "f"}
                sigmas = {"sigma_h_m": 0.01, "sigma_v_m": 0.02}
                occupation = MeasuredPosition(id=f"o{i}-{day}", mark=f"m{i}", **place, **sigmas)
                state.apply(Add(record=occupation))
        return state


class Adopting(TempFolder):
    def sets(self) -> list[CandidateSet]:
        def of(
            key: str, place: str, basis: str, names: str, shift: float, height: float = 1.0
        ) -> CandidateSet:
            k = len(names)
            points = positions(
                names, np.arange(k) + shift, np.zeros(k), np.full(k, height), np.full(k, shift), None
            )
            return CandidateSet(key=key, place=place, basis=basis, why=f"by {key}", positions=points)

        return [
            of("measured", "measured", "measured", "abcd", 10.0), of("fit-2", "fit", "carried", "bcx", 20.0),
            of("fit-1", "fit", "carried", "bc", 30.0), of("net", "network", "adjusted", "c", 40.0, math.nan),
            of("given", "held", "given", "d", 50.0, math.nan),
        ]  # fmt: skip

    def test_the_first_in_the_order_gives_the_position_and_the_next_a_height(self) -> None:
        found = adopt("abcde", self.sets())
        self.assertEqual(found.ids, tuple("abcd"))
        self.assertEqual(found.basis, ("measured", "carried", "adjusted", "given"))
        np.testing.assert_array_equal(found.e_m, [10.0, 20.0, 40.0, 50.0])
        np.testing.assert_array_equal(found.height_m, [1.0, 1.0, 1.0, 1.0])
        self.assertEqual(found.why[2], "by net, height by fit-2")
        self.assertEqual(found.why[3], "by given, height by measured")
        one, *_ = self.sets()
        by_row = replace(one, why=("first", "second", "third", "fourth"))
        self.assertEqual(adopt("dac", [by_row]).why, ("fourth", "first", "third"))
        self.assertEqual(ORDER.index("held"), 0)
        every = found.candidates("c")
        self.assertEqual([c.key for c in every], ["net", "fit-2", "fit-1", "measured"])
        self.assertEqual([c.adopted for c in every], [True, False, False, False])
        self.assertEqual([c.e_m for c in every], [40.0, 21.0, 31.0, 12.0])

    def test_a_choice_goes_first_and_one_that_lost_its_origin_is_left_aside(self) -> None:
        found = adopt("abcd", self.sets(), {"c": ("fit-1", "it is newer"), "b": ("gone", "x")})
        self.assertEqual(found.e_m[2], 31.0)
        self.assertIn("chosen: it is newer", found.why[2])
        self.assertEqual(found.e_m[1], 20.0)
        self.assertNotIn("chosen", found.why[1])

    def test_through_the_job(self) -> None:
        job = self.demo()
        mark = job.state.marks["P-01"]
        second = replace(job.state.fits["fit-1"], id="fit-2", name="Fit 2", uses=(("T-01", "check"),))
        job.record("second", [Add(record=second)])
        dam = self.derive(job).adopted["dam"]
        row = dam.index["P-01"]
        self.assertEqual(dam.why[row], "carried by Fit 2")
        with self.assertRaises(ProcedureError):
            gestures.choose_position(job.state, mark, "dam", "fit-1", "carried by Fit 1", " ")
        job.record(
            *gestures.choose_position(job.state, mark, "dam", "fit-1", "carried by Fit 1", "as reported")
        )
        dam = self.derive(job).adopted["dam"]
        self.assertEqual(dam.why[row], "carried by Fit 1, chosen: as reported")
        self.assertEqual([c.key for c in dam.candidates("P-01")], ["fit-2", "fit-1"])
        job.record(*gestures.choose_position(job.state, mark, "dam", "", "", ""))
        self.assertEqual(self.derive(job).adopted["dam"].why[row], "carried by Fit 2")

    def test_without_one_step(self) -> None:
        """The adopted positions a step may stand on leave out what that step itself gives."""

        class Looks(Sum):
            name = "looks"

            def nodes(self, state: JobState) -> Iterable[Node]:
                return [Node("looks", "fit-1")]

            def title(self, state: JobState, node: Node) -> str:
                return ""

            def read(self, node: Node, reader: Reader) -> tuple[Any, Digest | None]:
                return reader.result(adoption("dam", without="fit-1")), None

            def solve(self, inputs: Any, progress: Progress) -> Any:
                return inputs

        job = self.demo()
        found = derive(job.state, Memory(), str(self.folder), kinds={**STEP_KINDS, "looks": Looks()})
        without = found.outcomes[Node("looks", "fit-1")].result
        self.assertIn("P-01", found.adopted["dam"].names)
        self.assertNotIn("P-01", without.ids)
        self.assertIn("T-01", without.ids)

    def test_differences_within_a_fit_are_surer_than_each_alone(self) -> None:
        job = self.demo()
        dam = self.derive(job).adopted["dam"]
        i, j = dam.index["P-02"], dam.index["P-03"]
        apart = dam.difference_covariance(i, j)
        alone = sum(dam.sets[dam.set_row[k]].positions.covariance[:, :, dam.row[k]] for k in (i, j))
        self.assertLess(apart[0, 0], 0.97 * alone[0, 0])
        self.assertGreater(apart[0, 0], 2 * 0.9 * tarnholt.SIGMA_H_M**2)
        held = dam.index["T-01"]
        self.assertTrue(
            np.isnan(dam.difference_covariance(held, i)[0, 0]), "nothing is said of the given one"
        )
        self.assertIsInstance(job.state.fits["fit-1"], FitStep)
