"""The best plan polished: single columns moved, and pairs of binary columns exchanged."""

from __future__ import annotations

import numpy as np

from ruddock.engine.tree.pairs import Pairs
from ruddock.engine.tree.state import SearchState

LOOK = 4_000_000  # entries touched between two looks at the limits
MOST = 200_000_000  # that it may touch


def polish(state: SearchState) -> None:
    """Move single integer columns of the best plan as far as rows allow, and exchange pairs, while that pays."""
    p, domain = state.problem, state.domain
    if state.incumbent.best is None or not len(domain.integers) or len(domain.semis):
        return
    x = state.incumbent.best.copy()
    dear_first = domain.integers[np.argsort(-np.abs(p.costs[domain.integers]), kind="stable")].astype(np.int32)
    binary = np.zeros(p.n, np.uint8)
    binary[domain.integers] = (domain.lower[domain.integers] == 0) & (domain.upper[domain.integers] == 1)
    rows = p.by_rows()
    pairs = Pairs(
        (p.starts, p.indices, p.values), (rows.indptr, rows.indices, rows.data), p.row_lower, p.row_upper,
        domain.lower, domain.upper, p.costs, dear_first, binary, x, p.activity(x),
    )  # fmt: skip
    moved = False
    while not (pairs.ended or pairs.touched > MOST or state.effort.stopped()):
        moved |= pairs.improve(LOOK)
    if moved:
        state.try_plan(x)
