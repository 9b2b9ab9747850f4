"""A linear problem from presolve to a proven answer in its own rows and columns.

What presolve leaves is solved by the method asked for; the way back ends in a basis of the whole
problem, from which the simplex method confirms values, dual values and reduced costs. Where the way back
of a proof or a ray loses too much to rounding, the whole problem is solved instead.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from functools import cached_property, partial
from typing import TYPE_CHECKING

import numpy as np

from ruddock.engine import certificates, prediction, sifting
from ruddock.engine.network.flow import network_of
from ruddock.engine.outcome import Basis, Counters, Limits, Method, Options, Outcome
from ruddock.engine.presolve.chain import Presolve
from ruddock.engine.presolve.stage import Point
from ruddock.engine.simplex.scaled import crossing
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.problem import Floats, Problem

if TYPE_CHECKING:
    from ruddock.engine.interior.mehrotra import Interior

SEPARABLE = 2000  # rows and columns from which on separate parts are looked for
MOST_ASKED = 1e12  # multiplications of one interior step, at most, where the method was asked for
ROUGH_STEPS = 200  # of the first-order method, for prices that tell columns apart
MOST_CROSSED = 30_000  # rows and columns up to which the first-order method goes on to a basis
FEW_STEPS, MANY_STEPS = 20_000, 1_000_000  # that it may take before a crossover, and alone
WORTHWHILE = 500  # entries from which on presolve is tried

Reached = tuple[Basis | None, Floats | None]  # a basis, and the pricing weights of its variables; None if unknown
NOWHERE: Reached = None, None


class LinearSolve:
    """One solve of a linear problem.

    Parameters
    ----------
    problem : Problem
    limits : Limits
    options : Options
    """

    def __init__(self, problem: Problem, limits: Limits, options: Options) -> None:
        self.problem, self.limits, self.options = problem, limits, options
        self.counters = Counters()
        self._rival: prediction.Rival | None = None

    def run(self) -> Outcome:
        """Solve and return the outcome for the whole problem."""
        outcome = self._warm() or self._flow() or self._reduced_first() or self._solve(self.problem)
        if self.options.exact and outcome.status == "optimal":
            from ruddock.engine.exact import certify  # here, since few solves ask for it

            with self._part("check"):
                outcome, self.counters.certified = certify(self.problem, outcome, self.limits)
        return replace(outcome, counters=self.counters)

    @contextmanager
    def _part(self, name: str) -> Iterator[None]:
        """Add the time of a part to the counters."""
        begin = time.monotonic()
        try:
            yield
        finally:
            self.counters.parts[name] = self.counters.parts.get(name, 0.0) + time.monotonic() - begin

    def _warm(self) -> Outcome | None:
        """Solve from the basis given; None where there is none that fits."""
        basis, p = self.options.basis, self.problem
        if basis is None or (len(basis.rows), len(basis.columns)) != (p.m, p.n):
            return None
        solver = _started(p, basis)
        return self._simplex(solver, self.options.method if self.options.method in ("dual", "primal") else "auto")

    @cached_property
    def _worthwhile(self) -> bool:
        """Whether the problem is so large that its structure is worth a look, and no limits cross, which ends it."""
        p = self.problem
        return p.nonzeros >= WORTHWHILE and crossing(p, p.lower, p.upper) is None

    def _flow(self) -> Outcome | None:
        """Solve a network as it is, since no presolve is as fast; None where the problem is none."""
        if self.options.method != "auto" or not self._worthwhile:
            return None
        arcs = network_of(self.problem)
        return None if arcs is None else self._simplex(LinearSolver(self.problem, network=arcs))

    def _reduced_first(self) -> Outcome | None:
        """Solve what presolve leaves and come back; None where the whole problem must be solved."""
        p = self.problem
        if not self.options.presolve or not self._worthwhile:
            return None
        with self._part("presolve"):
            presolve = Presolve(p, stopped=lambda: self.limits.exceeded(0) is not None)
        stopped = self._out_of_time(p)
        if stopped is not None:
            return stopped
        left = presolve.problem
        self.counters.reductions = presolve.counts
        self.limits.record("presolve", rows=left.m, columns=left.n, entries=left.nonzeros, reductions=presolve.counts)
        if not presolve.steps:
            return None
        if presolve.contradiction is not None:
            return self._proven(presolve.restore(presolve.contradiction).y)
        outcome = self._solve(left)
        if outcome.status == "optimal":
            basis = self._restored(presolve, outcome)
            del presolve, left, outcome  # before the whole problem is worked on, which needs room of its own
            return self._simplex(_started(self.problem, basis))  # confirms it
        if outcome.status == "infeasible":
            if outcome.proof is None:
                return None
            reduced = -left.priced(outcome.proof)
            return self._proven(presolve.restore(Point(y=outcome.proof, d=reduced, proof=True)).y)
        if outcome.status == "unbounded":
            return self._unbounded(presolve, outcome)
        return self._stopped(presolve, outcome)

    def _solve(self, problem: Problem) -> Outcome:
        """Solve a problem by the method asked for, part by part where it falls into parts."""
        if self.options.presolve and self.options.method != "first-order" and problem.m + problem.n >= SEPARABLE:
            outcome = self._solve_parts(problem)
            if outcome is not None:
                return outcome
        return self._solve_whole(problem)

    def _solve_parts(self, problem: Problem) -> Outcome | None:
        """Solve the parts one by one; None where there is but one, or they do not settle the whole problem."""
        # here, since its import of SciPy's graphs takes longer than many a solve
        from ruddock.engine.presolve.components import Components

        with self._part("presolve"):
            components = Components(problem)
        if len(components.parts) <= 1:
            return None
        m, n = problem.m, problem.n
        x, y, reduced, activity = np.zeros(n), np.zeros(m), np.zeros(n), np.zeros(m)
        codes, row_codes = np.zeros(n, np.int8), np.zeros(m, np.int8)
        objective = problem.offset
        for rows, columns in components.parts:
            found = self._solve_whole(components.problem(rows, columns))
            if found.status == "infeasible" and found.proof is not None:
                proof = np.zeros(m)
                proof[rows] = found.proof
                return Outcome("infeasible", proof=proof)
            if found.status == "stopped" and found.reason != "numerics":
                return Outcome("stopped", found.reason, bound=problem.least(problem.lower, problem.upper))
            if found.status != "optimal" or found.basis is None:
                return None
            x[columns], reduced[columns], codes[columns] = found.x, found.reduced, found.basis.columns
            activity[rows], y[rows], row_codes[rows] = found.activity, found.y, found.basis.rows
            objective += found.objective
        return Outcome(
            "optimal",
            x=x,
            activity=activity,
            y=y,
            reduced=reduced,
            basis=Basis(codes, row_codes),
            objective=objective,
            bound=objective,
        )

    def _halted(self) -> bool:
        """Say whether a limit has passed."""
        return self.limits.exceeded(self.counters.iterations) is not None

    def _out_of_time(self, problem: Problem) -> Outcome | None:
        """Return what is known of a problem, if a limit has passed before anything was begun."""
        reason = self.limits.exceeded(self.counters.iterations)
        return Outcome("stopped", reason, bound=problem.least(problem.lower, problem.upper)) if reason else None

    def _solve_whole(self, problem: Problem) -> Outcome:
        """Solve a problem by the method asked for."""
        stopped = self._out_of_time(problem)
        if stopped is not None:
            return stopped
        method = self.options.method
        if problem.m and problem.n:
            if method == "first-order":
                return self._by_gradient(problem)
            if method == "interior" or (method == "auto" and prediction.interior_pays(problem)):
                return self._by_interior(problem)
        if method == "auto" and not sifting.pays(problem):
            return self._raced(problem)
        solver = LinearSolver(problem)
        if method != "auto" or self._begins(solver):
            return self._simplex(solver, method if method in ("dual", "primal") else "auto")
        del solver
        sifted = sifting.sift(problem, self._of_few_columns, lambda: self._rough_prices(problem))
        if sifted.stopped is not None:
            return sifted.stopped
        return self._simplex(_started(problem, sifted.basis))

    def _of_few_columns(self, problem: Problem, basis: Basis | None) -> Outcome:
        """Solve a problem that sifting has put together, from a basis where there is one."""
        stopped = self._out_of_time(problem)
        if stopped is not None:
            return stopped
        return self._raced(problem, basis, step=True)

    def _rough_prices(self, problem: Problem) -> Floats:
        """Return prices of the rows after a few steps of the first-order method: enough to tell columns apart."""
        # here, since few solves ask for it
        from ruddock.engine.first_order.restarted import Restarted

        def told(steps: int, objective: float, bound: float, missed: float) -> bool:
            self.limits.report(steps, phase="first-order method", infeasibility=lambda: missed)
            return self._halted()

        with self._part("first-order"):
            method = Restarted(problem, told, ROUGH_STEPS, stopped=self._halted)
            prices = method.solve().y
        self.counters.gradient_steps += method.steps
        return prices

    def _raced(self, problem: Problem, basis: Basis | None = None, *, step: bool = False) -> Outcome:
        """Solve by the simplex method, and where that takes long by another one that is then the better bet.

        Parameters
        ----------
        basis : to start from
        step : whether this is one of several problems on the way to another one
        """
        solver = _started(problem, basis)
        if problem.m >= prediction.RIVALLED:
            bet = prediction.LATE_BET if step else prediction.BET
            self._rival = None
            solver.rival = partial(self._rival_is_due, problem, bet)
        outcome = self._simplex(solver)
        if outcome.status != "stopped" or outcome.reason is not None:
            return outcome
        reached = solver.basis, solver.pricing_weights
        del solver  # the other method needs its room
        if self._rival is not None and self._rival.method == "first-order":
            return self._by_gradient(problem, reached, step=step)
        return self._by_interior(problem, reached)

    def _by_gradient(self, problem: Problem, reached: Reached = NOWHERE, *, step: bool = False) -> Outcome:
        """Solve by the first-order method; up to some size a crossover and the simplex method end it.

        Parameters
        ----------
        reached : where the simplex method begins if the first-order method does not come near to an optimum
        """
        # here, since few solves ask for it
        from ruddock.engine.first_order.plan import first_order
        from ruddock.engine.first_order.restarted import ACCURACY, ROUGH

        with self._part("first-order"):
            crosses = problem.m + problem.n <= MOST_CROSSED or self.options.method != "first-order"
            plan = not crosses or (self.limits.seconds < float("inf") and not step)
            steps, accuracy = FEW_STEPS if crosses else MANY_STEPS, ROUGH if step else ACCURACY
            found = first_order(problem, self.limits, self.counters, steps, plan=plan, accuracy=accuracy)
        if not crosses:
            return found.plan
        near = found.near
        if near.converged:
            values = np.concatenate((near.x, problem.activity(near.x)))
            solver = self._crossed_over(
                problem, values, np.concatenate((problem.costs - problem.priced(near.y), near.y))
            )
        else:
            solver = _started(problem, *reached)
        outcome = self._simplex(solver)
        if outcome.status != "stopped" or found.plan.x is None:
            return outcome
        better = outcome.x is not None and outcome.objective < found.plan.objective
        bound = max(outcome.bound, found.plan.bound)
        return replace(outcome if better else found.plan, reason=outcome.reason, bound=bound)

    def _begins(self, solver: LinearSolver) -> bool:
        """Let a solver begin from the network in its rows, where most of them are one; say whether it does."""
        with self._part("simplex"):
            return solver.begin_from_network(self.limits)

    def _rival_is_due(self, problem: Problem, bet: float, touched: int) -> bool:
        """Say whether the simplex method has taken so long that another one is the better bet."""
        if touched < prediction.HEAD_START:
            return False
        if self._rival is None:
            with self._part("interior"):
                self._rival = prediction.rival(problem, self.limits, self.counters.iterations)
        return touched >= bet * self._rival.work

    def _simplex(self, solver: LinearSolver, method: Method = "auto") -> Outcome:
        """Run the simplex method and add what it took."""
        counters = self.counters
        allowed = self.limits.iterations
        with self._part("simplex"):
            outcome = solver.solve(replace(self.limits, iterations=allowed - counters.iterations), method=method)
        counters.add(outcome.counters)
        return outcome

    def _by_interior(self, problem: Problem, reached: Reached = NOWHERE) -> Outcome:
        """Find an interior optimum, and let the simplex method end it from the basis beside it.

        Without an optimum the simplex method starts from a plan found on the way, or from where it is.

        Parameters
        ----------
        reached : where the simplex method has been before
        """
        crossed = crossing(problem, problem.lower, problem.upper)
        if crossed is not None:
            return crossed
        near = self._interior(problem)
        if near.converged:
            return self._simplex(self._crossed_over(problem, near.values, near.reduced))
        if near.steps and not self._halted():
            found = self._by_phase_one(problem)
            if isinstance(found, Outcome):
                return found
            if found is not None:
                reached = found, None
        return self._simplex(_started(problem, *reached))

    def _interior(self, problem: Problem) -> Interior:
        """Run the interior-point method."""
        # here, since its import of SciPy's factorisations takes longer than many a solve
        from ruddock.engine.interior.mehrotra import interior_point

        def stopped(steps: int, objective: float, bound: float) -> bool:
            self.limits.record("interior step", step=steps, objective=objective, bound=bound)
            apart = abs(objective - bound) / max(1.0, abs(objective))
            self.limits.report(steps, phase="interior point", infeasibility=lambda: apart)
            return self._halted()

        most, memory = MOST_ASKED, self.limits.memory
        if self.options.method != "interior":
            most, memory = prediction.MOST_WORK, min(memory, prediction.MOST_BYTES)
        with self._part("interior"):
            near = interior_point(problem, stopped, self._halted, most, memory)
        self.counters.interior_steps += near.steps
        return near

    def _crossed_over(self, problem: Problem, values: Floats, reduced: Floats) -> LinearSolver:
        """Return a solver at the basis beside a point that is nearly optimal."""
        with self._part("crossover"):
            solver = LinearSolver(problem)
            solver.cross_over(values, reduced, self.limits)
        return solver

    def _by_phase_one(self, problem: Problem) -> Outcome | Basis | None:
        """Prove that there is no plan, or return the basis of one."""
        from ruddock.engine.interior.phase_one import least_violation

        relaxed = least_violation(problem)
        near = self._interior(relaxed)
        if not near.converged:
            return None
        outcome = self._simplex(self._crossed_over(relaxed, near.values, near.reduced))
        if outcome.status != "optimal" or outcome.basis is None or outcome.y is None:
            return None
        if certificates.proof_holds(problem, outcome.y, problem.lower, problem.upper):
            return Outcome("infeasible", proof=outcome.y)
        return Basis(outcome.basis.columns[: problem.n], outcome.basis.rows)

    # ------------------------------------------------------------------ the way back

    def _restored(self, presolve: Presolve, outcome: Outcome) -> Basis:
        """Return the basis of the whole problem that belongs to an optimum of what presolve left."""
        assert outcome.basis is not None
        with self._part("presolve"):
            point = presolve.restore(
                Point(outcome.x, outcome.y, outcome.reduced, outcome.basis.columns, outcome.basis.rows)
            )
        assert point.columns is not None
        assert point.rows is not None
        return Basis(point.columns, point.rows)

    def _proven(self, proof: Floats | None) -> Outcome | None:
        p = self.problem
        if proof is None or not certificates.proof_holds(p, proof, p.lower, p.upper):
            return None
        return Outcome("infeasible", proof=proof)

    def _unbounded(self, presolve: Presolve, outcome: Outcome) -> Outcome | None:
        p = self.problem
        x = presolve.restore(Point(x=outcome.x)).x
        ray = presolve.restore(Point(x=outcome.ray, direction=True)).x
        if x is None or ray is None or not certificates.ray_holds(p, ray, p.lower, p.upper):
            return None
        activity = p.activity(x)
        if not certificates.feasible(p, x, activity, p.lower, p.upper):
            return None
        return Outcome("unbounded", x=x, activity=activity, ray=ray, objective=p.objective(x))

    def _stopped(self, presolve: Presolve, outcome: Outcome) -> Outcome:
        """Bring back the plan so far, if there is one."""
        p = self.problem
        x = presolve.restore(Point(x=outcome.x)).x if outcome.x is not None else None
        if x is None or not certificates.feasible(p, x, activity := p.activity(x), p.lower, p.upper):
            return Outcome("stopped", outcome.reason, bound=outcome.bound)
        return Outcome("stopped", outcome.reason, x=x, activity=activity, objective=p.objective(x), bound=outcome.bound)


def _started(problem: Problem, basis: Basis | None, weights: Floats | None = None) -> LinearSolver:
    """Return a solver that begins from a basis and its pricing weights, where there is one."""
    solver = LinearSolver(problem)
    if basis is not None:
        solver.start_from(basis, weights)
    return solver


def solve_linear(problem: Problem, limits: Limits, options: Options) -> Outcome:
    """Solve a linear problem; see `LinearSolve`."""
    return LinearSolve(problem, limits, options).run()
