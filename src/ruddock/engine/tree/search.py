"""Branch and bound: best bound first, diving from each node that is taken up.

The bound, the best plan and the gap hold at every moment, so a search that is stopped by a limit, by the user or
for want of memory hands back what it has.
"""

from __future__ import annotations

from contextlib import suppress
from dataclasses import replace
from itertools import count

import numpy as np

from ruddock.engine.measure import NEAR
from ruddock.engine.outcome import Basis, Limits, Options, Outcome, Reason
from ruddock.engine.simplex.constants import BEYOND, DONE, INFEASIBLE
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.tree import answer, root, vectors, workers
from ruddock.engine.tree.blocks import begin as blocks
from ruddock.engine.tree.blocks.search import PricedSearch
from ruddock.engine.tree.branching import LOOKAHEAD, RELIABLE, choose, tries_branches
from ruddock.engine.tree.domain import Branch
from ruddock.engine.tree.frontier import NO_PARENT, Node, Parent
from ruddock.engine.tree.hands import Return, Share
from ruddock.engine.tree.heuristics import Found, due, jump, keep_start, look_for_plans, try_start
from ruddock.engine.tree.lattice import whole_solution
from ruddock.engine.tree.part import Part
from ruddock.engine.tree.plunge import AGAIN, ASK, CLOSED, FIXED, OUTSIDE, SPLIT, Plunge
from ruddock.engine.tree.pseudocosts import FLOOR
from ruddock.engine.tree.state import SearchState
from ruddock.engine.tree.symmetry.orbits import Orbits
from ruddock.engine.tree.symmetry.parts import with_sums
from ruddock.engine.tree.walk import Walk
from ruddock.problem import Floats, Problem

MOST_TURNS = 200  # that a node is solved anew because its point has left its bounds
TRIED_AGAIN = 5  # times that trials may fix something at one node
ROUNDING = 1e-13  # relative: less than this a whole value is off by rounding alone
NEAR_SHARE = 0.1  # of the time left that one search near a plan may take
NEAR_ITERATIONS, NEAR_SIZE = 1500, 3  # that it may take, the second for each row and column
NEAR_SMALL = 1_000  # entries of a problem for which it prepares nothing

Box = tuple[Floats, Floats]


def search_tree(problem: Problem, limits: Limits, options: Options) -> Outcome:
    """Solve a problem with integer or semicontinuous columns."""
    state = SearchState(problem, limits, options)
    state.frontier.begin(Node(problem.least(state.domain.lower, state.domain.upper)))
    if options.start is None:
        _jump(state)
    search = TreeSearch(state)
    generation = blocks.begin(state, search.near)
    bound = state.bound()
    if state.gap_reached(bound):
        state.frontier.give_up(bound)
        return answer.of_search(state, None)
    if generation is not None:
        return PricedSearch(state, generation, search.near, work_on).run()
    wide = None
    if options.any_of_alike and options.presolve:
        wide = with_sums(problem)
    if wide is None:
        return search.run()
    start = options.start if state.incumbent.best is None else state.incumbent.best
    if start is not None:
        sums = wide.matrix()[problem.m :, : problem.n] @ start
        options = replace(options, start=np.concatenate((start, sums)))
    m, n = problem.m, problem.n
    tell = limits.on_plan
    if tell is not None:
        limits = replace(limits, on_plan=lambda x: tell(x[:n]))
    extended = SearchState(wide, limits, options, state.effort.counters)
    extended.follow(state)
    outcome = TreeSearch(extended).run()
    if outcome.proof is not None:
        plain = answer.proof_or_nothing(SearchState(problem, limits, options))
        return replace(plain, counters=outcome.counters, history=outcome.history)
    return replace(
        outcome,
        x=None if outcome.x is None else outcome.x[:n],
        activity=None if outcome.activity is None else outcome.activity[:m],
        ray=None if outcome.ray is None else outcome.ray[:n],
    )


def _jump(state: SearchState) -> None:
    """Look for plans before there is any relaxation, so that a search that is stopped early has one."""
    possible = bool((state.domain.lower <= state.domain.upper).all())
    if possible and state.options.heuristics and not state.options.inner:
        with state.effort.part("heuristics"):
            jump(state)


