# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Sparse LU factorisation of a basis matrix by Markowitz pivoting with threshold stability.

Pivots are taken in three passes: column singletons (they need no elimination and most bases are
mostly such), row singletons (they give columns of L without fill), then the remaining nucleus, where
each pivot minimises (row count - 1)(column count - 1) among entries of at least a tenth of their
column's largest one (Suhl and Suhl 1990).
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

from ruddock.engine.simplex.room import grown

THRESHOLD = cython.declare(cython.double, 0.1)  # a pivot is at least this part of its column's largest entry
TINY = cython.declare(cython.double, 1e-10)  # below this a pivot counts as zero
DROP = cython.declare(cython.double, 1e-14)  # entries that cancel to less are dropped
CANDIDATES = cython.declare(cython.int, 4)  # rows and columns looked at per pivot


def _ints(size):
    return np.empty(size, dtype=np.int32)


class Markowitz:
    """The factors of one basis matrix: pivots in order, L by columns, U as triplets.

    Parameters
    ----------
    m : int
        Number of rows, and of basic variables.
    """

    def __init__(self, m):
        self.m = m
        self.pivots = 0
        self.touched = 0
        size, room = m + 2, 4 * m + 16
        self.pivot_row, self.pivot_slot, self.pivot_value = _ints(size), _ints(size), np.empty(size)
        self.l_begin, self.l_index, self.l_value = _ints(size), _ints(room), np.empty(room)
        self.t_row, self.t_slot, self.t_value = _ints(room), _ints(room), np.empty(room)
        self.row_done, self.slot_done = np.zeros(size, dtype=np.int8), np.zeros(size, dtype=np.int8)
        self.c_begin, self.c_count, self.c_room = _ints(size), _ints(size), _ints(size)
        self.c_index, self.c_value = _ints(room), np.empty(room)
        self.r_begin, self.r_count, self.r_room = _ints(size), _ints(size), _ints(size)
        self.r_index = _ints(room)
        self.c_first, self.c_next, self.c_prev = _ints(size), _ints(size), _ints(size)
        self.r_first, self.r_next, self.r_prev = _ints(size), _ints(size), _ints(size)
        self.queue = _ints(size)
        self.mark, self.multiplier = np.zeros(size, dtype=np.int8), np.zeros(size)
        self.l_used = self.t_used = self.c_used = self.r_used = 0
        self.best_row = self.best_slot = -1

    def bytes(self):
        """Return what factors and active submatrix take."""
        entries: cython.longlong = self.l_index.shape[0] + self.c_index.shape[0]
        return 12 * entries + 16 * self.t_row.shape[0] + 4 * self.r_index.shape[0] + 100 * self.m

    def factor(self, head, n, ap, ai, ax):
        """Factorise the basis ``head``; return the number of pivots found (``m`` if non-singular).

        ``head`` holds a variable per slot: a column of A below ``n``, else the logical ``-e`` of row
        ``head - n``. Rows and slots left without a pivot have ``row_done``/``slot_done`` zero.
        """
        active: cython.int
        self._load(head, n, ap, ai, ax)
        self._column_singletons()
        self._row_singletons()
        active = self.m - self.pivots
        if active > 0:
            self._open_nucleus()
            while active > 0 and self._search(active):
                self._eliminate(self.best_row, self.best_slot)
                active -= 1
        self.l_begin[self.pivots] = self.l_used
        return self.pivots

    def _load(self, head, n, ap, ai, ax):
        """Copy the basis columns and the pattern of its rows; nothing is pivoted yet."""
        m: cython.int = self.m
        i: cython.int
        j: cython.int
        k: cython.int
        q: cython.int
        used: cython.int = 0
        size: cython.int = 0
        self.pivots = 0
        self.l_used = self.t_used = self.c_used = self.r_used = 0
        for i in range(m):
            self.r_count[i] = 0
            self.row_done[i] = 0
            self.slot_done[i] = 0
        for q in range(m):
            j = head[q]
            size += 1 if j >= n else ap[j + 1] - ap[j]
        if size > self.c_index.shape[0]:
            self._grow_columns(size)
        if size > self.r_index.shape[0]:
            self._grow_rows(size)
        for q in range(m):
            j = head[q]
            self.c_begin[q] = used
            if j >= n:
                self.c_index[used] = j - n
                self.c_value[used] = -1.0
                self.r_count[j - n] += 1
                used += 1
            else:
                for k in range(ap[j], ap[j + 1]):
                    self.c_index[used] = ai[k]
                    self.c_value[used] = ax[k]
                    self.r_count[ai[k]] += 1
                    used += 1
            self.c_count[q] = used - self.c_begin[q]
            self.c_room[q] = self.c_count[q]
        self.c_used = used
        self.touched += used
        used = 0
        for i in range(m):
            self.r_begin[i] = used
            self.r_room[i] = self.r_count[i]
            used += self.r_count[i]
            self.r_count[i] = 0
        self.r_used = used
        for q in range(m):
            for k in range(self.c_begin[q], self.c_begin[q] + self.c_count[q]):
                i = self.c_index[k]
                self.r_index[self.r_begin[i] + self.r_count[i]] = q
                self.r_count[i] += 1

    def _pivot(self, p, q, value):
        """Record the next pivot: row ``p``, slot ``q``."""
        self.pivot_row[self.pivots] = p
        self.pivot_slot[self.pivots] = q
        self.pivot_value[self.pivots] = value
        self.l_begin[self.pivots] = self.l_used
        self.pivots += 1
        self.row_done[p] = 1
        self.slot_done[q] = 1

    def _record_u(self, p, q, value):
        """Keep one off-diagonal entry of U, making room as needed."""
        t: cython.int = self.t_used
        if t == self.t_row.shape[0]:
            self._grow_u(1)
        self.t_row[t] = p
        self.t_slot[t] = q
        self.t_value[t] = value
        self.t_used = t + 1

    def _column_singletons(self):
        """Pivot on columns with one entry left in unpivoted rows; the rest of such a column is U."""
        q: cython.int
        k: cython.int
        p: cython.int
        j: cython.int
        value: cython.double
        first: cython.int = 0
        last: cython.int = 0
        for q in range(self.m):
            if self.c_count[q] == 1:
                self.queue[last] = q
                last += 1
        # c_count shrinks as rows are pivoted; the column's extent stays in c_room
        while first < last:
            q = self.queue[first]
            first += 1
            if self.c_count[q] != 1:
                continue  # its row was taken by another singleton
            p = -1
            value = 0.0
            for k in range(self.c_begin[q], self.c_begin[q] + self.c_room[q]):
                if not self.row_done[self.c_index[k]]:
                    p = self.c_index[k]
                    value = self.c_value[k]
            if abs(value) < TINY:
                continue
            for k in range(self.c_begin[q], self.c_begin[q] + self.c_room[q]):
                if self.row_done[self.c_index[k]]:
                    self._record_u(self.c_index[k], q, self.c_value[k])
            self._pivot(p, q, value)
            self.touched += self.c_room[q] + self.r_count[p]
            for k in range(self.r_begin[p], self.r_begin[p] + self.r_count[p]):
                j = self.r_index[k]
                self.c_count[j] -= 1
                if self.c_count[j] == 1 and not self.slot_done[j]:
                    self.queue[last] = j
                    last += 1

    def _row_singletons(self):
        """Pivot on rows with one unpivoted column left; the rest of that column becomes L."""
        i: cython.int
        k: cython.int
        p: cython.int
        q: cython.int
        value: cython.double
        first: cython.int = 0
        last: cython.int = 0
        for i in range(self.m):
            if not self.row_done[i] and self.r_count[i] == 1:
                self.queue[last] = i
                last += 1
        # r_count shrinks as columns are pivoted; the row's extent stays in r_room
        while first < last:
            p = self.queue[first]
            first += 1
            if self.r_count[p] != 1:
                continue
            q = -1
            for k in range(self.r_begin[p], self.r_begin[p] + self.r_room[p]):
                if not self.slot_done[self.r_index[k]]:
                    q = self.r_index[k]
            value = 0.0
            for k in range(self.c_begin[q], self.c_begin[q] + self.c_room[q]):
                if self.c_index[k] == p:
                    value = self.c_value[k]
            if abs(value) < TINY:
                continue
            self._pivot(p, q, value)
            self.touched += self.c_room[q]
            for k in range(self.c_begin[q], self.c_begin[q] + self.c_room[q]):
                i = self.c_index[k]
                if self.row_done[i]:
                    if i != p:
                        self._record_u(i, q, self.c_value[k])
                    continue
                self._ensure_l(1)
                self.l_index[self.l_used] = i
                self.l_value[self.l_used] = self.c_value[k] / value
                self.l_used += 1
                self.r_count[i] -= 1
                if self.r_count[i] == 1:
                    self.queue[last] = i
                    last += 1

    def _ensure_l(self, more):
        """Make room for ``more`` entries of L."""
        if self.l_used + more > self.l_index.shape[0]:
            self._grow_l(more)

    def _grow_columns(self, more):
        """Make room for ``more`` entries of active columns."""
        used: cython.int = self.c_used
        value, index = grown(self.c_value, used, more), grown(self.c_index, used, more)
        self.c_value = value
        self.c_index = index  # the last: its length tells of the room

    def _grow_rows(self, more):
        """Make room for ``more`` entries of active rows."""
        self.r_index = grown(self.r_index, self.r_used, more)

    def _grow_l(self, more):
        """Make room for ``more`` entries of L."""
        used: cython.int = self.l_used
        value, index = grown(self.l_value, used, more), grown(self.l_index, used, more)
        self.l_value = value
        self.l_index = index  # the last: its length tells of the room

    def _grow_u(self, more):
        """Make room for ``more`` entries of U."""
        used: cython.int = self.t_used
        value, slot, row = (
            grown(self.t_value, used, more),
            grown(self.t_slot, used, more),
            grown(self.t_row, used, more),
        )
        self.t_value = value
        self.t_slot = slot
        self.t_row = row

    def _open_nucleus(self):
        """Reduce rows and columns to their unpivoted part and chain them by count."""
        i: cython.int
        q: cython.int
        k: cython.int
        w: cython.int
        for k in range(self.m + 1):
            self.c_first[k] = -1
            self.r_first[k] = -1
        for q in range(self.m):
            if self.slot_done[q]:
                continue
            w = self.c_begin[q]
            for k in range(self.c_begin[q], self.c_begin[q] + self.c_room[q]):
                if self.row_done[self.c_index[k]]:
                    self._record_u(self.c_index[k], q, self.c_value[k])
                else:
                    self.c_index[w] = self.c_index[k]
                    self.c_value[w] = self.c_value[k]
                    w += 1
            self.c_count[q] = w - self.c_begin[q]
            self._link_column(q)
        for i in range(self.m):
            if self.row_done[i]:
                continue
            w = self.r_begin[i]
            for k in range(self.r_begin[i], self.r_begin[i] + self.r_room[i]):
                if not self.slot_done[self.r_index[k]]:
                    self.r_index[w] = self.r_index[k]
                    w += 1
            self.r_count[i] = w - self.r_begin[i]
            self._link_row(i)

    def _column_max(self, q):
        """Return the largest magnitude in the active part of column ``q``."""
        k: cython.int
        largest: cython.double = 0.0
        for k in range(self.c_begin[q], self.c_begin[q] + self.c_count[q]):
            if abs(self.c_value[k]) > largest:
                largest = abs(self.c_value[k])
        self.touched += self.c_count[q]
        return largest

    def _search(self, active):
        """Choose the next pivot into ``best_row``/``best_slot``; return 0 if none is acceptable."""
        count: cython.int
        q: cython.int
        i: cython.int
        k: cython.int
        e: cython.int
        j: cython.int
        following: cython.int
        seen: cython.int = 0
        cost: cython.double
        best: cython.double = 1e300
        value: cython.double
        self.best_row = -1
        for count in range(1, active + 1):
            if best <= (count - 1.0) * (count - 1.0):
                break
            q = self.c_first[count]
            while q >= 0:
                following = self.c_next[q]
                if self._column_max(q) < TINY:
                    self._unlink_column(q)  # numerically empty: it stays without a pivot
                    self.c_count[q] = 0
                else:
                    seen += 1
                    if self._consider_column(q, best):
                        best = (self.r_count[self.best_row] - 1.0) * (count - 1.0)
                    if self.best_row >= 0 and (best <= (count - 1.0) * (count - 1.0) or seen >= CANDIDATES):
                        return 1
                q = following
            i = self.r_first[count]
            while i >= 0:
                for k in range(self.r_begin[i], self.r_begin[i] + self.r_count[i]):
                    j = self.r_index[k]
                    cost = (self.c_count[j] - 1.0) * (count - 1.0)
                    if cost >= best or self.c_count[j] == 0:
                        continue
                    value = 0.0
                    for e in range(self.c_begin[j], self.c_begin[j] + self.c_count[j]):
                        if self.c_index[e] == i:
                            value = abs(self.c_value[e])
                            break
                    if value >= TINY and value >= THRESHOLD * self._column_max(j):
                        best = cost
                        self.best_row = i
                        self.best_slot = j
                seen += 1
                if self.best_row >= 0 and (best <= (count - 1.0) * count or seen >= CANDIDATES):
                    return 1
                i = self.r_next[i]
        return self.best_row >= 0

    def _consider_column(self, q, best_cost):
        """Take the cheapest stable entry of column ``q`` if it costs less than ``best_cost``."""
        k: cython.int
        i: cython.int
        found: cython.int = 0
        cost: cython.double
        size: cython.double = 0.0
        limit: cython.double = THRESHOLD * self._column_max(q)
        for k in range(self.c_begin[q], self.c_begin[q] + self.c_count[q]):
            if abs(self.c_value[k]) < limit or abs(self.c_value[k]) < TINY:
                continue
            i = self.c_index[k]
            cost = (self.r_count[i] - 1.0) * (self.c_count[q] - 1.0)
            if cost < best_cost or (found and cost == best_cost and abs(self.c_value[k]) > size):
                best_cost = cost
                size = abs(self.c_value[k])
                self.best_row = i
                self.best_slot = q
                found = 1
        return found

    def _eliminate(self, p, q):
        """Pivot on row ``p``, slot ``q`` of the nucleus and update what is left of it."""
        k: cython.int
        i: cython.int
        j: cython.int
        first: cython.int
        value: cython.double = 0.0
        begin: cython.int = self.c_begin[q]
        end: cython.int = begin + self.c_count[q]
        for k in range(begin, end):
            if self.c_index[k] == p:
                value = self.c_value[k]
        self._unlink_column(q)
        self._unlink_row(p)
        self._pivot(p, q, value)
        first = self.l_used
        self._ensure_l(end - begin)
        for k in range(begin, end):
            i = self.c_index[k]
            if i == p:
                continue
            self._unlink_row(i)
            self._drop_from_row(i, q)
            self.l_index[self.l_used] = i
            self.l_value[self.l_used] = self.c_value[k] / value
            self.multiplier[i] = self.l_value[self.l_used]
            self.mark[i] = 1
            self.l_used += 1
        for k in range(self.r_count[p]):
            j = self.r_index[self.r_begin[p] + k]
            if j != q and not self.slot_done[j]:
                self._update_column(p, q, j, first, self.l_used)
        for k in range(first, self.l_used):
            i = self.l_index[k]
            self.mark[i] = 0
            self._link_row(i)

    def _update_column(self, p, q, j, first, last):
        """Subtract multiples of the pivot row's entry from column ``j``; its row-``p`` entry goes to U."""
        k: cython.int
        i: cython.int
        e: cython.int
        above: cython.double = 0.0
        linked: cython.bint = self.c_count[j] > 0
        if linked:
            self._unlink_column(j)
        k = self.c_begin[j]
        e = k + self.c_count[j] - 1
        while k <= e and self.c_index[k] != p:
            k += 1
        if k > e:
            return 0  # a numerically empty column
        above = self.c_value[k]
        self.c_index[k] = self.c_index[e]
        self.c_value[k] = self.c_value[e]
        self.c_count[j] -= 1
        self._record_u(p, j, above)
        self.touched += self.c_count[j] + last - first
        k = self.c_begin[j]
        while k < self.c_begin[j] + self.c_count[j]:
            i = self.c_index[k]
            if self.mark[i]:
                self.mark[i] = 2
                self.c_value[k] -= self.multiplier[i] * above
                if abs(self.c_value[k]) < DROP:
                    e = self.c_begin[j] + self.c_count[j] - 1
                    self.c_index[k] = self.c_index[e]
                    self.c_value[k] = self.c_value[e]
                    self.c_count[j] -= 1
                    self._drop_from_row(i, j)
                    continue
            k += 1
        for k in range(first, last):
            i = self.l_index[k]
            if self.mark[i] == 2:
                self.mark[i] = 1
            else:
                self._append_to_column(j, i, -self.multiplier[i] * above)
                self._append_to_row(i, j)
        self._link_column(j)

    def _drop_from_row(self, i, q):
        """Take slot ``q`` out of the pattern of row ``i``."""
        k: cython.int = self.r_begin[i]
        last: cython.int = k + self.r_count[i] - 1
        while k <= last:
            if self.r_index[k] == q:
                self.r_index[k] = self.r_index[last]
                self.r_count[i] -= 1
                return
            k += 1

    def _append_to_row(self, i, q):
        """Add slot ``q`` to the pattern of row ``i``, moving the row to the end if it is full."""
        k: cython.int
        room: cython.int
        if self.r_count[i] == self.r_room[i]:
            room = 2 * self.r_room[i] + 4
            if self.r_used + room > self.r_index.shape[0]:
                self._grow_rows(room)
            for k in range(self.r_count[i]):
                self.r_index[self.r_used + k] = self.r_index[self.r_begin[i] + k]
            self.r_begin[i] = self.r_used
            self.r_room[i] = room
            self.r_used += room
        self.r_index[self.r_begin[i] + self.r_count[i]] = q
        self.r_count[i] += 1

    def _append_to_column(self, q, i, value):
        """Add an entry to column ``q``, moving the column to the end if it is full."""
        k: cython.int
        room: cython.int
        if self.c_count[q] == self.c_room[q]:
            room = 2 * self.c_room[q] + 4
            if self.c_used + room > self.c_index.shape[0]:
                self._grow_columns(room)
            for k in range(self.c_count[q]):
                self.c_index[self.c_used + k] = self.c_index[self.c_begin[q] + k]
                self.c_value[self.c_used + k] = self.c_value[self.c_begin[q] + k]
            self.c_begin[q] = self.c_used
            self.c_room[q] = room
            self.c_used += room
        self.c_index[self.c_begin[q] + self.c_count[q]] = i
        self.c_value[self.c_begin[q] + self.c_count[q]] = value
        self.c_count[q] += 1

    def _link_column(self, q):
        """Put column ``q`` at the front of the chain of its count."""
        count: cython.int = self.c_count[q]
        front: cython.int = self.c_first[count]
        self.c_next[q] = front
        self.c_prev[q] = -1
        if front >= 0:
            self.c_prev[front] = q
        self.c_first[count] = q

    def _unlink_column(self, q):
        """Take column ``q`` out of its chain; its count must be what it was linked with."""
        if self.c_next[q] >= 0:
            self.c_prev[self.c_next[q]] = self.c_prev[q]
        if self.c_prev[q] >= 0:
            self.c_next[self.c_prev[q]] = self.c_next[q]
        else:
            self.c_first[self.c_count[q]] = self.c_next[q]

    def _link_row(self, i):
        """Put row ``i`` at the front of the chain of its count."""
        count: cython.int = self.r_count[i]
        front: cython.int = self.r_first[count]
        self.r_next[i] = front
        self.r_prev[i] = -1
        if front >= 0:
            self.r_prev[front] = i
        self.r_first[count] = i

    def _unlink_row(self, i):
        """Take row ``i`` out of its chain; its count must be what it was linked with."""
        if self.r_next[i] >= 0:
            self.r_prev[self.r_next[i]] = self.r_prev[i]
        if self.r_prev[i] >= 0:
            self.r_next[self.r_prev[i]] = self.r_next[i]
        else:
            self.r_first[self.r_count[i]] = self.r_next[i]
