# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""The arithmetic of mixed-integer rounding, compiled: a sum of rows goes in, its best rounding comes out."""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

if cython.compiled:
    from cython.cimports.libc.math import floor, sqrt
else:
    from math import floor, sqrt

MOST_DIVISORS = cython.declare(cython.int, 8)  # tried for one sum
FINEST = cython.declare(cython.int, 3)  # halvings of the best divisor that are tried too
INSIDE = cython.declare(cython.double, 1e-6)  # distance from its bounds of a column whose coefficient may divide
LEAST_DIVISOR = cython.declare(cython.double, 1e-9)
SAME = cython.declare(cython.double, 1e9)  # divisors that agree to so many parts of one are one
AWAY = cython.declare(cython.double, 0.01)  # fractions nearer to a whole number than this round to weak cuts
BROKEN = cython.declare(cython.double, 1e-6)  # efficacy below which a rounding is none
LOST = cython.declare(cython.double, 1e-7)  # of a step, by which the limit of a rounded sum may be off


class Rounder:
    """Rounds sums of rows at one point of a relaxation; columns and rows as a `Frame` writes them.

    Parameters
    ----------
    sums : Sums
        Adds up the rows, and holds them.
    columns : tuple of arrays, shape (n,)
        ``whole``, ``usable``, ``endless`` (uint8), ``by`` (int32), ``slope``, ``base``, ``sign``, ``z`` and ``span``,
        what lies between the bounds.
    rows : tuple of arrays, shape (m,)
        ``whole_rows`` (uint8) and ``room``.
    loss : float
        Part of all terms of a limit that adding them up may lose.
    found, value : int32 and float arrays, shape (n,)
        Get the columns of a rounding, in no order, and coefficients by column, which hold for these alone.

    Attributes
    ----------
    right, size : float
        The limit of the last rounding, and what the terms of that add up to without their signs.
    """

    def __init__(self, sums, columns, rows, loss, found, value):
        self.sums = sums
        self.whole, self.usable, self.endless, self.by, self.slope, self.base, self.sign, self.z, self.span = columns
        self.whole_rows, self.room = rows
        self.loss = loss
        n = len(self.whole)
        m = len(self.whole_rows)
        self.found, self.value = found, value
        self.marked = np.zeros(n + 1, np.uint8)
        self.integers, self.rest = np.zeros(n + 1, np.int32), np.zeros(n + 1, np.int32)
        self.g, self.at = np.zeros(n + m + 1), np.zeros(n + m + 1)
        self.divisors = np.zeros(MOST_DIVISORS + 1)
        self.count = self.others = self.steps = 0
        self.right = self.size = self.negative = self.left_over = 0.0

    def round(self, by_one):
        """Round the last sum, ``values'x[columns] + slack'slacks of rows = limit``.

        Parameters
        ----------
        by_one : bool
            Whether it is divided by one, and whole slacks are rounded too, or by the best of its coefficients.

        Returns
        -------
        int
            How many columns were found; -1 where there is no rounding that the point breaks.
        """
        limit: cython.double = self.sums.limit
        terms: cython.double = self.sums.terms
        row: cython.int[::1] = self.sums.rows[: self.sums.open_count]
        weight: cython.double[::1] = self.sums.slack[: self.sums.open_count]
        good: cython.bint = self._gather(self.sums.columns[: self.sums.count], self.sums.values[: self.sums.count])
        k: cython.int
        divisor: cython.double = 0.0
        if good:
            for k in range(self.others):
                limit -= self.value[self.rest[k]] * self.base[self.rest[k]]
                terms += abs(self.value[self.rest[k]] * self.base[self.rest[k]])
            for k in range(self.count):
                limit -= self.value[self.integers[k]] * self.base[self.integers[k]]
                terms += abs(self.value[self.integers[k]] * self.base[self.integers[k]])
            limit += self.loss * terms  # rounded up: a larger limit holds too
            self._split(row, weight, by_one)
            divisor = self._divisor(limit, by_one)
        # where a step is much smaller than the terms, the fraction that everything hangs on is not known well enough
        good = divisor > 0.0 and self.loss * terms / divisor <= LOST
        if good:
            self._round_by(divisor, limit / divisor, row, weight, by_one)
        return self._hand_over(good)

    def _gather(self, item, own):
        """Write down columns and coefficients; whole ones get those of the columns that are tied to them, too."""
        k: cython.int
        j: cython.int
        good: cython.bint = True
        self.count = self.others = 0
        for k in range(item.shape[0]):
            j = item[k]
            good &= self.usable[j] != 0
            self._add(j, own[k])
        for k in range(self.others):
            j = self.rest[k]
            if self.by[j] >= 0:
                self._add(self.by[j], self.value[j] * self.slope[j])
        for k in range(self.count):
            good &= self.usable[self.integers[k]] != 0
        return good and self.count > 0

    def _add(self, j, amount):
        """Add to a column's coefficient, whether it is there already or not."""
        if not self.marked[j]:
            self.marked[j] = 1
            self.value[j] = 0.0
            if self.whole[j]:
                self.integers[self.count] = j
                self.count += 1
            else:
                self.rest[self.others] = j
                self.others += 1
        self.value[j] += amount

    def _split(self, row, weight, by_one):
        """Write down what steps, whole columns and whole slacks, and what only counts where it is negative."""
        k: cython.int
        j: cython.int
        self.negative = self.left_over = 0.0
        self.steps = self.count
        for k in range(self.count):
            j = self.integers[k]
            self.g[k], self.at[k] = self.value[j] * self.sign[j], self.z[j]
        for k in range(self.others):
            j = self.rest[k]
            self._take_negative(self.value[j] * self.sign[j], self.z[j])
        for k in range(row.shape[0]):
            if by_one and self.whole_rows[row[k]]:
                self.g[self.steps], self.at[self.steps] = weight[k], self.room[row[k]]
                self.steps += 1
            else:
                self._take_negative(weight[k], self.room[row[k]])

    def _take_negative(self, coefficient, z):
        if coefficient < 0.0:
            self.negative += coefficient * coefficient
            self.left_over += coefficient * z

    def _divisor(self, limit, by_one):
        """Return the divisor whose rounding the point breaks most; zero where it breaks none."""
        k: cython.int
        best: cython.double = BROKEN
        result: cython.double = 0.0
        efficacy: cython.double
        finer: cython.double
        several: cython.bint
        count: cython.int = 1
        tried: cython.int = 0
        if by_one:
            self.divisors[0] = 1.0
        else:
            count = self._sizes()
        several = count > 1
        for k in range(count):
            if self._fits(self.divisors[k], several):
                tried += 1
                efficacy = self._efficacy(self.divisors[k], limit)
                if efficacy > best:
                    best, result = efficacy, self.divisors[k]
        if result > 0.0 and tried > 1:
            finer = result
            for k in range(FINEST):
                finer *= 0.5
                efficacy = self._efficacy(finer, limit)
                if efficacy > best:
                    best, result = efficacy, finer
        return result

    def _sizes(self):
        """List sizes of coefficients of columns between their bounds, the largest values first; return how many."""
        k: cython.int
        t: cython.int
        place: cython.int
        size: cython.double
        new: cython.bint
        count: cython.int = 0
        while count < MOST_DIVISORS:
            place = -1
            for k in range(self.count):
                size = abs(self.g[k])
                if size <= LEAST_DIVISOR or self.at[k] <= INSIDE or self.at[k] >= self.span[self.integers[k]] - INSIDE:
                    continue
                if place >= 0 and self.at[k] <= self.at[place]:
                    continue
                new = True
                for t in range(count):
                    new &= floor(self.divisors[t] * SAME + 0.5) != floor(size * SAME + 0.5)
                if new:
                    place = k
            if place < 0:
                break
            self.divisors[count] = abs(self.g[place])
            count += 1
        return count

    def _fits(self, divisor, finer):
        """Say whether coefficients of endless columns become whole, by finer divisors too if asked."""
        k: cython.int
        t: cython.int
        ratio: cython.double
        for k in range(self.count):
            if not self.endless[self.integers[k]]:
                continue
            ratio = abs(self.g[k]) / divisor
            for t in range(FINEST + 1 if finer else 1):
                if ratio != floor(ratio):
                    return False
                ratio *= 2.0
        return True

    def _efficacy(self, divisor, limit):
        """Return how far the point is from a rounding, about."""
        beta: cython.double = limit / divisor
        f: cython.double = beta - floor(beta)
        step: cython.double
        broken: cython.double
        norm: cython.double
        weight: cython.double
        k: cython.int
        if not AWAY < f < 1.0 - AWAY:
            return 0.0
        weight = 1.0 / (divisor * (1.0 - f))
        broken = weight * self.left_over - floor(beta)
        norm = weight * weight * self.negative
        for k in range(self.steps):
            step = _step(self.g[k] / divisor, f)
            broken += step * self.at[k]
            norm += step * step
        return broken / (sqrt(norm) + 1e-9)

    def _round_by(self, divisor, beta, row, weight, by_one):
        """Round by a divisor, and go back to columns: ``z = sign (x - base - slope y)``, slacks by their rows."""
        f: cython.double = beta - floor(beta)
        part: cython.double = 1.0 / (divisor * (1.0 - f))
        amount: cython.double
        k: cython.int
        j: cython.int
        e: cython.int
        stepped: cython.int = self.count
        self.right, self.size = floor(beta), abs(beta)
        for k in range(self.count):
            j = self.integers[k]
            self.value[j] = _step(self.g[k] / divisor, f) * self.sign[j]
            self._count_limit(self.value[j] * self.base[j])
        for k in range(self.others):
            j = self.rest[k]
            amount = min(self.value[j] * self.sign[j], 0.0) * part * self.sign[j]
            self.value[j] = amount
            self._count_limit(amount * self.base[j])
            if self.by[j] >= 0:
                self.value[self.by[j]] -= amount * self.slope[j]
        for k in range(row.shape[0]):
            if by_one and self.whole_rows[row[k]]:
                amount = _step(self.g[stepped] / divisor, f)
                stepped += 1
            else:
                amount = min(weight[k], 0.0) * part
            if amount == 0.0:
                continue
            amount *= -self.sums.signs[row[k]]
            self._count_limit(amount * self.sums.limits[row[k]])
            for e in range(self.sums.starts[row[k]], self.sums.starts[row[k] + 1]):
                self._add(self.sums.indices[e], amount * self.sums.data[e])

    def _count_limit(self, term):
        self.right += term
        self.size += abs(term)

    def _hand_over(self, good):
        """List what was found, if anything; forget the rest."""
        k: cython.int
        for k in range(self.count):
            self.marked[self.integers[k]] = 0
            self.found[k] = self.integers[k]
        for k in range(self.others):
            self.marked[self.rest[k]] = 0
            self.found[self.count + k] = self.rest[k]
        return self.count + self.others if good else -1


def _step(g, f):
    """Return the rounding function of a coefficient."""
    # a coefficient a hair below a whole number counts as just that: a larger one of the sum, which holds for z >= 0,
    # would be wrong; a smaller one only makes the cut weaker
    down: cython.double = floor(g)
    return down + max(g - down - f, 0.0) / (1.0 - f)
