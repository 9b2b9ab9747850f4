"""What a solver claims: a basis or a kernel's verdict turned into an outcome that is proven, or into nothing."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from ruddock.engine import certificates
from ruddock.engine.outcome import EQUAL, FEASIBILITY, OPTIMALITY, Outcome, Reason
from ruddock.engine.simplex.constants import BEYOND
from ruddock.engine.simplex.warm import WarmBasis
from ruddock.problem import Floats

NO_LIMIT = 2**62
NEAR_ENOUGH = 1e6  # beyond, rows add up with too much rounding
REFINED = 3  # times that weights are judged, more exact ones each time
SMALL = 1e-12  # of the largest entry of a ray: what may be rounding


def optimum(at: WarmBasis) -> Outcome | None:
    """Return the optimal outcome of the present basis if it holds on the original problem.

    Its bound is what the dual values prove: the objective itself, but for rounding, where they do prove it.
    """
    x, activity = at.values()
    if at.judge.excess > FEASIBILITY:
        return None
    y, reduced = at.duals(x, activity)
    judge, p = at.judge, at.data.problem
    if judge.wrong > OPTIMALITY:
        return None
    objective, bound = judge.objective + p.offset, min(judge.nearly, judge.objective) + p.offset
    if not judge.endless and bound >= objective - EQUAL * max(1.0, abs(objective)):
        bound = objective  # but for rounding
    elif bound == objective:
        bound = float(np.nextafter(objective, -np.inf))  # a limit that does not exist would have to hold
    return Outcome("optimal", None, x, activity, y, reduced, at.present, objective, bound)


def doubtful(outcome: Outcome) -> bool:
    """Say whether numbers left an outcome in doubt: none was found, or an optimum is far from its bound."""
    room = OPTIMALITY * max(1.0, abs(outcome.objective))
    return outcome.reason == "numerics" or (outcome.status == "optimal" and outcome.objective - outcome.bound > room)


def stopped(at: WarmBasis, reason: Reason | None) -> Outcome:
    """Return what is known: the bound that the dual values prove, and the present values if they are feasible."""
    x, activity = at.values()
    judge, p = at.judge, at.data.problem
    feasible = judge.excess <= FEASIBILITY
    y, _ = at.duals(x, activity)
    nowhere = ((y > 0) & np.isinf(p.row_lower)) | ((y < 0) & np.isinf(p.row_upper))
    if judge.endless and nowhere.any():  # a dual value on a side without a limit proves nothing: without it
        judge.duals(np.where(nowhere, 0.0, y), at.code, x, activity, np.empty(p.n))
    bound = -np.inf if judge.endless or not np.isfinite(judge.nearly) else judge.nearly + p.offset
    if not feasible:
        return Outcome("stopped", reason, bound=bound)
    objective = judge.objective + p.offset
    basis = at.present
    return Outcome(
        "stopped", reason, x=x, activity=activity, basis=basis, objective=objective, bound=min(bound, objective)
    )


def beyond(at: WarmBasis, cutoff: float) -> Outcome | None:
    """Return the outcome of an objective that the dual method has seen pass a cutoff, if dual values prove it."""
    at.duals(*at.values())
    bound = at.judge.nearly + at.data.problem.offset
    proven = not at.judge.endless and bound >= cutoff - EQUAL * max(1.0, abs(cutoff))
    return Outcome("stopped", bound=bound) if proven else None


def infeasible(at: WarmBasis, kernel: Any) -> Outcome | None:
    """Return the infeasible outcome that a kernel's row or sum of infeasibilities proves, if it does."""
    data, m = at.data, at.data.problem.m
    wanted = np.zeros(m)  # what the weighted rows come to on the basic variables, by position
    if kernel is at.dual:
        wanted[kernel.position] = kernel.direction
        weights = np.asarray(kernel.core.rho.value)[:m] * kernel.direction
    else:
        wanted[:] = np.asarray(kernel.phase_cost)[at.head]
        weights = wanted.copy()
        at.core.solve_backward(weights)
    wanted /= data.unit[at.head]
    weights *= data.rows
    for _ in range(REFINED):
        size = np.abs(weights).max(initial=0.0)
        for floor in (1e-9, 0.0):
            proof = np.where(np.abs(weights) > floor * size, weights, 0.0)
            if certificates.proof_holds(data.problem, proof, data.lower, data.upper):
                return Outcome("infeasible", proof=proof)
        # what rounding leaves on a column without a bound would do away with any contradiction
        at.refine(weights, wanted)
    return None


def ray(at: WarmBasis, budget: int) -> Floats | None:
    """Return the direction that the primal method found, if it leads on for ever on the original problem."""
    data, core, primal = at.data, at.core, at.primal
    if core.bounds_changed:
        at.restore()
        if core.primal_infeasibility() > core.primal_tolerance:
            return None
        primal.start()
        if primal.run(budget, NO_LIMIT) != BEYOND:
            return None
    direction = np.zeros(len(at.x))
    direction[at.head] = -primal.direction * np.asarray(core.column.value)[: data.problem.m]
    direction[primal.entering] = primal.direction
    direction *= data.unit
    n = data.problem.n
    for _ in range(2):  # refined: rows change by what their logicals do
        missing = data.problem.activity(direction[:n]) - direction[n:]
        direction[at.head] -= at.forward(missing)
    found = direction[:n]
    found[np.abs(found) < 1e-14 * np.abs(found).max()] = 0.0
    # what is left of rounding must not lead out of a bound
    out = ((found < 0) & np.isfinite(data.lower)) | ((found > 0) & np.isfinite(data.upper))
    found[out & (np.abs(found) < SMALL * np.abs(found).max())] = 0.0
    holds = certificates.ray_holds(replace(data.problem, costs=data.costs), found, data.lower, data.upper)
    return found if holds else None


def unbounded(at: WarmBasis, direction: Floats) -> Outcome | None:
    """Return the unbounded outcome of a ray from the present point, if that is feasible and near enough to be sure."""
    x, activity = at.values()
    if at.judge.excess > FEASIBILITY or np.abs(x).max(initial=0.0) > NEAR_ENOUGH:
        return None
    objective = at.judge.objective + at.data.problem.offset
    return Outcome("unbounded", x=x, activity=activity, ray=direction, basis=at.present, objective=objective)
