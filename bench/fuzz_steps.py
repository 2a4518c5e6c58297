"""Steps under attack: random subsets of the records of the six jobs, switched off, with values at the end of
what a field may hold, derived in thousands. No exception may be a step's outcome or take another step down.

python -m bench.fuzz_steps [SEED] [COUNT]
"""

from __future__ import annotations

import random
import sys
import tempfile
from collections import Counter
from dataclasses import fields, replace
from pathlib import Path
from typing import Any

from tests.worlds import WORLDS

from fenwind.doubts.of_job import Judge
from fenwind.errors import StepError
from fenwind.job.derive import derive
from fenwind.job.memory import Memory
from fenwind.job.state import JobState
from fenwind.records.entries import Add
from fenwind.records.records import Record

NUMBERS = (0.0, -0.0, 1e-300, 1e-9, -1.0, 1e9, -1e9, 1e300, 6.3e6, 3.14159)
TEXTS = ("", "nobody", "<b>", "Ø" * 300)


def bent(value: Any, dice: random.Random) -> Any:
    """A value of the same type at the end of what it may be."""
    if isinstance(value, bool):
        return not value
    if isinstance(value, float):
        return dice.choice(NUMBERS)
    if isinstance(value, int):
        return dice.choice((0, 1, -1, 10**6))
    if isinstance(value, str):
        return dice.choice(TEXTS)
    if isinstance(value, tuple) and value:
        choice = dice.randrange(4)
        if choice == 0:
            return value[:-1]
        if choice == 1:
            return (*value, value[-1])
        at = dice.randrange(len(value))
        return (*value[:at], bent(value[at], dice), *value[at + 1 :])
    return value


def attacked(record: Record, dice: random.Random) -> Record | None:
    """A record left out, switched off, or with one of its values bent; as it is most of the time."""
    chance = dice.random()
    if chance < 0.25:
        return None
    if chance < 0.35:
        return replace(record, active=False)
    if chance < 0.55:
        name = dice.choice([f.name for f in fields(record) if f.name not in ("id", "spec")])
        try:
            return replace(record, **{name: bent(getattr(record, name), dice)})
        except ValueError:
            return record
    return record


def main(seed: int = 1, count: int = 300) -> int:
    """Attack, and print every fault once with how often it came."""
    dice, faults = random.Random(seed), Counter[str]()
    with tempfile.TemporaryDirectory() as holder:
        jobs = []
        for world in WORLDS:
            job = world.make(Path(holder) / f"{world.name}.fenwind")
            jobs.append((world.name, list(job.state.records.values())))
            job.close()
        for number in range(count):
            name, records = jobs[number % len(jobs)]
            state = JobState()
            for record in records:
                found = attacked(record, dice) if record.id != "job" else record
                if found is not None:
                    state.apply(Add(record=found))
            derived = derive(state, Memory(), holder)
            errors = [
                f"{node.kind}: {outcome.error}"
                for node, outcome in derived.outcomes.items()
                if isinstance(outcome.error, StepError)
            ]
            open_ = Judge().judge(state, derived).open
            errors += [d.text for d in open_ if d.rule == "check.failed"]
            faults.update(errors)
            if errors:
                print(f"{name}:{number}", errors[0][:160], flush=True)
    print(f"{count} jobs, {sum(faults.values())} faults of {len(faults)} kinds")
    for text, times in faults.most_common():
        print(f"{times:5d}  {text[:300]}")
    return 1 if faults else 0


if __name__ == "__main__":
    sys.exit(main(*map(int, sys.argv[1:])))
