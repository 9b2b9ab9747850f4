# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Solves with a factorised basis, and its Forrest-Tomlin update.

The basis is held as ``B = L R^-1 U``: L from the factorisation, a row eta in R for each update
(Forrest and Tomlin 1972), and U by columns and by rows. A basic variable's position is the row it is
pivoted on, so U's diagonal is (p, p) for every position p before and after any update.

A solve whose right side is sparse touches only what becomes non-zero: a depth-first search finds the
positions reached, in an order fit for substitution (Hall and McKinnon 2005). Otherwise it walks
the pivots in order.
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

if cython.compiled:
    from cython.cimports.ruddock.engine.simplex.markowitz import Markowitz
else:
    from ruddock.engine.simplex.markowitz import Markowitz

from ruddock.engine.simplex.room import grown

MAX_UPDATES = cython.declare(cython.int, 2000)  # row etas kept before a new factorisation is due
DROP = cython.declare(cython.double, 1e-14)  # results below this are zero
CANCELLED = cython.declare(cython.double, 1e-100)  # stands for an exact zero that stays in an index list
UNSTABLE = cython.declare(cython.double, 1e-6)  # relative disagreement that rejects an update
SPARSE = cython.declare(cython.double, 0.1)  # search for what is reached below this expected density


def _ints(size):
    return np.empty(size, dtype=np.int32)


class WorkVector:
    """A dense array of values with the list of places that are not zero.

    Attributes
    ----------
    value : float array, shape (size,)
    index : int32 array, shape (size,); the first ``count`` are the places that may be non-zero.
    """

    def __init__(self, size):
        self.size = size
        self.count = 0
        self.value = np.zeros(size + 1)
        self.index = np.zeros(size + 1, dtype=np.int32)

    def clear(self):
        """Set every value to zero."""
        k: cython.int
        for k in range(self.count):
            self.value[self.index[k]] = 0.0
        self.count = 0

    def push(self, i, x):
        """Add ``x`` at place ``i``."""
        if self.value[i] == 0.0:
            self.index[self.count] = i
            self.count += 1
        self.value[i] += x
        if self.value[i] == 0.0:
            self.value[i] = CANCELLED

    def gather(self):
        """Rebuild the list from the values, dropping what is negligible."""
        k: cython.int
        count: cython.int = 0
        value: cython.double[::1] = self.value
        index: cython.int[::1] = self.index
        for k in range(self.size):
            if value[k] != 0.0:
                if abs(value[k]) < DROP:
                    value[k] = 0.0
                else:
                    index[count] = k
                    count += 1
        self.count = count


