# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""A search for plans without any relaxation: one column after another jumps to where weighted violations are least.

First those jump that mend most for what they cost. Rows that stay violated gain weight, so that the search leaves every
place where no jump helps (Luteberget and Sartor 2023). Of binary columns the value to jump to is the other one; of
others the best of those that mend a violated row. Once there is a plan, the objective has to become better than a
threshold, as one more row that gains weight; see `Mending` and `Exchange` for other ways on.
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

if cython.compiled:
    from cython.cimports.ruddock.engine.tree.ranking import Ranking
    from cython.cimports.ruddock.engine.tree.sides import Sides
else:
    from ruddock.engine.tree.ranking import Ranking
    from ruddock.engine.tree.sides import Sides

INFINITY = cython.declare(cython.double, float("inf"))
MASK = cython.declare(cython.ulonglong, 0xFFFFFFFFFFFFFFFF)
SMALL = cython.declare(cython.double, 1e-9)  # a violation below this is none
SAMPLE = cython.declare(cython.int, 25)  # columns that are compared before one jumps
HEAVIER = cython.declare(cython.int, 40)  # violated rows that gain weight at once
FREE = cython.declare(cython.double, 1e30)  # weighs what mends and costs nothing before all that does
MOST_PULL = cython.declare(cython.double, 1e50)  # that the objective gains
ROWS = cython.declare(cython.int, 6)  # violated rows that a column which is not binary is tried for
QUICK = cython.declare(cython.int, 8)  # entries that take as long as one does elsewhere, where nothing is listed
FIXED = cython.declare(cython.int, 0)  # columns that cannot jump, that have two values, and all others
BINARY = cython.declare(cython.int, 1)
OTHER = cython.declare(cython.int, 2)


def violation(low, high, activity):
    """Return by how much an activity misses the limits of a row."""
    if activity < low:
        return low - activity
    if activity > high:
        return activity - high
    return 0.0


