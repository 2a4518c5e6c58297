"""Deliberate faults against the tests: which ones does nobody notice?

A seeded sample of small faults (a sign, a bound, a unit, E for N, a root left out, a condition turned
round) is put into the sources one at a time, in memory only, and the tests of the fault's own package are
run against each. Only tests that call the function with the fault are run (for one outside all functions,
those that call anything in its file), the quickest first and for at most `ENOUGH_S`, each mutant in a forked
process.

    python -m bench.mutants [--count 300] [--seed 1] [--only geodesy,job] [--jobs 2] [--budget 0.20]
"""

from __future__ import annotations

import argparse
import ast
import importlib.abc
import importlib.util
import io
import itertools
import json
import os
import random
import sys
import tempfile
import threading
import time
import unittest
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path

ROOT = Path(__file__).parents[1]
SOURCE = ROOT / "src" / "fenwind"

#: Which tests answer for which package; for the desk only what draws is looked at.
TESTS = {
    "quantities": ("tests/quantities", "tests/exchange", "tests/reports"),
    "geodesy": ("tests/geodesy", "tests/published", "tests/commands", "tests/reports", "tests/job"),
    "estimation": ("tests/estimation", "tests/published", "tests/procedures", "tests/reports"),
    "procedures": (
        "tests/procedures",
        "tests/published",
        "tests/job",
        "tests/geodesy",
        "tests/doubts",
        "tests/commands",
        "tests/reports",
    ),
    "job": ("tests/job", "tests/doubts", "tests/reports", "tests/commands", "tests/desk"),
    "doubts": ("tests/doubts", "tests/commands", "tests/reports", "tests/job"),
    "exchange": ("tests/exchange", "tests/commands", "tests/reports"),
    "reports": ("tests/reports", "tests/commands", "tests/job"),
    "desk": ("tests/desk",),
}
DRAWING = ("plan.py", "scene.py", "plan_symbols.py", "rail.py", "table.py", "cells.py")
#: Seconds of tests, as they took with nothing put in, after which a fault counts as not noticed.
ENOUGH_S = 120.0
#: Seconds after which a mutant that hangs counts as noticed: well over what its tests may take.
PATIENCE = 600

_OPERATORS = {
    ast.Add: ast.Sub,
    ast.Sub: ast.Add,
    ast.Mult: ast.Div,
    ast.Div: ast.Mult,
    ast.Mod: ast.Mult,
    ast.Lt: ast.GtE,
    ast.GtE: ast.Lt,
    ast.Gt: ast.LtE,
    ast.LtE: ast.Gt,
    ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq,
    ast.Is: ast.IsNot,
    ast.IsNot: ast.Is,
    ast.In: ast.NotIn,
    ast.NotIn: ast.In,
    ast.And: ast.Or,
    ast.Or: ast.And,
}
_WORDS = {
    "e_m": "n_m",
    "n_m": "e_m",
    "de_m": "dn_m",
    "dn_m": "de_m",
    "lat_rad": "lon_rad",
    "lon_rad": "lat_rad",
    "sigma_h_m": "sigma_v_m",
    "sigma_v_m": "sigma_h_m",
    "min": "max",
    "max": "min",
    "sin": "cos",
    "cos": "sin",
    "argmin": "argmax",
    "argmax": "argmin",
    "used_h": "used_v",
    "used_v": "used_h",
    "any": "all",
    "all": "any",
    "radians": "degrees",
    "degrees": "radians",
    "forward": "inverse",
    "inverse": "forward",
    "code": "description",
}


