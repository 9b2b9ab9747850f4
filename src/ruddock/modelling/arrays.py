"""Models from matrices, as scripts hold them, with axes that give columns and rows their labels."""

from __future__ import annotations

from collections.abc import Sequence
from math import prod
from typing import TYPE_CHECKING, Any, get_args

import numpy as np
from scipy.sparse import csr_matrix, issparse, vstack

from ruddock.errors import DataError, ModelError, known
from ruddock.modelling.axis import Axis, check_name
from ruddock.modelling.cells import Cells
from ruddock.modelling.decisions import KIND_CODES, Decisions, Kind
from ruddock.modelling.formulation import Constraints, Objective
from ruddock.modelling.relation import Sides
from ruddock.modelling.terms import Terms
from ruddock.problem import INTEGER, Floats, Problem

if TYPE_CHECKING:
    from ruddock.modelling.model import Model

RELATIONS = {
    "<=": "<=",
    "=<": "<=",
    "≤": "<=",
    "<": "<=",
    ">=": ">=",
    "=>": ">=",
    "≥": ">=",
    ">": ">=",
    "=": "==",
    "==": "==",
}


def fill_from_arrays(
    model: Model,
    costs: Any,
    matrix: Any,
    relations: str | Sequence[str],
    limits: Any,
    equal_matrix: Any,
    equal_limits: Any,
    lower: Any,
    upper: Any,
    kinds: Any,
    maximize: bool,
    axes: Sequence[Axis] | None,
    row_axes: Sequence[Axis] | None,
    names: tuple[str, str, str],
) -> None:
    """Put one decision family, one constraint family and one objective into an empty model."""
    decision, constraint, objective = (check_name(name, "a part of a model") for name in names)
    cost = _vector(costs, None, "costs")
    n = len(cost)
    codes, word = _codes(kinds, n)
    low = np.zeros(n) if lower is None else _vector(lower, n, "lower")
    high = np.full(n, np.inf) if upper is None else _vector(upper, n, "upper")
    binary = np.array([kind == "binary" for kind in word])
    low, high = np.where(binary, np.maximum(low, 0.0), low), np.where(binary, np.minimum(high, 1.0), high)
    crossed = np.flatnonzero(low > high)
    if len(crossed):
        j = int(crossed[0])
        raise DataError(f"column {j}: the lower bound {low[j]:g} is above the upper bound {high[j]:g}")
    cells = _cells(axes, n, "column", "axes")
    shown: Kind = word[0] if len(set(word)) == 1 else "integer" if (codes == INTEGER).all() else "continuous"
    registry = model._registry
    registry.columns = n
    numbers = np.arange(n, dtype=np.int64)
    model._keep(Decisions(registry, decision, cells, low, high, shown, None, numbers=numbers, kinds=codes), cells.axes)
    rows, row_lower, row_upper = _rows(matrix, relations, limits, equal_matrix, equal_limits, n)
    if rows.shape[0]:
        entries = rows.tocoo()
        terms = (entries.row.astype(np.intp), entries.col.astype(np.int64), entries.data.astype(np.float64))
        row_cells = _cells(row_axes, rows.shape[0], "row", "row_axes")
        left = Terms(registry, row_cells, *terms, constants=np.zeros(row_cells.size), summed=True)
        sides = Sides(left, "between", None, row_lower, row_upper)
        model._keep(Constraints(constraint, sides), row_cells.axes)
    used = np.flatnonzero(cost)
    part = Terms(registry, Cells(()), np.zeros(len(used), np.intp), used.astype(np.int64), cost[used], np.zeros(1))
    model._keep(Objective(objective, maximize, {objective: part}, single=True))


def _vector(values: Any, size: int | None, name: str) -> Floats:
    try:
        array = np.asarray(values, dtype=np.float64)
    except (TypeError, ValueError):
        raise DataError(f"{name} holds something that is not a number") from None
    if array.ndim == 0 and size is not None:
        array = np.full(size, float(array))
    array = array.ravel()
    if size is not None and len(array) != size:
        raise DataError(f"{name} has {len(array):,} values for {size:,}")
    if np.isnan(array).any():
        raise DataError(f"{name}[{int(np.argmax(np.isnan(array)))}] is NaN")
    return array.copy()


