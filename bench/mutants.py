"""How strong the tests are: small faults are put into the code one at a time, and the tests are to find each.

    python bench/mutants.py [--seed 1] [--most 300] [--only judging] [--list survivors.txt]

A sample of mutants, the same for a seed, is drawn over the modules of PARTS. Each is tried in a process of its own
by those in-process tests that ever come to the mutated line, quickest first, until one fails. What no test finds is
printed with its line. Not part of `.ci/run`: it takes about a quarter of an hour on two cores.
"""

import argparse
import ast
import importlib.abc
import importlib.machinery
import importlib.util
import json
import os
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from random import Random
from types import ModuleType

ROOT = Path(__file__).parent.parent
SOURCES = ROOT / "src" / "enthesis"
PARTS = (
    "model", "conditions", "files", "surveys", "tokens", "access", "verdicts", "chains", "trusts", "proposals",
    "cleaning", "live",
)  # fmt: skip
LONGEST = 600.0  # seconds for the tests of one mutant; one that takes longer hangs, and so is found
WORKERS = int(os.environ.get("WORKERS", os.cpu_count() or 1))
SWAPPED: Mapping[type[ast.AST], type[ast.AST]] = {
    ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt, ast.Eq: ast.NotEq, ast.NotEq: ast.Eq,
    ast.In: ast.NotIn, ast.NotIn: ast.In, ast.Is: ast.IsNot, ast.IsNot: ast.Is, ast.And: ast.Or, ast.Or: ast.And,
    ast.Add: ast.Sub, ast.Sub: ast.Add, ast.BitOr: ast.BitAnd, ast.BitAnd: ast.BitOr,
}  # fmt: skip
NOT_IN_PLACE = 99  # the tests ran without the fault
PLANTED = ("enthesis.access.answers", "def allowed")  # where the control puts its faults: what makes a yes
PASSED, FOUND = 0, (1, 2, 4)  # what pytest ends with: all pass; one fails; a module cannot even be imported
CONTROL = 60  # the quickest tests, which must pass where nothing is changed
RENAMED = {"min": "max", "max": "min", "any": "all", "all": "any"}


@dataclass(frozen=True)
class Mutant:
    """One fault: the module, the line, what is done there, and the source with it."""

    module: str
    line: int
    what: str
    number: int
    inside: bool  # whether it is in a function

    def source(self) -> str:
        tree = ast.parse(path_of(self.module).read_text(encoding="utf-8"))
        _Faults(self.number).visit(tree)
        return ast.unparse(ast.fix_missing_locations(tree))


class _Faults(ast.NodeTransformer):
    """Counts the places where a fault can be put; puts in the one of a number, if one is given."""

    def __init__(self, chosen: int | None = None) -> None:
        self.chosen = chosen
        self.found: list[tuple[int, str, bool]] = []
        self.depth = 0

    def _here(self, node: ast.AST, what: str) -> bool:
        self.found.append((getattr(node, "lineno", 0), what, self.depth > 0))
        return len(self.found) - 1 == self.chosen

    def visit_Compare(self, node: ast.Compare) -> ast.AST:
        self.generic_visit(node)
        for at, operator in enumerate(node.ops):
            other = SWAPPED.get(type(operator))
            if other is not None and self._here(node, f"{type(operator).__name__} becomes {other.__name__}"):
                node.ops[at] = other()  # type: ignore[call-overload]
        return node

    def visit_BoolOp(self, node: ast.BoolOp) -> ast.AST:
        self.generic_visit(node)
        other = SWAPPED[type(node.op)]
        if self._here(node, f"{type(node.op).__name__} becomes {other.__name__}"):
            node.op = other()  # type: ignore[assignment]
        for at in range(len(node.values)):
            if self._here(node, f"part {at + 1} of {type(node.op).__name__} is left out"):
                del node.values[at]
                return node if len(node.values) > 1 else node.values[0]
        return node

    def visit_BinOp(self, node: ast.BinOp) -> ast.AST:
        self.generic_visit(node)
        other = SWAPPED.get(type(node.op))
        if other is None or isinstance(node.left, ast.JoinedStr) or isinstance(node.right, ast.JoinedStr):
            return node
        if self._here(node, f"{type(node.op).__name__} becomes {other.__name__}"):
            node.op = other()  # type: ignore[assignment]
        return node

    def visit_UnaryOp(self, node: ast.UnaryOp) -> ast.AST:
        self.generic_visit(node)
        if isinstance(node.op, ast.Not) and self._here(node, "not is left out"):
            return node.operand
        return node

    def visit_Constant(self, node: ast.Constant) -> ast.AST:
        if isinstance(node.value, bool):
            if self._here(node, f"{node.value} becomes {not node.value}"):
                return ast.copy_location(ast.Constant(not node.value), node)
        elif isinstance(node.value, int) and self._here(node, f"{node.value} becomes {node.value + 1}"):
            return ast.copy_location(ast.Constant(node.value + 1), node)
        return node

    def visit_Call(self, node: ast.Call) -> ast.AST:
        self.generic_visit(node)
        if isinstance(node.func, ast.Name) and node.func.id in RENAMED:
            other = RENAMED[node.func.id]
            if self._here(node, f"{node.func.id} becomes {other}"):
                node.func = ast.copy_location(ast.Name(other, ast.Load()), node.func)
        return node

    def visit_Continue(self, node: ast.Continue) -> ast.AST:
        return ast.copy_location(ast.Break(), node) if self._here(node, "continue becomes break") else node

    def visit_If(self, node: ast.If) -> ast.AST:
        self.generic_visit(node)
        if self._here(node, "the condition is taken for false"):
            node.test = ast.copy_location(ast.Constant(False), node.test)
        return node

    def visit_AnnAssign(self, node: ast.AnnAssign) -> ast.AST:
        if node.value is not None:
            node.value = self.visit(node.value)
        return node  # an annotation changes nothing

    def visit_ClassDef(self, node: ast.ClassDef) -> ast.AST:
        node.body = [self.visit(statement) for statement in node.body]
        return node  # how a class is decorated is no behaviour of the core

    def visit_FunctionDef(self, node: ast.FunctionDef) -> ast.AST:
        self.depth += 1
        node.body = [self.visit(statement) for statement in node.body]
        self.depth -= 1
        node.args.kw_defaults = [default and self.visit(default) for default in node.args.kw_defaults]
        node.args.defaults = [self.visit(default) for default in node.args.defaults]
        return node

    def visit_JoinedStr(self, node: ast.JoinedStr) -> ast.AST:
        return node  # the words of a message are not what is looked for here


