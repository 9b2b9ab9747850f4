"""The open part of a search tree: nodes that wait, the node at work, and nodes that another process works on.

All of them belong to the frontier until they are done. So whatever happens to whoever works on a node, the bound of the
search counts it, and no node is lost.
"""

from __future__ import annotations

import heapq
import time
from collections.abc import Iterable
from dataclasses import dataclass, field, replace

import numpy as np

from ruddock.engine.outcome import Basis
from ruddock.engine.tree import vectors
from ruddock.problem import Floats

BASES = 200_000_000  # bytes of bases that waiting nodes keep; beyond, children start from where the solver stands
ARRAY = 112  # bytes of an array, beside its entries
OBJECTS = 400  # bytes, about, of a node's own objects and of its place in the queue
INFINITY = float("inf")


@dataclass(slots=True, eq=False, repr=False)
class Parent:
    """What both children of a node share: bounds that differ from the root's, and the basis of its relaxation.

    Attributes
    ----------
    branched : columns whose branches on the way here count for symmetries; None where no symmetry is left
    prices : of the linking rows, where nodes are bounded by these
    holders : how many waiting nodes hold it
    """

    columns: np.ndarray
    lower: Floats
    upper: Floats
    basis: Basis | None = None
    branched: np.ndarray | None = None
    prices: Floats | None = None
    holders: int = 0
    _sizes: tuple[int, int] | None = None  # all that it takes, and its basis; counted when it is first asked for

    @classmethod
    def between(
        cls,
        root: tuple[Floats, Floats],
        here: tuple[Floats, Floats],
        basis: Basis | None,
        branched: np.ndarray | None = None,
    ) -> Parent:
        """Return what differs between two pairs of bounds."""
        moved = np.empty(len(here[0]), np.int32)
        moved = moved[: vectors.differences(*root, *here, moved)].copy()
        return cls(moved, here[0][moved], here[1][moved], basis, branched)

    def apply(self, lower: Floats, upper: Floats) -> None:
        """Narrow the root's bounds, in place; these may have become tighter since."""
        lower[self.columns] = np.maximum(lower[self.columns], self.lower)
        upper[self.columns] = np.minimum(upper[self.columns], self.upper)

    @property
    def sizes(self) -> tuple[int, int]:
        """What it takes, and what its basis takes of that."""
        if self._sizes is None:
            basis = 0 if self.basis is None else 2 * ARRAY + len(self.basis.columns) + len(self.basis.rows)
            branched = 0 if self.branched is None else ARRAY + 4 * len(self.branched)
            prices = 0 if self.prices is None else ARRAY + 8 * len(self.prices)
            self._sizes = 3 * ARRAY + 20 * len(self.columns) + branched + prices + basis, basis
        return self._sizes


NO_PARENT = Parent(np.zeros(0, np.int32), np.zeros(0), np.zeros(0))


@dataclass(slots=True, eq=False, repr=False)
class Node:
    """A part of the domain: its parent's, with one column's bounds narrowed.

    Attributes
    ----------
    bound : proven lower bound of the objective here
    parent : the bounds of the parent, with all that followed from them; None at the root
    column, lower, upper : the branch
    up, change : which side it is, and how far the branching column moves at least, for pseudo-costs
    """

    bound: float
    depth: int = 0
    parent: Parent | None = None
    column: int = -1
    lower: float = 0.0
    upper: float = 0.0
    up: bool = False
    change: float = 0.0

    @property
    def basis(self) -> Basis | None:
        """The basis of the parent's relaxation, where that is kept."""
        return None if self.parent is None else self.parent.basis

    def branched(self, *, up: bool) -> np.ndarray | None:
        """Return the columns branched up on the way here, or those branched down; None where no symmetry is left."""
        if self.parent is None:
            return NO_PARENT.columns
        before = self.parent.branched
        return np.append(before, np.int32(self.column)) if self.up == up and before is not None else before

    def rise(self, bound: float) -> None:
        """Take a bound that was proven, where it is a better one."""
        self.bound = max(self.bound, bound)

    def use_change(self) -> float:
        """Return how far the branching column moves, once: what its branch is worth is learnt one time only."""
        change, self.change = self.change, 0.0
        return change


@dataclass(eq=False, repr=False)
class Lease:
    """Nodes that go to another process; they come back by themselves when it is late.

    Attributes
    ----------
    expires : on the clock of `time.monotonic`
    most_nodes : that may be worked on until it answers
    """

    nodes: list[Node]
    expires: float
    most_nodes: int
    bound: float = field(init=False)

    def __post_init__(self) -> None:
        self.bound = min((node.bound for node in self.nodes), default=INFINITY)

    @property
    def expired(self) -> bool:
        """Whether whoever works on it is too late."""
        return time.monotonic() > self.expires


@dataclass(eq=False, repr=False)
class Away:
    """What another process still has of the nodes of all leases that it has answered.

    Attributes
    ----------
    nodes : those that were lent; what is open is among them or beneath them
    count, bound, bytes : of what is open there
    """

    nodes: list[Node] = field(default_factory=list)
    count: int = 0
    bound: float = INFINITY
    bytes: float = 0.0


