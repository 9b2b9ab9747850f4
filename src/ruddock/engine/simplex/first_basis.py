"""Where the simplex method begins without a basis: at a network in the rows, or within bounds for missing ones."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from ruddock.engine.network.flow import MOST_PIVOTS, Arcs, Start, cheapest_flow, cheapest_flow_within, network_of
from ruddock.engine.outcome import BASIC, Limits, Outcome
from ruddock.engine.simplex import claims
from ruddock.engine.simplex.constants import DONE, INFEASIBLE
from ruddock.engine.simplex.warm import TOLERANCE, WarmBasis
from ruddock.problem import Problem

WORTH_A_START = 2000  # entries from which on a network within the rows is
WORTH_A_LOOK = 300  # entries from which on a network is looked for
BYTES_OF_ARC = 100  # while a flow is looked for
NEAREST_BOX, FARTHEST_BOX, FARTHER = 100.0, 1e8, 1000.0  # bounds in place of missing ones


def of_network(problem: Problem, arcs: Arcs | None, limits: Limits, iterations: int, bytes: float) -> Start | None:
    """Return the basis of a cheapest flow, where a problem, or most of its rows, are a network.

    Parameters
    ----------
    arcs : the problem as a network, where that is known
    iterations, bytes : made, and held, so far
    """

    def held() -> float:
        return bytes + BYTES_OF_ARC * (problem.n + problem.m)

    def halted(pivots: int) -> bool:
        limits.report(iterations + pivots, phase="network simplex")
        return limits.exceeded(iterations + pivots, held=held) is not None

    if problem.nonzeros < WORTH_A_LOOK or limits.exceeded(iterations, held=held) is not None:
        return None
    arcs = arcs or network_of(problem)
    most = int(min(limits.iterations - iterations, MOST_PIVOTS))
    if arcs is not None:
        return cheapest_flow(problem, arcs, halted, most)
    return cheapest_flow_within(problem, halted, most) if problem.nonzeros >= WORTH_A_START else None


def within_boxes(at: WarmBasis, run: Callable[[bool], int | Outcome]) -> Outcome | None:
    """Make a first basis dual feasible by bounds in place of missing ones, and run the dual method on that.

    A variable whose reduced cost has the wrong sign can then go to its other bound, and no cost has to be shifted,
    which the primal method would take long to undo. Where a variable ends at such a bound, it is moved out.

    Parameters
    ----------
    run : callable
        Runs the dual method, where asked with perturbed costs.

    Returns
    -------
    Outcome or None
        What ended the solve, if anything did.
    """
    core = at.core
    at.restore()
    lower, upper, costs = at.scaled
    d = np.asarray(core.d)
    open_below, open_above = np.isinf(lower), np.isinf(upper)
    wrong = (at.code != BASIC) & (((d < -TOLERANCE) & open_above) | ((d > TOLERANCE) & open_below))
    if not wrong.any() or core.primal_infeasibility() <= core.primal_tolerance:
        return None
    box, first = np.full(len(at.x), NEAREST_BOX), True
    while box.max() < FARTHEST_BOX:
        with np.errstate(invalid="ignore"):
            low = np.where(wrong & open_below, np.where(open_above, -box, upper - box), lower)
            high = np.where(wrong & open_above, np.where(open_below, box, lower + box), upper)
        core.restore(low, high, costs if first else np.array(core.cost))
        core.cost_changed = not first
        core.refactorise()
        core.recompute()
        result = run(first)
        outcome = result if isinstance(result, Outcome) else None
        if result == INFEASIBLE:
            outcome = claims.infeasible(at, at.dual)
        if outcome is not None and outcome.reason is not None:
            at.restore()  # what was reached, within the true bounds
            outcome = claims.stopped(at, outcome.reason)
        if outcome is not None or result not in (DONE, INFEASIBLE):
            return outcome
        there = (open_above & (at.x >= high)) | (open_below & (at.x <= low))
        there &= wrong & (at.code != BASIC)
        if result == DONE and not there.any():
            return None
        box[there if result == DONE else wrong] *= FARTHER
        first = False
    return None
