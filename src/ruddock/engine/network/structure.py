# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Finds the factors of rows that make a matrix that of a network, in time linear in its entries.

A matrix of at most two entries a column is one if its rows can be multiplied so that the two entries of every
column cancel. From any row of a connected part the factors of all others follow.
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

SAME = cython.declare(cython.double, 1e-13)  # relative: factors that differ by rounding alone


class Structure:
    """The search for factors.

    Parameters
    ----------
    columns, rows : (starts, indices, values), (starts, indices)
        The matrix by columns, at most two entries each, and its pattern by rows.
    """

    def __init__(self, columns, rows):
        self.starts, self.indices, self.values = columns
        self.row_starts, self.row_columns = rows
        self.m = len(self.row_starts) - 1
        self.factor = np.zeros(self.m)
        self.queue = np.zeros(self.m + 1, dtype=np.int32)

    def find(self):
        """Say whether there are factors; `factor` holds them."""
        found: cython.bint = True
        i: cython.int
        with cython.nogil:
            for i in range(self.m):
                if self.factor[i] == 0.0:
                    found = self._spread(i)
                    if not found:
                        break
        return bool(found)

    def _spread(self, root):
        """Give factors to all rows that hang together with one; say whether they agree."""
        i: cython.int
        j: cython.int
        k: cython.int
        e: cython.int
        first: cython.int
        other: cython.int
        row: cython.int
        head: cython.int = 0
        tail: cython.int = 1
        wanted: cython.double
        self.factor[root] = 1.0
        self.queue[0] = root
        while head < tail:
            i = self.queue[head]
            head += 1
            for e in range(self.row_starts[i], self.row_starts[i + 1]):
                j = self.row_columns[e]
                first = self.starts[j]
                if self.starts[j + 1] - first != 2:
                    continue
                k = first if self.indices[first] == i else first + 1
                other = 2 * first + 1 - k
                wanted = -self.factor[i] * self.values[k] / self.values[other]
                row = self.indices[other]
                if self.factor[row] == 0.0:
                    self.factor[row] = wanted
                    self.queue[tail] = row
                    tail += 1
                elif abs(self.factor[row] - wanted) > SAME * abs(wanted):
                    return False
        return True
