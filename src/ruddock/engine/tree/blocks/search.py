"""Branch and price: a search whose nodes are bounded by prices of the linking rows (Barnhart et al. 1998).

Branches narrow columns of the problem itself. So a block keeps its form, solutions of it that a branch leaves out
rest, and what is generated at one node serves at all others.
"""

from __future__ import annotations

import numpy as np

from ruddock.engine.measure import NEAR
from ruddock.engine.outcome import Outcome, Reason
from ruddock.engine.tree import answer, root
from ruddock.engine.tree.blocks.begin import around
from ruddock.engine.tree.blocks.dive import plan_by_fixing
from ruddock.engine.tree.blocks.prices import Generated, Generation, Priced
from ruddock.engine.tree.domain import Branch
from ruddock.engine.tree.frontier import NO_PARENT, Node, Parent
from ruddock.engine.tree.hands import Work
from ruddock.engine.tree.heuristics import Near, Point, near_plan
from ruddock.engine.tree.state import SearchState
from ruddock.engine.tree.walk import Walk
from ruddock.problem import Floats

Box = tuple[Floats, Floats]
NEAR_EVERY = 20  # nodes between two searches near a node's point
ABOVE = 0.2  # of the gap, by which a child may lie above the best open node to be gone on with
TURNS = 20  # that a node is solved anew because columns were fixed


