# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""The push phase of a crossover: variables between their bounds go to a bound or into the basis.

One variable at a time moves towards its nearer bound; a basic variable that reaches a bound of its own
first makes room for it in the basis (Bixby and Saltzman 1994). Costs play no part: along the way
from an interior optimum, all of these moves are along the optimal face.
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

if cython.compiled:
    from cython.cimports.ruddock.engine.simplex.breakpoints import Breakpoints
    from cython.cimports.ruddock.engine.simplex.constants import AT_LOWER, AT_UPPER
    from cython.cimports.ruddock.engine.simplex.core import Core
else:
    from ruddock.engine.simplex.breakpoints import Breakpoints
    from ruddock.engine.simplex.constants import AT_LOWER, AT_UPPER
    from ruddock.engine.simplex.core import Core

INFINITY = cython.declare(cython.double, float("inf"))


class Push:
    """Pushes variables of a `Core` that stand between their bounds without being basic."""

    def __init__(self, core):
        self.core = core
        self.points = Breakpoints(2 * core.m + 2)
        self.pivots = 0

    def start(self):
        """Make factors and basic values anew, and let the factors age from here on."""
        with cython.nogil:
            self._renew()

    def run(self, columns, first, budget):
        """Push from number ``first`` of the list on, for some work; return the number to go on with."""
        k: cython.int = first
        count: cython.int = len(columns)
        numbers: cython.int[::1] = columns
        end: cython.longlong = self.core.work() + budget
        with cython.nogil:
            while k < count and self.core.work() < end:
                self._push(numbers[k])
                k += 1
                if self.core.due():
                    self._renew()
        return k

    def _renew(self):
        """Make factors and basic values anew."""
        begin: cython.longlong = self.core.work()
        self.core.factored = False
        self.core.refactor()
        self.core.compute_primal()
        self.core.start_ageing(begin)
        return 0

    def _push(self, q):
        """Move ``q`` to its nearer bound, or into the basis."""
        k: cython.int
        p: cython.int
        c: cython.int
        r: cython.int
        upper: cython.bint
        below: cython.double = self.core.x[q] - self.core.lower[q]
        above: cython.double = self.core.upper[q] - self.core.x[q]
        direction: cython.double = 1.0 if above < below else -1.0
        step: cython.double = min(below, above)
        if self.core.place[q] >= 0:
            return 0
        self.core.load(q, self.core.column)
        self.core.factor.forward(self.core.column, True)
        c = self._blocking(direction)
        if c >= 0:
            p = self.points.item[c] // 2
            if (
                self.points.gap[c] / self.points.size[c] >= step
                or abs(self.core.column.value[p]) < self.core.safe_pivot
            ):
                c = -1
        if c >= 0:
            step = self.points.gap[c] / self.points.size[c]
        elif step == INFINITY:
            direction = -1.0 if self.core.x[q] > 0.0 else 1.0
            step = abs(self.core.x[q])  # nothing ever stops a free variable: it rests at zero
        self.core.x[q] += step * direction
        for k in range(self.core.column.count):
            p = self.core.column.index[k]
            self.core.x[self.core.head[p]] -= step * direction * self.core.column.value[p]
        if c < 0:
            self.core.settle(q)
            return 0
        p = self.points.item[c] // 2
        upper = self.points.item[c] % 2 == 1
        r = self.core.head[p]
        self.core.rho.clear()
        self.core.rho.push(p, 1.0)
        self.core.factor.backward(self.core.rho, True)
        self.core.x[r] = self.core.upper[r] if upper else self.core.lower[r]
        self.core.code[r] = AT_UPPER if upper else AT_LOWER
        k = self.core.factor.update(p, self.core.column.value[p])
        self.core.weight[p] = 1.0
        self.core.exchange(p, q, r)
        self.pivots += 1
        if k:
            self._renew()

    def _blocking(self, direction):
        """Return the breakpoint of the basic variable that reaches a bound first, or -1."""
        k: cython.int
        p: cython.int
        j: cython.int
        a: cython.double
        self.points.clear()
        for k in range(self.core.column.count):
            p = self.core.column.index[k]
            a = self.core.column.value[p] * direction
            j = self.core.head[p]
            if a > self.core.least_pivot and self.core.lower[j] > -INFINITY:
                self.points.add(2 * p, a, self.core.x[j] - self.core.lower[j], INFINITY)
            elif a < -self.core.least_pivot and self.core.upper[j] < INFINITY:
                self.points.add(2 * p + 1, -a, self.core.upper[j] - self.core.x[j], INFINITY)
        self.core.touched += self.core.column.count
        return self.points.choose(1.0, self.core.primal_tolerance)
