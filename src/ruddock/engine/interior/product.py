# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""The lower half of ``A diag(d) A'`` on a pattern that stays, whatever cancels."""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython


class SymmetricProduct:
    """Products of one matrix.

    Parameters
    ----------
    rows, columns : (starts, indices, values)
        The matrix by rows and by columns.
    starts, indices : int32 arrays
        The lower half of the pattern of the product by columns, each sorted, the diagonal first.
    """

    def __init__(self, rows, columns, starts, indices):
        self.m = len(starts) - 1
        self.rp, self.rj, self.rx = rows
        self.cp, self.ci, self.cx = columns
        self.starts, self.indices = starts, indices
        self.total = np.zeros(self.m + 1)

    def compute(self, d, extra, result):
        """Set ``result`` to the values of the product plus ``diag(extra)``."""
        weight: cython.double[::1] = d
        more: cython.double[::1] = extra
        values: cython.double[::1] = result
        k: cython.int
        e: cython.int
        q: cython.int
        i: cython.int
        j: cython.int
        factor: cython.double
        with cython.nogil:
            for k in range(self.m):
                for e in range(self.rp[k], self.rp[k + 1]):
                    j = self.rj[e]
                    factor = self.rx[e] * weight[j]
                    for q in range(self.cp[j + 1] - 1, self.cp[j] - 1, -1):
                        i = self.ci[q]
                        if i < k:
                            break  # sorted: what comes before belongs to the upper half
                        self.total[i] += factor * self.cx[q]
                self.total[k] += more[k]
                for e in range(self.starts[k], self.starts[k + 1]):
                    values[e] = self.total[self.indices[e]]
                    self.total[self.indices[e]] = 0.0