class PricedSearch(Walk):
    """A search over the columns of distinct blocks.

    Parameters
    ----------
    state : SearchState
        With its bounds ready for propagation.
    generation : Generation
    near : callable
        Searches near a plan.
    work : callable, optional
        Works on a share of the search in another state, where it may have a helper.
    """

    def __init__(self, state: SearchState, generation: Generation, near: Near, work: Work | None = None) -> None:
        super().__init__(state, work)
        self.generation, self._near = generation, near
        state.finds = generation.master.pool
        n = state.problem.n
        self._here: Box = np.zeros(n), np.zeros(n)
        self._centre: Floats | None = None
        self._two_valued = [
            bool((generation.blocks.upper - generation.blocks.lower)[group.first.columns].max() <= 1)
            for group in generation.blocks.groups
        ]

    def run(self) -> Outcome:
        """Search to the end or to a limit."""
        state = self.state
        state.go_by_prices()
        with state.effort.part("presolve"):
            root.prepare(state)
        if state.tightening is not None and state.tightening.infeasible and state.incumbent.best is None:
            return answer.proof_or_nothing(state)
        try:
            reason = self.go_on()
        except MemoryError:
            reason = "memory"
        finally:
            self.close()
        return answer.of_search(state, reason)

    def _leaves(self, child: Node, bound: float) -> bool:
        """Let a child wait where others promise more: nodes take long, and little is gained by going on from one."""
        return child.bound - bound > ABOVE * (self.state.incumbent.threshold() - bound)

    def _visit(self, node: Node, outcome: Outcome | None, *, fresh: bool) -> tuple[Node | None, Reason | None]:
        """Propagate, solve and branch; return the child to go on with, or a reason to stop."""
        state, (lower, upper) = self.state, self._here
        if fresh:
            np.copyto(lower, state.bounds.lower)
            np.copyto(upper, state.bounds.upper)
            (node.parent or NO_PARENT).apply(lower, upper)
            if node.parent is not None:
                self._centre = node.parent.prices
        if node.column >= 0:
            lower[node.column] = max(lower[node.column], node.lower)
            upper[node.column] = min(upper[node.column], node.upper)
        moved: np.ndarray | None = None if node.column < 0 else np.array([node.column], np.int32)
        for turn in range(TURNS):
            if (lower > upper).any() or not state.bounds.propagate(lower, upper, moved):
                return None, None
            found = self._generate()
            if found.reason is not None:
                node.rise(found.bound)
                return node, found.reason
            self._learn(node, found.bound, found.bound)
            if state.useless(node.bound):
                return None, None
            if found.taken is None or found.best is None:
                state.frontier.give_up(node.bound, uncertain=True)
                return None, None
            x = self.generation.point(found)
            violated = state.domain.violated(x)
            if not len(violated):
                return self._whole(node, x), None
            if turn == 0 and state.options.heuristics and state.effort.own_nodes % NEAR_EVERY == 0:
                self._look_for_plans(node, found, x)
            moved = self._fixed(found.best)
            if not len(moved):
                break
        branch = self._choice(x, violated)
        if branch is None:
            state.frontier.give_up(node.bound, uncertain=True)
            return None, None
        return self._split(node, branch), None

    def _look_for_plans(self, node: Node, found: Generated, x: Floats) -> None:
        """Look for better plans from where a node's master problem stands, and near the best plan."""
        state = self.state
        with state.effort.part("heuristics"):
            around(state, self.generation, found, *self._here, self._near)
            if not state.incumbent.settled(node.bound):
                plan = plan_by_fixing(state, self.generation, found, *self._here)
                if plan is not None:
                    state.try_plan(plan)
            if state.incumbent.best is not None and not state.incumbent.settled(node.bound):
                near_plan(state, Point(x), self._near)

    def _generate(self) -> Generated:
        """Solve the node's master problem, as far as its bound may still leave it out."""
        state = self.state
        threshold = state.incumbent.threshold(state.effort.limits.gap)
        with state.effort.counted("nodes"):
            found = self.generation.within(*self._here, threshold, state.effort.quiet(), self._centre)
        if found.best is not None:
            self._centre = found.best.prices
        return found

    def _whole(self, node: Node, x: Floats) -> Node | None:
        """End with a node whose point is whole, or take it apart further where it is no plan."""
        state = self.state
        taken = state.try_plan(x)
        if state.useless(node.bound):
            return None
        if taken:
            self._met(node)
            return None
        violated = np.flatnonzero(state.domain.distance(x) > NEAR)
        branch = self._choice(x, violated) if len(violated) else None
        if branch is None:
            state.frontier.give_up(node.bound, uncertain=True)
            return None
        return self._split(node, branch)

    def _fixed(self, best: Priced) -> np.ndarray:
        """Fix columns whose other value would cost too much at these prices; return which."""
        state, (lower, upper), blocks = self.state, self._here, self.generation.blocks
        room = state.incumbent.threshold() - best.bound
        moved = []
        if not np.isfinite(room):
            return np.zeros(0, np.int32)
        for group, two, solution, value in zip(
            blocks.groups, self._two_valued, best.solutions, best.values, strict=True
        ):
            block = group.first
            if not two or not solution.on:
                continue
            low, high = lower[block.columns].astype(np.int32), upper[block.columns].astype(np.int32)
            if ((solution.items < low) | (solution.items > high)).any():
                continue  # bounds have become tighter since
            other = np.empty(len(low))
            d = np.ascontiguousarray(best.reduced[block.columns])
            group.knapsack.otherwise(d, low, high, solution.items, other)
            if block.switch >= 0:
                other += best.reduced[block.switch]
                if lower[block.switch] < 1:  # off is another way to be without an item
                    other[solution.items > low] = np.minimum(other[solution.items > low], 0.0)
            fixed = (low < high) & (other - value > room + best.noise)
            columns = block.columns[fixed]
            lower[columns] = upper[columns] = solution.items[fixed]
            moved.append(columns)
        return np.concatenate(moved).astype(np.int32) if moved else np.zeros(0, np.int32)

    def _choice(self, x: Floats, violated: np.ndarray) -> Branch | None:
        """Choose a branch by what branches have been worth so far."""
        merit, _ = self.state.costs.scores(violated, x)
        for k in np.argsort(-merit, kind="stable").tolist():
            branch = self.state.domain.branch(int(violated[k]), float(x[violated[k]]), *self._here)
            if branch is not None:
                return branch
        return None

    def _split(self, node: Node, branch: Branch) -> Node:
        """Make both children; queue one and return the other to go on with."""
        state = self.state
        parent = Parent.between((state.bounds.lower, state.bounds.upper), self._here, None)
        parent.prices = self._centre
        return self._divide(node, branch, parent)
