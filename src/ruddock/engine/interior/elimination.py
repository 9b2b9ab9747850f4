# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""The elimination tree of a sparse symmetric matrix, and the supernodes of its factor.

Column ``j`` of a factor hangs below the first row in which it has an entry: elimination of ``j`` changes columns on its
way to the root, and no others (Liu 1990). A chain of columns with the same rows below is a supernode, which is computed
with as one dense block; narrow ones are put together where that adds few zeros (Ashcraft and Grimes 1989).
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

PANEL = 128  # columns of a supernode at most: what lies between two looks at the limits
# columns up to which two supernodes are put together whatever zeros they get, most of them, or a tenth of the entries
FEW = cython.declare(cython.int, 4)
SOME = cython.declare(cython.int, 16)
MANY = cython.declare(cython.int, 48)


class EliminationTree:
    """The tree of one pattern.

    Parameters
    ----------
    starts, indices : int32 arrays
        Rows up to the diagonal of each column, in any order.

    Attributes
    ----------
    parent : int32 array, shape (n,)
        -1 at a root.
    below : int32 array, shape (n,)
        Entries of each column of the factor below the diagonal.
    """

    def __init__(self, starts, indices):
        n = self.n = len(starts) - 1
        self.ap, self.ai = starts, indices
        self.parent, self.flag = np.full(n, -1, np.int32), np.full(n, -1, np.int32)
        self.below = np.zeros(n, np.int32)
        self.row = 0

    def run(self, budget):
        """Count the entries of the factor for some work; return whether all are counted."""
        spent: cython.longlong = 0
        most: cython.longlong = budget
        with cython.nogil:
            while self.row < self.n and spent < most:
                spent += self._follow(self.row)
                self.row += 1
        return self.row == self.n

    def _follow(self, k):
        """Follow the tree from the entries of column ``k``: the rows passed are those of row ``k`` of the factor."""
        i: cython.int
        e: cython.int
        steps: cython.int = self.ap[k + 1] - self.ap[k]
        self.flag[k] = k
        for e in range(self.ap[k], self.ap[k + 1]):
            i = self.ai[e]
            while i < k and self.flag[i] != k:
                if self.parent[i] < 0:
                    self.parent[i] = k
                self.below[i] += 1
                self.flag[i] = k
                i = self.parent[i]
                steps += 1
        return steps


def postorder(parent):
    """Return an order of a tree in which the columns of each part of it follow one another, its top last."""
    up: cython.int[::1] = parent
    n: cython.int = len(parent)
    j: cython.int
    k: cython.int
    done: cython.int = 0
    first_of, next_of, way, result = (np.full(n + 1, -1, np.int32) for _ in range(4))
    first: cython.int[::1] = first_of
    following: cython.int[::1] = next_of
    stack: cython.int[::1] = way
    order: cython.int[::1] = result
    with cython.nogil:
        # children in ascending order; the roots are the children of column n, which there is not
        for j in range(n - 1, -1, -1):
            k = up[j] if up[j] >= 0 else n
            following[j] = first[k]
            first[k] = j
        k = 0
        stack[0] = n
        while k >= 0:
            j = first[stack[k]]
            if j >= 0:
                first[stack[k]] = following[j]
                k += 1
                stack[k] = j
            else:
                if stack[k] < n:
                    order[done] = stack[k]
                    done += 1
                k -= 1
    return result[:n]


def supernodes(parent, below):
    """Return where the supernodes of a tree in postorder begin, and how many rows each has, its own included.

    Parameters
    ----------
    parent, below : int32 arrays, shape (n,)

    Returns
    -------
    starts : int32 array, shape (count + 1,)
    rows : int32 array, shape (count,)
    """
    n = len(parent)
    if not n:
        return np.zeros(1, np.int32), np.zeros(0, np.int32)
    joined = (parent[:-1] == np.arange(1, n)) & (below[:-1] == below[1:] + 1)
    starts = np.concatenate(([0], np.flatnonzero(~joined) + 1, [n])).astype(np.int32)
    rows = below[starts[:-1]] + 1
    # wide ones in parts, as equal as can be
    width = np.diff(starts)
    parts = -(-width // PANEL)
    number = np.arange(parts.sum()) - np.repeat(np.cumsum(parts) - parts, parts)
    gone = number * np.repeat(width, parts) // np.repeat(parts, parts)
    starts = np.append(np.repeat(starts[:-1], parts) + gone, n).astype(np.int32)
    rows = (np.repeat(rows, parts) - gone).astype(np.int32)
    owner = np.repeat(np.arange(len(rows), dtype=np.int32), np.diff(starts))
    top = parent[starts[1:] - 1]
    keep = _put_together(starts, rows, np.where(top >= 0, owner[top], -1).astype(np.int32))
    return np.append(starts[:-1][keep], n).astype(np.int32), rows[keep]


def _put_together(starts, rows, above):
    """Join supernodes to those above them that follow at once; set rows, return which still begin one."""
    first: cython.int[::1] = starts.copy()
    rest: cython.int[::1] = rows
    up: cython.int[::1] = above
    end: cython.int[::1] = starts
    zeros: cython.double[::1] = np.zeros(len(rows))
    stays = np.ones(len(rows), np.int8)
    kept: cython.schar[::1] = stays
    s: cython.int
    p: cython.int
    wide: cython.int
    own: cython.int
    more: cython.double
    total: cython.double
    share: cython.double
    most: cython.int = PANEL
    count: cython.int = len(rows)
    with cython.nogil:
        for s in range(count - 1):
            p = s + 1
            if up[s] != p:
                continue
            own = end[s + 1] - first[s]
            wide = own + end[p + 1] - end[p]
            more = zeros[s] + cython.cast(cython.double, own) * (own + rest[p] - rest[s])
            total = cython.cast(cython.double, wide) * (own + rest[p]) - 0.5 * wide * (wide - 1.0)
            share = more / total
            if wide > most:
                continue
            if wide <= FEW or (wide <= SOME and share < 0.8) or (wide <= MANY and share < 0.1) or share < 0.05:
                first[p] = first[s]
                rest[p] += own
                zeros[p] = more
                kept[s] = 0
    # a supernode begins where the first that was joined to it began
    starts[:-1] = np.asarray(first)[:-1]
    return stays.astype(bool)
