"""Zero-half cuts: sums of whole rows that are even everywhere but odd at the limit, halved and rounded down.

Which rows to add up is a question of odd and even alone. Columns between their bounds are eliminated one after
another, each by the tightest row that is odd there (Caprara and Fischetti 1996; Koster, Zymolka and Kutschka 2009).
"""

from __future__ import annotations

import numpy as np

from ruddock.engine.tree.cuts.frame import Cut, Frame
from ruddock.engine.tree.cuts.rounding import rounded

MOST_ROWS = 1000  # that are looked at, the tightest
LOOSEST = 1.0 - 1e-6  # slack beyond which a sum cannot give a cut
ODD = 1


def halves(frame: Frame) -> list[Cut]:
    """Return zero-half cuts that the point breaks."""
    usable = np.flatnonzero(frame.whole_rows & (frame.room < LOOSEST))
    if not len(usable):
        return []
    usable = usable[np.argsort(frame.room[usable], kind="stable")][:MOST_ROWS]
    parity, odd = _parities(frame, usable)
    slack = frame.room[usable].copy()
    made_of = [{int(row)} for row in usable]
    fractional = np.flatnonzero(frame.fraction > 1e-6)
    place = {int(j): k for k, j in enumerate(fractional)}
    rows = [sum(1 << place[j] for j in columns) for columns in parity]
    active = list(range(len(usable)))
    # columns farthest from whole first: what is left of them costs most
    for j in fractional[np.argsort(-frame.fraction[fractional], kind="stable")].tolist():
        if frame.stopped():
            return []
        bit = 1 << place[j]
        holding = [k for k in active if rows[k] & bit]
        if not holding:
            continue
        pivot = min(holding, key=lambda k: (slack[k], len(made_of[k])))
        active.remove(pivot)
        for k in holding:
            if k != pivot:
                rows[k] ^= rows[pivot]
                odd[k] ^= odd[pivot]
                made_of[k] ^= made_of[pivot]
                slack[k] += slack[pivot]
        active = [k for k in active if slack[k] < LOOSEST and made_of[k]]
    cuts = []
    for k in active:
        if odd[k] and not rows[k]:
            cut = _halved(frame, made_of[k])
            if cut is not None:
                cuts.append(cut)
    return cuts


def _parities(frame: Frame, usable: np.ndarray) -> tuple[list[list[int]], list[bool]]:
    """Return of every row its fractional columns with odd coefficients, and whether its limit is odd.

    Columns at a bound stand at it, so they go into the limit.
    """
    columns_of, odd = [], []
    for i in usable.tolist():
        part = slice(frame.rows.indptr[i], frame.rows.indptr[i + 1])
        columns, values = frame.rows.indices[part], frame.rows.data[part]
        between = frame.fraction[columns] > 1e-6
        at_bound = float(values[~between] @ np.round(frame.x[columns[~between]]))
        columns_of.append(columns[between & (values % 2 == ODD)].tolist())
        odd.append(bool((frame.row_limit[i] - at_bound) % 2 == ODD))
    return columns_of, odd


def _halved(frame: Frame, members: set[int]) -> Cut | None:
    """Return the rounding of half the sum of some rows."""
    used = np.array(sorted(members), np.intp)
    return rounded(frame, used, 0.5 * frame.row_sign[used], "zero-half", by_one=True)
