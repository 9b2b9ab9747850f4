# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Sparse Cholesky factors ``L L'`` of a symmetric positive definite matrix, supernode by supernode.

The columns of a supernode are kept as one dense block. Each block is changed by those before it that have rows among
its own columns, then factorised (Ng and Peyton 1993): long products run in BLAS, short ones in loops. Work goes on in
portions: the caller looks at its limits in between.
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

if cython.compiled:
    from cython.cimports.ruddock.engine.interior.dense import factorise, subtract
else:
    from ruddock.engine.interior.dense import factorise, subtract

SHORT = cython.declare(cython.double, 512.0)  # multiplications up to which a loop is faster than a call
SPEED = 40.0  # multiplications of a block that take as long as one by itself, about a nanosecond
CALL, ENTRY = 250.0, 10.0  # of one by itself, that a supernode takes besides, and an entry of it


class Cholesky:
    """Factors of matrices of one pattern.

    Parameters
    ----------
    upper, lower : pairs of int32 arrays, starts and rows
        The pattern by columns: rows up to the diagonal, and rows from the diagonal on.
    starts, heights : int32 arrays
        Where supernodes begin, and their rows, as `supernodes` finds them. The pattern is in postorder.

    Attributes
    ----------
    entries : int
        That the blocks of all supernodes hold.
    work : float
        Of one factorisation, in multiplications one by one.
    """

    def __init__(self, upper, lower, starts, heights):
        n = self.n = len(upper[0]) - 1
        count = self.count = len(heights)
        self.up, self.ui = upper
        self.ap, self.ai = lower
        self.first = starts
        width = np.diff(starts).astype(np.int64)
        self.owner = np.append(np.repeat(np.arange(count, dtype=np.int32), width), 0).astype(np.int32)
        self.rp = np.concatenate(([0], np.cumsum(heights, dtype=np.int64)))
        self.lp = np.concatenate(([0], np.cumsum(width * heights)))
        self.entries = int((width * heights).sum())
        below = heights - width
        # a square for each column
        self.costs = costs = (_squares(heights) - _squares(below)) / SPEED + CALL + ENTRY * width * heights
        self.work = float(costs.sum())
        self.rows = np.zeros(int(heights.sum()) + 1, np.int32)
        self.filled, self.flag = np.array(self.rp, np.int64), np.full(count + 1, -1, np.int32)
        self.row = self.at = 0
        self.head, self.link = np.full(count + 1, -1, np.int32), np.full(count + 1, -1, np.int32)
        self.reached = np.zeros(count + 1, np.int64)
        self.place = np.zeros(n + 1, np.int32)
        self.lx, self.ax, self.part = np.zeros(1), np.zeros(1), np.zeros(1)

    def analyse(self, budget):
        """Find the rows of each supernode for some work; return whether all are found."""
        spent: cython.longlong = 0
        most: cython.longlong = budget
        with cython.nogil:
            while self.row < self.n and spent < most:
                spent += self._add_row(self.row)
                self.row += 1
        return self.row == self.n

    def _add_row(self, k):
        """Add row ``k`` to the supernodes on the way from the entries of column ``k`` up to its own."""
        s: cython.int
        e: cython.int
        q: cython.longlong
        steps: cython.int = self.up[k + 1] - self.up[k]
        own: cython.int = self.owner[k]
        self.rows[self.filled[own]] = k
        self.filled[own] += 1
        self.flag[own] = k
        for e in range(self.up[k], self.up[k + 1]):
            s = self.owner[self.ui[e]]
            while self.flag[s] != k:
                self.flag[s] = k
                self.rows[self.filled[s]] = k
                self.filled[s] += 1
                steps += 1
                # all columns of a supernode are among its rows, so the first row below says where it hangs
                q = self.rp[s] + self.first[s + 1] - self.first[s]
                s = self.owner[self.rows[q]]
        return steps

    def begin(self, values):
        """Take the values of a matrix, in the order of the lower pattern.

        Raises
        ------
        MemoryError
            If there is no room for the blocks.
        """
        if self.lx.shape[0] < self.entries:
            self.lx = np.zeros(self.entries)
        np.asarray(self.head)[:] = -1
        self.ax = values
        self.at = 0

    def run(self, budget):
        """Factorise on for some work; return 1 when done, 0 when not, -1 where the matrix is not positive definite."""
        most: cython.double = budget
        result: cython.int = 0
        with cython.nogil:
            while self.at < self.count and most > 0.0:
                most -= self.costs[self.at]
                if not self._supernode(self.at):
                    result = -1
                    break
                self.at += 1
        return result if result else int(self.at == self.count)

    def _supernode(self, s):
        """Compute the block of a supernode; return whether it is positive definite, or raise MemoryError."""
        r: cython.int
        e: cython.int
        j: cython.int
        k: cython.int
        after: cython.int
        begin: cython.int = self.first[s]
        end: cython.int = self.first[s + 1]
        width: cython.int = end - begin
        at: cython.longlong = self.rp[s]
        height: cython.int = cython.cast(cython.int, self.rp[s + 1] - at)
        base: cython.longlong = self.lp[s]
        q: cython.longlong
        for r in range(height):
            self.place[self.rows[at + r]] = r
        for q in range(base, self.lp[s + 1]):
            self.lx[q] = 0.0
        for j in range(begin, end):
            q = base + cython.cast(cython.longlong, j - begin) * height
            for e in range(self.ap[j], self.ap[j + 1]):
                self.lx[q + self.place[self.ai[e]]] = self.ax[e]
        k = self.head[s]
        while k >= 0:
            after = self.link[k]
            self._change(s, k)
            k = after
        if not self._finish(base, height, width):
            return False
        if width < height:
            self._wait(s, at + width)
        return True

    def _wait(self, k, q):
        """Put supernode ``k`` among those that change the owner of its row at ``q``."""
        s: cython.int = self.owner[self.rows[q]]
        self.reached[k] = q
        self.link[k] = self.head[s]
        self.head[s] = k

    def _finish(self, base, height, width):
        """Factorise a block that all changes have reached."""
        r: cython.int
        pivot: cython.double
        if width > 1:
            return factorise(self.lx, base, height, width)
        pivot = self.lx[base]
        if not pivot > 0.0:
            return False
        pivot = pivot**0.5
        self.lx[base] = pivot
        for r in range(1, height):
            self.lx[base + r] /= pivot
        return True

    def _change(self, s, k):
        """Subtract from block ``s`` what supernode ``k`` before it takes away."""
        c: cython.int
        r: cython.int
        w: cython.int
        lead: cython.int = cython.cast(cython.int, self.rp[k + 1] - self.rp[k])
        width: cython.int = self.first[k + 1] - self.first[k]
        height: cython.int = cython.cast(cython.int, self.rp[s + 1] - self.rp[s])
        q: cython.longlong = self.reached[k]
        most: cython.longlong = self.rp[k + 1]
        rest: cython.longlong = q
        source: cython.longlong = self.lp[k] + q - self.rp[k]
        target: cython.longlong
        column: cython.longlong
        factor: cython.double
        rows: cython.int = cython.cast(cython.int, most - q)
        count: cython.int
        lies: cython.int = self.place[self.rows[q]]
        while rest < most and self.rows[rest] < self.first[s + 1]:
            rest += 1
        count = cython.cast(cython.int, rest - q)
        if cython.cast(cython.double, rows) * count * width <= SHORT:
            for w in range(width):
                column = source + cython.cast(cython.longlong, w) * lead
                for c in range(count):
                    factor = self.lx[column + c]
                    target = self.lp[s] + cython.cast(cython.longlong, self.place[self.rows[q + c]]) * height
                    for r in range(c, rows):
                        self.lx[target + self.place[self.rows[q + r]]] -= factor * self.lx[column + r]
        elif self.place[self.rows[most - 1]] == lies + rows - 1:  # in one piece there: no need to spread it
            target = self.lp[s] + cython.cast(cython.longlong, lies) * height + lies
            subtract(self.lx, source, lead, rows, count, width, self.lx, target, height, True)
        else:
            if self.part.shape[0] < cython.cast(cython.longlong, rows) * count:
                self._widen(cython.cast(cython.longlong, rows) * count)
            subtract(self.lx, source, lead, rows, count, width, self.part, 0, rows, False)
            for c in range(count):
                column = cython.cast(cython.longlong, c) * rows
                target = self.lp[s] + cython.cast(cython.longlong, self.place[self.rows[q + c]]) * height
                for r in range(c, rows):
                    self.lx[target + self.place[self.rows[q + r]]] += self.part[column + r]
        if rest < most:
            self._wait(k, rest)
        return 0

    def _widen(self, size):
        """Make room for a product."""
        self.part = np.zeros(2 * size)
        return 0

    def solve(self, right):
        """Solve with the factors, in place."""
        x: cython.double[::1] = right
        s: cython.int
        j: cython.int
        r: cython.int
        width: cython.int
        height: cython.int
        at: cython.longlong
        q: cython.longlong
        value: cython.double
        local: cython.double[::1] = np.zeros(self.n + 1)
        with cython.nogil:
            for s in range(self.count):
                width = self.first[s + 1] - self.first[s]
                at = self.rp[s]
                height = cython.cast(cython.int, self.rp[s + 1] - at)
                for r in range(height):
                    local[r] = x[self.rows[at + r]]
                for j in range(width):
                    q = self.lp[s] + cython.cast(cython.longlong, j) * height
                    value = local[j] / self.lx[q + j]
                    local[j] = value
                    if value != 0.0:
                        for r in range(j + 1, height):
                            local[r] -= value * self.lx[q + r]
                for r in range(height):
                    x[self.rows[at + r]] = local[r]
            for s in range(self.count - 1, -1, -1):
                width = self.first[s + 1] - self.first[s]
                at = self.rp[s]
                height = cython.cast(cython.int, self.rp[s + 1] - at)
                for r in range(height):
                    local[r] = x[self.rows[at + r]]
                for j in range(width - 1, -1, -1):
                    q = self.lp[s] + cython.cast(cython.longlong, j) * height
                    value = local[j]
                    for r in range(j + 1, height):
                        value -= self.lx[q + r] * local[r]
                    local[j] = value / self.lx[q + j]
                for r in range(width):
                    x[self.rows[at + r]] = local[r]


def _squares(heights):
    """Return the sums of the squares up to numbers."""
    h = heights.astype(float)
    return h * (h + 1.0) * (2.0 * h + 1.0) / 6.0