class Fault(ast.NodeTransformer):
    """Walks a module, counts the places where a fault fits, and makes the one asked for."""

    def __init__(self, wanted: int = -1, constants: bool = True) -> None:
        self.wanted, self.constants = wanted, constants
        self.places: list[tuple[int, str, str]] = []  # line, what, function
        self._inside: list[str] = []

    def _here(self, node: ast.AST, what: str) -> bool:
        self.places.append((getattr(node, "lineno", 0), what, self._inside[0] if self._inside else ""))
        return len(self.places) - 1 == self.wanted

    def visit_FunctionDef(self, node: ast.FunctionDef) -> ast.AST:
        self._inside.append(f"{node.lineno - len(node.decorator_list)}")
        node.body = [self.visit(statement) for statement in node.body if not _is_text(statement)] or node.body
        self._inside.pop()
        return node

    def visit_ClassDef(self, node: ast.ClassDef) -> ast.AST:
        node.body = [self.visit(statement) for statement in node.body]
        return node

    def visit_Assert(self, node: ast.Assert) -> ast.AST:
        return node

    def visit_AnnAssign(self, node: ast.AnnAssign) -> ast.AST:
        if node.value is not None:
            node.value = self.visit(node.value)
        return node

    def visit_BinOp(self, node: ast.BinOp) -> ast.AST:
        self.generic_visit(node)
        other = _OPERATORS.get(type(node.op))
        textual = any(isinstance(s, (ast.JoinedStr, ast.List)) or _is_str(s) for s in (node.left, node.right))
        if other and not textual and self._here(node, f"{type(node.op).__name__} -> {other.__name__}"):
            node.op = other()
        return node

    def visit_BoolOp(self, node: ast.BoolOp) -> ast.AST:
        self.generic_visit(node)
        if self._here(node, "and <-> or"):
            node.op = _OPERATORS[type(node.op)]()
        return node

    def visit_Compare(self, node: ast.Compare) -> ast.AST:
        self.generic_visit(node)
        other = _OPERATORS[type(node.ops[0])]
        if self._here(node, f"{type(node.ops[0]).__name__} -> {other.__name__}"):
            node.ops[0] = other()
        return node

    def visit_UnaryOp(self, node: ast.UnaryOp) -> ast.AST:
        self.generic_visit(node)
        if isinstance(node.op, (ast.USub, ast.Not, ast.Invert)) and self._here(node, "sign or not dropped"):
            return node.operand
        return node

    def visit_Attribute(self, node: ast.Attribute) -> ast.AST:
        self.generic_visit(node)
        if not isinstance(node.ctx, ast.Load):
            return node
        if node.attr == "T" and self._here(node, "transpose dropped"):
            return node.value
        if node.attr in _WORDS and self._here(node, f"{node.attr} -> {_WORDS[node.attr]}"):
            node.attr = _WORDS[node.attr]
        return node

    def visit_Call(self, node: ast.Call) -> ast.AST:
        self.generic_visit(node)
        name = node.func.attr if isinstance(node.func, ast.Attribute) else getattr(node.func, "id", "")
        if name in ("sqrt", "abs", "square") and len(node.args) == 1 and self._here(node, f"{name} dropped"):
            return node.args[0]
        if name in ("hypot", "arctan2", "atan2") and self._here(node, f"arguments of {name} exchanged"):
            node.args = (
                [ast.UnaryOp(ast.USub(), node.args[1]), node.args[0]]
                if name != "hypot"
                else node.args[:1] * 2
            )
        return node

    def visit_If(self, node: ast.If) -> ast.AST:
        self.generic_visit(node)
        if isinstance(node.test, (ast.Name, ast.Attribute, ast.Call)) and self._here(
            node, "condition turned"
        ):
            node.test = ast.UnaryOp(ast.Not(), node.test)
        return node

    def visit_Constant(self, node: ast.Constant) -> ast.AST:
        number = isinstance(node.value, (int, float)) and not isinstance(node.value, bool)
        if number and self.constants and self._here(node, f"{node.value!r} changed"):
            return ast.Constant(node.value + 1 if isinstance(node.value, int) else node.value * 1.1 + 0.01)
        return node


def _is_text(node: ast.stmt) -> bool:
    return isinstance(node, ast.Expr) and _is_str(node.value)


def _is_str(node: ast.AST) -> bool:
    return isinstance(node, ast.Constant) and isinstance(node.value, str)


