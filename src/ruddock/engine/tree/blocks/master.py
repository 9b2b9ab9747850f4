"""The master problem: how many of each known solution of a block are taken, so that the linking rows hold.

Its columns are those that stand beside the blocks, what rows may be missed by at a price, and one for every solution
of a block that has been found (Dantzig and Wolfe 1960).
"""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from scipy.sparse import csc_matrix, csr_matrix, hstack, vstack

from ruddock.engine.outcome import AT_LOWER, Basis, Counters, Limits, Outcome
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.tree.blocks.structure import Blocks
from ruddock.problem import INTEGER, Floats, Problem


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


@dataclass(eq=False, repr=False)
class Kept:
    """The solutions of one group: their items line by line, and their numbers among the master's columns."""

    items: np.ndarray
    on: np.ndarray
    at: np.ndarray


class Master:
    """The linear problem of the linking rows, one row for each group below them, and its columns so far.

    Attributes
    ----------
    solutions : list of Solution
        In the order of their columns.
    own : int
        Number of columns before them.
    """

    def __init__(self, blocks: Blocks, counters: Counters) -> None:
        self.blocks, self.counters = blocks, counters
        p, links = blocks.problem, blocks.links
        self.m, groups = links.shape[0], len(blocks.groups)
        low, high = p.row_lower[blocks.rows], p.row_upper[blocks.rows]
        under, over = np.flatnonzero(np.isfinite(low)), np.flatnonzero(np.isfinite(high))
        missed = csc_matrix(
            (
                np.concatenate((np.ones(len(under)), -np.ones(len(over)))),
                (np.concatenate((under, over)), np.arange(len(under) + len(over))),
            ),
            shape=(self.m + groups, len(under) + len(over)),
        )
        beside = vstack([links[:, blocks.beside], csr_matrix((groups, len(blocks.beside)))])
        self._matrix = csc_matrix(hstack([beside, missed]))
        self.misses = np.arange(len(blocks.beside), self._matrix.shape[1])
        self.own = self._matrix.shape[1]
        count = np.array([len(group.blocks) for group in blocks.groups], float)
        self._limits = np.concatenate((low, count)), np.concatenate((high, count))
        self._lower = np.concatenate((blocks.lower[blocks.beside], np.zeros(len(self.misses))))
        self._upper = np.concatenate((blocks.upper[blocks.beside], np.full(len(self.misses), np.inf)))
        self._costs = np.concatenate((p.costs[blocks.beside], np.zeros(len(self.misses))))
        self.solutions: list[Solution] = []
        self._known: set[tuple[int, bool, bytes]] = set()
        self._solver: LinearSolver | None = None
        self._basis: Basis | None = None
        self._waiting: list[Solution] = []

    # ------------------------------------------------------------------ columns

    def offer(self, solution: Solution) -> bool:
        """Let a solution join; say whether it is new."""
        key = solution.group, solution.on, solution.items.tobytes()
        if key in self._known:
            return False
        self._known.add(key)
        self._waiting.append(solution)
        return True

    def values(self, solution: Solution) -> tuple[np.ndarray, Floats]:
        """Return the columns of the problem in the block that stands for its group, and their values."""
        block = self.blocks.groups[solution.group].first
        values = solution.items.astype(float)
        return block.everything, values if block.switch < 0 else np.append(values, float(solution.on))

    def _join(self) -> None:
        """Make columns of the solutions that wait."""
        p, links = self.blocks.problem, self.blocks.links
        parts = [self.values(solution) for solution in self._waiting]
        chosen = csc_matrix(
            (
                np.concatenate([values for _, values in parts]),
                np.concatenate([columns for columns, _ in parts]),
                np.cumsum([0] + [len(columns) for columns, _ in parts]),
            ),
            shape=(p.n, len(parts)),
        )
        of_group = csr_matrix(
            (np.ones(len(parts)), ([solution.group for solution in self._waiting], np.arange(len(parts)))),
            shape=(len(self.blocks.groups), len(parts)),
        )
        self._matrix = csc_matrix(hstack([self._matrix, vstack([links @ chosen, of_group])]))
        self._lower = np.append(self._lower, np.zeros(len(parts)))
        self._upper = np.append(self._upper, np.full(len(parts), np.inf))
        self._costs = np.append(self._costs, chosen.T @ p.costs)
        if self._basis is not None:
            codes = np.concatenate((self._basis.columns, np.full(len(parts), AT_LOWER, np.int8)))
            self._basis = Basis(codes, self._basis.rows)
        self.solutions += self._waiting
        self._waiting = []
        self._solver = None

    def kept(self, group: int) -> Kept:
        """Return all solutions of a group."""
        if self._waiting:
            self._join()
        at = np.array([k for k, s in enumerate(self.solutions) if s.group == group], np.intp)
        items = np.array([self.solutions[k].items for k in at.tolist()])
        return Kept(items, np.array([self.solutions[k].on for k in at.tolist()]), self.own + at)

    def total(self, counts: Floats) -> Floats:
        """Return what the columns of blocks come to when solutions are taken so many times, by the first blocks."""
        result = np.zeros(self.blocks.problem.n)
        for k in np.flatnonzero(counts).tolist():
            columns, values = self.values(self.solutions[k])
            result[columns] += counts[k] * values
        return result

    # ------------------------------------------------------------------ solving

    def restrict(self, least: Floats, upper: Floats | None) -> None:
        """Let solutions be taken so many times at least, and no more of those beyond bounds of the columns."""
        if self._waiting:
            self._join()
        least = np.append(least, np.zeros(len(self.solutions) - len(least)))
        most = np.full(len(least), np.inf)
        if upper is not None:
            for g, group in enumerate(self.blocks.groups):
                kept = self.kept(g)
                bad = (kept.items > upper[group.first.columns]).any(axis=1)
                most[kept.at[bad] - self.own] = least[kept.at[bad] - self.own]
        at = slice(self.own, None)
        self._lower[at], self._upper[at] = least, most
        if self._solver is not None:
            self._solver.change_bounds(at, least, most)

    def narrow(self, lower: Floats, upper: Floats) -> None:
        """Let only solutions within bounds of the columns be taken; columns beside the blocks get the same bounds."""
        if self._waiting:
            self._join()
        most = np.full(len(self.solutions), np.inf)
        for g, group in enumerate(self.blocks.groups):
            kept, block = self.kept(g), group.first
            low, high = lower[block.columns], upper[block.columns]
            bad = ((kept.items < low) | (kept.items > high)).any(axis=1)
            if block.switch >= 0:
                bad |= (kept.on < lower[block.switch]) | (kept.on > upper[block.switch])
            most[kept.at[bad] - self.own] = 0.0
        beside = len(self.blocks.beside)
        self._lower[:beside], self._upper[:beside] = lower[self.blocks.beside], upper[self.blocks.beside]
        self._upper[self.own :] = most
        if self._solver is not None:
            self._solver.change_bounds(slice(None), self._lower, self._upper)

    def whole_problem(self) -> Problem:
        """Return the problem of taking the solutions that are known in whole numbers, with no row missed."""
        p = self.blocks.problem
        upper = self._upper.copy()
        upper[self.misses] = 0.0
        kinds = np.full(len(upper), INTEGER, np.uint8)
        kinds[: len(self.blocks.beside)] = p.kinds[self.blocks.beside]
        kinds[self.misses] = 0
        low, high = self._limits
        return Problem.build(self._matrix, low, high, self._lower, upper, self._costs, kinds, p.offset)

    def solve(self, limits: Limits, price: float, *, costs: bool = True) -> Outcome:
        """Solve from the last basis.

        Parameters
        ----------
        price : of what a row is missed by
        costs : whether anything else has its costs
        """
        if self._waiting:
            self._join()
        if self._solver is None:
            matrix, (low, high) = self._matrix, self._limits
            problem = Problem.build(matrix, low, high, self._lower, self._upper, self._costs)
            self._solver = LinearSolver(problem, counters=self.counters)
            if self._basis is not None:
                self._solver.basis = self._basis
        now = self._costs.copy() if costs else np.zeros(len(self._costs))
        now[self.misses] = price
        if (now != self._solver.costs).any():
            self._solver.change_costs(slice(None), now)
        outcome = self._solver.solve(limits)
        if outcome.basis is not None:
            self._basis = outcome.basis
        return outcome
