# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""The rows of a matrix; where all columns of a row are alike, those come first whose jump takes from its activity.

Columns are alike in a row if all jump between two values and change its activity by the same size. Then a jump changes
the scores of all that stand on the same side by the same, and one number tells whether a side has to be gone through
at all: of a covered row, the many columns that are out of the plan need not.
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython


class Sides:
    """The rows, kept in line with where their columns stand.

    Parameters
    ----------
    columns : (starts, indices, values)
        The matrix by columns.
    m : int
    binary, fixed : boolean arrays
        Which columns have two values, 1 apart, and which have one.

    Attributes
    ----------
    starts, indices, values : int32 and float arrays
        The matrix by rows; entries change their places within rows whose columns are alike.
    alike : float array
        By how much the columns of a row change its activity, 0 where they are not alike.
    middle : int32 array
        Where the columns begin whose jump adds to the activity, in rows whose columns are alike: all as long as none
        has been turned.
    """

    def __init__(self, columns, m, binary, fixed):
        self.cp, self.ci, self.cx = columns
        counts = np.bincount(np.asarray(self.ci), minlength=m)
        self.starts = np.concatenate(([0], np.cumsum(counts))).astype(np.int32)
        entries = len(self.ci)
        self.indices, self.values = np.zeros(entries, np.int32), np.zeros(entries)
        self.place, self.entry = np.zeros(entries, np.int32), np.zeros(entries, np.int32)
        self.alike, self.middle = np.zeros(m), np.array(self.starts[:m])
        self._fill(np.where(fixed, -1, binary).astype(np.int8))

    def _fill(self, kinds):
        """Write the rows, and find those that are alike."""
        sort: cython.schar[::1] = kinds
        i: cython.int
        j: cython.int
        e: cython.int
        f: cython.int
        size: cython.double
        for j in range(len(self.cp) - 1):
            for e in range(self.cp[j], self.cp[j + 1]):
                i = self.ci[e]
                f = self.middle[i]
                self.middle[i] = f + 1
                self.indices[f], self.values[f] = j, self.cx[e]
                self.place[e], self.entry[f] = f, e
        for i in range(len(self.middle)):
            self.middle[i] = self.starts[i]
            for f in range(self.starts[i], self.starts[i + 1]):
                if sort[self.indices[f]] < 0:
                    continue
                size = abs(self.values[f])
                if sort[self.indices[f]] == 0 or (self.alike[i] != 0.0 and size != self.alike[i]):
                    self.alike[i] = 0.0
                    break
                self.alike[i] = size

    def turn(self, e, takes):
        """Let an entry go to the other side of its row: its column takes from the activity now, or adds to it."""
        i: cython.int = self.ci[e]
        f: cython.int = self.place[e]
        g: cython.int
        if takes:
            g = self.middle[i]
            self.middle[i] = g + 1
        else:
            g = self.middle[i] - 1
            self.middle[i] = g
        self.indices[f], self.indices[g] = self.indices[g], self.indices[f]
        self.values[f], self.values[g] = self.values[g], self.values[f]
        self.entry[f], self.entry[g] = self.entry[g], self.entry[f]
        self.place[self.entry[f]] = f
        self.place[self.entry[g]] = g
