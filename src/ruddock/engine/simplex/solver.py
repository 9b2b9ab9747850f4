"""`LinearSolver`: one linear program, solved and solved again as its bounds, costs and rows change.

Strategy stands here, in plain Python; the pivot loops are the kernels `DualSimplex` and
`PrimalSimplex`, which share their state in a `Core`.

The dual method takes any basis to primal feasibility: where the basis is not dual feasible, it moves
boxed variables to their other bound and shifts the remaining costs. Its proofs of infeasibility do
not depend on costs. The primal method then takes the true costs to optimality. Perturbations of
either method are removed at its end, and the other one cleans up what that leaves.
"""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from scipy.sparse import csc_matrix, csr_matrix

from ruddock.engine import certificates
from ruddock.engine.outcome import (
    AT_LOWER,
    AT_UPPER,
    BASIC,
    EQUAL,
    FEASIBILITY,
    OPTIMALITY,
    Basis,
    Codes,
    Counters,
    Limits,
    Method,
    Outcome,
    Reason,
    Status,
)
from ruddock.engine.simplex.constants import AT_LIMIT, BEYOND, DONE, GOING_ON, INFEASIBLE, STUCK
from ruddock.engine.simplex.core import Core
from ruddock.engine.simplex.crash import crash_basis
from ruddock.engine.simplex.dual import DualSimplex
from ruddock.engine.simplex.judge import Judge
from ruddock.engine.simplex.primal import PrimalSimplex
from ruddock.engine.simplex.push import Push
from ruddock.engine.simplex.scaling import geometric_scale
from ruddock.problem import Floats, Ints, Problem, reaching_zero

BUDGET = 4_000_000  # entries touched per epoch: about 20 ms of compiled work
ROUNDS = 25  # changes between methods before giving up
TOLERANCE = 1e-9  # of the kernels, on the scaled problem; tightened when the answer misses the stated one
LOOSEST = 1e-7  # what the kernels' tolerance may grow to where infeasibility cannot be proven
FAR = 1e8  # a column at a bound of this size would drown all others in rounding
FINEST = 1e-12  # what it may shrink to
EXACT_ROWS = 200  # up to which exact arithmetic is the last resort
NO_LIMIT = 2**62
PATIENCE = 50  # iterations per row and column after which one method counts as stuck
SHORT = 40  # iterations after which the factors of a quick run are renewed before its end
NOISE = 1e-13  # what rounding leaves of a value, relative to the largest


