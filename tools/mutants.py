"""Does a test notice when one place of the source is broken? ``make mutants``, about half an hour.

Lines that some test reaches are drawn at random, one is broken at a time in a copy of the library,
and the tests that reach it are run until one fails. What survives is listed, to be judged by hand:
some changes change nothing that anybody could see.

    python tools/mutants.py [--count 60] [--seed 0] [--only PART_OF_PATH]

Which test reaches which line is read from ``.coverage``; it is made first if it is not there:
``pytest -n auto -m "not slow" --cov=vinestep --cov-context=test``.
"""

import argparse
import ast
import os
import random
import re
import shutil
import subprocess
import sys
import tempfile
import time
from collections import defaultdict
from pathlib import Path

from coverage import CoverageData

ROOT = Path(__file__).parents[1]
SECONDS = 150  # for the tests of one mutant
MOST_TESTS = 60
SWAPS = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq,
    ast.NotEq: ast.Eq, ast.Add: ast.Sub, ast.Sub: ast.Add, ast.Mult: ast.Div, ast.Div: ast.Mult,
    ast.And: ast.Or, ast.Or: ast.And, ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.In: ast.NotIn,
    ast.NotIn: ast.In, ast.Mod: ast.Mult, ast.FloorDiv: ast.Mult, ast.Pow: ast.Mult,
}  # fmt: skip


def mutations(tree, line):
    """The ways to break what begins on a line: a name for each, and what carries it out."""
    docs = {
        id(node.value)
        for node in ast.walk(tree)
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant)
    }
    for node in ast.walk(tree):
        if getattr(node, "lineno", None) != line or id(node) in docs:
            continue
        if isinstance(node, ast.Compare) and type(node.ops[0]) in SWAPS:
            yield "compare", node, lambda n: n.ops.__setitem__(0, SWAPS[type(n.ops[0])]())
        elif isinstance(node, ast.BinOp | ast.BoolOp | ast.AugAssign) and type(node.op) in SWAPS:
            yield "operator", node, lambda n: setattr(n, "op", SWAPS[type(n.op)]())
        elif isinstance(node, ast.UnaryOp) and isinstance(node.op, ast.Not | ast.USub):
            yield (
                "sign",
                node,
                lambda n: setattr(n, "op", ast.UAdd() if isinstance(n.op, ast.USub) else _Same()),
            )
        elif isinstance(node, ast.Constant):
            yield "constant", node, _other_constant
        elif isinstance(node, ast.Return) and node.value is not None:
            yield "return", node, lambda n: setattr(n, "value", ast.Constant(None))
        elif isinstance(node, ast.Raise) or (
            isinstance(node, ast.Expr) and not isinstance(node.value, ast.Constant)
        ):
            yield "left out", node, lambda n: None
        elif isinstance(node, ast.If | ast.IfExp | ast.While):
            yield "condition", node, lambda n: setattr(n, "test", ast.UnaryOp(ast.Not(), n.test))


def _other_sign(node):
    node.op = ast.UAdd() if isinstance(node.op, ast.USub) else _Same()


class _Same(ast.Not):
    """Stands for a `not` that is taken away; see `_broken`."""


def _other_constant(node):
    value = node.value
    if isinstance(value, bool):
        node.value = not value
    elif isinstance(value, int | float):
        node.value = value + 1
    elif isinstance(value, str):
        node.value = f"x{value}"
    else:
        node.value = 1


class _Apply(ast.NodeTransformer):
    def __init__(self, target, change, kind):
        self.target, self.change, self.kind = target, change, kind

    def visit(self, node):
        if node is self.target:
            if self.kind == "left out":
                return ast.copy_location(ast.Pass(), node)
            self.change(node)
            if isinstance(node, ast.UnaryOp) and isinstance(node.op, _Same):
                return node.operand
            return node
        return self.generic_visit(node)


def reached_by():
    """Of each line of the source the tests that reach it."""
    if not (ROOT / ".coverage").exists():
        options = ["-n", "auto", "-m", "not slow", "--cov=vinestep", "--cov-context=test"]
        command = [sys.executable, "-m", "pytest", *options, "--cov-report="]
        subprocess.run(command, cwd=ROOT, check=False)
    data = CoverageData(str(ROOT / ".coverage"))
    data.read()
    found = {}
    for name in data.measured_files():
        inner = re.search(r"src/vinestep/.*\.py$", name)
        if inner and (ROOT / inner[0]).exists():
            lines = defaultdict(set)
            for line, contexts in data.contexts_by_lineno(name).items():
                lines[line] |= {one.partition("|")[0] for one in contexts if one}
            found[inner[0]] = {line: tests for line, tests in lines.items() if tests}
    return found


def chosen_tests(file, tests, rng):
    """Those of the file's own room first."""
    room = "/".join(Path(file).parts[2:-1])
    stem = Path(file).stem.lstrip("_")
    ours = sorted(t for t in tests if f"tests/{room}" in t or stem in t or t.startswith(file))
    others = sorted(tests - set(ours))
    rng.shuffle(others)
    return [*ours[:MOST_TESTS], *others][:MOST_TESTS]


def outcome(copy, tests):
    """Whether a test failed, and after how many seconds."""
    begun = time.monotonic()
    environment = os.environ | {"PYTHONPATH": str(copy / "src"), "VINESTEP_TEST_ALL": "1"}
    options = ["-x", "-q", "-p", "no:randomly", "-p", "no:cacheprovider", "-n", "2"]
    command = [sys.executable, "-m", "pytest", *options, *tests]
    try:
        done = subprocess.run(
            command, cwd=copy, env=environment, capture_output=True, timeout=SECONDS, check=False
        )
    except subprocess.TimeoutExpired:
        return "found, by hanging", time.monotonic() - begun
    return ("survived" if done.returncode == 0 else "found"), time.monotonic() - begun


def main():
    parser = argparse.ArgumentParser(description=__doc__.partition("\n")[0])
    parser.add_argument("--count", type=int, default=60)
    parser.add_argument("--seed", type=int, default=0)
    parser.add_argument("--only", default="")
    asked = parser.parse_args()
    rng = random.Random(asked.seed)
    reached = {name: lines for name, lines in reached_by().items() if asked.only in name}
    places = [(name, line) for name in sorted(reached) for line in sorted(reached[name])]
    rng.shuffle(places)
    copy = Path(tempfile.mkdtemp()) / "vinestep"
    skipped = shutil.ignore_patterns(".venv*", ".git", "records", "docs", "*.pyc", "_build")
    shutil.copytree(ROOT, copy, ignore=skipped)
    (copy / "docs").mkdir()
    shutil.copy(ROOT / "docs" / "adding.md", copy / "docs")
    tried = survived = 0
    for name, line in places:
        if tried == asked.count:
            break
        source = (ROOT / name).read_text()
        tree = ast.parse(source)
        ways = list(mutations(tree, line))
        if not ways:
            continue
        kind, node, change = rng.choice(ways)
        before = ast.unparse(node)
        broken = ast.unparse(ast.fix_missing_locations(_Apply(node, change, kind).visit(tree)))
        if broken == ast.unparse(ast.parse(source)):
            continue
        tried += 1
        (copy / name).write_text(broken)
        result, seconds = outcome(copy, chosen_tests(name, reached[name][line], rng))
        (copy / name).write_text(source)
        survived += result == "survived"
        print(f"{result:<10} {seconds:5.0f} s  {name}:{line}  {kind}: {before[:90]}", flush=True)
    print(f"{tried - survived} of {tried} found")


if __name__ == "__main__":
    main()
