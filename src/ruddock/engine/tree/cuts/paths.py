"""Path cuts: what a period lacks has been made in some period before it, and that period had to be set up.

Rows ``stock before + inflows >= need + stock after`` form a chain where the stock after one is the stock before the
next. In the periods k to l every inflow counts for what it is or, where it needs a binary column to be one, for the
need from its own period to l times that column. All these, with the stocks before k, are at least the need from k to l
(Barany, Van Roy and Wolsey 1984, by whom no others are needed for one good without limits of capacity; Van Roy and
Wolsey 1987 for paths of networks).
"""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
from scipy.sparse import csr_matrix

from ruddock.engine.tree.cuts.frame import Cut, Frame
from ruddock.engine.tree.cuts.needs import EVER, Needs, Pairs, Ties
from ruddock.problem import Floats, Problem

FAR = 50  # rows without a direction of their own between two that have one, at most
LONGEST = 300  # rows of a chain; a longer one is taken in pieces
AT_ONCE = 500_000  # pairs of an inflow and a last row that are looked at at once
SAME = 1e-12  # relative: what comes out of one row and goes into the next is the same
VIOLATED = 1e-4  # distance of the point from a cut, below which none is built


class Chain(NamedTuple):
    """Rows linked by stock, in their order.

    Attributes
    ----------
    rows : int array, shape (T,)
    scale : float array, shape (T,)
        What each row is multiplied by, so that it asks for its need at least and that stocks cancel.
    """

    rows: np.ndarray
    scale: Floats


class Paths:
    """The chains of a problem."""

    def __init__(self, problem: Problem, ties: Ties, asked: Needs) -> None:
        self._ties = ties
        chains = sorted(_chains(problem, asked, ties.tied), key=lambda chain: -len(chain.rows))
        self._batches = [_Batch(part, asked, ties.lower) for part in _parts(chains, asked.rows)]

    def cuts(self, frame: Frame) -> list[Cut]:
        """Return, for each row that a chain may end with, the path that the point breaks most."""
        above, ready = self._ties.at(frame.x)
        found: list[Cut] = []
        for batch in self._batches:
            for path in batch.broken(above, ready):
                if frame.stopped():
                    return found
                cut = self._cut(frame, batch, *path)
                if cut is not None:
                    found.append(cut)
        return found

    def _cut(self, frame: Frame, batch: _Batch, k: int, first: int, last: int) -> Cut | None:
        columns, values, need = batch.inflows(k, first, last)
        stock, through = batch.stocks(k, first)
        columns, values = np.concatenate((columns, stock)), np.concatenate((values, through))
        total = float(batch.total[k, last + 1] - batch.total[k, first])
        need = np.concatenate((need, np.full(len(stock), max(total, 0.0))))
        return self._ties.cut(frame, columns, values, need, total, "path", float(batch.size[k]))


class _Batch:
    """Chains that are looked at together, the shorter ones filled up to the length of the longest."""

    def __init__(self, chains: list[Chain], asked: Needs, lower: Floats) -> None:
        count, longest = len(chains), max(len(chain.rows) for chain in chains)
        self._shape = count, longest
        self.total = np.zeros((count, longest + 1))
        self.size = np.zeros(count)
        self._lengths = np.array([len(chain.rows) for chain in chains])
        inflows: list[tuple[np.ndarray, Floats, np.ndarray]] = []
        stocks: list[tuple[np.ndarray, Floats, np.ndarray]] = []
        for k, chain in enumerate(chains):
            length = len(chain.rows)
            part = asked.rows[chain.rows]
            at = np.repeat(np.arange(length), np.diff(part.indptr))
            a = part.data * chain.scale[at]
            shift = a * lower[part.indices]
            need = asked.limit[chain.rows] * chain.scale - np.bincount(at, shift, length)
            self.total[k, 1 : length + 1] = np.cumsum(need)
            self.total[k, length + 1 :] = self.total[k, length]
            # each sum of needs is off by at most so many roundings of all terms
            terms = float(asked.size[chain.rows] @ np.abs(chain.scale)) + float(np.abs(shift).sum())
            self.size[k] = (1 + length**2 / 16) * terms
            before = _passed_on(at, part.indices, a)
            for found, held in ((inflows, (a > 0) & ~before), (stocks, before)):
                found.append((part.indices[held], a[held], k * longest + at[held]))
        self._columns, self._values, self._places = (np.concatenate(parts) for parts in zip(*inflows, strict=True))
        self._stock, self._through, self._stands = (np.concatenate(parts) for parts in zip(*stocks, strict=True))
        everywhere = np.arange(count * longest + 1)
        self._starts = np.searchsorted(self._places, everywhere)
        self._stock_starts = np.searchsorted(self._stands, everywhere)

    def stocks(self, k: int, row: int) -> tuple[np.ndarray, Floats]:
        """Return the stocks before a row of a chain, and their coefficients."""
        at = k * self._shape[1] + row
        part = slice(self._stock_starts[at], self._stock_starts[at + 1])
        return self._stock[part], self._through[part]

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
        size = self._shape[0] * longest
        stock, through = (
            np.bincount(self._stands, terms, size).reshape(self._shape)[:, :, None]
            for terms in (self._through * above[self._stock], self._through**2)
        )
        met = self._from_first(counted) + stock
        norm = np.sqrt(self._from_first(weight) + through)
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


def _passed_on(row: np.ndarray, column: np.ndarray, value: Floats) -> np.ndarray:
    """Say which entries of a chain's rows are stocks that the row before hands on, and no other row touches."""
    order = np.lexsort((row, column))
    first, second = order[:-1], order[1:]
    same = column[first] == column[second]
    pair = same & (row[second] == row[first] + 1) & (value[second] > 0)
    pair &= np.abs(value[first] + value[second]) <= SAME * value[second]
    pair[1:] &= ~same[:-1]
    pair[:-1] &= ~same[1:]
    result = np.zeros(len(row), bool)
    result[second[pair]] = True
    return result


def _chains(problem: Problem, asked: Needs, tied: np.ndarray) -> list[Chain]:
    """Return chains of rows, none of them in two."""
    column = np.repeat(np.arange(problem.n), np.diff(problem.starts))
    links = asked.usable[problem.indices] & ~tied[column]
    found = Pairs.of(problem.indices[links], column[links], problem.values[links])
    return _linked(asked.sign.copy(), found)


def _linked(sign: Floats, pairs: Pairs) -> list[Chain]:
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
        out_of, into, ratio = out_of[keep], into[keep], ratio[keep]
    after = {int(a): (int(b), float(r)) for a, b, r in zip(out_of, into, ratio, strict=True)}
    heads = np.setdiff1d(out_of, into)
    chains: list[Chain] = []
    for head in (*heads.tolist(), *out_of.tolist()):  # what is left after the heads goes round in circles
        if head in after:
            chains += _walk(head, float(sign[head]), after)
    return chains


def _walk(row: int, scale: float, after: dict[int, tuple[int, float]]) -> Iterator[Chain]:
    """Follow stocks from a row on, and take them out of what is left; return the chain in pieces."""
    rows, scales = [row], [scale]
    while row in after:
        row, ratio = after.pop(row)
        if row == rows[0]:
            break
        rows.append(row)
        scales.append(scales[-1] * ratio)
    for begin in range(0, len(rows), LONGEST):
        part = slice(begin, begin + LONGEST)
        if len(rows[part]) > 1:
            yield Chain(np.array(rows[part]), np.array(scales[part]))
