# cython: language_level=3, boundscheck=False, wraparound=False, cdivision=True, initializedcheck=False
"""The simplex method on a network: a basis is a spanning tree, a pivot exchanges one of its arcs.

Trees are kept strongly feasible: from every node some flow can be sent to the root. Then no sequence of pivots in place
goes round in circles (Cunningham 1976). Entering arcs are looked for block by block, in turn (Kiraly and Kovacs 2012).
Each node knows its parent, its depth, and its children in a linked list, so that the part of a tree that is cut off is
hung up again, and given its new potentials, in time proportional to its size.
"""

import numpy as np

try:
    import cython
except ImportError:  # the interpreted case without Cython at hand
    from ruddock.engine import interpreted as cython

INFINITY = cython.declare(cython.double, float("inf"))
AT_ZERO = cython.declare(cython.int, 1)
IN_TREE = cython.declare(cython.int, 0)
AT_CAPACITY = cython.declare(cython.int, -1)


class NetworkSimplex:
    """Finds a cheapest flow.

    Parameters
    ----------
    tail, head : int32 arrays, by arc
    cost, capacity : float arrays, by arc
        Flows are from 0 to the capacity, which may be infinite.
    supply : float array, by node
        What leaves a node less what enters it; the root, the last node, balances them.
    first : int32 array, by node but the root
        For each node an arc between it and the root to begin with, or -1.
    penalty : float
        Cost of a unit that is sent by way of an artificial arc.
    tolerance : float
        Reduced costs up to this count as none.

    Attributes
    ----------
    flow : float array, by arc, those of the artificial arcs last, one for each node but the root
    state : int8 array, by arc: 1 at zero, 0 in the tree, -1 at its capacity
    potential : float array, by node
    pivots : int
    """

    def __init__(self, tail, head, cost, capacity, supply, first, penalty, tolerance):
        n = len(supply)
        given = len(tail)
        self.nodes, self.given, self.arcs = n, given, given + n - 1
        self.root = n - 1
        self.tail, self.head = (np.concatenate((part, np.zeros(n - 1, np.int32))) for part in (tail, head))
        self.cost = np.concatenate((cost, np.full(n - 1, penalty)))
        self.capacity = np.concatenate((capacity, np.full(n - 1, np.inf)))
        self.flow = np.zeros(self.arcs)
        self.state = np.ones(self.arcs, dtype=np.int8)
        self.potential = np.zeros(n)
        self.parent, self.above, self.child, self.next, self.last = (np.full(n, -1, np.int32) for _ in range(5))
        self.upward = np.zeros(n, dtype=np.int8)
        self.depth = np.zeros(n, dtype=np.int32)
        self.tolerance = tolerance
        self.block = max(30, int(3 * np.sqrt(given)))
        self.at = 0
        self.pivots = self.touched = 0
        self._plant(np.ascontiguousarray(supply, np.float64), np.ascontiguousarray(first, np.int32))

    def _plant(self, supply, first):
        """Hang every node on the root: by its own arc where that can carry the supply, else by an artificial one."""
        amount: cython.double[::1] = supply
        begin: cython.int[::1] = first
        i: cython.int
        e: cython.int
        need: cython.double
        for i in range(self.nodes - 1):
            e = begin[i]
            if e >= 0:
                need = amount[i] if self.tail[e] == i else -amount[i]
                # strongly feasible: it can send something more towards the root
                if self.tail[e] == i:
                    if not 0.0 <= need < self.capacity[e]:
                        e = -1
                elif not 0.0 < need <= self.capacity[e]:
                    e = -1
            if e < 0:
                e = self.given + i
                if amount[i] >= 0.0:
                    self.tail[e] = i
                    self.head[e] = self.root
                else:
                    self.tail[e] = self.root
                    self.head[e] = i
            else:
                self.tail[self.given + i] = i
                self.head[self.given + i] = self.root
            self.flow[e] = abs(amount[i])
            self.state[e] = IN_TREE
            self.above[i] = e
            self.upward[i] = self.tail[e] == i
            self.depth[i] = 1
            self._link(i, self.root)
            self.potential[i] = -self.cost[e] if self.upward[i] else self.cost[e]

    # ------------------------------------------------------------------ the loop

    def run(self, budget, limit):
        """Pivot until an end, for some work, or up to a number of pivots.

        Returns
        -------
        int
            0 when the work or the pivots are used up, 1 at an optimum, 2 where a flow without limit pays.
        """
        most: cython.longlong = limit
        end: cython.longlong = self.touched + budget
        result: cython.int = 0
        e: cython.int
        with cython.nogil:
            while self.touched < end and self.pivots < most:
                e = self._entering()
                if e < 0:
                    result = 1
                    break
                if not self._pivot(e):
                    result = 2
                    break
        return result

    def refresh(self):
        """Work out the potentials anew from the tree, so that rounding does not add up."""
        with cython.nogil:
            self._walk(self.root, 0.0, True)

    def _entering(self):
        """Return the arc of the next block whose reduced cost promises most, or -1 where none does."""
        e: cython.int
        begin: cython.int = self.at
        end: cython.int
        left: cython.int = self.block
        looked: cython.int = 0
        best: cython.double = -self.tolerance
        promise: cython.double
        found: cython.int = -1
        while looked < self.arcs:
            end = min(begin + min(left, self.arcs - looked), self.arcs)
            for e in range(begin, end):
                promise = self.state[e] * (self.cost[e] + self.potential[self.tail[e]] - self.potential[self.head[e]])
                if promise < best:
                    best = promise
                    found = e
            looked += end - begin
            left -= end - begin
            begin = end if end < self.arcs else 0
            if left == 0:
                if found >= 0:
                    break
                left = self.block
        self.at = begin
        self.touched += looked
        return found

    def _pivot(self, e):
        """Send flow round the cycle of an arc and exchange it for the one that is first to block; False if none is."""
        lower: cython.bint = self.state[e] == AT_ZERO
        first: cython.int = self.tail[e] if lower else self.head[e]
        second: cython.int = self.head[e] if lower else self.tail[e]
        u: cython.int = first
        v: cython.int = second
        a: cython.int
        room: cython.double
        one: cython.double = INFINITY
        two: cython.double = INFINITY
        out_one: cython.int = -1
        out_two: cython.int = -1
        # the flow goes from the apex down to the first node, over the arc, and up from the second one: of the arcs that
        # block, the last on this way leaves, which keeps the tree strongly feasible
        while u != v:
            if self.depth[u] >= self.depth[v]:
                a = self.above[u]
                room = self.flow[a] if self.upward[u] else self.capacity[a] - self.flow[a]
                if room < one:
                    one = room
                    out_one = u
                u = self.parent[u]
            else:
                a = self.above[v]
                room = self.capacity[a] - self.flow[a] if self.upward[v] else self.flow[a]
                if room <= two:
                    two = room
                    out_two = v
                v = self.parent[v]
            self.touched += 1
        step: cython.double = self.capacity[e]
        out: cython.int = -1
        below_first: cython.bint = False
        if one < step:
            step = one
            out = out_one
            below_first = True
        if two <= step and two < INFINITY:
            step = two
            out = out_two
            below_first = False
        if step == INFINITY:
            return False
        if step < 0.0:
            step = 0.0
        if step > 0.0:
            self._send(e, step if lower else -step, u)
        self.pivots += 1
        if out < 0:
            self.state[e] = -self.state[e]
            self.flow[e] = self.capacity[e] if lower else 0.0
            return True
        # the arc that blocks is at one of its ends, exactly
        a = self.above[out]
        if below_first == (self.upward[out] != 0):
            self.flow[a] = 0.0
            self.state[a] = AT_ZERO
        else:
            self.flow[a] = self.capacity[a]
            self.state[a] = AT_CAPACITY
        self.state[e] = IN_TREE
        if below_first:
            self._hang(e, first, second, out)
        else:
            self._hang(e, second, first, out)
        return True

    def _send(self, e, amount, apex):
        """Add an amount to the flow of an arc and send it back over the tree."""
        u: cython.int = self.tail[e]
        self.flow[e] += amount
        while u != apex:
            self.flow[self.above[u]] += -amount if self.upward[u] else amount
            u = self.parent[u]
        u = self.head[e]
        while u != apex:
            self.flow[self.above[u]] += amount if self.upward[u] else -amount
            u = self.parent[u]

    # ------------------------------------------------------------------ the tree

    def _link(self, u, p):
        """Make a node a child of another."""
        self.parent[u] = p
        self.last[u] = -1
        self.next[u] = self.child[p]
        if self.child[p] >= 0:
            self.last[self.child[p]] = u
        self.child[p] = u

    def _unlink(self, u):
        """Take a node out of the children of its parent."""
        if self.last[u] >= 0:
            self.next[self.last[u]] = self.next[u]
        else:
            self.child[self.parent[u]] = self.next[u]
        if self.next[u] >= 0:
            self.last[self.next[u]] = self.last[u]

    def _hang(self, e, inner, outer, out):
        """Cut the tree above ``out`` and hang the part cut off on ``outer`` by its node ``inner``."""
        u: cython.int = inner
        p: cython.int = outer
        a: cython.int = e
        above: cython.int
        parent: cython.int
        up: cython.schar = self.tail[e] == inner
        old: cython.schar
        rise: cython.double = self.potential[outer] + (-self.cost[e] if up else self.cost[e]) - self.potential[inner]
        while True:
            parent = self.parent[u]
            above = self.above[u]
            old = self.upward[u]
            self._unlink(u)
            self.above[u] = a
            self.upward[u] = up
            self._link(u, p)
            if u == out:
                break
            p = u
            a = above
            up = not old
            u = parent
        self._walk(inner, rise, False)

    def _walk(self, top, rise, anew):
        """Go through the part of the tree below a node for its depths and potentials."""
        u: cython.int = top
        while True:
            if u != self.root:
                self.depth[u] = self.depth[self.parent[u]] + 1
                if anew:
                    self.potential[u] = self.potential[self.parent[u]] + (
                        -self.cost[self.above[u]] if self.upward[u] else self.cost[self.above[u]]
                    )
                else:
                    self.potential[u] += rise
            self.touched += 1
            if self.child[u] >= 0:
                u = self.child[u]
                continue
            while u != top and self.next[u] < 0:
                u = self.parent[u]
            if u == top:
                break
            u = self.next[u]
