# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Sparse Cholesky factors ``L D L'`` of a symmetric positive definite matrix, row by row.

The elimination tree tells the pattern of every row of L beforehand, so that its entries are counted before any is
computed, and each row is a sparse triangular solve that touches nothing else (Davis 2006, chapters 4 and 5). Work goes
on in portions: the caller looks at its limits in between.
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython


class Cholesky:
    """Factors of matrices of one pattern, given by the upper half of their columns.

    Parameters
    ----------
    starts, indices : int32 arrays
        Rows up to the diagonal of each column, sorted: the diagonal is the last of its column.

    Attributes
    ----------
    entries : int
        Of L below the diagonal.
    work : float
        Multiplications of one factorisation.
    """

    def __init__(self, starts, indices):
        n = self.n = len(starts) - 1
        self.ap, self.ai = starts, indices
        self.parent, self.flag = np.full(n + 1, -1, np.int32), np.full(n + 1, -1, np.int32)
        self.count = np.zeros(n + 1, np.int32)
        self.stack, self.pattern = np.zeros(n + 1, np.int32), np.zeros(n + 1, np.int32)
        self.lp = np.zeros(n + 2, np.int64)
        self.li, self.lx = np.zeros(1, np.int32), np.zeros(1)
        self.filled = np.zeros(n + 1, np.int64)
        self.d, self.y = np.zeros(n + 1), np.zeros(n + 1)
        self.ax = np.zeros(1)
        self.entries, self.work, self.row = 0, 0.0, 0
        self.analysed = 0

    def analyse(self, budget):
        """Count the entries of L for some work; return whether all are counted."""
        spent: cython.longlong = 0
        most: cython.longlong = budget
        with cython.nogil:
            while self.analysed < self.n and spent < most:
                spent += self._analyse_row(self.analysed)
                self.analysed += 1
        if self.analysed < self.n:
            return False
        count = np.asarray(self.count)[: self.n].astype(np.int64)
        self.entries = int(count.sum())
        self.work = float((count.astype(float) * (count + 3.0)).sum())
        return True

    def _analyse_row(self, k):
        """Follow the tree from the entries of column ``k``: the rows passed are those of row ``k`` of L."""
        i: cython.int
        e: cython.int
        steps: cython.int = self.ap[k + 1] - self.ap[k]
        self.parent[k] = -1
        self.flag[k] = k
        for e in range(self.ap[k], self.ap[k + 1]):
            i = self.ai[e]
            while i < k and self.flag[i] != k:
                if self.parent[i] < 0:
                    self.parent[i] = k
                self.count[i] += 1
                self.flag[i] = k
                i = self.parent[i]
                steps += 1
        return steps

    def begin(self, values):
        """Take the values of a matrix, in the order of the pattern; raise MemoryError if there is no room for L."""
        if self.li.shape[0] < self.entries:
            index, value = np.zeros(self.entries, np.int32), np.zeros(self.entries)
            self.lx = value
            self.li = index
        np.cumsum(np.asarray(self.count)[: self.n], out=np.asarray(self.lp)[1 : self.n + 1])
        np.asarray(self.filled)[: self.n] = np.asarray(self.lp)[: self.n]
        np.asarray(self.flag)[:] = -1
        self.ax = values
        self.row = 0

    def run(self, budget):
        """Factorise on for some multiplications; return 1 when done, 0 when not, -1 at a pivot that is not positive."""
        most: cython.double = budget
        result: cython.int = 0
        with cython.nogil:
            while self.row < self.n and most > 0.0:
                most -= self._row(self.row)
                if not self.d[self.row] > 0.0:
                    result = -1
                    break
                self.row += 1
        return result if result else int(self.row == self.n)

    def _row(self, k):
        """Compute row ``k`` of L; return the work."""
        i: cython.int
        e: cython.int
        length: cython.int
        top: cython.int = self.n
        q: cython.longlong
        p: cython.longlong
        value: cython.double
        entry: cython.double
        work: cython.double = 10.0
        pivot: cython.double = 0.0
        # the pattern of the row, in an order in which each comes before those it feeds
        self.flag[k] = k
        for e in range(self.ap[k], self.ap[k + 1]):
            i = self.ai[e]
            if i == k:
                pivot += self.ax[e]
                continue
            self.y[i] += self.ax[e]
            length = 0
            while self.flag[i] != k:
                self.stack[length] = i
                length += 1
                self.flag[i] = k
                i = self.parent[i]
            while length > 0:
                length -= 1
                top -= 1
                self.pattern[top] = self.stack[length]
        while top < self.n:
            i = self.pattern[top]
            top += 1
            value = self.y[i]
            self.y[i] = 0.0
            q = self.filled[i]
            for p in range(self.lp[i], q):
                self.y[self.li[p]] -= self.lx[p] * value
            work += q - self.lp[i] + 3
            entry = value / self.d[i]
            pivot -= entry * value
            self.li[q] = k
            self.lx[q] = entry
            self.filled[i] = q + 1
        self.d[k] = pivot
        return work

    def solve(self, right):
        """Solve with the factors, in place."""
        x: cython.double[::1] = right
        k: cython.int
        p: cython.longlong
        value: cython.double
        with cython.nogil:
            for k in range(self.n):
                value = x[k]
                if value != 0.0:
                    for p in range(self.lp[k], self.lp[k + 1]):
                        x[self.li[p]] -= self.lx[p] * value
            for k in range(self.n):
                x[k] /= self.d[k]
            for k in range(self.n - 1, -1, -1):
                value = x[k]
                for p in range(self.lp[k], self.lp[k + 1]):
                    value -= self.lx[p] * x[self.li[p]]
                x[k] = value
