"""What the methods for large linear problems would take, counted in entries touched, before any of them begins.

The simplex method begins, and counts what it touches. So which of the others takes over, and when, is the same on every
run, however busy the machine is.
"""

from __future__ import annotations

from typing import Literal, NamedTuple

import numpy as np

from ruddock.engine.outcome import Limits
from ruddock.problem import Problem

MANY_ROWS = 80_000
MOST_WORK = 1e10  # multiplications of one step of the interior-point method, at most
MOST_BYTES = 2e9  # of its factors, at most, where nobody asked for it
RIVALLED = 1000  # rows from which on another method may take over
HEAD_START = 80_000_000  # entries that the simplex method touches before that is thought of: half a second's worth
BET = 0.15  # of what the other method would touch: after that the simplex method is not expected to end first
LATE_BET = 0.5  # the same on few columns of a wide problem, where it ends sooner than elsewhere
STEPS_WORK, SIZE_WORK = 3.5, 400.0  # touched by all interior steps, for a multiplication and for an entry
SOLVES = 5.0  # with the factors, in one step
PUSH_WORK = 1.2  # by the crossover, which pushes about each row once, with a solve as long as there are rows ...
REACH = 30.0  # ... or as this many times the entries that a column of the factors has
GRADIENT_STEPS, STEP_WORK = 5000, 2.5  # that the first-order method takes, about, and what one touches for an entry
THIN = 8.0  # entries by row of the normal equations, at most


class Rival(NamedTuple):
    """A method that may take over, and what it would touch."""

    method: Literal["interior", "first-order"]
    work: float


def rival(problem: Problem, limits: Limits, iterations: int) -> Rival:
    """Return the method that would end sooner, where the simplex method takes long."""
    size = problem.nonzeros + problem.m + problem.n
    gradient = GRADIENT_STEPS * STEP_WORK * size + PUSH_WORK * problem.m**2
    interior = _interior_work(problem, limits, iterations) + SIZE_WORK * size
    return Rival("interior", interior) if interior <= gradient else Rival("first-order", gradient)


def _interior_work(problem: Problem, limits: Limits, iterations: int) -> float:
    """Return what all interior steps and the crossover touch in factors; infinite where that is out of reach."""
    # here, since its import of SciPy's factorisations takes longer than many a solve
    from ruddock.engine.interior.normal import NormalEquations, StoppedError, TooDenseError

    try:
        normal = NormalEquations(
            problem.matrix(),
            lambda: limits.exceeded(iterations) is not None,
            MOST_WORK,
            min(limits.memory, MOST_BYTES),
        )
    except (StoppedError, TooDenseError, MemoryError):
        return float("inf")
    pushes = PUSH_WORK * min(problem.m**2, REACH * normal.entries)
    return float(STEPS_WORK * (normal.work + SOLVES * normal.solve_work) + pushes)


def interior_pays(problem: Problem) -> bool:
    """Say whether the interior-point method may be the faster one from the start; its factors are counted before.

    It was so on models of many rows that hang together in long, thin chains, whose normal equations
    stay sparse, such as multi-period stock of 100,000 rows.
    """
    counts = np.diff(problem.starts).astype(float)
    return problem.m >= MANY_ROWS and float(counts @ counts) <= THIN * problem.m
