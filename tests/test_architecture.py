"""Promises about the code itself: layers, allowed imports, the public surface."""

from __future__ import annotations

import ast
from collections.abc import Iterator
from pathlib import Path

import ruddock as rk

SOURCE = Path(rk.__file__).parent if (Path(rk.__file__).parent / "problem.py").exists() else None
LAYERS = [
    "errors",
    "tables",
    "progress",
    "problem",
    "engine",
    "modelling",
    "formats",
    "demos",
    "insight",
    "reporting",
    "cli",
]
DELEGATES = {
    ("modelling/model.py", "formats"),  # model.write
    ("modelling/model.py", "insight"),  # model.check, what_if, sweep, reach, appraise
    ("modelling/model.py", "reporting"),  # model.algebra
    ("modelling/plan.py", "insight"),  # plan.sensitivity
    ("modelling/printed.py", "reporting"),  # str(result), notebook HTML
    ("insight/sensitivity.py", "reporting"),  # what results say, and their figures
    ("insight/what_if.py", "reporting"),
    ("insight/alternatives.py", "reporting"),
    ("insight/diagnosis.py", "reporting"),
    ("insight/sweep.py", "reporting"),
    ("insight/reach.py", "reporting"),
    ("insight/tradeoff.py", "reporting"),
    ("insight/region.py", "reporting"),
    ("insight/scenarios.py", "reporting"),
    ("insight/appraisal.py", "reporting"),
    ("modelling/plan.py", "reporting"),  # what a plan says, reports, figures
}


def modules() -> Iterator[tuple[str, ast.Module]]:
    assert SOURCE is not None
    for path in sorted(SOURCE.rglob("*.py")):
        yield path.relative_to(SOURCE).as_posix(), ast.parse(path.read_text(encoding="utf-8"))


def imports(tree: ast.AST) -> Iterator[tuple[str, bool]]:
    """Yield (module, is it inside a function) for every import, but those for type checkers only."""
    guarded = {
        id(node)
        for branch in ast.walk(tree)
        if isinstance(branch, ast.If) and "TYPE_CHECKING" in ast.unparse(branch.test)
        for node in ast.walk(branch)
    }
    inside = {id(n) for f in ast.walk(tree) if isinstance(f, ast.FunctionDef) for n in ast.walk(f)}
    for node in ast.walk(tree):
        if id(node) in guarded:
            continue
        if isinstance(node, ast.ImportFrom) and node.module:
            yield node.module, id(node) in inside
        elif isinstance(node, ast.Import):
            yield from ((alias.name, id(node) in inside) for alias in node.names)


def layer(name: str) -> int | None:
    first = name.split("/")[0].removesuffix(".py")
    return LAYERS.index(first) if first in LAYERS else None


def test_imports_go_down_only_and_the_exceptions_are_these() -> None:
    seen = set()
    for name, tree in modules():
        here = layer(name)
        if here is None:
            continue
        for module, inside in imports(tree):
            parts = module.removeprefix("cython.cimports.").split(".")
            if parts[0] != "ruddock" or len(parts) < 2 or parts[1] not in LAYERS:
                continue
            if LAYERS.index(parts[1]) > here:
                assert inside, f"{name} imports {module} at its top"
                seen.add((name, parts[1]))
    assert seen == DELEGATES


SCIPY = {  # what may be imported from where, besides plain matrices and dense algebra
    "engine/interior/normal.py": {"scipy.sparse.linalg": {"splu"}},
    "engine/presolve/components.py": {"scipy.sparse.csgraph": {"connected_components"}},
    "engine/tree/integral.py": {"scipy.sparse.csgraph": {"connected_components"}},
}


def test_no_outside_solver_is_imported() -> None:
    for name, tree in modules():
        for node in ast.walk(tree):
            if isinstance(node, ast.Import):
                assert not any(alias.name.startswith("scipy") for alias in node.names), name
            if isinstance(node, ast.ImportFrom) and (node.module or "").split(".")[0] == "scipy":
                names = {alias.name for alias in node.names}
                allowed = SCIPY.get(name, {}).get(node.module or "", set())
                assert node.module in ("scipy.sparse", "scipy.linalg") or names <= allowed, f"{name}: {names}"
                assert not names & {"linalg", "optimize"}, f"{name}: {names}"


def test_the_engine_knows_no_pandas_and_prints_nothing() -> None:
    for name, tree in modules():
        if name.startswith("engine/"):
            assert all(module.split(".")[0] not in ("pandas", "rich", "click") for module, _ in imports(tree)), name
            calls = [n.func.id for n in ast.walk(tree) if isinstance(n, ast.Call) and isinstance(n.func, ast.Name)]
            assert "print" not in calls, name


def test_public_names_are_sorted_documented_and_complete() -> None:
    assert rk.__all__ == sorted(rk.__all__)
    public = {n for n in vars(rk) if not n.startswith("_")}
    packages = {
        "demos",
        "engine",
        "insight",
        "errors",
        "formats",
        "modelling",
        "problem",
        "progress",
        "reporting",
        "tables",
        "cli",
    }
    assert public - packages == {n for n in rk.__all__ if n != "__version__"}
    for name in rk.__all__:
        assert name == "__version__" or getattr(rk, name).__doc__, name