class TreeSearch(Walk):
    """A search by relaxations.

    Parameters
    ----------
    state : SearchState
    """

    def __init__(self, state: SearchState) -> None:
        super().__init__(state, work_on)
        n = state.problem.n
        self._here: Box = np.zeros(n), np.zeros(n)  # the bounds of the node at work
        self._branched: np.ndarray | None = None  # its columns that count for symmetries, where one is left
        self._at_work: Plunge | None = None
        self._made_for: tuple[object, object] = None, None
        # what a dive cannot branch on by itself
        options = state.options
        self._special = bool(len(state.domain.semis)) or options.priorities is not None

    def run(self) -> Outcome:
        """Search to the end or to a limit."""
        state = self.state
        if (state.domain.lower > state.domain.upper).any():
            return answer.nothing(state)
        possible, point = self._of_equations()
        if not possible:
            return answer.nothing(state)
        try:
            first = self._begin(point)
            if isinstance(first, Outcome):
                return first
            reason = self.go_on(first)
        except MemoryError:
            reason = "memory"
            with suppress(MemoryError):  # then without
                keep_start(state)
        finally:
            self.close()
        return answer.of_search(state, reason)

    def _of_equations(self) -> tuple[bool, Floats | None]:
        """Say whether the equations may have a whole solution, and return one, where that is looked for."""
        options = self.state.options
        return whole_solution(self.state.problem) if options.presolve and not options.inner else (True, None)

    def _begin(self, point: Floats | None) -> Outcome | tuple[Node, Outcome]:
        """Prepare the root and solve it; return the outcome if that settles the problem, else the node with its own.

        Parameters
        ----------
        point : a whole solution of the equations, which may be a plan
        """
        state = self.state
        state.frontier.begin(Node(state.problem.least(state.domain.lower, state.domain.upper)))
        with state.effort.part("presolve"):
            root.prepare(state)
        if state.tightening is not None and state.tightening.infeasible:
            return answer.proof_or_nothing(state)
        reason = state.effort.reason()
        if reason is not None:
            keep_start(state)
            return answer.of_search(state, reason)
        try_start(state, self.near)
        if point is not None and state.options.heuristics:
            state.try_plan(point)
        if state.incumbent.best is None:
            _jump(state)  # once more, within tighter bounds
        with state.effort.part("relaxation"):
            state.know_bound(state.relaxation.begin(state.bounds.lower, state.bounds.upper))
            first = state.relax(state.bounds.lower, state.bounds.upper, quick=False)
        if first.status == "infeasible":
            state.frontier.done()
            return answer.proof_or_nothing(state) if state.incumbent.best is None else answer.of_search(state, None)
        if first.status == "unbounded":
            return self._unbounded()
        node = Node(max(first.bound, state.frontier.bound))
        state.frontier.begin(node)
        if first.status == "stopped" and first.reason is not None:
            return answer.of_search(state, first.reason)
        return node, first

    # ------------------------------------------------------------------ nodes

    def _next(self) -> Node | None:
        """Take up the open node with the least bound, with the basis of its parent."""
        node = super()._next()
        if node is not None:
            self.state.relaxation.start_from(node.basis)
        return node

    def _visit(self, node: Node, outcome: Outcome | None, *, fresh: bool) -> tuple[Node | None, Reason | None]:
        """Work on a node; where a plan is watched, see whether it was left out."""
        state = self.state
        watched = state.watch is not None and state.watch.holds(node)
        child, reason = self._work_on(node, outcome, fresh=fresh)
        if watched and state.watch is not None and reason is None:
            box = self._here if child is not None else None
            state.watch.left(state.incumbent.threshold(state.effort.limits.gap), box)
        return child, reason

    def _work_on(self, node: Node, outcome: Outcome | None, *, fresh: bool) -> tuple[Node | None, Reason | None]:
        """Propagate, solve and branch; return the child to go on with, or a reason to stop.

        Parameters
        ----------
        outcome : of the node's relaxation, where that is known
        fresh : whether it was taken from the frontier; otherwise it is the child of the last one
        """
        state, here = self.state, self._here
        bounds, plunge = state.bounds, self._plunge()
        if fresh:
            parent = node.parent or NO_PARENT
            plunge.take(bounds.lower, bounds.upper, parent.columns, parent.lower, parent.upper)
        if not plunge.enter(bounds.lower, bounds.upper, node.column, node.lower, node.upper):
            return None, None
        state.look_for_orbits()
        branched = self._branched = node.branched(up=state.counts_up) if state.symmetric else None
        if state.orbits is not None and branched is not None and not self._follow_orbits(state.orbits, branched):
            return None, None
        for turn in count():
            if outcome is None:
                result = state.resume(here)
                if result == DONE:
                    child, code = self._judge(node, turn)
                    if code in (SPLIT, CLOSED):
                        return child, None
                    if code == AGAIN:
                        reason = state.effort.reason()
                        if reason is not None:
                            return node, reason
                        continue
                    outcome = state.relaxation.solver.hot_optimum()
                elif result == INFEASIBLE:
                    return None, None
                elif result == BEYOND:
                    state.useless(state.relaxation.solver.hot.bound)
                    return None, None
                else:
                    outcome = result if isinstance(result, Outcome) else self._relax()
            if outcome.status == "stopped" and outcome.reason not in (None, "numerics"):
                node.rise(outcome.bound)
                return node, outcome.reason
            if node.depth == 0 and turn == 0 and outcome.status == "optimal":
                outcome = root.at_root(state, node, outcome, self.near, self.call)
                self._plunge().enter(bounds.lower, bounds.upper, -1, 0.0, 0.0)
                if outcome.status == "stopped" and outcome.reason is not None:
                    return node, outcome.reason
            child, repeat = self._expand(node, outcome, here, last=turn >= TRIED_AGAIN, settled=turn >= MOST_TURNS)
            if not repeat:
                return child, None
            outcome = None  # bounds became tighter, or rows were added: once more
            reason = state.effort.reason()
            if reason is not None:
                return node, reason
        raise AssertionError("counting has no end")

    def _follow_orbits(self, orbits: Orbits, branched: np.ndarray) -> bool:
        """Fix columns as others are that symmetries take to their places; say whether anything can be left."""
        labels = orbits.at(branched)
        if labels is None:
            if not self.state.seeks_symmetries:
                self._branched = None
            return True
        lower, upper = self._here
        while len(moved := orbits.fix(labels, lower, upper)):
            if (lower[moved] > upper[moved]).any() or not self.state.bounds.propagate(lower, upper, moved):
                return False
        return True

    def _plunge(self) -> Plunge:
        """Return the node at work, made anew where rows or the solver are others by now."""
        state = self.state
        hot, (rows, budget) = state.relaxation.solver.hot, state.bounds.followed
        if self._at_work is None or self._made_for != (hot, rows):
            whole, costs = state.relaxation.whole, state.costs
            self._at_work = Plunge(
                hot, rows, budget, whole, state.domain.integers, costs.gains, costs.count, *self._here
            )
            self._made_for = hot, rows
        return self._at_work

    def _judge(self, node: Node, turn: int) -> tuple[Node | None, int]:
        """Judge a node whose relaxation is solved, and branch if there is nothing else to do with it."""
        state, plunge = self.state, self._plunge()
        hot = state.relaxation.solver.hot
        self._learn(node, hot.objective, hot.bound)
        if state.useless(node.bound):
            return None, CLOSED
        if self._special or due(state, node):
            return None, ASK
        tries = turn < TRIED_AGAIN and tries_branches(state)
        threshold, settled, history = state.incumbent.threshold(), turn >= MOST_TURNS, RELIABLE if tries else 0
        code = plunge.judge(threshold, settled, history, LOOKAHEAD, *state.costs.means, FLOOR)
        if code != SPLIT:
            return None, code
        branch = state.domain.branch(plunge.column, plunge.value, *self._here)
        if branch is None:
            return None, ASK
        return self._split(node, branch, state.relaxation.solver.present), SPLIT

    def _relax(self) -> Outcome:
        """Solve the relaxation of a node that could not just be resumed."""
        state = self.state
        with state.effort.counted("nodes"):
            return state.relax(*self._here)

    def _expand(
        self, node: Node, outcome: Outcome, here: Box, *, last: bool, settled: bool
    ) -> tuple[Node | None, bool]:
        """Judge a solved node: prune it, take its plan, or branch. Returns the child or whether to repeat."""
        state, (lower, upper) = self.state, here
        if outcome.status == "infeasible":
            return None, False
        if outcome.status == "stopped" and outcome.reason is None:
            state.useless(outcome.bound)
            return None, False
        if outcome.status != "optimal" or outcome.x is None:
            return self._branch_blindly(node, here), False
        x = outcome.x
        self._learn(node, outcome.objective, outcome.bound)
        if state.useless(node.bound):
            return None, False
        violated = state.domain.violated(x)
        if not len(violated):
            if state.incumbent.breaks(x):
                return None, state.take_new_rows()
            taken = state.try_plan(x)
            if state.take_new_rows():
                return None, True
            if state.useless(node.bound):
                return None, False
            # snapping moved the plan off this value, or failed: take the domain apart further
            distance = state.domain.distance(x)
            violated = np.flatnonzero(distance > NEAR)
            if not len(violated) and taken and self._loose(node):
                violated = np.flatnonzero(distance > ROUNDING * np.maximum(1.0, np.abs(x)))
            if not len(violated):
                if not taken:
                    return self._branch_blindly(node, here), False
                self._met(node)
                return None, False
        else:
            found = state.incumbent.value
            look_for_plans(state, node, outcome, here, self.near)
            state.take_new_rows()
            if state.incumbent.value < found and state.useless(node.bound):
                return None, False
        if not state.narrow(outcome, lower, upper):
            return None, False
        if not settled and self._outside(x, here):
            return None, self._repeat(outcome)
        choice = choose(state, violated, outcome, here, trials=not last)
        if choice.hopeless:
            return None, False
        if choice.fixed is not None:
            for column, low, high in choice.fixed:
                lower[column], upper[column] = max(lower[column], low), min(upper[column], high)
            columns = np.array([column for column, *_ in choice.fixed], np.int32)
            if (lower[columns] > upper[columns]).any() or not state.bounds.propagate(lower, upper, columns):
                return None, False
            return None, self._repeat(outcome)
        if choice.branch is None:
            return self._branch_blindly(node, here), False
        return self._split(node, choice.branch, outcome.basis), False

    def _outside(self, x: Floats, here: Box) -> bool:
        """Say whether a whole column has left its bounds, which have become tighter since."""
        return bool(vectors.outside(x, self.state.relaxation.whole, *here, FIXED, OUTSIDE))

    def _repeat(self, outcome: Outcome) -> bool:
        """Go back to the basis of a node that is solved once more."""
        self.state.relaxation.start_from(outcome.basis)
        return True

    def _split(self, node: Node, branch: Branch, basis: Basis | None) -> Node:
        """Make both children; queue one and return the other to dive into."""
        state, here = self.state, self._here
        kept = basis if state.frontier.keeps_bases else None
        parent = Parent.between((state.bounds.lower, state.bounds.upper), here, kept, self._branched)
        child = self._divide(node, branch, parent)
        state.relaxation.start_from(basis)
        return child

    def _branch_blindly(self, node: Node, here: Box) -> Node | None:
        """Branch without values: the relaxation could not be solved reliably here."""
        state, (lower, upper) = self.state, here
        for column in np.union1d(state.domain.integers, state.domain.semis):
            low, high = lower[column], upper[column]
            if low < high:
                middle = (
                    (low + high) / 2 if np.isfinite(low + high) else (low + 0.5 if np.isfinite(low) else high - 0.5)
                )
                branch = state.domain.branch(int(column), float(np.nextafter(middle, low)), lower, upper)
                if branch is not None:
                    return self._split(node, branch, None)
        state.frontier.give_up(node.bound, uncertain=True)
        return None

    # ------------------------------------------------------------------ searches inside

    def near(self, problem: Problem, nodes: int, *, cutoff: bool = False) -> Found:
        """Search for the best plan of a problem near this one, in a search of its own within a budget.

        Parameters
        ----------
        cutoff : whether only plans better than the best so far are of use
        """
        state, effort = self.state, self.state.effort
        if cutoff and state.incumbent.best is not None:
            problem = problem.with_rows(problem.costs[None, :], -np.inf, state.incumbent.threshold())
        part = Part.of(problem)
        if part is None:
            effort.begin_near_search()
            return Found(None, through=True)
        workers.before_near_search(self._team, state)
        effort.begin_near_search()
        problem = part.problem
        iterations = NEAR_SIZE * (problem.m + problem.n) + NEAR_ITERATIONS
        limits = effort.within(nodes=nodes, iterations=iterations, share=NEAR_SHARE)
        small = problem.nonzeros <= NEAR_SMALL
        plainly = replace(state.options, start=None, lazy=None, cuts=False, branching="plain", inner=True)
        options = replace(plainly, heuristics=not small, symmetry=False, brief=small)
        search = TreeSearch(SearchState(problem, limits, options, effort.counters))
        with effort.counted("near plans"):
            through = search.run().reason is None
        best = search.state.incumbent.best
        return Found(None if best is None else part.plan(best), through)

    def _unbounded(self) -> Outcome:
        """Settle a problem whose relaxation is unbounded: with any whole plan at all, so is it (Meyer 1974)."""
        state = self.state
        problem, limits = state.problem, state.effort.quiet()
        plain = LinearSolver(problem).solve(limits)
        options = replace(state.options, start=None)
        free = replace(problem, costs=np.zeros(problem.n))
        found = TreeSearch(SearchState(free, limits, options, state.effort.counters)).run()
        if found.x is None:  # no plan, or none yet: nothing is known of the objective
            return replace(found, bound=-np.inf)
        value = problem.objective(found.x)
        if plain.status != "unbounded":
            return replace(found, status="stopped", reason=found.reason or "numerics", objective=value, bound=-np.inf)
        return replace(plain, x=found.x, activity=found.activity, objective=value, basis=None)


def work_on(state: SearchState, share: Share) -> Return:
    """Work on a share of another search, in a state of one's own."""
    search = TreeSearch(state)
    if not state.by_prices:
        return workers.work_on(state, share, search.go_on)
    if state.helping is None:  # what has been generated serves the shares that follow
        state.helping = PricedSearch(state, blocks.begin_elsewhere(state), search.near)
    return workers.work_on(state, share, state.helping.go_on)
