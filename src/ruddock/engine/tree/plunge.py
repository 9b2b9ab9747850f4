# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""The nodes of a dive: what each needs between the solve of its relaxation and that of its child, compiled.

The bounds of the node at work stand here. What a node asks for beyond the ordinary (a plan, heuristics, trials of
branches, columns that are not just whole) is left to the caller, who is told so.
"""

import numpy as np

from ruddock.engine import outcome

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

if cython.compiled:
    from cython.cimports.libc.math import floor
    from cython.cimports.ruddock.engine.simplex.hot import HotStart
    from cython.cimports.ruddock.engine.tree.propagate import Propagator
    from cython.cimports.ruddock.engine.tree.vectors import narrow, outside, scores
else:
    from math import floor

    from ruddock.engine.simplex.hot import HotStart
    from ruddock.engine.tree.propagate import Propagator
    from ruddock.engine.tree.vectors import narrow, outside, scores

CLOSED = 0  # nothing is left of the node
AGAIN = 1  # its bounds became so tight that its point has left them: to be solved once more
SPLIT = 2  # to be branched on `column` at `value`
ASK = 3  # the caller decides

OUTSIDE = 1e-5  # how far out of its bounds a point is solved anew; less is within the tolerance
FIXED = 1e-8  # the same for columns that have one value left, which nothing can be branched on

INFINITY = cython.declare(cython.double, float("inf"))
INTEGRALITY = cython.declare(cython.double, outcome.INTEGRALITY)


class Plunge:
    """The node at work.

    Parameters
    ----------
    hot : HotStart
        Solves the relaxations.
    rows : Propagator, or None
        None where nothing is to be propagated.
    budget : int
        Entries that propagation of one node looks at, at most.
    whole : bool array, shape (n,)
        Which columns are integer, those that rows make so among them.
    integers : int32 array
        Numbers of the columns that have to be.
    gains, counts : arrays, shape (2, n)
        Of pseudo-costs; kept, not copied.
    lower, upper : float arrays, shape (n,)
        Bounds of the node; kept, not copied.

    Attributes
    ----------
    column, value : what to branch on
    """

    def __init__(self, hot, rows, budget, whole, integers, gains, counts, lower, upper):
        n = len(whole)
        self.hot, self.rows, self.budget = hot, rows, budget
        self.whole, self.integers, self.gains, self.counts = whole, integers, gains, counts
        self.lower, self.upper = lower, upper
        self.moved, self.violated = np.zeros(n + 1, np.int32), np.zeros(n + 1, np.int64)
        self.merit = np.zeros(n + 1)
        self.value = 0.0
        self.column = -1

    def take(self, lower, upper, columns, low, high):
        """Begin with the bounds of the whole tree, narrowed for some columns.

        Parameters
        ----------
        lower, upper : float arrays, shape (n,)
        columns, low, high : arrays of one length
        """
        least: cython.double[::1] = lower
        most: cython.double[::1] = upper
        item: cython.int[::1] = columns
        below: cython.double[::1] = low
        above: cython.double[::1] = high
        j: cython.int
        k: cython.int
        for j in range(least.shape[0]):
            self.lower[j] = least[j]
            self.upper[j] = most[j]
        for k in range(item.shape[0]):
            j = item[k]
            self.lower[j] = max(self.lower[j], below[k])
            self.upper[j] = min(self.upper[j], above[k])

    def enter(self, lower, upper, column, low, high):
        """Narrow the bounds to a child's, by those of the whole tree as they are now, by a branch and what follows.

        Returns
        -------
        bool
            Whether anything can be left.
        """
        least: cython.double[::1] = lower
        most: cython.double[::1] = upper
        branch: cython.int = column
        fits: cython.bint = True
        j: cython.int
        for j in range(least.shape[0]):
            self.lower[j] = max(self.lower[j], least[j])
            self.upper[j] = min(self.upper[j], most[j])
            fits &= self.lower[j] <= self.upper[j]
        if branch < 0 or not fits:
            return fits
        self.lower[branch] = max(self.lower[branch], low)
        self.upper[branch] = min(self.upper[branch], high)
        if self.lower[branch] > self.upper[branch]:
            return False
        self.moved[0] = branch
        return self._follow(1)

    def _follow(self, count):
        """Propagate from columns that moved; say whether anything can be left."""
        if self.rows is None:
            return True
        self.rows.forget()
        return self.rows.follow(self.lower, self.upper, self.moved, count, self.budget) >= 0

    def _promising(self, count, trusted):
        """Return how many of the candidates have a history and promise more than any without one."""
        k: cython.int
        j: cython.longlong
        best: cython.double = -1.0
        result: cython.int = 0
        for k in range(count):
            j = self.violated[k]
            if min(self.counts[0, j], self.counts[1, j]) < trusted:
                best = max(best, self.merit[k])
        for k in range(count):
            j = self.violated[k]
            result += self.merit[k] > best and min(self.counts[0, j], self.counts[1, j]) >= trusted
        return result

    def judge(self, threshold, settled, reliable, lookahead, mean_down, mean_up, least):
        """Judge a node whose relaxation has been solved, and choose its branch.

        Parameters
        ----------
        threshold : float
            Objective value from which on a plan is no better than the best one.
        settled : bool
            Whether the node is not to be solved again.
        reliable : int
            How much history a column needs to be trusted.
        lookahead : int
            The caller is asked unless more candidates than this are trusted and promise more than any that is not.
        mean_down, mean_up : float
            What a column without history is expected to gain for each unit.
        least : float
            What a gain counts at least.

        Returns
        -------
        int
            CLOSED, AGAIN, SPLIT or ASK.
        """
        value: cython.double[::1] = self.hot.x
        trusted: cython.longlong = reliable
        ahead: cython.int = lookahead
        fewest: cython.longlong
        most: cython.double = threshold
        j: cython.int
        k: cython.int
        best: cython.int = 0
        count: cython.int = 0
        v: cython.double
        for k in range(self.integers.shape[0]):
            j = self.integers[k]
            v = value[j] - floor(value[j])
            self.violated[count] = j  # kept if it is not whole; without a branch
            count += (v > INTEGRALITY) & (v < 1.0 - INTEGRALITY)
        if count == 0:
            return ASK
        if most < INFINITY:
            k = narrow(self.hot.reduced, self.whole, self.lower, self.upper, most - self.hot.bound, self.moved)
            if k > 0 and not self._follow(k):
                return CLOSED
        if not settled and outside(value, self.whole, self.lower, self.upper, FIXED, OUTSIDE):
            return AGAIN
        fewest = scores(
            self.gains, self.counts, mean_down, mean_up, self.violated[:count], value, least, self.merit[:count]
        )
        if fewest < trusted and count > 1 and self._promising(count, trusted) <= ahead:
            return ASK
        for k in range(1, count):
            if self.merit[k] > self.merit[best]:
                best = k
        j = self.violated[best]
        self.column = j
        self.value = value[j]
        return SPLIT
