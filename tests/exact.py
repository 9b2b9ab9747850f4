"""The judge: answers of the engine checked in rational arithmetic.

An optimal answer is recomputed from its basis alone: x and y are solved for exactly, so that the
tolerances of the engine cannot hide an error. Proofs of infeasibility and rays are added up exactly;
only coefficients that must vanish, because a bound is infinite, may miss zero by rounding.
"""

from __future__ import annotations

from fractions import Fraction

import numpy as np

from ruddock.engine.outcome import AT_LOWER, AT_UPPER, BASIC, FREE, Outcome
from ruddock.problem import Problem

VIOLATION = Fraction(1, 10**8)  # what an exact basic solution may exceed a limit by, relative to it
AGREEMENT = 1e-6  # reported against exact values, relative
VANISHES = Fraction(1, 10**9)  # part of the terms added up that counts as rounding


def judge(problem: Problem, outcome: Outcome) -> None:
    """Assert that an outcome is what it says."""
    if outcome.status == "optimal":
        judge_optimal(problem, outcome)
    elif outcome.status == "infeasible":
        judge_infeasible(problem, outcome)
    elif outcome.status == "unbounded":
        judge_unbounded(problem, outcome)
    else:
        raise AssertionError(f"no proven answer: {outcome.status}, {outcome.reason}")


def columns_of(problem: Problem) -> list[dict[int, Fraction]]:
    """Return the matrix by columns, exactly."""
    starts = problem.starts
    return [
        {int(problem.indices[k]): Fraction(problem.values[k]) for k in range(starts[j], starts[j + 1])}
        for j in range(problem.n)
    ]


def solve_exactly(rows: list[dict[int, Fraction]], right: list[Fraction]) -> list[Fraction]:
    """Solve a square sparse system by elimination, cheapest pivot first; raise if it is singular."""
    size = len(rows)
    rows = [dict(row) for row in rows]
    right = list(right)
    holders: list[set[int]] = [set() for _ in range(size)]
    for i, row in enumerate(rows):
        for j in row:
            holders[j].add(i)
    active = set(range(size))
    order: list[tuple[int, int]] = []
    while active:
        i = min(active, key=lambda r: (len(rows[r]), r))
        assert rows[i], "the basis is singular"
        j = min(rows[i], key=lambda c: (len(holders[c]), c))
        order.append((i, j))
        active.discard(i)
        pivot = rows[i][j]
        for k in rows[i]:
            holders[k].discard(i)
        for r in list(holders[j]):
            factor = rows[r].pop(j) / pivot
            holders[j].discard(r)
            for k, value in rows[i].items():
                if k == j:
                    continue
                new = rows[r].get(k, Fraction(0)) - factor * value
                if new:
                    rows[r][k] = new
                    holders[k].add(r)
                elif k in rows[r]:
                    del rows[r][k]
                    holders[k].discard(r)
            right[r] -= factor * right[i]
    solution = [Fraction(0)] * size
    for i, j in reversed(order):
        rest = sum((value * solution[k] for k, value in rows[i].items() if k != j), Fraction(0))
        solution[j] = (right[i] - rest) / rows[i][j]
    return solution


def judge_optimal(problem: Problem, outcome: Outcome) -> None:
    """Recompute x and y from the basis exactly; check bounds, signs and the reported values."""
    m, n = problem.m, problem.n
    assert outcome.basis is not None and outcome.x is not None and outcome.y is not None
    codes = np.concatenate((outcome.basis.columns, outcome.basis.rows))
    lower = np.concatenate((problem.lower, problem.row_lower))
    upper = np.concatenate((problem.upper, problem.row_upper))
    columns = columns_of(problem) + [{i: Fraction(-1)} for i in range(m)]
    basic = [int(j) for j in np.flatnonzero(codes == BASIC)]
    assert len(basic) == m, "a basis has one variable per row"
    x = [Fraction(0)] * (n + m)
    for j in range(n + m):
        if codes[j] == AT_LOWER:
            x[j] = Fraction(lower[j])
        elif codes[j] == AT_UPPER:
            x[j] = Fraction(upper[j])
    right = [Fraction(0)] * m
    for j in range(n + m):
        if codes[j] != BASIC and x[j]:
            for i, value in columns[j].items():
                right[i] -= value * x[j]
    rows: list[dict[int, Fraction]] = [{} for _ in range(m)]
    for position, j in enumerate(basic):
        for i, value in columns[j].items():
            rows[i][position] = value
    for position, value in enumerate(solve_exactly(rows, right)):
        x[basic[position]] = value
    costs = [Fraction(c) for c in problem.costs] + [Fraction(0)] * m
    y = solve_exactly([columns[j] for j in basic], [costs[j] for j in basic])
    reduced = [costs[j] - sum((y[i] * v for i, v in columns[j].items()), Fraction(0)) for j in range(n + m)]
    for j in range(n + m):
        size = 1 + abs(x[j])
        assert np.isneginf(lower[j]) or x[j] >= Fraction(lower[j]) - VIOLATION * size, f"variable {j} below its bound"
        assert np.isposinf(upper[j]) or x[j] <= Fraction(upper[j]) + VIOLATION * size, f"variable {j} above its bound"
        if codes[j] == BASIC or lower[j] == upper[j]:
            continue
        scale = VIOLATION * (1 + abs(costs[j]) + sum((abs(y[i] * v) for i, v in columns[j].items()), Fraction(0)))
        assert codes[j] != AT_LOWER or reduced[j] >= -scale, f"variable {j} would gain by rising"
        assert codes[j] != AT_UPPER or reduced[j] <= scale, f"variable {j} would gain by falling"
        assert codes[j] != FREE or abs(reduced[j]) <= scale, f"free variable {j} would gain by moving"
    close(outcome.x, x[:n], "x")
    close(outcome.activity, x[n:], "activity")
    close(outcome.y, y, "y")
    close(outcome.reduced, reduced[:n], "reduced cost")
    value = sum((c * v for c, v in zip(costs, x, strict=True)), Fraction(problem.offset))
    assert abs(float(value) - outcome.objective) <= AGREEMENT * (1 + abs(float(value))), "objective"


