# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Pricing without going through everything: a list of all whose merit is at least a cutoff.

As long as every change of a merit is offered, the best of the list is the best of all. When the list
runs dry, the merits are gone through once for a new cutoff (Hall and McKinnon 2005, section 4).
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

ENOUGH = cython.declare(cython.int, 50)  # candidates that a new list should have
MOST = cython.declare(cython.int, 1000)  # and the most it takes; beyond, equals are left for later


class Candidates:
    """The list; the owner computes merits.

    Parameters
    ----------
    size : int
        Items are numbered below this.
    """

    def __init__(self, size):
        self.size = size
        self.count = 0
        self.cutoff = 0.0
        self.item = np.zeros(size + 1, dtype=np.int32)
        self.member = np.zeros(size + 1, dtype=np.int8)
        self.merit = np.zeros(size + 1)  # filled by the owner before `rebuild`

    def clear(self):
        """Empty the list: the merits have changed altogether."""
        k: cython.int
        for k in range(self.count):
            self.member[self.item[k]] = 0
        self.count = 0
        self.cutoff = 0.0

    def add(self, i):
        """Add an item whose merit is at least the cutoff."""
        if not self.member[i]:
            self.member[i] = 1
            self.item[self.count] = i
            self.count += 1

    def drop(self, k):
        """Take out the entry at place ``k``; the last one moves there."""
        self.member[self.item[k]] = 0
        self.count -= 1
        self.item[k] = self.item[self.count]

    def rebuild(self):
        """Choose a cutoff from ``merit`` that leaves a short list, and fill the list."""
        i: cython.int
        near: cython.int = 0
        far: cython.int = 0
        best: cython.double = 0.0
        merit: cython.double[::1] = self.merit
        self.clear()
        for i in range(self.size):
            best = max(best, merit[i])
        if best <= 0.0:
            return
        for i in range(self.size):
            if merit[i] >= 0.1 * best:
                far += 1
                if merit[i] >= 0.5 * best:
                    near += 1
        self.cutoff = best * (0.5 if near >= ENOUGH else 0.1 if far >= ENOUGH else 0.001)
        for i in range(self.size):
            if merit[i] >= self.cutoff:
                self.add(i)
                if self.count >= MOST:
                    return
