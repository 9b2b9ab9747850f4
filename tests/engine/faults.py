"""What goes wrong around a search: processes that die or hang, memory that ends, limits that fall due."""

from __future__ import annotations

import os
import signal
import subprocess
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

import numpy as np
import pytest

from ruddock.engine.outcome import Limits, Options, Outcome
from ruddock.engine.solve import solve
from ruddock.engine.tree import workers
from ruddock.problem import INTEGER, Problem
from tests.generators import inf

ROOT = Path(__file__).parents[2]


def search(seed: int) -> Problem:
    """Return a choice of 20 items under five limits, whose search takes some hundred nodes."""
    rng = np.random.default_rng([seed, 77])
    a = rng.integers(10, 100, (5, 20)).astype(float)
    costs = -np.round(a.mean(axis=0) + rng.integers(0, 20, 20))
    limits = np.floor(a.sum(axis=1) / 2)
    return Problem.build(a, np.full(5, -inf), limits, np.zeros(20), np.ones(20), costs, np.full(20, INTEGER))


@contextmanager
def early_helper(at: int, what: int, patience: float = 4.0) -> Iterator[list[int]]:
    """Let a helper join at once, and send its process a signal after its hand-over number ``at``; yields its count."""
    given = [0]
    plain = workers._Process.give

    def give(self: Any, share: bytes) -> None:
        plain(self, share)
        given[0] += 1
        if given[0] == at:
            os.kill(self._process.pid, what)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(workers, "CALLED", 0.01)
        patch.setattr(workers, "WORTH", 0.02)
        patch.setattr(workers, "PATIENCE", patience)
        patch.setattr(workers, "LATE", 0.0)
        patch.setattr(workers, "NODES", 10)
        patch.setattr(workers, "SHARE", 4)
        patch.setattr(workers, "_may_start", lambda: True)
        patch.setattr(workers._Process, "give", give)
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


LITTLE_MEMORY = """
import resource, sys
import numpy as np
from ruddock.engine.outcome import Limits, Options
from ruddock.engine.solve import solve
from tests.engine.faults import search
from tests.generators import random_lp
kind, room = sys.argv[1], float(sys.argv[2])
import scipy.sparse.csgraph, ruddock.engine.presolve.components
problem = search(1) if kind == "search" else random_lp("staircase", 3, 8000, 1, "optimal")
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
