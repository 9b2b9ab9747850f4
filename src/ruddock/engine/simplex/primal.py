# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""The primal simplex method for bounded variables.

Phase 1 minimises the sum of infeasibilities of the basic variables, with steps that may pass several
of its breakpoints; phase 2 the costs. Entering variables are chosen by devex reference weights
(Maros 2003, section 9.4). Where many steps stay in place, bounds are perturbed; the driver restores them. Should
that happen again and again, variables are taken by their numbers instead, which cannot go round in circles
(Bland 1977) but by rounding, until a step gains something. Where that happens they are stuck. A move to the opposite
bound is no iteration, but it counts as a step.
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

if cython.compiled:
    from cython.cimports.ruddock.engine.simplex.breakpoints import Breakpoints
    from cython.cimports.ruddock.engine.simplex.candidates import Candidates
    from cython.cimports.ruddock.engine.simplex.constants import (
        AT_LIMIT,
        AT_LOWER,
        AT_UPPER,
        BASIC,
        BEYOND,
        DONE,
        DOUBTFUL,
        GOING_ON,
        INFEASIBLE,
        STUCK,
    )
    from cython.cimports.ruddock.engine.simplex.core import Core
    from cython.cimports.ruddock.engine.simplex.lu import WorkVector
else:
    from ruddock.engine.simplex.breakpoints import Breakpoints
    from ruddock.engine.simplex.candidates import Candidates
    from ruddock.engine.simplex.constants import (
        AT_LIMIT,
        AT_LOWER,
        AT_UPPER,
        BASIC,
        BEYOND,
        DONE,
        DOUBTFUL,
        GOING_ON,
        INFEASIBLE,
        STUCK,
    )
    from ruddock.engine.simplex.core import Core
    from ruddock.engine.simplex.lu import WorkVector

INFINITY = cython.declare(cython.double, float("inf"))
ABSORBED = cython.declare(cython.double, 1e-6)  # drift beyond a bound that is taken up by the bound
STALL = cython.declare(cython.int, 60)  # steps in place before bounds are perturbed
MOST_PERTURBATIONS = cython.declare(cython.int, 8)  # in one run; then variables are taken by their numbers
FRUITLESS = cython.declare(cython.int, 20)  # factors in a row without a gain before bounds are perturbed
MOST_IN_VAIN = cython.declare(cython.int, 10)  # times so many steps by numbers, beside one for each row
MOST_FLIPS = cython.declare(cython.int, 1000)  # in a row without a pivot, beside two for each variable
NO_GAIN = cython.declare(cython.double, 1e-8)  # of infeasibility: below the tolerance it is none


