"""Plans by taking solutions of blocks one after another, while more are generated for what is left."""

from __future__ import annotations

from typing import Protocol

import numpy as np

from ruddock.engine.outcome import Limits
from ruddock.engine.tree.blocks.master import Master
from ruddock.engine.tree.blocks.prices import Generated, Generation
from ruddock.engine.tree.blocks.structure import Blocks
from ruddock.problem import Floats, Problem

ROUNDS = 12  # of generating solutions after each that is taken
WHOLE = 1e-6
NODES = 200  # of a search among the solutions that are known


class Near(Protocol):
    """Searches a problem within a budget."""

    def __call__(self, problem: Problem, nodes: int, *, cutoff: bool = False) -> Floats | None: ...


def plan_by_taking(generation: Generation, root: Generated, threshold: float, limits: Limits) -> Floats | None:
    """Return a plan, or None where taking solutions leads to none.

    What is taken in whole numbers stays so; where there is no more of that, the largest share is rounded up.

    Parameters
    ----------
    root : the master problem solved, with no solution taken yet
    """
    blocks, master = generation.blocks, generation.master
    caps = _Caps(blocks)
    shares, centre = root.shares, root.best.prices if root.best else None
    taken = np.zeros(0)
    while shares is not None:
        own = shares[master.own :]
        taken = np.append(taken, np.zeros(len(own) - len(taken)))
        if np.abs(own - np.round(own)).max(initial=0.0) <= WHOLE:
            _release(master)
            return plan_of(blocks, master, np.round(own), shares)
        used = np.array([solution.items.any() for solution in master.solutions])
        more = np.where(used, np.floor(own + WHOLE), 0.0)
        if (more <= taken).all():
            more[int(np.where(used, own - taken, -1.0).argmax())] += 1.0
        taken = np.maximum(taken, more)
        upper = caps.left(master, taken)
        master.restrict(taken, upper)
        found = generation.run(blocks.lower, upper, np.inf, limits, rounds=ROUNDS, centre=centre)
        shares = found.shares
    _release(master)
    return None


def _release(master: Master) -> None:
    """Take nothing any more."""
    master.restrict(np.zeros(len(master.solutions)), None)


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

    def left(self, master: Master, taken: Floats) -> Floats:
        """Return upper bounds of the columns beside what is taken."""
        blocks = self._blocks
        activity = blocks.links @ master.total(taken)
        upper = blocks.upper.copy()
        room = np.floor((self._high - activity)[self._row] / self._value + WHOLE)
        np.minimum.at(upper, self._column, np.maximum(room, 0.0))
        keep = np.union1d(blocks.beside, [g.first.switch for g in blocks.groups if g.first.switch >= 0]).astype(np.intp)
        upper[keep] = blocks.upper[keep]
        return upper


def plan_of(blocks: Blocks, master: Master, counts: Floats, values: Floats) -> Floats:
    """Return the plan in which each solution is taken so many times, in one block after another of its group."""
    x = np.zeros(blocks.problem.n)
    x[blocks.beside] = values[: len(blocks.beside)]
    next_block = [0] * len(blocks.groups)
    for k in np.flatnonzero(counts).tolist():
        solution = master.solutions[k]
        for _ in range(int(counts[k])):
            block = blocks.groups[solution.group].blocks[next_block[solution.group]]
            next_block[solution.group] += 1
            x[block.columns] = solution.items
            if block.switch >= 0:
                x[block.switch] = float(solution.on)
    return x


def plan_among_known(generation: Generation, near: Near) -> Floats | None:
    """Return the best plan made of solutions that are known, by a search within a budget."""
    master = generation.master
    found = near(master.whole_problem(), NODES)
    return None if found is None else plan_of(generation.blocks, master, np.round(found[master.own :]), found)
