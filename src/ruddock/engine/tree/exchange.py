# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Another way from a plan to better ones: few columns leave, others come in for rows they broke (Gao and others 2015).

The plan is never mended for more than the best one is worth; rows that stay broken gain weight, so that other columns
come in for them the next time.
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

if cython.compiled:
    from cython.cimports.ruddock.engine.tree.mending import Mending
else:
    from ruddock.engine.tree.mending import Mending

INFINITY = cython.declare(cython.double, float("inf"))
SEEN = cython.declare(cython.int, 200)  # columns that are compared before one leaves, at most
RESTS = cython.declare(cython.int, 2)  # steps for which a column that came in stays
COMES = cython.declare(cython.int, 20)  # columns that come in within a step, at most


class Exchange(Mending):
    """Dear columns jump to where they cost less, and others mend what that breaks, step by step."""

    def __init__(self, columns, low, high, lower, upper, whole, cost, start, seed):
        Mending.__init__(self, columns, low, high, lower, upper, whole, cost, start, seed)
        self.last = np.zeros(self.n, np.int64)
        self.steps = RESTS

    def exchange(self, budget):
        """Exchange columns until there is a better plan, or for some work; say whether there is one."""
        end: cython.longlong = self.touched + budget
        better: cython.bint = False
        with cython.nogil:
            self.greedy = self.listing = False
            while self.touched < end and not better:
                self.steps += 1
                if self.broken_count == 0:
                    self._descend()
                    if self.broken_count == 0 and self._is_better():
                        self._add_up()
                        self._keep_plan()
                        better = True
                    self._let_leave()
                self._let_leave()
                self._let_come()
        return better

    def back(self):
        """Go back to the last plan."""
        self._go_back()

    def _let_leave(self):
        """Let the column jump that breaks least for what it saves, of those that did not just come in."""
        k: cython.int
        j: cython.int
        seen: cython.int = min(self.dear_count, SEEN)
        chosen: cython.int = -1
        least: cython.double = INFINITY
        loss: cython.double
        self.touched += 10 + seen
        if self.dear_count == 0:
            return
        first: cython.int = self._draw(self.dear_count) if seen < self.dear_count else 0
        for k in range(seen):
            j = self.dear[(first + k) % self.dear_count]
            if self.last[j] >= self.steps - RESTS:
                continue
            loss = self.score[j] / (self.cost[j] * self.far[j])
            if loss < least or (loss == least and self.last[j] < self.last[chosen]):
                least = loss
                chosen = j
        if chosen >= 0:
            self.last[chosen] = self.steps
            self._move(chosen)

    def _let_come(self):
        """Let columns jump that mend most for what they cost, row by row, as long as the plan stays the better one."""
        k: cython.int
        j: cython.int
        for k in range(COMES):
            if self.broken_count == 0:
                return
            j = self._who_comes(self.broken[self._draw(self.broken_count)])
            if j < 0:
                if k == 0:
                    self._gain_weight()
                return
            self.last[j] = self.steps
            self._move(j)
            self._gain_weight()

    def _who_comes(self, i):
        """Return the column of a broken row whose jump mends most for what it costs; -1 where none costs so little."""
        e: cython.int
        j: cython.int
        chosen: cython.int = -1
        most: cython.double = -INFINITY
        gain: cython.double
        up: cython.double = 1.0 if self.activity[i] < self.low[i] else -1.0
        begin: cython.int = self.rp[i]
        end: cython.int = self.rp[i + 1]
        room: cython.double = self.kept_value - self.value
        if self.sides.alike[i] != 0.0:  # those on one side mend nothing
            if up > 0.0:
                begin = self.sides.middle[i]
            else:
                end = self.sides.middle[i]
        for e in range(begin, end):
            j = self.rj[e]
            if self.last[j] == self.steps or up * self.rx[e] * self.far[j] <= 0.0:
                continue
            if self.cost[j] * self.far[j] >= room:
                continue
            gain = self._worth(j) if self.score[j] > 0.0 else self.score[j]
            if (gain > most or (gain == most and self.last[j] < self.last[chosen])) and self._may_come(j):
                most = gain
                chosen = j
        self.touched += (end - begin) // 2
        return chosen

    def _may_come(self, j):
        """Say whether anything has changed around a column since it jumped."""
        e: cython.int
        if self.jumped[j] == 0:
            return True
        for e in range(self.cp[j], self.cp[j + 1]):
            if self.changed[self.ci[e]] > self.jumped[j]:
                return True
        return False
