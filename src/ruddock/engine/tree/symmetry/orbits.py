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

from collections.abc import Callable

import numpy as np
import numpy.typing as npt

from ruddock.engine.tree.symmetry.group import LARGEST, Permutations, joined, symmetries
from ruddock.problem import INTEGER, SEMICONTINUOUS, Floats, Problem

MOST_KEPT = 1_000_000  # columns in the orbits that are remembered, of sets of columns that are branched on
MOST_WORK, MOST_BY_CHANCE = 1_000_000, 20_000_000  # entries, columns and rows that are looked at, all rounds together


class Orbits:
    """The orbits of binary columns at every node.

    Parameters
    ----------
    images : int array, shape (k, n)
        Symmetries, which move no integer column but binary ones.
    binary : bool array, shape (n,)

    Attributes
    ----------
    count : int
        How many symmetries there are.
    """

    def __init__(self, images: Permutations, binary: npt.NDArray[np.bool_]) -> None:
        moved = binary & (images != np.arange(images.shape[1])).any(axis=0)
        self.columns = np.flatnonzero(moved)
        place = np.full(images.shape[1], -1, np.int32)
        place[self.columns] = np.arange(len(self.columns))
        self.count = len(images)
        self._place, self._images = place, place[images[:, self.columns]]
        self._kept: dict[bytes, npt.NDArray[np.int64] | None] = {}

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
        inside = np.zeros(len(self.columns), bool)
        inside[held] = True
        stay = self._images[inside[self._images[:, held]].all(axis=1)]
        if not len(stay):
            return None
        first = joined(np.arange(len(self.columns)), stay)
        return None if np.array_equal(first, np.arange(len(first))) else first

    def fix(self, labels: npt.NDArray[np.int64], lower: Floats, upper: Floats) -> npt.NDArray[np.int32]:
        """Fix columns in place as others of their orbit are; bounds cross where an orbit holds both. Returns which."""
        low, high = lower[self.columns], upper[self.columns]
        ones, zeros = (np.bincount(labels[which], minlength=len(labels))[labels] > 0 for which in (low >= 1, high <= 0))
        rise, fall = ones & (low < 1), zeros & (high > 0)
        lower[self.columns[rise]] = 1.0
        upper[self.columns[fall]] = 0.0
        return self.columns[rise | fall].astype(np.int32)


def binary_columns(problem: Problem) -> npt.NDArray[np.bool_]:
    """Return which columns are to be zero or one."""
    whole = ((problem.kinds & INTEGER) != 0) & ((problem.kinds & SEMICONTINUOUS) == 0)
    return np.asarray(whole & (problem.lower == 0) & (problem.upper == 1))


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
    fixed = (problem.kinds != 0) & ~free & (problem.lower < problem.upper)
    if problem.n > LARGEST or not free.any():
        return None, True
    most = MOST_BY_CHANCE if by_chance else MOST_WORK
    images, complete = symmetries(problem, fixed, most, stopped, by_chance=by_chance)
    orbits = Orbits(images, free)
    return orbits if len(orbits.columns) else None, complete
