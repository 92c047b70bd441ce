"""The house: which room may import which, how large rooms may be, where SQL, prints and text surgery may stand."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from pathlib import Path

import pytest

SOURCE = Path(__file__).parents[1] / "src/indrel"
MODULES = {
    p.relative_to(SOURCE).with_suffix("").as_posix(): ast.parse(p.read_text()) for p in sorted(SOURCE.rglob("*.py"))
}

FLOORS = [
    {"base", "__init__"},
    {"core"},
    {"snapshot"},
    {"gather", "decide"},
    {"sources", "checks"},
    {"pipeline"},
    {"ask"},
    {"ledger", "reports", "demo"},
    {"library", "cli", "__main__"},
]
"""From the ground up; a room imports from its own floor and those below."""

UPWARDS = {("__init__", "library"): "the package's public names are the library's, loaded when they are asked for"}
"""Imports that go up, each with why; the list is only ever shortened."""

WITH_SQL = {"snapshot", "gather", "sources", "decide", "checks", "pipeline", "ask", "ledger", "reports", "library"}
"""Rooms that put questions to a snapshot in SQL."""

LONG_BODIES = {"demo/site:_files": "a list of the demonstration site's files"}
"""Functions over the budget, each with why."""

MOST_LINES, MOST_BODY = 500, 60


def room(module: str) -> str:
    return module.partition("/")[0]


def floor(name: str) -> int:
    return next(n for n, rooms in enumerate(FLOORS) if name in rooms)


def imports(tree: ast.AST) -> Iterator[str]:
    """The modules that a module imports when it is loaded or run; what is only for types does not count."""
    hidden = {
        id(n)
        for i in ast.walk(tree)
        if isinstance(i, ast.If) and getattr(i.test, "id", "") == "TYPE_CHECKING"
        for n in ast.walk(i)
    }
    for node in ast.walk(tree):
        if isinstance(node, ast.ImportFrom) and id(node) not in hidden and (node.module or "").startswith("indrel"):
            name = (node.module or "").removeprefix("indrel").removeprefix(".").replace(".", "/")
            within = (f"{name}/{alias.name}".lstrip("/") for alias in node.names)
            yield from (
                n if n in MODULES else name if name in MODULES else f"{name}/__init__".lstrip("/") for n in within
            )


@pytest.mark.parametrize("module", MODULES)
def test_a_module_keeps_to_the_house(module: str) -> None:
    tree, here = MODULES[module], floor(room(module))
    up = {room(target) for target in imports(tree) if floor(room(target)) > here}
    assert not {name for name in up if (module, name) not in UPWARDS}, "an import goes up"
    assert len((SOURCE / f"{module}.py").read_text().splitlines()) <= MOST_LINES
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef) and f"{module}:{node.name}" not in LONG_BODIES:
            first = node.body[1] if len(node.body) > 1 and isinstance(node.body[0], ast.Expr) else node.body[0]
            assert (node.end_lineno or 0) - first.lineno < MOST_BODY, f"{node.name} is too long"
        if isinstance(node, ast.Call) and getattr(node.func, "id", "") == "print":
            assert room(module) == "cli" or module == "demo/endpoint", "only the command line prints"
        if (
            isinstance(node, ast.Constant)
            and isinstance(node.value, str)
            and node.value.lstrip()[:7] in ("SELECT ", "INSERT ", "CREATE ")
        ):
            assert room(module) in WITH_SQL, "SQL stands in named rooms"
    if room(module) == "core":
        pure = {f"base/{name}" for name in ("errors", "plain", "sqltext", "arrow", "notebook")}
        assert not {n for n in imports(tree) if room(n) != "core"} - pure


def test_one_place_quotes_sql() -> None:
    for module, tree in MODULES.items():
        for node in ast.walk(tree):
            if (
                isinstance(node, ast.Call)
                and isinstance(node.func, ast.Attribute)
                and node.func.attr == "replace"
                and len(node.args) == 2
            ):
                values = [a.value for a in node.args if isinstance(a, ast.Constant)]
                assert values != ["'", "''"] or module == "base/sqltext", f"{module} quotes SQL by itself"


def test_no_module_imports_itself_by_another() -> None:
    """There is no cycle of imports, late ones included; the package's public names apart, which are the library's."""
    left = {m: set(imports(tree)) - {m, "__init__"} for m, tree in MODULES.items() if m != "__init__"}
    while ready := [module for module, some in left.items() if not some]:
        for module in ready:
            del left[module]
        left = {module: some - set(ready) for module, some in left.items()}
    assert not left, f"in a cycle, or above one: {sorted(left)}"


def test_the_house_stays_small() -> None:
    rooms = {room(module) for module in MODULES if "/" in module}
    between = {(room(m), room(t)) for m in MODULES for t in imports(MODULES[m]) if room(t) != room(m)}
    assert len(rooms) <= 17 and len(FLOORS) <= 10 and len(between) <= 70, (len(rooms), len(between))