def path_of(module: str) -> Path:
    """The file of a module of ours."""
    return SOURCES.joinpath(*module.split(".")[1:]).with_suffix(".py")


def mutants(seed: int, most: int, only: Sequence[str]) -> list[Mutant]:
    """The sample: at most so many, drawn over all faults of all modules of the parts."""
    every: list[Mutant] = []
    for part in PARTS:
        for path in sorted((SOURCES / part).glob("*.py")):
            module = f"enthesis.{part}.{path.stem}"
            if path.stem == "__init__" or (only and not any(word in module for word in only)):
                continue
            faults = _Faults()
            faults.visit(ast.parse(path.read_text(encoding="utf-8")))
            every += [Mutant(module, *found[:2], number, found[2]) for number, found in enumerate(faults.found)]
    return sorted(Random(seed).sample(every, min(most, len(every))), key=lambda one: (one.module, one.line))


# -- which tests come to which lines ----------------------------------------------------------------------------------


def coverage_of_tests(folder: Path) -> tuple[dict[tuple[str, int], set[str]], dict[str, float]]:
    """For every line of the core the in-process tests that come to it, and how long each test takes (seconds)."""
    import coverage

    data, report = folder / "coverage", folder / "report.json"
    settings = folder / "settings"
    settings.write_text(f"[run]\nsource = {SOURCES}\ndynamic_context = test_function\ndata_file = {data}\n")
    words = ["-m", "coverage", "run", f"--rcfile={settings}", "-m", "pytest", "--in-process", f"--timings={report}",
             "-p", "no:cacheprovider", "-q"]  # fmt: skip
    done = subprocess.run([sys.executable, *words], cwd=ROOT, env=_environment(), check=False)
    if done.returncode:
        raise SystemExit("the tests fail as they are: there is nothing to compare mutants with")
    timings: dict[str, float] = json.loads(report.read_text(encoding="utf-8"))
    by_context: dict[str, set[str]] = {}
    spent: dict[str, float] = {}
    for test, seconds in timings.items():
        function = test.partition("[")[0]
        spent[function] = spent.get(function, 0.0) + seconds
        path, _, name = function.partition("::")
        context = f"{path.removesuffix('.py').replace('/', '.')}.{name.replace('::', '.')}"
        by_context.setdefault(context, set()).add(function)
    seen = coverage.CoverageData(basename=str(data))
    seen.read()
    lines: dict[tuple[str, int], set[str]] = {}
    for file in seen.measured_files():
        for line, contexts in seen.contexts_by_lineno(file).items():
            tests = set().union(*(by_context.get(context, set()) for context in contexts))
            lines[str(Path(file).resolve()), line] = tests
            lines.setdefault((str(Path(file).resolve()), 0), set()).update(tests)
    return lines, spent


def _environment() -> dict[str, str]:
    return {**os.environ, "CI": "1", "PYTHONDONTWRITEBYTECODE": "1", "TESTS_BRIEF": "1"}


# -- trying one ---------------------------------------------------------------------------------------------------


class _Mutated(importlib.abc.MetaPathFinder, importlib.abc.Loader):
    """Imports one module from another source."""

    def __init__(self, module: str, source: str) -> None:
        self.module, self.source = module, source

    def find_spec(
        self, fullname: str, path: Sequence[str] | None, target: ModuleType | None = None
    ) -> importlib.machinery.ModuleSpec | None:
        if fullname != self.module:
            return None
        return importlib.util.spec_from_loader(fullname, self, origin=str(path_of(fullname)))

    def exec_module(self, module: ModuleType) -> None:
        exec(compile(self.source, str(path_of(self.module)), "exec"), module.__dict__)  # noqa: S102  our own source


