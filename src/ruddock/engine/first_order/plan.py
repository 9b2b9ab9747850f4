"""A plan and a bound by the first-order method, each judged on the problem as it is."""

from __future__ import annotations

from contextlib import suppress
from dataclasses import dataclass, replace

import numpy as np

from ruddock.engine import certificates
from ruddock.engine.first_order.restarted import ACCURACY, Approximate, HaltedError, Restarted
from ruddock.engine.outcome import AT_LOWER, Counters, Limits, Outcome, Reason
from ruddock.engine.simplex.judge import Judge
from ruddock.problem import Floats, Problem

SHARE = 0.8  # of the time that is left, after which what there is is made a plan


@dataclass(eq=False, repr=False)
class Found:
    """What the method came to.

    Attributes
    ----------
    plan : Outcome
        Stopped: with a plan that keeps all limits, where there is one, and the bound that dual values prove.
    near : Approximate
        The point within the method's accuracy, from which a crossover may start.
    """

    plan: Outcome
    near: Approximate


def first_order(
    problem: Problem,
    limits: Limits,
    counters: Counters,
    steps: int,
    *,
    plan: bool = True,
    accuracy: float = ACCURACY,
) -> Found:
    """Solve within the accuracy of the method, then bring the point to where it keeps all limits.

    Parameters
    ----------
    steps : of each of the three parts, at most: to the optimum, to feasible values, and to prices that prove a bound
    plan : whether a plan is wanted, beside the point within the accuracy
    accuracy : relative, of that point
    """
    most = limits.elapsed() + SHARE * (limits.seconds - limits.elapsed())

    def told(made: int, objective: float, bound: float, missed: float) -> bool:
        limits.record("first-order step", step=made, objective=objective, bound=bound)
        limits.report(made, phase="first-order method", infeasibility=lambda: missed)
        return stopped() or limits.elapsed() >= most

    def stopped() -> bool:
        return limits.exceeded(counters.iterations) is not None

    def feasible(x: Floats) -> bool:
        return certificates.feasible(problem, x, problem.activity(x), problem.lower, problem.upper)

    def proves(y: Floats) -> bool:
        return _bound(problem, near.x, y) > -np.inf

    method = Restarted(problem, told, steps, accuracy, stopped=stopped)
    near = method.solve()
    x, bound = None, _bound(problem, near.x, near.y)
    with suppress(HaltedError):
        if plan and (near.converged or limits.elapsed() >= most):
            x = method.polish(near.x, feasible)
            y = method.polish_prices(near.y, proves) if bound == -np.inf else None
            bound = bound if y is None else _bound(problem, near.x, y)
    counters.gradient_steps += method.steps
    reason: Reason = "accuracy" if near.converged else "time" if limits.elapsed() >= most else "iterations"
    reason = limits.exceeded(counters.iterations) or reason
    outcome = Outcome("stopped", reason, bound=bound)
    if x is not None:
        objective = problem.objective(x)
        outcome = replace(
            outcome, x=x, activity=problem.activity(x), objective=objective, bound=min(outcome.bound, objective)
        )
    return Found(outcome, near)


def _bound(problem: Problem, x: Floats, y: Floats) -> float:
    """Return the lower bound that dual values prove; minus infinity where they prove none."""
    p = problem
    y = np.where((y > 0) & np.isinf(p.row_lower) | (y < 0) & np.isinf(p.row_upper), 0.0, y)
    if not np.isfinite(y).all():
        return -np.inf
    judge = Judge((p.starts, p.indices, p.values), p.row_lower, p.row_upper, p.lower, p.upper, p.costs)
    codes = np.full(p.n + p.m, AT_LOWER, np.int8)
    judge.duals(y, codes, x, p.activity(x), np.empty(p.n))
    return -np.inf if judge.endless or not np.isfinite(judge.nearly) else judge.nearly + p.offset
