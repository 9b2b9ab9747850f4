# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""The dual simplex method for bounded variables.

Leaving variables are chosen by dual steepest edge (Forrest and Goldfarb 1992), entering ones by a
bound-flipping ratio test. Small dual infeasibilities that its tolerance leaves are taken out by
shifting costs; the driver restores the costs at the end.
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
        FREE,
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
        FREE,
        GOING_ON,
        INFEASIBLE,
        STUCK,
    )
    from ruddock.engine.simplex.core import Core
    from ruddock.engine.simplex.lu import WorkVector

INFINITY = cython.declare(cython.double, float("inf"))
NOTHING = cython.declare(cython.double, 1e-14)  # row entries below this are what cancelling left
STALL = cython.declare(cython.int, 60)  # steps without dual progress before costs are perturbed
AGAIN = cython.declare(cython.double, 1e-6)  # how far costs are moved then
FRUITLESS = cython.declare(cython.int, 20)  # factors in a row without a gain before costs are perturbed
MOST_PERTURBATIONS = cython.declare(cython.int, 8)  # in one run


class DualSimplex:
    """Iterates a dual feasible `Core` to primal feasibility.

    `run` returns GOING_ON when the budget is used, DONE at optimality of the working problem, INFEASIBLE when row
    ``position`` proves it (``direction`` > 0: its basic variable is above its upper bound), BEYOND when the
    objective passed ``cutoff``, AT_LIMIT at the iteration limit, or STUCK; it raises MemoryError where factors find no
    room.

    Attributes
    ----------
    trusted : int
        Updates up to which factors need not be made anew before a result is told: 0, unless the caller judges results.
    """

    def __init__(self, core):
        self.core = core
        self.infeasible = np.zeros(core.m + 1)
        self.rows = Candidates(core.m)
        self.points = Breakpoints(core.total)
        # the pivot row, packed: variables out of the basis, their codes and entries
        self.item, self.mark = np.zeros(core.total + 1, np.int32), np.zeros(core.total + 1, np.int8)
        self.entry, self.packed = np.zeros(core.total + 1), 0
        self.position, self.direction = -1, 0.0
        self.cutoff = float("inf")
        self.objective = 0.0
        self.flips = 0
        self.trusted = 0
        self._begin()

    def start(self):
        """Factorise if needed and take the present basis as the starting point."""
        self._begin()
        self._refresh()

    def perturb(self, size=AGAIN):
        """Perturb the costs of nonbasic variables, away from infeasibility: each by up to ``size`` of 1 + its own."""
        self._perturb(size)

    def run(self, budget, limit):
        """Iterate until done, ``budget`` entries are touched, or ``limit`` iterations are reached."""
        result: cython.int
        touch: cython.longlong = budget
        most: cython.longlong = limit
        with cython.nogil:
            result = self.iterate(touch, most)
        return result

    def measure(self):
        """Take the present basis as the starting point, with factors and numbers as they are."""
        self._begin()
        self._measure()

    def _begin(self):
        self.stalled = self.retries = self.perturbations = self.fruitless = 0
        self.most = -INFINITY

    def iterate(self, budget, limit):
        """Do what `run` does, for other kernels."""
        p: cython.int
        result: cython.int
        end: cython.longlong = self.core.work() + budget
        while self.core.work() < end:
            if self.core.iterations >= limit:
                return AT_LIMIT
            if self.fruitless > FRUITLESS:
                if self.perturbations >= MOST_PERTURBATIONS:
                    return STUCK
                self._perturb(AGAIN)
            p = self._choose_row()
            if p < 0:
                if self.core.factor.updates <= self.trusted:
                    return DONE
                self._refresh()
                continue
            result = self._iterate(p)
            if result == DOUBTFUL:  # once more with fresh factors
                self.retries += 1
                if self.retries > 50:
                    return STUCK
                self._refresh()
            elif result:
                return result
            elif self.core.due():
                self._refresh()
            if self.objective > self.cutoff and not self.core.cost_changed:
                return BEYOND
        return GOING_ON

    def _refresh(self):
        """Factorise anew and recompute everything that has drifted."""
        begin: cython.longlong = self.core.work()
        self.core.refactor()
        self.core.compute_dual(self.core.cost)
        self._correct()
        self.core.compute_primal()
        self._measure()
        self._look_back()
        self.core.start_ageing(begin)
        return 0

    def _look_back(self):
        """Notice whether the steps since the last factors have gained anything, other than by rounding."""
        if self.objective > self.most + self.core.least_gain():
            self.most = self.objective
            self.fruitless = 0
        else:
            self.fruitless += 1

    def _correct(self):
        """Restore dual feasibility: move boxed variables to their other bound, shift other costs."""
        j: cython.int
        code: cython.int
        wrong: cython.double
        tolerance: cython.double = self.core.dual_tolerance
        codes: cython.schar[::1] = self.core.code
        d: cython.double[::1] = self.core.d
        for j in range(self.core.total):
            code = codes[j]
            wrong = -d[j] if code == AT_LOWER else d[j] if code == AT_UPPER else abs(d[j])
            if wrong <= tolerance or code == BASIC or self.core.lower[j] == self.core.upper[j]:
                continue
            if code == AT_LOWER and self.core.upper[j] < INFINITY:
                codes[j] = AT_UPPER
                self.core.x[j] = self.core.upper[j]
            elif code == AT_UPPER and self.core.lower[j] > -INFINITY:
                codes[j] = AT_LOWER
                self.core.x[j] = self.core.lower[j]
            else:
                self.core.cost[j] -= d[j]
                d[j] = 0.0
                self.core.cost_changed = True

    def _measure_one(self, p):
        """Update the squared infeasibility of position ``p``."""
        j: cython.int = self.core.head[p]
        gap: cython.double = self.core.lower[j] - self.core.x[j]
        if self.core.x[j] - self.core.upper[j] > gap:
            gap = self.core.x[j] - self.core.upper[j]
        self.infeasible[p] = gap * gap if gap > self.core.primal_tolerance else 0.0

    def _measure(self):
        """Compute all infeasibilities and the objective."""
        j: cython.int
        p: cython.int
        total: cython.double = 0.0
        for p in range(self.core.m):
            self._measure_one(p)
        self.rows.clear()
        for j in range(self.core.total):
            total += self.core.cost[j] * self.core.x[j]
        self.objective = total

    def _choose_row(self):
        """Return the position with the steepest infeasibility, or -1 if there is none."""
        p: cython.int
        chosen: cython.int = self._best_row()
        if chosen < 0:
            for p in range(self.core.m):
                self.rows.merit[p] = self.infeasible[p] / self.core.weight[p]
            self.rows.rebuild()
            self.core.touched += self.core.m
            chosen = self._best_row()
        return chosen

    def _best_row(self):
        """Return the best candidate, or -1 if none is left."""
        p: cython.int
        k: cython.int = 0
        merit: cython.double
        best: cython.double = 0.0
        chosen: cython.int = -1
        while k < self.rows.count:
            p = self.rows.item[k]
            merit = self.infeasible[p] / self.core.weight[p]
            if merit < self.rows.cutoff:
                self.rows.drop(k)
                continue
            if merit > best:
                best = merit
                chosen = p
            k += 1
        self.core.touched += self.rows.count // 4
        return chosen

    def _offer(self, p):
        """Make position ``p`` a candidate if it has become a good one."""
        if self.infeasible[p] > 0.0 and self.infeasible[p] >= self.rows.cutoff * self.core.weight[p]:
            self.rows.add(p)

    def _iterate(self, p):
        """Make one iteration with the variable at position ``p`` leaving."""
        q: cython.int
        k: cython.int
        c: cython.int
        r: cython.int = self.core.head[p]
        true: cython.double = 0.0
        pivot: cython.double
        slope: cython.double
        self.core.rho.clear()
        self.core.rho.push(p, 1.0)
        self.core.factor.backward(self.core.rho, True)
        for k in range(self.core.rho.count):
            true += self.core.rho.value[self.core.rho.index[k]] * self.core.rho.value[self.core.rho.index[k]]
        if self.core.weight[p] < 0.25 * true:
            self.core.weight[p] = true  # the weight had drifted: choose again with the true one
            return 0
        self.core.weight[p] = true
        self.direction = 1.0 if self.core.x[r] > self.core.upper[r] else -1.0
        slope = self.core.x[r] - self.core.upper[r] if self.direction > 0 else self.core.lower[r] - self.core.x[r]
        self.core.price(self.core.rho, self.core.row)
        self.position = p
        self._gather()
        # a shortfall within the tolerance is no infeasibility: do not step past the last breakpoint for it
        c = self.points.choose(slope - self.core.primal_tolerance, self.core.dual_tolerance)
        if c < 0:
            return INFEASIBLE if self.core.factor.updates <= self.trusted else DOUBTFUL
        entry: cython.double = self.entry[self.points.item[c]]
        q = self.item[self.points.item[c]]
        self.core.load(q, self.core.column)
        self.core.factor.forward(self.core.column, True)
        pivot = self.core.column.value[p]
        if abs(pivot - entry) > 1e-7 * (1.0 + abs(pivot)) or abs(pivot) < self.core.least_pivot:
            if self.core.factor.updates > 0:
                return DOUBTFUL
            if abs(pivot - entry) > 1e-3 * abs(pivot) or abs(pivot) < self.core.least_pivot:
                self.core.weight[p] *= 1e6  # no trustworthy pivot in this row: look elsewhere first
                self.retries += 1
                return STUCK if self.retries > 50 else 0
        self._flip()
        self._step_dual(q, r, entry)
        self._step_primal(p, q, r)
        self._update_weights(p)
        k = self.core.factor.update(p, pivot)
        self.core.code[r] = AT_UPPER if self.direction > 0 else AT_LOWER
        self.core.exchange(p, q, r)
        self._measure_one(p)
        self._offer(p)
        self.retries = 0
        if k:
            self._refresh()
        return 0

    def _gather(self):
        """Pack the pivot row and list the variables whose reduced cost moves towards zero along it.

        What lies beyond the nearest breakpoint of a variable without opposite bound is never reached.
        The row's work vector is left clean: this is its only use, and it may be long.
        """
        k: cython.int
        j: cython.int
        code: cython.int
        count: cython.int = 0
        a: cython.double
        gap: cython.double
        room: cython.double
        end: cython.double = INFINITY
        direction: cython.double = self.direction
        tolerance: cython.double = self.core.dual_tolerance
        least: cython.double = self.core.least_pivot
        item: cython.int[::1] = self.item
        mark: cython.schar[::1] = self.mark
        entry: cython.double[::1] = self.entry
        index: cython.int[::1] = self.core.row.index
        value: cython.double[::1] = self.core.row.value
        codes: cython.schar[::1] = self.core.code
        d: cython.double[::1] = self.core.d
        self.points.clear()
        for k in range(self.core.row.count):
            j = index[k]
            code = codes[j]
            a = value[j]
            value[j] = 0.0
            if code == BASIC or abs(a) < NOTHING:
                continue
            item[count] = j
            mark[count] = code
            entry[count] = a
            count += 1
            a *= direction
            if code == AT_LOWER:
                gap = d[j]
            elif code == AT_UPPER:
                a = -a
                gap = -d[j]
            else:
                a = abs(a)
                gap = abs(d[j])
            if a < least or gap > end * a:
                continue
            room = self.core.upper[j] - self.core.lower[j]
            if room == 0.0:
                continue
            if room == INFINITY:
                end = min(end, (max(gap, 0.0) + tolerance) / a)
            self.points.add(count - 1, a, gap, a * room)
        self.packed = count
        self.core.touched += self.core.row.count
        self.core.row.count = 0

    # ------------------------------------------------------------------ updates

    def _flip(self):
        """Move the passed candidates to their other bounds and the basic values with them."""
        k: cython.int
        i: cython.int
        j: cython.int
        step: cython.double
        if self.points.passed == 0:
            return
        self.core.aux.clear()
        for k in range(self.points.passed):
            j = self.item[self.points.item[k]]
            if self.core.code[j] == AT_LOWER:
                step = self.core.upper[j] - self.core.lower[j]
                self.core.code[j] = AT_UPPER
                self.core.x[j] = self.core.upper[j]
            else:
                step = self.core.lower[j] - self.core.upper[j]
                self.core.code[j] = AT_LOWER
                self.core.x[j] = self.core.lower[j]
            self.objective += step * self.core.d[j]
            self.core.add_column(j, step, self.core.aux)
        self.flips += self.points.passed
        self.core.factor.forward(self.core.aux, False)
        for k in range(self.core.aux.count):
            i = self.core.aux.index[k]
            self.core.x[self.core.head[i]] -= self.core.aux.value[i]
            self._measure_one(i)
            self._offer(i)
        self.core.aux.clear()

    def _step_dual(self, q, r, entry):
        """Move the reduced costs so that that of ``q``, whose pivot is ``entry``, becomes zero."""
        step: cython.double
        if (self.core.d[q] / entry) * self.direction < 0.0:
            self.core.cost[q] -= self.core.d[q]  # within the tolerance on the wrong side: no step
            self.core.d[q] = 0.0
            self.core.cost_changed = True
        step = self.core.d[q] / entry
        if abs(step) < 1e-12:
            self.stalled += 1
        else:
            self.stalled = 0
        if step != 0.0:
            self._move_costs(step, q)
        self.core.d[r] = -step
        self.core.d[q] = 0.0
        if self.stalled > STALL and self.perturbations < MOST_PERTURBATIONS:
            self._perturb(AGAIN)

    def _move_costs(self, step, q):
        """Move the reduced costs along the pivot row; shift the cost where one gets the wrong sign."""
        k: cython.int
        j: cython.int
        moved: cython.double
        item: cython.int[::1] = self.item
        mark: cython.schar[::1] = self.mark
        entry: cython.double[::1] = self.entry
        d: cython.double[::1] = self.core.d
        for k in range(self.packed):
            j = item[k]
            moved = d[j] - step * entry[k]
            if (mark[k] == AT_LOWER and moved < 0.0) or (mark[k] == AT_UPPER and moved > 0.0):
                # flips have changed some codes since the row was packed
                if self.core.code[j] == mark[k] and self.core.lower[j] != self.core.upper[j] and j != q:
                    if abs(moved) > 1e-14:
                        self.core.cost_changed = True
                    self.core.cost[j] -= moved
                    moved = 0.0
            d[j] = moved
        self.core.touched += self.packed

    def _step_primal(self, p, q, r):
        """Move the leaving variable onto its bound and the other basic values with it."""
        k: cython.int
        i: cython.int
        bound: cython.double = self.core.upper[r] if self.direction > 0 else self.core.lower[r]
        step: cython.double = (self.core.x[r] - bound) / self.core.column.value[p]
        for k in range(self.core.column.count):
            i = self.core.column.index[k]
            self.core.x[self.core.head[i]] -= step * self.core.column.value[i]
            if i != p:
                self._measure_one(i)
        self.core.x[r] = bound
        self.core.x[q] += step
        # c'x moves by the entering variable's reduced cost, which is now that of r the other way round
        self.objective -= self.core.d[r] * step * self.core.column.value[p]
        self.core.touched += self.core.column.count

    def _update_weights(self, p):
        """Update the steepest-edge weights; ``rho`` becomes ``B^-1 rho``."""
        k: cython.int
        i: cython.int
        ratio: cython.double
        w: cython.double
        pivot: cython.double = self.core.column.value[p]
        weight: cython.double = self.core.weight[p]
        self.core.factor.forward(self.core.rho, False)
        for k in range(self.core.column.count):
            i = self.core.column.index[k]
            if i != p:
                ratio = self.core.column.value[i] / pivot
                w = self.core.weight[i] + ratio * (ratio * weight - 2.0 * self.core.rho.value[i])
                self.core.weight[i] = max(w, 1e-4 + ratio * ratio * 1e-4)
                self._offer(i)
        self.core.weight[p] = max(weight / (pivot * pivot), 1e-4)

    def _perturb(self, size):
        """Move the costs of nonbasic variables a little, each into its feasible side."""
        j: cython.int
        step: cython.double
        for j in range(self.core.total):
            if self.core.place[j] >= 0 or self.core.lower[j] == self.core.upper[j] or self.core.code[j] == FREE:
                continue
            step = self.core.random[j] * size * (1.0 + abs(self.core.cost[j]))
            if self.core.code[j] == AT_UPPER:
                step = -step
            self.core.cost[j] += step
            self.core.d[j] += step
        self.core.cost_changed = True
        self.stalled = self.fruitless = 0
        self.most = -INFINITY
        self.perturbations += 1
