"""A basis that stays warm: its codes, its factors, its values, and the kernels that work on them."""

from __future__ import annotations

import numpy as np

from ruddock.engine.outcome import AT_LOWER, AT_UPPER, BASIC, FEASIBILITY, Basis, Codes
from ruddock.engine.simplex.core import Core
from ruddock.engine.simplex.crash import crash_basis
from ruddock.engine.simplex.dual import DualSimplex
from ruddock.engine.simplex.hot import HotStart
from ruddock.engine.simplex.judge import Judge
from ruddock.engine.simplex.primal import PrimalSimplex
from ruddock.engine.simplex.scaled import FAR, ScaledProblem
from ruddock.problem import Floats, Problem

TOLERANCE = 1e-9  # of the kernels, on the scaled problem; tightened when the answer misses the stated one
NOISE = 1e-13  # what rounding leaves of a value, relative to the largest


class WarmBasis:
    """The state of a solver on one matrix.

    Parameters
    ----------
    data : ScaledProblem

    Attributes
    ----------
    core : Core
    dual, primal : DualSimplex, PrimalSimplex
    judge : Judge
    hot : HotStart
    codes : int8 array, shape (n + m,), or None
        Basis codes to start from; None before there are any.
    scaled : tuple
        Bounds and costs that the core was last given.
    ready : bool
        Whether the core has factors, values and reduced costs of the present basis, true costs and limits of rows apart
        from what it shifted itself.
    """

    def __init__(self, data: ScaledProblem) -> None:
        self.data = data
        self.codes: Codes | None = None
        self._without_far = True  # whether bounds that are very far are left out, as long as no answer needs them
        self._known_weights: Floats | None = None
        self.load()

    def load(self) -> None:
        """Make the kernels for the matrix as it is now."""
        data, p = self.data, self.data.problem
        core = self.core = Core(p.m, p.n, *data.matrices())
        # the methods are made when they are first asked for
        self._dual: DualSimplex | None = None
        self._primal: PrimalSimplex | None = None
        self._hot: HotStart | None = None
        own = (p.starts, p.indices, p.values)
        self.judge = Judge(own, p.row_lower, p.row_upper, data.lower, data.upper, data.costs)
        # the core's arrays, as NumPy sees them
        self.x, self.code, self.head = np.asarray(core.x), np.asarray(core.code), np.asarray(core.head)
        self.place, self._weight = np.asarray(core.place), np.asarray(core.weight)
        self._factored = self.ready = self._known_limits = False
        self._present: Basis | None = None

    @property
    def bytes(self) -> int:
        """What the problem, the kernels and the factors take."""
        p = self.data.problem
        return int(self.core.bytes()) + 48 * p.nonzeros + 200 * (p.m + p.n)

    # ------------------------------------------------------------------ codes and weights

    @property
    def basis(self) -> Basis | None:
        """The basis to start from, or None before there is any."""
        n = self.data.problem.n
        return None if self.codes is None else Basis(self.codes[:n].copy(), self.codes[n:].copy())

    @property
    def present(self) -> Basis:
        """The basis as the core has it now, which is known again until the core moves on."""
        n = self.data.problem.n
        self._present = Basis(self.code[:n].copy(), self.code[n:].copy())
        return self._present

    def leave(self) -> None:
        """Note that the core moves on."""
        self._present = None

    def stands_at(self, basis: Basis) -> bool:
        """Say whether this is the basis that was told last, and the core has not moved since."""
        return basis is self._present

    @property
    def dual(self) -> DualSimplex:
        """The dual method."""
        if self._dual is None:
            self._dual = DualSimplex(self.core)
        return self._dual

    @property
    def hot(self) -> HotStart:
        """The dual method from where the core stands, for a node."""
        if self._hot is None:
            data, rows = self.data, np.asarray(self.data.rows)
            self._hot = HotStart(
                self.core, self.dual, self.judge, data.lower, data.upper, data.unit, rows, data.problem.offset
            )
        return self._hot

    @property
    def primal(self) -> PrimalSimplex:
        """The primal method."""
        if self._primal is None:
            self._primal = PrimalSimplex(self.core)
        return self._primal

    @property
    def flips(self) -> int:
        """How many variables have gone from one bound to the other."""
        return sum(int(method.flips) for method in (self._dual, self._primal) if method is not None)

    def start_from(self, basis: Basis, weights: Floats | None = None) -> None:
        """Start from a basis, made square if it is not, with the pricing weights that belong to it."""
        if self.stands_at(basis):
            return
        m, n = self.data.problem.m, self.data.problem.n
        codes = np.concatenate((basis.columns, basis.rows)).astype(np.int8)
        surplus = int((codes == BASIC).sum()) - m
        if surplus > 0:  # too many: the last basic logicals leave
            logicals = n + np.flatnonzero(codes[n:] == BASIC)
            codes[logicals[len(logicals) - min(surplus, len(logicals)) :]] = AT_LOWER
        surplus = int((codes == BASIC).sum()) - m
        if surplus > 0:
            columns = np.flatnonzero(codes == BASIC)
            codes[columns[len(columns) - surplus :]] = AT_LOWER
        if surplus < 0:  # too few: logicals fill up
            spare = n + np.flatnonzero(codes[n:] != BASIC)
            codes[spare[:-surplus]] = BASIC
        self.take(codes, weights)

    def take(self, codes: Codes, weights: Floats | None = None) -> None:
        """Start from the codes of a square basis; factors of the same basis are kept."""
        self.codes, self._known_weights, self._present = codes, weights, None
        if self.ready and np.array_equal(codes == BASIC, self.code == BASIC):
            self.code[:] = codes
        else:
            self._factored = self.ready = False

    def keep(self) -> None:
        """Start the next time from where the core is now."""
        self.codes = self.code.copy()
        self.ready = not self.core.bounds_changed
        self._known_limits &= self.ready

    @property
    def weights(self) -> Floats:
        """Dual steepest-edge weights of the basic variables, by variable; 1 for the others."""
        weights = np.ones(len(self.x))
        weights[self.head] = self._weight
        return weights

    # ------------------------------------------------------------------ into the core

    def install(self) -> None:
        """Put scaled bounds, costs and the basis into the core."""
        self.leave()
        self.scaled = self.data.vectors(without_far=self._without_far)
        if self.codes is None:
            self.codes = _crashed(self.data.now)
        self._known_limits = True
        self._place()

    def _place(self) -> None:
        """Put the basis into the core."""
        assert self.codes is not None
        if self._factored:
            self.code[:] = self.codes
        else:
            known = self._known_weights
            self.core.take_basis(self.codes, known if known is not None and len(known) == len(self.x) else None)
            self._factored = True

    def forget_limits(self) -> None:
        """Read costs and the limits of rows anew before the next solve."""
        self.ready = self._known_limits = False

    def take_far(self) -> bool:
        """Let bounds that are very far count from now on; say whether that changes anything."""
        before, self._without_far = self._without_far, False
        if not before or not self.data.has_far_bounds:
            return False
        self.keep()
        self.install()
        return True

    def start_hot(self) -> bool:
        """Give the core the present bounds of columns, and true costs; say whether the basis is dual feasible then."""
        self.leave()
        afresh = not self.ready and self._known_limits
        if afresh:
            self._place()
        elif not self.ready:
            self.install()
            self.restore()
        self.ready = True
        return bool(self.hot.start(self.scaled[2], FAR if self._without_far else np.inf, afresh))

    def restore(self) -> None:
        """Set true bounds and costs, put nonbasic variables on their bounds, and recompute."""
        self.leave()  # a singular basis is repaired
        self.core.restore(*self.scaled)
        self.core.refactorise()
        self.core.recompute()

    # ------------------------------------------------------------------ out of the core

    def forward(self, v: Floats) -> Floats:
        """Solve ``B x = v`` in true numbers; result by position in the basis."""
        result = v * self.data.rows
        self.core.solve_forward(result)
        return result * self.data.unit[self.head]

    def backward(self, v: Floats) -> Floats:
        """Solve ``B'y = v`` in true numbers; ``v`` by position in the basis."""
        result = v * self.data.unit[self.head]
        self.core.solve_backward(result)
        return result * self.data.rows

    def refine(self, y: Floats, wanted: Floats) -> None:
        """Bring the solution of ``B'y = wanted`` nearer, in true numbers; ``wanted`` by position in the basis."""
        reached = np.concatenate((self.data.problem.priced(y), -y))[self.head]
        y += self.backward(wanted - reached)

    def values(self) -> tuple[Floats, Floats]:
        """Return column values and row activities in true units; the judge knows what they are worth."""
        p = self.data.problem
        x, activity = np.empty(p.n), np.zeros(p.m)
        noise = min(NOISE * max(1.0, np.abs(self.x).max(initial=0.0)), TOLERANCE / 10)
        self.judge.values(self.x, self.data.unit, self.code, x, activity, noise)
        if self.judge.excess > FEASIBILITY:  # by a large coefficient what looks like noise may be what a row needs
            activity[:] = 0.0
            self.judge.values(self.x, self.data.unit, self.code, x, activity, 0.0)
        return x, activity

    def duals(self, x: Floats, activity: Floats) -> tuple[Floats, Floats]:
        """Return dual values of rows and reduced costs of columns, of the true costs at the present basis.

        Parameters
        ----------
        x, activity : of the columns and rows
        """
        data, p = self.data, self.data.problem
        y = np.empty(p.m)
        self.core.price_rows(self.scaled[2], data.rows, y)
        self.refine(y, np.concatenate((data.costs, np.zeros(p.m)))[self.head])
        reduced = np.empty(p.n)
        self.judge.duals(y, self.code, x, activity, reduced)
        return y, reduced


def logical_codes(problem: Problem) -> Codes:
    """Return the codes of the basis of all logicals, columns at the bound nearer to zero."""
    codes = np.full(problem.n + problem.m, AT_LOWER, np.int8)
    codes[problem.n :] = BASIC
    codes[: problem.n][np.abs(problem.upper) < np.abs(problem.lower)] = AT_UPPER
    return codes


def _crashed(problem: Problem) -> Codes:
    """Return the codes of a first basis."""
    codes = logical_codes(problem)
    columns = crash_basis(problem)
    taken = np.flatnonzero(columns >= 0)
    codes[columns[taken]], codes[problem.n + taken] = BASIC, AT_LOWER
    return codes
