"""House rules that a machine can hold: sizes, docstrings, sources."""

import ast
import statistics
import unittest
from collections.abc import Iterator
from functools import cache
from pathlib import Path

ROOT = Path(__file__).parents[1] / "src" / "fenwind"
FILES = sorted(ROOT.rglob("*.py"))


@cache
def tree_of(path: Path) -> ast.Module:
    return ast.parse(path.read_text())


def functions(tree: ast.AST) -> Iterator[ast.FunctionDef]:
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef):
            yield node


def own_lines(node: ast.FunctionDef) -> int:
    """Lines of a function without its docstring."""
    doc = (
        node.body[0]
        if isinstance(node.body[0], ast.Expr) and isinstance(node.body[0].value, ast.Constant)
        else None
    )
    taken = (doc.end_lineno or 0) - doc.lineno + 1 if doc else 0
    return (node.end_lineno or 0) - node.lineno + 1 - taken


def branches(node: ast.FunctionDef) -> int:
    """Places where a function may go either way."""
    kinds = (ast.If, ast.For, ast.While, ast.IfExp, ast.ExceptHandler, ast.comprehension)
    every = list(ast.walk(node))
    both = [x for x in every if isinstance(x, ast.BoolOp)]
    return sum(isinstance(x, kinds) for x in every) + sum(len(x.values) - 1 for x in both)


def _public(tree: ast.Module) -> Iterator[ast.ClassDef | ast.FunctionDef]:
    """Public functions and classes of a module, and the public methods of its public classes."""
    for node in tree.body:
        overload = any(getattr(d, "id", "") == "overload" for d in getattr(node, "decorator_list", ()))
        if (
            isinstance(node, (ast.ClassDef, ast.FunctionDef))
            and not node.name.startswith("_")
            and not overload
        ):
            yield node
            if isinstance(node, ast.ClassDef):
                yield from (
                    m for m in node.body if isinstance(m, ast.FunctionDef) and not m.name.startswith("_")
                )


class House(unittest.TestCase):
    def test_files_and_functions_stay_small(self) -> None:
        lines = {path: len(path.read_text().splitlines()) for path in FILES}
        self.assertLessEqual(max(lines.values()), 600, max(lines, key=lines.__getitem__))
        self.assertLessEqual(statistics.median(lines.values()), 200)
        sizes = {
            f"{path.name}:{f.lineno} {f.name}": own_lines(f)
            for path in FILES
            for f in functions(tree_of(path))
        }
        long = {name: size for name, size in sizes.items() if size > 60}
        self.assertEqual(long, {})
        self.assertLessEqual(statistics.median(sizes.values()), 12)

    def test_functions_branch_little(self) -> None:
        branchy = {
            f"{path.name}:{f.lineno} {f.name}": count
            for path in FILES
            for f in functions(tree_of(path))
            if (count := branches(f)) > 15
        }
        self.assertEqual(branchy, {})

    def test_every_public_core_function_says_what_it_does(self) -> None:
        bare = []
        for path in FILES:
            if "desk" not in path.parts:
                tree = tree_of(path)
                self.assertTrue(ast.get_docstring(tree), path)
                bare += [
                    f"{path.relative_to(ROOT)}:{node.lineno} {node.name}"
                    for node in _public(tree)
                    if not ast.get_docstring(node)
                ]
        self.assertEqual(bare, [])

    def test_degrees_stay_at_the_borders(self) -> None:
        """Radians everywhere in the core but where people and files come in, and where pyproj's conversions
        want degrees."""
        allowed = {"quantities", "exchange", "reports", "commands", "desk", "standins", "doubts"}
        for path in FILES:
            if not allowed & set(path.parts) and path.name not in (
                "conversion.py", "onto_plane.py", "frames.py", "plate_motion.py",
            ):  # fmt: skip
                self.assertNotRegex(path.read_text(), r"deg2rad|np\.radians|math\.radians", str(path))
