# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""Bound propagation: what rows imply for the bounds of their columns, from row to row until nothing moves.

Activities of a row are added up anew whenever it is looked at, so that no rounding piles up; what rounding they
have is paid for by every bound taken from them. Bounds of integer columns become whole; those of continuous ones
move only by a good part of what they leave. Whatever moves is noted on a trail, so that a trial is undone at the
cost of what it moved.

Of a group of binary columns, exactly one is 1. Where a row has all columns of a group, the group counts for its least
and its most coefficient, not for the sum of all: so a row knows what the period, place or mode takes at least that must
be chosen for a thing.
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

if cython.compiled:
    from cython.cimports.libc.math import floor
else:
    from math import floor

from ruddock.engine.simplex.room import grown

INFINITY = cython.declare(cython.double, float("inf"))
IMPOSSIBLE = cython.declare(cython.int, 1)  # -1 tells of an exception
HELD = cython.declare(cython.int, 2)  # of a column whose bounds are not to move
OPEN = cython.declare(cython.int, 1)  # a group of the row at hand
CHOSEN = cython.declare(cython.int, 2)  # a group one of whose columns is 1
NEAR = cython.declare(cython.double, 1e-6)  # whole numbers are rounded with this much room
SHARE = cython.declare(cython.double, 0.05)  # of a continuous column's range that a bound must move by
EPSILON = cython.declare(cython.double, 4.0 * 2.0**-52)  # of all terms of a sum: what adding them up may lose
NEGLIGIBLE = cython.declare(cython.double, 1e-11)  # error of a bound, far within every tolerance
MOST_ERROR = cython.declare(cython.double, 0.1)  # of a bound, beyond which it is not taken
HUGE = cython.declare(cython.double, 1e8)  # continuous bounds beyond this are not implied: they help nobody


