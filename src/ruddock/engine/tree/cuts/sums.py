# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Sums of rows, and rows of numbers made clean, compiled: what goes into the rounding of a cut, and what comes out."""

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
CANCELS = cython.declare(cython.double, 1e-11)  # coefficients below this part of the largest come from rounding alone
TINY = cython.declare(cython.double, 1e-7)  # coefficients of a cut below this part of the largest are taken out
RANGE = cython.declare(cython.double, 1e6)  # largest ratio of a cut's coefficients
LEAST = cython.declare(cython.double, 1e-9)  # largest coefficient, below which a cut says nothing
SAFETY = cython.declare(cython.double, 1e-9)  # part of its size by which every cut is left a little loose
BETWEEN = cython.declare(cython.double, 1e-6)  # distance from its bounds of a column that is to cancel
MOST_COLUMNS = cython.declare(cython.int, 3)  # of which one is to cancel
LEAST_EFFICACY = cython.declare(cython.double, 1e-4)  # distance of the point from a cut, below which it is none


class Sums:
    """Adds up rows: ``values'x[columns] + slack'slacks of rows = limit``, slacks at least zero.

    The limit is at most this if small coefficients were taken out, and equal to it otherwise.

    Parameters
    ----------
    starts, indices, data : arrays
        The matrix by rows.
    limits, signs : float arrays, shape (m,)
        ``activity + sign * slack = limit`` for each row.
    equations : uint8 array, shape (m,)
        Which rows have no slack.
    lower, upper, x : float arrays, shape (n,)
        Bounds of columns, and the point.

    Attributes
    ----------
    columns, values : int32 and float arrays, shape (n,)
        The first ``count`` are the coefficients of the last sum; no column twice.
    rows, slack : int32 and float arrays, shape (m,)
        The first ``open_count`` are rows of the last sum that are no equations, and their coefficients on the slack.
    limit, terms : float
        Of the last sum, and what the terms of that add up to without their signs.
    times : float
        How often the row that was chosen last is to be added.
    items, weights : int32 and float arrays, shape (n,)
        The first ``kept`` are the coefficients of the last row made clean.
    right, efficacy : float
        Its limit, and the distance of the point from it.
    """

    def __init__(self, starts, indices, data, limits, signs, equations, lower, upper, x):
        self.starts, self.indices, self.data = starts, indices, data
        self.limits, self.signs, self.equations = limits, signs, equations
        self.lower, self.upper, self.x = lower, upper, x
        n = len(lower)
        m = len(limits)
        self.marked, self.sums = np.zeros(n + 1, np.uint8), np.zeros(n + 1)
        self.columns, self.values = np.zeros(n + 1, np.int32), np.zeros(n + 1)
        self.rows, self.slack = np.zeros(m + 1, np.int32), np.zeros(m + 1)
        self.items, self.weights = np.zeros(n + 1, np.int32), np.zeros(n + 1)
        self.count = self.open_count = self.kept = 0
        self.limit = self.terms = self.times = self.right = self.efficacy = 0.0

    def add_up(self, rows, weights):
        """Add up rows, each so many times."""
        row: cython.const[cython.int][::1] = rows
        times: cython.const[cython.double][::1] = weights
        i: cython.int
        j: cython.int
        k: cython.int
        e: cython.int
        largest: cython.double = 0.0
        end: cython.double
        kept: cython.int = 0
        with cython.nogil:
            self.count = self.open_count = 0
            self.limit = self.terms = 0.0
            for k in range(row.shape[0]):
                i = row[k]
                self.limit += times[k] * self.limits[i]
                self.terms += abs(times[k] * self.limits[i])
                for e in range(self.starts[i], self.starts[i + 1]):
                    j = self.indices[e]
                    if not self.marked[j]:
                        self.marked[j] = 1
                        self.sums[j] = 0.0
                        self.columns[self.count] = j
                        self.count += 1
                    self.sums[j] += times[k] * self.data[e]
                if not self.equations[i]:
                    self.rows[self.open_count] = i
                    self.slack[self.open_count] = times[k] * self.signs[i]
                    self.open_count += 1
            for k in range(self.count):
                largest = max(largest, abs(self.sums[self.columns[k]]))
            for k in range(self.count):
                j = self.columns[k]
                self.marked[j] = 0
                if abs(self.sums[j]) <= CANCELS * max(1.0, largest):
                    # what cancels but for rounding goes into the limit, at the end where it takes least
                    end = self.lower[j] if self.sums[j] > 0.0 else self.upper[j]
                    if abs(end) < INFINITY:
                        self.limit -= self.sums[j] * end
                        continue
                self.columns[kept] = j
                self.values[kept] = self.sums[j]
                kept += 1
            self.count = kept

    def next_row(self, used, starts, indices, values, between, tight, loosest):
        """Choose a row with which the column of the last sum that is farthest from its bounds cancels.

        Where no other row has that column, the one after it is to cancel; of several rows the tightest is chosen.

        Parameters
        ----------
        used : int32 array
            Rows that the sum has.
        starts, indices, values : arrays
            The matrix by columns.
        between : float array, shape (n,)
            How far continuous columns are from their bounds.
        tight : float array, shape (m,)
            How much slack rows have, beside their size.
        loosest : float
            Of rows that may be chosen.

        Returns
        -------
        int
            The row, to be added `times` so often; -1 for none.
        """
        held: cython.const[cython.int][::1] = used
        begin: cython.const[cython.int][::1] = starts
        row: cython.const[cython.int][::1] = indices
        value: cython.const[cython.double][::1] = values
        far: cython.const[cython.double][::1] = between
        slack: cython.const[cython.double][::1] = tight
        most: cython.double = loosest
        column: cython.int = -1
        best: cython.int = -1
        turn: cython.int
        j: cython.int
        e: cython.int
        k: cython.int
        new: cython.bint
        for turn in range(MOST_COLUMNS):
            column = self._farther(far, column)
            if column < 0:
                break
            j = self.columns[column]
            for e in range(begin[j], begin[j + 1]):
                new = slack[row[e]] <= most and (best < 0 or slack[row[e]] < slack[best])
                for k in range(held.shape[0]):
                    new &= held[k] != row[e]
                if new:
                    best = row[e]
                    self.times = -self.values[column] / value[e]
            if best >= 0:
                break
        return best

    def _farther(self, between, last):
        """Return the place in the sum of the column farthest from its bounds of those after ``last``; -1 for none."""
        k: cython.int
        best: cython.int = -1
        for k in range(self.count):
            if between[self.columns[k]] <= BETWEEN:
                continue
            if last >= 0 and not self._before(between, last, k):
                continue
            if best < 0 or self._before(between, k, best):
                best = k
        return best

    def _before(self, between, one, other):
        """Say whether a column of the sum is farther from its bounds than another, or as far and before it."""
        a: cython.double = between[self.columns[one]]
        b: cython.double = between[self.columns[other]]
        return a > b or (a == b and self.columns[one] < self.columns[other])

    def clean(self, columns, values, limit, size, loss, densest):
        """Write down ``values'x[columns] <= limit`` without what is tiny, its largest coefficient one.

        The limit is rounded up by what it may have lost. ``size`` is that of the terms that it was added up from.
        Returns whether it is a cut: the point breaks it, and it is neither dense nor of very different coefficients.
        """
        item: cython.const[cython.int][::1] = columns
        value: cython.const[cython.double][::1] = values
        total: cython.double = limit
        lost: cython.double = loss
        k: cython.int
        j: cython.int
        largest: cython.double = 0.0
        least: cython.double = INFINITY
        end: cython.double
        product: cython.double = 0.0
        norm: cython.double = 0.0
        total += lost * (size + abs(total))
        self.kept = 0
        for k in range(item.shape[0]):
            if not abs(value[k]) < INFINITY:
                return False
            largest = max(largest, abs(value[k]))
        if largest < LEAST or not abs(total) < INFINITY:
            return False
        for k in range(item.shape[0]):
            j = item[k]
            if abs(value[k]) >= TINY * largest:
                self.items[self.kept], self.weights[self.kept] = j, value[k]
                self.kept += 1
                least = min(least, abs(value[k]))
            elif value[k] != 0.0:
                end = self.lower[j] if value[k] > 0.0 else self.upper[j]
                if not abs(end) < INFINITY:
                    return False
                total += abs(value[k] * end) * lost - value[k] * end
        if largest > RANGE * least or self.kept > densest:
            return False
        for k in range(self.kept):
            self.weights[k] /= largest
            product += self.weights[k] * self.x[self.items[k]]
            norm += self.weights[k] * self.weights[k]
        total /= largest
        self.right = total + SAFETY * max(1.0, abs(total))
        self.efficacy = (product - self.right) / sqrt(norm)
        return self.efficacy > LEAST_EFFICACY
