# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""The ratio test that the dual and the primal method share: how far a piecewise-linear gain goes on.

A step passes breakpoints at ``gap / size``; each takes ``drop`` from the slope. The step ends where
the slope is used up: beyond, nothing is gained. Breakpoints are passed in groups that a tolerance on the
gap makes equal (Harris 1973), so that the largest pivot of the last group can be taken (Maros 2003, section 9.5).
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

INFINITY = cython.declare(cython.double, float("inf"))
ROUNDING = cython.declare(cython.double, 1.0 + 1e-14)
SAFE = cython.declare(cython.double, 1e-6)  # pivots below this are taken only if there is no other


class Breakpoints:
    """A list of breakpoints, refilled for every test.

    Parameters
    ----------
    room : int
        The most breakpoints that one test can have.
    """

    def __init__(self, room):
        self.count = self.passed = 0
        self.touched = 0
        self.item = np.zeros(room + 1, dtype=np.int32)
        self.size, self.gap, self.drop = np.zeros(room + 1), np.zeros(room + 1), np.zeros(room + 1)
        self.group = np.zeros(room + 2, dtype=np.int32)

    def clear(self):
        """Start a new test."""
        self.count = 0
        self.passed = 0

    def add(self, item, size, gap, drop):
        """Add a breakpoint; ``size`` is the pivot's magnitude, ``gap`` the distance (negative counts as 0)."""
        self.item[self.count] = item
        self.size[self.count] = size
        self.gap[self.count] = gap if gap > 0.0 else 0.0
        self.drop[self.count] = drop
        self.count += 1

    def _swap(self, a, b):
        """Swap two breakpoints."""
        i: cython.int = self.item[a]
        s: cython.double = self.size[a]
        g: cython.double = self.gap[a]
        d: cython.double = self.drop[a]
        self.item[a] = self.item[b]
        self.size[a] = self.size[b]
        self.gap[a] = self.gap[b]
        self.drop[a] = self.drop[b]
        self.item[b] = i
        self.size[b] = s
        self.gap[b] = g
        self.drop[b] = d

    def _preselect(self, slope, tolerance):
        """Move to the front the breakpoints that can matter: those met before the slope is used up."""
        k: cython.int
        chosen: cython.int = 0
        count: cython.int = self.count
        bound: cython.double = INFINITY
        for k in range(count):
            bound = min(bound, (self.gap[k] + tolerance) / self.size[k])
        while chosen < count and (slope > 0.0 or chosen == 0):
            bound = 8.0 * bound + tolerance
            for k in range(chosen, count):
                if self.gap[k] <= bound * self.size[k]:
                    slope -= self.drop[k]
                    self._swap(k, chosen)
                    chosen += 1
            self.touched += count - chosen
        return chosen

    def choose(self, slope, tolerance):
        """Return the number of the breakpoint to stop at, or -1 if the slope is positive beyond all.

        The first ``passed`` breakpoints of the list are those that the step goes beyond.
        """
        k: cython.int
        g: cython.int
        j: cython.int
        best: cython.int = -1
        begin: cython.int = 0
        end: cython.int
        groups: cython.int = 0
        largest: cython.double
        bound: cython.double
        count: cython.int
        if self.count == 0:
            return -1
        self.touched += 2 * self.count
        count = self._preselect(slope, tolerance)
        self.group[0] = 0
        while begin < count and (slope > 0.0 or groups == 0):
            bound = INFINITY
            for k in range(begin, count):
                bound = min(bound, (self.gap[k] + tolerance) / self.size[k])
            bound *= ROUNDING  # so that the nearest one is within it, however far it is
            end = begin
            for k in range(begin, count):
                if self.gap[k] <= bound * self.size[k]:
                    slope -= self.drop[k]
                    self._swap(k, end)
                    end += 1
            self.touched += count - begin
            groups += 1
            self.group[groups] = end
            begin = end
        if slope > 0.0:
            return -1
        # the last group holds the step; an earlier one does if its pivots alone are safe
        for g in range(groups - 1, -1, -1):
            largest = 0.0
            j = -1
            for k in range(self.group[g], self.group[g + 1]):
                if self.size[k] > largest:
                    largest = self.size[k]
                    j = k
            if best < 0 or (largest >= SAFE and self.size[best] < SAFE):
                best = j
                self.passed = self.group[g]
            if self.size[best] >= SAFE:
                break
        return best
