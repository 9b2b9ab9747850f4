"""Mixed-integer rounding of one row, and of sums of rows: c-MIR and Gomory's cuts.

A row is written from the nearer bounds of its columns, divided, and rounded down in a way that
continuous columns allow (Marchand and Wolsey 2001). With variable bounds taken for continuous columns this
gives the flow covers; on a row of the simplex tableau, Gomory's mixed-integer cut (1960).
"""

from __future__ import annotations

import numpy as np

from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.tree.cuts.frame import Cut, Frame
from ruddock.problem import Floats

MOST_ROWS = 5  # in one sum
MOST_STARTS = 2000  # rows from which sums begin, in one round
MOST_MISSES = 3  # rounds without a cut after which a row begins no more sums
MOST_TABLEAU = 60  # rows of the tableau, in one round
AWAY = 0.01  # fractions nearer to a whole number than this are not looked up in the tableau
SLACK = 0.1  # rows with more slack than this, beside their size, begin no sum


def rounded(frame: Frame, rows: np.ndarray, weights: Floats, kind: str, *, by_one: bool = False) -> Cut | None:
    """Return the best rounding of a sum of rows, each so many times, that the point breaks, or None.

    Parameters
    ----------
    by_one : whether the sum is taken as it is, and slacks of whole rows as whole; otherwise the best divisor is looked
        for among its coefficients
    """
    total, rounder = frame.sums, frame.rounder
    total.add_up(rows.astype(np.int32, copy=False), weights)
    count = rounder.round(by_one)
    if count < 0:
        return None
    found = np.sort(frame.found[:count])
    return frame.cut(found, frame.coefficients[found], rounder.right, kind, rounder.size)


def summed_rows(frame: Frame, misses: np.ndarray) -> list[Cut]:
    """Return cuts from rows and from sums of rows in which continuous columns between their bounds cancel.

    Parameters
    ----------
    misses : int array, one for each row that may begin a sum
        Rounds in a row in which it gave no cut; kept up to date. After a few it is left out.
    """
    p = frame.problem
    owner = frame.owner
    split = np.maximum(frame.fraction, np.where(frame.by >= 0, frame.fraction[frame.by], 0.0)) > 1e-6
    mixed = np.bincount(owner, split[frame.rows.indices], p.m)
    between = np.where(frame.whole, 0.0, np.minimum(frame.z, 1e6))
    loose = np.bincount(owner, between[frame.rows.indices] > 1e-6, p.m)
    tight = frame.room / frame.row_size
    own = len(misses)
    starts = np.flatnonzero((tight[:own] <= SLACK) & ((mixed[:own] > 0) | (loose[:own] > 0)) & (misses < MOST_MISSES))
    starts = starts[np.argsort(-(mixed[starts] + 0.1 * (tight[starts] <= 1e-6)), kind="stable")][:MOST_STARTS]
    by_columns = p.starts, p.indices, p.values
    rows, times = np.zeros(MOST_ROWS, np.int32), np.zeros(MOST_ROWS)
    cuts = []
    misses[starts] += 1
    for row in starts.tolist():
        if frame.stopped():
            break
        for sign in (1.0, -1.0):
            if sign != frame.row_sign[row] and not frame.equation[row]:
                continue
            rows[0], times[0] = row, sign
            for count in range(1, MOST_ROWS + 1):
                cut = rounded(frame, rows[:count], times[:count], "rounding")
                if cut is not None:
                    cuts.append(cut)
                    misses[row] = 0
                    break
                if count == MOST_ROWS:
                    break
                other = frame.sums.next_row(rows[:count], *by_columns, between, tight, SLACK)
                if other < 0:
                    break
                rows[count], times[count] = other, frame.sums.times
    return cuts


def tableau_rows(frame: Frame, solver: LinearSolver) -> list[Cut]:
    """Return Gomory's cuts from the rows of the tableau whose integer column is farthest from whole."""
    p = frame.problem
    head = solver.head
    places = np.flatnonzero(head < p.n)
    fraction = frame.fraction[head[places]]
    order = np.argsort(-fraction, kind="stable")
    cuts = []
    for place in places[order][:MOST_TABLEAU].tolist():
        if frame.fraction[head[place]] < AWAY or frame.stopped():
            break
        unit = np.zeros(p.m)
        unit[place] = 1.0
        weights = solver.backward(unit)
        weights[np.abs(weights) < 1e-10 * np.abs(weights).max()] = 0.0
        used = np.flatnonzero(weights)
        if len(used) > 0.5 * p.m + 200:
            continue
        for sign in (1.0, -1.0):
            cut = rounded(frame, used, sign * weights[used], "tableau", by_one=True)
            if cut is not None:
                cuts.append(cut)
    return cuts
