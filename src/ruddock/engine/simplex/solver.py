"""`LinearSolver`: one linear program, solved and solved again as its bounds, costs and rows change.

Strategy stands here, in plain Python: which method runs next, and what is done when numbers do not hold. The data stand
in `ScaledProblem`, basis and factors in `WarmBasis`; the pivot loops are kernels; `claims` turns what they say into
proven outcomes.

The dual method takes any basis to primal feasibility: where the basis is not dual feasible, it moves
boxed variables to their other bound and shifts the remaining costs. Its proofs of infeasibility do
not depend on costs. The primal method then takes the true costs to optimality. Perturbations of
either method are removed at its end, and the other one cleans up what that leaves.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np

from ruddock.engine.network.flow import Arcs
from ruddock.engine.outcome import AT_LOWER, AT_UPPER, BASIC, Basis, Counters, Limits, Method, Outcome, Reason
from ruddock.engine.simplex import claims, first_basis
from ruddock.engine.simplex.constants import AT_LIMIT, BEYOND, DONE, GOING_ON, INFEASIBLE, STUCK
from ruddock.engine.simplex.hot import HotStart
from ruddock.engine.simplex.push import Push
from ruddock.engine.simplex.scaled import ScaledProblem
from ruddock.engine.simplex.warm import TOLERANCE, WarmBasis, logical_codes
from ruddock.problem import Floats, Ints, Problem

BUDGET = 4_000_000  # entries touched per epoch: about 20 ms of compiled work
ROUNDS = 25  # changes between methods before giving up
LOOSEST = 1e-7  # what the kernels' tolerance may grow to where infeasibility cannot be proven
FINEST = 1e-12  # what it may shrink to
EXACT_ROWS = 200  # up to which exact arithmetic is the last resort
PATIENCE = 50  # iterations per row and column after which one method counts as stuck
SPREAD = 1e-2  # how far costs of a first basis are moved against stalling
FINE_RUNS, FEW = 3, 100  # runs, and iterations of each, that the last digits of an optimum are worth
PATIENCE_OF_NODES = 500  # iterations beyond the number of rows after which a quick run counts as stuck


class LinearSolver:
    """The linear relaxation of a `Problem`, kept warm between solves.

    Parameters
    ----------
    problem : Problem
        Kinds are ignored, except that a semicontinuous column may reach zero.
    scale : bool
        Whether to scale rows and columns by powers of two.
    counters : Counters, optional
        To go on counting in.
    network : Arcs, optional
        The problem as a network, where that is known already.

    Attributes
    ----------
    counters : Counters
    rival : callable, optional
        Told the entries touched since a solve began; True ends it with status ``stopped`` and reason None.
    """

    def __init__(
        self, problem: Problem, *, scale: bool = True, counters: Counters | None = None, network: Arcs | None = None
    ) -> None:
        self._network = network
        self.rival: Callable[[int], bool] | None = None
        self._touched = 0
        self._crossed = False  # whether the basis to start from is that of a crossover
        self._counted: tuple[Any, int, int, int] = None, 0, 0, 0
        self._looked = False
        self._data = ScaledProblem(problem, scale=scale)
        self._at = WarmBasis(self._data)
        self.counters = Counters() if counters is None else counters
        self._spent = False

    @property
    def problem(self) -> Problem:
        """The problem with its present rows and limits; bounds and costs stand beside it."""
        return self._data.problem

    @property
    def lower(self) -> Floats:
        """Present lower bounds of columns."""
        return self._data.lower

    @property
    def upper(self) -> Floats:
        """Present upper bounds of columns."""
        return self._data.upper

    @property
    def costs(self) -> Floats:
        """Present costs of columns."""
        return self._data.costs

    @property
    def bytes(self) -> int:
        """What the problem, the kernels and the factors take."""
        return self._at.bytes

    def _held(self) -> float:
        return self.bytes

    # ------------------------------------------------------------------ changes

    def change_bounds(self, columns: Any, lower: Any, upper: Any) -> None:
        """Give ``columns`` (numbers, a slice or a mask) new bounds; the basis stays."""
        self._data.change_bounds(columns, lower, upper)

    def change_costs(self, columns: Any, costs: Any) -> None:
        """Give ``columns`` new costs; the basis stays."""
        self._data.costs[columns] = costs
        self._at.forget_limits()

    def change_limits(self, rows: Any, lower: Any, upper: Any) -> None:
        """Give ``rows`` new limits; the basis stays."""
        self._data.change_limits(rows, lower, upper)
        self._at.forget_limits()

    def append_rows(self, matrix: Any, lower: Floats, upper: Floats) -> None:
        """Append rows below the others; their logicals join the basis."""
        basis = self.basis
        self._data.append(matrix, lower, upper)
        self._at.load()
        if basis is not None:
            self.basis = Basis(basis.columns, np.concatenate((basis.rows, np.zeros(len(lower), np.int8))))

    def delete_rows(self, rows: Ints) -> None:
        """Delete rows; where a deleted row's logical was out of the basis, the factors are repaired."""
        basis = self.basis
        kept = np.setdiff1d(np.arange(self.problem.m), rows).astype(np.int32)
        self._data.keep(kept)
        self._at.load()
        if basis is not None:
            self.basis = Basis(basis.columns, basis.rows[kept])

    # ------------------------------------------------------------------ basis

    @property
    def basis(self) -> Basis | None:
        """The present basis, or None before the first solve; set one to start from it."""
        return self._at.basis

    @basis.setter
    def basis(self, basis: Basis) -> None:
        self._at.start_from(basis)

    def stands_at(self, basis: Basis) -> bool:
        """Say whether this is the basis that was told last, and the solver has not moved since."""
        return self._at.stands_at(basis)

    def start_from(self, basis: Basis, weights: Floats | None) -> None:
        """Start from a basis with the pricing weights that belong to it."""
        self._at.start_from(basis, weights)

    @property
    def pricing_weights(self) -> Floats:
        """Dual steepest-edge weights of the basic variables, by variable: array, shape (n + m,); 1 for the others."""
        return self._at.weights

    @property
    def head(self) -> Ints:
        """The variable at each position of the basis; n + i stands for the logical of row i."""
        return self._at.head.copy()

    def forward(self, v: Floats) -> Floats:
        """Solve ``B x = v`` with the present basis of ``[A, -I]``; result by position in the basis."""
        return self._at.forward(v)

    def backward(self, v: Floats) -> Floats:
        """Solve ``B'y = v`` with the present basis of ``[A, -I]``; ``v`` by position in the basis."""
        return self._at.backward(v)

    @property
    def dual_objective(self) -> float:
        """The objective that the dual method had reached when it last stopped: a bound, but for what it shifted."""
        return float(self._at.dual.objective) + self.problem.offset

    # ------------------------------------------------------------------ solving

    def crossed(self) -> Outcome | None:
        """Return the infeasible outcome of limits that cross, or None."""
        return self._data.crossed()

    def cross_over(self, values: Floats, reduced: Floats, limits: Limits) -> None:
        """Take a basis near an interior optimum: the next solve starts from it.

        Parameters
        ----------
        values, reduced : arrays, shape (n + m,)
            Values of columns and row activities, and their reduced costs (of rows: dual values).
        """
        if self.crossed() is not None:
            return
        at = self._at
        at.install()
        lower, upper, _ = at.scaled
        x, d = values / self._data.unit, reduced * self._data.unit
        with np.errstate(invalid="ignore"):
            below, above = x - lower, upper - x
        room = np.minimum(below, above) / (1.0 + np.abs(x))
        inside = (below > np.maximum(d, 0.0)) & (above > np.maximum(-d, 0.0)) & (lower < upper)
        # the variables farthest from their bounds make the basis; what is singular gets logicals
        rank = np.where(inside, np.minimum(room, 1e6) + 1.0, -1.0)
        rank[self.problem.n :] += 0.5  # of two alike, a logical: it is a column with one entry
        codes = np.where(below <= above, AT_LOWER, AT_UPPER).astype(np.int8)
        codes[np.argsort(-rank, kind="stable")[: self.problem.m]] = BASIC
        at.take(codes)
        at.install()
        at.restore()
        between = np.flatnonzero(inside & (at.code != BASIC)).astype(np.int32)
        at.x[between] = x[between]
        push, k = Push(at.core), 0
        push.start()
        while k < len(between) and limits.exceeded(self.counters.iterations) is None:
            k = push.run(between, k, BUDGET)
            limits.report(self.counters.iterations + push.pivots, phase="crossover")
        for j in between[k:]:
            if at.place[j] < 0:
                at.core.settle_at_bound(j)
        self.counters.pushes += push.pivots
        self.counters.iterations += push.pivots
        self._count()
        at.keep()
        self._crossed = True

    def solve(
        self,
        limits: Limits | None = None,
        *,
        cutoff: float = float("inf"),
        method: Method = "auto",
        quick: bool = False,
    ) -> Outcome:
        """Solve from the present basis, or from the basis of all logicals.

        Parameters
        ----------
        limits : Limits
            Iterations count those of this solver's whole life.
        cutoff : float
            Stop with status ``stopped`` and reason None once the objective provably exceeds this.
        method : ``auto``, ``dual`` or ``primal``
            The simplex method to begin with; ``auto`` takes the primal one only from a feasible basis, or after a
            crossover.
        quick : bool
            For the many solves of a search: from where factors and values stand, dual values without a last refinement,
            and nothing but the reason where it stops. Values are judged as always.
        """
        limits = limits or Limits()
        try:
            if quick and method == "auto":
                outcome = self._resume(limits, cutoff)
                if outcome is not None:
                    return outcome
            crossed = self.crossed()
            if crossed is not None:
                return crossed
            outcome = self._solve(limits, cutoff, method)
            if quick or not claims.doubtful(outcome):
                return outcome
            return self._otherwise(limits, outcome)
        except MemoryError:
            # what the kernels hold may be half done: they are made anew for the next solve
            self._spent = True
            return Outcome("stopped", "memory")

    def _resume(self, limits: Limits, cutoff: float) -> Outcome | None:
        """Solve by the dual method from where the core stands; None where that does not lead to a proven answer."""
        result = self.resume(limits, cutoff)
        if isinstance(result, Outcome):
            return result
        hot = self._at.hot
        if result == DONE:
            return self.hot_optimum()
        if result == INFEASIBLE:
            return Outcome("infeasible", proof=np.array(hot.proof))
        return Outcome("stopped", bound=hot.bound) if result == BEYOND else None

    def resume(self, limits: Limits, cutoff: float) -> int | Outcome:
        """Solve by the dual method from where the core stands, without making an outcome of what is proven.

        Returns
        -------
        int or Outcome
            DONE, INFEASIBLE, BEYOND, all proven, the numbers in `hot`; STUCK where that does not lead to a proven
            answer; an outcome where a limit was in the way.
        """
        at, counters = self._at, self.counters
        if at.codes is None or self._spent:
            return STUCK
        core = at.core
        core.primal_tolerance = core.dual_tolerance = TOLERANCE
        if not at.start_hot():
            return STUCK
        hot, costs = at.hot, at.scaled[2]
        first = before = core.iterations
        patience = first + self.problem.m + PATIENCE_OF_NODES
        result = GOING_ON
        while result == GOING_ON:
            most = limits.iterations - counters.iterations
            result = hot.run(costs, cutoff, BUDGET, patience if most > patience else min(patience, before + int(most)))
            counters.iterations += core.iterations - before
            before = core.iterations
            if result == GOING_ON or (result == AT_LIMIT and counters.iterations >= limits.iterations):
                limits.report(counters.iterations, phase="dual simplex", infeasibility=core.primal_infeasibility)
                reason = limits.exceeded(counters.iterations, held=self._held)
                if reason:
                    at.keep()
                    return Outcome("stopped", reason)
        counters.dual_iterations += before - first
        at.keep()
        self._count()
        return STUCK if result == AT_LIMIT else int(result)

    @property
    def present(self) -> Basis:
        """The basis at which the last solve has ended."""
        return self._at.present

    @property
    def hot(self) -> HotStart:
        """What `resume` has found."""
        return self._at.hot

    def hot_optimum(self) -> Outcome:
        """Return the outcome of an optimum that `resume` has found."""
        hot = self._at.hot
        x, activity, y, reduced = (np.array(part) for part in (hot.x, hot.activity, hot.y, hot.reduced))
        return Outcome("optimal", None, x, activity, y, reduced, self._at.present, hot.objective, hot.bound)

    def _solve(self, limits: Limits, cutoff: float, method: Method) -> Outcome:
        """Let the methods take turns until an answer is proven."""
        at = self._at
        if self._spent:
            at.load()
            self._spent = False
        core = at.core
        core.primal_tolerance = core.dual_tolerance = TOLERANCE
        warm = at.codes is not None or (method == "auto" and self.begin_from_network(limits))
        at.install()
        outcome = within = None
        stuck = fine = 0
        idle = False  # the primal method had nothing to do: what is left of wrong signs is rounding
        ended: set[tuple[bytes, float]] = set()  # where methods have ended: what comes again leads nowhere new
        self._touched = 0
        if not warm and method != "primal":
            outcome = first_basis.within_boxes(
                at, lambda perturb: self._run(at.dual, limits, float("inf"), perturb=perturb)
            )
            if outcome is not None:
                at.keep()
                return replace(outcome, counters=replace(self.counters))
        for turn in range(ROUNDS):
            at.restore()
            if core.primal_infeasibility() > core.primal_tolerance:
                # failures of one method leave it to the other; the primal one has a first phase of its own
                dual = (stuck < 3 and turn < ROUNDS // 2) if method != "primal" else 0 < stuck < 3
                if self._crossed and turn == 0:  # it would send what has reduced costs of the wrong sign far away
                    dual = False
                kernel: Any = at.dual if dual else at.primal
            elif core.dual_infeasibility() > core.dual_tolerance and not idle:
                # a basis that is feasible only to begin with is no obstacle to the dual method asked for
                kernel = at.dual if method == "dual" and turn == 0 and not warm else at.primal
            else:
                outcome = claims.optimum(at)
                if outcome is not None and outcome.bound == outcome.objective:
                    break
                if outcome is None and at.take_far():
                    continue
                within, outcome = outcome or within, None  # optimal within the tolerance: a finer one may prove it
                if core.primal_tolerance < FINEST:
                    break
                core.primal_tolerance *= 0.1
                core.dual_tolerance *= 0.1
                continue
            digits = within is not None and not claims.doubtful(within)
            fine += digits
            if fine > FINE_RUNS:
                break
            before = core.iterations
            result = self._run(
                kernel,
                limits,
                cutoff,
                perturb=bool(stuck) or (not warm and turn == 0),
                stuck=bool(stuck),
                most=FEW if digits else None,
            )
            idle = result == DONE and kernel is at.primal and core.iterations == before
            if digits and result != DONE:
                break
            if isinstance(result, Outcome):
                outcome = result
                break
            end = bytes(core.code), float(core.primal_tolerance)
            if result == STUCK or (result == DONE and not idle and end in ended):
                stuck += 1
            elif result == BEYOND and kernel is at.dual:
                outcome = claims.beyond(at, cutoff)
                if outcome is not None:
                    break
                cutoff = float("inf")  # not proven: on to the optimum
            elif result == BEYOND and at.take_far():
                continue
            elif result != DONE:
                outcome = claims.infeasible(at, kernel) if result == INFEASIBLE else self._unbounded()
                if outcome is not None:
                    break
                if result == INFEASIBLE and core.primal_tolerance < LOOSEST:
                    # no proof holds, so near to feasible: what is left may be within the stated tolerance
                    core.primal_tolerance = min(10.0 * core.primal_tolerance, LOOSEST)
                    continue
                stuck += 1
            else:
                ended.add(end)
        at.keep()
        self._crossed = False
        if within is not None and (outcome is None or outcome.status == "stopped"):
            outcome = within
            assert within.basis is not None
            self.basis = within.basis
        self._count()
        if outcome is None:
            outcome = claims.stopped(at, "numerics")
        return replace(outcome, counters=replace(self.counters))

    def _count(self) -> None:
        """Note what the kernels have counted."""
        at, counters, core = self._at, self.counters, self._at.core
        if self._counted[0] is not core:  # kernels are made anew where rows come or go
            self._counted = core, 0, 0, 0
        _, flips, factorisations, entries = self._counted
        self._counted = (
            core,
            at.flips,
            int(core.refactorings),
            int(core.touched + core.factor.touched),
        )
        # others count together with this solver
        counters.bound_flips += self._counted[1] - flips
        counters.factorisations += self._counted[2] - factorisations
        counters.entries += self._counted[3] - entries

    def begin_from_network(self, limits: Limits) -> bool:
        """Take the basis of a cheapest flow, where the problem, or most of its rows, are a network; say whether."""
        if self._looked:
            return self._at.codes is not None
        self._looked = True
        found = first_basis.of_network(self._data.now, self._network, limits, self.counters.iterations, self.bytes)
        if not found:
            return False
        self.basis = found.basis
        self.counters.network_pivots += found.pivots
        self.counters.iterations += found.pivots
        return True

    def _otherwise(self, limits: Limits, outcome: Outcome) -> Outcome:
        """Solve in other ways what went wrong or could not be proven, each with something that is different.

        From the basis of all logicals and with scaling the other way; then, where the problem is small, in exact
        arithmetic from the basis that was reached, which leaves no doubt.
        """
        p = self._data.now
        other = LinearSolver(p, scale=not self._data.scales, counters=self.counters)
        other._at.take(logical_codes(p))
        second = other._solve(limits, float("inf"), "dual")
        if claims.doubtful(second) and p.m <= EXACT_ROWS:
            from ruddock.engine.settle import settle  # here, since few solves need it

            second = settle(p, second.basis or outcome.basis or other.basis, limits) or second
        if second.status == "stopped" and outcome.status == "optimal":
            second = outcome
        if second.status == "optimal" and claims.doubtful(second):  # the bound tells what is proven
            second = replace(second, status="stopped", reason="numerics")
        if second.basis is not None:
            self.basis = second.basis
        return second

    def _run(
        self,
        kernel: Any,
        limits: Limits,
        cutoff: float,
        *,
        perturb: bool,
        stuck: bool = False,
        most: int | None = None,
    ) -> int | Outcome:
        """Run a kernel to its end or for at most so many iterations, watching the limits between epochs."""
        at = self._at
        kernel.start()
        if kernel is at.dual and perturb:
            kernel.perturb() if stuck else kernel.perturb(SPREAD)
        reason = limits.exceeded(0, held=self._held)
        if reason is not None and reason != "iterations":  # it may have ended by now, which takes none
            return claims.stopped(at, reason)
        return self._go_on(kernel, limits, cutoff, most=most)

    def _go_on(self, kernel: Any, limits: Limits, cutoff: float, *, most: int | None = None) -> int | Outcome:
        """Run a kernel that has started."""
        at, core = self._at, self._at.core
        at.leave()
        at.dual.cutoff = cutoff - self.problem.offset
        result = GOING_ON
        reason: Reason | None = None
        patience = PATIENCE * (self.problem.m + self.problem.n) + 10_000
        last = core.iterations + (patience if most is None else most)
        while result == GOING_ON:
            before = core.iterations
            allowed = limits.iterations - self.counters.iterations
            end = last if allowed == float("inf") else min(last, before + max(0, int(allowed)))
            result = kernel.run(BUDGET, end)
            done = core.iterations - before
            self.counters.iterations += done
            if kernel is at.dual:
                self.counters.dual_iterations += done
            else:
                self.counters.primal_iterations += done
            if result == GOING_ON:
                phase = "dual simplex" if kernel is at.dual else "primal simplex"
                limits.report(self.counters.iterations, phase=phase, infeasibility=core.primal_infeasibility)
                reason = limits.exceeded(self.counters.iterations, held=self._held)
                if reason:
                    return claims.stopped(at, reason)
                self._touched += BUDGET
                if self.rival is not None and self.rival(self._touched):
                    return Outcome("stopped")
        if result == AT_LIMIT and self.counters.iterations >= limits.iterations:
            return claims.stopped(at, "iterations")
        return STUCK if result == AT_LIMIT else result

    def _unbounded(self) -> Outcome | None:
        """Return the outcome of the ray that the primal method found, or None if it is none."""
        at = self._at
        direction = claims.ray(at, BUDGET)
        if direction is None:
            return None
        found = claims.unbounded(at, direction)
        if found is not None:
            return found
        # the present point is too far out: one that is found without costs will do
        plain = LinearSolver(replace(self._data.now, costs=np.zeros(self.problem.n)))
        nearer = plain.solve()
        if nearer.status != "optimal" or nearer.x is None:
            return None
        objective = float(self.costs @ nearer.x) + self.problem.offset
        return replace(
            nearer, status="unbounded", ray=direction, objective=objective, bound=float("-inf"), y=None, reduced=None
        )
