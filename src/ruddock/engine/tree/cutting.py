"""Rounds of cuts at the root, until they tail off; what is left holds in the whole tree."""

from __future__ import annotations

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.engine.outcome import BASIC, Outcome
from ruddock.engine.tree.cuts.combinatorial import clique_cuts, covers, implied_bounds
from ruddock.engine.tree.cuts.cutsets import Cutsets
from ruddock.engine.tree.cuts.frame import Cut, Frame, chosen
from ruddock.engine.tree.cuts.halves import halves
from ruddock.engine.tree.cuts.needs import Ties, needs
from ruddock.engine.tree.cuts.paths import Paths
from ruddock.engine.tree.cuts.rounding import summed_rows, tableau_rows
from ruddock.engine.tree.state import SearchState
from ruddock.engine.tree.tighten import VariableBound

ROUNDS = 30
INNER_ROUNDS = 3  # of a search near a plan
TAIL = 4  # rounds after which too little gain ends it
GAIN = 0.01  # of all that the rounds have gained so far
MOST_CUTS, SHARE = 100, 0.25  # of a round, and a share of rows and columns beside
MOST_ENTRIES = 10_000  # of a round, and as many as the problem has beside
SECONDS_SHARE = 0.5  # of the time limit


def cut_root(state: SearchState, outcome: Outcome) -> Outcome:
    """Add cuts round by round; return the outcome of the relaxation with them."""
    own, limits = state.relaxation.problem.m, state.effort.limits
    values = [outcome.objective]
    misses = np.zeros(own, np.int64)
    asking = _asking(state)
    n, entries = state.problem.n, MOST_ENTRIES + state.relaxation.problem.nonzeros
    most = MOST_CUTS + int(SHARE * (own + n))
    for _ in range(INNER_ROUNDS if state.options.inner else ROUNDS):
        x = outcome.x
        if outcome.status != "optimal" or x is None or not len(state.domain.violated(x)):
            break
        if state.effort.stopped() or limits.elapsed() > SECONDS_SHARE * limits.seconds:
            break
        state.effort.begin_cut_round(state.relaxation.problem.nonzeros)
        cuts = chosen(_separated(state, outcome, misses, asking), n, most, entries)
        if not cuts:
            break
        _drop_slack(state, outcome, own)
        _append(state, cuts)
        outcome = state.relax(state.bounds.lower, state.bounds.upper)
        if outcome.status == "stopped" and outcome.reason == "numerics":
            return _without_cuts(state, own)
        if outcome.status != "optimal":
            break
        if outcome.reduced is not None:
            state.bounds.know_root(outcome.reduced, outcome.bound)
            if state.incumbent.best is not None:
                state.bounds.narrow_root(state.incumbent.threshold())
        values.append(outcome.objective)
        if len(values) > TAIL and values[-1] - values[-1 - TAIL] <= GAIN * (values[-1] - values[0]) + 1e-9 * abs(
            values[0]
        ):
            break
    if outcome.status == "optimal" and _drop_slack(state, outcome, own):
        outcome = state.relax(state.bounds.lower, state.bounds.upper)
    limits.record("cuts", **{"found": state.cut_counts, "kept": state.relaxation.problem.m - own})
    return outcome


def _variable_bounds(state: SearchState) -> list[VariableBound]:
    return state.tightening.variable_bounds if state.tightening is not None else []


def _asking(state: SearchState) -> list[Paths | Cutsets]:
    """Return what is known of rows that ask for something to be set up or opened."""
    problem = state.relaxation.problem
    ties = Ties.of(state.bounds.lower, state.bounds.upper, _variable_bounds(state))
    if not ties.tied.any():
        return []
    asked = needs(problem, problem.by_rows(), ties)
    return [Paths(problem, ties, asked), Cutsets(problem, ties, asked)]


def _separated(state: SearchState, outcome: Outcome, misses: np.ndarray, asking: list[Paths | Cutsets]) -> list[Cut]:
    """Return all kinds of cuts that the point breaks."""
    assert outcome.x is not None
    bounds = _variable_bounds(state)
    frame = Frame(
        state.relaxation.problem,
        outcome.x,
        state.bounds.lower,
        state.bounds.upper,
        state.relaxation.whole,
        bounds,
        state.effort.stopped,
    )
    cuts = tableau_rows(frame, state.relaxation.solver) + summed_rows(frame, misses) + covers(frame)
    cuts += [cut for rows in asking for cut in rows.cuts(frame)] + implied_bounds(frame, bounds) + halves(frame)
    if state.tightening is not None:
        cuts += clique_cuts(frame, state.tightening.cliques)
    return cuts


def _append(state: SearchState, cuts: list[Cut]) -> None:
    starts = np.cumsum([0] + [len(cut.columns) for cut in cuts])
    matrix = csr_matrix(
        (np.concatenate([cut.values for cut in cuts]), np.concatenate([cut.columns for cut in cuts]), starts),
        shape=(len(cuts), state.problem.n),
    )
    for cut in cuts:
        state.count_cut(cut.kind)
    state.append(matrix, np.full(len(cuts), -np.inf), np.array([cut.limit for cut in cuts]))


def _without_cuts(state: SearchState, own: int) -> Outcome:
    """Take out all cuts, with which numbers were too hard; return the outcome of the relaxation as it was."""
    state.delete(np.arange(own, state.relaxation.problem.m, dtype=np.int32))
    return state.relax(state.bounds.lower, state.bounds.upper)


def _drop_slack(state: SearchState, outcome: Outcome, own: int) -> bool:
    """Take out the cuts that do not bind; say whether there were any."""
    assert outcome.basis is not None
    gone = own + np.flatnonzero(outcome.basis.rows[own:] == BASIC)
    if not len(gone):
        return False
    state.delete(gone.astype(np.int32))
    return True
