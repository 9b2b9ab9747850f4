"""Early plans: the caller's start, jumps, rounding, diving, the feasibility pump, and searches near good plans.

Each has a budget, so that none holds the search up; what they find is judged on the problem as it is.
"""

from __future__ import annotations

from ruddock.engine.outcome import Outcome
from ruddock.engine.tree.frontier import Node
from ruddock.engine.tree.heuristics.diving import Box, dive
from ruddock.engine.tree.heuristics.jumping import jump, jump_around, jump_on
from ruddock.engine.tree.heuristics.near import (
    Found,
    Near,
    affords,
    finish_dive,
    keep_start,
    near_plan,
    search_around,
    try_start,
)
from ruddock.engine.tree.heuristics.point import Point
from ruddock.engine.tree.heuristics.polish import polish
from ruddock.engine.tree.heuristics.pump import pump
from ruddock.engine.tree.heuristics.rounding import fix_and_propagate, round_all, round_by_locks
from ruddock.engine.tree.heuristics.shrinking import dive_by_shrinking
from ruddock.engine.tree.state import SearchState
from ruddock.problem import Floats

__all__ = ["Found", "Near", "Point", "due", "jump", "keep_start", "look_for_plans", "near_plan", "try_start"]

DIVE_EVERY = 100  # nodes between two dives while searching, until there is a plan
LATER_EVERY = 200  # and after
DIVE_START, DIVE_SHARE = 5000, 0.2  # of all iterations that dives may take: so many, and this share
PATIENCE = 5  # dives in vain after which that share is halved
LONG = 5000  # iterations of the root's relaxation, after which dives from it take long and come later
MANY = 20_000  # columns from which on dives from such a relaxation take out what is decided
NEAR_EVERY = 50  # nodes between two searches near a plan


def due(state: SearchState, node: Node) -> bool:
    """Say whether to look for plans at a node."""
    number = state.effort.own_nodes
    return state.options.heuristics and (node.depth == 0 or number % _between(state) == 0 or number % NEAR_EVERY == 0)


def _between(state: SearchState) -> int:
    """Return how many nodes lie between two dives."""
    return DIVE_EVERY if state.incumbent.best is None else LATER_EVERY


def look_for_plans(
    state: SearchState,
    node: Node,
    outcome: Outcome,
    here: Box,
    near: Near,
    *,
    cuts_follow: bool = False,
) -> None:
    """Look for plans where it pays: at the root, and now and then.

    Parameters
    ----------
    cuts_follow : whether cuts are about to move the point: where relaxations take long, it is only rounded before
    """
    if outcome.x is None or not due(state, node):
        return
    root, number, every = node.depth == 0, state.effort.own_nodes, _between(state)
    outer, point = not state.options.inner, Point(outcome.x, outcome.reduced)
    long = state.effort.iterations > LONG
    brief = cuts_follow and long
    # with cuts, solving anew takes longer than from where the last relaxation stands
    large = long and root and outer and len(outcome.x) >= MANY and state.relaxation.problem.m == state.relaxation.own
    with state.effort.part("heuristics"):
        basis, found = outcome.basis, state.incumbent.value
        state.relaxation.note_weights(basis)
        room = state.effort.spent["dives"] < _allowed(state, DIVE_SHARE / state.effort.tired("dives", PATIENCE))
        if root and outer and not state.incumbent.settled(outcome.bound):
            if large and state.effort.begin_shrinking():
                with state.effort.counted("dives"):
                    dive_by_shrinking(state, outcome.x)
            jump_around(state, point)
            if long and not brief and not state.incumbent.settled(outcome.bound):
                search_around(state, point, near)
        if root or (number % every == 0 and room):
            kinds = ("fraction", "locks") if root else (("fraction", "locks", "guided")[number // every % 3],)
            with state.effort.counted("dives"):
                to_few = long and outer and affords(state)
                few = _round_and_dive(state, outcome, here, () if brief or large else kinds, to_few=to_few)
                if state.incumbent.best is None and root and outer and not brief and not state.effort.stopped():
                    pump(state, outcome.x, _allowed(state))
            if not root:
                state.effort.judge("dives", better=state.incumbent.value < found)
            if few is not None and not state.effort.stopped():
                finish_dive(state, few, near)
        if state.incumbent.best is None and outer:
            search_around(state, point, near)
        again = state.incumbent.value < found or root or number % NEAR_EVERY == 0
        if state.effort.stopped():
            return
        if state.incumbent.best is not None and again and not brief and not state.incumbent.settled(outcome.bound):
            if state.incumbent.begin_polish():
                polish(state)
            if outer:
                if not root:
                    jump_on(state, point)
                near_plan(state, point, near)
        state.relaxation.start_from(basis)


def _allowed(state: SearchState, share: float = DIVE_SHARE) -> float:
    """Return how many iterations one dive may take, or one pump; and all of them, before another is begun."""
    return DIVE_START + share * state.effort.iterations


def _round_and_dive(
    state: SearchState, outcome: Outcome, here: Box, kinds: tuple[str, ...], *, to_few: bool
) -> Floats | None:
    """Round the point of a relaxation, then dive from it in some ways, until a plan is as good as the bound.

    Returns the point of the first dive that has left few columns, where that is wanted.
    """
    assert outcome.x is not None
    basis, few = outcome.basis, None
    state.try_plan(round_by_locks(state, outcome.x))
    round_all(state, outcome.x)
    if not state.incumbent.settled(outcome.bound) and not state.effort.stopped():
        fix_and_propagate(state, outcome.x)
    for kind in kinds:
        if state.incumbent.settled(outcome.bound) or state.effort.stopped() or few is not None:
            break
        state.relaxation.start_from(basis)
        few = dive(state, outcome.x, *here, kind, _allowed(state), to_few=to_few)
    return few
