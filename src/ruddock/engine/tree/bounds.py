"""The bounds of all plans worth finding, and what follows from narrower ones."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

import numpy as np

from ruddock.engine.tree import vectors
from ruddock.engine.tree.domain import Domain
from ruddock.engine.tree.propagate import Propagator
from ruddock.engine.tree.tighten import propagator
from ruddock.problem import Floats, Problem

NODE_WORK = 20  # times the entries of the problem that propagation looks at in one node, at most
LEAST_WORK = 10_000


class Bounds:
    """Bounds that hold in the whole tree, with the rows ready for propagation.

    Attributes
    ----------
    lower, upper : float arrays, shape (n,)
        Narrowed as the search goes on.
    """

    def __init__(self, domain: Domain, *, propagates: bool) -> None:
        self.lower, self.upper = domain.lower.copy(), domain.upper.copy()
        self._semis, self._propagates = domain.semis, propagates
        self._whole: np.ndarray
        self._problem: Problem | None = None  # whose rows are propagated
        self._rows: Propagator | None = None  # made when they are first asked for: rounds of cuts change them often
        self._cutoff = float("inf")
        self._budget = 0
        self._root: tuple[Floats, float] | None = None
        self._priced = np.zeros(0, np.int32)

    def take(self, lower: Floats, upper: Floats) -> None:
        """Take tighter bounds for the whole tree."""
        self.lower, self.upper = lower, upper

    def load(self, problem: Problem, whole: np.ndarray, cutoff: float) -> None:
        """Take the rows of a problem; the value of the best plan is the last of them."""
        self._whole, self._priced = whole, np.flatnonzero(problem.costs).astype(np.int32)
        self._problem, self._rows, self._cutoff = problem, None, cutoff
        self._budget = LEAST_WORK + NODE_WORK * problem.nonzeros

    def __getstate__(self) -> dict[str, object]:
        return {**self.__dict__, "_problem": None, "_rows": None}

    def cut_off(self, value: float) -> None:
        """Let propagation know what a plan must at least be worth."""
        self._cutoff = value
        if self._rows is not None:
            self._rows.row_upper[self._rows.m - 1] = value

    @contextmanager
    def at_any_cost(self) -> Iterator[None]:
        """Propagate without what a plan must at least be worth."""
        value = self._cutoff
        self.cut_off(float("inf"))
        try:
            yield
        finally:
            self.cut_off(value)

    @property
    def followed(self) -> tuple[Propagator | None, int]:
        """The rows, None where nothing is to be propagated, and how many entries a node may look at."""
        return (self.rows if self._propagates else None), self._budget

    @property
    def rows(self) -> Propagator:
        """The rows of the problem, ready for propagation; what moves is left on their trail."""
        if self._rows is None:
            assert self._problem is not None
            costs = self._problem.costs[None, :]
            self._rows = propagator(self._problem.with_rows(costs, -np.inf, self._cutoff))
            self._rows.hold(self._semis)  # they may be zero, whatever follows for the rest of their range
        return self._rows

    def propagate(self, lower: Floats, upper: Floats, columns: np.ndarray | None) -> bool:
        """Tighten bounds in place by what rows and the best plan imply; say whether anything can be left."""
        if self._propagates:
            self.rows.forget()
        return self.follow(lower, upper, columns)

    def follow(self, lower: Floats, upper: Floats, columns: np.ndarray | None) -> bool:
        """Do the same, and leave on the trail what moved."""
        if not self._propagates:
            return bool((lower <= upper).all())
        return bool(self.rows.run(lower, upper, columns, self._budget) >= 0)

    # ------------------------------------------------------------------ reduced costs

    def know_root(self, reduced: Floats, bound: float) -> None:
        """Keep the reduced costs and the bound of the root, by which better plans narrow the whole tree."""
        self._root = reduced, bound

    def narrow_root(self, threshold: float) -> None:
        """Narrow the bounds of all plans below a threshold, and what follows from that.

        That nothing can be left shows in the nodes that are still open.
        """
        moved = self._priced
        if self._root is not None:
            moved = np.append(moved, self.narrow(*self._root, threshold, self.lower, self.upper))
        if len(moved) and self._problem is not None:
            self.propagate(self.lower, self.upper, moved)

    def narrow(self, reduced: Floats, bound: float, threshold: float, lower: Floats, upper: Floats) -> np.ndarray:
        """Narrow bounds of integer columns in place by reduced costs; return which.

        Parameters
        ----------
        bound : a proven lower bound, by dual values to which the reduced costs belong
        threshold : what a plan must at least be worth
        """
        moved = np.empty(len(lower), np.int32)
        return moved[: vectors.narrow(reduced, self._whole, lower, upper, threshold - bound, moved)]