def tried(mutant: Mutant, tests: Sequence[str]) -> None:
    """Runs tests with the mutant in place and ends this process: 0 where none fails."""
    import pytest

    null = os.open(os.devnull, os.O_RDWR)
    for number in range(3):
        os.dup2(null, number)
    os.setsid()
    os.environ.update(_environment())
    sys.meta_path.insert(0, _Mutated(mutant.module, mutant.source()))
    os.chdir(ROOT)
    words = ["-x", "-q", "--in-process", "-p", "no:cacheprovider", "-p", "no:randomly", *tests]
    code = int(pytest.main(words))
    loaded = sys.modules.get(mutant.module)
    spec = loaded.__spec__ if loaded is not None else None
    os._exit(code if spec is not None and isinstance(spec.loader, _Mutated) else NOT_IN_PLACE)


def outcomes(chosen: Sequence[Mutant], tests_of: Mapping[Mutant, Sequence[str]]) -> Iterator[tuple[Mutant, str]]:
    """Every mutant with what came of it: found, survives, or never reached; several at a time."""
    waiting = list(chosen)
    running: dict[int, tuple[Mutant, float]] = {}
    while waiting or running:
        while waiting and len(running) < WORKERS:
            mutant = waiting.pop(0)
            if not tests_of[mutant]:
                yield mutant, "never reached"
                continue
            sys.stdout.flush()
            pid = os.fork()
            if pid == 0:
                tried(mutant, tests_of[mutant])
            running[pid] = (mutant, time.monotonic())
        for pid, (mutant, began) in list(running.items()):
            ended, status = os.waitpid(pid, os.WNOHANG)
            if ended:
                del running[pid]
                code = os.waitstatus_to_exitcode(status)
                if code not in (PASSED, *FOUND):
                    raise SystemExit(f"{mutant.module}:{mutant.line} was not tried: pytest ended with {code}")
                yield mutant, "survives" if code == PASSED else "found"
            elif time.monotonic() - began > LONGEST:
                os.killpg(pid, signal.SIGKILL)
                os.waitpid(pid, 0)
                del running[pid]
                yield mutant, "found"
        time.sleep(0.05)


def _control(quickest: Sequence[str], lines: Mapping[tuple[str, int], set[str]], timings: Mapping[str, float]) -> None:
    """Ends the program unless nothing is found where nothing is changed, and a gross fault is."""
    same = Mutant(PLANTED[0], 0, "nothing is changed", -1, inside=True)
    ((_, outcome),) = outcomes([same], {same: quickest})
    if outcome != "survives":
        raise SystemExit("the tests fail without any fault: what they find would mean nothing")
    module, name = PLANTED
    source = path_of(module).read_text(encoding="utf-8")
    line = next(number for number, text in enumerate(source.splitlines(), 1) if name in text)
    near = [one for one in mutants(0, 10**6, [module]) if line < one.line <= line + 4 and one.inside]
    tests = sorted(lines.get((str(path_of(module).resolve()), near[0].line), ()), key=lambda one: timings[one])
    found = [outcome for _, outcome in outcomes(near, dict.fromkeys(near, tests))]
    if "found" not in found:
        raise SystemExit(f"no fault in {name} of {module} is found: faults are not put in place")
    print(f"control: nothing is found without a fault; {found.count('found')} of {len(near)} faults in {name} are")


def main() -> None:
    wanted = argparse.ArgumentParser(description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter)
    wanted.add_argument("--seed", type=int, default=1)
    wanted.add_argument("--most", type=int, default=300)
    wanted.add_argument("--only", nargs="*", default=[], metavar="WORD", help="modules whose name holds a word")
    given = wanted.parse_args()
    if given.most > 300:
        wanted.error("at most 300 mutants")
    chosen = mutants(given.seed, given.most, given.only)
    print(f"{len(chosen)} mutants, seed {given.seed}")
    with tempfile.TemporaryDirectory() as place:
        lines, timings = coverage_of_tests(Path(place))
    tests_of = {}
    for mutant in chosen:
        file = str(path_of(mutant.module).resolve())
        # what is outside of functions is run by the import: there every test that comes to the file may find it
        reached = lines.get((file, mutant.line if mutant.inside else 0), set())
        tests_of[mutant] = sorted(reached, key=lambda name: timings[name])
    every = sorted(timings, key=lambda name: timings[name])[:CONTROL]
    _control(every, lines, timings)
    counts = {"found": 0, "survives": 0, "never reached": 0}
    for done, (mutant, outcome) in enumerate(outcomes(chosen, tests_of), 1):
        counts[outcome] += 1
        if outcome != "found":
            print(f"{outcome}: {mutant.module}:{mutant.line}  {mutant.what}")
        sys.stderr.write(f"\r{done} of {len(chosen)}, {counts['found']} found ")
        sys.stderr.flush()
    share = counts["found"] / len(chosen) if chosen else 0
    print(f"\n{counts['found']} of {len(chosen)} found ({share:.0%}); {counts['survives']} survive, "
          f"{counts['never reached']} are on lines that no in-process test comes to")  # fmt: skip


if __name__ == "__main__":
    main()