class BasisFactor:
    """LU factors of a basis of ``[A, -I]``, solved with and updated in place.

    Parameters
    ----------
    m : int
        Number of rows.
    """

    def __init__(self, m):
        self.m = m
        self.updates = 0
        self.touched = 0
        size, room = m + 2, 4 * m + 16
        self.markowitz = Markowitz(m)
        self.diag = np.ones(size)
        self.lc_begin, self.lc_end = np.zeros(size, dtype=np.int32), np.zeros(size, dtype=np.int32)
        self.lr_begin, self.lr_end = np.zeros(size, dtype=np.int32), np.zeros(size, dtype=np.int32)
        self.lr_index, self.lr_value = _ints(room), np.empty(room)
        self.uc_begin, self.uc_count = _ints(size), np.zeros(size, dtype=np.int32)
        self.uc_index, self.uc_value = _ints(room), np.empty(room)
        self.ur_begin, self.ur_count = _ints(size), np.zeros(size, dtype=np.int32)
        self.ur_room = _ints(size)
        self.ur_index, self.ur_value = _ints(room), np.empty(room)
        self.uc_used = self.ur_used = 0
        self.l_order, self.u_order = _ints(size), _ints(size + MAX_UPDATES)
        self.u_place = _ints(size)
        self.u_length = 0
        self.eta_begin, self.eta_pivot = _ints(MAX_UPDATES + 2), _ints(MAX_UPDATES + 2)
        self.eta_index, self.eta_value = _ints(room), np.empty(room)
        self.eta_used = 0
        self.spike, self.row = WorkVector(m), WorkVector(m)
        self.topo, self.stack, self.resume = _ints(size), _ints(size), _ints(size)
        self.seen = np.zeros(size, dtype=np.int8)
        self.slot_row = _ints(size)
        self.density_l = self.density_u = self.density_lt = self.density_ut = 0.0
        self.fill = 0

    def bytes(self):
        """Return what the factors take."""
        entries: cython.longlong = self.lr_index.shape[0] + self.uc_index.shape[0] + self.ur_index.shape[0]
        entries += self.eta_index.shape[0]
        return 12 * entries + 150 * self.m + self.markowitz.bytes()

    # ------------------------------------------------------------------ factorisation

    def factor(self, head, n, ap, ai, ax):
        """Factorise the basis ``head`` and permute it so that ``head[p]`` is pivoted on row ``p``.

        Returns the number of variables replaced by logicals because the basis was singular; they are
        gone from ``head``.
        """
        k: cython.int
        found: cython.int = self.markowitz.factor(head, n, ap, ai, ax)
        for k in range(found):
            self.slot_row[self.markowitz.pivot_slot[k]] = self.markowitz.pivot_row[k]
            self.diag[self.markowitz.pivot_row[k]] = self.markowitz.pivot_value[k]
            self.l_order[k] = self.markowitz.pivot_row[k]
        for k in range(self.m):
            self.stack[k] = head[k]
        for k in range(found):
            head[self.markowitz.pivot_row[k]] = self.stack[self.markowitz.pivot_slot[k]]
        if found < self.m:
            self._repair(head, n)
        self._index_l()
        self._index_u()
        self.updates = 0
        self.eta_used = 0
        self.eta_begin[0] = 0
        self.touched += 4 * (self.markowitz.l_used + self.markowitz.t_used + self.m) + self.markowitz.touched
        self.markowitz.touched = 0
        self.fill = self.markowitz.l_used + self.markowitz.t_used
        return self.m - found

    def _repair(self, head, n):
        """Give each row left without a pivot its logical, in place of the dependent columns."""
        i: cython.int
        k: cython.int = self.markowitz.pivots
        for i in range(self.m):
            if not self.markowitz.slot_done[i]:
                self.slot_row[i] = -1
        for i in range(self.m):
            if not self.markowitz.row_done[i]:
                head[i] = n + i
                self.diag[i] = -1.0
                self.l_order[k] = i
                k += 1

    def _index_l(self):
        """Address L's columns by pivot row and make its row-wise copy."""
        k: cython.int
        e: cython.int
        i: cython.int
        p: cython.int
        used: cython.int = 0
        if self.markowitz.l_used > self.lr_index.shape[0]:
            self._grow_l_rows(self.markowitz.l_used)
        for i in range(self.m):
            self.lc_begin[i] = 0
            self.lc_end[i] = 0
            self.lr_end[i] = 0
        for e in range(self.markowitz.l_used):
            self.lr_end[self.markowitz.l_index[e]] += 1
        for i in range(self.m):
            self.lr_begin[i] = used
            used += self.lr_end[i]
            self.lr_end[i] = self.lr_begin[i]
        for k in range(self.markowitz.pivots):
            p = self.markowitz.pivot_row[k]
            self.lc_begin[p] = self.markowitz.l_begin[k]
            self.lc_end[p] = self.markowitz.l_begin[k + 1]
            for e in range(self.markowitz.l_begin[k], self.markowitz.l_begin[k + 1]):
                i = self.markowitz.l_index[e]
                self.lr_index[self.lr_end[i]] = p
                self.lr_value[self.lr_end[i]] = self.markowitz.l_value[e]
                self.lr_end[i] += 1

    def _index_u(self):
        """Sort U's entries into columns and rows, rows with a little room for updates."""
        k: cython.int
        e: cython.int
        i: cython.int
        p: cython.int
        used: cython.int = 0
        need: cython.int = 2 * self.markowitz.t_used + 4 * self.m
        self.uc_used = self.ur_used = 0
        if need > self.ur_index.shape[0]:
            self._grow_u_rows(need)
        if need > self.uc_index.shape[0]:
            self._grow_u_columns(need)
        for i in range(self.m):
            self.uc_count[i] = 0
            self.ur_count[i] = 0
        for e in range(self.markowitz.t_used):
            p = self.slot_row[self.markowitz.t_slot[e]]
            if p >= 0:
                self.uc_count[p] += 1
                self.ur_count[self.markowitz.t_row[e]] += 1
        for i in range(self.m):
            self.uc_begin[i] = used
            used += self.uc_count[i]
            self.uc_count[i] = 0
        self.uc_used = used
        used = 0
        for i in range(self.m):
            self.ur_begin[i] = used
            self.ur_room[i] = self.ur_count[i] + 3
            used += self.ur_room[i]
            self.ur_count[i] = 0
        self.ur_used = used
        for e in range(self.markowitz.t_used):
            p = self.slot_row[self.markowitz.t_slot[e]]
            if p >= 0:
                i = self.markowitz.t_row[e]
                k = self.uc_begin[p] + self.uc_count[p]
                self.uc_index[k] = i
                self.uc_value[k] = self.markowitz.t_value[e]
                self.uc_count[p] += 1
                k = self.ur_begin[i] + self.ur_count[i]
                self.ur_index[k] = p
                self.ur_value[k] = self.markowitz.t_value[e]
                self.ur_count[i] += 1
        for k in range(self.m):
            self.u_order[k] = self.l_order[k]
            self.u_place[self.l_order[k]] = k
        self.u_length = self.m

    def _grow_u_rows(self, more):
        """Make room for ``more`` entries of U's rows."""
        used: cython.int = self.ur_used
        value, index = grown(self.ur_value, used, more), grown(self.ur_index, used, more)
        self.ur_value = value
        self.ur_index = index  # the last: its length tells of the room

    def _grow_u_columns(self, more):
        """Make room for ``more`` entries of U's columns."""
        used: cython.int = self.uc_used
        value, index = grown(self.uc_value, used, more), grown(self.uc_index, used, more)
        self.uc_value = value
        self.uc_index = index  # the last: its length tells of the room

    def _grow_l_rows(self, more):
        """Make room for ``more`` entries of L's rows, which are all written anew."""
        value, index = grown(self.lr_value, 0, more), grown(self.lr_index, 0, more)
        self.lr_value = value
        self.lr_index = index  # the last: its length tells of the room

    def _grow_etas(self, more):
        """Make room for ``more`` entries of row etas."""
        used: cython.int = self.eta_used
        value, index = grown(self.eta_value, used, more), grown(self.eta_index, used, more)
        self.eta_value = value
        self.eta_index = index  # the last: its length tells of the room

    # ------------------------------------------------------------------ solves

    def _sparse(self, v, density):
        """Say whether a search pays: few non-zeros now, and few in recent results of this step."""
        return v.count < SPARSE * self.m and density < SPARSE

    def _reach(self, v, begin, end, index, counts):
        """List in ``topo[top:]`` all places reached from those of ``v``, each before what it feeds.

        ``end`` holds ends, or counts if ``counts``. Returns ``top``.
        """
        k: cython.int
        node: cython.int
        child: cython.int
        depth: cython.int
        e: cython.int
        stop: cython.int
        deeper: cython.bint
        top: cython.int = self.m
        seen: cython.schar[::1] = self.seen
        stack: cython.int[::1] = self.stack
        resume: cython.int[::1] = self.resume
        topo: cython.int[::1] = self.topo
        places: cython.int[::1] = v.index
        for k in range(v.count):
            node = places[k]
            if seen[node]:
                continue
            seen[node] = 1
            depth = 0
            stack[0] = node
            resume[0] = begin[node]
            while depth >= 0:
                node = stack[depth]
                stop = begin[node] + end[node] if counts else end[node]
                deeper = False
                e = resume[depth]
                while e < stop:
                    child = index[e]
                    e += 1
                    if not seen[child]:
                        seen[child] = 1
                        resume[depth] = e
                        depth += 1
                        stack[depth] = child
                        resume[depth] = begin[child]
                        deeper = True
                        break
                if not deeper:
                    top -= 1
                    topo[top] = node
                    depth -= 1
        return top

    def _copy(self, source, target):
        """Make ``target`` equal ``source``."""
        k: cython.int
        target.clear()
        for k in range(source.count):
            target.index[k] = source.index[k]
            target.value[source.index[k]] = source.value[source.index[k]]
        target.count = source.count

    def _substitute(self, v, begin, end, counts, index, factor, order, length, down, scaled, density):
        """Solve with one triangular factor in place; return the average density of results, brought up to date.

        ``begin`` and ``end`` (or counts, if ``counts``) hold each position's entries: what it feeds. Positions
        are taken in the order of a search, or else in the ``order`` of the pivots, backwards if ``down``;
        dropped pivots are negative there. ``scaled`` divides by the diagonal of U.
        """
        k: cython.int = 0
        stop: cython.int = length
        step: cython.int = 1
        e: cython.int
        p: cython.int
        last: cython.int
        kept: cython.int = 0
        work: cython.longlong = 0
        x: cython.double
        value: cython.double[::1] = v.value
        places: cython.int[::1] = v.index
        diag: cython.double[::1] = self.diag
        seen: cython.schar[::1] = self.seen
        sequence: cython.int[::1] = order
        if self._sparse(v, density):
            k = self._reach(v, begin, end, index, counts)
            stop = self.m
            sequence = self.topo
            work += 2 * (stop - k)
        else:
            work += length
            if down:
                k = length - 1
                stop = -1
                step = -1
        while k != stop:
            p = sequence[k]
            k += step
            if p < 0:
                continue
            seen[p] = 0
            x = value[p]
            if x == 0.0:
                continue
            if abs(x) <= DROP:
                value[p] = 0.0
                continue
            if scaled:
                x /= diag[p]
                value[p] = x
            places[kept] = p
            kept += 1
            last = begin[p] + end[p] if counts else end[p]
            work += last - begin[p]
            for e in range(begin[p], last):
                value[index[e]] -= factor[e] * x
        v.count = kept
        self.touched += work
        return 0.9 * density + 0.1 * kept / (self.m + 1.0)

    def forward(self, v, save):
        """Solve ``B x = v`` in place; ``save`` keeps the half-way result as the next update's spike."""
        k: cython.int
        e: cython.int
        total: cython.double
        self.density_l = self._substitute(
            v, self.lc_begin, self.lc_end, False, self.markowitz.l_index, self.markowitz.l_value,
            self.l_order, self.m, False, False, self.density_l,
        )  # fmt: skip
        for k in range(self.updates):
            total = 0.0
            for e in range(self.eta_begin[k], self.eta_begin[k + 1]):
                total += self.eta_value[e] * v.value[self.eta_index[e]]
            if total != 0.0:
                v.push(self.eta_pivot[k], total)
        self.touched += self.eta_used
        if save:
            self._copy(v, self.spike)
        self.density_u = self._substitute(
            v, self.uc_begin, self.uc_count, True, self.uc_index, self.uc_value,
            self.u_order, self.u_length, True, True, self.density_u,
        )  # fmt: skip

    def backward(self, v, save):
        """Solve ``B' y = v`` in place; ``save`` keeps the half-way result as the next update's row."""
        k: cython.int
        e: cython.int
        x: cython.double
        self.density_ut = self._substitute(
            v, self.ur_begin, self.ur_count, True, self.ur_index, self.ur_value,
            self.u_order, self.u_length, False, True, self.density_ut,
        )  # fmt: skip
        if save:
            self._copy(v, self.row)
        for k in range(self.updates - 1, -1, -1):
            x = v.value[self.eta_pivot[k]]
            if x != 0.0:
                self.touched += self.eta_begin[k + 1] - self.eta_begin[k]
                for e in range(self.eta_begin[k], self.eta_begin[k + 1]):
                    v.push(self.eta_index[e], self.eta_value[e] * x)
        self.density_lt = self._substitute(
            v, self.lr_begin, self.lr_end, False, self.lr_index, self.lr_value,
            self.l_order, self.m, True, False, self.density_lt,
        )  # fmt: skip

    # ------------------------------------------------------------------ update

    def update(self, p, pivot):
        """Replace the basic variable at position ``p`` by the one whose column was last saved.

        ``pivot`` is the entering column's entry at ``p``. Needs ``forward(column, save=True)`` and
        ``backward(e_p, save=True)`` on the present factors. Returns 0, or 1 when the new diagonal
        disagrees with ``pivot`` too much: then the factors are spoiled and must be made anew.
        """
        k: cython.int
        e: cython.int
        i: cython.int
        j: cython.int
        x: cython.double
        old: cython.double = self.diag[p]
        new: cython.double = self.spike.value[p]
        size: cython.double = abs(new)
        eta: cython.int = self.eta_used
        need: cython.int = self.row.count
        if eta + need > self.eta_index.shape[0]:
            self._grow_etas(need)
        for k in range(self.row.count):
            j = self.row.index[k]
            if j != p:
                x = self.row.value[j] * old
                self.eta_index[eta] = j
                self.eta_value[eta] = x
                eta += 1
                new += x * self.spike.value[j]
                size += abs(x * self.spike.value[j])
        if abs(new - pivot * old) > UNSTABLE * (abs(new) + 1e-3 * size) or abs(new) < DROP:
            return 1
        self.eta_pivot[self.updates] = p
        self.updates += 1
        self.eta_begin[self.updates] = eta
        self.eta_used = eta
        # take column p and row p out of U
        for e in range(self.uc_begin[p], self.uc_begin[p] + self.uc_count[p]):
            i = self.uc_index[e]
            k = self.ur_begin[i]
            while self.ur_index[k] != p:
                k += 1
            self.ur_count[i] -= 1
            j = self.ur_begin[i] + self.ur_count[i]
            self.ur_index[k] = self.ur_index[j]
            self.ur_value[k] = self.ur_value[j]
        for e in range(self.ur_begin[p], self.ur_begin[p] + self.ur_count[p]):
            j = self.ur_index[e]
            k = self.uc_begin[j]
            while self.uc_index[k] != p:
                k += 1
            self.uc_count[j] -= 1
            i = self.uc_begin[j] + self.uc_count[j]
            self.uc_index[k] = self.uc_index[i]
            self.uc_value[k] = self.uc_value[i]
        self.ur_count[p] = 0
        # put the spike in as the last column
        if self.uc_used + self.spike.count > self.uc_index.shape[0]:
            self._grow_u_columns(self.spike.count)
        self.uc_begin[p] = self.uc_used
        k = self.uc_used
        for e in range(self.spike.count):
            i = self.spike.index[e]
            x = self.spike.value[i]
            if i != p and abs(x) > DROP:
                self.uc_index[k] = i
                self.uc_value[k] = x
                k += 1
                self._append_to_u_row(i, p, x)
        self.uc_count[p] = k - self.uc_used
        self.uc_used = k
        self.diag[p] = new
        self.u_order[self.u_place[p]] = -1
        self.u_order[self.u_length] = p
        self.u_place[p] = self.u_length
        self.u_length += 1
        self.fill += self.spike.count + self.row.count
        self.touched += 4 * (self.spike.count + self.row.count)
        return 0

    def _append_to_u_row(self, i, p, value):
        """Add an entry to row ``i`` of U, moving the row to the end if it is full."""
        k: cython.int
        room: cython.int
        if self.ur_count[i] == self.ur_room[i]:
            room = 2 * self.ur_room[i] + 2
            if self.ur_used + room > self.ur_index.shape[0]:
                self._grow_u_rows(room)
            for k in range(self.ur_count[i]):
                self.ur_index[self.ur_used + k] = self.ur_index[self.ur_begin[i] + k]
                self.ur_value[self.ur_used + k] = self.ur_value[self.ur_begin[i] + k]
            self.ur_begin[i] = self.ur_used
            self.ur_room[i] = room
            self.ur_used += room
        k = self.ur_begin[i] + self.ur_count[i]
        self.ur_index[k] = p
        self.ur_value[k] = value
        self.ur_count[i] += 1
