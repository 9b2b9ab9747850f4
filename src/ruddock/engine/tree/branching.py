"""Which column to branch on: by pseudo-costs, and by branches tried out until these are reliable."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from ruddock.engine.outcome import Outcome
from ruddock.engine.tree.domain import Branch
from ruddock.engine.tree.pseudocosts import score
from ruddock.engine.tree.state import SearchState
from ruddock.problem import Floats

RELIABLE = 4  # branches either way after which a column's pseudo-costs are trusted
LOOKAHEAD = 6  # candidates in a row tried without a better one before the best is taken
MOST_TRIED = 40  # candidates of one node
MOST_FIXED = 5  # columns of which trials leave one side, after which the node is solved anew
LEAST_ITERATIONS, MOST_ITERATIONS = 10, 100  # of one trial
SHARE = 0.6  # of all iterations that trials may take, and of the entries that nodes touch, beside a start
START, ENTRIES = 3000, 100_000_000


@dataclass(eq=False, repr=False)
class Choice:
    """A branch to take; or, where trials showed that one side holds nothing, bounds that hold instead."""

    branch: Branch | None = None
    fixed: list[tuple[int, float, float]] | None = None
    hopeless: bool = False  # neither side holds anything


def choose(
    state: SearchState, violated: np.ndarray, outcome: Outcome, here: tuple[Floats, Floats], *, trials: bool
) -> Choice:
    """Choose a branch; unreliable candidates are tried out, where they may be, by a few iterations on either side."""
    x = outcome.x
    assert x is not None
    if state.options.priorities is not None:
        first = state.options.priorities[violated]
        violated = violated[first == first.max()]
    merit, known = state.costs.scores(violated, x)
    lone = len(violated) == 1 and state.effort.own_nodes > 1
    if trials and not lone and known < RELIABLE and tries_branches(state):
        order = np.argsort(-merit, kind="stable")[:MOST_TRIED]
        return _tried(state, violated[order], merit[order], outcome, here)
    k = int(merit.argmax())
    branch = state.domain.branch(int(violated[k]), float(x[violated[k]]), *here)
    if branch is None:  # so for each that comes next, until there is one
        for k in np.argsort(-merit, kind="stable").tolist():
            branch = state.domain.branch(int(violated[k]), float(x[violated[k]]), *here)
            if branch is not None:
                break
    return Choice(branch)


def _tried(
    state: SearchState,
    columns: np.ndarray,
    merit: Floats,
    outcome: Outcome,
    here: tuple[Floats, Floats],
) -> Choice:
    """Try candidates, the most promising first, until nothing better has come for a while."""
    assert outcome.x is not None
    state.relaxation.note_weights(outcome.basis)
    reliable = state.costs.reliable(columns, RELIABLE)
    best: Branch | None = None
    best_merit, since = -1.0, 0
    fixed: list[tuple[int, float, float]] = []
    for k, column in enumerate(columns.tolist()):
        branch = state.domain.branch(column, float(outcome.x[column]), *here)
        if branch is None:
            continue
        if reliable[k] or not _may_try(state):
            gained = float(merit[k])
        else:
            gains = []
            for low, high, up, change in _sides(branch):
                gain = _trial(state, column, (low, high), outcome, here)
                if gain is not None:
                    state.costs.learn(column, up, change, gain)
                gains.append(gain)
            if gains[0] is None and gains[1] is None:
                return Choice(hopeless=True)
            if gains[0] is None or gains[1] is None:
                fixed.append((column, *(branch.up if gains[0] is None else branch.down)))
                if len(fixed) >= MOST_FIXED:
                    break
                continue
            gained = score(gains[0], gains[1])
        since += 1
        if gained > best_merit:
            best, best_merit, since = branch, gained, 0
        if since >= LOOKAHEAD:
            break
    return Choice(fixed=fixed) if fixed else Choice(best)


def _sides(branch: Branch) -> tuple[tuple[float, float, bool, float], tuple[float, float, bool, float]]:
    return (*branch.down, False, branch.fraction), (*branch.up, True, 1.0 - branch.fraction)


def tries_branches(state: SearchState) -> bool:
    """Say whether branches are tried out where columns are not trusted yet."""
    return state.options.branching != "plain" and _may_try(state)


def _may_try(state: SearchState) -> bool:
    """Say whether trials of branches have not yet taken too much of the work."""
    effort = state.effort
    if effort.stopped() or effort.spent["trials"] >= START + SHARE * effort.iterations:
        return False
    # where iterations are dear, those of the root pay for none
    return effort.touched["trials"] < ENTRIES + SHARE * effort.touched["nodes"]


def _trial(
    state: SearchState, column: int, bounds: tuple[float, float], outcome: Outcome, here: tuple[Floats, Floats]
) -> float | None:
    """Return how much the bound rises at least by a few iterations within new bounds; None if nothing is left."""
    effort = state.effort
    lower, upper = here[0].copy(), here[1].copy()
    lower[column], upper[column] = max(bounds[0], lower[column]), min(bounds[1], upper[column])
    if not state.bounds.propagate(lower, upper, np.array([column], np.int32)):
        return None
    assert outcome.basis is not None
    mean = effort.spent["nodes"] / max(1, effort.own_nodes)
    with effort.counted("trials"):
        tried = state.try_out(lower, upper, outcome.basis, int(min(max(LEAST_ITERATIONS, 2 * mean), MOST_ITERATIONS)))
    if tried.status == "infeasible" or (tried.status == "stopped" and tried.reason is None):
        return None
    if tried.status == "optimal":
        return float(tried.objective - outcome.objective)
    return max(0.0, state.relaxation.solver.dual_objective - outcome.objective)
