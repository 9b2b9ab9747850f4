# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Numbers ranked by a key that may change at any time: a binary heap that knows the place of each number."""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython


class Ranking:
    """Some of the numbers below ``n``, the one with the largest key first.

    Attributes
    ----------
    count : int
    """

    def __init__(self, n):
        self.key = np.zeros(n + 1)
        self.items, self.places = np.zeros(n + 1, np.int32), np.full(n + 1, -1, np.int32)
        self.count = 0

    def first(self):
        """Return the number with the largest key; there must be one."""
        return self.items[0]

    def put(self, j, key):
        """Put a number in its place by a key, whether it is there already or not."""
        if self.places[j] < 0:
            self._set(self.count, j)
            self.count += 1
        self.key[j] = key
        self._raise(self.places[j])
        self._lower(self.places[j])

    def remove(self, j):
        """Take a number out, if it is there."""
        last: cython.int
        at: cython.int = self.places[j]
        if at < 0:
            return
        self.places[j] = -1
        self.count -= 1
        if at < self.count:
            last = self.items[self.count]
            self._set(at, last)
            self._raise(at)
            self._lower(self.places[last])

    def _set(self, at, j):
        self.items[at] = j
        self.places[j] = at

    def _raise(self, at):
        above: cython.int
        j: cython.int = self.items[at]
        while at > 0:
            above = (at - 1) // 2
            if self.key[self.items[above]] >= self.key[j]:
                break
            self._set(at, self.items[above])
            at = above
        self._set(at, j)

    def _lower(self, at):
        below: cython.int
        j: cython.int = self.items[at]
        while 2 * at + 1 < self.count:
            below = 2 * at + 1
            if below + 1 < self.count and self.key[self.items[below + 1]] > self.key[self.items[below]]:
                below += 1
            if self.key[self.items[below]] <= self.key[j]:
                break
            self._set(at, self.items[below])
            at = below
        self._set(at, j)
