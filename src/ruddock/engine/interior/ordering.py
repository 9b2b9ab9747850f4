# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""An order of elimination that keeps a sparse symmetric matrix sparse: approximate minimum degree.

Eliminated variables become elements, which stand for the cliques that elimination makes; so the graph never grows. The
next to go is a variable with the fewest neighbours, by an upper bound that costs little (Amestoy, Davis and Duff
1996). Variables with the same neighbours are eliminated together.
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

VARIABLE = cython.declare(cython.int, 0)
ELEMENT = cython.declare(cython.int, 1)
DEAD = cython.declare(cython.int, 2)  # an absorbed element, or a variable that goes with another


class MinimumDegree:
    """Orders the variables of a symmetric pattern.

    Parameters
    ----------
    starts, indices : int32 arrays
        Neighbours of each variable, without itself; both halves of the matrix.
    late : bool array, optional
        Variables that are to come after all others.

    Attributes
    ----------
    work : float
        Multiplications that the factorisation will take, as far as the order goes.
    """

    def __init__(self, starts, indices, late=None):
        n = self.n = len(starts) - 1
        self.starts = starts
        # a variable's elements come first in its list, then variables; new elements are written behind all lists
        self.place = np.concatenate((indices, np.zeros(len(indices) + n + 1, np.int32)))
        self.begin = np.array(starts[:-1], np.int32)
        self.length = np.diff(starts).astype(np.int32)
        self.elements = np.zeros(n + 1, np.int32)
        self.kind = np.zeros(n + 1, np.int8)
        self.weight = np.ones(n + 1, np.int32)  # of a variable: how many it stands for
        self.degree = np.diff(starts).astype(np.int32)
        self.size = np.zeros(n + 1, np.int32)  # of an element: how many variables it holds
        self.first = np.full(n + 1, -1, np.int32)
        self.next, self.last = np.full(n + 1, -1, np.int32), np.full(n + 1, -1, np.int32)
        self.mark = np.zeros(n + 1, np.int64)
        self.outside = np.zeros(n + 1, np.int32)
        self.seen = np.zeros(n + 1, np.int64)
        self.hash, self.bucket = np.zeros(n + 1, np.int64), np.full(n + 1, -1, np.int32)
        self.chain = np.full(n + 1, -1, np.int32)
        self.twin = np.full(n + 1, -1, np.int32)  # the next of those that go with a variable
        self.tail = np.arange(n + 1, dtype=np.int32)
        self.order = np.zeros(n + 1, np.int32)
        self.used = len(indices)
        self.done = self.least = 0
        self.stamp = 0
        self.touched = 0
        self.work = 0.0
        self.tag = 0
        self.tagged = np.zeros(n + 1, np.int64)
        self.chosen = self.rest = 0
        self.ready = False
        self.late = np.zeros(n, np.int8) if late is None else np.array(late, np.int8)
        self.early = n - int(np.count_nonzero(self.late))

    def run(self, budget):
        """Go on for some work; return whether the order is complete.

        Raises
        ------
        MemoryError
            If there is no room for the elements.
        """
        end: cython.longlong = self.touched + budget
        with cython.nogil:
            if not self.ready:
                self._link_all()
            while self.done < self.n and self.touched < end:
                if self.done >= self.early and self.early < self.n:
                    self._admit_late()
                self._make_room(self._next())
                self._eliminate(self.chosen)
        return self.done == self.n

    def _link_all(self):
        i: cython.int
        self.ready = True
        for i in range(self.n - 1, -1, -1):
            self._link(i)
        self.least = 0

    def _admit_late(self):
        """Let those come that had to wait for all others."""
        i: cython.int
        self.early = self.n
        for i in range(self.n - 1, -1, -1):
            if self.late[i]:
                self.late[i] = False
                if self.kind[i] == VARIABLE:
                    self._link(i)

    def _link(self, i):
        """Put a variable into the list of its degree."""
        d: cython.int = self.degree[i]
        front: cython.int = self.first[d]
        if self.late[i]:
            return
        self.next[i] = front
        self.last[i] = -1
        if front >= 0:
            self.last[front] = i
        self.first[d] = i
        if d < self.least:
            self.least = d

    def _unlink(self, i):
        """Take a variable out of the list of its degree."""
        if self.late[i]:
            return
        if self.next[i] >= 0:
            self.last[self.next[i]] = self.last[i]
        if self.last[i] >= 0:
            self.next[self.last[i]] = self.next[i]
        else:
            self.first[self.degree[i]] = self.next[i]

    def _next(self):
        """Choose the variable of least degree; return how much room its element needs at most."""
        k: cython.int
        need: cython.int = 0
        while self.first[self.least] < 0:
            self.least += 1
        self.chosen = self.first[self.least]
        need = self.length[self.chosen]
        for k in range(self.begin[self.chosen], self.begin[self.chosen] + self.elements[self.chosen]):
            need += self.length[self.place[k]]
        return need

    def _make_room(self, need):
        """Make room for an element: by moving all live lists together, or by more memory."""
        if self.used + need >= self.place.shape[0]:
            self._compact(need)
        return 0

    def _compact(self, need):
        """Write all live lists anew, with room behind them."""
        live = np.flatnonzero(np.asarray(self.kind)[: self.n] != 2)
        begin, length, place = np.asarray(self.begin), np.asarray(self.length), np.asarray(self.place)
        total = int(length[live].sum())
        starts = np.cumsum(np.concatenate(([0], length[live])))
        source = np.repeat(begin[live] - starts[:-1], length[live]) + np.arange(total)
        new = np.zeros(max(2 * (total + need), len(place)) if total + need > 0.7 * len(place) else len(place), np.int32)
        new[:total] = place[source]
        begin[live] = starts[:-1]
        self.place = new
        self.used = total
        self.touched += total
        return 0

    def _eliminate(self, p):
        """Eliminate a variable with those that go with it: it becomes an element."""
        k: cython.int
        e: cython.int
        i: cython.int
        q: cython.int
        at: cython.int = self.used
        size: cython.int = 0
        self._unlink(p)
        self.stamp += 1
        self.mark[p] = self.stamp
        # the element's variables: those of all elements of p, then its own
        for k in range(self.begin[p], self.begin[p] + self.elements[p]):
            e = self.place[k]
            for q in range(self.begin[e], self.begin[e] + self.length[e]):
                i = self.place[q]
                if self.kind[i] == VARIABLE and self.mark[i] != self.stamp:
                    self.mark[i] = self.stamp
                    self.place[at] = i
                    at += 1
                    size += self.weight[i]
            self.touched += self.length[e]
            self.kind[e] = DEAD
        for k in range(self.begin[p] + self.elements[p], self.begin[p] + self.length[p]):
            i = self.place[k]
            if self.kind[i] == VARIABLE and self.mark[i] != self.stamp:
                self.mark[i] = self.stamp
                self.place[at] = i
                at += 1
                size += self.weight[i]
        self.kind[p] = ELEMENT
        self.begin[p] = self.used
        self.length[p] = at - self.used
        self.size[p] = size
        self.work += cython.cast(cython.double, self.weight[p]) * (size + self.weight[p]) * (size + self.weight[p])
        self.used = at
        q = p
        while q >= 0:
            self.order[self.done] = q
            self.done += 1
            q = self.twin[q]
        self._count_outside(p)
        self._update(p, size)
        self._find_twins(p)
        for k in range(self.begin[p], self.begin[p] + self.length[p]):
            i = self.place[k]
            if self.kind[i] == VARIABLE:
                self._link(i)

    def _count_outside(self, p):
        """For each element beside ``p``, count how many of its variables are not in ``p``."""
        k: cython.int
        q: cython.int
        e: cython.int
        i: cython.int
        for k in range(self.begin[p], self.begin[p] + self.length[p]):
            i = self.place[k]
            for q in range(self.begin[i], self.begin[i] + self.elements[i]):
                e = self.place[q]
                if self.kind[e] != ELEMENT:
                    continue
                if self.seen[e] != self.stamp:
                    self.seen[e] = self.stamp
                    self.outside[e] = self.size[e]
                self.outside[e] -= self.weight[i]
            self.touched += self.elements[i]

    def _update(self, p, size):
        """Bring the lists and degrees of the variables of element ``p`` up to date."""
        k: cython.int
        q: cython.int
        e: cython.int
        i: cython.int
        j: cython.int
        at: cython.int
        degree: cython.int
        key: cython.longlong
        for k in range(self.begin[p], self.begin[p] + self.length[p]):
            i = self.place[k]
            self._unlink(i)
            at = self.begin[i]
            degree = size - self.weight[i]
            key = p
            self.touched += self.length[i]
            j = 0
            # elements that are left and reach beyond p
            for q in range(self.begin[i], self.begin[i] + self.elements[i]):
                e = self.place[q]
                if self.kind[e] != ELEMENT or e == p:
                    continue
                if self.outside[e] == 0:
                    self.kind[e] = DEAD  # all of it lies in p
                    continue
                degree += self.outside[e]
                key += e
                self.place[at] = e
                at += 1
                j += 1
            self.rest = at
            self._variables(i, at)
            # room for p: something left the list, at least p itself or an element of p
            at = self.rest
            q = at
            while q > self.begin[i] + j:
                self.place[q] = self.place[q - 1]
                q -= 1
            self.place[q] = p
            at += 1
            self.elements[i] = j + 1
            self.length[i] = at - self.begin[i]
            for q in range(self.begin[i] + j + 1, at):
                degree += self.weight[self.place[q]]
                key += self.place[q]
            degree = min(degree, self.degree[i] + size - self.weight[i])
            self.degree[i] = max(0, min(degree, self.n - self.done - self.weight[i]))
            self.hash[i] = key % self.n

    def _variables(self, i, at):
        """Keep the variables of a list that are no neighbours by the element that is marked."""
        q: cython.int
        j: cython.int
        first: cython.int = self.begin[i] + self.elements[i]
        for q in range(first, self.begin[i] + self.length[i]):
            j = self.place[q]
            if self.kind[j] == VARIABLE and self.mark[j] != self.stamp:
                self.place[at] = j
                at += 1
        self.rest = at

    def _find_twins(self, p):
        """Let variables of element ``p`` with the same lists go together."""
        k: cython.int
        i: cython.int
        j: cython.int
        h: cython.longlong
        for k in range(self.begin[p], self.begin[p] + self.length[p]):
            i = self.place[k]
            h = self.hash[i]
            j = self.bucket[h]
            while j >= 0:
                if self._alike(i, j):
                    self.weight[j] += self.weight[i]
                    self.degree[j] = max(0, self.degree[j] - self.weight[i])
                    self.weight[i] = 0
                    self.kind[i] = DEAD
                    self.twin[self.tail[j]] = i
                    self.tail[j] = self.tail[i]
                    break
                j = self.chain[j]
            if j < 0:
                self.chain[i] = self.bucket[h]
                self.bucket[h] = i
        for k in range(self.begin[p], self.begin[p] + self.length[p]):
            self.bucket[self.hash[self.place[k]]] = -1

    def _alike(self, i, j):
        """Say whether two variables have the same elements and variables in their lists."""
        q: cython.int
        if self.length[i] != self.length[j] or self.elements[i] != self.elements[j] or self.late[i] != self.late[j]:
            return False
        self.tag += 1
        for q in range(self.begin[j], self.begin[j] + self.length[j]):
            self.tagged[self.place[q]] = self.tag
        self.touched += 2 * self.length[i]
        for q in range(self.begin[i], self.begin[i] + self.length[i]):
            if self.tagged[self.place[q]] != self.tag:
                return False
        return True
