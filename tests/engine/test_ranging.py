"""Prices and ranges confirmed by solving again just inside and just outside of each."""

from __future__ import annotations

import numpy as np
import pytest

from ruddock.engine.ranging import Ranging, Side
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.solve import solve
from ruddock.problem import Problem
from tests.generators import inf, random_lp

STRUCTURES = ("mixed", "equalities", "degenerate", "transport", "staircase", "boxed", "free")
SIZES = ((4, 6), (6, 10), (9, 14))


class Again:
    """The optimal value of a problem with one limit or one cost changed."""

    def __init__(self, problem: Problem) -> None:
        self.problem, self.solver = problem, LinearSolver(problem)

    def value(self) -> float:
        outcome = self.solver.solve()
        return {"infeasible": inf, "unbounded": -inf}.get(outcome.status, outcome.objective)

    def limit(self, row: int, side: str, change: float) -> float:
        p = self.problem
        low = p.row_lower[row] + (change if side != "upper" else 0.0)
        high = p.row_upper[row] + (change if side != "lower" else 0.0)
        self.solver.change_limits(row, low, high)
        result = self.value()
        self.solver.change_limits(row, p.row_lower[row], p.row_upper[row])
        return result

    def cost(self, column: int, change: float) -> float:
        self.solver.change_costs(column, self.problem.costs[column] + change)
        result = self.value()
        self.solver.change_costs(column, self.problem.costs[column])
        return result


def sides(problem: Problem, row: int) -> list[str]:
    low, high = problem.row_lower[row], problem.row_upper[row]
    if low == high:
        return ["both"]
    return [name for name, limit in (("lower", low), ("upper", high)) if np.isfinite(limit)]


def confirm_limit(again: Again, value: float, row: int, side: str, step: float, found: Side) -> None:
    if np.isinf(found.price):
        assert again.limit(row, side, step * 1e-3) == inf
        return
    inside = min(found.reach, 1e4) * 0.999 * step
    assert again.limit(row, side, inside) == pytest.approx(value + found.price * inside, rel=1e-7, abs=1e-7)
    assert found.reach > 0
    if found.ends != "never":
        beyond = step * (found.reach + 0.01 * max(1.0, found.reach))
        then = again.limit(row, side, beyond)
        if found.ends == "no plan":
            assert then == inf
        else:
            assert value + found.price * beyond + 1e-9 < then


def confirm_cost(again: Again, x: float, value: float, column: int, step: float, room: float) -> None:
    inside = min(room, 1e3) * 0.999 * step
    assert again.cost(column, inside) == pytest.approx(value + inside * x, rel=1e-8, abs=1e-8)
    if np.isfinite(room):
        beyond = step * (room + 0.1 * max(1.0, room))
        assert again.cost(column, beyond) < value + beyond * x - 1e-8 * (1 + abs(value))


def test_prices_and_ranges_hold_inside_and_end_where_they_say() -> None:
    problems = differing = 0
    for seed in range(8):
        for structure in STRUCTURES:
            problem = random_lp(structure, 300 + seed, *SIZES[seed % 3], "optimal")
            outcome = solve(problem)
            if outcome.status != "optimal":
                continue
            assert outcome.x is not None
            ranging, again, value = Ranging(problem, outcome), Again(problem), outcome.objective
            again.value()
            two_sided = False
            for row in range(problem.m):
                for side in sides(problem, row):
                    more, less = (ranging.side(row, side, step) for step in (1.0, -1.0))
                    two_sided |= more.price != pytest.approx(less.price, abs=1e-7)
                    for step, found in ((1.0, more), (-1.0, less)):
                        confirm_limit(again, value, row, side, step, found)
            for column in range(problem.n):
                for step in (1.0, -1.0):
                    room, _ = ranging.room(column, step)
                    confirm_cost(again, float(outcome.x[column]), value, column, step, room)
            problems += 1
            differing += two_sided
    assert problems >= 50
    assert differing >= 10


def test_what_gives_way_when_a_waiting_decision_comes_in() -> None:
    # one resource; the second column earns less per unit of it, by 1
    problem = Problem.build([[1.0, 1.0]], [-inf], [10], [0, 0], [inf, inf], [-3, -2])
    outcome = solve(problem)
    room, direction = Ranging(problem, outcome).room(1, -1.0)
    assert room == pytest.approx(1.0)
    assert direction is not None
    assert direction.tolist() == [-1.0, 1.0]
