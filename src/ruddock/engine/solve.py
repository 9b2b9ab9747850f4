"""The engine's front: one `Problem` in, one `Outcome` out."""

from __future__ import annotations

from ruddock.engine import kernels as kernels  # warns once if they are not compiled
from ruddock.engine.outcome import Limits, Outcome
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.tree.search import TreeSearch
from ruddock.problem import Problem


def solve(problem: Problem, limits: Limits | None = None) -> Outcome:
    """Solve a linear or mixed-integer problem.

    Linear ones come back with dual values and a basis, infeasible ones with a proof, unbounded ones
    with a ray; mixed-integer ones with the best plan found, its bound and gap.
    """
    limits = limits or Limits()
    outcome = TreeSearch(problem, limits).run() if problem.discrete else LinearSolver(problem).solve(limits)
    outcome.counters.seconds = limits.elapsed()
    return outcome
