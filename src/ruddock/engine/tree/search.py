"""Branch and bound: best bound first, diving from each node that is taken up.

The bound, the best plan and the gap hold at every moment, so a search that is stopped by a limit or
by the user hands back what it has.
"""

from __future__ import annotations

import time
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import replace
from functools import cached_property
from itertools import count
from typing import TYPE_CHECKING, Any

import numpy as np

from ruddock.engine import certificates
from ruddock.engine.outcome import FEASIBILITY, Basis, Counters, Limits, Moment, Options, Outcome, Reason
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.tree import answer, heuristics, root
from ruddock.engine.tree.answer import EQUAL
from ruddock.engine.tree.branching import PseudoCosts, choose
from ruddock.engine.tree.domain import NEAR, Branch, Domain, objective_step
from ruddock.engine.tree.node import Narrowed, Node, OpenNodes
from ruddock.engine.tree.symmetry import with_sums
from ruddock.engine.tree.tighten import Tightening, propagator, whole_columns

if TYPE_CHECKING:
    from ruddock.engine.tree.helper import Helper
    from ruddock.problem import Floats, Ints, Problem

NODE_WORK = 20  # times the entries of the problem that propagation looks at in one node, at most
MOST_TURNS = 200  # that a node is solved anew because its point has left its bounds
OUTSIDE = 1e-5  # how far out of its bounds a point is solved anew; less is within the tolerance
TRIED_AGAIN = 5  # times that trials may fix something at one node
EARLIEST = 10  # nodes before which no helper is thought of
NODE_BYTES = 640  # of an open node, about, beside its basis
BASES = 200_000_000  # bytes of bases that open nodes keep; beyond, children start from where the solver stands


def search_tree(problem: Problem, limits: Limits, options: Options) -> Outcome:
    """Solve a problem with integer or semicontinuous columns."""
    wide = None
    if options.symmetry and options.presolve and options.lazy is None and options.priorities is None:
        wide = with_sums(problem)
    if wide is None:
        return TreeSearch(problem, limits, options).run()
    if options.start is not None:
        sums = wide.matrix()[problem.m :, : problem.n] @ options.start
        options = replace(options, start=np.concatenate((options.start, sums)))
    outcome = TreeSearch(wide, limits, options).run()
    if outcome.proof is not None:
        plain = answer.proof_or_nothing(TreeSearch(problem, limits, options))
        return replace(plain, counters=outcome.counters, history=outcome.history)
    m, n = problem.m, problem.n
    return replace(
        outcome,
        x=None if outcome.x is None else outcome.x[:n],
        activity=None if outcome.activity is None else outcome.activity[:m],
        ray=None if outcome.ray is None else outcome.ray[:n],
    )


