# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Single integer columns and pairs of binary ones, moved as long as rows are kept and the objective gets better.

The other one of a pair has to mend what the first one breaks, so that it is looked for in the shortest row of those.
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

if cython.compiled:
    from cython.cimports.libc.math import floor
else:
    from math import floor

INFINITY = cython.declare(cython.double, float("inf"))
NEAR = cython.declare(cython.double, 1e-9)  # relative, by which rows may be missed
LEAST_GAIN = cython.declare(cython.double, 1e-7)


class Pairs:
    """The columns of a problem and a plan of it, which gets better in place.

    Parameters
    ----------
    columns, rows : (starts, indices, values)
        The matrix by columns and by rows.
    low, high : float arrays, limits of rows
    lower, upper : float arrays, bounds of columns
    cost : float array
    order : int32 array
        The integer columns, in the order in which they are moved.
    binary : uint8 array
        Which columns are 0 or 1.
    x : float array
        The plan.
    activity : float array
        Of its rows.

    Attributes
    ----------
    ended : bool
        Whether nothing is left to move.
    touched : int
        Entries so far.
    """

    def __init__(self, columns, rows, low, high, lower, upper, cost, order, binary, x, activity):
        self.cp, self.ci, self.cx = columns
        self.rp, self.rj, _ = rows
        self.low, self.high, self.lower, self.upper, self.cost = low, high, lower, upper, cost
        self.order, self.binary, self.x, self.activity = order, binary, x, activity
        self.change = np.zeros(len(low) + 1)  # of the rows of the first of two
        self.at = 0
        self.moved = self.ended = False
        self.touched = 0

    def improve(self, budget):
        """Move columns for some work; say whether any moved."""
        end: cython.longlong = self.touched + budget
        some: cython.bint = False
        j: cython.int
        with cython.nogil:
            while self.touched < end:
                if self.at == self.order.shape[0]:
                    if not self.moved:
                        self.ended = True
                        break
                    self.at, self.moved = 0, False
                j = self.order[self.at]
                self.at += 1
                if self._alone(j) or (self.binary[j] and self._with_another(j)):
                    self.moved = some = True
        return some

    def _alone(self, j):
        """Move a column as far as rows allow the way that its cost prefers; say whether it moved."""
        e: cython.int
        i: cython.int
        way: cython.double = -1.0 if self.cost[j] > 0.0 else 1.0
        step: cython.double = self.x[j] - self.lower[j] if way < 0.0 else self.upper[j] - self.x[j]
        limit: cython.double
        self.touched += 1 + self.cp[j + 1] - self.cp[j]
        if self.cost[j] == 0.0:
            return False
        for e in range(self.cp[j], self.cp[j + 1]):
            if step < 1.0 - NEAR:
                return False
            i = self.ci[e]
            limit = self.high[i] if way * self.cx[e] > 0.0 else self.low[i]
            step = min(step, (limit - self.activity[i]) / (way * self.cx[e]))
        step = floor(step + NEAR)
        if not 1.0 <= step < INFINITY:
            return False
        self._move(j, way * step)
        return True

    def _with_another(self, k):
        """Turn a binary column over together with the other one that pays most; say whether there was one."""
        e: cython.int
        i: cython.int
        j: cython.int
        broken: cython.int = 0
        row: cython.int = -1
        chosen: cython.int = -1
        turn: cython.double = self._turn(k)
        least: cython.double = -LEAST_GAIN - self.cost[k] * turn
        if self.cost[k] * turn >= 0.0:
            return False
        for e in range(self.cp[k], self.cp[k + 1]):
            i = self.ci[e]
            self.change[i] = self.cx[e] * turn
            if not self._keeps(i, self.change[i]):
                broken += 1
                if row < 0 or self.rp[i + 1] - self.rp[i] < self.rp[row + 1] - self.rp[row]:
                    row = i
        if row >= 0:
            self.touched += self.rp[row + 1] - self.rp[row]
            for e in range(self.rp[row], self.rp[row + 1]):
                j = self.rj[e]
                if j != k and self.binary[j] and self.cost[j] * self._turn(j) < least and self._mends(j, broken):
                    chosen, least = j, self.cost[j] * self._turn(j)
        for e in range(self.cp[k], self.cp[k + 1]):
            self.change[self.ci[e]] = 0.0
        if chosen < 0:
            return False
        self._move(chosen, self._turn(chosen))
        self._move(k, turn)
        return True

    def _turn(self, j):
        """Return by how much a binary column jumps."""
        return -1.0 if self.x[j] > 0.5 else 1.0

    def _mends(self, j, broken):
        """Say whether all rows are kept, of which some are broken, if a column turns over after the first one."""
        e: cython.int
        i: cython.int
        turn: cython.double = self._turn(j)
        self.touched += self.cp[j + 1] - self.cp[j]
        for e in range(self.cp[j], self.cp[j + 1]):
            i = self.ci[e]
            if not self._keeps(i, self.change[i] + self.cx[e] * turn):
                return False
            if self.change[i] != 0.0 and not self._keeps(i, self.change[i]):
                broken -= 1
        return broken == 0

    def _keeps(self, i, change):
        """Say whether a row keeps its limits if its activity changes."""
        room: cython.double = NEAR * max(1.0, abs(self.activity[i]))
        return self.low[i] - room <= self.activity[i] + change <= self.high[i] + room

    def _move(self, j, step):
        """Move a column."""
        e: cython.int
        self.x[j] += step
        for e in range(self.cp[j], self.cp[j + 1]):
            self.activity[self.ci[e]] += self.cx[e] * step
