"""Several objectives in order: each is made as good as the ones before it leave room for."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace

import numpy as np

from ruddock.engine.outcome import Basis, Limits, Options, Outcome
from ruddock.engine.solve import solve
from ruddock.problem import Problem

KEEP = 1e-9  # relative room that a later objective leaves to what an earlier one reached


@dataclass(frozen=True)
class Give:
    """How much of an objective later ones may give up: a share of its value, or an amount."""

    share: float = 0.0
    amount: float = 0.0

    def room(self, value: float) -> float:
        """Return the room beside a value that was reached."""
        return max(self.share * abs(value) + self.amount, KEEP * max(1.0, abs(value)))


def solve_in_order(
    problems: Sequence[Problem],
    gives: Sequence[Give],
    limits: Limits,
    options: Options,
    begin: Callable[[int], None] = lambda k: None,
) -> tuple[Outcome, list[float]]:
    """Solve problems that differ in their costs alone, one after another.

    Parameters
    ----------
    gives : as many, how much each may lose to the later ones
    begin : told the number of each before it is solved

    Returns
    -------
    outcome : Outcome
        Of the last one solved, without the rows that hold earlier objectives. Where it was stopped before it had a
        plan, the plan of the one before.
    tops : list of float
        What ``costs x`` of the earlier problems may come to at most; as many as were solved before the last.
    """
    m = problems[0].m
    tops: list[float] = []
    before: Outcome | None = None
    for k, problem in enumerate(problems):
        begin(k)
        outcome = solve(with_held(problem, problems[:k], tops), limits, options)
        activity, y, proof = (_first(values, m) for values in (outcome.activity, outcome.y, outcome.proof))
        outcome = replace(outcome, activity=activity, y=y, proof=proof)
        if outcome.x is None and before is not None:
            assert before.x is not None
            value = problem.objective(before.x)
            outcome = replace(before, status="stopped", reason=outcome.reason or "numerics", objective=value)
            return replace(outcome, bound=float("-inf"), y=None, reduced=None), tops
        if outcome.status != "optimal" or k == len(problems) - 1:
            return outcome, tops
        tops.append(outcome.objective - problem.offset + gives[k].room(outcome.objective))
        before, options = outcome, _from_here(options, outcome)
    raise AssertionError("the last problem returns")


def with_held(problem: Problem, earlier: Sequence[Problem], tops: Sequence[float]) -> Problem:
    """Return a problem with a row for each earlier one, which holds its ``costs x``."""
    if not earlier:
        return problem
    rows = np.array([part.costs for part in earlier])
    return problem.with_rows(rows, np.full(len(rows), -np.inf), np.array(tops, float))


def _first(values: np.ndarray | None, m: int) -> np.ndarray | None:
    return None if values is None else values[:m]


def _from_here(options: Options, outcome: Outcome) -> Options:
    """Start the next one from this one's plan, or from its basis with the rows that hold objectives."""
    basis = outcome.basis
    if basis is not None:
        basis = Basis(basis.columns, np.concatenate((basis.rows, np.zeros(1, np.int8))))
    return replace(options, start=outcome.x, basis=basis)
