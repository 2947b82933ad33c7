"""Whether the tests see a wrong number: `./run mutants [package ...] [--seed N] [--many M]`.

Each mutant is a copy of the house in which one operator, number or comparison of one file of core is exchanged; the tests that reach its line are
run on it. One that no test notices survives and is shown with its line. Which tests reach which line is found out once for each state of the tests
and kept next to the temporary files, which takes a quarter of an hour; `--tests` names some instead. The tree itself is never written to.
"""

import argparse
import ast
import difflib
import hashlib
import itertools
import os
import random
import shutil
import subprocess
import sys
import tempfile
from collections import Counter
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from functools import cache
from pathlib import Path
from queue import SimpleQueue

from cosmic_ray.ast import ast_nodes, get_ast
from cosmic_ray.mutating import mutate_code
from cosmic_ray.plugins import get_operator, operator_names
from coverage import CoverageData

ROOT = Path(__file__).resolve().parent.parent
PACKAGES = ("quantity", "fit", "analysis", "findings", "slips")
TESTS = ("tests/core", "tests/reference", "tests/catalogue", "tests/web")
MOST_TESTS = 40
"""Of those that reach a line, the ones that reach fewest others first: they are about it."""
PATIENCE = 240
_MOMENTS = itertools.count(1_000_000_000)
"""A moment of its own for every change of a file: compiled modules are told apart by whole seconds."""
_DULL = ("core/RemoveDecorator", "core/ExceptionReplacer", "core/VariableReplacer", "core/VariableInserter")
"""Operators whose mutants say nothing of a number: a cache that is gone, an exception of another kind, names exchanged at random."""
_STRANGE = ("LShift", "RShift", "BitOr", "BitAnd", "BitXor", "FloorDiv", "Mod", "Invert")
"""Exchanges that nobody writes by mistake, and that fail at once."""


@dataclass(frozen=True, slots=True, order=True)
class Mutant:
    """``file``: of the tree; ``operator`` and ``occurrence``: what is exchanged; ``line``: where it begins."""

    file: str
    operator: str
    occurrence: int
    line: int


def mutants(package: str) -> list[Mutant]:
    """All of a package, docstrings, messages and type annotations aside."""
    found = []
    for path in sorted((ROOT / "cavrel" / "core" / package).rglob("*.py")):
        source = path.read_text(encoding="utf-8")
        counts = set(_computing(source))
        tree = get_ast(source)
        nodes = list(ast_nodes(tree))
        for name in operator_names():
            if name.startswith(_DULL) or set(name.split("_")) & set(_STRANGE):
                continue
            operator = get_operator(name)()
            places = [p for node in nodes for p in operator.mutation_positions(node)]
            found += [
                Mutant(str(path.relative_to(ROOT)), name, i, start[0])
                for i, (start, _) in enumerate(places)
                if start[0] in counts
            ]
    return found


def _computing(source: str) -> Iterator[int]:
    """Lines of statements within functions that are more than words."""
    for function in ast.walk(ast.parse(source)):
        if not isinstance(function, ast.FunctionDef):
            continue
        for statement in function.body:
            if isinstance(statement, ast.Expr) and isinstance(statement.value, ast.Constant):
                continue
            yield from range(statement.lineno, (statement.end_lineno or statement.lineno) + 1)


def reached() -> dict[str, dict[int, list[str]]]:
    """File -> line -> the tests that run it, found out by running them."""
    listed = sorted(p for part in ("cavrel/core", *TESTS) for p in (ROOT / part).rglob("*.py"))
    state = hashlib.sha256(b"".join(path.read_bytes() for path in listed)).hexdigest()[:16]
    kept = Path(tempfile.gettempdir()) / f"cavrel-reached-{state}.db"
    if not kept.exists():
        print("finding out which tests reach which line; this takes some minutes", flush=True)
        part = kept.with_suffix(".part")
        settings = Path(tempfile.mkdtemp()) / "coveragerc"
        settings.write_text(
            f"[run]\ndata_file = {part}\ndynamic_context = test_function\nsource = {ROOT / 'cavrel' / 'core'}\n"
        )
        subprocess.run(
            [sys.executable, "-m", "coverage", "run", f"--rcfile={settings}", "-m", "pytest", "-n", "0", "-q", *TESTS],
            cwd=ROOT,
            check=False,
            stdout=subprocess.DEVNULL,
        )
        part.rename(kept)
    data = CoverageData(str(kept))
    data.read()
    found: dict[str, dict[int, list[str]]] = {}
    for file in data.measured_files():
        by_line = data.contexts_by_lineno(file)
        found["cavrel/" + file.partition("/cavrel/")[2]] = {line: [c for c in cs if c] for line, cs in by_line.items()}
    return found