class Jump:
    """The search.

    Parameters
    ----------
    columns : (starts, indices, values)
        The matrix by columns, its rows of about the same size.
    low, high : float arrays, limits of rows
    lower, upper : float arrays, finite bounds of columns
    whole : int8 array, which columns are integer
    cost : float array
    start : float array
    seed : int

    Attributes
    ----------
    kept : float array
        The last plan.
    touched : int
        Entries so far.
    """

    def __init__(self, columns, low, high, lower, upper, whole, cost, start, seed):
        self.cp, self.ci, self.cx = columns
        self.m, self.n = len(low), len(lower)
        self.low, self.high, self.lower, self.upper = low, high, lower, upper
        self.whole, self.cost = whole, cost
        two = (whole != 0) & (upper - lower < 1.5)
        self.x = np.where(two, np.where(start - lower > 0.5, upper, lower), start).astype(float)
        self.target, self.far = np.zeros(self.n), np.zeros(self.n)  # where to, and how far that is
        self.sort = np.where(lower >= upper, FIXED, np.where(two, BINARY, OTHER)).astype(np.int8)
        self.sides = Sides(columns, self.m, two & (upper - lower == 1.0), lower >= upper)
        self.rp, self.rj, self.rx = self.sides.starts, self.sides.indices, self.sides.values
        self.score = np.zeros(self.n)
        self.activity = np.zeros(self.m)
        self.weight = np.ones(self.m)
        self.reach = np.zeros(self.m)
        self.jumped, self.changed = np.zeros(self.n, np.int64), np.zeros(self.m, np.int64)  # by number of the jump
        self.good, self.good_at = np.zeros(self.n + 1, np.int32), np.full(self.n, -1, np.int32)
        self.broken, self.broken_at = np.zeros(self.m + 1, np.int32), np.full(self.m, -1, np.int32)
        self.dear, self.dear_at = np.zeros(self.n + 1, np.int32), np.full(self.n, -1, np.int32)
        self.kept = self.x.copy()
        self.moved, self.moved_at = np.zeros(self.n + 1, np.int32), np.full(self.n, -1, np.int32)
        self.ranking, self.greedy, self.listing = Ranking(self.n), True, True
        self.good_count = self.broken_count = self.dear_count = self.moved_count = 0
        self.aim = float("inf")
        self.pull = 1.0 / max(1e-12, np.abs(np.asarray(cost)).max(initial=0.0))
        self.value, self.kept_value = 0.0, float("inf")
        self.random = 88172645463325252 + 7919 * seed
        self.touched = self.moves = 0
        self._begin()

    def _begin(self):
        """Compute activities, violated rows and scores."""
        i: cython.int
        j: cython.int
        e: cython.int
        takes: cython.bint
        for j in range(self.n):
            for e in range(self.cp[j], self.cp[j + 1]):
                takes = (self.x[j] == self.upper[j]) == (self.cx[e] > 0.0)
                if takes and self.sort[j] == BINARY and self.sides.alike[self.ci[e]] != 0.0:
                    self.sides.turn(e, True)
        for i in range(self.m):
            for e in range(self.rp[i], self.rp[i + 1]):
                j = self.rj[e]
                self.activity[i] += self.rx[e] * self.x[j]
                self.reach[i] = max(self.reach[i], abs(self.rx[e]) * (self.upper[j] - self.lower[j]))
            self._mark(i)
        self._add_up()
        for j in range(self.n):
            self._rate(j)

    def run(self, budget):
        """Jump until there is a plan better than the aim, or for some work; say whether there is one."""
        end: cython.longlong = self.touched + budget
        found: cython.bint = False
        with cython.nogil:
            self._list_good()
            while self.touched < end:
                if self.broken_count == 0 and self.value <= self.aim:
                    self.greedy = False
                    self._descend()
                    self._add_up()
                    if self.value <= self.aim and self.broken_count == 0:
                        found = True
                        self._keep_plan()
                        break
                self._step()
        return found

    def hold(self):
        """Take where the search begins for the last plan, if it is one; say whether it is."""
        if self.broken_count == 0:
            self._keep_plan()
        return self.holds

    @property
    def holds(self):
        """Whether there is a last plan."""
        return self.kept_value < INFINITY

    def _keep_plan(self):
        """Keep the plan to go back to."""
        k: cython.int
        for k in range(self.moved_count):
            self.kept[self.moved[k]] = self.x[self.moved[k]]
            self.moved_at[self.moved[k]] = -1
        self.moved_count = 0
        self.kept_value = self.value

    def _go_back(self):
        """Take back all jumps since a plan was kept."""
        k: cython.int
        j: cython.int
        for k in range(self.moved_count):
            j = self.moved[k]
            if self.x[j] != self.kept[j]:
                self.target[j], self.far[j] = self.kept[j], self.kept[j] - self.x[j]
                self._move(j)
            self.moved_at[j] = -1
        self.moved_count = 0
        self.value = self.kept_value

    def _descend(self):
        """Let all columns jump that make the objective better and violate nothing."""
        j: cython.int
        k: cython.int = self.dear_count - 1
        while k >= 0:
            j = self.dear[k]
            if self.score[j] >= 0.0:
                self._move(j)
            k = min(k, self.dear_count) - 1
        self.touched += self.dear_count

    def _add_up(self):
        """Work out the objective anew: what many jumps added and took away is off by rounding."""
        j: cython.int
        self.value = 0.0
        for j in range(self.n):
            self.value += self.cost[j] * self.x[j]
        self.touched += self.n

    def better_than(self, aim):
        """Ask for plans of at most this objective from now on."""
        self.aim = aim

    # ------------------------------------------------------------------ pieces

    def _draw(self, count):
        """Return a random number below ``count``."""
        self.random = (self.random ^ (self.random << 13)) & MASK
        self.random ^= self.random >> 7
        self.random = (self.random ^ (self.random << 17)) & MASK
        return cython.cast(cython.int, (self.random >> 11) % cython.cast(cython.ulonglong, count))

    def _mark(self, i):
        """Keep the list of violated rows in line with a row's activity."""
        size: cython.double = 1.0 + abs(self.activity[i])
        listed: cython.bint = violation(self.low[i], self.high[i], self.activity[i]) > SMALL * size
        self.broken_count = self._keep(self.broken, self.broken_at, self.broken_count, i, listed)

    def _list_good(self):
        """List the columns whose jump gains something, where that list was not kept in line."""
        j: cython.int
        if self.listing:
            return
        self.listing = True
        for j in range(self.n):
            self._file(j)
        self.touched += self.n

    def _file(self, j):
        """Keep the list of columns whose jump gains something in line with a score, and their ranking by its price."""
        gains: cython.bint = self.score[j] > SMALL
        if not self.listing:
            return
        if gains and self.greedy:
            self.ranking.put(j, self._worth(j))
        elif not gains and self.ranking.count > 0:
            self.ranking.remove(j)
        if gains != (self.good_at[j] >= 0):
            self.good_count = self._keep(self.good, self.good_at, self.good_count, j, gains)

    def _worth(self, j):
        """Return what a column's jump gains for what it costs."""
        dear: cython.double = self.cost[j] * self.far[j]
        return self.score[j] / dear if dear > 0.0 else self.score[j] * FREE

    def _file_dear(self, j):
        """Keep the list of columns whose jump makes the objective better in line with where one would jump to."""
        listed: cython.bint = self.cost[j] * self.far[j] < 0.0
        self.dear_count = self._keep(self.dear, self.dear_at, self.dear_count, j, listed)

    def _keep(self, items, places, count, k, listed):
        """Put a number on a list, or take it off; return how many are on it then."""
        last: cython.int
        at: cython.int = places[k]
        if listed:
            if at < 0:
                places[k] = count
                items[count] = k
                count += 1
        elif at >= 0:
            count -= 1
            last = items[count]
            items[at] = last
            places[last] = at
            places[k] = -1
        return count

    def _gain(self, j, goal):
        """Return what the weighted violations fall by if a column jumps."""
        e: cython.int
        i: cython.int
        total: cython.double = 0.0
        step: cython.double = goal - self.x[j]
        for e in range(self.cp[j], self.cp[j + 1]):
            i = self.ci[e]
            total += self.weight[i] * (
                violation(self.low[i], self.high[i], self.activity[i])
                - violation(self.low[i], self.high[i], self.activity[i] + self.cx[e] * step)
            )
        self.touched += self.cp[j + 1] - self.cp[j]
        return total

    def _rate(self, j):
        """Find where a column would jump to, and what that gains."""
        e: cython.int
        i: cython.int
        tried: cython.int = 0
        goal: cython.double
        gain: cython.double
        self.target[j], self.far[j] = self.x[j], 0.0
        if self.sort[j] == FIXED:
            self.score[j] = -INFINITY
            return
        if self.sort[j] == BINARY:
            self.target[j] = self.upper[j] if self.x[j] < self.upper[j] - 0.5 else self.lower[j]
            self.far[j] = self.target[j] - self.x[j]
            self.score[j] = self._gain(j, self.target[j])
            self._file(j)
            self._file_dear(j)
            return
        self.score[j] = -INFINITY
        for e in range(self.cp[j], self.cp[j + 1]):
            i = self.ci[e]
            if self.broken_at[i] < 0 or tried >= ROWS:
                continue
            tried += 1
            if self.activity[i] < self.low[i]:
                goal = self.x[j] + (self.low[i] - self.activity[i]) / self.cx[e]
                goal = self._rounded(j, goal, self.cx[e] > 0.0)
            else:
                goal = self.x[j] + (self.high[i] - self.activity[i]) / self.cx[e]
                goal = self._rounded(j, goal, self.cx[e] < 0.0)
            if goal == self.x[j]:
                continue
            gain = self._gain(j, goal)
            if gain > self.score[j]:
                self.score[j] = gain
                self.target[j] = goal
        if tried == 0:
            goal = self.lower[j] if self.cost[j] > 0.0 else self.upper[j]
            if self.cost[j] != 0.0 and goal != self.x[j]:
                self.target[j] = goal
                self.score[j] = self._gain(j, goal)
        self.far[j] = self.target[j] - self.x[j]
        self._file(j)
        self._file_dear(j)

    def _rounded(self, j, goal, up):
        """Return a value within the bounds, of an integer column the next one on a side."""
        whole: cython.longlong
        if goal <= self.lower[j]:
            return self.lower[j]
        if goal >= self.upper[j]:
            return self.upper[j]
        if self.whole[j]:
            whole = cython.cast(cython.longlong, goal - self.lower[j])
            if up and self.lower[j] + whole < goal - 1e-9:
                whole += 1
            goal = self.lower[j] + whole
        return goal

    def _step(self):
        """Let one column jump; where no jump gains, give violated rows more weight first."""
        j: cython.int = -1
        if self.broken_count == 0:
            j = self._cheaper()
        elif self.greedy and self.ranking.count > 0:
            j = self.ranking.first()
        elif self.good_count > 0:
            j = self._best_good()
        else:
            self.greedy = False
            self._gain_weight()
            j = self._best_good() if self.good_count > 0 else self._best_of_row()
        if j >= 0 and self.far[j] != 0.0:
            self._move(j)
        self.touched += 10

    def _merit(self, j):
        """Return a score that takes the objective into account where it is to become better."""
        return self.score[j] - (self.pull if self.value > self.aim else 0.1 * self.pull) * self.cost[j] * self.far[j]

    def _best_good(self):
        """Return the best of a few columns whose jump gains something."""
        k: cython.int
        j: cython.int
        chosen: cython.int = self.good[self._draw(self.good_count)]
        best: cython.double = self._merit(chosen)
        merit: cython.double
        for k in range(min(SAMPLE, self.good_count) - 1):
            j = self.good[self._draw(self.good_count)]
            merit = self._merit(j)
            if merit > best:
                best = merit
                chosen = j
        self.touched += SAMPLE
        return chosen

    def _best_of_row(self):
        """Return the column whose jump costs least, of a violated row."""
        e: cython.int
        j: cython.int
        i: cython.int = self.broken[self._draw(self.broken_count)]
        chosen: cython.int = -1
        best: cython.double = -INFINITY
        merit: cython.double
        begin: cython.int = self.rp[i]
        count: cython.int = self.rp[i + 1] - begin
        if count == 0:
            return -1
        first: cython.int = self._draw(count)
        for e in range(min(count, 4 * SAMPLE)):
            j = self.rj[begin + (first + e) % count]
            if self.score[j] == -INFINITY:
                continue
            merit = self._merit(j)
            if merit > best:
                best = merit
                chosen = j
        self.touched += min(count, 4 * SAMPLE)
        return chosen

    def _cheaper(self):
        """Return a column that makes the objective better and violates little; the objective gains weight."""
        k: cython.int
        j: cython.int
        chosen: cython.int = -1
        best: cython.double = -INFINITY
        merit: cython.double
        self.pull = min(1.1 * self.pull, MOST_PULL)
        for k in range(min(self.dear_count, 4 * SAMPLE)):
            j = self.dear[self._draw(self.dear_count)]
            merit = self._merit(j)
            if merit > best:
                best = merit
                chosen = j
        self.touched += 4 * SAMPLE
        return chosen

    def _gain_weight(self):
        """Make violated rows heavier, some of them where there are many."""
        k: cython.int
        i: cython.int
        e: cython.int
        j: cython.int
        was: cython.bint
        missed: cython.double
        activity: cython.double
        more: cython.double
        rj: cython.int[::1] = self.rj  # a pointer each: what is written meanwhile does not move them
        rx: cython.double[::1] = self.rx
        far: cython.double[::1] = self.far
        score: cython.double[::1] = self.score
        for k in range(min(HEAVIER, self.broken_count)):
            i = self.broken[self._draw(self.broken_count)] if self.broken_count > HEAVIER else self.broken[k]
            self.weight[i] += 1.0
            activity = self.activity[i]
            missed = violation(self.low[i], self.high[i], activity)
            if self.sides.alike[i] != 0.0:
                more = missed - violation(self.low[i], self.high[i], activity - self.sides.alike[i])
                self._score_all(rj, score, self.rp[i], self.sides.middle[i], more)
                more = missed - violation(self.low[i], self.high[i], activity + self.sides.alike[i])
                self._score_all(rj, score, self.sides.middle[i], self.rp[i + 1], more)
                continue
            for e in range(self.rp[i], self.rp[i + 1]):
                j = rj[e]
                more = missed - violation(self.low[i], self.high[i], activity + rx[e] * far[j])
                if more != 0.0 and score[j] != -INFINITY:
                    was = score[j] > SMALL
                    score[j] += more
                    if self.listing and (self.greedy or was != (score[j] > SMALL)):
                        self._file(j)
            self.touched += self.rp[i + 1] - self.rp[i]

    def _score_all(self, rj, score, begin, end, more):
        """Change the scores of all columns on a side of a row."""
        f: cython.int
        k: cython.int
        was: cython.bint
        if more == 0.0:
            return
        if not self.listing:
            for f in range(begin, end):
                score[rj[f]] += more
            self.touched += 1 + (end - begin) // QUICK
            return
        self.touched += end - begin
        for f in range(begin, end):
            k = rj[f]
            was = score[k] > SMALL
            score[k] += more
            if self.greedy or was != (score[k] > SMALL):
                self._file(k)

    def _move(self, j):
        """Let a column jump, and bring the scores of its neighbours in line."""
        e: cython.int
        f: cython.int
        i: cython.int
        k: cython.int
        before: cython.double
        after: cython.double
        low: cython.double
        high: cython.double
        eased: cython.double
        alike: cython.double
        weight: cython.double
        more: cython.double
        step: cython.double
        was: cython.bint
        change: cython.double = self.far[j]
        rj: cython.int[::1] = self.rj  # as above
        rx: cython.double[::1] = self.rx
        far: cython.double[::1] = self.far
        score: cython.double[::1] = self.score
        sort: cython.schar[::1] = self.sort
        if self.moved_at[j] < 0:
            self.moved_at[j] = self.moved_count
            self.moved[self.moved_count] = j
            self.moved_count += 1
        self.value += self.cost[j] * change
        self.x[j] = self.target[j]
        self.moves += 1
        self.jumped[j] = self.moves
        for e in range(self.cp[j], self.cp[j + 1]):
            i = self.ci[e]
            before = self.activity[i]
            after = before + self.cx[e] * change
            self.activity[i] = after
            self.changed[i] = self.moves
            self._mark(i)
            low = self.low[i]
            high = self.high[i]
            alike = self.sides.alike[i]
            if alike != 0.0:
                self.sides.turn(e, change * self.cx[e] > 0.0)
            if min(before, after) - self.reach[i] >= low and max(before, after) + self.reach[i] <= high:
                continue  # far from its limits, whichever of its columns jumps
            eased, weight = violation(low, high, after) - violation(low, high, before), self.weight[i]
            if alike != 0.0:
                more = eased - violation(low, high, after - alike) + violation(low, high, before - alike)
                self._score_all(rj, score, self.rp[i], self.sides.middle[i], weight * more)
                more = eased - violation(low, high, after + alike) + violation(low, high, before + alike)
                self._score_all(rj, score, self.sides.middle[i], self.rp[i + 1], weight * more)
                self.touched += 2
                continue
            for f in range(self.rp[i], self.rp[i + 1]):
                k = rj[f]
                if sort[k] != BINARY:
                    if sort[k] == OTHER and k != j:
                        self._rate(k)
                    continue
                step = rx[f] * far[k]
                more = eased - violation(low, high, after + step) + violation(low, high, before + step)
                if more != 0.0 and k != j:
                    was = score[k] > SMALL
                    score[k] += weight * more
                    if self.listing and (self.greedy or was != (score[k] > SMALL)):
                        self._file(k)
            self.touched += self.rp[i + 1] - self.rp[i]
        self._rate(j)
