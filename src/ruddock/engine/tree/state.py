"""The state of a search: its owners, and the few things that concern several of them at once.

Branching, cuts, heuristics and the root read the owners and call them; nobody but an owner writes to itself. A state
can be pickled: that is what another process begins from.
"""

from __future__ import annotations

from dataclasses import replace
from functools import cached_property
from typing import Any, Protocol

import numpy as np

from ruddock.engine.outcome import Basis, Counters, Limits, Moment, Options, Outcome
from ruddock.engine.tree.bounds import Bounds
from ruddock.engine.tree.domain import Domain
from ruddock.engine.tree.effort import Effort
from ruddock.engine.tree.frontier import Frontier, Node
from ruddock.engine.tree.incumbent import Incumbent
from ruddock.engine.tree.portfolio import Portfolio
from ruddock.engine.tree.pseudocosts import PseudoCosts
from ruddock.engine.tree.relaxation import Relaxation
from ruddock.engine.tree.symmetry.orbits import Orbits, orbits_of
from ruddock.engine.tree.symmetry.parts import binary_columns
from ruddock.engine.tree.tighten import Tightening
from ruddock.engine.tree.watch import Watch
from ruddock.problem import Floats, Problem

LATER = 20  # nodes after which symmetries that were not all found are looked for once more


class Finds(Protocol):
    """What a search finds that serves another process too."""

    def tell(self) -> Any:
        """Return what was found here since this was last asked, as a few arrays."""

    def hear(self, told: Any) -> None:
        """Take what was found elsewhere."""


