"""Promises about the code itself: layers, allowed imports, the public surface."""

from __future__ import annotations

import ast
import tomllib
from collections.abc import Iterator
from pathlib import Path

import ruddock as rk

SOURCE = Path(rk.__file__).parent if (Path(rk.__file__).parent / "problem.py").exists() else None
LAYERS = [
    "imports",
    "characters",
    "errors",
    "files",
    "archives",
    "document",
    "progress",
    "problem",
    "engine",
    "modelling",
    "formats",
    "demos",
    "insight",
    "reporting",
    "jobs",
    "cli",
]
# conveniences that reach upwards: each imports inside the function, and hands on in one line
DELEGATES = {
    "document/result.py": "report",
    "modelling/model.py": "check what_if sweep reach appraise diagnose tradeoff scenarios region write from_table",
    "modelling/plan.py": "sensitivity what_if alternatives",
    "modelling/values.py": "_from_file",
}


def modules() -> Iterator[tuple[str, ast.Module]]:
    assert SOURCE is not None
    for path in sorted(SOURCE.rglob("*.py")):
        yield path.relative_to(SOURCE).as_posix(), ast.parse(path.read_text(encoding="utf-8"))


def imports(tree: ast.AST) -> Iterator[tuple[str, ast.FunctionDef | None]]:
    """Yield (module, the function it is inside of) for every import, but those for type checkers only."""
    guarded = {
        id(node)
        for branch in ast.walk(tree)
        if isinstance(branch, ast.If) and "TYPE_CHECKING" in ast.unparse(branch.test)
        for node in ast.walk(branch)
    }
    inside = {id(n): f for f in ast.walk(tree) if isinstance(f, ast.FunctionDef) for n in ast.walk(f)}
    for node in ast.walk(tree):
        if id(node) in guarded:
            continue
        if isinstance(node, ast.ImportFrom) and node.module:
            yield node.module, inside.get(id(node))
        elif isinstance(node, ast.Import):
            yield from ((alias.name, inside.get(id(node))) for alias in node.names)


def layer(name: str) -> int | None:
    first = name.split("/")[0].removesuffix(".py")
    return LAYERS.index(first) if first in LAYERS else None


def test_imports_go_down_only_and_the_exceptions_are_these() -> None:
    seen: dict[str, set[str]] = {}
    for name, tree in modules():
        here = layer(name)
        if here is None:
            continue
        for module, function in imports(tree):
            parts = module.removeprefix("cython.cimports.").split(".")
            if parts[0] != "ruddock" or len(parts) < 2 or parts[1] not in LAYERS:
                continue
            if LAYERS.index(parts[1]) > here:
                assert function is not None, f"{name} imports {module} at its top"
                body = [s for s in function.body if not (isinstance(s, ast.Expr) and isinstance(s.value, ast.Constant))]
                assert len(body) == 2, f"{name}: {function.name} does more than hand on to {module}"
                seen.setdefault(name, set()).add(function.name)
    assert seen == {name: set(functions.split()) for name, functions in DELEGATES.items()}


SCIPY = {  # what may be imported from where, besides plain matrices and dense algebra
    "engine/interior/linking.py": {"scipy.sparse.csgraph": {"connected_components"}},
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


def test_no_module_of_the_engine_leads_back_to_itself() -> None:
    names = {name.removesuffix(".py").replace("/", "."): tree for name, tree in modules() if name.startswith("engine/")}
    names = {name.removesuffix(".__init__"): tree for name, tree in names.items()}
    below: dict[str, set[str]] = {}
    for name, tree in names.items():
        found = [n for n in ast.walk(tree) if isinstance(n, ast.ImportFrom) and n.module]
        modules_named = {f"{n.module}.{alias.name}" for n in found for alias in n.names} | {
            str(n.module) for n in found
        }
        plain = {module.removeprefix("cython.cimports.").removeprefix("ruddock.") for module in modules_named}
        below[name] = (plain & set(names)) - {name}
    assert "engine.tree.search" in below["engine.solve"]
    done: set[str] = set()
    while len(done) < len(below):
        ready = {name for name, needed in below.items() if name not in done and needed <= done}
        assert ready, f"a circle among {sorted(set(below) - done)}"
        done |= ready


def test_only_an_owner_writes_to_itself_in_a_search() -> None:
    for name, tree in modules():
        if not name.startswith("engine/tree/") or name.endswith(("search.py", "propagate.py")):
            continue
        for node in ast.walk(tree):
            targets = node.targets if isinstance(node, ast.Assign) else [getattr(node, "target", None)]
            if isinstance(node, ast.Assign | ast.AugAssign | ast.AnnAssign):
                for target in [part for t in targets for part in getattr(t, "elts", [t])]:
                    owner = ast.unparse(target.value) if isinstance(target, ast.Attribute) else "self"
                    own = owner in ("self", "other", "self.counters") or owner.startswith("node.parent")
                    assert own, f"{name}: {ast.unparse(node)}"


def test_kernels_compiled_and_interpreted_agree_on_their_constants() -> None:
    from ruddock.engine.simplex import constants

    assert SOURCE is not None
    text = (SOURCE / "engine/simplex/constants.pxd").read_text(encoding="utf-8")
    pairs = [line.split(" = ") for line in text.splitlines() if " = " in line]
    compiled = {name.strip(): int(value) for name, value in pairs}
    assert compiled == {n: getattr(constants, n) for n in constants.__all__ if not n.endswith("PIVOT")}


def test_public_names_are_sorted_documented_and_complete() -> None:
    assert rk.__all__ == sorted(rk.__all__)
    assert rk.Plan.__doc__  # names are imported when they are first used
    public = {n for n in dir(rk) if not n.startswith("_")}
    assert public == {n for n in rk.__all__ if not n.startswith("_")}
    assert set(rk._PLACES) == set(rk.__all__) - {n for n in rk.__all__ if n.endswith(("Error", "Warning"))}
    for name in rk.__all__:
        assert name == "__version__" or getattr(rk, name).__doc__, name


def test_every_file_that_is_not_code_is_installed() -> None:
    project = Path(__file__).parent.parent
    source = project / "src" / "ruddock"
    patterns = tomllib.loads((project / "pyproject.toml").read_text())["tool"]["setuptools"]["package-data"]["ruddock"]
    held = [p for p in source.rglob("*") if p.is_file() and p.suffix not in (".py", ".pyc", ".so", ".pyd", ".c")]
    assert len(held) > 50
    for path in held:
        assert any(path.relative_to(source).match(pattern) for pattern in patterns), path
