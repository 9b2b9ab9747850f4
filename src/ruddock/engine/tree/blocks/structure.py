"""Blocks of a problem: knapsacks that a few rows link, as bins, vans and agents are linked by what each item needs.

A block is one row of integer columns with weights and room, perhaps with a switch that pays for the room. All rows
that are no such room link the blocks; columns of no block stand beside them.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from scipy.sparse import csc_matrix, csr_matrix

from ruddock.engine.measure import measure, near
from ruddock.engine.tree.blocks.knapsack import Knapsack
from ruddock.problem import Floats, Problem

LARGEST = 50_000  # columns of a problem that is looked at
CELLS = 20_000_000  # of all tables of one round of knapsacks, at most
FEWEST_ITEMS = 3  # of a block, on average
NO_SWITCH = -1


@dataclass(eq=False, repr=False)
class Block:
    """A knapsack: ``weights @ x[columns] <= room`` where the switch is on; nothing in it where it is off.

    Attributes
    ----------
    columns : int array, shape (k,)
    weights : int64 array, shape (k,)
    room : int
    switch : number of the binary column, or -1
    """

    columns: np.ndarray
    weights: np.ndarray
    room: int
    switch: int

    @cached_property
    def everything(self) -> np.ndarray:
        """Its columns, the switch last."""
        return self.columns if self.switch < 0 else np.append(self.columns, self.switch)


@dataclass(eq=False, repr=False)
class Group:
    """Identical blocks; the columns of all of them stand in the same order."""

    blocks: list[Block]
    knapsack: Knapsack

    @property
    def first(self) -> Block:
        """The block that stands for all."""
        return self.blocks[0]


@dataclass(eq=False, repr=False)
class Blocks:
    """A problem taken apart.

    Attributes
    ----------
    problem : Problem
    lower, upper : float arrays, shape (n,)
        Bounds of the columns; those of items as their blocks allow.
    groups : list of Group
    links : csr matrix, shape (number of linking rows, n)
    rows : int array
        Numbers of the linking rows.
    beside : int array
        Columns of no block.
    """

    problem: Problem
    lower: Floats
    upper: Floats
    groups: list[Group]
    links: csr_matrix
    rows: np.ndarray
    beside: np.ndarray

    @property
    def distinct(self) -> bool:
        """Whether no two blocks are identical."""
        return all(len(group.blocks) == 1 for group in self.groups)

    @cached_property
    def prices_of(self) -> csr_matrix:
        """The linking rows, transposed."""
        return csr_matrix(self.links.T)


def taken_apart(problem: Problem, lower: Floats, upper: Floats) -> Blocks | None:
    """Return the blocks of a problem within whole bounds, or None where it has none of this kind."""
    if problem.n > LARGEST or problem.m < 3:
        return None
    matrix = csr_matrix(problem.matrix())
    owner = np.repeat(np.arange(problem.m), np.diff(matrix.indptr))
    rooms = _rooms(problem, matrix, owner)
    if len(rooms) < 2:
        return None
    lower, upper = lower.copy(), upper.copy()
    blocks: list[Block] = []
    within = np.full(problem.n, -1)
    for i in rooms.tolist():
        block = _block(problem, matrix, i, lower, upper)
        if block is None:
            return None
        within[block.everything] = len(blocks)
        blocks.append(block)
    implied = _implied_by_switches(problem, matrix, blocks, within, upper)
    rows = np.setdiff1d(np.arange(problem.m), np.concatenate((rooms, implied)))
    cells = sum(len(block.columns) * (block.room + 1) for block in blocks)
    items = sum(len(block.columns) for block in blocks)
    if not len(rows) or items < FEWEST_ITEMS * len(blocks):
        return None
    links = matrix[rows]
    groups = _grouped(problem, csc_matrix(links), blocks, lower, upper)
    if sum(len(g.first.columns) * (g.first.room + 1) for g in groups) > CELLS or cells > 50 * CELLS:
        return None
    return Blocks(problem, lower, upper, groups, links, rows, np.flatnonzero(within < 0))


def _rooms(problem: Problem, matrix: csr_matrix, owner: np.ndarray) -> np.ndarray:
    """Return the rows that limit weights: of integers alone, of different coefficients, no two on one column."""
    size = np.abs(matrix.data)
    count = np.diff(matrix.indptr)
    largest, least = np.zeros(problem.m), np.full(problem.m, np.inf)
    np.maximum.at(largest, owner, size)
    np.minimum.at(least, owner, size)
    mixed = np.bincount(owner, ~problem.integers[matrix.indices], problem.m) > 0
    one_sided = np.isfinite(problem.row_lower) != np.isfinite(problem.row_upper)
    chosen = ~mixed & one_sided & (count > 2) & (largest > least)
    # a row over the columns of several others links them
    for _ in range(2):
        entries = chosen[owner]
        times = np.bincount(matrix.indices[entries], minlength=problem.n)
        if times.max(initial=0) <= 1:
            return np.flatnonzero(chosen)
        alone = np.zeros(problem.n, np.intp)
        alone[matrix.indices[entries]] = owner[entries]  # any of the rows of a column
        first = np.full(problem.m, -1)
        first[owner[entries]] = alone[matrix.indices[entries]]
        several = entries & (alone[matrix.indices] != first[owner])
        over = np.bincount(owner, several, problem.m) > 0
        chosen &= ~over
    return np.zeros(0, np.intp)


def _block(problem: Problem, matrix: csr_matrix, row: int, lower: Floats, upper: Floats) -> Block | None:
    """Read a row as a knapsack, and narrow its items to what fits; None where it is none."""
    part = slice(matrix.indptr[row], matrix.indptr[row + 1])
    columns, values, limit = matrix.indices[part], matrix.data[part], problem.row_upper[row]
    if not np.isfinite(limit):
        values, limit = -values, -problem.row_lower[row]
    unit = measure(values)
    if not unit or (lower[columns] < 0).any() or not np.isfinite(lower[columns]).all():
        return None
    switch = NO_SWITCH
    less = np.flatnonzero(values < 0)
    if len(less):
        j = int(columns[less[0]])
        if len(less) > 1 or limit != 0 or upper[j] > 1 or lower[columns].any():
            return None
        switch, limit = j, -values[less[0]]
        columns, values = np.delete(columns, less), np.delete(values, less)
    if limit < 0:
        return None
    weights = np.round(values / unit).astype(np.int64)
    whole = min(limit / unit, float(weights.sum() * max(1.0, np.nan_to_num(upper[columns], posinf=2.0**40).max())))
    room = int(np.floor(whole + near(np.array(whole))))
    upper[columns] = np.minimum(upper[columns], room // weights)
    room = min(room, int((weights * upper[columns].astype(np.int64)).sum()))
    return Block(columns.astype(np.intp), weights, room, switch)


def _implied_by_switches(
    problem: Problem, matrix: csr_matrix, blocks: list[Block], within: np.ndarray, upper: Floats
) -> np.ndarray:
    """Return the rows that hold items at zero while their switch is off; what else they say narrows the items."""
    pairs = np.flatnonzero(np.diff(matrix.indptr) == 2)
    found = []
    for i in pairs.tolist():
        at = matrix.indptr[i]
        a, b = matrix.indices[at : at + 2].tolist()
        if within[a] < 0 or within[a] != within[b]:
            continue
        switch = blocks[within[a]].switch
        low, high = problem.row_lower[i], problem.row_upper[i]
        if switch not in (a, b) or {low, high} & {0.0} == set() or np.isfinite(low) == np.isfinite(high):
            continue
        sign = 1.0 if high == 0 else -1.0
        of = dict(zip((a, b), (sign * matrix.data[at : at + 2]).tolist(), strict=True))
        item = a if b == switch else b
        if of[item] > 0 > of[switch]:
            most = -of[switch] / of[item]
            upper[item] = min(upper[item], np.floor(most + near(np.array(most))))
            found.append(i)
    return np.array(found, np.intp)


def _grouped(problem: Problem, links: csc_matrix, blocks: list[Block], lower: Floats, upper: Floats) -> list[Group]:
    """Put identical blocks together: those whose items have the same costs, weights, bounds and links."""

    def mark(j: int, weight: int) -> tuple[float | bytes, ...]:
        part = slice(links.indptr[j], links.indptr[j + 1])
        rest = links.indices[part].tobytes(), links.data[part].tobytes()
        return weight, problem.costs[j], lower[j], upper[j], *rest

    groups: dict[object, list[Block]] = {}
    for block in blocks:
        marks = [mark(j, w) for j, w in zip(block.columns.tolist(), block.weights.tolist(), strict=True)]
        order = sorted(range(len(marks)), key=marks.__getitem__)
        key = (block.room, None if block.switch < 0 else mark(block.switch, 0), *(marks[k] for k in order))
        same = Block(block.columns[order], block.weights[order], block.room, block.switch)
        groups.setdefault(key, []).append(same)
    return [
        Group(same, Knapsack(same[0].weights, same[0].room, upper[same[0].columns].astype(np.int64)))
        for same in groups.values()
    ]
