# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Knapsacks of whole weights by dynamic programming (Bellman 1957)."""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

INFINITY = cython.declare(cython.double, float("inf"))


class Knapsack:
    """``min v'x`` over integers within bounds, the sum of whose weights stays within the room.

    Parameters
    ----------
    weights : int64 array, shape (n,)
        Not negative.
    room : int
    most : int
        Copies that there can be of all items together.
    """

    def __init__(self, weights, room, most):
        packets = len(weights) + sum(max(0, int(c).bit_length() - 1) for c in most)
        self.n, self.room, self.weights = len(weights), room, weights
        self.item, self.copies = np.zeros(packets, np.int32), np.zeros(packets, np.int32)
        self.value = np.zeros((2, room + 1))
        self.kept = np.zeros((packets, room + 1), np.uint8)
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
        weight: cython.longlong
        fixed: cython.double = 0.0
        taken: cython.longlong = 0
        for j in range(self.n):
            if lower[j] > upper[j]:
                return INFINITY
            x[j] = lower[j]
            fixed += values[j] * lower[j]
            taken += self.weights[j] * lower[j]
        room: cython.longlong = self.room - taken
        if room < 0:
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
            self._begin(room)
            for k in range(count):
                weight = self.weights[self.item[k]] * self.copies[k]
                self._offer(k, now, weight, values[self.item[k]] * self.copies[k], room)
                now = 1 - now
        result: cython.double = fixed + self.value[now, room]
        c: cython.longlong = room
        for k in range(count - 1, -1, -1):
            if self.kept[k, c]:
                x[self.item[k]] += self.copies[k]
                c -= self.weights[self.item[k]] * self.copies[k]
        return result

    def otherwise(self, values, lower, upper, x, result):
        """Put into ``result`` the best value at which each item takes the other of its two values than in ``x``.

        Infinite where there is none. No item may have more than two values left.
        """
        j: cython.int
        c: cython.longlong
        w: cython.longlong
        n: cython.int = self.n
        now: cython.int = 0
        best: cython.double
        fixed: cython.double = 0.0
        taken: cython.longlong = 0
        for j in range(n):
            fixed += values[j] * lower[j]
            taken += self.weights[j] * lower[j]
        room: cython.longlong = self.room - taken
        if len(self.table) == 0:
            self.table = np.zeros((n + 1, self.room + 1))
        with cython.nogil:
            # of each room, the best of the items from j on in the table, of those before j in the values
            for c in range(room + 1):
                self.table[n, c] = 0.0
            for j in range(n - 1, -1, -1):
                w = self.weights[j] if upper[j] > lower[j] else room + 1
                for c in range(min(w, room + 1)):
                    self.table[j, c] = self.table[j + 1, c]
                for c in range(w, room + 1):
                    self.table[j, c] = min(self.table[j + 1, c], self.table[j + 1, c - w] + values[j])
            self._begin(room)
            for j in range(n):
                result[j] = INFINITY
                if upper[j] > lower[j]:
                    w = 0 if x[j] > lower[j] else self.weights[j]
                    best = INFINITY
                    for c in range(room - w + 1):
                        best = min(best, self.value[now, c] + self.table[j + 1, room - w - c])
                    result[j] = fixed + best + (0.0 if x[j] > lower[j] else values[j])
                    self._offer(0, now, self.weights[j], values[j], room)
                    now = 1 - now
        return 0

    def _begin(self, room):
        """Start with nothing taken."""
        c: cython.longlong
        for c in range(room + 1):
            self.value[0, c] = 0.0

    def _offer(self, k, now, weight, value, room):
        """Offer one packet at every room."""
        c: cython.longlong
        other: cython.int = 1 - now
        less: cython.longlong = min(weight, room + 1)
        for c in range(less):
            self.value[other, c] = self.value[now, c]
            self.kept[k, c] = 0
        for c in range(less, room + 1):
            self.kept[k, c] = self.value[now, c - weight] + value < self.value[now, c]
            self.value[other, c] = min(self.value[now, c - weight] + value, self.value[now, c])
