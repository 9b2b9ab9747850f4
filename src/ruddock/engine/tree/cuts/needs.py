"""What rows ask for: the need of each, in terms of what is made for it, of stocks, and of nothing that draws on it.

Where what is made at one row is drawn from others, as products draw parts, a part's need is what is made of the
products, which is no number. Adding to the part's row those of all that draws on it, each so many times as the part
goes into it, leaves what is made of the part, the stocks of all of them, and a number: the need of the echelon (Clark
and Scarf 1960; Pochet and Wolsey 2006, chapter 13).
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.engine.tree.cuts.frame import Cut, Frame
from ruddock.engine.tree.tighten import VariableBound
from ruddock.problem import Floats, Problem

EVER = 2.0  # for a binary column, where none is needed
LEVELS = 20  # of parts in parts
FILL, BESIDE = 4.0, 10_000  # times as many entries as the problem has that rows may have in the end, and some beside


class Ties(NamedTuple):
    """What columns need to leave their lower bounds.

    Attributes
    ----------
    lower : float array
        These bounds.
    binary : int array
        The binary column that sets each free; -1 for none.
    by_one : bool array
        Whether it does so at one, otherwise at zero.
    """

    lower: Floats
    binary: np.ndarray
    by_one: np.ndarray

    @classmethod
    def of(cls, lower: Floats, upper: Floats, bounds: list[VariableBound]) -> Ties:
        """Return which columns are at their lower bounds unless a binary column is one, or zero."""
        binary, by_one = np.full(len(lower), -1), np.ones(len(lower), bool)
        for bound in bounds:
            j, y = bound.column, bound.binary
            if bound.upper and lower[y] == 0.0 and upper[y] == 1.0 and lower[j] < upper[j]:
                if bound.at_zero <= lower[j]:
                    binary[j], by_one[j] = y, True
                elif bound.at_one <= lower[j]:
                    binary[j], by_one[j] = y, False
        return cls(lower.copy(), binary, by_one)

    @property
    def tied(self) -> np.ndarray:
        """Which columns need a binary one."""
        return self.binary >= 0

    def at(self, x: Floats, columns: np.ndarray | slice = slice(None)) -> tuple[Floats, Floats]:
        """Return how far columns are over their lower bounds at a point, and their binary columns, `EVER` for none."""
        binary = self.binary[columns]
        value = np.clip(x[binary], 0.0, 1.0)
        ready = np.where(binary < 0, EVER, np.where(self.by_one[columns], value, 1.0 - value))
        return np.maximum(x[columns] - self.lower[columns], 0.0), ready

    def cut(
        self, frame: Frame, columns: np.ndarray, values: Floats, need: Floats, total: float, kind: str, size: float
    ) -> Cut | None:
        """Return the cut of inflows that are ``total`` at least, over their lower bounds.

        Each counts for what it is or, where that is more at the present point and it needs a binary column, for
        ``need`` times that column.

        Parameters
        ----------
        columns, values : inflows, and their coefficients; no column twice
        need : what is needed of each inflow at most
        size : of the terms that ``total`` was added up from
        """
        above, ready = self.at(frame.x, columns)
        paid = (self.binary[columns] >= 0) & (need * ready < values * above)
        own, binary, by_one = columns[~paid], self.binary[columns[paid]], self.by_one[columns[paid]]
        amount = need[paid]
        least = total + float(values[~paid] @ self.lower[own]) - float(amount[~by_one].sum())
        weights = np.concatenate((values[~paid], np.where(by_one, amount, -amount)))
        # inflows may share a binary column
        items, places = np.unique(np.concatenate((own, binary)), return_inverse=True)
        together = np.bincount(places, weights, len(items)).astype(float)
        return frame.cut(items.astype(np.int32), -together, -least, kind, size)


class Pairs(NamedTuple):
    """Columns that are in two rows: both rows, and both coefficients."""

    column: np.ndarray
    rows: np.ndarray
    values: Floats

    @classmethod
    def of(cls, row: np.ndarray, column: np.ndarray, value: Floats) -> Pairs:
        """Return those among some entries, in the order of columns."""
        order = np.argsort(column, kind="stable")
        column, row, value = column[order], row[order], value[order]
        first = np.flatnonzero(np.concatenate(([True], column[1:] != column[:-1]))) if len(column) else np.zeros(0, int)
        two = first[np.diff(np.append(first, len(column))) == 2]
        return cls(column[two], np.stack((row[two], row[two + 1])), np.stack((value[two], value[two + 1])))


class Needs(NamedTuple):
    """Rows of a problem, as far as they ask for something.

    Attributes
    ----------
    rows : csr_matrix, shape (m, n)
        Those that others draw on have these others added to them.
    sign : float array, shape (m,)
        1.0 where a row asks for ``limit`` at least, -1.0 at most, 0.0 for equations that may be read either way.
    limit, size : float arrays, shape (m,)
        What they ask for, and what the terms of that add up to without their signs.
    usable : bool array, shape (m,)
    """

    rows: csr_matrix
    sign: Floats
    limit: Floats
    size: Floats
    usable: np.ndarray


def needs(problem: Problem, rows: csr_matrix, ties: Ties) -> Needs:
    """Return what rows ask for.

    Rows into which tied columns flow ask for a need where they are limited from that side; equations without
    tied columns may be read either way, as their neighbours are.

    Parameters
    ----------
    rows : the matrix by rows
    """
    m, lower, tied = problem.m, ties.lower, ties.tied
    owner = np.repeat(np.arange(m), np.diff(rows.indptr))
    into = np.bincount(owner, tied[rows.indices] & (rows.data > 0), m) > 0
    out_of = np.bincount(owner, tied[rows.indices] & (rows.data < 0), m) > 0
    bounded = np.bincount(owner, ~np.isfinite(lower[rows.indices]), m) == 0
    sign = into.astype(float) - out_of
    either = ~into & ~out_of & (problem.row_lower == problem.row_upper)
    limit = np.where(sign < 0, problem.row_upper, problem.row_lower)
    usable = bounded & np.where(sign != 0, np.isfinite(limit), either)
    found = Needs(rows, sign, limit, np.abs(limit), usable)
    drawn = into & out_of & bounded
    if not drawn.any() or not usable.any():
        return found
    flows = tied[rows.indices]
    least = rows @ np.where(np.isfinite(lower), lower, 0.0)
    asks = usable & np.where(sign < 0, limit < least, limit > least)
    # out of an equation, or into it: where the signs do not tell, a row that asks for something is more likely
    merit = 2 * asks[owner[flows]] + (sign[owner[flows]] > 0)
    order = np.argsort(merit, kind="stable")
    return _with_what_draws(problem, found, owner[flows][order], np.flatnonzero(flows)[order], drawn)


def _with_what_draws(
    problem: Problem, found: Needs, owner: np.ndarray, entries: np.ndarray, drawn: np.ndarray
) -> Needs:
    """Add to rows that others draw on what draws on them, level by level from what nothing draws on.

    Parameters
    ----------
    owner, entries : rows and places of the entries of tied columns, of those of one column the most likely to be made
        at its row last
    drawn : bool array, rows to be added to
    """
    first, sign, limit, size, usable = found
    rows, m = first, problem.m
    made = np.full(problem.n, -1)  # the row that a tied column flows into
    column, value = first.indices[entries], first.data[entries]
    for _ in range(LEVELS):
        comes = usable[owner] & (sign[owner] * value > 0) & (made[column] < 0)
        made[column[comes]] = owner[comes]
        known = made[column] >= 0
        # all known columns are drawn and the others flow in, or the other way round
        up = np.bincount(owner, known == (value < 0), m) == np.bincount(owner, minlength=m)
        down = np.bincount(owner, known == (value > 0), m) == np.bincount(owner, minlength=m)
        fed = np.bincount(owner, known, m) > 0
        ready = drawn & fed & (up | down)
        ready &= np.isfinite(np.where(up, problem.row_lower, problem.row_upper))
        if not ready.any():
            break
        times = _times(rows, ready, owner[known], made[column[known]], column[known], value[known])
        added = csr_matrix(rows + times @ rows)
        if added.nnz > FILL * first.nnz + BESIDE:
            break
        rows = added
        sign = np.where(ready, np.where(up, 1.0, -1.0), sign)
        own = np.where(ready, np.where(up, problem.row_lower, problem.row_upper), limit)
        terms = abs(times) @ np.where(usable, size, 0.0)
        limit = np.where(ready, own + times @ np.where(usable, limit, 0.0), own)
        size = np.where(ready, np.abs(own) + terms, size)
        usable, drawn = usable | ready, drawn & ~ready
    rows.eliminate_zeros()
    rows.sort_indices()
    return Needs(rows, sign, limit, size, usable)


def _times(
    rows: csr_matrix, ready: np.ndarray, row: np.ndarray, other: np.ndarray, column: np.ndarray, value: Floats
) -> csr_matrix:
    """Return how many times other rows are added to those that are ready, for columns that these draw: least times.

    Where two ways of making the same draw differently on a row, the lesser counts.
    """
    held = ready[row]
    row, other, column, value = row[held], other[held], column[held], value[held]
    times = -value / np.asarray(rows[other, column]).ravel()
    order = np.lexsort((np.abs(times), other, row))
    row, other, times = row[order], other[order], times[order]
    new = np.ones(len(row), bool)
    new[1:] = (row[1:] != row[:-1]) | (other[1:] != other[:-1])
    m = rows.shape[0]
    return csr_matrix((times[new], (row[new], other[new])), shape=(m, m))
