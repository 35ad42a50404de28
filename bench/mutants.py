"""Small changes of a module that its tests should notice: which of them they don't.

    python -m bench.mutants core/graph/graph.py tests.core.test_graph [MORE TESTS]

Each change is made in a copy of the source: a comparison is turned round, a condition negated, `and` becomes
`or`, a number one more, a statement nothing. A change with which the tests still pass has survived: either a
test is missing, or the change makes no difference.
"""

import ast
import os
import shutil
import subprocess
import sys
import tempfile
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from copy import deepcopy
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
_SECONDS = 120  # for the tests of one change: one that makes them run for ever is noticed, too
_OPPOSITE: dict[type[ast.cmpop], type[ast.cmpop]] = {
    ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq,
    ast.Lt: ast.LtE,
    ast.LtE: ast.Lt,
    ast.Gt: ast.GtE,
    ast.GtE: ast.Gt,
    ast.In: ast.NotIn,
    ast.NotIn: ast.In,
    ast.Is: ast.IsNot,
    ast.IsNot: ast.Is,
}


def main() -> int:
    """Try every change of the module with the tests, and print the survivors."""
    module, *tests = sys.argv[1:]
    text = (ROOT / "src" / "rabbet" / module).read_text(encoding="utf-8")
    changes = list(mutants(text))
    with ThreadPoolExecutor(os.cpu_count()) as pool:
        passed = list(pool.map(lambda change: survives(module, change[1], tests), changes))
    survivors = [about for (about, _), alive in zip(changes, passed, strict=True) if alive]
    for about in survivors:
        print(f"survived: {module}:{about}")
    print(f"{module}: {len(survivors)} of {len(changes)} changes survived")
    return 1 if survivors else 0


def mutants(text: str) -> Iterator[tuple[str, str]]:
    """Each change: its line with what it is, and the whole text with it."""
    tree = ast.parse(text)
    forms = {
        id(word.value) for node in ast.walk(tree) if isinstance(node, ast.ClassDef) for word in node.keywords
    }
    for number, node in enumerate(ast.walk(tree)):
        for about in _changes_of(node) if id(node) not in forms else ():  # such as `frozen=True`
            changed = deepcopy(tree)
            target = next(node for place, node in enumerate(ast.walk(changed)) if place == number)
            _apply(target, about)
            yield f"{getattr(node, 'lineno', 0)} {about}", ast.unparse(ast.fix_missing_locations(changed))


def _changes_of(node: ast.AST) -> list[str]:
    """The names of the changes that a node can have."""
    if isinstance(node, ast.Compare) and type(node.ops[0]) in _OPPOSITE:
        return ["turn the comparison round"]
    if isinstance(node, ast.BoolOp):
        return ["swap and, or"]
    if isinstance(node, ast.If | ast.IfExp | ast.While):
        return ["negate the condition"]
    if isinstance(node, ast.comprehension) and node.ifs:
        return ["leave a condition out"]
    if isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not):
        return ["leave not out"]
    if isinstance(node, ast.Constant) and type(node.value) in (bool, int):
        return ["another constant"]
    if isinstance(node, ast.Expr) and isinstance(node.value, ast.Call | ast.Yield):
        return ["leave the statement out"]
    return []


def _apply(node: ast.AST, about: str) -> None:
    """Change a node in place."""
    if isinstance(node, ast.Compare):
        node.ops[0] = _OPPOSITE[type(node.ops[0])]()
    elif isinstance(node, ast.BoolOp):
        node.op = ast.Or() if isinstance(node.op, ast.And) else ast.And()
    elif isinstance(node, ast.If | ast.IfExp | ast.While):
        node.test = ast.UnaryOp(op=ast.Not(), operand=node.test)
    elif isinstance(node, ast.comprehension):
        node.ifs = node.ifs[1:]
    elif isinstance(node, ast.UnaryOp):
        node.op, node.operand = ast.Not(), ast.UnaryOp(op=ast.Not(), operand=node.operand)
    elif isinstance(node, ast.Constant):
        node.value = (not node.value) if isinstance(node.value, bool) else node.value + 1
    elif isinstance(node, ast.Expr):
        node.value = ast.Constant(value=about)


def survives(module: str, text: str, tests: list[str]) -> bool:
    """Whether all tests pass with this text in the module's place."""
    with tempfile.TemporaryDirectory(prefix="rabbet-mutant-") as folder:
        source = Path(folder) / "src"
        shutil.copytree(ROOT / "src", source, ignore=shutil.ignore_patterns("__pycache__"))
        (source / "rabbet" / module).write_text(text, encoding="utf-8")
        try:
            done = subprocess.run(
                [sys.executable, "-B", "-m", "unittest", "-f", *tests],
                cwd=ROOT,
                env={**os.environ, "PYTHONPATH": str(source)},
                capture_output=True,
                timeout=_SECONDS,
                check=False,
            )
        except subprocess.TimeoutExpired:
            return False
    return done.returncode == 0


if __name__ == "__main__":
    sys.exit(main())
