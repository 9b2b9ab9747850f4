"""The master problem: how many of each known solution of a block are taken, so that the linking rows hold.

Its columns are those that stand beside the blocks, what rows may be missed by at a price, and one for each of the
solutions that are of use at the moment (Dantzig and Wolfe 1960). All that were ever found are kept aside.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from typing import NamedTuple

import numpy as np
from scipy.sparse import csc_matrix, csr_matrix, hstack, vstack

from ruddock.engine.outcome import AT_LOWER, BASIC, Basis, Counters, Limits, Outcome
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.tree.blocks.structure import Blocks
from ruddock.problem import INTEGER, Floats, Problem

CALLED = 15  # solutions of each group that were found earlier and join at one time
BACK = 20  # of each group that are called back where bounds have changed
FULL = 5  # times as many solutions at work as there are rows, beyond which the least promising rest
REST = 0.4  # of them


class Solution(NamedTuple):
    """One solution of a block of a group.

    Attributes
    ----------
    items : int array
        Copies of its items, shape (k,); all zero where it is switched off.
    on : whether its switch is on, where it has one
    """

    group: int
    items: np.ndarray
    on: bool


class Found:
    """All solutions of one group that were ever found, line by line; there may be room for more below."""

    def __init__(self, width: int) -> None:
        self.count = 0
        self.numbers = np.zeros(16, np.intp)  # in the order in which they were found, of all groups
        self.values = np.zeros((16, width))  # of its columns, the switch last

    def add(self, number: int, values: Floats) -> None:
        """Add a line."""
        if self.count == len(self.numbers):
            self.numbers = np.concatenate((self.numbers, np.zeros_like(self.numbers)))
            self.values = np.concatenate((self.values, np.zeros_like(self.values)))
        self.numbers[self.count], self.values[self.count] = number, values
        self.count += 1

    def within(self, lower: Floats, upper: Floats) -> np.ndarray:
        """Return which lines are within bounds."""
        values = self.values[: self.count]
        return np.asarray(((values >= lower) & (values <= upper)).all(axis=1))


class Master:
    """The linear problem of the linking rows, one row for each group below them, and its columns so far.

    Attributes
    ----------
    solutions : list of Solution
        All that were found.
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
        self._columns_of = csc_matrix(links)
        self.solutions: list[Solution] = []
        self.at_work = np.zeros(0, np.intp)
        self._found = [Found(len(group.first.everything)) for group in blocks.groups]
        self._known: dict[tuple[int, bool, bytes], int] = {}
        # of every solution: its column's rows, values and cost, how often it is taken at least and at most
        self._columns: list[tuple[np.ndarray, Floats]] = []
        self._cost, self._least, self._most = np.zeros(0), np.zeros(0), np.zeros(0)
        self._codes = np.zeros(0, np.int8)
        self._basis: Basis | None = None
        self._solver: LinearSolver | None = None
        self._joining: list[int] = []
        self._useful: np.ndarray | None = None  # which of those at work to keep when others join

    # ------------------------------------------------------------------ columns

    def offer(self, solution: Solution) -> bool:
        """Let a solution join the work; say whether it was not at work before."""
        key = solution.group, solution.on, solution.items.tobytes()
        number = self._known.get(key)
        if number is None:
            number = self._known[key] = len(self.solutions)
            self._add(solution, number)
        elif (self.at_work == number).any():
            return False
        self._most[number] = np.inf
        if number not in self._joining:
            self._joining.append(number)
        return True

    def call(self, group: int, reduced: Floats, worth: float) -> bool:
        """Call back solutions found earlier that are worth less than a value at present prices; say if any are."""
        found = self._found[group]
        values = found.values[: found.count] @ reduced[self.blocks.groups[group].first.everything]
        numbers = found.numbers[: found.count]
        idle = self._most[numbers] > 0
        idle &= ~np.isin(numbers, self.at_work)
        better = np.flatnonzero(idle & (values < worth))
        for number in numbers[better[np.argsort(values[better], kind="stable")[:CALLED]]].tolist():
            if number not in self._joining:
                self._joining.append(number)
        return bool(len(better))

    def _add(self, solution: Solution, number: int) -> None:
        p, links = self.blocks.problem, self._columns_of
        columns, values = self.values(solution)
        self.solutions.append(solution)
        self._found[solution.group].add(number, values)
        sums = np.zeros(self.m + len(self.blocks.groups))
        for j in np.flatnonzero(values).tolist():
            part = slice(links.indptr[columns[j]], links.indptr[columns[j] + 1])
            sums[links.indices[part]] += values[j] * links.data[part]
        sums[self.m + solution.group] = 1.0
        rows = np.flatnonzero(sums)
        self._columns.append((rows, sums[rows]))
        self._cost = np.append(self._cost, p.costs[columns] @ values)
        self._least, self._most = np.append(self._least, 0.0), np.append(self._most, np.inf)
        self._codes = np.append(self._codes, np.int8(AT_LOWER))

    def values(self, solution: Solution) -> tuple[np.ndarray, Floats]:
        """Return the columns of the problem in the block that stands for its group, and their values."""
        block = self.blocks.groups[solution.group].first
        values = solution.items.astype(float)
        return block.everything, values if block.switch < 0 else np.append(values, float(solution.on))

    def total(self, counts: Iterable[tuple[int, float]]) -> Floats:
        """Return what the columns of blocks come to when solutions are taken so many times, by the first blocks."""
        result = np.zeros(self.blocks.problem.n)
        for number, count in counts:
            columns, values = self.values(self.solutions[number])
            result[columns] += count * values
        return result

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
        self._least[:], self._most[:] = 0.0, 0.0
        called: list[np.ndarray] = []
        for group, found in zip(self.blocks.groups, self._found, strict=True):
            columns = group.first.everything
            inside = np.flatnonzero(found.within(lower[columns], upper[columns]))
            self._most[found.numbers[inside]] = np.inf
            if reduced is not None:
                worth = found.values[inside] @ reduced[columns]
                called.append(found.numbers[inside[np.argsort(worth, kind="stable")[:BACK]]])
        for number, count in least.items():
            self._least[number] = count
            self._most[number] = max(count, self._most[number])
        self._keep((self._most[self.at_work] > 0) | (self._codes[self.at_work] == BASIC))
        called.append(np.array(sorted(least), np.intp))
        for number in np.setdiff1d(np.concatenate(called), self.at_work).tolist():
            if number not in self._joining:
                self._joining.append(number)
        self._joining = [number for number in self._joining if self._most[number] > 0]
        beside = self.blocks.beside
        self._lower[: len(beside)], self._upper[: len(beside)] = lower[beside], upper[beside]
        if self._solver is not None:
            low, high = self._least[self.at_work], self._most[self.at_work]
            self._solver.change_bounds(slice(None), np.append(self._lower, low), np.append(self._upper, high))

    def _keep(self, kept: np.ndarray) -> None:
        """Let those at work that are not marked rest."""
        self._useful = None
        if not kept.all():
            self.at_work, self._solver = self.at_work[kept], None

    # ------------------------------------------------------------------ solving

    def solve(self, limits: Limits, price: float, *, costs: bool = True) -> Outcome:
        """Solve from the last basis.

        Parameters
        ----------
        price : of what a row is missed by
        costs : whether anything else has its costs
        """
        if self._joining:
            if self._useful is not None:
                self._keep(self._useful)
            self.at_work, self._joining = np.append(self.at_work, np.array(self._joining, np.intp)), []
            self._solver = None
        if self._solver is None:
            self._solver = LinearSolver(self._problem(self.at_work), counters=self.counters)
            if self._basis is not None:
                own = self._basis.columns[: self.own]
                self._solver.start_from(Basis(np.append(own, self._codes[self.at_work]), self._basis.rows), None)
        now = np.append(self._costs, self._cost[self.at_work]) if costs else np.zeros(self.own + len(self.at_work))
        now[self.misses] = price
        if (now != self._solver.costs).any():
            self._solver.change_costs(slice(None), now)
        outcome = self._solver.solve(limits)
        if outcome.basis is not None:
            self._basis = outcome.basis
            self._codes[:] = AT_LOWER
            self._codes[self.at_work] = outcome.basis.columns[self.own :]
            self._useful = self._promising(outcome)
        return outcome

    def _promising(self, outcome: Outcome) -> np.ndarray | None:
        """Mark which solutions stay at work; None where there are not too many."""
        if len(self.at_work) <= FULL * len(self._limits[0]) or outcome.reduced is None or outcome.x is None:
            return None
        idle = (self._codes[self.at_work] != BASIC) & (outcome.x[self.own :] == 0)
        dear = np.where(idle, outcome.reduced[self.own :], -np.inf)
        kept = np.ones(len(dear), bool)
        kept[np.argsort(-dear, kind="stable")[: int(REST * len(dear))]] = False
        return kept | ~idle

    def _problem(self, numbers: np.ndarray) -> Problem:
        """Return the master problem of some solutions."""
        first, parts = self._first, [self._columns[k] for k in numbers.tolist()]
        counts = np.array([len(rows) for rows, _ in parts], first.indptr.dtype)
        matrix = csc_matrix(
            (
                np.concatenate([first.data, *(values for _, values in parts)]),
                np.concatenate([first.indices, *(rows for rows, _ in parts)]),
                np.concatenate([first.indptr, first.indptr[-1] + counts.cumsum()]),
            ),
            shape=(first.shape[0], self.own + len(parts)),
        )
        low, high = np.append(self._lower, self._least[numbers]), np.append(self._upper, self._most[numbers])
        return Problem.build(matrix, *self._limits, low, high, np.append(self._costs, self._cost[numbers]))

    def whole_problem(self) -> Problem:
        """Return the problem of taking the solutions that were found in whole numbers, with no row missed."""
        p, plain = self.blocks.problem, self._problem(np.arange(len(self.solutions)))
        upper, kinds = plain.upper.copy(), np.full(plain.n, INTEGER, np.uint8)
        upper[self.misses] = 0.0
        kinds[: len(self.blocks.beside)] = p.kinds[self.blocks.beside]
        kinds[self.misses] = 0
        return replace(plain, upper=upper, kinds=kinds, offset=p.offset)
