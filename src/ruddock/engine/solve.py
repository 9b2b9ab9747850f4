"""The engine's front: one `Problem` in, one `Outcome` out."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ruddock.engine import kernels as kernels  # warns once if they are not compiled
from ruddock.engine.linear import solve_linear
from ruddock.engine.outcome import Limits, Options, Outcome
from ruddock.engine.units import in_units
from ruddock.problem import Problem

LEAST_BYTES = 160  # for each entry, row and column


def solve(problem: Problem, limits: Limits | None = None, options: Options | None = None) -> Outcome:
    """Solve a linear or mixed-integer problem.

    Linear ones come back with dual values and a basis, infeasible ones with a proof, unbounded ones
    with a ray; mixed-integer ones with the best plan found, its bound and gap.
    """
    limits, options = limits or Limits(), options or Options()
    limits.record("start", rows=problem.m, columns=problem.n, entries=problem.nonzeros, integer=problem.discrete)
    outcome = _in_own_units(problem, limits, options)
    counters = outcome.counters
    counters.seconds = limits.elapsed()
    limits.record(
        "end",
        status=outcome.status,
        reason=outcome.reason,
        objective=outcome.objective,
        bound=outcome.bound,
        iterations=counters.iterations,
        nodes=counters.nodes,
        parts={name: round(value, 6) for name, value in counters.parts.items()},
    )
    return outcome


def _method(problem: Problem) -> Callable[[Problem, Limits, Options], Outcome]:
    if not problem.discrete:
        return solve_linear
    from ruddock.engine.tree.search import search_tree  # here, since linear problems do without all that it loads

    return search_tree


def _in_own_units(problem: Problem, limits: Limits, options: Options) -> Outcome:
    """Solve a problem in units of its own, and tell the outcome in those of the problem as written."""
    try:
        method = _method(problem)
        # what a solve needs at least, asked for at once: better to know now than in the middle of something
        np.empty(LEAST_BYTES * (problem.nonzeros + problem.m + problem.n), np.uint8)
        units = in_units(problem)
        if units.impossible:
            return Outcome("infeasible")
        if units.plain:
            return method(problem, limits, options)
        return units.outcome(method(units.problem, units.limits(limits), units.options(options)))
    except MemoryError:  # outside of all that keeps what it has
        return Outcome("stopped", "memory")