def close(reported: object, exact: list[Fraction], what: str) -> None:
    """Assert that reported values agree with exact ones."""
    wanted = np.array([float(v) for v in exact])
    given = np.asarray(reported, dtype=float)
    assert given.shape == wanted.shape
    size = 1 + np.abs(wanted).max(initial=0.0)
    worst = np.abs(given - wanted).max(initial=0.0)
    assert worst <= AGREEMENT * size, f"{what} differs by {worst:g} at a size of {size:g}"


def judge_infeasible(problem: Problem, outcome: Outcome) -> None:
    """Add up the weighted rows exactly and check that they contradict the bounds."""
    crossed = [j for j in range(problem.n) if problem.lower[j] > problem.upper[j]]
    if crossed:
        assert set(crossed) == set(outcome.crossed_columns)
        return
    assert outcome.proof is not None, "infeasible without a proof"
    weights = [Fraction(w) for w in outcome.proof]
    demand = Fraction(0)
    for i, w in enumerate(weights):
        if w:
            limit = problem.row_lower[i] if w > 0 else problem.row_upper[i]
            assert np.isfinite(limit), f"row {i} has no such limit"
            demand += w * Fraction(limit)
    supply = Fraction(0)
    for j, column in enumerate(columns_of(problem)):
        total = sum((weights[i] * v for i, v in column.items()), Fraction(0))
        bound = problem.upper[j] if total > 0 else problem.lower[j]
        if not total:
            continue
        if np.isfinite(bound):
            supply += total * Fraction(bound)
        else:
            size = sum((abs(weights[i] * v) for i, v in column.items()), Fraction(0))
            assert abs(total) <= VANISHES * size, f"column {j} can grow without limit"
    assert demand > supply, "the weighted rows do not contradict the bounds"


def judge_unbounded(problem: Problem, outcome: Outcome) -> None:
    """Check the feasible point, and that the ray improves and is never stopped."""
    assert outcome.x is not None and outcome.ray is not None
    columns = columns_of(problem)
    x = [Fraction(v) for v in outcome.x]
    ray = [Fraction(v) for v in outcome.ray]
    activity, change, size = ([Fraction(0)] * problem.m for _ in range(3))
    for j, column in enumerate(columns):
        for i, value in column.items():
            activity[i] += value * x[j]
            change[i] += value * ray[j]
            size[i] += abs(value * ray[j])
    tolerance = Fraction(1, 10**6)
    for values, lower, upper in ((x, problem.lower, problem.upper), (activity, problem.row_lower, problem.row_upper)):
        for value, low, high in zip(values, lower, upper, strict=True):
            slack = tolerance * (1 + abs(value))
            assert np.isneginf(low) or value >= Fraction(low) - slack
            assert np.isposinf(high) or value <= Fraction(high) + slack
    for j, step in enumerate(ray):
        assert not (step > 0 and np.isfinite(problem.upper[j])), f"column {j} hits its upper bound"
        assert not (step < 0 and np.isfinite(problem.lower[j])), f"column {j} hits its lower bound"
    for i in range(problem.m):
        noise = VANISHES * size[i]
        assert change[i] <= noise or np.isposinf(problem.row_upper[i]), f"row {i} stops the ray"
        assert change[i] >= -noise or np.isneginf(problem.row_lower[i]), f"row {i} stops the ray"
    gain = sum((Fraction(c) * r for c, r in zip(problem.costs, ray, strict=True)), Fraction(0))
    assert gain < 0, "the objective does not fall along the ray"
