"""Deriving after a change gives exactly what deriving from nothing gives, whatever came before: seeded
random gestures, undo and redo on the demo job, one memory through all of them."""

import random
from collections.abc import Callable
from typing import Any

import numpy as np

from fenwind.geodesy.frames import FrameSpec
from fenwind.job import gestures
from fenwind.job.derive import Derived, solve_one
from fenwind.job.job import Job, new_id
from fenwind.job.memory import Memory
from fenwind.records.entries import Add, Entry, amend
from fenwind.records.records import FrameRecord, GivenPosition, Mark
from tests.support import TempFolder

STEPS = 60


def switch(job: Job, dice: random.Random) -> list[Entry]:
    table = dice.choice([job.state.marks, job.state.given, job.state.measured, job.state.fits])
    record = dice.choice(list(table.values()))
    return [amend(record, active=not record.active)]


def shift(job: Job, dice: random.Random) -> list[Entry]:
    record = dice.choice(list(job.state.given.values()))
    return [amend(record, e_m=(record.e_m or 0.0) + dice.choice([0.01, -0.5, 200.0]))]


def raise_measured(job: Job, dice: random.Random) -> list[Entry]:
    return [amend(dice.choice(list(job.state.measured.values())), h_m=dice.choice([None, 10.0, 250.0]))]


def rename(job: Job, dice: random.Random) -> list[Entry]:
    return [amend(dice.choice(list(job.state.marks.values())), name=f"R{dice.randrange(10**6)}")]


def add(job: Job, dice: random.Random) -> list[Entry]:
    mark = Mark(id=new_id(), name=f"N{dice.randrange(10**6)}")
    frame = dice.choice(list(job.state.frames))
    place = {"e_m": 5e5, "n_m": 68e5, "height_m": dice.choice([None, 1.0])}
    given = GivenPosition(id=new_id(), mark=mark.id, frame=frame, **place)
    return [Add(record=mark), Add(record=given)]


def refit(job: Job, dice: random.Random) -> list[Entry]:
    step = dice.choice(list(job.state.fits.values()))
    mark = dice.choice(list(job.state.marks.values()))
    use = gestures.use_of(job.state, step, mark)
    models = ("auto", "shift", "turn", "scale")
    changes = {"horizontal": dice.choice(models), "height": dice.choice(["none", "shift", "plane"])}
    held = gestures.set_use(job.state, step, [mark], use)
    return [*held.entries, amend(step, **changes)]


def reframe(job: Job, dice: random.Random) -> list[Entry]:
    record = dice.choice(list(job.state.frames.values()))
    spec = dice.choice([record.spec, FrameSpec(name="Other", crs="EPSG:25833"), FrameSpec(name="Plane")])
    if dice.random() < 0.3:
        return [Add(record=FrameRecord(id=new_id(), spec=spec))]
    return [amend(record, spec=spec)]


CHANGES: tuple[Callable[[Job, random.Random], list[Entry]], ...] = (
    switch, shift, raise_measured, rename, add, refit, reframe
)  # fmt: skip


class Incremental(TempFolder):
    def test_after_a_change_as_from_nothing(self) -> None:
        dice, job, memory = random.Random(20261), self.demo(), Memory()
        for count in range(STEPS):
            done, fresh = self.change(job, dice), self.derive(job, Memory())
            if dice.random() < 0.5:  # one step by itself, before all
                node = dice.choice(list(fresh.outcomes))
                early = solve_one(job.state, node, memory, str(self.folder))
                self.assertEqual(early.digest, fresh.outcomes[node].digest, f"{count}: {done}: {node}")
            self.same(self.derive(job, memory), fresh, f"{count}: {done}")

    @staticmethod
    def change(job: Job, dice: random.Random) -> str:
        """A gesture, or undo, or redo; now and then several before anybody looks."""
        words = []
        for _ in range(dice.choice([1, 1, 1, 3])):
            way = dice.random()
            if way < 0.2 and job.undo_text:
                job.undo()
                words.append("undo")
            elif way < 0.35 and job.redo_text:
                job.redo()
                words.append("redo")
            else:
                made = dice.choice(CHANGES)
                job.record(made.__name__, made(job, dice))
                words.append(made.__name__)
        return ", ".join(words)

    def same(self, one: Derived, other: Derived, said: str) -> None:
        self.assertEqual(one.outcomes.keys(), other.outcomes.keys(), said)
        for node, outcome in one.outcomes.items():
            fresh = other.outcomes[node]
            self.assertEqual(
                (outcome.title, outcome.digest, str(outcome.error)),
                (fresh.title, fresh.digest, str(fresh.error)),
                f"{said}: {node}",
            )
        self.assertEqual(one.frame_errors.keys(), other.frame_errors.keys(), said)
        self.assertEqual(one.adopted.keys(), other.adopted.keys(), said)
        for frame, adopted in one.adopted.items():
            fresh_one = other.adopted[frame]
            for field in ("names", "basis", "e_m", "n_m", "height_m", "sigma_h_m", "sigma_v_m"):
                self.assert_equal_arrays(
                    getattr(adopted, field), getattr(fresh_one, field), f"{said}: {field}"
                )

    def assert_equal_arrays(self, one: Any, other: Any, said: str) -> None:
        if isinstance(one, np.ndarray) and one.dtype.kind == "f":
            np.testing.assert_array_equal(one, other, err_msg=said)
        else:
            self.assertEqual(list(one), list(other), said)
