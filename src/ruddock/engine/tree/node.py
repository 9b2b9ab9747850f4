"""Nodes of the search tree and the queue of open ones."""

from __future__ import annotations

import heapq
from dataclasses import dataclass

import numpy as np

from ruddock.engine.outcome import Basis
from ruddock.problem import Floats


@dataclass(slots=True, eq=False)
class Narrowed:
    """Bounds that differ from the root's; shared by the children of one node."""

    columns: np.ndarray
    lower: Floats
    upper: Floats

    @classmethod
    def between(cls, root: tuple[Floats, Floats], here: tuple[Floats, Floats]) -> Narrowed:
        """Return what differs between two pairs of bounds."""
        moved = np.flatnonzero((root[0] != here[0]) | (root[1] != here[1])).astype(np.int32)
        return cls(moved, here[0][moved], here[1][moved])

    def apply(self, lower: Floats, upper: Floats) -> None:
        """Narrow the root's bounds, in place; these may have become tighter since."""
        lower[self.columns] = np.maximum(lower[self.columns], self.lower)
        upper[self.columns] = np.minimum(upper[self.columns], self.upper)


@dataclass(slots=True, eq=False)
class Node:
    """A part of the domain: its parent's, with one column's bounds narrowed.

    Attributes
    ----------
    bound : proven lower bound of the objective here
    parent : the bounds of the parent, with all that followed from them
    column, lower, upper : the branch
    up, change : which side it is, and how far the branching column moves at least, for pseudo-costs
    basis : the basis of the parent's relaxation, shared by both children
    """

    bound: float
    depth: int = 0
    parent: Narrowed | None = None
    column: int = -1
    lower: float = 0.0
    upper: float = 0.0
    up: bool = False
    change: float = 0.0
    basis: Basis | None = None


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