class Propagator:
    """Rows of a problem, ready to be propagated.

    Parameters
    ----------
    m, n : int
    rows, columns : (starts, indices, values)
        The matrix by rows and by columns; int32, int32, float64.
    row_lower, row_upper : float arrays, shape (m,)
        Kept, not copied: limits changed in place count from then on.
    whole : int8 array, shape (n,)
        Which columns are integer; kept.
    groups : (of, starts, numbers)
        The group of each column, -1 for none; and for each row the groups that it has all columns of, some with
        coefficients of zero.
    """

    def __init__(self, m, n, rows, columns, row_lower, row_upper, whole, groups):
        self.m, self.n = m, n
        self.rp, self.rj, self.rx = rows
        self.cp, self.ci, _ = columns
        self.row_lower, self.row_upper = row_lower, row_upper
        self.whole = whole
        self.of, self.gp, self.gg = groups
        count = int(np.max(self.of, initial=-1)) + 1
        self.least_of, self.most_of = np.zeros(count + 1), np.zeros(count + 1)
        self.listed = np.zeros(count + 1, dtype=np.int8)
        self.queue = np.zeros(m + 1, dtype=np.int32)
        self.queued = np.zeros(m + 1, dtype=np.int8)
        self.moved = np.zeros(n + 1, dtype=np.int32)
        self.is_moved = np.zeros(n + 1, dtype=np.int8)
        self.count = 0
        self.first = self.last = self.waiting = 0
        self.work = 0
        self.noted = 0
        self.past = np.zeros(256, dtype=np.int32)
        self.past_low, self.past_high = np.zeros(256), np.zeros(256)

    def hold(self, columns):
        """Leave the bounds of some columns as they are from now on."""
        held: cython.int[::1] = columns
        k: cython.int
        for k in range(held.shape[0]):
            self.whole[held[k]] = HELD

    def forget(self):
        """Forget what was noted: it is not to be undone."""
        self.noted = 0

    def fix(self, lower, upper, column, low, high):
        """Give a column other bounds; these are noted on the trail."""
        below: cython.double[::1] = lower
        above: cython.double[::1] = upper
        j: cython.int = column
        self._note(j, below, above)
        below[j] = low
        above[j] = high

    def undo(self, lower, upper, mark):
        """Take back all that was noted on the trail since ``noted`` was ``mark``."""
        below: cython.double[::1] = lower
        above: cython.double[::1] = upper
        least: cython.int = mark
        j: cython.int
        while self.noted > least:
            self.noted -= 1
            j = self.past[self.noted]
            below[j] = self.past_low[self.noted]
            above[j] = self.past_high[self.noted]

    def run(self, lower, upper, columns, budget):
        """Propagate from some columns whose bounds moved; the bounds are changed in place.

        What moves is noted on the trail, from where it stands: `forget` it where nothing is to be undone.

        Parameters
        ----------
        lower, upper : float arrays, shape (n,)
        columns : int32 array, or None for all rows
        budget : entries to look at, at most

        Returns
        -------
        -1 if a row cannot be met, else how many columns moved; `moved` holds their numbers

        Raises
        ------
        MemoryError
            If there is no room for the trail.
        """
        low: cython.double[::1] = lower
        high: cython.double[::1] = upper
        given: cython.int[::1]
        count: cython.int
        most: cython.longlong = budget
        result: cython.int
        if columns is None:
            with cython.nogil:
                result = self.follow(low, high, self.moved, -1, most)
        else:
            given = columns
            count = given.shape[0]
            with cython.nogil:
                result = self.follow(low, high, given, count, most)
        return result

    def follow(self, low, high, columns, count, budget):
        """Do the same for the first so many columns of a list, or for all rows; for other kernels."""
        i: cython.int
        k: cython.int
        result: cython.int = 0
        end: cython.longlong = self.work + budget
        self.first = self.last = self.waiting = 0
        for k in range(count):
            self._enqueue_rows(columns[k])
        if count < 0:
            for i in range(self.m):
                self._enqueue(i)
        for k in range(self.count):
            self.is_moved[self.moved[k]] = 0
        self.count = 0
        while self.waiting > 0:
            i = self.queue[self.first]
            self.first += 1
            if self.first == self.m:
                self.first = 0
            self.waiting -= 1
            self.queued[i] = 0
            if result == 0 and self.work < end:
                self._list(i, OPEN)
                if self._row(i, low, high) == IMPOSSIBLE:
                    result = -1
                self._list(i, 0)
        return result if result < 0 else self.count

    def _note(self, j, low, high):
        """Note the present bounds of a column on the trail."""
        if self.noted == self.past.shape[0]:
            self._grow()
        self.past[self.noted] = j
        self.past_low[self.noted] = low[j]
        self.past_high[self.noted] = high[j]
        self.noted += 1

    def _grow(self):
        """Make room on the trail."""
        used: cython.int = self.noted
        low, high, columns = grown(self.past_low, used, 1), grown(self.past_high, used, 1), grown(self.past, used, 1)
        self.past_low = low
        self.past_high = high
        self.past = columns  # the last: its length tells of the room

    def _tell(self, j):
        """Write down that a column has moved, and have its rows looked at."""
        if not self.is_moved[j]:
            self.is_moved[j] = 1
            self.moved[self.count] = j
            self.count += 1
        self._enqueue_rows(j)

    def _enqueue(self, i):
        if not self.queued[i]:
            self.queued[i] = 1
            self.queue[self.last] = i
            self.last += 1
            if self.last == self.m:
                self.last = 0
            self.waiting += 1

    def _enqueue_rows(self, j):
        k: cython.int
        for k in range(self.cp[j], self.cp[j + 1]):
            self._enqueue(self.ci[k])

    def _row(self, i, low, high):
        """Propagate one row; say whether it cannot be met."""
        k: cython.int
        j: cython.int
        a: cython.double
        part: cython.double
        other: cython.double
        least: cython.double = 0.0
        most: cython.double = 0.0
        widest: cython.double = 0.0  # most that one column changes the row by
        loss: cython.double
        above: cython.bint
        below: cython.bint
        unknown_least: cython.int = 0
        unknown_most: cython.int = 0
        limit_low: cython.double = self.row_lower[i]
        limit_high: cython.double = self.row_upper[i]
        tolerance: cython.double
        if limit_low == -INFINITY and limit_high == INFINITY:
            return 0  # as the objective, until there is a plan
        self.work += 2 * (self.rp[i + 1] - self.rp[i])
        for k in range(self.rp[i], self.rp[i + 1]):
            j = self.rj[k]
            a = self.rx[k]
            if self._grouped(j):
                self._count(self.of[j], a, low[j], high[j])
                continue
            if a > 0.0:
                part = a * low[j]
                other = a * high[j]
            else:
                part = a * high[j]
                other = a * low[j]
            if part == -INFINITY:
                unknown_least += 1
            else:
                least += part
            if other == INFINITY:
                unknown_most += 1
            else:
                most += other
            widest = max(widest, other - part)
        for k in range(self.gp[i], self.gp[i + 1]):
            if self.least_of[self.gg[k]] == INFINITY:
                return 0  # none of it can be chosen: the row that says one must be will tell
            least += self.least_of[self.gg[k]]
            most += self.most_of[self.gg[k]]
            widest = max(widest, self.most_of[self.gg[k]] - self.least_of[self.gg[k]])
        above = limit_high < INFINITY and unknown_least <= 1 and least + widest > limit_high
        below = limit_low > -INFINITY and unknown_most <= 1 and most - widest < limit_low
        if not above and not below:
            return 0  # whatever one column does, the others leave it room
        if unknown_least == 0 and least > limit_high + NEAR:
            tolerance = NEAR * self._size(i, low, high, False)
            if least > limit_high + tolerance:
                return IMPOSSIBLE
        if unknown_most == 0 and most < limit_low - NEAR:
            tolerance = NEAR * self._size(i, low, high, False)
            if most < limit_low - tolerance:
                return IMPOSSIBLE
        loss = EPSILON * self._size(i, low, high, True)
        if above and (unknown_most > 0 or most > limit_high):
            for k in range(self.rp[i], self.rp[i + 1]):
                j = self.rj[k]
                a = self.rx[k]
                if self._grouped(j):
                    if unknown_least == 0 and a > self.least_of[self.of[j]] + self._margin(a, loss, limit_high) + (
                        limit_high - least
                    ):
                        self._close(j, low, high)
                    continue
                part = a * (low[j] if a > 0.0 else high[j])
                if unknown_least == 1:
                    if part != -INFINITY:
                        continue
                    part = 0.0
                part = (limit_high - (least - part)) / a
                if (
                    self._tighten(j, a > 0.0, part, (loss + EPSILON * abs(limit_high)) / abs(a), low, high)
                    == IMPOSSIBLE
                ):
                    return IMPOSSIBLE
        if below and (unknown_least > 0 or least < limit_low):
            for k in range(self.rp[i], self.rp[i + 1]):
                j = self.rj[k]
                a = self.rx[k]
                if self._grouped(j):
                    if unknown_most == 0 and a < self.most_of[self.of[j]] - self._margin(a, loss, limit_low) - (
                        most - limit_low
                    ):
                        self._close(j, low, high)
                    continue
                # the bounds above may have moved this entry's part, so both sums are of the old bounds: still valid
                part = a * (high[j] if a > 0.0 else low[j])
                if unknown_most == 1:
                    if part != INFINITY:
                        continue
                    part = 0.0
                part = (limit_low - (most - part)) / a
                if self._tighten(j, a < 0.0, part, (loss + EPSILON * abs(limit_low)) / abs(a), low, high) == IMPOSSIBLE:
                    return IMPOSSIBLE
        return 0

    def _list(self, i, state):
        """Open the groups of a row, or forget them."""
        k: cython.int
        for k in range(self.gp[i], self.gp[i + 1]):
            self.listed[self.gg[k]] = state
            self.least_of[self.gg[k]] = INFINITY
            self.most_of[self.gg[k]] = -INFINITY

    def _grouped(self, j):
        """Say whether a column belongs to a group of the row at hand."""
        return self.of[j] >= 0 and self.listed[self.of[j]] != 0

    def _count(self, g, a, low, high):
        """Count a column of a group: the one that is 1, or else all that may be."""
        if self.listed[g] == CHOSEN or high < 0.5:
            return
        if low > 0.5:
            self.listed[g] = CHOSEN
            self.least_of[g] = self.most_of[g] = a
        else:
            self.least_of[g] = min(self.least_of[g], a)
            self.most_of[g] = max(self.most_of[g], a)

    def _margin(self, a, loss, limit):
        """Return by how much a row must be missed before a column of a group is closed."""
        return NEAR * max(1.0, abs(a)) + loss + EPSILON * abs(limit)

    def _close(self, j, low, high):
        """Close a column of a group that may still be 1."""
        if self.whole[j] == HELD or low[j] > 0.5 or high[j] < 0.5:
            return 0
        self._note(j, low, high)
        high[j] = 0.0
        self._tell(j)
        return 0

    def _size(self, i, low, high, added):
        """Return the size of the terms of a row that are finite: the largest and 1, or added up."""
        k: cython.int
        part: cython.double
        other: cython.double
        largest: cython.double = 1.0
        total: cython.double = 0.0
        for k in range(self.rp[i], self.rp[i + 1]):
            part = abs(self.rx[k] * low[self.rj[k]])
            other = abs(self.rx[k] * high[self.rj[k]])
            if part < INFINITY:
                largest = max(largest, part)
                total += part
            if other < INFINITY:
                largest = max(largest, other)
                total += other
        return total if added else largest

    def _tighten(self, j, upper, bound, error, low, high):
        """Take a bound, wrong by ``error`` at most, if it is better by enough; say whether it crosses the other."""
        room: cython.double = high[j] - low[j]
        if self.whole[j] == HELD:
            return 0
        if bound != bound or bound == INFINITY or bound == -INFINITY:
            return 0
        if error > MOST_ERROR * (1.0 if self.whole[j] else max(1.0, abs(bound))):
            return 0
        if error < NEGLIGIBLE * max(1.0, abs(bound)):
            error = 0.0
        if upper:
            bound += error
            if self.whole[j]:
                bound = floor(bound + NEAR)
                if bound >= high[j]:
                    return 0
            else:
                if bound > HUGE or bound >= high[j] - 1e-9:
                    return 0
                if high[j] < INFINITY and high[j] - bound < SHARE * max(room, 1e-3) and bound >= low[j]:
                    return 0
            if bound < low[j]:
                if bound < low[j] - NEAR * max(1.0, abs(bound)):
                    return IMPOSSIBLE
                if high[j] == low[j]:
                    return 0  # there already: no move, so rows are not looked at again
                bound = low[j]
            self._note(j, low, high)
            high[j] = bound
        else:
            bound -= error
            if self.whole[j]:
                bound = -floor(NEAR - bound)
                if bound <= low[j]:
                    return 0
            else:
                if bound < -HUGE or bound <= low[j] + 1e-9:
                    return 0
                if low[j] > -INFINITY and bound - low[j] < SHARE * max(room, 1e-3) and bound <= high[j]:
                    return 0
            if bound > high[j]:
                if bound > high[j] + NEAR * max(1.0, abs(bound)):
                    return IMPOSSIBLE
                if high[j] == low[j]:
                    return 0
                bound = high[j]
            self._note(j, low, high)
            low[j] = bound
        self._tell(j)
        return 0