class Frontier:
    """Waiting nodes by bound (among equal bounds the deeper and older first), the one at work, and leases.

    Attributes
    ----------
    leases : list of Lease
        Those that are not answered, the oldest first.
    away : Away
    bytes : int
        What the waiting nodes take.
    given_up : float
        The least bound among nodes left out because of the gap asked for, or by numerical trouble.
    uncertain : bool
        Whether a node was lost to numerical trouble.
    """

    def __init__(self) -> None:
        self._heap: list[tuple[float, int, int, Node]] = []
        self._order = 0
        self._at_work: Node | None = None
        self._resting: Node | None = None
        self.leases: list[Lease] = []
        self.away = Away()
        self.bytes = self._bases = 0
        self.given_up = INFINITY
        self.uncertain = False

    def __len__(self) -> int:
        return len(self._heap) + (self._resting is not None)

    @property
    def bound(self) -> float:
        """The least bound of all that is not done; infinite when everything is."""
        least = min(self.waiting_bound, self.away.bound, self.given_up)
        if self._at_work is not None:
            least = min(least, self._at_work.bound)
        for lease in self.leases:
            least = min(least, lease.bound)
        return least

    @property
    def waiting_bound(self) -> float:
        """The least bound of the waiting nodes."""
        least = self._heap[0][0] if self._heap else INFINITY
        return least if self._resting is None else min(least, self._resting.bound)

    @property
    def lent(self) -> int:
        """How many nodes another process has open, about."""
        return self.away.count + sum(len(lease.nodes) for lease in self.leases)

    @property
    def keeps_bases(self) -> bool:
        """Whether there is room for further bases."""
        return self._bases < BASES

    # ------------------------------------------------------------------ nodes

    def push(self, nodes: Iterable[Node]) -> None:
        """Let nodes wait."""
        for node in nodes:
            self._order += 1
            heapq.heappush(self._heap, (node.bound, -node.depth, self._order, node))
            self.bytes += OBJECTS
            if node.parent is not None:
                if not node.parent.holders:
                    whole, basis = node.parent.sizes
                    self.bytes += whole
                    self._bases += basis
                node.parent.holders += 1

    def _pop(self) -> Node:
        node = heapq.heappop(self._heap)[3]
        self.bytes -= OBJECTS
        if node.parent is not None:
            node.parent.holders -= 1
            if not node.parent.holders:
                whole, basis = node.parent.sizes
                self.bytes -= whole
                self._bases -= basis
        return node

    def take(self) -> Node:
        """Take up the node that rests, or the one with the least bound: at work until it is done or put back."""
        assert self._at_work is None
        self._at_work, self._resting = self._resting or self._pop(), None
        return self._at_work

    def begin(self, node: Node) -> None:
        """Take up a node that never waited, in place of the one at work."""
        self._at_work = node

    def done(self) -> None:
        """End the work on a node: nothing of it is left, or its children stand for it."""
        self._at_work = None

    def put_back(self) -> None:
        """Let the node at work wait again, as when the search stops before it is done."""
        if self._at_work is not None:
            self.push([self._at_work])
            self._at_work = None

    def rest(self) -> None:
        """Let the node at work wait as the one that is taken up next, as when a share ends before it is done."""
        self._resting, self._at_work = self._at_work, None

    def give_up(self, bound: float, *, uncertain: bool = False) -> None:
        """Note the bound of a node that is left out without proof that it holds nothing."""
        self.given_up = min(self.given_up, bound)
        self.uncertain |= uncertain

    # ------------------------------------------------------------------ leases

    def lease(self, count: int, seconds: float, most_nodes: int) -> Lease:
        """Lend nodes, of those with the least bounds every other one; an answer is due in some seconds."""
        self.leases.append(Lease(self.every_other(count), time.monotonic() + seconds, most_nodes))
        return self.leases[-1]

    def every_other(self, count: int) -> list[Node]:
        """Take out so many nodes: every other one of those with the least bounds."""
        best = [self._pop() for _ in range(min(2 * count, len(self._heap)))]
        self.push(best[1::2])
        return best[::2]

    def answered(self, back: Iterable[Node], away: Away) -> None:
        """End the oldest lease: take the nodes that came back; ``away`` says what is still open elsewhere."""
        lent = [*self.away.nodes, *self.leases.pop(0).nodes]
        self.away = replace(away, nodes=lent if away.count else [])
        self.push(back)

    def end_leases(self) -> None:
        """Let all that was lent wait again: nobody knows any more what is open elsewhere."""
        lent = [self.away.nodes, *(lease.nodes for lease in self.leases)]
        self.leases, self.away = [], Away()
        for nodes in lent:
            self.push(nodes)

    def empty(self) -> list[Node]:
        """Remove and return all waiting nodes."""
        if self._resting is not None:
            self.push([self._resting])
            self._resting = None
        return [self._pop() for _ in range(len(self))]