def _codes(kinds: Any, n: int) -> tuple[Any, list[Any]]:
    words = [kinds] * n if isinstance(kinds, str) else list(kinds)
    if len(words) != n:
        raise DataError(f"kinds has {len(words):,} entries for {n:,} columns")
    for word in dict.fromkeys(words):
        if word not in get_args(Kind):
            raise ModelError(f"{word!r} is not a kind of decision; {known(str(word), get_args(Kind))}")
    return np.array([KIND_CODES[word] for word in words], np.uint8), words


def _cells(axes: Sequence[Axis] | None, size: int, name: str, what: str) -> Cells:
    if axes is None:
        return Cells((Axis(name, range(1, size + 1)),))
    axes = (axes,) if isinstance(axes, Axis) else tuple(axes)
    count = prod(len(axis) for axis in axes)
    if count != size:
        sizes = " x ".join(f"{axis.name} {len(axis)}" for axis in axes)
        raise DataError(f"{what}: {sizes} make {count:,} combinations for {size:,} {name}s")
    return Cells(axes)


def _rows(
    matrix: Any, relations: str | Sequence[str], limits: Any, equal_matrix: Any, equal_limits: Any, n: int
) -> tuple[Any, Floats, Floats]:
    """Return all rows with their limits; the block of equalities comes last."""
    blocks: list[Any] = [csr_matrix((0, n))]
    lows, highs = [np.zeros(0)], [np.zeros(0)]
    for block, relation, limit, name in (
        (matrix, relations, limits, "matrix"),
        (equal_matrix, "==", equal_limits, "equal_matrix"),
    ):
        if block is None:
            continue
        dense: Any = block if issparse(block) else np.atleast_2d(np.asarray(block, float))
        a: Any = csr_matrix(dense).astype(np.float64)
        if a.shape[1] != n:
            raise DataError(f"{name} has {a.shape[1]:,} columns for {n:,} costs")
        m = a.shape[0]
        if limit is None:
            raise DataError(f"{name} needs its limits")
        value = _vector(limit, m, "limits" if name == "matrix" else "equal_limits")
        signs = [relation] * m if isinstance(relation, str) else list(relation)
        if len(signs) != m:
            raise DataError(f"relations has {len(signs):,} entries for {m:,} rows")
        for i, sign in enumerate(signs):
            if sign not in RELATIONS:
                raise DataError(f"relations[{i}] is {sign!r}; it is one of <=, >=, ==")
        plain = np.array([RELATIONS[sign] for sign in signs], dtype=object)
        blocks.append(a)
        lows.append(np.where(plain == "<=", -np.inf, value))
        highs.append(np.where(plain == ">=", np.inf, value))
    return vstack(blocks, format="csr"), np.concatenate(lows), np.concatenate(highs)


def fill_from_problem(
    model: Model, problem: Problem, columns: Axis, rows: Axis, objective: str, *, maximize: bool
) -> None:
    """Give a model what a file holds as a whole problem: members go by the names of its rows and columns."""
    registry = model._registry
    registry.columns = problem.n
    numbers = np.arange(problem.n, dtype=np.int64)
    model._keep(
        Decisions(
            registry, columns.name, Cells((columns,)), problem.lower, problem.upper, "continuous", None,
            numbers=numbers, listed=True, kinds=problem.kinds,
        )
    )  # fmt: skip
    owner = np.repeat(numbers, np.diff(problem.starts))
    cells = Cells((rows,))
    left = Terms(
        registry, cells, problem.indices.astype(np.intp), owner, problem.values, np.zeros(problem.m), summed=True
    )
    sides = Sides(left, "between", None, problem.row_lower, problem.row_upper)
    model._keep(Constraints(rows.name, sides, listed=True))
    sign = -1.0 if maximize else 1.0
    used = np.flatnonzero(problem.costs)
    part = Terms(
        registry, Cells(()), np.zeros(len(used), np.intp), used.astype(np.int64), sign * problem.costs[used],
        np.array([sign * problem.offset]),
    )  # fmt: skip
    model._keep(Objective(objective, maximize, {objective: part}, single=True))
    model._arrays = (tuple(model._parts.values()), problem)