def tighten_coefficients(rows, row_lower, row_upper, lower, upper, whole):
    """Shrink coefficients of integer columns in rows with one limit, in place; return how many changed.

    Where a row only limits anything once an integer column is at its bound, its coefficient and the limit
    move by what there is too much: whole values allow the same, fractions less (Savelsbergh 1994).
    """
    rp: cython.int[::1] = rows[0]
    rj: cython.int[::1] = rows[1]
    rx: cython.double[::1] = rows[2]
    limit_low: cython.double[::1] = row_lower
    limit_high: cython.double[::1] = row_upper
    low: cython.double[::1] = lower
    high: cython.double[::1] = upper
    is_whole: cython.schar[::1] = whole
    i: cython.int
    j: cython.int
    k: cython.int
    sign: cython.double
    a: cython.double
    most: cython.double
    limit: cython.double
    spare: cython.double
    step: cython.double
    terms: cython.double
    changed: cython.int = 0
    for i in range(limit_low.shape[0]):
        if (limit_low[i] > -INFINITY) == (limit_high[i] < INFINITY):
            continue
        sign = 1.0 if limit_high[i] < INFINITY else -1.0
        limit = limit_high[i] if sign > 0.0 else -limit_low[i]
        most = 0.0
        terms = abs(limit)
        for k in range(rp[i], rp[i + 1]):
            a = sign * rx[k]
            most += a * (high[rj[k]] if a > 0.0 else low[rj[k]])
            terms += abs(a * (high[rj[k]] if a > 0.0 else low[rj[k]]))
        if not -INFINITY < most < INFINITY or most <= limit:
            continue
        for k in range(rp[i], rp[i + 1]):
            j = rj[k]
            if not is_whole[j] or low[j] >= high[j]:
                continue
            a = sign * rx[k]
            step = abs(a)
            spare = step - (most - limit)  # with the column one step from its bound, so much room is left
            if spare <= 1e-6 * max(1.0, step) or most - limit <= 1e-6 * max(1.0, step):
                continue
            if EPSILON * terms > 1e-6 * min(spare, most - limit):
                continue  # too much may have been lost in adding up
            if spare > step:
                continue
            # |a| shrinks by `spare`; the limit follows so that the row is the same at the bound
            if a > 0.0:
                rx[k] = sign * (a - spare)
                limit -= spare * high[j]
                most -= spare * high[j]
            else:
                rx[k] = sign * (a + spare)
                limit += spare * low[j]
                most += spare * low[j]
            changed += 1
        if sign > 0.0:
            limit_high[i] = limit
        else:
            limit_low[i] = -limit
    return changed