def mutated(path: Path, wanted: int) -> ast.Module:
    """The module of a file with one fault in it."""
    tree = Fault(wanted, constants="desk" not in path.parts).visit(ast.parse(path.read_text()))
    return ast.fix_missing_locations(tree)


def candidates(packages: list[str]) -> Iterator[tuple[str, Path, int, int, str, str]]:
    """Every fault that could be made: package, file, number, line, what, first line of the function it is
    in."""
    for package in packages:
        for path in sorted((SOURCE / package).rglob("*.py")):
            if package == "desk" and path.name not in DRAWING:
                continue
            walker = Fault(constants=package != "desk")
            walker.visit(ast.parse(path.read_text()))
            for number, (line, what, function) in enumerate(walker.places):
                yield package, path, number, line, what, function


class _Faulty(importlib.abc.MetaPathFinder, importlib.abc.Loader):
    """Gives one module with its fault instead of the file's own."""

    def __init__(self, path: Path, wanted: int) -> None:
        self.path, self.wanted = path, wanted
        self.name = ".".join(path.relative_to(SOURCE.parent).with_suffix("").parts).removesuffix(".__init__")

    def find_spec(self, name, path=None, target=None):
        if name == self.name:
            return importlib.util.spec_from_file_location(name, self.path, loader=self)
        return None

    def create_module(self, spec):
        return None

    def exec_module(self, module) -> None:
        exec(compile(mutated(self.path, self.wanted), str(self.path), "exec"), module.__dict__)


def _flat(suite: unittest.TestSuite) -> Iterator[unittest.TestCase]:
    for test in suite:
        yield from _flat(test) if isinstance(test, unittest.TestSuite) else [test]


def _load(folders: tuple[str, ...]) -> list[unittest.TestCase]:
    loader = unittest.TestLoader()
    return [
        t for folder in folders for t in _flat(loader.discover(str(ROOT / folder), top_level_dir=str(ROOT)))
    ]


def _quietly(act) -> None:
    with redirect_stdout(io.StringIO()), redirect_stderr(io.StringIO()):
        act()


def in_child(act, timeout: float = 1800.0) -> tuple[int, str]:
    """Run `act` in a forked process and return its exit code (-1: it hung) and what it wrote to the pipe."""
    reading, writing = os.pipe()
    child = os.fork()
    if child == 0:
        os.close(reading)
        null = os.open(os.devnull, os.O_RDWR)
        os.dup2(null, 1)
        os.dup2(null, 2)
        code = 3
        try:
            code = act(lambda text: os.write(writing, text.encode())) or 0
        except BaseException:
            code = 3
        finally:
            os._exit(code)
    os.close(writing)
    killer = threading.Timer(timeout, lambda: os.kill(child, 9))
    killer.start()
    with os.fdopen(reading) as pipe:
        text = pipe.read()
    _, status = os.waitpid(child, 0)
    killer.cancel()
    return (os.waitstatus_to_exitcode(status), text)


Calls = dict[str, list[tuple[float, str]]]


def callers(folder: str) -> Calls:
    """For every function of the sources, as file:line, the tests of a folder that call it, with their
    seconds."""

    def act(tell) -> None:
        found: Calls = {}
        sources = str(SOURCE)
        for test in _load((folder,)):
            seen: set[str] = set()

            def profile(frame, event, arg, seen=seen) -> None:
                code = frame.f_code
                if event == "call" and code.co_filename.startswith(sources):
                    seen.add(f"{code.co_filename}:{code.co_firstlineno}")

            started = time.perf_counter()
            threading.setprofile(profile)
            sys.setprofile(profile)
            _quietly(lambda test=test: unittest.TestSuite([test]).run(unittest.TestResult()))
            sys.setprofile(None)
            threading.setprofile(None)
            for place in seen:
                found.setdefault(place, []).append((time.perf_counter() - started, test.id()))
        tell(json.dumps(found))

    _, text = in_child(act, 3600.0)
    if not text:
        raise RuntimeError(f"the tests of {folder} did not end")
    return {place: [(seconds, name) for seconds, name in tests] for place, tests in json.loads(text).items()}


