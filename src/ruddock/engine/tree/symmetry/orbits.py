"""Columns of a node that symmetries exchange: what one of them cannot be, none of them need be.

The columns branched to one on the way to a node are B. A symmetry that leaves B as a set takes a plan of the node to
a plan with the same value that has ones in B as well. If a column of an orbit of these symmetries is fixed at the
node, take a plan of the node that has the other value elsewhere in that orbit: its image is not in the node, so one of
the columns branched to zero is one in it. So the image, or an image of it in turn, is in a part of the tree where a
column is branched to one earlier, and the plan can be left out (Margot 2002; Ostrowski et al. 2011). That holds for
whatever fixed the column, as long as it left out no better plan.

The same holds with ones and zeros exchanged. What counts, B, are the branches to the value that is rarer in a plan:
these decide more, and the other value goes to a whole orbit at once.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
import numpy.typing as npt

from ruddock.engine.tree.symmetry.group import LARGEST, Permutations, joined, symmetries
from ruddock.engine.tree.symmetry.parts import Parts, binary_columns, identical_parts, stays
from ruddock.problem import Floats, Problem

MOST_KEPT = 1_000_000  # columns in the orbits that are remembered, of sets of columns that are branched on
MOST_WORK, MOST_BY_CHANCE = 1_000_000, 20_000_000  # entries, columns and rows that are looked at, all rounds together


class Orbits:
    """The orbits of binary columns at every node.

    Parameters
    ----------
    images : int array, shape (k, n)
        Symmetries, which move no integer column but binary ones.
    binary : bool array, shape (n,)
    parts : list of int arrays, shape (parts, columns)
        Columns of parts of which any two can be exchanged, no column in two of them.

    Attributes
    ----------
    count : int
        How many symmetries are known that generate the others.
    """

    def __init__(self, images: Permutations, binary: npt.NDArray[np.bool_], parts: Sequence[Parts] = ()) -> None:
        moved = (images != np.arange(images.shape[1])).any(axis=0)
        for alike in parts:
            moved[alike] = True
        self.columns = np.flatnonzero(binary & moved)
        place = np.full(images.shape[1], -1, np.int32)
        place[self.columns] = np.arange(len(self.columns))
        self.count = len(images) + sum(len(alike) - 1 for alike in parts)
        self._place, self._images = place, place[images[:, self.columns]]
        self._kept: dict[bytes, npt.NDArray[np.int64] | None] = {}
        cells = [place[alike[:, binary[alike[0]]]] for alike in parts]
        self._cells = np.concatenate([np.zeros(0, np.int64), *(block.ravel() for block in cells)])
        self._kinds = np.repeat(np.arange(len(cells)), [len(block) for block in cells]).tolist()
        widths = np.concatenate([np.zeros(0, np.intp), *(np.full(len(block), block.shape[1]) for block in cells)])
        self._begin = np.cumsum(widths) - widths
        self._part, self._spot = np.full((2, len(self.columns)), -1)
        self._part[self._cells] = np.repeat(np.arange(len(widths)), widths)
        self._spot[self._cells] = np.arange(len(self._cells)) - np.repeat(self._begin, widths)

    def at(self, branched: npt.NDArray[np.int32]) -> npt.NDArray[np.int64] | None:
        """Return the labels of the orbits of ``columns`` where some branches count; None if each is alone."""
        held = np.sort(self._place[branched])
        held = held[held >= 0]
        key = held.tobytes()
        if key not in self._kept:
            if len(self._kept) * len(self.columns) >= MOST_KEPT:
                self._kept.clear()
            self._kept[key] = self._labels(held)
        return self._kept[key]

    def _labels(self, held: npt.NDArray[np.int32]) -> npt.NDArray[np.int64] | None:
        first = self._exchanged(held)
        if len(self._images):
            inside = np.zeros(len(self.columns), bool)
            inside[held] = True
            stay = self._images[inside[self._images[:, held]].all(axis=1)]
            first = joined(first, stay) if len(stay) else first
        return None if np.array_equal(first, np.arange(len(first))) else first

    def _exchanged(self, held: npt.NDArray[np.int32]) -> npt.NDArray[np.int64]:
        """Return for each column the first one that exchanges of parts may take it to: of parts that hold alike."""
        first = np.arange(len(self.columns))
        if self._kinds:
            spots: list[list[int]] = [[kind] for kind in self._kinds]
            for part, spot in sorted(zip(self._part[held].tolist(), self._spot[held].tolist(), strict=True)):
                if part >= 0:
                    spots[part].append(spot)
            leader: dict[tuple[int, ...], int] = {}
            leaders = np.array([leader.setdefault(tuple(alike), part) for part, alike in enumerate(spots)])
            first[self._cells] = self._cells[self._begin[leaders[self._part[self._cells]]] + self._spot[self._cells]]
        return first

    def fix(self, labels: npt.NDArray[np.int64], lower: Floats, upper: Floats) -> npt.NDArray[np.int32]:
        """Fix columns in place as others of their orbit are; bounds cross where an orbit holds both. Returns which."""
        low, high = lower[self.columns], upper[self.columns]
        ones, zeros = (np.bincount(labels[which], minlength=len(labels))[labels] > 0 for which in (low >= 1, high <= 0))
        rise, fall = ones & (low < 1), zeros & (high > 0)
        lower[self.columns[rise]] = 1.0
        upper[self.columns[fall]] = 0.0
        return self.columns[rise | fall].astype(np.int32)


def orbits_of(problem: Problem, stopped: Callable[[], bool], *, by_chance: bool = False) -> tuple[Orbits | None, bool]:
    """Return the orbits of a problem, None if it has no symmetry that is of use; and whether there was work enough.

    Parameters
    ----------
    problem : Problem
        As it is searched, with all rows and bounds by which one of several plans was chosen.
    by_chance : bool
        Whether symmetries are looked for by chance, with more work.
    """
    free = binary_columns(problem)
    fixed = stays(problem)
    if problem.n > LARGEST or not free.any():
        return None, True
    most = MOST_BY_CHANCE if by_chance else MOST_WORK
    images, complete = symmetries(problem, fixed, most, stopped, by_chance=by_chance)
    parts = [alike for alike in identical_parts(problem, problem.lower, problem.upper) if not fixed[alike].any()]
    every, around = np.arange(problem.n), np.arange(problem.n, dtype=np.int32)
    for alike in parts:
        around[alike] = np.roll(alike, -1, axis=0)
    if np.array_equal(joined(every, around[None])[free], joined(every, images)[free]):
        images = images[:0]  # products of exchanges
    orbits = Orbits(images, free, parts)
    return orbits if len(orbits.columns) else None, complete
