# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""The state that the primal and the dual simplex method share.

The linear program is ``min c'x`` with ``Ax - s = 0`` and bounds on the columns ``x`` and on the row
activities ``s`` (the logicals). Variables are numbered columns first, then logicals; the logical of
row i has the column ``-e_i``, so its reduced cost is the row's dual value.
"""

import numpy as np

from ruddock.engine.simplex.constants import LEAST_PIVOT, SAFE_PIVOT

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

if cython.compiled:
    from cython.cimports.ruddock.engine.simplex.constants import AT_LOWER, AT_UPPER, BASIC, FREE
    from cython.cimports.ruddock.engine.simplex.lu import BasisFactor, WorkVector
else:
    from ruddock.engine.simplex.constants import AT_LOWER, AT_UPPER, BASIC, FREE
    from ruddock.engine.simplex.lu import BasisFactor, WorkVector

MAX_UPDATES = cython.declare(cython.int, 2000)
INFINITY = cython.declare(cython.double, float("inf"))
ROUNDED = cython.declare(cython.double, 1e-15)  # of the costs' sum without signs: a gain that rounding may have made up


class Core:
    """Matrix, working bounds and costs, basis and its factors, values and reduced costs.

    Parameters
    ----------
    m, n : int
        Numbers of rows and columns.
    columns, rows : (starts, indices, values)
        The matrix by columns and by rows; int32, int32, float64.
    """

    def __init__(self, m, n, columns, rows):
        self.m, self.n, self.total = m, n, m + n
        self.ap, self.ai, self.ax = columns
        self.rp, self.rj, self.rx = rows
        self.uniform = np.zeros(m)
        self._find_uniform()
        total = m + n
        self.lower, self.upper = np.zeros(total), np.zeros(total)
        self.cost, self.x, self.d = np.zeros(total), np.zeros(total), np.zeros(total)
        self.code = np.zeros(total, dtype=np.int8)
        self.head = np.zeros(m, dtype=np.int32)
        self.place = np.zeros(total, dtype=np.int32)
        self.weight = np.ones(m)
        self.random = _draws(total)
        self.factor = BasisFactor(m)
        self.rho, self.column, self.aux = WorkVector(m), WorkVector(m), WorkVector(m)
        self.row = WorkVector(total)
        self.primal_tolerance = self.dual_tolerance = 1e-9
        self.least_pivot, self.safe_pivot = LEAST_PIVOT, SAFE_PIVOT
        self.factored = False  # whether the factors are those of the present basis, without updates
        self.cost_changed = self.bounds_changed = False
        self.iterations = self.refactorings = self.touched = 0
        self.factor_fill = 0
        self.renewal = self.renewed = 0
        self.cheapest = 0.0

    def _find_uniform(self):
        """Note for each row the value that all its entries have, or 0 where they differ."""
        i: cython.int
        e: cython.int
        for i in range(self.m):
            if self.rp[i] == self.rp[i + 1]:
                continue
            self.uniform[i] = self.rx[self.rp[i]]
            for e in range(self.rp[i] + 1, self.rp[i + 1]):
                if self.rx[e] != self.uniform[i]:
                    self.uniform[i] = 0.0
                    break

    def bytes(self):
        """Return what matrix, state and factors take."""
        return 24 * self.ap[self.n] + 96 * self.total + self.factor.bytes()

    def refactorise(self):
        """Factorise the present basis; return how many of its variables had to be replaced."""
        return self.refactor()

    def restore(self, lower, upper, cost):
        """Take bounds and costs of all variables, and put those out of the basis on their bounds.

        A code that its bounds do not allow is replaced by one that they do.
        """
        j: cython.int
        code: cython.int
        low: cython.double[::1] = lower
        high: cython.double[::1] = upper
        costs: cython.double[::1] = cost
        for j in range(self.total):
            self.lower[j] = low[j]
            self.upper[j] = high[j]
            self.cost[j] = costs[j]
            if self.place[j] >= 0:
                continue
            code = self.code[j]
            if low[j] == -INFINITY:
                code = FREE if high[j] == INFINITY else AT_UPPER
            elif code != AT_UPPER or high[j] == INFINITY or low[j] == high[j]:
                code = AT_LOWER
            self.code[j] = code
            self.x[j] = low[j] if code == AT_LOWER else high[j] if code == AT_UPPER else 0.0
        self.cost_changed = self.bounds_changed = False

    def reprice(self, cost):
        """Take costs of all variables, and compute the reduced costs of the present basis."""
        j: cython.int
        for j in range(self.total):
            self.cost[j] = cost[j]
        self.cost_changed = False
        self.compute_dual(self.cost)

    def take_basis(self, codes, weights):
        """Take the codes of a square basis, and the pricing weights of its variables, by variable; None for 1."""
        j: cython.int
        p: cython.int = 0
        given: cython.schar[::1] = codes
        known: cython.double[::1] = weights
        for j in range(self.total):
            self.code[j] = given[j]
            self.place[j] = -1
            if given[j] == BASIC:
                self.place[j] = p
                self.head[p] = j
                self.weight[p] = 1.0 if weights is None else known[j]
                p += 1
        self.factored = False

    def rebound(self, lower, upper, unit, far, carries):
        """Take bounds of the columns on a basis whose factors, values and reduced costs are at hand.

        Variables out of the basis go to the side that their reduced costs ask for; what has moved is carried over to
        the basic values by one solve. Nothing is computed afresh, so it is for the caller to judge what comes of it.

        Parameters
        ----------
        lower, upper : float arrays, shape (n,)
            In true units.
        unit : what 1 of a scaled variable is
        far : bounds of this size and more count as none
        carries : whether what moves is carried over to the basic values

        Returns
        -------
        bool
            Whether no bounds cross, and all reduced costs have the sign of their side.
        """
        j: cython.int
        i: cython.int
        k: cython.int
        code: cython.int
        value: cython.double
        fits: cython.bint = True
        codes: cython.schar[::1] = self.code
        d: cython.double[::1] = self.d
        x: cython.double[::1] = self.x
        self.aux.clear()
        for j in range(self.total):
            if j < self.n:
                self.lower[j] = lower[j] / unit[j] if lower[j] > -far else -INFINITY
                self.upper[j] = upper[j] / unit[j] if upper[j] < far else INFINITY
                fits = fits and lower[j] <= upper[j]
            if self.place[j] >= 0:
                continue
            code = codes[j]
            if self.lower[j] == self.upper[j]:
                code = AT_LOWER
            elif self.lower[j] == -INFINITY:
                code = FREE if self.upper[j] == INFINITY else AT_UPPER
            elif self.upper[j] == INFINITY or code == FREE:
                code = AT_LOWER
            elif code == AT_LOWER and d[j] < -self.dual_tolerance:
                code = AT_UPPER
            elif code == AT_UPPER and d[j] > self.dual_tolerance:
                code = AT_LOWER
            if self.lower[j] < self.upper[j]:
                value = -d[j] if code == AT_LOWER else d[j] if code == AT_UPPER else abs(d[j])
                fits = fits and value <= self.dual_tolerance
            codes[j] = code
            value = self.lower[j] if code == AT_LOWER else self.upper[j] if code == AT_UPPER else 0.0
            if value != x[j]:
                if carries:
                    self.add_column(j, value - x[j], self.aux)
                x[j] = value
        if self.aux.count:
            self.factor.forward(self.aux, False)
            for k in range(self.aux.count):
                i = self.aux.index[k]
                x[self.head[i]] -= self.aux.value[i]
        self.aux.clear()
        self.touched += self.total
        return fits

    def primal_infeasibility(self):
        """Return the most by which a basic variable is beyond a bound."""
        i: cython.int
        j: cython.int
        most: cython.double = 0.0
        for i in range(self.m):
            j = self.head[i]
            most = max(most, self.lower[j] - self.x[j], self.x[j] - self.upper[j])
        return most

    def dual_infeasibility(self):
        """Return the most by which the reduced cost of a variable out of the basis has the wrong sign."""
        return self.wrong_signs()

    def wrong_signs(self):
        """Return the same, for other kernels."""
        j: cython.int
        wrong: cython.double
        most: cython.double = 0.0
        for j in range(self.total):
            if self.place[j] >= 0 or self.lower[j] == self.upper[j]:
                continue
            wrong = self.d[j]
            if self.code[j] == AT_LOWER:
                wrong = -wrong
            elif self.code[j] == FREE:
                wrong = abs(wrong)
            most = max(most, wrong)
        return most

    def recompute(self):
        """Compute basic values and reduced costs afresh from the factors."""
        self.compute_primal()
        self.compute_dual(self.cost)

    def solve_forward(self, v):
        """Solve ``B x = v`` in place for a dense array by position."""
        self._dense(v, True)

    def solve_backward(self, v):
        """Solve ``B' y = v`` in place for a dense array by position."""
        self._dense(v, False)

    def price_rows(self, cost, scale, y):
        """Set ``y`` to the dual values of the rows for costs of all variables, times a scale of the rows."""
        costs: cython.double[::1] = cost
        scales: cython.double[::1] = scale
        result: cython.double[::1] = y
        self.dual_values(costs, scales, result)

    def dual_values(self, costs, scales, result):
        """Do the same, for other kernels."""
        i: cython.int
        self.aux.clear()
        for i in range(self.m):
            self.aux.value[i] = costs[self.head[i]]
        self.aux.gather()
        self.factor.backward(self.aux, False)
        for i in range(self.m):
            result[i] = scales[i] * self.aux.value[i]
        self.aux.clear()

    def _dense(self, v, forward):
        i: cython.int
        values: cython.double[::1] = v
        self.aux.clear()
        for i in range(self.m):
            self.aux.value[i] = values[i]
        self.aux.gather()
        if forward:
            self.factor.forward(self.aux, False)
        else:
            self.factor.backward(self.aux, False)
        for i in range(self.m):
            values[i] = self.aux.value[i]
        self.aux.clear()

    def refactor(self):
        """Factorise the basis, keep ``weight`` with its variables, and repair it if singular.

        Variables thrown out of a singular basis are put at a bound; rows left over get their logical.
        """
        i: cython.int
        j: cython.int
        lost: cython.int
        if self.factored:
            return 0
        self.row.clear()  # its values carry the weights over
        for i in range(self.m):
            self.row.value[self.head[i]] = self.weight[i]
        lost = self.factor.factor(self.head, self.n, self.ap, self.ai, self.ax)
        if lost:
            for j in range(self.total):
                self.place[j] = -1
            for i in range(self.m):
                self.place[self.head[i]] = i
            for j in range(self.total):
                if self.place[j] >= 0:
                    if self.code[j] != BASIC:
                        self.row.value[j] = 1.0
                    self.code[j] = BASIC
                elif self.code[j] == BASIC:
                    self.row.value[j] = 0.0
                    self.settle(j)
        for i in range(self.m):
            j = self.head[i]
            self.place[j] = i
            self.weight[i] = self.row.value[j]
            self.row.value[j] = 0.0
        self.row.count = 0
        self.refactorings += 1
        self.factored = True
        self.factor_fill = self.factor.fill
        return lost

    def least_gain(self):
        """Return what the costs' sum must change by at least for more than rounding to have moved it."""
        j: cython.int
        size: cython.double = 0.0
        for j in range(self.total):
            size += abs(self.cost[j] * self.x[j])
        return ROUNDED * size

    def settle_at_bound(self, j):
        """Put variable ``j`` at the bound nearest to its value."""
        self.settle(j)

    def settle(self, j):
        """Put variable ``j`` out of the basis, at the bound nearest to its value."""
        if self.lower[j] > -INFINITY and (
            self.upper[j] == INFINITY or self.x[j] - self.lower[j] <= self.upper[j] - self.x[j]
        ):
            self.x[j] = self.lower[j]
            self.code[j] = AT_LOWER
        elif self.upper[j] < INFINITY:
            self.x[j] = self.upper[j]
            self.code[j] = AT_UPPER
        else:
            self.x[j] = 0.0
            self.code[j] = FREE

    def due(self):
        """Say whether the factors have aged so much that new ones cost less.

        That is when the mean work of an iteration, that of the last renewal included, begins to rise.
        """
        mean: cython.double
        if self.factor.updates >= MAX_UPDATES:
            return True
        if self.factor.fill > 3 * self.factor_fill + 4 * self.m + 1000:
            return True
        if self.factor.updates < 20 or self.factor.updates % 10:
            return False
        mean = cython.cast(cython.double, self.renewal + self.work() - self.renewed) / self.factor.updates
        if self.cheapest == 0.0 or mean < self.cheapest:
            self.cheapest = mean
        return mean > 1.02 * self.cheapest

    def start_ageing(self, begin):
        """Note that the factors were renewed, with the work done since ``begin``."""
        self.renewed = self.work()
        self.renewal = self.renewed - begin
        self.cheapest = 0.0

    def work(self):
        """Return the entries touched so far, the measure of a kernel's budget."""
        return self.touched + self.factor.touched

    def load(self, j, v):
        """Set ``v`` to the column of variable ``j``."""
        v.clear()
        self.add_column(j, 1.0, v)

    def add_column(self, j, factor, v):
        """Add a multiple of the column of variable ``j`` to ``v``."""
        k: cython.int
        if j >= self.n:
            v.push(j - self.n, -factor)
        else:
            for k in range(self.ap[j], self.ap[j + 1]):
                v.push(self.ai[k], factor * self.ax[k])
            self.touched += self.ap[j + 1] - self.ap[j]

    def price(self, rho, row):
        """Set ``row`` to ``rho' [A, -I]``: over all variables, or all but the basic ones if rho is dense."""
        i: cython.int
        j: cython.int
        k: cython.int
        e: cython.int
        count: cython.int = 0
        m: cython.int = self.m
        n: cython.int = self.n
        y: cython.double
        total: cython.double
        result: cython.double[::1] = row.value
        places: cython.int[::1] = row.index
        value: cython.double[::1] = rho.value
        starts: cython.int[::1] = self.rp
        index: cython.int[::1] = self.rj
        factor: cython.double[::1] = self.rx
        row.clear()
        if rho.count < 0.3 * m:
            for k in range(rho.count):
                i = rho.index[k]
                y = value[i]
                self.touched += starts[i + 1] - starts[i]
                if self.uniform[i] != 0.0:
                    count = self._price_uniform(i, y * self.uniform[i], row, count)
                    continue
                for e in range(starts[i], starts[i + 1]):
                    j = index[e]
                    total = result[j]
                    places[count] = j  # kept if it is new; without a branch, which would guess wrongly
                    count += total == 0.0
                    total += y * factor[e]
                    # what cancels keeps a trace, so that it is not listed twice
                    result[j] = total if total != 0.0 else 1e-100
        else:
            starts = self.ap
            index = self.ai
            factor = self.ax
            for j in range(n):
                if self.place[j] >= 0:
                    continue
                total = 0.0
                for e in range(starts[j], starts[j + 1]):
                    total += value[index[e]] * factor[e]
                if total != 0.0:
                    result[j] = total
                    places[count] = j
                    count += 1
            self.touched += starts[n]
        for k in range(rho.count):
            i = rho.index[k]
            result[n + i] = -value[i]
            places[count] = n + i
            count += 1
        row.count = count

    def _price_uniform(self, i, y, row, count):
        """Add ``y`` at all entries of row ``i``, whose values need not be read."""
        j: cython.int
        e: cython.int
        total: cython.double
        result: cython.double[::1] = row.value
        places: cython.int[::1] = row.index
        index: cython.int[::1] = self.rj
        for e in range(self.rp[i], self.rp[i + 1]):
            j = index[e]
            total = result[j]
            places[count] = j
            count += total == 0.0
            total += y
            result[j] = total if total != 0.0 else 1e-100
        return count

    def compute_primal(self):
        """Compute the basic values from the nonbasic ones, with one step of refinement."""
        i: cython.int
        j: cython.int
        k: cython.int
        again: cython.int
        x: cython.double
        for i in range(self.m):
            self.x[self.head[i]] = 0.0
        for again in range(2):
            self.aux.clear()
            for j in range(self.n):
                x = self.x[j]
                if x != 0.0:
                    for k in range(self.ap[j], self.ap[j + 1]):
                        self.aux.value[self.ai[k]] -= self.ax[k] * x
            for i in range(self.m):
                self.aux.value[i] += self.x[self.n + i]
            self.aux.gather()
            self.factor.forward(self.aux, False)
            for k in range(self.aux.count):
                i = self.aux.index[k]
                self.x[self.head[i]] += self.aux.value[i]
        self.aux.clear()
        self.touched += 2 * (self.ap[self.n] + self.m)

    def compute_dual(self, cost):
        """Compute all reduced costs of ``cost`` from the basis."""
        i: cython.int
        j: cython.int
        k: cython.int
        total: cython.double
        y: cython.double[::1] = self.aux.value
        d: cython.double[::1] = self.d
        place: cython.int[::1] = self.place
        starts: cython.int[::1] = self.ap
        index: cython.int[::1] = self.ai
        factor: cython.double[::1] = self.ax
        self.aux.clear()
        for i in range(self.m):
            y[i] = cost[self.head[i]]
        self.aux.gather()
        self.factor.backward(self.aux, False)
        for j in range(self.n):
            total = cost[j]
            for k in range(starts[j], starts[j + 1]):
                total -= y[index[k]] * factor[k]
            d[j] = 0.0 if place[j] >= 0 else total
        for i in range(self.m):
            d[self.n + i] = 0.0 if place[self.n + i] >= 0 else cost[self.n + i] + y[i]
        self.aux.clear()
        self.touched += starts[self.n] + self.total

    def exchange(self, p, q, r):
        """Make ``q`` basic at position ``p`` in place of ``r``, whose code the caller has set."""
        self.factored = False
        self.head[p] = q
        self.place[q] = p
        self.place[r] = -1
        self.code[q] = BASIC
        self.iterations += 1


_DRAWN = [np.empty(0)]


def _draws(count):
    """Return the first numbers of a fixed sequence, drawn once for all cores."""
    if len(_DRAWN[0]) < count:
        _DRAWN[0] = np.random.default_rng(20).uniform(0.5, 1.0, count + count // 4)
    return _DRAWN[0][:count]
