# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""One more solve by the dual method after bounds of columns changed, from where factors and values stand.

What nodes of a search do most. Nothing is computed afresh: bounds that moved are carried over, the dual method runs on
the factors as they are, and what comes of it is judged on the problem as it is. So an answer told here is proven, as
any other; where none is, the caller starts afresh.
"""

import numpy as np

from ruddock.engine import outcome

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

if cython.compiled:
    from cython.cimports.ruddock.engine.simplex.constants import BEYOND, DONE, INFEASIBLE, STUCK
    from cython.cimports.ruddock.engine.simplex.core import Core
    from cython.cimports.ruddock.engine.simplex.dual import DualSimplex
    from cython.cimports.ruddock.engine.simplex.judge import Judge
else:
    from ruddock.engine.simplex.constants import BEYOND, DONE, INFEASIBLE, STUCK
    from ruddock.engine.simplex.core import Core
    from ruddock.engine.simplex.dual import DualSimplex
    from ruddock.engine.simplex.judge import Judge

INFINITY = cython.declare(cython.double, float("inf"))
TRUSTED = cython.declare(cython.int, 40)  # updates of factors up to which a run ends without new ones
FEASIBILITY = cython.declare(cython.double, outcome.FEASIBILITY)
OPTIMALITY = cython.declare(cython.double, outcome.OPTIMALITY)
EQUAL = cython.declare(cython.double, outcome.EQUAL)
SMALL = cython.declare(cython.double, 1e-9)  # of the largest weight of a proof: what may be rounding


class HotStart:
    """Solves again what a `Core` holds.

    Parameters
    ----------
    core : Core
    dual : DualSimplex
    judge : Judge
    lower, upper : float arrays, shape (n,)
        Bounds of columns in true units; kept, not copied: what is changed in place counts from the next solve on.
    unit, rows : float arrays, shapes (n + m,) and (m,)
        What 1 of a scaled variable is, and the factors of rows.
    offset : float
        The constant of the objective.

    Attributes
    ----------
    x, activity, y, reduced : float arrays, shapes (n,), (m,), (m,) and (n,)
        Of the last optimum: values of columns and rows, dual values and reduced costs, in true units.
    objective, bound : float
        Of the last optimum; and what dual values prove, of an optimum or of what is beyond a cutoff.
    proof : float array, shape (m,)
        Weights of rows that prove the last infeasibility.
    """

    def __init__(self, core, dual, judge, lower, upper, unit, rows, offset):
        self.core, self.dual, self.judge = core, dual, judge
        self.lower, self.upper, self.unit, self.rows = lower, upper, unit, rows
        self.offset = offset
        self.x, self.reduced = np.zeros(core.n), np.zeros(core.n)
        self.activity, self.y, self.proof = np.zeros(core.m), np.zeros(core.m), np.zeros(core.m)
        self.objective = self.bound = 0.0

    def start(self, cost, far, afresh):
        """Take the bounds as they are now; say whether the basis is dual feasible within them.

        Parameters
        ----------
        cost : float array, shape (n + m,)
            True costs, scaled, for where the core's have been shifted.
        far : bounds of this size and more count as none
        afresh : whether the core has been given another basis, whose factors and numbers are to be computed
        """
        costs: cython.double[::1] = cost
        most: cython.double = far
        anew: cython.bint = afresh
        return self._start(costs, most, anew)

    def run(self, cost, cutoff, budget, limit):
        """Go on until an answer is proven, and return its code.

        Parameters
        ----------
        cost : float array, shape (n + m,)
        cutoff : objective beyond which nothing is of interest
        budget, limit : entries touched, and number of the last iteration, up to which it runs

        Returns
        -------
        int
            DONE, INFEASIBLE or BEYOND, each proven; GOING_ON at the end of the budget, AT_LIMIT, or STUCK.

        Raises
        ------
        MemoryError
            If there is no room for factors.
        """
        costs: cython.double[::1] = cost
        most: cython.double = cutoff
        touch: cython.longlong = budget
        last: cython.longlong = limit
        result: cython.int
        with cython.nogil:
            result = self._run(costs, most, touch, last)
        return result

    def _start(self, cost, far, afresh):
        if afresh:
            self.core.refactor()
        if afresh or self.core.cost_changed:
            self.core.reprice(cost)
        fits: cython.bint = self.core.rebound(self.lower, self.upper, self.unit, far, not afresh)
        if afresh:
            self.core.compute_primal()
        if fits:
            self.dual.measure()
        return fits

    def _run(self, cost, cutoff, budget, limit):
        result: cython.int
        self.dual.cutoff = cutoff - self.offset
        self.dual.trusted = TRUSTED
        result = self.dual.iterate(budget, limit)
        if result == BEYOND and not self._beyond(cost, cutoff):
            self.dual.cutoff = INFINITY  # not proven: on to the optimum
            result = self.dual.iterate(budget, limit)
        self.dual.trusted = 0
        if result == INFEASIBLE:
            return INFEASIBLE if self._refuted() else STUCK
        if result == DONE:
            return DONE if self._optimal(cost) else STUCK
        return result

    def _judge(self, cost):
        """Work out values and dual values in true units, and judge both."""
        i: cython.int
        for i in range(self.core.m):
            self.activity[i] = 0.0
        self.judge.weigh(self.core.x, self.unit, self.core.code, self.x, self.activity, 0.0)
        self.core.dual_values(cost, self.rows, self.y)
        self.judge.price(self.y, self.core.code, self.x, self.activity, self.reduced)

    def _optimal(self, cost):
        """Say whether the present basis is optimal on the problem as it is; its bound is what dual values prove."""
        if self.core.cost_changed:
            self.core.reprice(cost)
            if self.core.wrong_signs() > self.core.dual_tolerance:
                return False
        self._judge(cost)
        if self.judge.excess > FEASIBILITY or self.judge.wrong > OPTIMALITY:
            return False
        self.objective = self.judge.objective + self.offset
        self.bound = min(self.judge.nearly, self.judge.objective) + self.offset
        return True

    def _beyond(self, cost, cutoff):
        """Say whether dual values prove that nothing is better than a cutoff."""
        self._judge(cost)
        self.bound = self.judge.nearly + self.offset
        return not self.judge.endless and self.bound >= cutoff - EQUAL * max(1.0, abs(cutoff))

    def _refuted(self):
        """Say whether the row at which the dual method ended proves that there is no solution."""
        k: cython.int
        i: cython.int
        turn: cython.int
        size: cython.double = 0.0
        floor: cython.double
        weight: cython.double
        for k in range(self.core.rho.count):
            size = max(size, abs(self.core.rho.value[self.core.rho.index[k]]))
        for turn in range(2):  # without what may be rounding, then with it
            floor = SMALL * size if turn == 0 else 0.0
            for i in range(self.core.m):
                self.proof[i] = 0.0
            for k in range(self.core.rho.count):
                i = self.core.rho.index[k]
                weight = self.core.rho.value[i]
                if abs(weight) > floor:
                    self.proof[i] = weight * self.dual.direction * self.rows[i]
            if self.judge.refutes(self.proof):
                return True
        return False