def node(context: str) -> str:
    """A test's address from its name as a module's: ``tests.core.test_fit.test_line`` is ``tests/core/test_fit.py::test_line``; empty where that
    file has no such test, for one that is made elsewhere."""
    module, _, function = context.rpartition(".")
    file = f"{module.replace('.', '/')}.py"
    return f"{file}::{function}" if f"def {function}(" in _text_of(file) else ""


@cache
def _text_of(file: str) -> str:
    path = ROOT / file
    return path.read_text(encoding="utf-8") if path.exists() else ""


def outcome(mutant: Mutant, tests: list[str], house: Path) -> str:
    """``killed``, ``survived`` or ``late`` (its tests did not end, which is noticed as well), in a copy of the house."""
    path, source = house / mutant.file, (ROOT / mutant.file).read_text(encoding="utf-8")
    changed = mutate_code(source, get_operator(mutant.operator)(), mutant.occurrence)
    if changed is None or changed == source:
        return "none"
    _put(path, changed)
    try:
        ended = subprocess.run(
            [sys.executable, "-m", "pytest", "-n", "0", "-x", "-q", "--no-header", *tests],
            cwd=house,
            env={**os.environ, "PYTHONPATH": str(house), "OMP_NUM_THREADS": "1"},
            capture_output=True,
            timeout=PATIENCE,
            check=False,
        )
        return "survived" if ended.returncode == 0 else "killed"
    except subprocess.TimeoutExpired:
        return "late"
    finally:
        _put(path, source)


def _put(path: Path, source: str) -> None:
    path.write_text(source, encoding="utf-8")
    moment = next(_MOMENTS)
    os.utime(path, (moment, moment))


def shown(mutant: Mutant) -> str:
    """What is exchanged, as lines."""
    source = (ROOT / mutant.file).read_text(encoding="utf-8")
    changed = mutate_code(source, get_operator(mutant.operator)(), mutant.occurrence) or source
    lines = difflib.unified_diff(source.splitlines(), changed.splitlines(), lineterm="", n=0)
    return "\n".join(line for line in lines if line[:1] in "+-" and line[:3] not in ("+++", "---"))


def main() -> None:
    reader = argparse.ArgumentParser(description=(__doc__ or "").splitlines()[0])
    reader.add_argument("packages", nargs="*", default=PACKAGES, help=f"of {', '.join(PACKAGES)}")
    reader.add_argument("--seed", type=int, default=1)
    reader.add_argument("--many", type=int, default=60, help="of each package")
    reader.add_argument("--tests", nargs="*", default=(), help="these, instead of finding out which reach what")
    reader.add_argument("--at-once", type=int, default=2)
    asked = reader.parse_args()
    for test in asked.tests:
        if not (ROOT / test.partition("::")[0]).exists():
            raise SystemExit(f"there is no {test}")
    reach = {} if asked.tests else reached()
    often = Counter(test for lines in reach.values() for tests in lines.values() for test in tests)
    houses: SimpleQueue[Path] = SimpleQueue()
    for _ in range(asked.at_once):
        house = Path(tempfile.mkdtemp(prefix="cavrel-mutant-"))
        for part in ("cavrel", "tests", "tools", "docs"):
            shutil.copytree(ROOT / part, house / part, ignore=shutil.ignore_patterns("__pycache__", "screenshots"))
        shutil.copy(ROOT / "pyproject.toml", house)
        houses.put(house)

    def tried(mutant: Mutant) -> str:
        tests = sorted(set(reach.get(mutant.file, {}).get(mutant.line, ())), key=lambda test: often[test])[:MOST_TESTS]
        chosen = list(asked.tests) or [address for test in tests if (address := node(test))]
        if not chosen:
            return "not reached"
        house = houses.get()
        try:
            return outcome(mutant, chosen, house)
        finally:
            houses.put(house)

    for package in asked.packages:
        every = mutants(package)
        drawn = sorted(random.Random(f"{package} {asked.seed}").sample(every, min(asked.many, len(every))))
        with ThreadPoolExecutor(asked.at_once) as hands:
            found = list(zip(drawn, hands.map(tried, drawn), strict=True))
        counts = Counter(what for _, what in found if what != "none")
        whole = sum(counts.values())
        killed = counts["killed"] + counts["late"]
        print(
            f"\n{package}: {killed} of {whole} killed ({100 * killed / max(whole, 1):.0f} %; {counts['late']} of them never ended), "
            f"seed {asked.seed}, of {len(every)}"
        )
        for mutant, what in found:
            if what in ("survived", "not reached"):
                print(f"{what}: {mutant.file}:{mutant.line} {mutant.operator}\n{shown(mutant)}", flush=True)
    while not houses.empty():
        shutil.rmtree(houses.get(), ignore_errors=True)


if __name__ == "__main__":
    main()
