# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Sets of rows grown one by one along what flows into them, compiled; the best of a row's sets is kept."""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

if cython.compiled:
    from cython.cimports.libc.math import sqrt
else:
    from math import sqrt

INFINITY = cython.declare(cython.double, float("inf"))
CANCELS = cython.declare(cython.double, 1e-11)  # what is left of a column that two rows hand on to each other
EVER = cython.declare(cython.double, 1.5)  # more than any binary column is: nothing need be paid for


class Growth:
    """Grows sets of rows.

    Parameters
    ----------
    rows, columns : (starts, indices, values)
        The matrix by rows and by columns, each row multiplied so that what flows from one to another cancels.

    Attributes
    ----------
    members : int32 array
        The first ``kept`` are the best set of the last growth.
    """

    def __init__(self, rows, columns):
        self.rp, self.rj, self.rx = rows
        self.cp, self.ci, self.cx = columns
        n, m = len(self.cp) - 1, len(self.rp) - 1
        self.members, self.inside = np.zeros(m + 1, np.int32), np.zeros(m + 1, np.uint8)
        self.touched, self.is_touched = np.zeros(n + 1, np.int32), np.zeros(n + 1, np.uint8)
        self.amount = np.zeros(n + 1)
        self.count = self.kept = self.reached = 0
        self.work = 0

    def grow(self, start, turn, most, needs, over, ready):
        """Grow a set from one row by those that most flows in from; return how far the point is from its best cut.

        Parameters
        ----------
        start : int
        turn : 1.0, or -1.0 for rows with all signs turned
        most : rows of a set
        needs : float array, what each row asks for at least, signs turned; minus infinity for rows that are no use
        over : float array, columns over their lower bounds
        ready : float array, the binary columns that others need; more than one where none is needed
        """
        need: cython.const[cython.double][::1] = needs
        above: cython.const[cython.double][::1] = over
        paid: cython.const[cython.double][::1] = ready
        first: cython.int = start
        sign: cython.double = turn
        size: cython.int = most
        result: cython.double
        with cython.nogil:
            result = self._grow(first, sign, size, need, above, paid)
        return result

    def _grow(self, start, turn, most, need, above, paid):
        best: cython.double = 0.0
        total: cython.double = 0.0
        distance: cython.double
        row: cython.int = start
        k: cython.int
        self.count = self.kept = self.reached = 0
        while row >= 0:
            self._take(row)
            total += need[row]
            row = -1
            distance = self._distance(turn, total, above, paid)
            if distance > best:
                best = distance
                self.kept = self.count
            if self.count < most:
                row = self._next(turn, total, need, above, paid)
        for k in range(self.count):
            self.inside[self.members[k]] = 0
        for k in range(self.reached):
            self.is_touched[self.touched[k]] = 0
        return best

    def _take(self, row):
        """Add a row to the set."""
        e: cython.int
        j: cython.int
        self.inside[row] = 1
        self.members[self.count] = row
        self.count += 1
        self.work += self.rp[row + 1] - self.rp[row]
        for e in range(self.rp[row], self.rp[row + 1]):
            j = self.rj[e]
            if not self.is_touched[j]:
                self.is_touched[j] = 1
                self.amount[j] = 0.0
                self.touched[self.reached] = j
                self.reached += 1
            self.amount[j] += self.rx[e]
            if abs(self.amount[j]) <= CANCELS * abs(self.rx[e]):
                self.amount[j] = 0.0

    def _flow(self, j, turn, total, above, paid):
        """Return what a column counts for: what flows in, or what is paid for of the whole need."""
        own: cython.double = turn * self.amount[j] * above[j]
        if own <= 0.0:
            return 0.0
        return min(own, total * paid[j]) if paid[j] < EVER and total > 0.0 else own

    def _distance(self, turn, total, above, paid):
        """Return how far the point is from the cut of the set."""
        k: cython.int
        j: cython.int
        met: cython.double = 0.0
        norm: cython.double = 0.0
        flow: cython.double
        amount: cython.double
        if total <= 0.0:
            return 0.0
        self.work += self.reached
        for k in range(self.reached):
            j = self.touched[k]
            amount = turn * self.amount[j]
            if amount <= 0.0:
                continue
            flow = self._flow(j, turn, total, above, paid)
            met += flow
            if paid[j] < EVER and total * paid[j] < amount * above[j]:
                amount = total
            norm += amount * amount
        return (total - met) / sqrt(norm) if norm > 0.0 else 0.0

    def _next(self, turn, total, need, above, paid):
        """Return the row outside from which most flows in; -1 where nothing does."""
        k: cython.int
        j: cython.int
        e: cython.int
        row: cython.int = -1
        flow: cython.double
        most: cython.double = 0.0
        for k in range(self.reached):
            j = self.touched[k]
            if turn * self.amount[j] <= 0.0:
                continue
            flow = self._flow(j, turn, total, above, paid)
            if flow <= most:
                continue
            for e in range(self.cp[j], self.cp[j + 1]):
                if not self.inside[self.ci[e]] and turn * self.cx[e] < 0.0 and need[self.ci[e]] > -INFINITY:
                    row, most = self.ci[e], flow
        return row
