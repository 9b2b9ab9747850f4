"""Nodes of the search tree and the queue of open ones."""

from __future__ import annotations

import heapq
from dataclasses import dataclass

from ruddock.engine.outcome import Basis
from ruddock.problem import Floats


@dataclass(slots=True, eq=False)
class Node:
    """A part of the domain: its parent's, with one column's bounds narrowed.

    Attributes
    ----------
    bound : proven lower bound of the objective here
    basis : the basis of the parent's relaxation, shared by both children
    change : how far the branching column moves at least, for pseudo-costs
    """

    bound: float
    depth: int = 0
    parent: Node | None = None
    column: int = -1
    lower: float = 0.0
    upper: float = 0.0
    up: bool = False
    change: float = 0.0
    basis: Basis | None = None

    def narrow(self, lower: Floats, upper: Floats) -> None:
        """Apply all changes from the root to here to a copy of the root's bounds."""
        chain: list[Node] = []
        node: Node | None = self
        while node is not None and node.column >= 0:
            chain.append(node)
            node = node.parent
        for step in reversed(chain):
            lower[step.column], upper[step.column] = step.lower, step.upper


class OpenNodes:
    """Open nodes by bound; among equal bounds the deeper and older first."""

    def __init__(self) -> None:
        self._heap: list[tuple[float, int, int, Node]] = []
        self._order = 0

    def __len__(self) -> int:
        return len(self._heap)

    def push(self, node: Node) -> None:
        """Add a node."""
        self._order += 1
        heapq.heappush(self._heap, (node.bound, -node.depth, self._order, node))

    def pop(self) -> Node:
        """Remove and return the node with the least bound."""
        return heapq.heappop(self._heap)[3]

    @property
    def bound(self) -> float:
        """The least bound of all open nodes; infinite when there are none."""
        return self._heap[0][0] if self._heap else float("inf")
