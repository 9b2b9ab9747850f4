"""Path cuts: what a period lacks has been made in some period before it, and that period had to be set up.

Rows ``stock before + inflows >= need + stock after`` form a chain where the stock after one is the stock before the
next. In the periods k to l every inflow counts for what it is or, where it needs a binary column to be one, for the
need from its own period to l times that column. All these, with the stock before k, are at least the need from k to l
(Barany, Van Roy and Wolsey 1984, by whom no others are needed for one good without limits of capacity; Van Roy and
Wolsey 1987 for paths of networks).
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.engine.tree.cuts.frame import Cut, Frame
from ruddock.engine.tree.tighten import VariableBound
from ruddock.problem import Floats, Problem

FAR = 50  # rows without a direction of their own between two that have one, at most
LONGEST = 300  # rows of a chain; a longer one is taken in pieces
AT_ONCE = 500_000  # pairs of an inflow and a last row that are looked at at once
EVER = 2.0  # for a binary column, where none is needed
VIOLATED = 1e-4  # distance of the point from a cut, below which none is built


class Chain(NamedTuple):
    """Rows linked by stock, in their order.

    Attributes
    ----------
    rows : int array, shape (T,)
    scale : float array, shape (T,)
        What each row is multiplied by, so that it asks for its need at least and that stocks cancel.
    stock : int array, shape (T,)
        The column of the stock before each row; -1 where there is none.
    """

    rows: np.ndarray
    scale: Floats
    stock: np.ndarray


class Ties(NamedTuple):
    """What columns need to leave their lower bounds.

    Attributes
    ----------
    binary : int array
        The binary column that sets each free; -1 for none.
    by_one : bool array
        Whether it does so at one, otherwise at zero.
    """

    binary: np.ndarray
    by_one: np.ndarray


class Paths:
    """The chains of a problem.

    Parameters
    ----------
    problem : Problem
    lower, upper : float arrays
        Bounds of columns that hold everywhere.
    bounds : list of VariableBound
    """

    def __init__(self, problem: Problem, lower: Floats, upper: Floats, bounds: list[VariableBound]) -> None:
        self._lower, self._ties = lower.copy(), _ties(lower, upper, bounds)
        self._batches: list[_Batch] = []
        if (self._ties.binary >= 0).any():
            rows = problem.matrix().tocsr()
            chains = sorted(_chains(problem, rows, lower, self._ties.binary >= 0), key=lambda chain: -len(chain.rows))
            self._batches = [_Batch(part, problem, rows, lower) for part in _parts(chains, rows)]

    def cuts(self, frame: Frame) -> list[Cut]:
        """Return, for each row that a chain may end with, the path that the point breaks most."""
        binary, by_one = self._ties
        above = np.maximum(frame.x - self._lower, 0.0)
        value = np.clip(frame.x[binary], 0.0, 1.0)
        ready = np.where(binary < 0, EVER, np.where(by_one, value, 1.0 - value))
        found: list[Cut] = []
        for batch in self._batches:
            for k, first, last in batch.broken(above, ready):
                if frame.stopped():
                    return found
                cut = self._cut(frame, batch, (k, first, last), above, ready)
                if cut is not None:
                    found.append(cut)
        return found

    def _cut(self, frame: Frame, batch: _Batch, path: tuple[int, int, int], above: Floats, ready: Floats) -> Cut | None:
        k, first, last = path
        columns, values, need = batch.inflows(k, first, last)
        tied = (self._ties.binary[columns] >= 0) & (need * ready[columns] < values * above[columns])
        own, binary, by_one = columns[~tied], self._ties.binary[columns[tied]], self._ties.by_one[columns[tied]]
        amount = need[tied]
        items = np.concatenate((own, binary))
        weights = np.concatenate((values[~tied], np.where(by_one, amount, -amount)))
        least = batch.total[k, last + 1] - batch.total[k, first]
        least += float(values[~tied] @ self._lower[own]) - float(amount[~by_one].sum())
        stock, through = int(batch.stock[k, first]), float(batch.through[k, first])
        if stock >= 0:
            items, weights = np.append(items, stock), np.append(weights, through)
            least += through * float(self._lower[stock])
        if len(set(items.tolist())) < len(items):  # inflows that share a binary column
            items, places = np.unique(items, return_inverse=True)
            weights = np.bincount(places, weights)
        return frame.cut(items.astype(np.int32), -1.0 * weights, -float(least), "path", batch.size[k])


class _Batch:
    """Chains that are looked at together, the shorter ones filled up to the length of the longest."""

    def __init__(self, chains: list[Chain], problem: Problem, rows: csr_matrix, lower: Floats) -> None:
        count, longest = len(chains), max(len(chain.rows) for chain in chains)
        self._shape = count, longest
        self.total = np.zeros((count, longest + 1))
        self.stock = np.full((count, longest), -1)
        self.through = np.zeros((count, longest))
        self.size = np.zeros(count)
        self._lengths = np.array([len(chain.rows) for chain in chains])
        columns, values, places = [], [], []
        for k, chain in enumerate(chains):
            length = len(chain.rows)
            part = rows[chain.rows]
            at = np.repeat(np.arange(length), np.diff(part.indptr))
            a = part.data * chain.scale[at]
            low = np.where(chain.scale > 0, problem.row_lower[chain.rows], problem.row_upper[chain.rows]) * chain.scale
            shift = a * lower[part.indices]
            need = low - np.bincount(at, shift, length)
            self.total[k, 1 : length + 1] = np.cumsum(need)
            self.total[k, length + 1 :] = self.total[k, length]
            # each sum of needs is off by at most so many roundings of all terms
            self.size[k] = (1 + length**2 / 16) * (float(np.abs(low).sum()) + float(np.abs(shift).sum()))
            before = part.indices == chain.stock[at]
            self.stock[k, :length] = chain.stock
            self.through[k, at[before]] = a[before]
            inflow = (a > 0) & ~before
            columns.append(part.indices[inflow])
            values.append(a[inflow])
            places.append(k * longest + at[inflow])
        self._columns, self._values = np.concatenate(columns), np.concatenate(values)
        self._places = np.concatenate(places)
        self._starts = np.searchsorted(self._places, np.arange(count * longest + 1))

    def inflows(self, k: int, first: int, last: int) -> tuple[np.ndarray, Floats, Floats]:
        """Return inflows of some rows of a chain, their coefficients, and the need from their own row to the last."""
        longest = self._shape[1]
        part = slice(self._starts[k * longest + first], self._starts[k * longest + last + 1])
        need = self.total[k, last + 1] - self.total[k, self._places[part] - k * longest]
        return self._columns[part], self._values[part], np.maximum(need, 0.0)

    def broken(self, above: Floats, ready: Floats) -> Iterator[tuple[int, int, int]]:
        """Return chain, first and last row of the paths that a point breaks, one for each last row.

        Parameters
        ----------
        above : float array, of columns over their lower bounds
        ready : float array, of binary columns by the columns that need them; `EVER` where none is needed
        """
        longest = self._shape[1]
        chain, row = np.divmod(self._places, longest)
        until = np.maximum(self.total[chain, 1:] - self.total[chain, row][:, None], 0.0)
        own = (self._values * above[self._columns])[:, None]
        paid = ready[self._columns][:, None]
        tied = until * paid
        by_binary = (paid < EVER) & (tied < own)
        after = np.arange(longest)[None, :] >= row[:, None]
        counted = np.where(after, np.where(by_binary, tied, own), 0.0)
        weight = np.where(after, np.where(by_binary, until, self._values[:, None]) ** 2, 0.0)
        stock = np.where(self.stock >= 0, self.through * above[self.stock], 0.0)
        met = self._from_first(counted) + stock[:, :, None]
        norm = np.sqrt(self._from_first(weight) + (self.through**2)[:, :, None])
        lacking = self.total[:, None, 1:] - self.total[:, :-1, None] - met
        distance = lacking / np.maximum(norm, 1e-9)
        distance[:, np.tril(np.ones((longest, longest), bool), -1)] = 0.0  # the first row after the last
        distance = np.where(np.arange(longest) < self._lengths[:, None, None], distance, 0.0)
        first = distance.argmax(axis=1)
        best = np.take_along_axis(distance, first[:, None, :], axis=1)[:, 0]
        best = np.where(best > VIOLATED, best, 0.0)
        at, last = np.nonzero(best)
        # of paths that begin alike one
        order = np.lexsort((-best[at, last], first[at, last], at))
        at, last = at[order], last[order]
        begin = first[at, last]
        new = np.ones(len(at), bool)
        new[1:] = (at[1:] != at[:-1]) | (begin[1:] != begin[:-1])
        yield from zip(at[new].tolist(), begin[new].tolist(), last[new].tolist(), strict=True)

    def _from_first(self, terms: Floats) -> Floats:
        """Return by chain, first and last row what inflows between them add up to, from what each does by last row."""
        count, longest = self._shape
        sums = np.zeros((count * longest, longest))
        held = np.flatnonzero(np.diff(self._starts))
        if len(held):
            sums[held] = np.add.reduceat(terms, self._starts[held], axis=0)
        by_row = sums.reshape(count, longest, longest)
        return np.cumsum(by_row[:, ::-1], axis=1)[:, ::-1]


def _parts(chains: list[Chain], rows: csr_matrix) -> Iterator[list[Chain]]:
    """Return chains, the longest first, in parts that are not too much at once."""
    part: list[Chain] = []
    work, entries = 0, np.diff(rows.indptr)
    for chain in chains:
        longest = len(part[0].rows if part else chain.rows)
        work += longest * max(longest, int(entries[chain.rows].sum()))
        if part and work > AT_ONCE:
            yield part
            part, work = [], 0
        part.append(chain)
    if part:
        yield part


def _ties(lower: Floats, upper: Floats, bounds: list[VariableBound]) -> Ties:
    """Return which columns are at their lower bounds unless a binary column is one, or zero."""
    binary, by_one = np.full(len(lower), -1), np.ones(len(lower), bool)
    for bound in bounds:
        j, y = bound.column, bound.binary
        if bound.upper and lower[y] == 0.0 and upper[y] == 1.0 and lower[j] < upper[j]:
            if bound.at_zero <= lower[j]:
                binary[j], by_one[j] = y, True
            elif bound.at_one <= lower[j]:
                binary[j], by_one[j] = y, False
    return Ties(binary, by_one)


def _chains(problem: Problem, matrix: csr_matrix, lower: Floats, tied: np.ndarray) -> list[Chain]:
    """Return chains of rows, none of them in two.

    Rows into which tied columns flow ask for a need where they are limited from that side; equations without
    tied columns may be read either way, as their neighbours are.
    """
    m = problem.m
    owner = np.repeat(np.arange(m), np.diff(matrix.indptr))
    into = np.bincount(owner, tied[matrix.indices] & (matrix.data > 0), m) > 0
    out_of = np.bincount(owner, tied[matrix.indices] & (matrix.data < 0), m) > 0
    sign = into.astype(float) - out_of
    limited = np.isfinite(np.where(sign > 0, problem.row_lower, np.where(sign < 0, problem.row_upper, np.nan)))
    either = ~into & ~out_of & (problem.row_lower == problem.row_upper)
    usable = (limited | either) & (np.bincount(owner, ~np.isfinite(lower[matrix.indices]), m) == 0)
    links = usable[owner] & ~tied[matrix.indices]
    return _linked(sign, _pairs(owner[links], matrix.indices[links], matrix.data[links]))


class _Pairs(NamedTuple):
    """Columns that are in two rows: both rows, and both coefficients."""

    column: np.ndarray
    rows: np.ndarray
    values: Floats


def _pairs(row: np.ndarray, column: np.ndarray, value: Floats) -> _Pairs:
    order = np.argsort(column, kind="stable")
    column, row, value = column[order], row[order], value[order]
    first = np.flatnonzero(np.concatenate(([True], column[1:] != column[:-1]))) if len(column) else np.zeros(0, int)
    two = first[np.diff(np.append(first, len(column))) == 2]
    return _Pairs(column[two], np.stack((row[two], row[two + 1])), np.stack((value[two], value[two + 1])))


def _linked(sign: Floats, pairs: _Pairs) -> list[Chain]:
    """Return the chains that columns in two rows form, out of one and into the other."""
    column, rows, values = pairs
    for _ in range(FAR):
        one, other = sign[rows] * values  # above zero: flows in; zero: the row has no direction yet
        fresh = [(rows[1 - k], -np.sign(flow) * np.sign(values[1 - k]), (flow != 0) & (end == 0))
                 for k, flow, end in ((0, one, other), (1, other, one))]  # fmt: skip
        if not any(held.any() for *_, held in fresh):
            break
        for row, direction, held in fresh:
            sign[row[held]] = direction[held]
    one, other = sign[rows] * values
    source = np.where(one < 0, 0, 1)
    along = np.arange(len(column))
    good = np.flatnonzero(one * other < 0)
    out_of, into = rows[source, along][good], rows[1 - source, along][good]
    ratio = -(values[source, along] / values[1 - source, along])[good]
    for side in (0, 1):  # one stock before a row, and one after it
        keep = np.sort(np.unique((out_of, into)[side], return_index=True)[1])
        out_of, into, ratio, good = out_of[keep], into[keep], ratio[keep], good[keep]
    after = {int(a): (int(b), float(r), int(j)) for a, b, r, j in zip(out_of, into, ratio, column[good], strict=True)}
    heads = np.setdiff1d(out_of, into)
    chains: list[Chain] = []
    for head in (*heads.tolist(), *out_of.tolist()):  # what is left after the heads goes round in circles
        if head in after:
            chains += _walk(head, float(sign[head]), after)
    return chains


def _walk(row: int, scale: float, after: dict[int, tuple[int, float, int]]) -> Iterator[Chain]:
    """Follow stocks from a row on, and take them out of what is left; return the chain in pieces."""
    rows, scales, stock = [row], [scale], [-1]
    while row in after:
        row, ratio, column = after.pop(row)
        if row == rows[0]:
            stock[0] = column
            break
        rows.append(row)
        scales.append(scales[-1] * ratio)
        stock.append(column)
    for begin in range(0, len(rows), LONGEST):
        part = slice(begin, begin + LONGEST)
        if len(rows[part]) > 1:
            yield Chain(np.array(rows[part]), np.array(scales[part]), np.array(stock[part]))
