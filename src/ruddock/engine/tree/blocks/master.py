"""The master problem: how many of each known solution of a block are taken, so that the linking rows hold.

Its columns are those that stand beside the blocks, what rows may be missed by at a price, and one for each of the
solutions that are of use at the moment (Dantzig and Wolfe 1960). All that were ever found are kept aside.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace

import numpy as np
from scipy.sparse import csc_matrix, csr_matrix, hstack, vstack

from ruddock.engine.outcome import AT_LOWER, BASIC, Basis, Counters, Limits, Outcome
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.tree.blocks.pool import Pool, Solution
from ruddock.engine.tree.blocks.structure import Blocks
from ruddock.problem import INTEGER, Floats, Problem

CALLED = 15  # solutions of each group that were found earlier and join at one time
BACK = 20  # of each group that are called back where bounds have changed
FULL = 5  # times as many solutions at work as there are rows, beyond which the least promising rest
REST = 0.4  # of them


class Master:
    """The linear problem of the linking rows, one row for each group below them, and its columns so far.

    Attributes
    ----------
    pool : Pool
        All solutions that were found.
    at_work : int array
        Numbers of those that the problem has columns for, in their order.
    own : int
        Number of columns before them.
    """

    def __init__(self, blocks: Blocks, counters: Counters) -> None:
        self.blocks, self.counters = blocks, counters
        p, links = blocks.problem, blocks.links
        self.m, groups = links.shape[0], len(blocks.groups)
        low, high = p.row_lower[blocks.rows], p.row_upper[blocks.rows]
        count = np.array([len(group.blocks) for group in blocks.groups], float)
        self._limits = np.concatenate((low, count)), np.concatenate((high, count))
        # nothing may be known of a group that bounds allow
        under, over = np.flatnonzero(np.isfinite(self._limits[0])), np.flatnonzero(np.isfinite(high))
        missed = csc_matrix(
            (
                np.concatenate((np.ones(len(under)), -np.ones(len(over)))),
                (np.concatenate((under, over)), np.arange(len(under) + len(over))),
            ),
            shape=(self.m + groups, len(under) + len(over)),
        )
        beside = vstack([links[:, blocks.beside], csr_matrix((groups, len(blocks.beside)))])
        self._first = csc_matrix(hstack([beside, missed]))
        self.misses = np.arange(len(blocks.beside), self._first.shape[1])
        self.own = self._first.shape[1]
        self._lower = np.concatenate((blocks.lower[blocks.beside], np.zeros(len(self.misses))))
        self._upper = np.concatenate((blocks.upper[blocks.beside], np.full(len(self.misses), np.inf)))
        self._costs = np.concatenate((p.costs[blocks.beside], np.zeros(len(self.misses))))
        self.pool = Pool(blocks, self.m)
        self.at_work = np.zeros(0, np.intp)
        self._basis: Basis | None = None
        self._solver: LinearSolver | None = None
        self._joining: dict[int, None] = {}  # in this order
        self._useful: np.ndarray | None = None  # which of those at work to keep when others join

    # ------------------------------------------------------------------ columns

    def offer(self, solution: Solution) -> bool:
        """Let a solution join the work; say whether it was not at work before."""
        pool, number = self.pool, self.pool.number(solution)
        if pool.at_work[number]:
            return False
        pool.most[number] = np.inf
        self._join([number])
        return True

    def call(self, group: int, reduced: Floats, worth: float) -> bool:
        """Call back solutions found earlier that are worth less than a value at present prices; say if any are."""
        pool, numbers = self.pool, self.pool.numbers(group)
        values = pool.matrix(group) @ reduced[self.blocks.groups[group].first.everything]
        better = np.flatnonzero((values < worth) & (pool.most[numbers] > 0) & ~pool.at_work[numbers])
        self._join(numbers[better[np.argsort(values[better], kind="stable")[:CALLED]]].tolist())
        return bool(len(better))

    def _join(self, numbers: Iterable[int]) -> None:
        """Let solutions that are not at work join it, in this order."""
        self._joining.update(dict.fromkeys(numbers))

    def taken(self, x: Floats) -> list[tuple[int, float]]:
        """Return the numbers of the solutions that a point of the master takes, and how many times."""
        own = x[self.own :]
        used = np.flatnonzero(own)
        return list(zip(self.at_work[used].tolist(), own[used].tolist(), strict=True))

    # ------------------------------------------------------------------ bounds

    def narrow(self, lower: Floats, upper: Floats, reduced: Floats | None, least: dict[int, float]) -> None:
        """Work with what is within bounds of the columns, and with what must be taken all the same.

        Parameters
        ----------
        reduced : costs at some prices, shape (n,): the solutions that promise most at these are called back
        least : how many times solutions are taken at least
        """
        pool = self.pool
        pool.least[:], pool.most[:] = 0.0, 0.0
        called: list[np.ndarray] = []
        for number, group in enumerate(self.blocks.groups):
            columns, numbers, values = group.first.everything, pool.numbers(number), pool.matrix(number)
            inside = np.flatnonzero(((values >= lower[columns]) & (values <= upper[columns])).all(axis=1))
            pool.most[numbers[inside]] = np.inf
            if reduced is not None:
                worth = values[inside] @ reduced[columns]
                called.append(numbers[inside[np.argsort(worth, kind="stable")[:BACK]]])
        for number, count in least.items():
            pool.least[number] = count
            pool.most[number] = max(count, pool.most[number])
        self._keep((pool.most[self.at_work] > 0) | (pool.codes[self.at_work] == BASIC))
        called.append(np.array(list(least), np.intp))
        back = np.unique(np.concatenate(called))
        self._join(back[~pool.at_work[back]].tolist())
        self._joining = {number: None for number in self._joining if pool.most[number] > 0}
        beside = self.blocks.beside
        self._lower[: len(beside)], self._upper[: len(beside)] = lower[beside], upper[beside]
        if self._solver is not None:
            low, high = pool.least[self.at_work], pool.most[self.at_work]
            self._solver.change_bounds(slice(None), np.append(self._lower, low), np.append(self._upper, high))

    def _keep(self, kept: np.ndarray) -> None:
        """Let those at work that are not marked rest."""
        self._useful = None
        if not kept.all():
            self.pool.at_work[self.at_work[~kept]] = False
            self.at_work, self._solver = self.at_work[kept], None

    # ------------------------------------------------------------------ solving

    def solve(self, limits: Limits, price: float, *, costs: bool = True) -> Outcome:
        """Solve from the last basis.

        Parameters
        ----------
        price : of what a row is missed by
        costs : whether anything else has its costs
        """
        pool = self.pool
        if self._joining:
            if self._useful is not None:
                self._keep(self._useful)
            self.at_work = np.append(self.at_work, np.array(list(self._joining), np.intp))
            pool.at_work[self.at_work] = True
            self._joining.clear()
            self._solver = None
        if self._solver is None:
            self._solver = LinearSolver(self._problem(self.at_work), counters=self.counters)
            if self._basis is not None:
                own = self._basis.columns[: self.own]
                self._solver.start_from(Basis(np.append(own, pool.codes[self.at_work]), self._basis.rows), None)
        now = np.append(self._costs, pool.cost[self.at_work]) if costs else np.zeros(self.own + len(self.at_work))
        now[self.misses] = price
        if (now != self._solver.costs).any():
            self._solver.change_costs(slice(None), now)
        outcome = self._solver.solve(limits)
        if outcome.basis is not None:
            self._basis = outcome.basis
            pool.codes[:] = AT_LOWER
            pool.codes[self.at_work] = outcome.basis.columns[self.own :]
            self._useful = self._promising(outcome)
        return outcome

    def _promising(self, outcome: Outcome) -> np.ndarray | None:
        """Mark which solutions stay at work; None where there are not too many."""
        if len(self.at_work) <= FULL * len(self._limits[0]) or outcome.reduced is None or outcome.x is None:
            return None
        idle = (self.pool.codes[self.at_work] != BASIC) & (outcome.x[self.own :] == 0)
        dear = np.where(idle, outcome.reduced[self.own :], -np.inf)
        kept = np.ones(len(dear), bool)
        kept[np.argsort(-dear, kind="stable")[: int(REST * len(dear))]] = False
        return kept | ~idle

    def _problem(self, numbers: np.ndarray) -> Problem:
        """Return the master problem of some solutions."""
        first, pool = self._first, self.pool
        counts, rows, values = pool.columns(numbers)
        starts = np.concatenate([first.indptr, first.indptr[-1] + counts.cumsum()]).astype(np.int32)
        matrix = csc_matrix(
            (np.concatenate([first.data, values]), np.concatenate([first.indices, rows]), starts),
            shape=(first.shape[0], self.own + len(numbers)),
        )
        low, high = np.append(self._lower, pool.least[numbers]), np.append(self._upper, pool.most[numbers])
        return Problem.build(matrix, *self._limits, low, high, np.append(self._costs, pool.cost[numbers]))

    def whole_problem(self) -> Problem:
        """Return the problem of taking the solutions that were found in whole numbers, with no row missed."""
        p, plain = self.blocks.problem, self._problem(np.arange(len(self.pool.solutions)))
        upper, kinds = plain.upper.copy(), np.full(plain.n, INTEGER, np.uint8)
        upper[self.misses] = 0.0
        kinds[: len(self.blocks.beside)] = p.kinds[self.blocks.beside]
        kinds[self.misses] = 0
        return replace(plain, upper=upper, kinds=kinds, offset=p.offset)
