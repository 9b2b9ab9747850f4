"""Rounds of cuts at the root, until they tail off; what is left holds in the whole tree."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.engine.outcome import BASIC
from ruddock.engine.tree.cuts.combinatorial import clique_cuts, covers, implied_bounds
from ruddock.engine.tree.cuts.frame import Cut, Frame, chosen
from ruddock.engine.tree.cuts.halves import halves
from ruddock.engine.tree.cuts.rounding import summed_rows, tableau_rows

if TYPE_CHECKING:
    from ruddock.engine.outcome import Outcome
    from ruddock.engine.tree.search import TreeSearch

ROUNDS = 30
INNER_ROUNDS = 3  # of a search near a plan
TAIL = 4  # rounds after which too little gain ends it
GAIN = 0.01  # of all that the rounds have gained so far
MOST_CUTS, MOST_OF_LARGE = 100, 2000  # of a round, beside a share of rows and columns up to the second
SECONDS_SHARE = 0.5  # of the time limit


def cut_root(search: TreeSearch, outcome: Outcome) -> Outcome:
    """Add cuts round by round; return the outcome of the relaxation with them."""
    own = search.relaxed.m
    values = [outcome.objective]
    misses = np.zeros(own, np.int64)
    most = MOST_CUTS + min((own + search.problem.n) // 4, MOST_OF_LARGE)
    for _ in range(INNER_ROUNDS if search.options.inner else ROUNDS):
        x = outcome.x
        if outcome.status != "optimal" or x is None or not len(search.domain.violated(x)):
            break
        if search.limit() is not None or search.limits.elapsed() > SECONDS_SHARE * search.limits.seconds:
            break
        cuts = chosen(_separated(search, outcome, misses), search.problem.n, most)
        if not cuts:
            break
        _drop_slack(search, outcome, own)
        _append(search, cuts)
        outcome = search.relax(search.lower, search.upper)
        if outcome.status != "optimal":
            break
        if outcome.reduced is not None:
            search.root = outcome.reduced, outcome.objective
            if search.best is not None:
                search.narrow(*search.root, search.lower, search.upper)
        values.append(outcome.objective)
        if len(values) > TAIL and values[-1] - values[-1 - TAIL] <= GAIN * (values[-1] - values[0]) + 1e-9 * abs(
            values[0]
        ):
            break
    if outcome.status == "optimal" and _drop_slack(search, outcome, own):
        outcome = search.relax(search.lower, search.upper)
    search.limits.record("cuts", **{"found": search.cut_counts, "kept": search.relaxed.m - own})
    return outcome


def _separated(search: TreeSearch, outcome: Outcome, misses: np.ndarray) -> list[Cut]:
    """Return all kinds of cuts that the point breaks."""
    assert outcome.x is not None
    bounds = search.tightening.variable_bounds if search.tightening is not None else []
    frame = Frame(search.relaxed, outcome.x, search.lower, search.upper, search.whole, bounds)
    cuts = tableau_rows(frame, search.solver) + summed_rows(frame, misses) + covers(frame)
    cuts += implied_bounds(frame, bounds) + halves(frame)
    if search.tightening is not None:
        cuts += clique_cuts(frame, search.tightening.cliques)
    return cuts


def _append(search: TreeSearch, cuts: list[Cut]) -> None:
    starts = np.cumsum([0] + [len(cut.columns) for cut in cuts])
    matrix = csr_matrix(
        (np.concatenate([cut.values for cut in cuts]), np.concatenate([cut.columns for cut in cuts]), starts),
        shape=(len(cuts), search.problem.n),
    )
    for cut in cuts:
        search.cut_counts[cut.kind] = search.cut_counts.get(cut.kind, 0) + 1
    search.append(matrix, np.full(len(cuts), -np.inf), np.array([cut.limit for cut in cuts]))


def _drop_slack(search: TreeSearch, outcome: Outcome, own: int) -> bool:
    """Take out the cuts that do not bind; say whether there were any."""
    assert outcome.basis is not None
    gone = own + np.flatnonzero(outcome.basis.rows[own:] == BASIC)
    if not len(gone):
        return False
    search.delete(gone.astype(np.int32))
    return True
