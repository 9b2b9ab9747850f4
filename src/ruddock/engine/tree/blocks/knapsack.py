# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Knapsacks of whole weights by dynamic programming (Bellman 1957)."""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

INFINITY = cython.declare(cython.double, float("inf"))


class Knapsack:
    """``min v'x`` over integers within bounds, whose weights stay within the room, in one or two dimensions.

    A state of the program is how much room is left in either dimension; the table of states is gone through once for
    every item, or packet of copies of one.

    Parameters
    ----------
    weights : int64 array, shape (2, n)
        Not negative; of the first dimension all zero where there is only one.
    rooms : (int, int)
        By dimension; that of the first is zero where there is only one.
    most : int array, shape (n,)
        Copies that there can be of each item.
    """

    def __init__(self, weights, rooms, most):
        packets = len(most) + sum(max(0, int(c).bit_length() - 1) for c in most)
        self.n, self.high, self.wide = len(most), rooms[0], rooms[1]
        self.weights = weights
        cells = (self.high + 1) * (self.wide + 1)
        self.item, self.copies = np.zeros(packets, np.int32), np.zeros(packets, np.int32)
        self.value = np.zeros((2, cells))
        self.kept = np.zeros((packets, cells), np.uint8)
        self.table = np.zeros((0, 0))

    def best(self, values, lower, upper, x):
        """Put a best choice in ``x``, and return its value; infinite if there is none.

        Copies of an item go in packets of 1, 2, 4, .. and what is left, so that each number can be put together.

        Parameters
        ----------
        values : float array, shape (n,)
        lower, upper, x : int32 arrays, shape (n,)
        """
        j: cython.int
        k: cython.int
        left: cython.int
        size: cython.int
        count: cython.int = 0
        now: cython.int = 0
        fixed: cython.double = 0.0
        for j in range(self.n):
            if lower[j] > upper[j]:
                return INFINITY
            x[j] = lower[j]
            fixed += values[j] * lower[j]
        if not self._fits(lower):
            return INFINITY
        for j in range(self.n):
            if values[j] < 0.0:
                left = upper[j] - lower[j]
                size = 1
                while left > 0:
                    self.item[count] = j
                    self.copies[count] = min(size, left)
                    left -= self.copies[count]
                    size *= 2
                    count += 1
        with cython.nogil:
            self._begin()
            for k in range(count):
                self._offer(k, now, self.item[k], self.copies[k], values[self.item[k]])
                now = 1 - now
        c: cython.longlong = self.rows * (self.wide + 1) + self.columns
        result: cython.double = fixed + self.value[now, c]
        for k in range(count - 1, -1, -1):
            if self.kept[k, c]:
                j = self.item[k]
                x[j] += self.copies[k]
                c -= (self.weights[0, j] * (self.wide + 1) + self.weights[1, j]) * self.copies[k]
        return result

    def otherwise(self, values, lower, upper, x, result):
        """Put into ``result`` the best value at which each item takes the other of its two values than in ``x``.

        Infinite where there is none. No item may have more than two values left.
        """
        j: cython.int
        n: cython.int = self.n
        now: cython.int = 0
        taken: cython.bint
        best: cython.double
        fixed: cython.double = 0.0
        for j in range(n):
            fixed += values[j] * lower[j]
        self._fits(lower)
        if len(self.table) == 0:
            self.table = np.zeros((n + 1, (self.high + 1) * (self.wide + 1)))
        with cython.nogil:
            # of each room, the best of the items from j on in the table, of those before j in the values
            for j in range(n - 1, -1, -1):
                self._before(j, upper[j] > lower[j], values[j])
            self._begin()
            for j in range(n):
                result[j] = INFINITY
                if upper[j] > lower[j]:
                    taken = x[j] > lower[j]
                    best = self._together(
                        now, j, 0 if taken else self.weights[0, j], 0 if taken else self.weights[1, j]
                    )
                    result[j] = fixed + best + (0.0 if taken else values[j])
                    self._offer(0, now, j, 1, values[j])
                    now = 1 - now
        return 0

    def _fits(self, lower):
        """Work out what room is left beside what must be taken; say whether that fits."""
        j: cython.int
        self.rows, self.columns = self.high, self.wide
        for j in range(self.n):
            self.rows -= self.weights[0, j] * lower[j]
            self.columns -= self.weights[1, j] * lower[j]
        return self.rows >= 0 and self.columns >= 0

    def _begin(self):
        """Start with nothing taken."""
        c: cython.longlong
        for c in range((self.rows + 1) * (self.wide + 1)):
            self.value[0, c] = 0.0

    def _offer(self, k, now, j, copies, value):
        """Offer one packet at every room."""
        r: cython.longlong
        c: cython.longlong
        at: cython.longlong
        before: cython.longlong
        other: cython.int = 1 - now
        down: cython.longlong = self.weights[0, j] * copies
        less: cython.longlong = min(self.weights[1, j] * copies, self.columns + 1)
        v: cython.double = value * copies
        for r in range(self.rows + 1):
            at = r * (self.wide + 1)
            before = at - down * (self.wide + 1) - less
            if r < down:
                for c in range(at, at + self.columns + 1):
                    self.value[other, c] = self.value[now, c]
                    self.kept[k, c] = 0
                continue
            for c in range(less):
                self.value[other, at + c] = self.value[now, at + c]
                self.kept[k, at + c] = 0
            for c in range(less, self.columns + 1):
                self.kept[k, at + c] = self.value[now, before + c] + v < self.value[now, at + c]
                self.value[other, at + c] = min(self.value[now, before + c] + v, self.value[now, at + c])

    def _before(self, j, free, value):
        """Add an item to the table of those that come after."""
        r: cython.longlong
        c: cython.longlong
        at: cython.longlong
        before: cython.longlong
        down: cython.longlong = self.weights[0, j]
        less: cython.longlong = self.weights[1, j]
        for r in range(self.rows + 1):
            at = r * (self.wide + 1)
            before = at - down * (self.wide + 1) - less
            for c in range(self.columns + 1):
                self.table[j, at + c] = self.table[j + 1, at + c]
                if free and r >= down and c >= less:
                    self.table[j, at + c] = min(self.table[j, at + c], self.table[j + 1, before + c] + value)

    def _together(self, now, j, down, less):
        """Return the best of all items but one, which takes some room."""
        r: cython.longlong
        c: cython.longlong
        at: cython.longlong
        rest: cython.longlong
        best: cython.double = INFINITY
        for r in range(self.rows - down + 1):
            at = r * (self.wide + 1)
            rest = (self.rows - down - r) * (self.wide + 1) + self.columns - less
            for c in range(self.columns - less + 1):
                best = min(best, self.value[now, at + c] + self.table[j + 1, rest - c])
        return best
