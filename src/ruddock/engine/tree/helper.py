"""A second process that works on a share of a long search, so that two cores are used.

Shares are handed out, and what became of them is taken back, after fixed numbers of nodes, never by the clock.
So the same problem takes the same path every time, and on one core too, where the helper's share is worked on in
turn. Should the process fail, its nodes come back to the search: nothing is lost.
"""

from __future__ import annotations

import os
import pickle
import queue
import sys
import threading
import time
from contextlib import suppress
from dataclasses import dataclass, field, replace
from typing import IO, TYPE_CHECKING, Protocol

from ruddock.engine.outcome import Limits
from ruddock.engine.tree.branching import PseudoCosts
from ruddock.engine.tree.node import Node
from ruddock.problem import Floats

if TYPE_CHECKING:
    from ruddock.engine.tree.search import TreeSearch

NODES = 100  # between two hand-overs
SHARE = 12  # open nodes handed over at a time
LAST_WORD = 2.0  # seconds that a search that is stopped waits for the plan that the helper may have found
A_NODE, AN_ENTRY = 1e-3, 7e-8  # seconds, about, that a node and a row or column of an iteration take
CALLED, WORTH = 0.5, 1.5  # seconds, by that measure, after which a helper is called, and after which it joins


@dataclass
class Share:
    """What the helper is given: nodes, and all that has changed since the last time."""

    nodes: list[Node]
    most_nodes: float
    most_iterations: float
    seconds: float
    best: Floats | None
    costs: PseudoCosts


@dataclass
class Return:
    """What comes back."""

    nodes: list[Node] = field(default_factory=list)
    best: Floats | None = None
    given_up: float = float("inf")
    uncertain: bool = False
    worked_on: int = 0
    iterations: int = 0
    on_trials: int = 0
    costs: PseudoCosts | None = None  # what was learnt


class Hand(Protocol):
    """Whoever works on shares."""

    def prepare(self, state: bytes) -> None:
        """Get the search as it is at the root, as a pickle."""

    def give(self, share: Share) -> None:
        """Get a share to work on."""

    def take(self, search: TreeSearch) -> Return | None:
        """Return what has been done; None if there will be no answer any more."""

    def close(self) -> None:
        """Stop."""


class Helper:
    """The second hand of a search.

    Attributes
    ----------
    given : list of Node
        What it works on now; part of the search's bound.
    """

    def __init__(self, search: TreeSearch) -> None:
        self._hand: Hand = _Process() if _may_start() else _InTurn()
        self.given: list[Node] = []
        self._ready = False
        self._due = self._iterations = 0

    @property
    def bound(self) -> float:
        """The least bound of what the helper works on."""
        return min((node.bound for node in self.given), default=float("inf"))

    def meet(self, search: TreeSearch, *, now: bool = False) -> None:
        """Take back what has been done and hand over a new share, when that is due."""
        if not self._ready and _work(search) > WORTH:
            self._hand.prepare(pickle.dumps(search))
            self._ready = True
            self._iterations = search.iterations
            self._due = search.own_nodes + NODES
        if not self._ready or not (now or search.own_nodes >= self._due):
            return
        # as much work as the search has done since the last time, its early plans included
        done = search.iterations - self._iterations
        self.take_back(search)
        self._iterations, self._due = search.iterations, search.own_nodes + NODES
        left = search.limits.nodes - search.nodes
        if len(search.open) > SHARE and left >= 2:
            self.given = [search.open.pop() for _ in range(SHARE)]
            seconds = search.limits.seconds - search.limits.elapsed()
            share = Share(self.given, min(4 * NODES, left / 2), max(done, NODES), seconds, search.best, search.costs)
            self._hand.give(share)

    def take_back(self, search: TreeSearch) -> None:
        """Take back what has been done; of a helper that gives no answer, what it was given."""
        if not self.given:
            return
        done = self._hand.take(search)
        if done is None:
            self._hand.close()
            search.helper = None
            done = Return(self.given)
        self.given = []
        for node in done.nodes:
            search.open.push(node)
        search.nodes_elsewhere += done.worked_on
        search.counters.iterations += done.iterations
        search.trial_iterations += done.on_trials
        search.given_up = min(search.given_up, done.given_up)
        search.uncertain |= done.uncertain
        if done.costs is not None:
            search.costs.add(done.costs)
        if done.best is not None:
            search.try_plan(done.best)

    def close(self) -> None:
        """Let the helper go."""
        self._hand.close()


def wanted(search: TreeSearch) -> bool:
    """Say whether a search has become long enough to call for a helper."""
    if search.options.cores < 2 or search.options.inner or search.options.lazy is not None:
        return False
    return _work(search) > CALLED and len(search.open) > 2 * SHARE