def maps_of(packages: list[str], jobs: int) -> dict[str, Calls]:
    """Which tests of a package's folders call what, every folder run once."""
    folders = list(dict.fromkeys(f for p in packages for f in TESTS[p]))
    with ThreadPoolExecutor(jobs) as pool:
        of_folder = dict(zip(folders, pool.map(callers, folders), strict=True))
    out: dict[str, Calls] = {}
    for package in packages:
        merged: Calls = {}
        for folder in TESTS[package]:
            for place, tests in of_folder[folder].items():
                merged.setdefault(place, []).extend(tests)
        out[package] = merged
    return out


def tests_for(calls: Calls, path: Path, function: str) -> list[str]:
    """The tests to run against a fault in a function (its first line; "" outside all), quickest first. Of a
    compiled function no call is seen: it has the tests of its file."""
    places = [f"{path}:{function}"]
    if not function or (places[0] not in calls and _is_compiled(path)):
        places = [p for p in calls if p.rpartition(":")[0] == str(path)]
    quickest = sorted({test for place in places for test in calls.get(place, [])})
    taken = itertools.accumulate(seconds for seconds, _ in quickest)
    return [name for (_, name), spent in zip(quickest, taken, strict=True) if spent <= ENOUGH_S]


def _is_compiled(path: Path) -> bool:
    return "@compiled" in path.read_text()


def noticed(path: Path, wanted: int, tests: list[str]) -> bool:
    """Whether some test fails on a fault."""

    def act(tell) -> int:
        sys.meta_path.insert(0, _Faulty(path, wanted))
        if _is_compiled(path):  # what was compiled without the fault is not taken for it
            os.environ["NUMBA_CACHE_DIR"] = folder
        loader = unittest.TestLoader()
        for name in tests:
            result = unittest.TestResult()
            _quietly(lambda name=name, result=result: loader.loadTestsFromName(name).run(result))
            if not result.wasSuccessful():
                return 1
        return 0

    with tempfile.TemporaryDirectory() as folder:
        code, _ = in_child(act, PATIENCE)
    return code != 0


def main() -> int:
    """Sample, run, and list the survivors."""
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--count", type=int, default=300)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--only", default=",".join(TESTS))
    parser.add_argument("--jobs", type=int, default=2)
    parser.add_argument("--budget", type=float, default=0.20)
    options = parser.parse_args()
    os.environ.setdefault("QT_QPA_PLATFORM", "offscreen")
    sys.path.insert(0, str(ROOT))
    import ezdxf  # noqa: F401
    from PySide6 import QtGui, QtTest, QtWidgets  # noqa: F401

    packages = [p for p in options.only.split(",") if p]
    every = list(candidates(packages))
    chosen = random.Random(options.seed).sample(every, min(options.count, len(every)))
    maps = maps_of(packages, options.jobs)
    print(f"{len(chosen)} faults of {len(every)} possible to try", flush=True)
    survivors: list[str] = []
    lock, todo = threading.Lock(), iter(chosen)

    def work() -> None:
        while True:
            with lock:
                fault = next(todo, None)
            if fault is None:
                return
            package, path, number, line, what, function = fault
            tests = tests_for(maps[package], path, function)
            if not tests or not noticed(path, number, tests):
                text = f"{path.relative_to(ROOT)}:{line}: {what}{'' if tests else ' (no test runs it)'}"
                with lock:
                    survivors.append(text)
                    print(text, flush=True)  # at once: a run of hours may be stopped

    threads = [threading.Thread(target=work) for _ in range(options.jobs)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    share = len(survivors) / max(len(chosen), 1)
    print(
        f"{len(chosen)} faults of {len(every)} possible, {len(survivors)} not noticed: {share:.0%}, ", end=""
    )
    print(f"budget {options.budget:.0%}")
    return int(share > options.budget)


if __name__ == "__main__":
    sys.exit(main())
