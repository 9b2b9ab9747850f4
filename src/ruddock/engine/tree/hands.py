"""Whoever works on shares of a search: another process, or this one in turn."""

from __future__ import annotations

import os
import pickle
import queue
import sys
import threading
import time
from collections import deque
from collections.abc import Callable
from contextlib import suppress
from dataclasses import dataclass, replace
from typing import IO, Protocol

from ruddock.engine.tree.bundle import Bundle
from ruddock.engine.tree.frontier import Away
from ruddock.engine.tree.pseudocosts import PseudoCosts
from ruddock.engine.tree.state import SearchState
from ruddock.problem import Floats

SERVES = "from ruddock.imports import load_when_asked as quick; quick(); "
SERVES += "from ruddock.engine.tree.serve import serve; serve()"
ROOM = 1 << 20  # bytes of a pipe, where that can be chosen: a share goes through at once
LAST_WORD = 0.1  # seconds that a search that is stopped waits for the plan that the helper may have found
GOODBYE = 0.2  # seconds that the threads of a helper that was killed have to end
GLANCE = 0.02  # seconds between two looks at the limits while waiting


@dataclass(eq=False, repr=False)
class Share:
    """What the helper is given: nodes, and all that has changed since the last time.

    Attributes
    ----------
    back : how many nodes are to come back, if there are so many
    most_nodes : that may be worked on
    work : seconds, about, that it may take; judged by counted work
    seconds : until the time limit
    costs : what branches were worth on this side since the last time
    finds : what this side has found since the last time, where it keeps such things
    """

    nodes: Bundle
    back: int
    most_nodes: int
    work: float
    seconds: float
    best: Floats | None
    costs: PseudoCosts
    finds: object


@dataclass(eq=False, repr=False)
class Return:
    """What comes back.

    Attributes
    ----------
    nodes : Bundle
        Those that were asked for.
    away : Away
        What the helper has left, without the nodes.
    costs : PseudoCosts
        What branches were worth there.
    finds : object
        As of a share.
    """

    nodes: Bundle
    away: Away
    best: Floats | None
    given_up: float
    uncertain: bool
    worked_on: int
    iterations: int
    on_trials: int
    costs: PseudoCosts
    finds: object


Work = Callable[[SearchState, Share], Return]


class Hand(Protocol):
    """Whoever works on shares."""

    def prepare(self, state: bytes) -> None:
        """Get the search as it is at the root, as a pickle."""

    def give(self, share: bytes) -> None:
        """Get a share to work on, as a pickle."""

    def take(self, stopped: Callable[[], bool], expired: Callable[[], bool], seconds: float) -> Return | None:
        """Return what has been done; None if there will be no answer any more, or if it comes too late."""

    def close(self) -> None:
        """Stop."""


def may_start() -> bool:
    """Say whether another process of the same Python can be started and has a core to run on."""
    cores = len(os.sched_getaffinity(0)) if hasattr(os, "sched_getaffinity") else os.cpu_count() or 1
    return cores > 1 and bool(sys.executable) and not getattr(sys, "frozen", False)


class InTurn:
    """Works on shares in the same process, with a state of its own, when they are asked for."""

    def __init__(self, work: Work) -> None:
        self._work = work
        self._state: SearchState
        self._shares: deque[Share] = deque()

    def prepare(self, state: bytes) -> None:
        """Keep a state of its own."""
        self._state = pickle.loads(state)

    def give(self, share: bytes) -> None:
        """Keep a share until its answer is asked for."""
        self._shares.append(pickle.loads(share))

    def take(self, stopped: Callable[[], bool], expired: Callable[[], bool], seconds: float) -> Return | None:
        """Work on the first share that is there."""
        share = self._shares.popleft()
        return None if stopped() else self._work(self._state, replace(share, seconds=seconds))

    def close(self) -> None:
        """Have nothing to stop."""


class Process:
    """Works on shares in another process, by pickles through its pipes, which threads read and write."""

    def __init__(self) -> None:
        import subprocess  # here, since its import is for long searches only

        environment = {**os.environ, "PYTHONPATH": os.pathsep.join(p for p in sys.path if p)}
        self._process = subprocess.Popen(
            [sys.executable, "-W", "ignore", "-c", SERVES],
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            stderr=subprocess.DEVNULL,
            env=environment,
            start_new_session=True,  # Ctrl-C is the search's to handle
            pipesize=ROOM,
        )
        self._answers: queue.SimpleQueue[Return | None] = queue.SimpleQueue()
        self._letters: queue.SimpleQueue[bytes | None] = queue.SimpleQueue()
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        self._threads = [
            threading.Thread(target=self._listen, args=(self._process.stdout,), daemon=True),
            threading.Thread(target=self._post, args=(self._process.stdin,), daemon=True),
        ]
        for thread in self._threads:
            thread.start()

    def prepare(self, state: bytes) -> None:
        """Send the state."""
        self._letters.put(state)

    def give(self, share: bytes) -> None:
        """Send a share."""
        self._letters.put(share)

    def _listen(self, pipe: IO[bytes]) -> None:
        """Collect answers, and None when there will be no more."""
        try:
            while True:
                answer = pickle.load(pipe)
                self._answers.put(answer if isinstance(answer, Return) else None)
        except Exception:  # whatever is wrong with it, the helper is of no more use
            self._answers.put(None)

    def _post(self, pipe: IO[bytes]) -> None:
        """Write what there is to write; a helper that does not read keeps only this thread waiting."""
        try:
            while (letter := self._letters.get()) is not None:
                pipe.write(letter)
                pipe.flush()
        except (OSError, ValueError):
            self._answers.put(None)
        finally:
            with suppress(OSError):  # what was on its way is not needed any more
                pipe.close()

    def take(self, stopped: Callable[[], bool], expired: Callable[[], bool], seconds: float) -> Return | None:
        """Wait for an answer, until the lease expires; a little longer where the search is stopped."""
        until = float("inf")
        while time.monotonic() < until and not expired():
            try:
                return self._answers.get(timeout=GLANCE)
            except queue.Empty:
                if until == float("inf") and stopped():
                    until = time.monotonic() + LAST_WORD
        return None

    def close(self) -> None:
        """End the process."""
        self._letters.put(None)
        self._process.kill()
        self._process.wait()
        for thread in self._threads:
            thread.join(GOODBYE)
        if self._process.stdout is not None:
            with suppress(OSError):
                self._process.stdout.close()