def _work(search: TreeSearch) -> float:
    """Return how many seconds, about, a search has taken; judged by its work, not by the clock."""
    return search.own_nodes * A_NODE + search.iterations * (search.relaxed.m + search.relaxed.n) * AN_ENTRY


def work_on(search: TreeSearch, share: Share) -> Return:
    """Work on a share, in the helper's own search."""
    # relaxations that have been begun are ended: the share's limits count between nodes
    search.quiet = Limits(seconds=share.seconds, gap=search.limits.gap)
    search.limits = replace(
        search.quiet,
        nodes=search.own_nodes + share.most_nodes,
        iterations=search.iterations + share.most_iterations,
    )
    search.given_up, search.uncertain = float("inf"), False
    nodes, iterations, trials = search.own_nodes, search.iterations, search.trial_iterations
    known = search.best_value
    search.costs = share.costs
    before = share.costs.copy()
    if share.best is not None:
        search.try_plan(share.best)
        known = search.best_value
    for node in share.nodes:
        search.open.push(node)
    search.go_on()
    left = [search.open.pop() for _ in range(len(search.open))]
    return Return(
        left,
        search.best if search.best_value < known else None,
        search.given_up,
        search.uncertain,
        search.own_nodes - nodes,
        search.iterations - iterations,
        search.trial_iterations - trials,
        search.costs.since(before),
    )


def _may_start() -> bool:
    """Say whether another process of the same Python can be started and has a core to run on."""
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    return cores > 1 and bool(sys.executable) and not getattr(sys, "frozen", False)


class _InTurn:
    """Works on shares in the same process, with a search of its own, when they are asked for."""

    def __init__(self) -> None:
        self._search: TreeSearch
        self._share: bytes | None = None

    def prepare(self, state: bytes) -> None:
        self._search = pickle.loads(state)

    def give(self, share: Share) -> None:
        self._share = pickle.dumps(share)

    def take(self, search: TreeSearch) -> Return | None:
        assert self._share is not None
        share = pickle.loads(self._share)
        if search.limit() is not None:
            return Return(share.nodes)
        share.seconds = search.limits.seconds - search.limits.elapsed()
        return work_on(self._search, share)

    def close(self) -> None: ...


class _Process:
    """Works on shares in another process, by pickles through its pipes."""

    def __init__(self) -> None:
        import subprocess  # here, since its import is for long searches only

        environment = {**os.environ, "PYTHONPATH": os.pathsep.join(p for p in sys.path if p)}
        self._process = subprocess.Popen(
            [sys.executable, "-W", "ignore", "-c", f"from {__name__} import serve; serve()"],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            env=environment,
            start_new_session=True,  # Ctrl-C is the search's to handle
        )
        self._answers: queue.SimpleQueue[Return | None] = queue.SimpleQueue()
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        self._in: IO[bytes] = self._process.stdin
        threading.Thread(target=self._listen, args=(self._process.stdout,), daemon=True).start()

    def prepare(self, state: bytes) -> None:
        self._send(state)

    def _listen(self, pipe: IO[bytes]) -> None:
        """Collect answers, and None when there will be no more."""
        try:
            while True:
                self._answers.put(pickle.load(pipe))
        except Exception:  # whatever is wrong with it, the helper is of no more use
            self._answers.put(None)

    def _send(self, message: bytes) -> None:
        try:
            self._in.write(message)
            self._in.flush()
        except (OSError, ValueError):
            self._answers.put(None)

    def give(self, share: Share) -> None:
        self._send(pickle.dumps(share))

    def take(self, search: TreeSearch) -> Return | None:
        """Wait for the answer; not long once the search has to stop."""
        stop = float("inf")
        while time.monotonic() < stop:
            try:
                return self._answers.get(timeout=0.05)
            except queue.Empty:
                if stop == float("inf") and search.limit() is not None:
                    stop = time.monotonic() + LAST_WORD
        return None

    def close(self) -> None:
        self._process.kill()
        self._process.wait()
        for pipe in (self._process.stdin, self._process.stdout):
            if pipe is not None:
                with suppress(OSError):  # what was on its way is not needed any more
                    pipe.close()


def serve() -> None:
    """Answer shares on the standard streams until these close; anything printed goes nowhere."""
    source, target = sys.stdin.buffer, os.fdopen(os.dup(1), "wb")
    os.dup2(2, 1)
    search: TreeSearch = pickle.load(source)
    while True:
        try:
            share = pickle.load(source)
        except EOFError:
            return
        pickle.dump(work_on(search, share), target)
        target.flush()
