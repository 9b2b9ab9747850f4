"""The loop over the open nodes of a search: what is taken up next, what ends it, and what a second process is lent."""

from __future__ import annotations

from contextlib import suppress

from ruddock.engine.outcome import FEASIBILITY, Outcome, Reason
from ruddock.engine.tree import workers
from ruddock.engine.tree.domain import Branch
from ruddock.engine.tree.frontier import Node, Parent
from ruddock.engine.tree.hands import Work
from ruddock.engine.tree.state import SearchState


class Walk:
    """A search from node to node; how a node is worked on is for those who inherit from it.

    Parameters
    ----------
    state : SearchState
    work : callable, optional
        Works on a share of the search in another state, where it may have a helper.
    """

    def __init__(self, state: SearchState, work: Work | None) -> None:
        self.state, self._work = state, work
        self._team: workers.Team | None = None

    def go_on(self, first: tuple[Node, Outcome] | None = None) -> Reason | None:
        """Work through the open nodes; return why that stopped early, or None.

        Parameters
        ----------
        first : a node that has been taken up, and the outcome of its relaxation
        """
        state = self.state
        node, outcome = first or (None, None)
        fresh = True
        while True:
            if self._work is not None:
                last = node is None and not len(state.frontier)
                self._team = workers.share_work(self._team, state, self._work, last=last)
            if node is None:
                if not len(state.frontier):
                    return None
                node, fresh = self._next(), True
                if node is None:
                    continue
            effort, bound = state.effort, state.bound()
            effort.report()
            reason = effort.reason()
            if reason is None and state.gap_reached(bound):
                state.frontier.give_up(bound)
                state.frontier.put_back()
                return None
            if reason is None:
                effort.begin_node()
                node, reason = self._visit(node, outcome, fresh=fresh)
                outcome, fresh = None, False
            if reason is not None:
                if state.by_prices:  # what was generated for a node serves its child, when a share goes on
                    state.frontier.rest()
                else:
                    state.frontier.put_back()
                workers.dismiss(self._team, state)
                self._team = None
                return reason
            if node is None:
                state.frontier.done()
            elif self._leaves(node, bound):
                state.frontier.put_back()
                node = None

    def _next(self) -> Node | None:
        """Take up the open node with the least bound; None if it can be left out."""
        node = self.state.frontier.take()
        if self.state.useless(node.bound):
            self.state.frontier.done()
            return None
        return node

    def _visit(self, node: Node, outcome: Outcome | None, *, fresh: bool) -> tuple[Node | None, Reason | None]:
        """Work on a node; return the child to go on with, or a reason to stop.

        Parameters
        ----------
        outcome : of the node's relaxation, where that is known
        fresh : whether it was taken from the frontier; otherwise it is the child of the last one
        """
        raise NotImplementedError

    def _leaves(self, child: Node, bound: float) -> bool:
        """Say whether a child that could be gone on with waits, as others promise more; ``bound`` is that of all."""
        return False

    def _learn(self, node: Node, objective: float, bound: float) -> None:
        """Note what a solved node says of its branch and of its bound."""
        change = node.use_change()
        if change > 0:
            self.state.costs.learn(node.column, node.up, change, objective - node.bound)
        node.rise(bound)

    def _met(self, node: Node) -> None:
        """End with a node whose whole point is a plan; what is more than the relaxation's tolerance stays unproven."""
        if self._loose(node):
            self.state.frontier.give_up(node.bound)

    def _loose(self, node: Node) -> bool:
        """Say whether a node's bound is below the best plan by more than the relaxation's tolerance."""
        best = self.state.incumbent.value
        return best - node.bound > self.state.options.goal.noise(best, FEASIBILITY)

    def _divide(self, node: Node, branch: Branch, parent: Parent) -> Node:
        """Make both children of a node; queue one and return the other to go on with."""
        state = self.state
        children = [
            Node(node.bound, node.depth + 1, parent, branch.column, low, high, up, change)
            for (low, high), up, change in (
                (branch.down, False, branch.fraction),
                (branch.up, True, 1.0 - branch.fraction),
            )
        ]
        first = int(state.costs.prefers_up(branch.column, branch.fraction))
        state.frontier.push([children[1 - first]])
        state.frontier.begin(children[first])
        return children[first]

    def call(self) -> None:
        """Call for a helper, if the root takes long: by the time it is needed it is there."""
        if self._work is not None:
            self._team = workers.called(self._team, self.state, self._work)

    def close(self) -> None:
        """Let the helper go."""
        if self._team is not None:
            with suppress(MemoryError):
                self._team.close()