class PrimalSimplex:
    """Iterates a `Core` to optimality of its working problem.

    `run` returns GOING_ON when the budget is used, DONE at optimality, INFEASIBLE when the sum of infeasibilities is
    at its least and positive (the logicals' reduced costs are the proof's weights), BEYOND when ``entering`` moving in
    ``direction`` is a ray, AT_LIMIT at the iteration limit, or STUCK; it raises MemoryError where factors find no room.
    """

    def __init__(self, core):
        self.core = core
        self.points = Breakpoints(2 * core.m + 2)
        self.reference = np.ones(core.total + 1)
        self.columns = Candidates(core.total)
        self.phase_cost = np.zeros(core.total + 1)
        self.banned = np.zeros(core.total + 1, dtype=np.int8)
        self.phase, self.entering, self.direction = 1, -1, 0.0
        self.broken = 0  # basic variables that miss a bound
        self.flips = 0
        self.step = self.no_gain = 0.0
        self._begin()

    def _begin(self):
        self.stalled = self.retries = self.perturbations = self.in_a_row = self.fruitless = self.in_vain = 0
        self.settled = self.by_number = False
        self.least_broken = self.least_cost = INFINITY

    def start(self):
        """Factorise and take the present basis as the starting point."""
        j: cython.int
        self._begin()
        for j in range(self.core.total):
            self.reference[j] = 1.0
            self.banned[j] = 0
        self._refresh()

    def run(self, budget, limit):
        """Iterate until done, ``budget`` entries are touched, or ``limit`` iterations are reached."""
        result: cython.int
        touch: cython.longlong = budget
        most: cython.longlong = limit
        with cython.nogil:
            result = self._run(touch, most)
        return result

    def _run(self, budget, limit):
        q: cython.int
        result: cython.int
        end: cython.longlong = self.core.work() + budget
        while self.core.work() < end:
            if self.core.iterations >= limit:
                return AT_LIMIT
            if self.fruitless > FRUITLESS:
                self.fruitless = 0
                if self._escape() == STUCK:
                    return STUCK
            q = self._choose_column()
            if q < 0:
                if self.core.factor.updates > 0:
                    self._refresh()
                    continue
                return INFEASIBLE if self.phase == 1 else DONE
            result = self._iterate(q)
            if result == DOUBTFUL:  # once more with fresh factors
                self.retries += 1
                if self.retries > 50:
                    return STUCK
                self._refresh()
            elif result:
                return result
            elif self.core.due():
                self._refresh()
        return GOING_ON

    def _refresh(self):
        """Factorise anew and recompute everything that has drifted."""
        begin: cython.longlong = self.core.work()
        self.core.refactor()
        self.core.compute_primal()
        self._price_afresh()
        self.core.start_ageing(begin)

    def _side(self, j):
        """Return the slope of variable ``j``'s infeasibility: -1 below its bounds, 1 above, 0 within."""
        if self.core.x[j] < self.core.lower[j] - self.core.primal_tolerance:
            return -1.0
        if self.core.x[j] > self.core.upper[j] + self.core.primal_tolerance:
            return 1.0
        return 0.0

    def _price_afresh(self):
        """Find out the phase and compute its reduced costs."""
        j: cython.int
        p: cython.int
        self.core.touched += 2 * self.core.total + self.core.m
        if self.settled:
            self._absorb()
        self.broken = 0
        for j in range(self.core.total):
            self.phase_cost[j] = 0.0
        for p in range(self.core.m):
            j = self.core.head[p]
            self.phase_cost[j] = self._side(j)
            self.broken += self.phase_cost[j] != 0.0
        self.phase = 1 if self.broken > 0 else 2
        self.settled = self.phase == 2
        self._look_back()
        self.core.compute_dual(self.phase_cost if self.phase == 1 else self.core.cost)
        self.columns.clear()

    def _look_back(self):
        """Notice whether the steps since the last factors have gained anything, other than by rounding."""
        j: cython.int
        p: cython.int
        value: cython.double = 0.0
        least: cython.double
        if self.phase == 1:
            least = self.least_broken
            self.no_gain = NO_GAIN
            for p in range(self.core.m):
                j = self.core.head[p]
                value += max(self.core.lower[j] - self.core.x[j], self.core.x[j] - self.core.upper[j], 0.0)
            self.least_broken = min(least, value)
        else:
            least = self.least_cost
            self.no_gain = self.core.least_gain()
            for j in range(self.core.total):
                value += self.core.cost[j] * self.core.x[j]
            self.least_cost = min(least, value)
        if value < least - self.no_gain:
            self.fruitless = self.in_vain = 0
        else:
            self.fruitless += 1

    def _absorb(self):
        """Widen bounds that rounding has carried feasible basic variables a little beyond.

        Going back to phase 1 for differences near the tolerance can go round in circles.
        """
        p: cython.int
        j: cython.int
        for p in range(self.core.m):
            j = self.core.head[p]
            if self.core.lower[j] - ABSORBED < self.core.x[j] < self.core.lower[j]:
                self.core.lower[j] = self.core.x[j]
                self.core.bounds_changed = True
            if self.core.upper[j] < self.core.x[j] < self.core.upper[j] + ABSORBED:
                self.core.upper[j] = self.core.x[j]
                self.core.bounds_changed = True

    def _choose_column(self):
        """Return the nonbasic variable with the best gain by devex weights, or -1 if none gains."""
        j: cython.int
        chosen: cython.int
        if self.by_number:
            self.core.touched += self.core.total
            for j in range(self.core.total):
                if self._gain(j) > 0.0:
                    return j
            return -1
        chosen = self._best_column()
        if chosen < 0:
            for j in range(self.core.total):
                self.columns.merit[j] = self._gain(j) / self.reference[j]
            self.columns.rebuild()
            self.core.touched += self.core.total
            chosen = self._best_column()
        return chosen

    def _best_column(self):
        """Return the best candidate, or -1 if none is left."""
        j: cython.int
        k: cython.int = 0
        merit: cython.double
        best: cython.double = 0.0
        chosen: cython.int = -1
        while k < self.columns.count:
            j = self.columns.item[k]
            merit = self._gain(j) / self.reference[j]
            if merit <= 0.0 or merit < self.columns.cutoff:
                self.columns.drop(k)
                continue
            if merit > best:
                best = merit
                chosen = j
            k += 1
        self.core.touched += self.columns.count // 4
        return chosen

    def _gain(self, j):
        """Return the squared reduced cost of a variable that may improve the objective, else 0."""
        code: cython.int = self.core.code[j]
        d: cython.double = self.core.d[j]
        if code == BASIC or self.banned[j] or abs(d) <= self.core.dual_tolerance:
            return 0.0
        if (d < 0.0 and code == AT_UPPER) or (d > 0.0 and code == AT_LOWER):
            return 0.0
        return 0.0 if self.core.lower[j] == self.core.upper[j] else d * d

    def _offer(self, j):
        """Make ``j`` a candidate if it has become a good one."""
        gain: cython.double = self._gain(j)
        if gain > 0.0 and gain >= self.columns.cutoff * self.reference[j]:
            self.columns.add(j)

    def _iterate(self, q):
        """Make one iteration with ``q`` entering."""
        c: cython.int
        p: cython.int
        r: cython.int
        spoiled: cython.int
        upper: cython.bint
        self.core.load(q, self.core.column)
        self.core.factor.forward(self.core.column, True)
        if not self._confirm(q):
            return 0
        self.entering = q
        self.direction = 1.0 if self.core.d[q] < 0.0 else -1.0
        c = self._ratio_test(q)
        if c < -1:
            if self.core.factor.updates > 0:
                return DOUBTFUL
            if self.phase == 2:
                return BEYOND
            self.banned[q] = 1  # phase 1 has no rays: a column of rounding errors
            return 0
        if c < 0:
            self._move(q)
            self.core.code[q] = AT_UPPER if self.core.code[q] == AT_LOWER else AT_LOWER
            self.core.x[q] = self.core.upper[q] if self.core.code[q] == AT_UPPER else self.core.lower[q]
            self.flips += 1
            self.in_a_row += 1
            self._follow_phase()
            if self.in_a_row > MOST_FLIPS + 2 * self.core.total:
                return STUCK
            return self._escape() if self.stalled > STALL else 0
        p = self.points.item[c] // 2
        upper = self.points.item[c] % 2 == 1
        if abs(self.core.column.value[p]) < self.core.safe_pivot:
            if self.core.factor.updates > 0:
                return DOUBTFUL
            if abs(self.core.column.value[p]) < self.core.least_pivot:
                self.banned[q] = 1
                return 0
        r = self.core.head[p]
        self.core.rho.clear()
        self.core.rho.push(p, 1.0)
        self.core.factor.backward(self.core.rho, True)
        self.core.price(self.core.rho, self.core.row)
        if abs(self.core.row.value[q] - self.core.column.value[p]) > 1e-6 * (1.0 + abs(self.core.column.value[p])):
            if self.core.factor.updates > 0:
                return DOUBTFUL
        self._move(q)
        self._leave(r, upper)
        self._step_dual(p, q, r)
        spoiled = self.core.factor.update(p, self.core.column.value[p])
        self.core.exchange(p, q, r)
        self.retries = self.in_a_row = 0
        if spoiled:
            self._refresh()
        else:
            self._follow_phase()
        return self._escape() if self.stalled > STALL else 0

    def _confirm(self, q):
        """Recompute the reduced cost of ``q`` from its column; say whether it still gains."""
        k: cython.int
        j: cython.int
        cost: cython.double[::1] = self.phase_cost if self.phase == 1 else self.core.cost
        d: cython.double = cost[q]
        for k in range(self.core.column.count):
            j = self.core.head[self.core.column.index[k]]
            d -= cost[j] * self.core.column.value[self.core.column.index[k]]
        self.core.d[q] = d
        if abs(d) <= self.core.dual_tolerance:
            return False
        return not ((self.core.code[q] == AT_LOWER and d > 0.0) or (self.core.code[q] == AT_UPPER and d < 0.0))

    # ------------------------------------------------------------------ ratio test

    def _ratio_test(self, q):
        """Return the breakpoint that stops ``q``, -1 for its own opposite bound, -2 if nothing does."""
        k: cython.int
        p: cython.int
        c: cython.int
        a: cython.double
        room: cython.double = self.core.upper[q] - self.core.lower[q]
        self.points.clear()
        for k in range(self.core.column.count):
            p = self.core.column.index[k]
            a = self.core.column.value[p] * self.direction
            if abs(a) > self.core.least_pivot:
                self._add_breakpoints(p, a)
        self.core.touched += self.core.column.count
        if self.by_number:
            c = self._first_by_number()
        else:  # in phase 2 the first breakpoint ends the step, whatever the slope
            c = self.points.choose(abs(self.core.d[q]) if self.phase == 1 else 1.0, self.core.primal_tolerance)
        if c < 0:
            self.step = room
            return -1 if room < INFINITY else -2
        self.step = self.points.gap[c] / self.points.size[c]
        if room <= self.step:
            self.step = room
            return -1
        return c

    def _first_by_number(self):
        """Return the nearest breakpoint, of several the one whose variable has the least number, or -1."""
        k: cython.int
        best: cython.int = -1
        nearest: cython.double = INFINITY
        for k in range(self.points.count):
            nearest = min(nearest, self.points.gap[k] / self.points.size[k])
        for k in range(self.points.count):
            if self.points.gap[k] > nearest * self.points.size[k] * (1.0 + 1e-12):
                continue
            if best < 0 or self.core.head[self.points.item[k] // 2] < self.core.head[self.points.item[best] // 2]:
                best = k
        return best

    def _add_breakpoints(self, p, a):
        """Add where the variable at position ``p``, falling by ``a`` per step, meets its bounds."""
        j: cython.int = self.core.head[p]
        side: cython.double = self.phase_cost[j] if self.phase == 1 else 0.0
        x: cython.double = self.core.x[j]
        # in phase 2 every bound blocks; in phase 1 each takes the slope that its violation will cost
        drop: cython.double = abs(a) if self.phase == 1 else INFINITY
        if a > 0.0:
            if side > 0.0:
                self.points.add(2 * p + 1, a, x - self.core.upper[j], drop)
            if side >= 0.0 and self.core.lower[j] > -INFINITY:
                self.points.add(2 * p, a, x - self.core.lower[j], drop)
        else:
            if side < 0.0:
                self.points.add(2 * p, -a, self.core.lower[j] - x, drop)
            if side <= 0.0 and self.core.upper[j] < INFINITY:
                self.points.add(2 * p + 1, -a, self.core.upper[j] - x, drop)

    # ------------------------------------------------------------------ updates

    def _move(self, q):
        """Move ``q`` by the step and the basic variables with it."""
        k: cython.int
        p: cython.int
        step: cython.double = self.step * self.direction
        if self.step < 1e-12 or self.step * abs(self.core.d[q]) < self.no_gain:
            self.stalled += 1
            if self.step == 0.0:
                return
        else:
            self.stalled = 0
            self.by_number = False
        self.core.x[q] += step
        for k in range(self.core.column.count):
            p = self.core.column.index[k]
            self.core.x[self.core.head[p]] -= step * self.core.column.value[p]

    def _leave(self, r, upper):
        """Put the leaving variable on its bound, moving the bound if it is only nearly there."""
        bound: cython.double = self.core.upper[r] if upper else self.core.lower[r]
        self.core.code[r] = AT_UPPER if upper else AT_LOWER
        if abs(self.core.x[r] - bound) <= 1e-13 * (1.0 + abs(bound)):
            self.core.x[r] = bound
            return
        self.core.bounds_changed = True
        if self.core.lower[r] == self.core.upper[r]:
            self.core.lower[r] = self.core.x[r]
            self.core.upper[r] = self.core.x[r]
        elif upper:
            self.core.upper[r] = self.core.x[r]
        else:
            self.core.lower[r] = self.core.x[r]

    def _step_dual(self, p, q, r):
        """Update reduced costs and reference weights along the pivot row."""
        k: cython.int
        j: cython.int
        ratio: cython.double
        pivot: cython.double = self.core.column.value[p]
        step: cython.double = self.core.d[q] / pivot
        weight: cython.double = self.reference[q]
        for k in range(self.core.row.count):
            j = self.core.row.index[k]
            self.banned[j] = 0
            if self.core.code[j] == BASIC or j == q:
                continue
            self.core.d[j] -= step * self.core.row.value[j]
            ratio = self.core.row.value[j] / pivot
            ratio = ratio * ratio * weight
            if ratio > self.reference[j]:
                self.reference[j] = ratio
            self._offer(j)
        self.core.touched += self.core.row.count
        self.core.d[q] = 0.0
        self.core.d[r] = -step
        self.reference[r] = max(weight / (pivot * pivot), 1.0)
        if self.phase == 1:
            self.core.d[r] -= self.phase_cost[r]
            self.broken -= self.phase_cost[r] != 0.0
            self.phase_cost[r] = 0.0
            self._offer(r)

    def _follow_phase(self):
        """In phase 1, bring the reduced costs in line with what became feasible or infeasible."""
        k: cython.int
        p: cython.int
        j: cython.int
        side: cython.double
        if self.phase == 2:
            return
        self.core.aux.clear()
        for k in range(self.core.column.count):
            p = self.core.column.index[k]
            j = self.core.head[p]
            side = self._side(j)
            if side != self.phase_cost[j]:
                self.core.aux.push(p, side - self.phase_cost[j])
                if side != 0.0:
                    self.broken += 1
                if self.phase_cost[j] != 0.0:
                    self.broken -= 1
                self.phase_cost[j] = side
        if self.core.aux.count == 0:
            return
        if self.broken == 0:
            self.core.aux.clear()
            self._price_afresh()
            return
        self.core.factor.backward(self.core.aux, False)
        self.core.price(self.core.aux, self.core.row)
        for k in range(self.core.row.count):
            j = self.core.row.index[k]
            if self.core.code[j] != BASIC:
                self.core.d[j] -= self.core.row.value[j]
                self._offer(j)
        self.core.aux.clear()

    def _escape(self):
        """Leave a place where steps gain nothing: by perturbed bounds, or where these did not help, by numbers.

        Returns STUCK where numbers do not help either, else 0.
        """
        self.stalled = 0
        if self.perturbations < MOST_PERTURBATIONS:
            self.perturbations += 1
            self._perturb()
            return 0
        self.by_number = True
        self.in_vain += 1
        return STUCK if self.in_vain > MOST_IN_VAIN + self.core.m // STALL else 0

    def _perturb(self):
        """Widen the bounds of the basic variables a little, each by its own amount."""
        p: cython.int
        j: cython.int
        for p in range(self.core.m):
            j = self.core.head[p]
            if self.core.lower[j] > -INFINITY:
                self.core.lower[j] -= self.core.random[j] * (1e-7 + 1e-7 * abs(self.core.lower[j]))
            if self.core.upper[j] < INFINITY:
                self.core.upper[j] += self.core.random[j] * (1e-7 + 1e-7 * abs(self.core.upper[j]))
        self.core.bounds_changed = True