class TreeSearch:
    """One search over the discrete columns of a problem.

    Parameters
    ----------
    problem : Problem
    limits : Limits
    options : Options

    Attributes
    ----------
    relaxed : Problem
        The tightened problem with cuts, in the same columns, on which the search works. Plans are judged on
        ``problem``.
    lower, upper : float arrays, shape (n,)
        Bounds that hold for all plans worth finding.
    """

    def __init__(self, problem: Problem, limits: Limits, options: Options | None = None) -> None:
        self.problem, self.limits = problem, limits
        self.quiet = replace(limits, on_progress=None, on_event=None)
        self.options = options or Options()
        self.domain = Domain(problem)
        self.lower, self.upper = self.domain.lower.copy(), self.domain.upper.copy()
        self.relaxed = problem
        self.tightening: Tightening | None = None
        self.counters = Counters()  # of all solvers of this search, and of those near its plans
        self.solver: LinearSolver  # of the relaxed problem, once that is prepared
        self.whole = whole_columns(problem) != 0
        self.costs = PseudoCosts(problem.n)
        self.priorities = self.options.priorities
        self.open = OpenNodes()
        self.step = objective_step(problem)
        self.best: Floats | None = None
        self.best_value = float("inf")
        self.given_up = float("inf")  # least bound among nodes left out because of the gap asked for
        self.uncertain = False  # a node was lost to numerical trouble
        self.own_nodes = self.nodes_elsewhere = 0
        self.helper: Helper | None = None
        self.trial_iterations = self.dive_iterations = self.near_iterations = self.near_turn = self.near_failures = 0
        self.earlier: list[Floats] = []  # the best plans so far, the best one last
        self.current = float("-inf")  # bound of the node being worked on
        self.history: list[Moment] = []
        self.root: tuple[Floats, float] | None = None  # reduced costs and value of the root, for fixing
        self.cut_counts: dict[str, int] = {}
        self.parts: dict[str, float] = {}  # seconds by part
        self._bases = self.node_iterations = 0
        self._weights: tuple[Basis | None, Floats | None] = None, None  # of the basis of the node at work
        self._rest: LinearSolver | None = None

    @cached_property
    def locks(self) -> tuple[np.ndarray, np.ndarray]:
        """Down and up locks of the columns."""
        return self.problem.locks()

    @property
    def iterations(self) -> int:
        """Simplex iterations so far."""
        return self.counters.iterations

    @property
    def nodes(self) -> int:
        """Nodes worked on so far, the helper's among them."""
        return self.own_nodes + self.nodes_elsewhere

    def __getstate__(self) -> dict[str, Any]:
        """Return what a helper begins from: all but solvers, open nodes, limits, and what the root was for."""
        left_out = ("solver", "_rows", "_rest", "open", "limits", "quiet", "tightening", "helper", "history")
        state = {name: value for name, value in self.__dict__.items() if name not in left_out}
        state["options"] = replace(self.options, heuristics=False, start=None, cores=1)
        return {**state, "gap": self.limits.gap}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.limits = self.quiet = Limits(gap=state.pop("gap"))
        self.__dict__.update(state)
        self.open, self.history, self.tightening, self.helper, self._rest = OpenNodes(), [], None, None, None
        self._bases = 0
        self._weights = None, None
        self.load_solver()
        self.load_rows()

    def run(self) -> Outcome:
        """Search to the end or to a limit."""
        if (self.domain.lower > self.domain.upper).any():
            return answer.nothing(self)
        with self.part("presolve"):
            root.prepare(self)
        if self.tightening is not None and self.tightening.infeasible:
            return answer.proof_or_nothing(self)
        heuristics.try_start(self)
        first = self.relax(self.lower, self.upper)
        if first.status == "infeasible":
            return answer.proof_or_nothing(self) if self.best is None else answer.of_search(self, None)
        if first.status == "unbounded":
            return self._unbounded()
        if first.status == "stopped":
            return answer.of_search(self, first.reason)
        try:
            return answer.of_search(self, self._search(Node(first.objective), first))
        finally:
            if self.helper is not None:
                self.helper.close()

    @contextmanager
    def part(self, name: str) -> Iterator[None]:
        """Count the time of a part."""
        start = time.monotonic()
        try:
            yield
        finally:
            self.parts[name] = self.parts.get(name, 0.0) + time.monotonic() - start

    def load_solver(self) -> None:
        """Take a solver without history; the counters go on."""
        self.solver = LinearSolver(self.relaxed)
        self.solver.counters = self.counters

    def load_rows(self) -> None:
        """Make the rows ready for propagation; the best plan's value is the last of them."""
        self._rows = propagator(self.relaxed.with_rows(self.relaxed.costs[None, :], -np.inf, np.inf))
        self._tell_cutoff()

    def limit(self) -> Reason | None:
        """Return the reason to stop now, or None."""
        held = len(self.open) * NODE_BYTES + self._bases
        return "memory" if held > self.limits.memory else self.limits.exceeded(self.iterations, self.nodes)

    # ------------------------------------------------------------------ nodes

    def relax(self, lower: Floats, upper: Floats) -> Outcome:
        """Solve the relaxation within the given column bounds, from the solver's present basis."""
        self.set_bounds(lower, upper)
        cutoff = self.threshold(self.limits.gap)
        outcome = self.solver.solve(self.quiet, cutoff=cutoff, quick=True)
        if outcome.status == "stopped" and outcome.reason == "numerics":
            self.load_solver()
            self.set_bounds(lower, upper)
            outcome = self.solver.solve(self.quiet)
        return outcome

    def set_bounds(self, lower: Floats, upper: Floats) -> None:
        """Give the relaxation bounds: all of whole columns, of the others those of the root or of a branch."""
        lower = np.where(self.whole, lower, self._continuous(lower, self.lower))
        upper = np.where(self.whole, upper, self._continuous(upper, self.upper))
        self.solver.change_bounds(slice(None), lower, upper)

    def _continuous(self, here: Floats, root: Floats) -> Floats:
        """Return the bounds of continuous columns that the relaxation gets: those of the root, but branches count."""
        if not len(self.domain.semis):
            return root
        bounds = root.copy()
        bounds[self.domain.semis] = here[self.domain.semis]
        return bounds

    def threshold(self, gap: float = 0.0) -> float:
        """Return the objective value from which on a plan is no better than the best, by a gap."""
        if self.best is None:
            return float("inf")
        slack = max(EQUAL, gap) * max(1.0, abs(self.best_value))
        return self.best_value - max(slack, self.step * (1 - 1e-6) if self.step else 0.0)

    def settled(self, bound: float) -> bool:
        """Say whether the best plan is as good as a node with this bound can hold."""
        return self.best is not None and bound >= self.threshold(self.limits.gap)

    def _tell_cutoff(self) -> None:
        """Let propagation know what a plan must at least be worth."""
        self._rows.row_upper[self._rows.m - 1] = self.threshold() - self.problem.offset

    def _useless(self, bound: float) -> bool:
        """Say whether a node cannot hold a plan worth finding; note what the gap asked for leaves out."""
        if not self.settled(bound):
            return False
        if bound < self.threshold():
            self.given_up = min(self.given_up, bound)
        return True

    def propagate(self, lower: Floats, upper: Floats, columns: np.ndarray | None) -> bool:
        """Tighten bounds in place by what rows and the best plan imply; say whether anything can be left."""
        if not self.options.presolve:
            return bool((lower <= upper).all())
        semis = self.domain.semis
        kept = (lower[semis].copy(), upper[semis].copy()) if len(semis) else None
        count = self._rows.run(lower, upper, columns, 10_000 + NODE_WORK * self.relaxed.nonzeros)
        if kept is not None:
            lower[semis], upper[semis] = kept
        return bool(count >= 0)

    def go_on(self) -> Reason | None:
        """Work through the open nodes; return why that stopped early, or None."""
        return self._search(None, None)

    def _search(self, node: Node | None, outcome: Outcome | None) -> Reason | None:
        """Work through the tree, a node that may be solved already first; return why it stopped early, or None."""
        bounds: tuple[Floats, Floats] | None = None
        while True:
            self._share_work(last=node is None and not len(self.open))
            if node is None and not len(self.open):
                break
            if node is None:
                node = self._next()
                bounds = outcome = None
                if node is None:
                    continue
            self.current = node.bound
            self.limits.tell(self.iterations, self.nodes, self.best_value, self.bound())
            reason = self.limit()
            if reason is None and self.gap_reached():
                self.given_up = min(self.given_up, self.bound())
                return None
            if reason is None:
                self.own_nodes += 1
                node, bounds, reason = self._work_on(node, bounds, outcome)
                outcome = None
            if reason is not None:
                assert node is not None
                self.open.push(node)
                if self.helper is not None:
                    self.helper.take_back(self)
                return reason
        self.current = float("inf")
        return None

    def _next(self) -> Node | None:
        """Take up the open node with the least bound; None if it can be left out."""
        node = self.open.pop()
        if node.basis is not None:
            self._bases -= self.relaxed.m + self.relaxed.n
        if self._useless(node.bound):
            return None
        if node.basis is not None:
            self.install(node.basis)
        return node

    def _share_work(self, *, last: bool) -> None:
        """Exchange open nodes with the helper, once the search is long enough for one."""
        if self.helper is None and self.own_nodes >= EARLIEST:
            from ruddock.engine.tree.helper import Helper, wanted  # here, since its import is for long searches only

            if wanted(self):
                self.helper = Helper(self)
        if self.helper is not None:
            self.helper.meet(self, now=last)

    def install(self, basis: Basis) -> None:
        """Start from a basis; rows that came later join it by their logicals."""
        missing = self.relaxed.m - len(basis.rows)
        if missing > 0:
            basis = Basis(basis.columns, np.concatenate((basis.rows, np.zeros(missing, np.int8))))
        of, weights = self._weights
        self.solver.start_from(basis, weights if of is basis else None)

    def _work_on(
        self, node: Node, before: tuple[Floats, Floats] | None, outcome: Outcome | None
    ) -> tuple[Node | None, tuple[Floats, Floats] | None, Reason | None]:
        """Propagate, solve and branch; return the child to go on with, its parent's bounds, or a reason to stop."""
        if before is None:
            before = self.lower.copy(), self.upper.copy()
            if node.parent is not None:
                node.parent.apply(*before)
        lower, upper = np.maximum(before[0], self.lower), np.minimum(before[1], self.upper)
        if node.column >= 0:
            lower[node.column] = max(lower[node.column], node.lower)
            upper[node.column] = min(upper[node.column], node.upper)
            if (lower > upper).any() or not self.propagate(lower, upper, np.array([node.column], np.int32)):
                return None, None, None
        for turn in count():
            if outcome is None:
                so_far = self.iterations
                outcome = self.relax(lower, upper)
                self.node_iterations += self.iterations - so_far
            if outcome.basis is not None:
                self._weights = outcome.basis, self.solver.pricing_weights
            if outcome.status == "stopped" and outcome.reason not in (None, "numerics"):
                return node, before, outcome.reason
            if node.depth == 0 and turn == 0 and outcome.status == "optimal":
                outcome = root.at_root(self, node, outcome)
                lower, upper = np.maximum(lower, self.lower), np.minimum(upper, self.upper)
                if outcome.status == "stopped" and outcome.reason is not None:
                    return node, before, outcome.reason
            child, again = self._expand(
                node, outcome, (lower, upper), last=turn >= TRIED_AGAIN, settled=turn >= MOST_TURNS
            )
            if not again:
                return child, (lower, upper), None
            outcome = None  # bounds became tighter, or rows were added: once more
            reason = self.limit()
            if reason is not None:
                return node, before, reason
        raise AssertionError("counting has no end")

    def _expand(
        self, node: Node, outcome: Outcome, here: tuple[Floats, Floats], *, last: bool, settled: bool
    ) -> tuple[Node | None, bool]:
        """Judge a solved node: prune it, take its plan, or branch. Returns the child to go on with, or "again"."""
        lower, upper = here
        if outcome.status == "infeasible":
            return None, False
        if outcome.status == "stopped" and outcome.reason is None:
            self._useless(outcome.bound)
            return None, False
        if outcome.status != "optimal" or outcome.x is None:
            return self._branch_blindly(node, here), False
        x, value = outcome.x, outcome.objective
        if node.column >= 0 and node.change > 0:
            self.costs.learn(node.column, node.up, node.change, value - node.bound)
            node.change = 0.0
        node.bound = max(node.bound, value)
        if self._useless(node.bound):
            return None, False
        violated = self.domain.violated(x)
        if not len(violated):
            rows = self.lazy_rows(x)
            if rows:
                return None, True
            taken = self.try_plan(x)
            if self._useless(node.bound):
                return None, False
            # snapping moved the plan off this value, or failed: take the domain apart further
            violated = np.flatnonzero(self.domain.distance(x) > NEAR)
            if not len(violated):
                if not taken:
                    return self._branch_blindly(node, here), False
                if self.best_value - node.bound <= FEASIBILITY * max(1.0, abs(self.best_value)):
                    return None, False  # the same but for the tolerance of the relaxation
                self.given_up = min(self.given_up, node.bound)
                return None, False
        else:
            found = self.best_value
            heuristics.look_for_plans(self, node, outcome, lower, upper)
            if self.best_value < found and self._useless(node.bound):
                return None, False
        if not self._fix_by_reduced_costs(outcome, lower, upper):
            return None, False
        if not settled and ((x < lower - OUTSIDE) | (x > upper + OUTSIDE))[self.whole].any():
            return None, self._again(outcome)
        choice = choose(self, violated, outcome, lower, upper, trials=not last)
        if choice.hopeless:
            return None, False
        if choice.fixed is not None:
            for column, low, high in choice.fixed:
                lower[column], upper[column] = max(lower[column], low), min(upper[column], high)
            columns = np.array([column for column, *_ in choice.fixed], np.int32)
            if (lower[columns] > upper[columns]).any() or not self.propagate(lower, upper, columns):
                return None, False
            return None, self._again(outcome)
        if choice.branch is None:
            return self._branch_blindly(node, here), False
        return self._split(node, choice.branch, outcome.basis, here), False

    def _again(self, outcome: Outcome) -> bool:
        """Go back to the basis of a node that is solved once more."""
        if outcome.basis is not None:
            self.install(outcome.basis)
        return True

    def _split(
        self,
        node: Node,
        branch: Branch,
        basis: Basis | None,
        here: tuple[Floats, Floats],
    ) -> Node:
        """Make both children; queue one and return the other to dive into."""
        parent = Narrowed.between((self.lower, self.upper), here)
        keep = basis if self._bases < BASES else None
        children = [
            Node(node.bound, node.depth + 1, parent, branch.column, low, high, up, change, keep)
            for (low, high), up, change in (
                (branch.down, False, branch.fraction),
                (branch.up, True, 1.0 - branch.fraction),
            )
        ]
        first = int(self.costs.prefers_up(branch.column, branch.fraction))
        self.open.push(children[1 - first])
        if keep is not None:
            self._bases += self.relaxed.m + self.relaxed.n
        if basis is not None:
            self.install(basis)
        return children[first]

    def _branch_blindly(self, node: Node, here: tuple[Floats, Floats]) -> Node | None:
        """Branch without values: the relaxation could not be solved reliably here."""
        lower, upper = here
        for column in np.union1d(self.domain.integers, self.domain.semis):
            low, high = lower[column], upper[column]
            if low < high:
                middle = (
                    (low + high) / 2 if np.isfinite(low + high) else (low + 0.5 if np.isfinite(low) else high - 0.5)
                )
                branch = self.domain.branch(int(column), float(np.nextafter(middle, low)), lower, upper)
                if branch is not None:
                    return self._split(node, branch, None, here)
        self.uncertain = True
        self.given_up = min(self.given_up, node.bound)
        return None

    # ------------------------------------------------------------------ fixing

    def _fix_by_reduced_costs(self, outcome: Outcome, lower: Floats, upper: Floats) -> bool:
        """Narrow integer columns that would cost too much to move; say whether anything can be left."""
        if self.best is None or outcome.reduced is None:
            return True
        moved = self.narrow(outcome.reduced, outcome.objective, lower, upper)
        return not len(moved) or self.propagate(lower, upper, moved)

    def narrow(self, reduced: Floats, value: float, lower: Floats, upper: Floats) -> np.ndarray:
        """Narrow bounds of integer columns in place by reduced costs; return which."""
        room = self.threshold() - value
        free = self.whole & (lower < upper)
        with np.errstate(all="ignore"):  # infinite room, zero reduced costs
            steps = np.floor(room / np.abs(reduced) + 1e-6)
            low = free & (reduced > 1e-9) & np.isfinite(lower) & (lower + steps < upper)
            high = free & (reduced < -1e-9) & np.isfinite(upper) & (upper - steps > lower)
        upper[low] = lower[low] + steps[low]
        lower[high] = upper[high] - steps[high]
        return np.flatnonzero(low | high).astype(np.int32)

    # ------------------------------------------------------------------ plans

    def lazy_rows(self, x: Floats) -> bool:
        """Ask the caller's check about a whole plan; rows that it breaks join the problem."""
        if self.options.lazy is None:
            return False
        rows = self.options.lazy(x)
        if not rows:
            return False
        matrix = np.zeros((len(rows), self.problem.n))
        for k, (columns, values, _, _) in enumerate(rows):
            np.add.at(matrix[k], columns, values)
        low, high = np.array([row[2] for row in rows]), np.array([row[3] for row in rows])
        self.problem = self.problem.with_rows(matrix, low, high)
        self.append(matrix, low, high)
        return True

    def append(self, matrix: object, low: Floats, high: Floats) -> None:
        """Append rows to the relaxation."""
        self.relaxed = self.relaxed.with_rows(matrix, low, high)
        self.solver.append_rows(matrix, low, high)
        self.load_rows()

    def delete(self, rows: Ints) -> None:
        """Take rows out of the relaxation."""
        self.solver.delete_rows(rows)
        p = self.solver.problem
        self.relaxed = replace(p, row_lower=p.row_lower.copy(), row_upper=p.row_upper.copy())
        self.load_rows()

    def try_plan(self, x: Floats) -> bool:
        """Snap ``x`` to allowed values, solve the continuous rest, and keep it if it is the best so far.

        Returns whether the snapped plan is feasible on the original data.
        """
        lower, upper = self.domain.fixing(x)
        if (lower > upper).any():
            return False
        if (lower == upper).all():
            return self.keep(lower, lower, upper)
        if not self.options.lazy and not certificates.possible(self.problem, lower, upper):
            return False
        solver = self._plan_solver
        solver.change_bounds(slice(None), lower, upper)
        solver.counters = self.counters
        outcome = solver.solve(self.quiet, cutoff=self.best_value)
        if outcome.status != "optimal" or outcome.x is None:
            return False
        return self.keep(outcome.x, lower, upper)

    def inner(self, problem: Problem, nodes: int, *, cutoff: bool = False) -> Floats | None:
        """Return the best plan of a problem near this one, by a search of its own within a budget.

        Parameters
        ----------
        cutoff : whether only plans better than the best so far are of use
        """
        if cutoff and self.best is not None:
            problem = problem.with_rows(problem.costs[None, :], -np.inf, self.threshold() - problem.offset)
        limits = replace(
            self.limits,
            nodes=nodes,
            iterations=self.iterations + 20 * (problem.m + problem.n) + 5000,
            seconds=min(
                self.limits.seconds, self.limits.elapsed() + 0.1 * (self.limits.seconds - self.limits.elapsed())
            ),
            on_progress=None,
            on_event=None,
        )
        options = replace(self.options, start=None, lazy=None, heuristics=True, branching="plain", inner=True)
        search = TreeSearch(problem, limits, options)
        search.counters = self.counters
        before = self.iterations
        search.run()
        self.near_iterations += self.iterations - before
        return search.best

    @property
    def _plan_solver(self) -> LinearSolver:
        """The solver of continuous rests, on the problem as it is, so that a plan never breaks it by a hair."""
        if self._rest is None or self._rest.problem.m != self.problem.m:
            self._rest = LinearSolver(self.problem)
        return self._rest

    def keep(self, plan: Floats, lower: Floats, upper: Floats) -> bool:
        """Keep a plan if it is feasible on the original data and the best so far; say whether it is feasible."""
        activity = self.problem.activity(plan)
        if not certificates.feasible(self.problem, plan, activity, lower, upper):
            return False
        value = self.problem.objective(plan)
        if value < self.best_value and not self.lazy_rows(plan):
            self.best, self.best_value = plan.copy(), value
            self.earlier = [*self.earlier[-4:], self.best]
            self._tell_cutoff()
            self._note()
            self._narrow_root()
        return True

    def _narrow_root(self) -> None:
        """Narrow the bounds of all better plans by the root's reduced costs, and by what follows from that.

        That nothing can be left shows in the nodes that are still open.
        """
        if self.root is not None:
            moved = self.narrow(*self.root, self.lower, self.upper)
            if len(moved):
                self.propagate(self.lower, self.upper, moved)

    def _note(self) -> None:
        """Record where the search stands."""
        bound = self.bound() if self.current > -np.inf or len(self.open) else float("-inf")
        self.history.append(Moment(self.limits.elapsed(), self.nodes, self.best_value, bound))
        self.limits.record("plan", objective=self.best_value, bound=bound, nodes=self.nodes)

    # ------------------------------------------------------------------ results

    def bound(self) -> float:
        """Return the proven lower bound of the whole problem at this moment."""
        least = min(self.open.bound, self.current, self.given_up, self.helper.bound if self.helper else np.inf)
        if self.step and np.isfinite(least):
            offset = self.problem.offset
            least = offset + np.ceil((least - offset) / self.step - 1e-6) * self.step
        return float(min(least, self.best_value))

    def gap_reached(self) -> bool:
        """Say whether the best plan is as good as asked for."""
        if self.best is None:
            return False
        gap = abs(self.best_value - self.bound()) / max(1.0, abs(self.best_value))
        return gap <= max(self.limits.gap, EQUAL)

    def _unbounded(self) -> Outcome:
        """Settle a problem whose relaxation is unbounded: with any whole plan at all, so is it."""
        root = LinearSolver(self.problem).solve(self.quiet)
        free = replace(self.problem, costs=np.zeros(self.problem.n))
        found = TreeSearch(free, self.limits, replace(self.options, start=None)).run()
        if found.x is None or root.status != "unbounded":
            return found
        return replace(root, x=found.x, activity=found.activity, objective=self.problem.objective(found.x), basis=None)
