"""What a search has spent and may still spend: the one place that says whether to go on."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field, replace
from typing import Any, Literal

from ruddock.engine.outcome import BETWEEN_REPORTS, Counters, Limits, Progress, Reason

SILENT = 1.0  # seconds without a report, after which work within a search tells where that stands
Purpose = Literal["nodes", "trials", "dives", "near plans"]
Attempt = Literal["dives", "jumps", "near plans"]


@dataclass(eq=False, repr=False)
class Effort:
    """The limits of a search and its counters; every loop asks before it works on.

    Attributes
    ----------
    limits : Limits
    counters : Counters
        Of all solvers of this search, and of those near its plans.
    held : callable
        Returns the bytes that the search holds.
    stands : callable
        Returns the value of the best plan and the bound, for listeners.
    own_nodes, nodes_elsewhere, iterations_elsewhere : int
        Nodes worked on here; those, and the iterations, of another process.
    spent : Counter
        Iterations by what they were for: nodes, trials, dives, searches near plans.
    touched : Counter
        Entries that these touched.
    near_searches : int
        Searches near a plan.
    cut_entries : int
        Entries of the relaxations that rounds of cuts have gone through.
    jumps, jump_entries : int
        Runs of jumps, each of which goes another way; entries that they touched.
    failures : Counter
        How many in a row were in vain, by what was tried.
    shrinkings : int
        Dives by shrinking that were wanted; the first one is made.
    parts : dict
        Seconds by part.
    enough : callable
        Says whether a share of another search has been worked on for long enough.
    """

    limits: Limits
    counters: Counters = field(default_factory=Counters)
    held: Callable[[], float] = field(default=lambda: 0.0)
    stands: Callable[[], tuple[float, float]] = field(default=lambda: (float("inf"), float("-inf")))
    own_nodes: int = 0
    nodes_elsewhere: int = 0
    iterations_elsewhere: int = 0
    spent: Counter[Purpose] = field(default_factory=Counter)
    touched: Counter[Purpose] = field(default_factory=Counter)
    near_searches: int = 0
    cut_entries: int = 0
    jumps: int = 0
    jump_entries: int = 0
    failures: Counter[Attempt] = field(default_factory=Counter)
    shrinkings: int = 0
    parts: dict[str, float] = field(default_factory=dict)
    enough: Callable[[], bool] = field(default=lambda: False)
    _quiet: Limits | None = None  # the limits that every solve within the search gets, whose listener is the search

    def __getstate__(self) -> dict[str, Any]:
        """Return what another process needs to know: nothing of what was spent, and of the limits the gap."""
        return {"gap": self.limits.gap, "held": self.held}

    def __setstate__(self, state: dict[str, Any]) -> None:
        self.__init__(Limits(gap=state["gap"]), held=state["held"])  # type: ignore[misc]

    def follow(self, other: Effort) -> None:
        """Go on counting where another search has come to."""
        self.counters, self.parts = other.counters, dict(other.parts)

    def work_within(self, limits: Limits, enough: Callable[[], bool]) -> None:
        """Take other limits from now on."""
        self.limits, self.enough, self._quiet = limits, enough, None

    @property
    def iterations(self) -> int:
        """Simplex iterations so far."""
        return self.counters.iterations

    @property
    def own_iterations(self) -> int:
        """Those of this process."""
        return self.counters.iterations - self.iterations_elsewhere

    @property
    def nodes(self) -> int:
        """Nodes worked on so far, here and elsewhere."""
        return self.own_nodes + self.nodes_elsewhere

    @contextmanager
    def counted(self, purpose: Purpose) -> Iterator[None]:
        """Count the iterations, and the entries, of what is done meanwhile for a purpose."""
        iterations, entries = self.iterations, self.counters.entries
        try:
            yield
        finally:
            self.spent[purpose] += self.iterations - iterations
            self.touched[purpose] += self.counters.entries - entries

    def begin_node(self) -> None:
        """Count a node."""
        self.own_nodes += 1

    def add_elsewhere(self, nodes: int, iterations: int, trials: int) -> None:
        """Count what another process has done."""
        self.nodes_elsewhere += nodes
        self.iterations_elsewhere += iterations
        self.counters.iterations += iterations
        self.spent["trials"] += trials

    def begin_cut_round(self, entries: int) -> None:
        """Count a round of cuts of a relaxation with so many entries."""
        self.cut_entries += entries

    def begin_jumps(self) -> int:
        """Count a run of jumps, and return its number."""
        self.jumps += 1
        return self.jumps

    def count_jumps(self, entries: int) -> None:
        """Count entries that jumps have touched."""
        self.jump_entries += entries

    def begin_shrinking(self) -> bool:
        """Count a dive by shrinking; say whether it is the first."""
        self.shrinkings += 1
        return self.shrinkings == 1

    def begin_near_search(self) -> None:
        """Count a search near a plan."""
        self.near_searches += 1

    def judge(self, attempt: Attempt, *, better: bool) -> None:
        """Count failures in a row."""
        self.failures[attempt] = 0 if better else self.failures[attempt] + 1

    def tired(self, attempt: Attempt, patience: int) -> float:
        """Return what the budget of an attempt is divided by: one more for each so many failures in a row."""
        return 1.0 + self.failures[attempt] / patience

    def report(self) -> None:
        """Tell listeners where the search stands."""
        if self.limits.due(BETWEEN_REPORTS):
            self.limits.report(self.iterations, self.nodes, *self.stands())

    def _pass_on(self, now: Progress) -> None:
        """Tell where the search stands while a solve within it takes long."""
        if self.limits.due(SILENT):
            iterations, missed = max(self.iterations, now.iterations), now.infeasibility
            self.limits.report(iterations, self.nodes, *self.stands(), phase=now.phase, infeasibility=lambda: missed)

    def reason(self) -> Reason | None:
        """Return the reason to stop now, or None; nobody who listens is left without a sign of life meanwhile."""
        if self.limits.due(SILENT):
            self.report()
        reason = self.limits.exceeded(self.iterations, self.nodes, self.held)
        return "nodes" if reason is None and self.enough() else reason

    def stopped(self) -> bool:
        """Say whether to stop now."""
        return self.reason() is not None

    @property
    def seconds_left(self) -> float:
        """Seconds until the time limit."""
        return self.limits.seconds - self.limits.elapsed()

    def quiet(self, iterations: float = float("inf")) -> Limits:
        """Return the limits for a solve within the search, whose progress is told as that of the search."""
        if self._quiet is None:
            self._quiet = replace(self.limits, on_progress=self._pass_on, on_event=None)
        if iterations == float("inf"):
            return self._quiet
        return replace(self._quiet, iterations=min(self.limits.iterations, self.iterations + iterations))

    def within(self, *, nodes: int, iterations: float, share: float) -> Limits:
        """Return the limits of a search inside this one: a share of the time left, never beyond the outer limits.

        Its nodes and its counters of them are its own.
        """
        return replace(
            self.quiet(iterations),
            nodes=min(nodes, max(0.0, self.limits.nodes - self.nodes)),
            seconds=min(self.limits.seconds, self.limits.elapsed() + share * max(0.0, self.seconds_left)),
        )

    @contextmanager
    def part(self, name: str) -> Iterator[None]:
        """Count the time of a part."""
        start = time.monotonic()
        try:
            yield
        finally:
            self.parts[name] = self.parts.get(name, 0.0) + time.monotonic() - start
