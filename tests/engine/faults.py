"""What goes wrong around a search: processes that die or hang, memory that ends, limits that fall due."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from scipy.sparse import csc_matrix

from ruddock.engine.outcome import Limits, Options, Outcome
from ruddock.engine.solve import solve
from ruddock.engine.tree import hands, workers
from ruddock.engine.tree.frontier import Frontier, Lease
from ruddock.problem import INTEGER, Problem
from tests.generators import inf, random_lp

ROOT = Path(__file__).parents[2]


def search(seed: int) -> Problem:
    """Return a choice of 20 items under five limits, whose search takes some hundred nodes."""
    rng = np.random.default_rng([seed, 77])
    a = rng.integers(10, 100, (5, 20)).astype(float)
    costs = -np.round(a.mean(axis=0) + rng.integers(0, 20, 20))
    limits = np.floor(a.sum(axis=1) / 2)
    return Problem.build(a, np.full(5, -inf), limits, np.zeros(20), np.ones(20), costs, np.full(20, INTEGER))


@contextmanager
def early_helper(at: int, what: int, patience: float = 0.5) -> Iterator[list[int]]:
    """Let a helper join at once, and send its process a signal after its hand-over number ``at``; yields its count.

    From then on its leases last for some seconds; until then for as long as it may take on a busy machine.
    """
    given = [0]
    leases: list[Lease] = []
    plain, lend = hands.Process.give, Frontier.lease

    def lease(self: Frontier, count: int, seconds: float, most_nodes: int) -> Lease:
        leases.append(lend(self, count, seconds, most_nodes))
        return leases[-1]

    def give(self: Any, share: bytes) -> None:
        plain(self, share)
        given[0] += 1
        if given[0] == at:
            os.kill(self._process.pid, what)
            for out in leases:
                out.expires = time.monotonic() + patience

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(workers, "CALLED", 0.01)
        patch.setattr(workers, "WORTH", 0.02)
        patch.setattr(workers, "PATIENCE", 120.0)
        patch.setattr(workers, "NODES", 10)
        patch.setattr(workers, "FEW", 5)
        patch.setattr(workers, "FEWEST", 2)
        patch.setattr(hands, "may_start", lambda: True)
        patch.setattr(hands.Process, "give", give)
        patch.setattr(Frontier, "lease", lease)
        yield given


def alone(problem: Problem) -> Outcome:
    """Return the answer of one process."""
    return solve(problem, Limits(), Options(cores=1, cuts=False))


def with_fault(problem: Problem, at: int, what: int, limits: Limits | None = None) -> tuple[Outcome, int]:
    """Return the answer with a helper that gets a signal at a hand-over, and how many hand-overs there were."""
    with early_helper(at, what) as given:
        return solve(problem, limits or Limits(), Options(cores=2, cuts=False)), given[0]


def sound(problem: Problem, outcome: Outcome, best: float) -> None:
    """Assert that a stopped outcome tells nothing false: its plan is one, and its bound holds."""
    assert outcome.bound <= best + 1e-6 * max(1.0, abs(best))
    if outcome.x is not None:
        assert outcome.objective >= best - 1e-6 * max(1.0, abs(best))
        activity = problem.activity(outcome.x)
        room = 1e-6 * np.maximum(1.0, np.abs(activity))
        assert ((activity >= problem.row_lower - room) & (activity <= problem.row_upper + room)).all()


def hungry(kind: str) -> Problem:
    """Return a problem that takes some megabytes: for open nodes, for its matrix, or for the factors of its bases."""
    if kind == "search":
        return search(1)
    if kind == "linear":
        return random_lp("staircase", 3, 8000, 1, "optimal")
    rng = np.random.default_rng(3)
    m, n = 700, 1400
    matrix = csc_matrix((rng.uniform(0.5, 2, 5 * n), (rng.integers(0, m, 5 * n), np.repeat(np.arange(n), 5))), (m, n))
    free = np.full(n, inf)
    return Problem.build(matrix, matrix @ np.ones(n), np.full(m, inf), np.zeros(n), free, rng.uniform(1, 2, n))


LITTLE_MEMORY = """
import resource, sys, threading
import numpy as np
from ruddock.engine.outcome import Limits, Options
from ruddock.engine.solve import solve
from tests.engine.faults import hungry
kind, room = sys.argv[1], float(sys.argv[2])
import scipy.sparse.csgraph, ruddock.engine.presolve.components, ruddock.engine.tree.search
problem = hungry(kind)
pages = int(open("/proc/self/statm").read().split()[0]) * resource.getpagesize()
resource.setrlimit(resource.RLIMIT_AS, (int(pages + room * 1e6),) * 2)
outcome = solve(problem, Limits(seconds=60), Options(cores=1, cuts=False))
print(outcome.status, outcome.reason, outcome.objective, outcome.bound)
"""


def with_little_memory(kind: str, megabytes: float) -> list[str]:
    """Return what a process says that may take little more memory than it has at the start of its solve."""
    done = subprocess.run(
        [sys.executable, "-W", "ignore", "-c", LITTLE_MEMORY, kind, str(megabytes)],
        cwd=ROOT, capture_output=True, text=True, timeout=300,
    )  # fmt: skip
    assert done.returncode == 0, f"{megabytes} MB: {done.returncode}\n{done.stderr[-2000:]}"
    return done.stdout.split()


SIGNALS = (signal.SIGKILL, signal.SIGSTOP)


LATEST = 0.3  # seconds that a solve may come late


def large(kind: str) -> Problem:
    """Return a problem of 100,000 columns or more."""
    rng = np.random.default_rng(1)
    if kind == "assignment":  # 100 places, 1,000 jobs, each in one place
        m, n = 100, 1000
        size, j = rng.integers(5, 25, m * n).astype(float), np.arange(m * n)
        entries = (np.concatenate([size, np.ones(m * n)]), (np.concatenate([j // n, m + j % n]), np.tile(j, 2)))
        room = 0.8 * size.reshape(m, n).sum(axis=1) / m
        lower, upper = np.concatenate([np.full(m, -inf), np.ones(n)]), np.concatenate([room, np.ones(n)])
        costs = rng.integers(10, 50, m * n).astype(float)
        return Problem.build(
            csc_matrix(entries, shape=(m + n, m * n)), lower, upper, np.zeros(m * n), np.ones(m * n), costs,
            np.full(m * n, INTEGER),
        )  # fmt: skip
    if kind == "cover":
        m, n = 20_000, 100_000
        rows = rng.integers(0, m, 10 * n)
        matrix = csc_matrix((np.ones(10 * n), (rows, np.repeat(np.arange(n), 10))), shape=(m, n))
        matrix.data[:] = 1.0
        costs = rng.integers(1, 100, n).astype(float)
        return Problem.build(
            matrix, np.ones(m), np.full(m, inf), np.zeros(n), np.ones(n), costs, np.full(n, INTEGER)
        )  # fmt: skip
    if kind == "flow":
        m, n = 100_000, 200_000
        start = np.concatenate([np.arange(m), rng.integers(0, m, n - m)])
        end = np.concatenate([(np.arange(m) + 1) % m, rng.integers(0, m, n - m)])
        end = np.where(end == start, (start + 1) % m, end)
        entries = (np.repeat([1.0, -1.0], n), (np.concatenate([start, end]), np.tile(np.arange(n), 2)))
        need = rng.integers(-5, 6, m).astype(float)
        need[0] -= need.sum()
        room = np.concatenate([np.full(m, 1e5), rng.integers(5, 50, n - m)])
        return Problem.build(
            csc_matrix(entries, shape=(m, n)), need, need, np.zeros(n), room, rng.integers(1, 100, n).astype(float)
        )
    items, periods = 1000, 100  # stock over time
    m = items * periods
    i = np.arange(m)
    later = i[i % periods > 0]
    rows, columns = np.concatenate([i, i, later]), np.concatenate([i, m + i, m + later - 1])
    values = np.concatenate([np.ones(m), -np.ones(m), np.ones(len(later))])
    need = rng.integers(0, 20, m).astype(float)
    upper = np.concatenate([np.full(m, 30.0), np.full(m, inf)])
    matrix = csc_matrix((values, (rows, columns)), shape=(m, 2 * m))
    return Problem.build(matrix, need, need, np.zeros(2 * m), upper, rng.uniform(1, 9, 2 * m))


WAYS = (
    ("assignment", Options(cores=1), 10.0),
    ("cover", Options(cores=1), 6.0),
    ("flow", Options(), 4.0),
    ("flow", Options(method="primal"), 4.0),
    ("stock", Options(method="interior"), 3.0),
    ("stock", Options(exact=True), 4.0),
)


def late() -> Iterator[tuple[str, float, float]]:
    """Stop large solves at random moments, by time and by Ctrl-C; yield how, after how long, and how late they came."""
    rng = np.random.default_rng(5)
    for kind, options, longest in WAYS:
        problem = large(kind)
        for k in range(34):
            seconds = float(rng.uniform(0.05, longest))
            started = time.monotonic()
            by_time = Limits(seconds=seconds)
            by_hand = Limits(interrupted=lambda end=started + seconds: time.monotonic() > end)  # type: ignore[misc]
            solve(problem, by_time if k % 2 else by_hand, options)
            yield f"{kind} {options.method}", seconds, time.monotonic() - started - seconds
