# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""A way from a plan to better ones: small parts of it are undone and mended again (Schrimpf and others 2000)."""

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

if cython.compiled:
    from cython.cimports.ruddock.engine.tree.jump import Jump
else:
    from ruddock.engine.tree.jump import Jump

SMALL = cython.declare(cython.double, 1e-9)  # of the objective: less is not better
MOST_UNDONE = cython.declare(cython.int, 30)  # jumps that are undone at once
LOOKED_AT = cython.declare(cython.int, 400)  # entries of a row that are looked at for more of them
MENDS = cython.declare(cython.int, 20)  # jumps that mend what one of them breaks, at most


class Mending(Jump):
    """Jumps that undo parts of the last plan, then those that mend it; what comes of it stays where it is no worse."""

    def improve(self, budget):
        """Undo parts of a plan and mend them again, for some work; say whether the plan has become better."""
        end: cython.longlong = self.touched + budget
        best: cython.double
        mended: cython.bint
        with cython.nogil:
            self.greedy = False
            self._go_back()
            self._list_good()
            best = self.kept_value
            while self.touched < end and self.dear_count > 0:
                mended = self._mend(self._undo(1 + self._draw(MOST_UNDONE)))
                if mended:
                    self._descend()
                    mended = self.broken_count == 0
                if mended and self.value <= self.kept_value:
                    if self._is_better():
                        self._add_up()
                    self._keep_plan()
                else:
                    self._go_back()
                self.touched += 100
            self._go_back()
            self.touched = max(self.touched, end)  # also where there is nothing to undo
        return self.kept_value < best

    def _is_better(self):
        """Say whether the objective is better than that of the last plan, by more than rounding."""
        return self.value < self.kept_value - SMALL * abs(self.kept_value)

    def _undo(self, count):
        """Let dear columns near one another jump to where they cost less; return how many were asked for."""
        done: cython.int = 0
        j: cython.int = self.dear[self._draw(self.dear_count)]
        while j >= 0:
            self._move(j)
            if done == count:
                break
            done += 1
            j = self._another(j)
        return done

    def _another(self, j):
        """Return a dear column that is in a row with another one, or any; -1 where there is none."""
        f: cython.int
        i: cython.int
        k: cython.int
        first: cython.int
        length: cython.int
        looked: cython.int
        if self.cp[j] == self.cp[j + 1]:
            return -1
        i = self.ci[self.cp[j] + self._draw(self.cp[j + 1] - self.cp[j])]
        length = self.rp[i + 1] - self.rp[i]
        first = self._draw(length)
        looked = min(length, LOOKED_AT)
        self.touched += looked
        for f in range(looked):
            k = self.rj[self.rp[i] + (first + f) % length]
            if self.dear_at[k] >= 0 and k != j:
                return k
        return self.dear[self._draw(self.dear_count)] if self.dear_count > 0 else -1

    def _mend(self, count):
        """Let those columns jump that mend most for what they cost; say whether nothing is broken then."""
        k: cython.int
        for k in range(MENDS * count):
            if self.broken_count == 0 or self.good_count == 0:
                break
            self._move(self._best_mender())
        return self.broken_count == 0

    def _best_mender(self):
        """Return the column whose jump mends most for what it costs; there must be one."""
        k: cython.int
        worth: cython.double
        chosen: cython.int = self.good[0]
        most: cython.double = self._worth(chosen)
        for k in range(1, self.good_count):
            worth = self._worth(self.good[k])
            if worth > most:
                most = worth
                chosen = self.good[k]
        self.touched += 10 + self.good_count
        return chosen
