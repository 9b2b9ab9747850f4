"""Plans by taking solutions of blocks one after another, while more are generated for what is left.

Such dives are good at plans, since each solution that is taken is one of a whole block (Sadykov et al. 2019).
"""

from __future__ import annotations

import numpy as np

from ruddock.engine.outcome import Limits
from ruddock.engine.tree.blocks.master import Master
from ruddock.engine.tree.blocks.prices import Generated, Generation
from ruddock.engine.tree.blocks.structure import Blocks
from ruddock.engine.tree.heuristics import Near
from ruddock.engine.tree.state import SearchState
from ruddock.problem import Floats

ROUNDS = 12  # of generating solutions after each that is taken
WHOLE = 1e-6
NODES = 200  # of a search among the solutions that are known


def plan_by_taking(generation: Generation, root: Generated, limits: Limits) -> Floats | None:
    """Return a plan, or None where taking solutions leads to none.

    What is taken in whole numbers stays so; where there is no more of that, the largest share is rounded up.

    Parameters
    ----------
    root : the master problem solved, with no solution taken yet
    """
    blocks, master = generation.blocks, generation.master
    caps = _Caps(blocks)
    found, fixed = root, dict[int, float]()
    while found.taken is not None and found.best is not None:
        if all(abs(count - round(count)) <= WHOLE for _, count in found.taken):
            return plan_of(blocks, master, found.taken, found.beside)
        used = {number: count for number, count in found.taken if master.pool.solutions[number].items.any()}
        more = {number: float(np.floor(count + WHOLE)) for number, count in used.items()}
        if all(count <= fixed.get(number, 0.0) for number, count in more.items()):
            largest = max(used, key=lambda number: used[number] - fixed.get(number, 0.0))
            more[largest] += 1.0
        fixed |= {number: count for number, count in more.items() if count}
        upper = caps.left(master.pool.total(fixed.items()))
        master.narrow(blocks.lower, upper, found.best.reduced, fixed)
        found = generation.run(blocks.lower, upper, np.inf, limits, rounds=ROUNDS, centre=found.best.prices)
    return None


def plan_by_fixing(
    state: SearchState, generation: Generation, found: Generated, lower: Floats, upper: Floats
) -> Floats | None:
    """Return a plan of distinct blocks that may be better than the best one, or None.

    One block after another is fixed to the solution of which the master problem takes the largest share, as long as
    the bound promises a better plan.

    Parameters
    ----------
    found : the master problem solved within these bounds
    """
    master, threshold = generation.master, state.incumbent.threshold()
    lower, upper = lower.copy(), upper.copy()
    while found.taken is not None and found.best is not None and found.bound < threshold:
        x = generation.point(found)
        if not len(state.domain.violated(x)):
            return x
        columns, values = np.zeros(0, np.intp), np.zeros(0)
        for number, _ in sorted(found.taken, key=lambda part: -part[1]):
            columns, values = master.pool.values(master.pool.solutions[number])
            if (lower[columns] < upper[columns]).any():
                break
        else:  # all blocks are fixed, and what stands beside them is not whole
            return None
        lower[columns] = upper[columns] = values
        if not state.bounds.propagate(lower, upper, columns.astype(np.int32)):
            return None
        found = generation.within(lower, upper, threshold, state.effort.quiet(), found.best.prices, ROUNDS)
    return None


class _Caps:
    """How many copies of each item are still of use, by rows that limit what is taken."""

    def __init__(self, blocks: Blocks) -> None:
        p, links = blocks.problem, blocks.links
        self._blocks = blocks
        entry_row = np.repeat(np.arange(links.shape[0]), np.diff(links.indptr))
        negative = np.bincount(entry_row, (links.data < 0) | (blocks.lower[links.indices] < 0), links.shape[0]) > 0
        self._high = p.row_upper[blocks.rows]
        use = (np.isfinite(self._high) & ~negative)[entry_row]
        self._row, self._column, self._value = entry_row[use], links.indices[use], links.data[use]

    def left(self, total: Floats) -> Floats:
        """Return upper bounds of the columns beside what is taken in total."""
        blocks = self._blocks
        activity = blocks.links @ total
        upper = blocks.upper.copy()
        room = np.floor((self._high - activity)[self._row] / self._value + WHOLE)
        np.minimum.at(upper, self._column, np.maximum(room, 0.0))
        keep = np.union1d(blocks.beside, [g.first.switch for g in blocks.groups if g.first.switch >= 0]).astype(np.intp)
        upper[keep] = blocks.upper[keep]
        return upper


def plan_of(blocks: Blocks, master: Master, taken: list[tuple[int, float]], beside: Floats | None) -> Floats:
    """Return the plan in which each solution is taken so many times, in one block after another of its group."""
    x = np.zeros(blocks.problem.n)
    x[blocks.beside] = beside
    next_block = [0] * len(blocks.groups)
    # what is switched on first, as rows that order identical blocks mostly have it
    for number, count in sorted(taken, key=lambda part: not master.pool.solutions[part[0]].on):
        solution = master.pool.solutions[number]
        for _ in range(round(count)):
            block = blocks.groups[solution.group].blocks[next_block[solution.group]]
            next_block[solution.group] += 1
            x[block.columns] = solution.items
            if block.switch >= 0:
                x[block.switch] = float(solution.on)
    return x


def plan_among_known(generation: Generation, near: Near) -> Floats | None:
    """Return the best plan made of solutions that are known, by a search within a budget."""
    master = generation.master
    master.narrow(generation.blocks.lower, generation.blocks.upper, None, {})
    found = near(master.whole_problem(), NODES).plan
    if found is None:
        return None
    taken = list(enumerate(np.round(found[master.own :]).tolist()))
    return plan_of(generation.blocks, master, taken, found[: len(generation.blocks.beside)])
