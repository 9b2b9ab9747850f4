"""The engine's front: one `Problem` in, one `Outcome` out."""

from __future__ import annotations

import numpy as np

from ruddock.engine import kernels as kernels  # warns once if they are not compiled
from ruddock.engine.linear import solve_linear
from ruddock.engine.memory import running_out
from ruddock.engine.outcome import Limits, Options, Outcome, Solve
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
    try:
        _ask_for_memory(problem)
        outcome = _solve(problem, limits, options)
    except MemoryError:  # outside of all that keeps what it has
        outcome = Outcome("stopped", "memory")
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


def _ask_for_memory(problem: Problem) -> None:
    """Raise MemoryError where there is less than a solve needs at least: better known now than in its middle."""
    if running_out():
        raise MemoryError
    np.empty(LEAST_BYTES * (problem.nonzeros + problem.m + problem.n), np.uint8)


def _solve(problem: Problem, limits: Limits, options: Options) -> Outcome:
    """Solve a problem in units of its own; a whole-number problem first becomes smaller, which changes its units."""
    if not problem.discrete:
        return _in_own_units(problem, limits, options, solve_linear)
    # here, since linear problems do without all that these load
    from ruddock.engine.tree.brief import brief_search
    from ruddock.engine.tree.reduced import Reduced
    from ruddock.engine.tree.search import search_tree

    def rest(problem: Problem, limits: Limits, options: Options) -> Outcome:
        return _in_own_units(problem, limits, options, search_tree if problem.discrete else solve_linear)

    def smaller(problem: Problem, limits: Limits, options: Options) -> Outcome:
        brief = brief_search(problem, limits, options)
        if brief is not None:
            return brief
        reduced = Reduced.of(problem, limits, options)
        return search_tree(problem, limits, options) if reduced is None else reduced.solve(rest, limits, options)

    return _in_own_units(problem, limits, options, smaller)


def _in_own_units(problem: Problem, limits: Limits, options: Options, work: Solve) -> Outcome:
    """Solve a problem in units of its own, and tell the outcome in those of the problem as written."""
    units = in_units(problem)
    if units.impossible:
        return Outcome("infeasible")
    if not units.plain:
        return units.outcome(work(units.problem, units.limits(limits), units.options(options)))
    del units  # with all its factors of 1
    return work(problem, limits, options)
