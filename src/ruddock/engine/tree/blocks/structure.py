"""Blocks of a problem: knapsacks that a few rows link, as bins, vans and agents are linked by what each item needs.

A block is one or two rows of integer columns with weights and room, perhaps with a switch that pays for the room. All
rows that are no such room link the blocks; columns of no block stand beside them.
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
CELLS = 40_000_000  # of all tables of one round of knapsacks, at most
FEWEST_ITEMS = 3  # of a block, on average
NO_SWITCH = -1


@dataclass(eq=False, repr=False)
class Block:
    """A knapsack: ``weights @ x[columns] <= rooms`` where the switch is on; nothing in it where it is off.

    Attributes
    ----------
    columns : int array, shape (k,)
    weights : int64 array, shape (2, k)
        In two dimensions, as weight and volume; zero in the first where there is only one.
    rooms : (int, int)
    switch : number of the binary column, or -1
    """

    columns: np.ndarray
    weights: np.ndarray
    rooms: tuple[int, int]
    switch: int

    @property
    def cells(self) -> int:
        """How large a table it takes to solve it."""
        return len(self.columns) * (self.rooms[0] + 1) * (self.rooms[1] + 1)

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
    lower, upper = lower.copy(), upper.copy()
    blocks: list[Block] = []
    within = np.full(problem.n, -1)
    rooms = _rooms(problem, matrix)
    for rows in rooms:
        block = _block(problem, matrix, rows, lower, upper)
        if block is None:
            return None
        within[block.everything] = len(blocks)
        blocks.append(block)
    if len(blocks) < 2 or sum(len(block.columns) for block in blocks) < FEWEST_ITEMS * len(blocks):
        return None
    known = np.concatenate((*rooms, _implied_by_switches(problem, matrix, blocks, within, upper)))
    orders = _orders_of_switches(problem, matrix, blocks, within)
    for left_out in (orders, {}):  # rows that only say which of identical blocks comes first need not link them
        rows = np.setdiff1d(np.arange(problem.m), np.append(known, np.array(sorted(left_out), np.intp)))
        groups = _grouped(problem, csc_matrix(matrix[rows]), blocks, lower, upper)
        if groups is None or not len(rows):
            return None
        of = {block.switch: number for number, group in enumerate(groups) for block in group.blocks}
        if all(of[a] == of[b] for a, b in left_out.values()):
            return Blocks(problem, lower, upper, groups, matrix[rows], rows, np.flatnonzero(within < 0))
    raise AssertionError("nothing left out is always right")


def _rooms(problem: Problem, matrix: csr_matrix) -> list[np.ndarray]:
    """Return the rows that limit the weights of each block, two at most: of integers, with different coefficients.

    From short rows to long ones: columns that are new make a block, those of one block give it a second dimension. A
    row over several blocks links them.
    """
    owner = np.repeat(np.arange(problem.m), np.diff(matrix.indptr))
    size, count = np.abs(matrix.data), np.diff(matrix.indptr)
    largest, least = np.zeros(problem.m), np.full(problem.m, np.inf)
    np.maximum.at(largest, owner, size)
    np.minimum.at(least, owner, size)
    mixed = np.bincount(owner, ~problem.integers[matrix.indices], problem.m) > 0
    one_sided = np.isfinite(problem.row_lower) != np.isfinite(problem.row_upper)
    chosen = np.flatnonzero(~mixed & one_sided & (count > 2) & (largest > least))
    within = np.full(problem.n, -1)
    found: list[list[int]] = []
    for i in chosen[np.argsort(count[chosen], kind="stable")].tolist():
        columns = matrix.indices[matrix.indptr[i] : matrix.indptr[i + 1]]
        met = np.unique(within[columns])
        if len(met) == 1 and met[0] < 0:
            within[columns] = len(found)
            found.append([i])
            continue
        block, new = int(met[-1]), int((within[columns] < 0).sum())
        if len(met) - (new > 0) == 1 and new <= 1 and len(found[block]) == 1:  # at most a switch is new
            found[block].append(i)
            within[columns] = block
    return [np.array(rows, np.intp) for rows in found]


def _block(problem: Problem, matrix: csr_matrix, rows: np.ndarray, lower: Floats, upper: Floats) -> Block | None:
    """Read rows as a knapsack, and narrow its items to what fits; None where they are none."""
    switch, dimensions = NO_SWITCH, []
    for row in rows.tolist():
        part = slice(matrix.indptr[row], matrix.indptr[row + 1])
        columns, values, limit = matrix.indices[part], matrix.data[part], problem.row_upper[row]
        if not np.isfinite(limit):
            values, limit = -values, -problem.row_lower[row]
        unit = measure(values)
        if not unit or (lower[columns] < 0).any() or not np.isfinite(lower[columns]).all():
            return None
        less = np.flatnonzero(values < 0)
        if len(less):
            j = int(columns[less[0]])
            if len(less) > 1 or limit != 0 or upper[j] > 1 or lower[columns].any() or switch not in (NO_SWITCH, j):
                return None
            switch, limit = j, -values[less[0]]
            columns, values = np.delete(columns, less), np.delete(values, less)
        if limit < 0:
            return None
        dimensions.append((columns, np.round(values / unit).astype(np.int64), limit / unit))
    items = np.unique(np.concatenate([columns for columns, *_ in dimensions]))
    if switch in items:
        return None
    weights, rooms = np.zeros((2, len(items)), np.int64), [0, 0]
    for k, (columns, values, limit) in enumerate(dimensions, start=2 - len(dimensions)):
        weights[k, np.searchsorted(items, columns)] = values
        room = np.floor(min(limit, 2.0**40) + near(np.array(limit)))
        upper[columns] = np.minimum(upper[columns], room // values)
        rooms[k] = int(min(room, values @ upper[columns]))
    return Block(items.astype(np.intp), weights, (rooms[0], rooms[1]), switch)


def _orders_of_switches(
    problem: Problem, matrix: csr_matrix, blocks: list[Block], within: np.ndarray
) -> dict[int, tuple[int, int]]:
    """Return the rows that say of two switches that one is not on without the other, with the switches."""
    switches = {block.switch for block in blocks}
    found = {}
    for i in np.flatnonzero(np.diff(matrix.indptr) == 2).tolist():
        part = slice(matrix.indptr[i], matrix.indptr[i + 1])
        a, b = matrix.indices[part].tolist()
        low, high = problem.row_lower[i], problem.row_upper[i]
        opposite = matrix.data[part].sum() == 0 and 0 in (low, high) and np.isfinite(low) != np.isfinite(high)
        if opposite and within[a] != within[b] and {a, b} <= switches:
            found[i] = a, b
    return found


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


def _grouped(
    problem: Problem, links: csc_matrix, blocks: list[Block], lower: Floats, upper: Floats
) -> list[Group] | None:
    """Put identical blocks together: those whose items have the same costs, weights, bounds and links.

    None where solving one of each would take too much.
    """

    def mark(j: int, weights: tuple[int, ...]) -> tuple[object, ...]:
        part = slice(links.indptr[j], links.indptr[j + 1])
        rest = links.indices[part].tobytes(), links.data[part].tobytes()
        return weights, problem.costs[j], lower[j], upper[j], *rest

    groups: dict[object, list[Block]] = {}
    for block in blocks:
        marks = [mark(j, tuple(w)) for j, w in zip(block.columns.tolist(), block.weights.T.tolist(), strict=True)]
        order = sorted(range(len(marks)), key=marks.__getitem__)
        key = (block.rooms, None if block.switch < 0 else mark(block.switch, ()), *(marks[k] for k in order))
        weights = np.ascontiguousarray(block.weights[:, order])
        groups.setdefault(key, []).append(Block(block.columns[order], weights, block.rooms, block.switch))
    if sum(same[0].cells for same in groups.values()) > CELLS:
        return None
    return [
        Group(same, Knapsack(same[0].weights, same[0].rooms, upper[same[0].columns].astype(np.int64)))
        for same in groups.values()
    ]
