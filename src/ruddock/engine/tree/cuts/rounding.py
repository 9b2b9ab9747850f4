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


class Sum:
    """A sum of rows ``coefficients'x + slack coefficients' slack = limit``, slacks at least zero.

    Attributes
    ----------
    columns, values : arrays
        The coefficients; no column twice.
    rows, slack : arrays
        Rows in the sum that are no equations, and their coefficients on the slack.
    limit : float
        Of the sum, which is at most this if small coefficients were taken out, and equal to it otherwise.
    terms : float
        What the terms of the limit add up to without their signs.
    """

    def __init__(self, frame: Frame, rows: np.ndarray, weights: Floats, columns: np.ndarray, values: Floats) -> None:
        limits = frame.row_limit[rows]
        self.limit = float(weights @ limits)
        self.terms = float(np.abs(weights) @ np.abs(limits))
        # what cancels but for rounding goes into the limit, at the end where it takes least; in doubt it stays
        small = np.abs(values) <= 1e-11 * max(1.0, np.abs(values).max(initial=0.0))
        ends = np.where(values > 0, frame.lower[columns], frame.upper[columns])
        small &= np.isfinite(ends)
        self.limit -= float(values[small] @ ends[small])
        self.columns, self.values = columns[~small], values[~small]
        open_ = ~frame.equation[rows]
        self.rows = rows[open_]
        self.slack = weights[open_] * frame.row_sign[self.rows]

    @classmethod
    def of(cls, frame: Frame, rows: np.ndarray, weights: Floats) -> Sum:
        """Return the sum of some rows, each so many times."""
        parts = [slice(frame.rows.indptr[i], frame.rows.indptr[i + 1]) for i in rows.tolist()]
        columns = np.concatenate([frame.rows.indices[part] for part in parts])
        values = np.concatenate([w * frame.rows.data[part] for w, part in zip(weights, parts, strict=True)])
        return cls(frame, rows, weights, *_merged(columns, values))


def _merged(columns: np.ndarray, values: Floats) -> tuple[np.ndarray, Floats]:
    """Return columns once each, with the sums of their values."""
    order = np.argsort(columns, kind="stable")
    columns, values = columns[order], values[order]
    first = np.flatnonzero(np.concatenate(([True], columns[1:] != columns[:-1])))
    return columns[first], np.add.reduceat(values, first) if len(first) else values


def rounded(frame: Frame, total: Sum, kind: str, *, by_one: bool = False) -> Cut | None:
    """Return the best rounding of a sum of rows that the point breaks, or None.

    Parameters
    ----------
    by_one : whether the sum is taken as it is, and slacks of whole rows as whole; otherwise the best divisor is looked
        for among its coefficients
    """
    columns, rows = (held.astype(np.int32, copy=False) for held in (total.columns, total.rows))
    count = frame.rounder.round(columns, total.values, total.limit, total.terms, rows, total.slack, by_one)
    if count < 0:
        return None
    found = np.sort(frame.found[:count])
    return frame.cut(found, frame.coefficients[found], frame.rounder.right, kind, frame.rounder.size)


def summed_rows(frame: Frame, misses: np.ndarray) -> list[Cut]:
    """Return cuts from rows and from sums of rows in which continuous columns between their bounds cancel.

    Parameters
    ----------
    misses : int array, one for each row that may begin a sum
        Rounds in a row in which it gave no cut; kept up to date. After a few it is left out.
    """
    p = frame.problem
    owner = np.repeat(np.arange(p.m), np.diff(frame.rows.indptr))
    size = np.sqrt(np.bincount(owner, frame.rows.data**2, p.m)) + 1e-9
    split = np.maximum(frame.fraction, np.where(frame.by >= 0, frame.fraction[frame.by], 0.0)) > 1e-6
    mixed = np.bincount(owner, split[frame.rows.indices], p.m)
    between = np.where(frame.whole, 0.0, np.minimum(frame.z, 1e6))
    loose = np.bincount(owner, between[frame.rows.indices] > 1e-6, p.m)
    tight = frame.room / size
    own = len(misses)
    starts = np.flatnonzero((tight[:own] <= SLACK) & ((mixed[:own] > 0) | (loose[:own] > 0)) & (misses < MOST_MISSES))
    starts = starts[np.argsort(-(mixed[starts] + 0.1 * (tight[starts] <= 1e-6)), kind="stable")][:MOST_STARTS]
    cuts = []
    misses[starts] += 1
    for row in starts.tolist():
        if frame.stopped():
            break
        for sign in (1.0, -1.0):
            if sign != frame.row_sign[row] and not frame.equation[row]:
                continue
            total = Sum.of(frame, np.array([row]), np.array([sign]))
            weights = {row: sign}
            for _ in range(MOST_ROWS):
                cut = rounded(frame, total, "rounding")
                if cut is not None:
                    cuts.append(cut)
                    misses[row] = 0
                    break
                if not _add_row(frame, weights, total, between, tight):
                    break
                total = Sum.of(frame, np.array(list(weights)), np.array(list(weights.values())))
    return cuts


def _add_row(frame: Frame, weights: dict[int, float], total: Sum, between: Floats, tight: Floats) -> bool:
    """Add a row in which the continuous column farthest from its bounds cancels; say whether there was one."""
    p = frame.problem
    far = np.flatnonzero(between[total.columns] > 1e-6)
    for k in far[np.argsort(-between[total.columns[far]], kind="stable")][:3].tolist():
        j = total.columns[k]
        part = slice(p.starts[j], p.starts[j + 1])
        rows, values = p.indices[part], p.values[part]
        usable = [t for t, row in enumerate(rows.tolist()) if row not in weights and tight[row] <= SLACK]
        if usable:
            t = min(usable, key=lambda t: tight[rows[t]])
            weights[int(rows[t])] = float(-total.values[k] / values[t])
            return True
    return False


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
        coefficients = p.priced(weights)
        columns = np.flatnonzero(coefficients)
        for sign in (1.0, -1.0):
            total = Sum(frame, used, sign * weights[used], columns, sign * coefficients[columns])
            cut = rounded(frame, total, "tableau", by_one=True)
            if cut is not None:
                cuts.append(cut)
    return cuts
