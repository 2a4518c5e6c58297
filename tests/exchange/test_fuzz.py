"""A slice of bench/fuzz.py: mutated inputs at every reader are read, or refused in words."""

import os
import tempfile
import unittest
import warnings
from pathlib import Path

from bench.fuzz import fault_of, input_of
from bench.fuzz_targets import Target, targets

from fenwind.errors import FormatError

EACH, SEED = 20, 77


class Slice(unittest.TestCase):
    def setUp(self) -> None:
        """What libraries write to the terminal of the process is not for the reader of the tests."""
        kept, null = os.dup(2), os.open(os.devnull, os.O_WRONLY)
        os.dup2(null, 2)
        os.close(null)
        self.addCleanup(lambda: (os.dup2(kept, 2), os.close(kept)))

    def test_a_few_hundred_inputs(self) -> None:
        with tempfile.TemporaryDirectory() as folder, warnings.catch_warnings():
            warnings.simplefilter("ignore")
            every = targets(Path(folder))
            self.assertGreaterEqual(len(every) * EACH, 600)
            for target in every:
                path = Path(folder) / f"input{target.suffix}"
                for number in range(EACH):
                    path.write_bytes(input_of(target, SEED, number))
                    self.assertEqual(fault_of(target, str(path)), "", f"{target.name}:{number}")

    def test_what_counts_as_a_fault(self) -> None:
        """Errors of others, memory and long answers are found; honest inputs are read."""

        def raises(error: Exception) -> Target:
            def read(path: str) -> None:
                raise error

            return Target("x", ".x", (b"",), read)

        self.assertIn("KeyError at test_fuzz.py", fault_of(raises(KeyError("k")), ""))
        self.assertEqual(fault_of(raises(MemoryError()), ""), "memory")
        self.assertEqual(fault_of(raises(FormatError("said", hint="so")), ""), "")
        self.assertIn("an answer of", fault_of(raises(FormatError("n", hint="n " * 3000)), ""))
        with tempfile.TemporaryDirectory() as folder:
            for target in targets(Path(folder)):
                if target.name in ("geoid tiff", "elevation", "typed"):
                    continue  # among their inputs are kinds that are refused
                for k, seed in enumerate(target.seeds):
                    path = Path(folder) / f"honest{target.suffix}"
                    path.write_bytes(seed)
                    with self.subTest(target.name, seed=k):
                        target.read(str(path))
