"""Checks of an answer against the original problem: residuals, proofs of infeasibility, rays."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.engine.outcome import FEASIBILITY
from ruddock.engine.presolve.stage import Stage
from ruddock.engine.simplex.judge import Judge
from ruddock.problem import Floats, Problem

ROUNDING = 1e-11  # of all terms of a row's change along a ray: what counts as none
EXACT = 2.0**53  # up to here whole numbers add up without rounding


def feasible(problem: Problem, x: Floats, activity: Floats, lower: Floats, upper: Floats) -> bool:
    """Say whether ``x`` keeps the given column bounds and the rows within the tolerance."""
    return _within(activity, problem.row_lower, problem.row_upper) and _within(x, lower, upper)


def plan_holds(problem: Problem, plan: Floats, activity: Floats, lower: Floats, upper: Floats) -> bool:
    """Say whether a whole plan is feasible; rows of whole numbers are judged without any tolerance."""
    if not feasible(problem, plan, activity, lower, upper):
        return False
    below, above = problem.row_lower - activity, activity - problem.row_upper
    broken = np.flatnonzero(problem.whole_rows & ((below > 0) | (above > 0)))
    if not len(broken):
        return True
    # the sums are exact as long as no part of them is beyond 2^53; they are whole, so half a unit tells
    size = np.asarray(abs(csr_matrix(problem.matrix())[broken]) @ np.abs(plan))
    off = np.maximum(below, above)[broken]
    return not bool(((off >= 0.5) | (size > EXACT)).any())


def _within(values: Floats, lower: Floats, upper: Floats) -> bool:
    """Say whether no limit is exceeded by more than the tolerance, relative to limits beyond 1."""
    below = values >= lower - FEASIBILITY * np.maximum(1.0, np.abs(lower))
    above = values <= upper + FEASIBILITY * np.maximum(1.0, np.abs(upper))
    return bool(below.all() and above.all())


def possible(problem: Problem, lower: Floats, upper: Floats) -> bool:
    """Say whether no row alone is out of reach within the given column bounds."""
    least, most = Stage(replace(problem, lower=lower, upper=upper)).range
    room = 10 * FEASIBILITY * np.maximum(1.0, np.maximum(np.abs(least), np.abs(most)))
    return bool(((least <= problem.row_upper + room) & (most >= problem.row_lower - room)).all())


def proof_holds(problem: Problem, weights: Floats, lower: Floats, upper: Floats) -> bool:
    """Say whether the weighted sum of rows contradicts the bounds, with room for rounding."""
    p = problem
    judge = Judge((p.starts, p.indices, p.values), p.row_lower, p.row_upper, lower, upper, p.costs)
    return bool(judge.contradicts(np.array(weights, dtype=float)))


def ray_holds(problem: Problem, ray: Floats, lower: Floats, upper: Floats) -> bool:
    """Say whether the objective falls along ``ray`` while no row or bound ever stops it."""
    size = np.abs(ray).max(initial=0.0)
    if not np.isfinite(size) or size == 0.0:
        return False
    ray = ray / size
    change = problem.matrix() @ ray
    noise = ROUNDING * (abs(problem.matrix()) @ np.abs(ray))
    stopped = ((change > noise) & np.isfinite(problem.row_upper)) | ((change < -noise) & np.isfinite(problem.row_lower))
    stopped_bounds = ((ray > 0) & np.isfinite(upper)) | ((ray < 0) & np.isfinite(lower))
    falls = problem.costs @ ray < -1e-9 * max(1.0, float(np.abs(problem.costs) @ np.abs(ray)))
    return bool(falls and not stopped.any() and not stopped_bounds.any())
