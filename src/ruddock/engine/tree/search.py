"""Branch and bound: best bound first, diving from each node that is taken up.

The bound, the best plan and the gap hold at every moment, so a search that is stopped by a limit or
by the user hands back what it has.
"""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property
from typing import TYPE_CHECKING

import numpy as np

from ruddock.engine import certificates
from ruddock.engine.outcome import Limits, Outcome, Reason
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.tree import heuristics
from ruddock.engine.tree.branching import PseudoCosts
from ruddock.engine.tree.domain import NEAR, Branch, Domain, objective_step
from ruddock.engine.tree.node import Node, OpenNodes

if TYPE_CHECKING:
    from ruddock.problem import Floats, Problem

EQUAL = 1e-9  # relative difference below which two objective values count as the same
DIVE_EVERY = 200  # nodes between two dives while searching


class TreeSearch:
    """One search over the discrete columns of a problem.

    Parameters
    ----------
    problem : Problem
    limits : Limits
    """

    def __init__(self, problem: Problem, limits: Limits) -> None:
        self.problem, self.limits = problem, limits
        self.domain = Domain(problem)
        self.solver = LinearSolver(problem)
        self.costs = PseudoCosts(problem.n)
        self.open = OpenNodes()
        self.step = objective_step(problem)
        self.best: Floats | None = None
        self.best_value = float("inf")
        self.given_up = float("inf")  # least bound among nodes left out because of the gap asked for
        self.uncertain = False  # a node was lost to numerical trouble
        self.nodes = 0
        self.current = float("-inf")  # bound of the node being worked on

    @cached_property
    def locks(self) -> tuple[np.ndarray, np.ndarray]:
        """Down and up locks of the columns."""
        return self.problem.locks()

    @property
    def iterations(self) -> int:
        """Simplex iterations so far."""
        return self.solver.counters.iterations

    def run(self) -> Outcome:
        """Search to the end or to a limit."""
        if (self.domain.lower > self.domain.upper).any():
            return self._no_values()
        root = self.relax(self.domain.lower, self.domain.upper)
        if root.status == "infeasible":
            return self._finish_with(root)
        if root.status == "unbounded":
            return self._unbounded(root)
        if root.status == "stopped":
            return self._result(root.reason)
        reason = self._search(root)
        return self._result(reason)

    # ------------------------------------------------------------------ nodes

    def relax(self, lower: Floats, upper: Floats) -> Outcome:
        """Solve the relaxation within the given column bounds, from the solver's present basis."""
        self.solver.change_bounds(slice(None), lower, upper)
        cutoff = self._threshold()
        remaining = replace(self.limits, on_progress=None, on_event=None)
        outcome = self.solver.solve(remaining, cutoff=cutoff)
        if outcome.status == "stopped" and outcome.reason == "numerics":
            self.solver = self._fresh_solver(lower, upper)
            outcome = self.solver.solve(remaining)
        return outcome

    def _fresh_solver(self, lower: Floats, upper: Floats) -> LinearSolver:
        """Return a solver without the history that led into numerical trouble."""
        fresh = LinearSolver(self.problem)
        fresh.counters = self.solver.counters
        fresh.change_bounds(slice(None), lower, upper)
        return fresh

    def _threshold(self) -> float:
        """Return the objective value from which on a node is of no use."""
        if self.best is None:
            return float("inf")
        slack = max(EQUAL, self.limits.gap) * max(1.0, abs(self.best_value))
        return self.best_value - max(slack, self.step * (1 - 1e-6) if self.step else 0.0)

    def _useless(self, bound: float) -> bool:
        """Say whether a node cannot hold a plan worth finding; note what the gap asked for leaves out."""
        if bound < self._threshold():
            return False
        exact = self.best_value - max(EQUAL * max(1.0, abs(self.best_value)), self.step * (1 - 1e-6))
        if bound < exact:
            self.given_up = min(self.given_up, bound)
        return True

    def _search(self, root: Outcome) -> Reason | None:
        """Work through the tree; return why it stopped early, or None."""
        node: Node | None = Node(root.objective)
        outcome: Outcome | None = root
        while node is not None or len(self.open):
            if node is None:
                node = self.open.pop()
                if self._useless(node.bound):
                    node = None
                    continue
                if node.basis is not None:
                    self.solver.basis = node.basis
                outcome = None
            self.current = node.bound
            self.limits.tell(self.iterations, self.nodes, self.best_value, self.bound())
            reason = self.limits.exceeded(self.iterations, self.nodes)
            if reason is not None:
                self.open.push(node)
                return reason
            if self._gap_reached():
                self.given_up = min(self.given_up, self.bound())
                return None
            lower, upper = self.domain.lower.copy(), self.domain.upper.copy()
            node.narrow(lower, upper)
            if outcome is None:
                outcome = self.relax(lower, upper)
            self.nodes += 1
            if outcome.status == "stopped" and outcome.reason not in (None, "numerics"):
                self.open.push(node)
                return outcome.reason
            node = self._expand(node, outcome, lower, upper)
            outcome = None
        self.current = float("inf")
        return None

    def _expand(self, node: Node, outcome: Outcome, lower: Floats, upper: Floats) -> Node | None:
        """Judge a solved node: prune it, take its plan, or branch. Returns the child to go on with."""
        if outcome.status == "infeasible":
            return None
        if outcome.status == "stopped" and outcome.reason is None:
            self._useless(outcome.bound)
            return None
        if outcome.status != "optimal" or outcome.x is None:
            return self._branch_blindly(node, lower, upper)
        x, value = outcome.x, outcome.objective
        if node.column >= 0:
            self.costs.learn(node.column, node.up, node.change, value - node.bound)
        node.bound = max(node.bound, value)
        if self._useless(node.bound):
            return None
        violated = self.domain.violated(x)
        if not len(violated):
            taken = self.try_plan(x)
            if self._useless(node.bound):
                return None
            # snapping moved the plan off this value, or failed: take the domain apart further
            violated = np.flatnonzero(self.domain.distance(x) > NEAR)
            if not len(violated):
                if not taken:
                    return self._branch_blindly(node, lower, upper)
                self.given_up = min(self.given_up, node.bound)
                return None
        elif node.depth == 0 or self.nodes % DIVE_EVERY == 0:
            self._look_for_plans(x, lower, upper)
            if self._useless(node.bound):
                return None
        branch = self._choose_branch(violated, x, lower, upper)
        if branch is None:
            self.uncertain = True
            self.given_up = min(self.given_up, node.bound)
            return None
        return self._split(node, branch, outcome)

    def _choose_branch(self, violated: np.ndarray, x: Floats, lower: Floats, upper: Floats) -> Branch | None:
        branches = [self.domain.branch(int(j), float(x[j]), lower, upper) for j in violated]
        usable = [branch for branch in branches if branch is not None]
        if not usable:
            return None
        columns = np.array([branch.column for branch in usable])
        fractions = np.array([branch.fraction for branch in usable])
        return usable[self.costs.choose(columns, fractions)]

    def _split(self, node: Node, branch: Branch, outcome: Outcome | None) -> Node:
        """Make both children; queue one and return the other to dive into."""
        basis = outcome.basis if outcome is not None else None
        children = [
            Node(node.bound, node.depth + 1, node, branch.column, low, high, up, change, basis)
            for (low, high), up, change in (
                (branch.down, False, branch.fraction),
                (branch.up, True, 1.0 - branch.fraction),
            )
        ]
        first = int(self.costs.prefers_up(branch.column, branch.fraction))
        self.open.push(children[1 - first])
        return children[first]

    def _branch_blindly(self, node: Node, lower: Floats, upper: Floats) -> Node | None:
        """Branch without values: the relaxation could not be solved reliably here."""
        for column in np.union1d(self.domain.integers, self.domain.semis):
            low, high = lower[column], upper[column]
            if low < high:
                middle = (
                    (low + high) / 2 if np.isfinite(low + high) else (low + 0.5 if np.isfinite(low) else high - 0.5)
                )
                branch = self.domain.branch(int(column), float(np.nextafter(middle, low)), lower, upper)
                if branch is not None:
                    return self._split(node, branch, None)
        self.uncertain = True
        self.given_up = min(self.given_up, node.bound)
        return None

    # ------------------------------------------------------------------ plans

    def _look_for_plans(self, x: Floats, lower: Floats, upper: Floats) -> None:
        basis = self.solver.basis
        self.try_plan(heuristics.round_by_locks(self, x))
        heuristics.dive(self, x, lower, upper)
        if basis is not None:
            self.solver.basis = basis

    def try_plan(self, x: Floats) -> bool:
        """Snap ``x`` to allowed values, solve the continuous rest, and keep it if it is the best so far.

        Returns whether the snapped plan is feasible on the original data.
        """
        lower, upper = self.domain.fixing(x)
        if (lower > upper).any():
            return False
        if (lower == upper).all():
            plan = lower
        else:
            keep = self.solver.basis
            self.solver.change_bounds(slice(None), lower, upper)
            outcome = self.solver.solve(replace(self.limits, on_progress=None, on_event=None))
            if keep is not None:
                self.solver.basis = keep
            if outcome.status != "optimal" or outcome.x is None:
                return False
            plan = outcome.x
        activity = self.problem.activity(plan)
        if not certificates.feasible(self.problem, plan, activity, lower, upper):
            return False
        value = self.problem.objective(plan)
        if value < self.best_value:
            self.best, self.best_value = plan.copy(), value
        return True

    # ------------------------------------------------------------------ results

    def bound(self) -> float:
        """Return the proven lower bound of the whole problem at this moment."""
        least = min(self.open.bound, self.current, self.given_up)
        if self.step and np.isfinite(least):
            offset = self.problem.offset
            least = offset + np.ceil((least - offset) / self.step - 1e-6) * self.step
        return float(min(least, self.best_value))

    def _gap_reached(self) -> bool:
        if self.best is None:
            return False
        gap = abs(self.best_value - self.bound()) / max(1.0, abs(self.best_value))
        return gap <= max(self.limits.gap, EQUAL)

    def _result(self, reason: Reason | None) -> Outcome:
        bound = self.bound() if reason is not None else min(self.given_up, self.best_value)
        if self.best is None:
            if reason is None and not self.uncertain:
                return self._no_values()
            return self._finish_with(Outcome("stopped", reason or "numerics", bound=min(bound, float("inf"))))
        gap = abs(self.best_value - bound) / max(1.0, abs(self.best_value))
        proven = gap <= max(self.limits.gap, EQUAL)
        activity = self.problem.activity(self.best)
        if reason is None and not proven:
            reason = "numerics"
        return self._finish_with(
            Outcome(
                "optimal" if proven else "stopped",
                None if proven else reason,
                x=self.best,
                activity=activity,
                objective=self.best_value,
                bound=bound,
            )
        )

    def _no_values(self) -> Outcome:
        """Return the outcome of a search that proved that no whole plan exists."""
        crossed = np.flatnonzero(self.problem.lower > self.problem.upper)
        return self._finish_with(Outcome("infeasible", crossed_columns=tuple(int(j) for j in crossed)))

    def _unbounded(self, root: Outcome) -> Outcome:
        """Settle a problem whose relaxation is unbounded: with any whole plan at all, so is it."""
        free = replace(self.problem, costs=np.zeros(self.problem.n))
        search = TreeSearch(free, self.limits)
        found = search.run()
        if found.x is None:
            return found
        return replace(root, x=found.x, activity=found.activity, objective=self.problem.objective(found.x), basis=None)

    def _finish_with(self, outcome: Outcome) -> Outcome:
        counters = replace(self.solver.counters, nodes=self.nodes)
        return replace(outcome, counters=counters, y=None, reduced=None, basis=None)
