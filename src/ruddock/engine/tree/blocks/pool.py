"""All solutions of blocks that were ever found, as columns of the master problem, in arrays that grow."""

from __future__ import annotations

from collections.abc import Iterable
from typing import Any, NamedTuple

import numpy as np
from scipy.sparse import csc_matrix

from ruddock.engine.outcome import AT_LOWER
from ruddock.engine.tree.blocks.structure import Blocks
from ruddock.problem import Floats

ABOUT = [("cost", float), ("least", float), ("most", float), ("code", np.int8), ("at work", bool)]  # of a solution


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


class Told(NamedTuple):
    """Solutions as a few arrays, for another process: their groups, switches and items, one after another."""

    groups: np.ndarray
    on: np.ndarray
    items: np.ndarray


class Growing:
    """An array of lines to which more are added at the end."""

    def __init__(self, dtype: Any, *width: int) -> None:
        self._held, self.count = np.zeros((16, *width), dtype), 0

    def extend(self, lines: Any) -> None:
        """Add lines."""
        until = self.count + len(lines)
        if until > len(self._held):
            more = np.zeros((max(until, 2 * len(self._held)), *self._held.shape[1:]), self._held.dtype)
            more[: self.count] = self._held[: self.count]
            self._held = more
        self._held[self.count : until] = lines
        self.count = until

    @property
    def now(self) -> np.ndarray:
        """The lines there are, to be changed in place."""
        return self._held[: self.count]


class _Found:
    """What was found for one group: the numbers of its solutions, and the values of its columns, the switch last."""

    def __init__(self, blocks: Blocks, links: csc_matrix, number: int) -> None:
        columns = blocks.groups[number].first.everything
        self.links, self.costs = links[:, columns], blocks.problem.costs[columns]
        self.numbers, self.values = Growing(np.intp), Growing(float, len(columns))


class Pool:
    """Solutions by the number that they got when they were found.

    Parameters
    ----------
    blocks : Blocks
    rows : int
        Linking rows; below them the master problem has one row for each group.

    Attributes
    ----------
    solutions : list of Solution
    """

    def __init__(self, blocks: Blocks, rows: int) -> None:
        self.blocks, self._m = blocks, rows
        self.solutions: list[Solution] = []
        links = csc_matrix(blocks.links)
        self._found = [_Found(blocks, links, number) for number in range(len(blocks.groups))]
        self._known: dict[tuple[int, bool, bytes], int] = {}
        self._ends, self._rows, self._values = Growing(np.intp), Growing(np.int32), Growing(float)
        self._ends.extend([0])
        self._about = Growing(ABOUT)
        self._untold: list[int] = []

    @property
    def cost(self) -> Floats:
        """Of each solution."""
        return self._about.now["cost"]

    @property
    def least(self) -> Floats:
        """How many times each is taken at least."""
        return self._about.now["least"]

    @property
    def most(self) -> Floats:
        """How many times each is taken at most."""
        return self._about.now["most"]

    @property
    def codes(self) -> np.ndarray:
        """The basis code of each."""
        return self._about.now["code"]

    @property
    def at_work(self) -> np.ndarray:
        """Whether the master problem has a column for each."""
        return self._about.now["at work"]

    def numbers(self, group: int) -> np.ndarray:
        """Return the numbers of the solutions of a group."""
        return self._found[group].numbers.now

    def matrix(self, group: int) -> Floats:
        """Return the values of a group's columns in its solutions, line by line."""
        return self._found[group].values.now

    def number(self, solution: Solution) -> int:
        """Return the number of a solution, which is added where it is new."""
        number = self._known.setdefault(_key(solution), len(self.solutions))
        if number == len(self.solutions):
            self._add(solution)
            self._untold.append(number)
        return number

    def _add(self, solution: Solution) -> None:
        _, values = self.values(solution)
        found = self._found[solution.group]
        found.numbers.extend([len(self.solutions)])
        found.values.extend([values])
        self.solutions.append(solution)
        sums = found.links @ values
        rows = np.flatnonzero(sums)
        self._rows.extend(np.append(rows, self._m + solution.group))
        self._values.extend(np.append(sums[rows], 1.0))
        self._ends.extend([self._rows.count])
        self._about.extend([(found.costs @ values, 0.0, np.inf, AT_LOWER, False)])

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

    def columns(self, numbers: np.ndarray) -> tuple[np.ndarray, np.ndarray, Floats]:
        """Return columns of the master problem, one after another: how many entries each has, their rows and values."""
        ends = self._ends.now
        first, counts = ends[numbers], ends[numbers + 1] - ends[numbers]
        begins = counts.cumsum() - counts
        at = np.arange(counts.sum()) + np.repeat(first - begins, counts)
        return counts, self._rows.now[at], self._values.now[at]

    # ------------------------------------------------------------------ between processes

    def tell(self) -> Told:
        """Return what was found here since this was last asked."""
        fresh = [self.solutions[number] for number in self._untold]
        self._untold = []
        items = [solution.items for solution in fresh] or [np.zeros(0, np.int32)]
        return Told(
            np.array([solution.group for solution in fresh], np.int32),
            np.array([solution.on for solution in fresh], bool),
            np.concatenate(items),
        )

    def hear(self, told: Told) -> None:
        """Add what was found elsewhere."""
        begin = 0
        for group, on in zip(told.groups.tolist(), told.on.tolist(), strict=True):
            end = begin + len(self.blocks.groups[group].first.columns)
            solution = Solution(group, told.items[begin:end], on)
            begin = end
            if self._known.setdefault(_key(solution), len(self.solutions)) == len(self.solutions):
                self._add(solution)


def _key(solution: Solution) -> tuple[int, bool, bytes]:
    return solution.group, solution.on, solution.items.tobytes()
