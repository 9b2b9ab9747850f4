"""Where the simplex method begins without a basis: at a network in the rows, or within bounds for missing ones."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from ruddock.engine.network.flow import MOST_PIVOTS, Arcs, Start, cheapest_flow, cheapest_flow_within, network_of
from ruddock.engine.outcome import BASIC, Limits, Outcome
from ruddock.engine.simplex import claims
from ruddock.engine.simplex.constants import DONE, INFEASIBLE
from ruddock.engine.simplex.warm import TOLERANCE, WarmBasis
from ruddock.problem import Floats, Problem

Places = npt.NDArray[np.intp]

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
    places = _open(at)
    if not len(places) or core.primal_infeasibility() <= core.primal_tolerance:
        return None
    box, first = np.full(len(places), NEAREST_BOX), True
    while box.max() < FARTHEST_BOX:
        low, high = _put_in_boxes(at, places, box, first=first)
        result = run(first)
        outcome = result if isinstance(result, Outcome) else None
        if result == INFEASIBLE:
            outcome = claims.infeasible(at, at.dual)
        if outcome is not None and outcome.reason is not None:
            at.restore()  # what was reached, within the true bounds
            outcome = claims.stopped(at, outcome.reason)
        if outcome is not None or result not in (DONE, INFEASIBLE):
            return outcome
        x, (lower, upper) = at.x[places], (bounds[places] for bounds in at.scaled[:2])
        there = ((upper == np.inf) & (x >= high)) | ((lower == -np.inf) & (x <= low))
        there &= at.code[places] != BASIC
        if result == DONE and not there.any():
            return None
        box[there if result == DONE else slice(None)] *= FARTHER
        first = False
    return None


def _open(at: WarmBasis) -> Places:
    """Return the variables whose reduced cost has the wrong sign for want of the other bound."""
    lower, upper, _ = at.scaled
    d = np.asarray(at.core.d)
    open_below, open_above = np.isinf(lower), np.isinf(upper)
    wrong = ((d < -TOLERANCE) & open_above) | ((d > TOLERANCE) & open_below)
    return np.flatnonzero(wrong & (at.code != BASIC))


def _put_in_boxes(at: WarmBasis, places: Places, box: Floats, *, first: bool) -> tuple[Floats, Floats]:
    """Give variables bounds in place of missing ones, so far from the others, and compute anew; return the bounds."""
    core, (lower, upper, costs) = at.core, at.scaled
    low, high = lower.copy(), upper.copy()
    below, above = lower[places], upper[places]
    low[places] = np.where(below == -np.inf, np.where(above == np.inf, -box, above - box), below)
    high[places] = np.where(above == np.inf, np.where(below == -np.inf, box, below + box), above)
    core.restore(low, high, costs if first else np.array(core.cost))
    core.cost_changed = not first
    core.refactorise()
    core.recompute()
    return low[places], high[places]
