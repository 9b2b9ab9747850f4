# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""What a basis is worth on the problem as it is, not as it was scaled: values, residuals, and what dual values prove.

Any dual values give a lower bound of the objective, by the limits on whose side they stand (Neumaier and Shcherbina
2004). So a basis that is optimal only within a tolerance is told from one that is optimal: by how far the bound stays
below the objective.
"""

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

if cython.compiled:
    from cython.cimports.ruddock.engine.simplex.constants import AT_LOWER, AT_UPPER, BASIC, FREE
else:
    from ruddock.engine.simplex.constants import AT_LOWER, AT_UPPER, BASIC, FREE

INFINITY = cython.declare(cython.double, float("inf"))
NOISE = cython.declare(cython.double, 1e-11)  # of all terms of a reduced cost: what is below is what rounding left
CANCELLED = cython.declare(cython.double, 1e-14)  # of all terms of a weighted sum: what cancelling leaves
SURE = cython.declare(cython.double, 1e-11)  # of all terms of a proof: what it must at least be off by
LOSS = cython.declare(cython.double, 4.0 * 2.0**-52)  # of all terms of a sum: what adding them up may lose


class Judge:
    """Judges bases of one problem.

    Parameters
    ----------
    columns : (starts, indices, values)
        The matrix by columns.
    row_lower, row_upper, lower, upper, costs : float arrays
        Kept, not copied: what changes in place counts from then on.

    Attributes
    ----------
    excess : float
        The most by which a value misses a limit, relative to limits beyond 1.
    wrong : float
        The most by which a dual value has the wrong sign for its side, relative to costs beyond 1.
    objective : float
    nearly : float
        The bound that the dual values prove if those that miss their sign where there is no limit were zero.
    endless : bool
        Whether there were such.
    """

    def __init__(self, columns, row_lower, row_upper, lower, upper, costs):
        self.ap, self.ai, self.ax = columns
        self.row_lower, self.row_upper = row_lower, row_upper
        self.lower, self.upper, self.costs = lower, upper, costs
        self.m, self.n = len(row_lower), len(lower)
        self.excess = self.wrong = self.objective = self.nearly = 0.0
        self.endless = False

    def values(self, x, units, codes, values, activity, noise):
        """Set column values and row activities in true units, those of columns at a limit to the limit itself.

        Parameters
        ----------
        x, units, codes : arrays, shape (n + m,)
            Scaled values, what 1 of them is, and basis codes.
        values, activity : arrays, shapes (n,) and (m,)
            Results; ``activity`` must be zero.
        noise : values nearer to a limit than this, in scaled units, are told as the limit
        """
        scaled: cython.double[::1] = x
        unit: cython.double[::1] = units
        code: cython.schar[::1] = codes
        value: cython.double[::1] = values
        total: cython.double[::1] = activity
        near: cython.double = noise
        with cython.nogil:
            self.weigh(scaled, unit, code, value, total, near)

    def weigh(self, scaled, unit, code, value, total, near):
        """Do what `values` does, for other kernels."""
        j: cython.int
        k: cython.int
        v: cython.double
        excess: cython.double = 0.0
        objective: cython.double = 0.0
        for j in range(self.n):
            v = scaled[j] * unit[j]
            if code[j] == AT_LOWER or abs(v - self.lower[j]) <= near * unit[j]:
                v = self.lower[j]
            elif code[j] == AT_UPPER or abs(v - self.upper[j]) <= near * unit[j]:
                v = self.upper[j]
            value[j] = v
            objective += self.costs[j] * v
            excess = max(excess, _excess(v, self.lower[j], self.upper[j]))
            if v != 0.0:
                for k in range(self.ap[j], self.ap[j + 1]):
                    total[self.ai[k]] += self.ax[k] * v
        for j in range(self.m):
            excess = max(excess, _excess(total[j], self.row_lower[j], self.row_upper[j]))
        self.excess = excess if excess == excess else INFINITY
        self.objective = objective

    def duals(self, y, codes, values, activity, reduced):
        """Set the reduced costs of dual values, and judge both.

        Parameters
        ----------
        y : array, shape (m,)
        codes : basis codes, shape (n + m,)
        values, activity : values of columns and rows: what counts where a dual is nothing but rounding
        reduced : array, shape (n,); result

        Both become exactly zero for what is in the basis.
        """
        dual: cython.double[::1] = y
        code: cython.schar[::1] = codes
        value: cython.double[::1] = values
        total: cython.double[::1] = activity
        d: cython.double[::1] = reduced
        with cython.nogil:
            self.price(dual, code, value, total, d)

    def price(self, dual, code, value, total, d):
        """Do what `duals` does, for other kernels."""
        j: cython.int
        k: cython.int
        price: cython.double
        size: cython.double
        self.wrong = 0.0
        self.nearly = 0.0
        self.terms = 0.0
        self.endless = False
        for j in range(self.n):
            price = self.costs[j]
            size = abs(price)
            for k in range(self.ap[j], self.ap[j + 1]):
                price -= self.ax[k] * dual[self.ai[k]]
                size += abs(self.ax[k] * dual[self.ai[k]])
            d[j] = price
            self._add(price, size, max(1.0, abs(self.costs[j])), code[j], self.lower[j], self.upper[j], value[j])
            if code[j] == BASIC:
                d[j] = 0.0
        for j in range(self.m):
            price = dual[j]
            self._add(price, abs(price), 1.0, code[self.n + j], self.row_lower[j], self.row_upper[j], total[j])
            if code[self.n + j] == BASIC:
                dual[j] = 0.0
        self.nearly -= LOSS * self.terms

    def contradicts(self, weights):
        """Say whether the weighted sum of rows contradicts the bounds of columns, with room for rounding.

        Parameters
        ----------
        weights : float array, shape (m,)
        """
        weight: cython.double[::1] = weights
        return self.refutes(weight)

    def refutes(self, weight):
        """Do what `contradicts` does, for other kernels."""
        i: cython.int
        j: cython.int
        k: cython.int
        a: cython.double
        sum: cython.double
        size: cython.double
        side: cython.double
        demand: cython.double = 0.0  # what the rows ask for, and what the columns can give
        supply: cython.double = 0.0
        terms: cython.double = 0.0
        for i in range(self.m):
            if weight[i] == 0.0:
                continue
            side = self.row_lower[i] if weight[i] > 0.0 else self.row_upper[i]
            demand += weight[i] * side
            terms += abs(weight[i] * side)
        for j in range(self.n):
            sum = 0.0
            size = 0.0
            for k in range(self.ap[j], self.ap[j + 1]):
                a = self.ax[k] * weight[self.ai[k]]
                sum += a
                size += abs(a)
            if abs(sum) <= CANCELLED * size:
                continue
            side = self.upper[j] if sum > 0.0 else self.lower[j]
            supply += sum * side
            terms += abs(sum * side)
        # where anything is without limit, neither side is finite
        return -INFINITY < demand < INFINITY and terms < INFINITY and demand - supply > SURE * terms

    def _add(self, price, size, scale, code, lower, upper, value):
        """Add what one dual value proves."""
        wrong: cython.double = 0.0
        side: cython.double
        if lower < upper:
            if code == AT_LOWER:
                wrong = -price
            elif code == AT_UPPER:
                wrong = price
            elif code == FREE:
                wrong = abs(price)
            self.wrong = max(self.wrong, wrong / scale)
        if price == 0.0:
            return
        side = value
        if abs(price) > NOISE * size:
            side = lower if price > 0.0 else upper
            if side == INFINITY or side == -INFINITY:
                self.endless = True
                side = value
        self.nearly += price * side
        self.terms += abs(price * side)


def _excess(value, lower, upper):
    """Return by how much a value misses a limit, relative to limits beyond 1; NaN if it is none."""
    excess: cython.double = 0.0
    if value < lower:
        excess = (lower - value) / max(1.0, abs(lower))
    elif value > upper:
        excess = (value - upper) / max(1.0, abs(upper))
    elif value != value:
        excess = INFINITY
    return excess
