"""Rows that hold together what would otherwise fall into parts.

Goods that share the room of arcs, or products that share hours, are parts with few rows between them. Minimum degree
takes such rows too soon, since each has fewer neighbours than a part has once it is half eliminated; put last, as in
nested dissection (George 1973), they fill no more than their own square.
"""

from __future__ import annotations

import numpy as np
from scipy.sparse import csr_matrix
from scipy.sparse.csgraph import connected_components

ABOVE = (16.0, 8.0, 4.0, 2.0)  # times the median number of neighbours, from which on a row may be one that links
MOST_LINKS = 0.25  # of all rows
LARGEST_PART = 0.5  # of the other rows: larger, they do not fall apart


def linking_rows(pattern: csr_matrix) -> np.ndarray | None:
    """Return which rows link the others, or None where no few rows do.

    Parameters
    ----------
    pattern : csr_matrix, shape (m, m)
        Of the normal equations, both halves, without the diagonal.
    """
    m = pattern.shape[0]
    neighbours = np.diff(pattern.indptr)
    if not m or pattern.nnz == 0:
        return None
    for above in ABOVE:
        late = neighbours > above * max(1.0, float(np.median(neighbours)))
        links = int(late.sum())
        if not links:
            continue
        if links > MOST_LINKS * m:
            return None
        rest = np.flatnonzero(~late)
        _, part = connected_components(pattern[rest][:, rest], directed=False)
        if np.bincount(part).max() <= LARGEST_PART * len(rest):
            return late
    return None