class LinearSolver:
    """The linear relaxation of a `Problem`, kept warm between solves.

    Parameters
    ----------
    problem : Problem
        Kinds are ignored, except that a semicontinuous column may reach zero.
    scale : bool
        Whether to scale rows and columns by powers of two.
    """

    def __init__(self, problem: Problem, *, scale: bool = True) -> None:
        problem = replace(problem, row_lower=problem.row_lower.copy(), row_upper=problem.row_upper.copy())
        # limits of rows change in place; the arrays of a problem may be shared
        self.lower, self.upper = reaching_zero(problem.lower, problem.upper, problem.kinds)
        self.costs = problem.costs.copy()
        self.counters = Counters()
        self._codes: Codes | None = None
        self._scale = scale
        self._leaves_far = True  # whether bounds that are very far are left out, as long as no answer needs them
        self._load(problem)

    def _load(self, problem: Problem) -> None:
        """Scale the matrix and make the kernels for it."""
        self.problem = problem
        m, n = problem.m, problem.n
        self._rows, self._columns = geometric_scale(problem) if self._scale else (np.ones(m), np.ones(n))
        values = problem.values
        if (self._rows != 1.0).any() or (self._columns != 1.0).any():
            owner = np.repeat(np.arange(n), np.diff(problem.starts))
            values = values * self._rows[problem.indices] * self._columns[owner]
        by_columns = (problem.starts, problem.indices, values)
        by_rows = csc_matrix((values, problem.indices, problem.starts), shape=(m, n)).tocsr()
        rows = (by_rows.indptr.astype(np.int32), by_rows.indices.astype(np.int32), by_rows.data)
        self._core = Core(m, n, by_columns, rows)
        self._dual, self._primal = DualSimplex(self._core), PrimalSimplex(self._core)
        self._unit = np.concatenate((self._columns, 1.0 / self._rows))  # true value = unit x scaled value
        own = (problem.starts, problem.indices, problem.values)
        self._judge = Judge(own, problem.row_lower, problem.row_upper, self.lower, self.upper, self.costs)
        core = self._core
        self._core_cost, self._x = np.asarray(core.cost), np.asarray(core.x)
        self._code, self._head = np.asarray(core.code), np.asarray(core.head)
        self._place, self._weight = np.asarray(core.place), np.asarray(core.weight)
        self._factored = False
        self._known_weights: Floats | None = None
        self._quick = self._spent = False

    @property
    def bytes(self) -> int:
        """What the problem, the kernels and the factors take."""
        return int(self._core.bytes()) + 48 * self.problem.nonzeros + 200 * (self.problem.m + self.problem.n)

    # ------------------------------------------------------------------ changes

    def change_bounds(self, columns: Any, lower: Any, upper: Any) -> None:
        """Give ``columns`` (numbers, a slice or a mask) new bounds; the basis stays."""
        self.lower[columns] = lower
        self.upper[columns] = upper

    def change_costs(self, columns: Any, costs: Any) -> None:
        """Give ``columns`` new costs; the basis stays."""
        self.costs[columns] = costs

    def change_limits(self, rows: Any, lower: Any, upper: Any) -> None:
        """Give ``rows`` new limits; the basis stays."""
        self.problem.row_lower[rows] = lower
        self.problem.row_upper[rows] = upper

    def append_rows(self, matrix: Any, lower: Floats, upper: Floats) -> None:
        """Append rows below the others; their logicals join the basis."""
        basis, old = self.basis, self.problem
        self._load(old.with_rows(matrix, lower, upper))
        if basis is not None:
            self.basis = Basis(basis.columns, np.concatenate((basis.rows, np.zeros(len(lower), np.int8))))

    def delete_rows(self, rows: Ints) -> None:
        """Delete rows; where a deleted row's logical was out of the basis, the factors are repaired."""
        basis, old = self.basis, self.problem
        kept = np.setdiff1d(np.arange(old.m), rows)
        self._load(
            Problem.build(
                csr_matrix(old.matrix())[kept],
                old.row_lower[kept],
                old.row_upper[kept],
                old.lower,
                old.upper,
                old.costs,
                old.kinds,
                old.offset,
            )
        )
        if basis is not None:
            self.basis = Basis(basis.columns, basis.rows[kept])

    # ------------------------------------------------------------------ basis

    @property
    def basis(self) -> Basis | None:
        """The present basis, or None before the first solve; set one to start from it."""
        if self._codes is None:
            return None
        codes = self._codes
        return Basis(codes[: self.problem.n].copy(), codes[self.problem.n :].copy())

    @basis.setter
    def basis(self, basis: Basis) -> None:
        codes = np.concatenate((basis.columns, basis.rows)).astype(np.int8)
        surplus = int((codes == BASIC).sum()) - self.problem.m
        if surplus > 0:  # too many: the last basic logicals leave
            logicals = self.problem.n + np.flatnonzero(codes[self.problem.n :] == BASIC)
            codes[logicals[len(logicals) - min(surplus, len(logicals)) :]] = AT_LOWER
        surplus = int((codes == BASIC).sum()) - self.problem.m
        if surplus > 0:
            columns = np.flatnonzero(codes == BASIC)
            codes[columns[len(columns) - surplus :]] = AT_LOWER
        if surplus < 0:  # too few: logicals fill up
            spare = self.problem.n + np.flatnonzero(codes[self.problem.n :] != BASIC)
            codes[spare[:-surplus]] = BASIC
        self._codes = codes
        self._factored = False
        self._known_weights = None

    @property
    def pricing_weights(self) -> Floats:
        """Dual steepest-edge weights of the basic variables, by variable: array, shape (n + m,); 1 for the others."""
        weights = np.ones(self.problem.n + self.problem.m)
        weights[self._head] = self._weight
        return weights

    def start_from(self, basis: Basis, weights: Floats | None) -> None:
        """Start from a basis with the pricing weights that belong to it."""
        self.basis = basis
        self._known_weights = weights

    def forward(self, v: Floats) -> Floats:
        """Solve ``B x = v`` with the present basis of ``[A, -I]``; result by position in the basis."""
        result = v * self._rows
        self._core.solve_forward(result)
        return result * self._unit[self._head]

    def backward(self, v: Floats) -> Floats:
        """Solve ``B'y = v`` with the present basis of ``[A, -I]``; ``v`` by position in the basis."""
        result = v * self._unit[self._head]
        self._core.solve_backward(result)
        return result * self._rows

    @property
    def dual_objective(self) -> float:
        """The objective that the dual method had reached when it last stopped: a bound, but for what it shifted."""
        return float(self._dual.objective) + self.problem.offset

    @property
    def head(self) -> Ints:
        """The variable at each position of the basis; n + i stands for the logical of row i."""
        return self._head.copy()

    # ------------------------------------------------------------------ solving

    def cross_over(self, values: Floats, reduced: Floats, limits: Limits) -> None:
        """Take a basis near an interior optimum: the next solve starts from it.

        Parameters
        ----------
        values, reduced : arrays, shape (n + m,)
            Values of columns and row activities, and their reduced costs (of rows: dual values).
        """
        if self._crossed() is not None:
            return
        self._install()
        lower, upper, _ = self._scaled
        x, d = values / self._unit, reduced * self._unit
        with np.errstate(invalid="ignore"):
            below, above = x - lower, upper - x
        room = np.minimum(below, above) / (1.0 + np.abs(x))
        inside = (below > np.maximum(d, 0.0)) & (above > np.maximum(-d, 0.0)) & (lower < upper)
        # the variables farthest from their bounds make the basis; what is singular gets logicals
        rank = np.where(inside, np.minimum(room, 1e6) + 1.0, np.where(lower < upper, -1.0, -2.0))
        rank[self.problem.n :] += 0.5  # of two alike, a logical: it is a column with one entry
        codes = np.where(below <= above, AT_LOWER, AT_UPPER).astype(np.int8)
        codes[np.argsort(-rank, kind="stable")[: self.problem.m]] = BASIC
        self._codes = codes
        self._factored = False
        self._install()
        self._restore()
        between = np.flatnonzero(inside & (self._code != BASIC)).astype(np.int32)
        self._x[between] = x[between]
        self._core.recompute()
        push, k = Push(self._core), 0
        while k < len(between) and limits.exceeded(self.counters.iterations) is None:
            k = push.run(between, k, BUDGET)
            limits.tell(self.counters.iterations + push.pivots, 0, float("inf"), float("-inf"))
        for j in between[k:]:
            if self._place[j] < 0:
                self._core.settle_at_bound(j)
        self.counters.pushes += push.pivots
        self.counters.iterations += push.pivots
        self._codes = self._code.copy()

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
            The simplex method to begin with; ``auto`` takes the primal one only from a feasible basis.
        quick : bool
            For the many solves of a search: dual values without a last refinement, the factors of a short run as they
            are, and nothing but the reason where it stops. Values are judged as always.
        """
        limits = limits or Limits()
        crossed = self._crossed()
        if crossed is not None:
            return crossed
        try:
            outcome = self._solve(limits, cutoff, method, quick=quick)
            if quick or (outcome.reason != "numerics" and not _apart(outcome)):
                return outcome
            return self._otherwise(limits, outcome)
        except MemoryError:
            # what the kernels hold may be half done: they are made anew for the next solve
            self._spent = True
            return Outcome("stopped", "memory")

    def _solve(self, limits: Limits, cutoff: float, method: Method, *, quick: bool) -> Outcome:
        if self._spent:
            self._load(self.problem)
        core = self._core
        core.primal_tolerance = core.dual_tolerance = TOLERANCE
        warm = self._codes is not None
        self._install()
        outcome = within = None
        stuck = 0
        self._quick = quick
        begun = core.iterations
        for turn in range(ROUNDS):
            short = quick and turn == 1 and core.iterations - begun < SHORT
            if not short or core.cost_changed or core.bounds_changed:
                self._restore()
            if self._core.primal_infeasibility() > core.primal_tolerance:
                # failures of one method leave it to the other; the primal one has a first phase of its own
                dual = (stuck < 3 and turn < ROUNDS // 2) if method != "primal" else 0 < stuck < 3
                kernel: Any = self._dual if dual else self._primal
            elif self._core.dual_infeasibility() > core.dual_tolerance:
                # a basis that is feasible only to begin with is no obstacle to the dual method asked for
                kernel = self._dual if method == "dual" and turn == 0 and not warm else self._primal
            else:
                outcome = self._finish()
                if outcome is not None and (quick or outcome.bound == outcome.objective):
                    break
                if outcome is None and self._leaves_far and self._take_far():
                    continue
                within, outcome = outcome or within, None  # optimal within the tolerance: a finer one may prove it
                if core.primal_tolerance < FINEST:
                    break
                core.primal_tolerance *= 0.1
                core.dual_tolerance *= 0.1
                continue
            result = self._run(
                kernel, limits, cutoff, perturb=bool(stuck) or (not warm and turn == 0), stuck=bool(stuck)
            )
            if isinstance(result, Outcome):
                outcome = result
                break
            if result == STUCK:
                stuck += 1
            elif result == BEYOND and kernel is self._dual:
                outcome = self._beyond(cutoff)
                if outcome is not None:
                    break
                cutoff = float("inf")  # not proven: on to the optimum
            elif result == BEYOND and self._leaves_far and self._take_far():
                continue
            elif result != DONE:
                outcome = self._infeasible(kernel) if result == INFEASIBLE else self._unbounded()
                if outcome is not None:
                    break
                if result == INFEASIBLE and core.primal_tolerance < LOOSEST:
                    # no proof holds, so near to feasible: what is left may be within the stated tolerance
                    core.primal_tolerance = min(10.0 * core.primal_tolerance, LOOSEST)
                    continue
                stuck += 1
        self._codes = self._code.copy()
        if within is not None and (outcome is None or outcome.status == "stopped"):
            outcome = within
            assert within.basis is not None
            self.basis = within.basis
        self.counters.bound_flips = int(self._dual.flips + self._primal.flips)
        self.counters.factorisations = int(core.refactorings)
        if outcome is None:
            outcome = self._stopped("numerics")
        return outcome if quick else replace(outcome, counters=replace(self.counters))

    def _otherwise(self, limits: Limits, outcome: Outcome) -> Outcome:
        """Solve in other ways what went wrong or could not be proven, each with something that is different.

        From the basis of all logicals and with scaling the other way; then, where the problem is small, in exact
        arithmetic from the basis that was reached.
        """
        p = replace(self.problem, lower=self.lower, upper=self.upper, costs=self.costs, kinds=self.problem.kinds * 0)
        other = LinearSolver(p, scale=not self._scale)
        other.counters = self.counters
        other._codes = _logical_codes(p)
        again = other._solve(limits, float("inf"), "dual", quick=False)
        basis = again.basis or outcome.basis or other.basis
        if (again.reason == "numerics" or _apart(again)) and basis is not None and p.m <= EXACT_ROWS:
            from ruddock.engine.exact import certify  # here, since few solves need it

            exact, certified = certify(p, replace(again, basis=basis), limits)
            if certified:
                again = replace(exact, status="optimal", reason=None)
        if again.status == "stopped" and outcome.status == "optimal":
            again = outcome
        if _apart(again):  # the bound tells what is proven
            again = replace(again, status="stopped", reason="numerics")
        if again.basis is not None:
            self.basis = again.basis
        return again

    def _crossed(self) -> Outcome | None:
        """Return the infeasible outcome of limits that cross, or None."""
        columns = np.flatnonzero(self.lower > self.upper)
        rows = np.flatnonzero(self.problem.row_lower > self.problem.row_upper)
        if not len(columns) and not len(rows):
            return None
        return Outcome("infeasible", crossed_columns=tuple(map(int, columns)), crossed_rows=tuple(map(int, rows)))

    def _install(self) -> None:
        """Put scaled bounds, costs and the basis into the core."""
        n, m = self.problem.n, self.problem.m
        lower, upper = self.lower, self.upper
        if self._leaves_far:
            lower, upper = np.where(lower <= -FAR, -np.inf, lower), np.where(upper >= FAR, np.inf, upper)
        self._scaled = (
            np.concatenate((lower, self.problem.row_lower)) / self._unit,
            np.concatenate((upper, self.problem.row_upper)) / self._unit,
            np.concatenate((self.costs * self._columns, np.zeros(m))),
        )
        if self._codes is None:
            here = replace(self.problem, lower=self.lower, upper=self.upper, costs=self.costs)
            self._codes = _logical_codes(here)
            columns = crash_basis(here)
            taken = np.flatnonzero(columns >= 0)
            self._codes[columns[taken]], self._codes[n + taken] = BASIC, AT_LOWER
        self._code[:] = self._codes
        if not self._factored:
            basic = np.flatnonzero(self._codes == BASIC)
            self._place[:] = -1
            self._head[:] = basic
            self._place[basic] = np.arange(m)
            known = self._known_weights
            self._weight[:] = 1.0 if known is None or len(known) != n + m else known[basic]
            self._core.factored = False
            self._factored = True

    def _take_far(self) -> bool:
        """Let the far bounds count from now on; say whether there are any."""
        self._leaves_far = False
        if not (
            (np.isfinite(self.lower) & (self.lower <= -FAR)) | (np.isfinite(self.upper) & (self.upper >= FAR))
        ).any():
            return False
        self._codes = self._code.copy()
        self._install()
        return True

    def _restore(self) -> None:
        """Set true bounds and costs, put nonbasic variables on their bounds, and recompute."""
        self._core.restore(*self._scaled)
        self._core.refactorise()
        self._core.recompute()

    def _run(self, kernel: Any, limits: Limits, cutoff: float, *, perturb: bool, stuck: bool = False) -> int | Outcome:
        """Run a kernel to its end, watching the limits between epochs."""
        core = self._core
        kernel.start()
        if kernel is self._dual:
            if perturb:
                kernel.perturb()
            kernel.cutoff = cutoff - self.problem.offset
        if self.bytes > limits.memory:
            return self._stopped("memory")
        result = GOING_ON
        reason: Reason | None = None
        patience = PATIENCE * (self.problem.m + self.problem.n) + 10_000
        if self._quick and not stuck:  # a short way is expected; who goes round in circles is perturbed
            patience = self.problem.m + 500
        last = core.iterations + patience
        while result == GOING_ON:
            before = core.iterations
            allowed = limits.iterations - self.counters.iterations
            most = last if allowed == float("inf") else min(last, before + max(0, int(allowed)))
            result = kernel.run(BUDGET, most)
            done = core.iterations - before
            self.counters.iterations += done
            if kernel is self._dual:
                self.counters.dual_iterations += done
            else:
                self.counters.primal_iterations += done
            if result == GOING_ON:
                limits.tell(self.counters.iterations, 0, float("inf"), float("-inf"))
                reason = limits.exceeded(self.counters.iterations, held=self.bytes)
                if reason:
                    return self._stopped(reason)
        if result == AT_LIMIT and self.counters.iterations >= limits.iterations:
            return self._stopped("iterations")
        return STUCK if result == AT_LIMIT else result

    # ------------------------------------------------------------------ answers

    def _values(self) -> tuple[Floats, Floats]:
        """Return column values and row activities in true units; the judge knows what they are worth."""
        x, activity = np.empty(self.problem.n), np.zeros(self.problem.m)
        noise = 0.0
        if not self._quick:  # basic values that miss a bound by rounding alone are told as the bound
            noise = min(NOISE * max(1.0, np.abs(self._x).max(initial=0.0)), TOLERANCE / 10)
        self._judge.values(self._x, self._unit, self._code, x, activity, noise)
        return x, activity

    def _duals(self, x: Floats, activity: Floats) -> tuple[Floats, Floats]:
        """Return dual values of rows and reduced costs of columns, of the true costs at the present basis."""
        y = self._scaled[2][self._head]
        self._core.solve_backward(y)
        y *= self._rows
        if not self._quick:
            y += self.backward(self._basic_residual(y))  # one step of refinement
        reduced = np.empty(self.problem.n)
        self._judge.duals(y, self._code, x, activity, reduced)
        return y, reduced

    def _basic_residual(self, y: Floats) -> Floats:
        """Return the reduced costs of the basic variables, which exact dual values would make zero."""
        d = np.concatenate((self.costs - self.problem.priced(y), y))
        return np.asarray(d[self._head])

    def _finish(self) -> Outcome | None:
        """Return the optimal outcome if it holds on the original problem."""
        x, activity = self._values()
        if self._judge.excess > FEASIBILITY:
            return None
        y, reduced = self._duals(x, activity)
        judge, offset = self._judge, self.problem.offset
        if judge.wrong > OPTIMALITY:
            return None
        objective, bound = judge.objective + offset, min(judge.nearly, judge.objective) + offset
        if not self._quick:
            if not judge.endless and bound >= objective - EQUAL * max(1.0, abs(objective)):
                bound = objective  # but for rounding
            elif bound == objective:
                bound = float(np.nextafter(objective, -np.inf))  # a limit that does not exist would have to hold
        reduced[self._code[: self.problem.n] == BASIC] = 0.0
        y[self._code[self.problem.n :] == BASIC] = 0.0
        return self._outcome("optimal", x, activity, y=y, reduced=reduced, objective=objective, bound=bound)

    def _outcome(self, status: Status, x: Floats, activity: Floats, **more: Any) -> Outcome:
        n = self.problem.n
        basis = Basis(self._code[:n].copy(), self._code[n:].copy())
        return Outcome(status, x=x, activity=activity, basis=basis, **more)

    def _stopped(self, reason: Reason | None) -> Outcome:
        """Return what is known: the present values if they are feasible."""
        if self._quick:
            return Outcome("stopped", reason)
        x, activity = self._values()
        feasible, judge, offset = self._judge.excess <= FEASIBILITY, self._judge, self.problem.offset
        y, _ = self._duals(x, activity)
        p = self.problem
        nowhere = ((y > 0) & np.isinf(p.row_lower)) | ((y < 0) & np.isinf(p.row_upper))
        if judge.endless and nowhere.any():  # a dual value on a side without a limit proves nothing: without it
            judge.duals(np.where(nowhere, 0.0, y), self._code, x, activity, np.empty(p.n))
        bound = -np.inf if judge.endless or not np.isfinite(judge.nearly) else judge.nearly + offset
        if not feasible:
            return Outcome("stopped", reason, bound=bound)
        objective = judge.objective + offset
        return self._outcome("stopped", x, activity, reason=reason, objective=objective, bound=min(bound, objective))

    def _beyond(self, cutoff: float) -> Outcome | None:
        """Return the outcome of an objective that the dual method has seen pass a cutoff, if dual values prove it."""
        self._duals(*self._values())
        bound = self._judge.nearly + self.problem.offset
        proven = not self._judge.endless and bound >= cutoff - EQUAL * max(1.0, abs(cutoff))
        return Outcome("stopped", bound=bound) if proven else None

    def _infeasible(self, kernel: Any) -> Outcome | None:
        m = self.problem.m
        if kernel is self._dual:
            rho = kernel.core.rho
            weights = np.asarray(rho.value)[:m] * kernel.direction
        else:
            weights = np.asarray(kernel.phase_cost)[self._head]
            self._core.solve_backward(weights)
        size = np.abs(weights).max(initial=0.0)
        for floor in (1e-9, 0.0):
            proof = np.where(np.abs(weights) > floor * size, weights, 0.0) * self._rows
            if certificates.proof_holds(self.problem, proof, self.lower, self.upper):
                return Outcome("infeasible", proof=proof)
        return None

    def _unbounded(self) -> Outcome | None:
        n = self.problem.n
        primal = self._primal
        if self._core.bounds_changed:
            self._restore()
            if self._core.primal_infeasibility() > self._core.primal_tolerance:
                return None
            primal.start()
            if primal.run(BUDGET, NO_LIMIT) != BEYOND:
                return None
        ray = np.zeros(len(self._x))
        column = self._core.column
        ray[self._head] = -primal.direction * np.asarray(column.value)[: self.problem.m]
        ray[primal.entering] = primal.direction
        ray[np.abs(ray) < 1e-11 * np.abs(ray).max()] = 0.0
        direction = ray[:n] * self._columns
        if not certificates.ray_holds(replace(self.problem, costs=self.costs), direction, self.lower, self.upper):
            return None
        x, activity = self._values()
        if certificates.feasible(self.problem, x, activity, self.lower, self.upper):
            objective = float(self.costs @ x) + self.problem.offset
            return self._outcome("unbounded", x, activity, ray=direction, objective=objective)
        return self._from_nearer_point(direction)

    def _from_nearer_point(self, ray: Floats) -> Outcome | None:
        """Return the unbounded outcome from a point found without costs: the present one is too far out."""
        plain = LinearSolver(replace(self.problem, costs=np.zeros(self.problem.n)))
        plain.change_bounds(slice(None), self.lower, self.upper)
        found = plain.solve()
        if found.status != "optimal" or found.x is None:
            return None
        objective = float(self.costs @ found.x) + self.problem.offset
        return replace(
            found, status="unbounded", ray=ray, objective=objective, bound=float("-inf"), y=None, reduced=None
        )


def _apart(outcome: Outcome) -> bool:
    """Say whether an optimum is farther from its bound than the tolerance explains."""
    room = OPTIMALITY * max(1.0, abs(outcome.objective))
    return outcome.status == "optimal" and outcome.objective - outcome.bound > room


def _logical_codes(problem: Problem) -> Codes:
    """Return the codes of the basis of all logicals, columns at the bound nearer to zero."""
    codes = np.full(problem.n + problem.m, AT_LOWER, np.int8)
    codes[problem.n :] = BASIC
    codes[: problem.n][np.abs(problem.upper) < np.abs(problem.lower)] = AT_UPPER
    return codes
