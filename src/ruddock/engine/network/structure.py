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

    def arcs(self, tail, head, size):
        """Write down the arc of each column: its ends, where ``m`` is the root, and the flow of a unit."""
        out: cython.int[::1] = tail
        into: cython.int[::1] = head
        flow: cython.double[::1] = size
        j: cython.int
        e: cython.int
        other: cython.int
        units: cython.double
        for j in range(self.starts.shape[0] - 1):
            e = self.starts[j]
            units = self.factor[self.indices[e]] * self.values[e]
            other = self.m if self.starts[j + 1] - e == 1 else self.indices[e + 1]
            out[j] = self.indices[e] if units > 0.0 else other
            into[j] = other if units > 0.0 else self.indices[e]
            flow[j] = abs(units)

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


class Subnetwork:
    """Chooses rows, one after another, as long as those chosen are a network (Bixby and Fourer 1988).

    Rows that are connected have factors relative to one of them, kept in a forest: a row that joins several parts makes
    one of them.

    Parameters
    ----------
    n : int
        Number of columns.
    rows : (starts, indices, values)
        The matrix by rows.

    Attributes
    ----------
    chosen : int8 array, by row
    """

    def __init__(self, n, rows):
        self.row_starts, self.row_columns, self.values = rows
        self.m = len(self.row_starts) - 1
        self.parent = np.arange(self.m, dtype=np.int32)
        self.share = np.ones(self.m)  # factor of a row over that of its parent
        self.chosen = np.zeros(self.m, dtype=np.int8)
        self.count, self.holder = np.zeros(n, dtype=np.int8), np.zeros(n, dtype=np.int32)
        self.held = np.zeros(n)  # the entry of a column in the row that holds it
        self.seen, self.wanted = np.full(self.m, -1, dtype=np.int32), np.zeros(self.m)
        self.touched = np.zeros(self.m + 1, dtype=np.int32)

    def choose(self, order):
        """Go through the rows in an order."""
        t: cython.int
        numbers: cython.int[::1] = order
        with cython.nogil:
            for t in range(numbers.shape[0]):
                self._try(numbers[t])

    def _try(self, i):
        """Choose a row if it fits those chosen."""
        e: cython.int
        j: cython.int
        k: cython.int
        root: cython.int
        roots: cython.int = 0
        ratio: cython.double
        for e in range(self.row_starts[i], self.row_starts[i + 1]):
            if self.count[self.row_columns[e]] >= 2:
                return
        for e in range(self.row_starts[i], self.row_starts[i + 1]):
            j = self.row_columns[e]
            if self.count[j] == 0:
                continue
            k = self.holder[j]
            root = self._find(k)
            # the factor of this row over that of the root, so that the two entries of the column cancel
            ratio = -(1.0 if root == k else self.share[k]) * self.held[j] / self.values[e]
            if self.seen[root] != i:
                self.seen[root] = i
                self.wanted[root] = ratio
                self.touched[roots] = root
                roots += 1
            elif abs(self.wanted[root] - ratio) > SAME * abs(ratio):
                return
        for e in range(roots):
            root = self.touched[e]
            self.parent[root] = i
            self.share[root] = 1.0 / self.wanted[root]
        self.chosen[i] = 1
        for e in range(self.row_starts[i], self.row_starts[i + 1]):
            j = self.row_columns[e]
            self.count[j] += 1
            self.holder[j] = i
            self.held[j] = self.values[e]

    def _find(self, k):
        """Return the root of a row's part; its share becomes that of the root, as those on the way do."""
        root: cython.int = k
        up: cython.int
        after: cython.int
        total: cython.double = 1.0
        own: cython.double
        while self.parent[root] != root:
            total *= self.share[root]
            root = self.parent[root]
        up = k
        while self.parent[up] != root and up != root:
            after = self.parent[up]
            own = self.share[up]
            self.parent[up] = root
            self.share[up] = total
            total /= own
            up = after
        return root