class SearchState:
    """One search over the discrete columns of a problem.

    Attributes
    ----------
    domain : Domain
        What the columns may be.
    bounds : Bounds
        Of all plans worth finding.
    relaxation : Relaxation
    incumbent : Incumbent
        The best plan; it holds the problem as it is.
    frontier : Frontier
        Nodes that are not done.
    effort : Effort
    costs : PseudoCosts
    portfolio : Portfolio
        Of searches near the best plan.
    tightening : Tightening, or None
        What presolve learnt.
    orbits : Orbits, or None
        Of columns that symmetries exchange.
    counts_up : bool
        Whether the branches up, to one, are those that count for symmetries; otherwise those down, to zero.
    cut_counts : dict
        Cuts added, by kind.
    history : list of Moment
    least : float
        A bound of the whole problem beside that of the frontier.
    by_prices : bool
        Whether its nodes are bounded by prices.
    helping : object
        What works on it in another process, from share to share.
    finds : Finds, or None
        Beside plans and what branches are worth.
    """

    def __init__(self, problem: Problem, limits: Limits, options: Options, counters: Counters | None = None) -> None:
        self.options = options
        self.domain = Domain(problem)
        self.effort = Effort(limits, counters if counters is not None else Counters(), self.held, self._stands)
        self.bounds = Bounds(self.domain, propagates=options.presolve)
        self.relaxation = Relaxation(problem, self.domain, self.effort)
        self.incumbent = Incumbent(problem, self.domain, options, self.effort)
        self.frontier = Frontier()
        self.costs = PseudoCosts(problem.n)
        self.portfolio = Portfolio()
        self.tightening: Tightening | None = None
        self.orbits: Orbits | None = None
        self._symmetric: Problem | None = None  # until they are found
        self._looked = False
        self.counts_up = True
        self.cut_counts: dict[str, int] = {}
        self.history: list[Moment] = []
        self.least = -np.inf
        self.by_prices = False
        self.helping: Any = None
        self.finds: Finds | None = None
        self.watch = None if options.known is None else Watch(problem, options.known)

    def __getstate__(self) -> dict[str, Any]:
        """Return what another process begins from: all but open nodes, history, and what the root was for."""
        own = ("frontier", "history", "tightening", "locks", "helping", "finds", "_symmetric")
        kept = {name: value for name, value in self.__dict__.items() if name not in own}
        return {**kept, "options": replace(self.options, heuristics=False, start=None, cores=1)}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__dict__.update(state)
        self.frontier, self.history, self.tightening, self.helping = Frontier(), [], None, None
        self._symmetric = self.finds = None
        self.relaxation.load()
        self.load_rows()

    @property
    def problem(self) -> Problem:
        """The problem as it is."""
        return self.incumbent.problem

    @cached_property
    def locks(self) -> tuple[np.ndarray, np.ndarray]:
        """Down and up locks of the columns."""
        return self.problem.locks()

    def held(self) -> float:
        """Return the bytes that open nodes, those elsewhere included, and the solver take."""
        return self.frontier.bytes + self.frontier.away.bytes + self.relaxation.bytes

    def _stands(self) -> tuple[float, float]:
        """Return the value of the best plan and the bound."""
        return self.incumbent.value, self.bound()

    def follow(self, other: SearchState) -> None:
        """Go on where a search of the same problem in fewer columns has come to."""
        self.history += other.history
        self.effort.follow(other.effort)
        self.know_bound(other.least)

    def take_tightening(self, tightening: Tightening) -> None:
        """Keep what presolve learnt, and its bounds."""
        self.tightening = tightening
        self.bounds.take(tightening.lower, tightening.upper)

    def keep_symmetric(self, relaxed: Problem) -> None:
        """Keep the problem as it is searched for its symmetries, if one of several plans of the same value will do."""
        self.orbits, self._symmetric = None, relaxed if self.orbits_follow else None

    @property
    def orbits_follow(self) -> bool:
        """Whether nodes are to leave out what symmetries exchange."""
        options = self.options
        return options.any_of_alike and options.presolve and not options.inner and self.watch is None

    @property
    def symmetric(self) -> bool:
        """Whether symmetries are known, or to be looked for."""
        return self.orbits is not None or self._symmetric is not None

    def look_for_orbits(self) -> None:
        """Find columns that symmetries exchange, once the root has been branched on; in a long search, once more."""
        if self._symmetric is None or self.effort.nodes < (LATER if self._looked else 2):
            return
        if not self._looked and self.incumbent.best is not None:
            plan = self.incumbent.best[binary_columns(self._symmetric)]
            self.counts_up = 2.0 * float(plan.sum()) <= len(plan)
        orbits, complete = orbits_of(self._symmetric, self.effort.stopped, by_chance=self._looked)
        if self.orbits is None or (orbits is not None and orbits.count > self.orbits.count):
            self.orbits = orbits
        if complete or self._looked:
            self._symmetric = None
        self._looked = True

    @property
    def seeks_symmetries(self) -> bool:
        """Whether more symmetries may be found than are known."""
        return self._symmetric is not None

    def count_cut(self, kind: str) -> None:
        """Count a cut that was added."""
        self.cut_counts[kind] = self.cut_counts.get(kind, 0) + 1

    def load_rows(self) -> None:
        """Make the rows of the relaxation ready for propagation."""
        self.bounds.load(self.relaxation.problem, self.relaxation.whole, self.incumbent.threshold())

    # ------------------------------------------------------------------ rows of the relaxation

    def append(self, matrix: object, low: Floats, high: Floats) -> None:
        """Append rows to the relaxation."""
        if self.watch is not None:
            self.watch.rows(matrix, low, high, "a cut")
        self.relaxation.append(matrix, low, high)
        self.load_rows()

    def delete(self, rows: np.ndarray) -> None:
        """Take rows out of the relaxation."""
        self.relaxation.delete(rows)
        self.load_rows()

    def take_new_rows(self) -> bool:
        """Give the relaxation the rows that the caller's check has added; say whether there were any."""
        rows = self.incumbent.hand_over_rows()
        for matrix, low, high in rows:
            self.append(matrix, low, high)
        return bool(rows)

    # ------------------------------------------------------------------ solving and plans

    def relax(self, lower: Floats, upper: Floats, *, quick: bool = True) -> Outcome:
        """Solve the relaxation within column bounds, from the solver's present basis."""
        cutoff = self.incumbent.threshold(self.effort.limits.gap)
        return self.relaxation.solve((lower, upper), (self.bounds.lower, self.bounds.upper), cutoff, quick=quick)

    def resume(self, here: tuple[Floats, Floats]) -> int | Outcome:
        """Solve the relaxation of a node from where the solver stands; `LinearSolver.resume` says what comes back."""
        cutoff = self.incumbent.threshold(self.effort.limits.gap)
        with self.effort.counted("nodes"):
            return self.relaxation.resume(here, (self.bounds.lower, self.bounds.upper), cutoff)

    def try_out(self, lower: Floats, upper: Floats, basis: Basis, iterations: int) -> Outcome:
        """Make a few iterations within bounds, from a basis."""
        return self.relaxation.try_out(
            (lower, upper),
            (self.bounds.lower, self.bounds.upper),
            basis,
            self.effort.quiet(iterations),
            self.incumbent.threshold(),
        )

    def narrow(self, outcome: Outcome, lower: Floats, upper: Floats) -> bool:
        """Narrow integer columns that would cost too much to move; say whether anything can be left."""
        if self.incumbent.best is None or outcome.reduced is None:
            return True
        moved = self.bounds.narrow(outcome.reduced, outcome.bound, self.incumbent.threshold(), lower, upper)
        return not len(moved) or self.bounds.propagate(lower, upper, moved)

    def try_plan(self, x: Floats) -> bool:
        """Try a plan; what a better one means for bounds is drawn at once. Returns whether it is feasible."""
        before = self.incumbent.value
        taken = self.incumbent.try_plan(x)
        if self.incumbent.value < before:
            threshold = self.incumbent.threshold()
            self.bounds.cut_off(threshold)
            self.bounds.narrow_root(threshold)
            self._note()
        return taken

    def _note(self) -> None:
        """Record where the search stands."""
        bound, nodes = self.bound(), self.effort.nodes
        self.history.append(Moment(self.effort.limits.elapsed(), nodes, self.incumbent.value, bound))
        self.effort.limits.record("plan", objective=self.incumbent.value, bound=bound, nodes=nodes)
        tell = self.effort.limits.on_plan
        if tell is not None and self.incumbent.best is not None and not self.options.inner:
            tell(self.incumbent.best)

    # ------------------------------------------------------------------ bound and gap

    def go_by_prices(self) -> None:
        """Bound nodes by prices from now on, from a root with what is known of its bound."""
        self.by_prices = True
        self.frontier.begin(Node(self.bound()))
        self.frontier.put_back()

    def know_bound(self, bound: float) -> None:
        """Take a lower bound of the whole problem that was proven in another way than by its nodes."""
        self.least = max(self.least, self.incumbent.step.up(bound))

    def bound(self) -> float:
        """Return the proven lower bound of the whole problem at this moment."""
        return float(min(max(self.incumbent.step.up(self.frontier.bound), self.least), self.incumbent.value))

    def gap_reached(self, bound: float) -> bool:
        """Say whether the best plan is as good as asked for, with this bound of the whole problem."""
        best = self.incumbent.value
        return self.incumbent.best is not None and best - bound <= self.options.goal.slack(best, self.effort.limits.gap)

    def useless(self, bound: float) -> bool:
        """Say whether a node cannot hold a plan worth finding; note what the gap asked for leaves out."""
        if not self.incumbent.settled(bound):
            return False
        if bound < self.incumbent.threshold():
            self.frontier.give_up(bound)
        return True
