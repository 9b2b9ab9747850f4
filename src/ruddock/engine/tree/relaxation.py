"""The relaxation of a search: the tightened problem with cuts, on a solver that stays warm."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from ruddock.engine import sifting
from ruddock.engine.linear import solve_linear
from ruddock.engine.measure import NEAR
from ruddock.engine.outcome import Basis, Limits, Options, Outcome
from ruddock.engine.prediction import RIVALLED
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.tree import vectors
from ruddock.engine.tree.domain import Domain
from ruddock.engine.tree.effort import Effort
from ruddock.engine.tree.tighten import whole_columns
from ruddock.problem import Floats, Ints, Problem


class Relaxation:
    """The problem that nodes are solved on, in the columns of the problem as it is.

    Attributes
    ----------
    problem : Problem
    solver : LinearSolver
    whole : bool array, shape (n,)
        Which columns are integer, those that rows make so among them.
    own : int
        How many rows it began with; cuts follow.
    """

    def __init__(self, problem: Problem, domain: Domain, effort: Effort) -> None:
        self._semis, self._effort = domain.semis, effort
        self.problem, self.own = problem, problem.m
        self.whole = whole_columns(problem) != 0
        self.solver: LinearSolver
        self._weights: tuple[Basis | None, Floats | None] = None, None  # of the basis of the node at work

    def __getstate__(self) -> dict[str, object]:
        left_out = ("solver", "_weights")
        return {
            **{name: value for name, value in self.__dict__.items() if name not in left_out},
            "_weights": (None,) * 2,
        }

    def load(self, problem: Problem | None = None) -> None:
        """Take another problem in the same columns, or the same once more, on a solver without history."""
        if problem is not None:
            self.problem, self.whole, self.own = problem, whole_columns(problem) != 0, problem.m
        self._branched = self.whole.copy()
        self._branched[self._semis] = True
        self.solver = LinearSolver(self.problem, counters=self._effort.counters)

    @property
    def bytes(self) -> int:
        """What the solver holds, once there is one."""
        return self.solver.bytes if "solver" in self.__dict__ else 0

    # ------------------------------------------------------------------ solving

    def begin(self, lower: Floats, upper: Floats) -> float:
        """Find a first basis within bounds, by whichever method for linear problems, where the problem is large.

        Returns
        -------
        float
            The bound that was proven on the way, also where a limit ended it.
        """
        within = replace(self.problem, lower=lower, upper=upper)
        if self.solver.basis is not None or not (within.m >= RIVALLED or sifting.pays(within)):
            return -np.inf
        found = self.solve_anew(within, presolve=False)
        self.start_from(found.basis)
        return found.bound

    def solve_anew(self, problem: Problem, *, presolve: bool = True) -> Outcome:
        """Solve the relaxation of a problem by whichever method is best for it, within the limits of the search."""
        limits, counters = self._effort.quiet(), self._effort.counters
        limits = replace(limits, iterations=limits.iterations - counters.iterations)
        plain = replace(problem, kinds=np.zeros_like(problem.kinds))
        found = solve_linear(plain, limits, Options(presolve=presolve))
        counters.add(found.counters)
        return found

    def solve(
        self, here: tuple[Floats, Floats], root: tuple[Floats, Floats], cutoff: float, *, quick: bool = True
    ) -> Outcome:
        """Solve within column bounds, from the solver's present basis."""
        self.set_bounds(here, root)
        outcome = self.solver.solve(self._effort.quiet(), cutoff=cutoff, quick=quick)
        if outcome.status == "stopped" and outcome.reason == "numerics":
            self.load()
            self.set_bounds(here, root)
            outcome = self.solver.solve(self._effort.quiet())
        return outcome

    def resume(self, here: tuple[Floats, Floats], root: tuple[Floats, Floats], cutoff: float) -> int | Outcome:
        """Solve within column bounds from where the solver stands, without making an outcome of what is proven."""
        self.set_bounds(here, root)
        return self.solver.resume(self._effort.quiet(), cutoff)

    def try_out(
        self, here: tuple[Floats, Floats], root: tuple[Floats, Floats], basis: Basis, limits: Limits, cutoff: float
    ) -> Outcome:
        """Make a few iterations within bounds, from a basis."""
        self.start_from(basis)
        self.set_bounds(here, root)
        return self.solver.solve(limits, cutoff=cutoff, quick=True)

    def set_bounds(self, here: tuple[Floats, Floats], root: tuple[Floats, Floats]) -> None:
        """Give the relaxation bounds: all of whole columns, of the others those of the root or of a branch."""
        vectors.mix(self._branched, *here, *root, self.solver.lower, self.solver.upper)

    # ------------------------------------------------------------------ bases

    def note_weights(self, basis: Basis | None) -> None:
        """Keep the pricing weights that the solver has now for its basis, which several solves will start from."""
        if self.stands_at(basis):
            self._weights = basis, self.solver.pricing_weights

    def start_from(self, basis: Basis | None) -> None:
        """Start from a basis, if there is one; rows that came later join it by their logicals."""
        if basis is None:
            return
        of, weights = self._weights
        known = weights if of is basis else None
        missing = self.problem.m - len(basis.rows)
        if missing > 0:
            basis = Basis(basis.columns, np.concatenate((basis.rows, np.zeros(missing, np.int8))))
        self.solver.start_from(basis, known)

    def stands_at(self, basis: Basis | None) -> bool:
        """Say whether the solver, with its factors, is at this basis, which it has told last."""
        return basis is not None and self.solver.stands_at(basis)

    # ------------------------------------------------------------------ rows

    def with_cuts(self, problem: Problem, plan: Floats | None) -> Problem:
        """Return a problem in the same columns with those rows added to this one that have something to say there.

        Parameters
        ----------
        problem : with tighter bounds
        plan : one that is to be kept, or None
        """
        p = self.problem
        if p.m == self.own:
            return problem
        cuts = p.matrix().tocsr()[self.own :]
        low, high = p.row_lower[self.own :], p.row_upper[self.own :]
        # where all whole columns of a cut are fixed, the rows that it came from say the same
        kept = abs(cuts) @ (self.whole & (problem.lower < problem.upper)).astype(float) > 0
        if plan is not None:
            activity = cuts @ plan
            kept &= (activity >= low - NEAR) & (activity <= high + NEAR)
        return problem.with_rows(cuts[kept], low[kept], high[kept])

    def append(self, matrix: object, low: Floats, high: Floats) -> None:
        """Append rows."""
        self.problem = self.problem.with_rows(matrix, low, high)
        self.solver.append_rows(matrix, low, high)

    def delete(self, rows: Ints) -> None:
        """Take rows out."""
        self.solver.delete_rows(rows)
        p = self.solver.problem
        self.problem = replace(p, row_lower=p.row_lower.copy(), row_upper=p.row_upper.copy())
