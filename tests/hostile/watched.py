"""Work in processes that are watched: what does not come back in time, or takes too much memory, is found out."""

from __future__ import annotations

import multiprocessing
import os
import resource
import signal
import time
import traceback
from collections.abc import Callable, Iterator
from multiprocessing.connection import Connection, wait
from pathlib import Path
from typing import Any, NamedTuple

from ruddock.insight.scenarios import follow_parent

MEMORY = 3 << 30  # address space that a case may take beyond what a process has at its start


class Found(NamedTuple):
    """What came of one case: ``said`` is what it returned, ``wrong`` what must not be, or empty."""

    number: int
    said: str
    wrong: str
    seconds: float


def watched(
    work: Callable[[int], tuple[str, str]], numbers: range, processes: int, most_seconds: float
) -> Iterator[Found]:
    """Yield what came of each number in any order; a process that hangs is killed and its number is wrong.

    Parameters
    ----------
    work : returns what it saw and what was wrong with it; an exception is wrong, too
    most_seconds : after which a case is taken to hang
    """
    context = multiprocessing.get_context("fork")
    shares = [iter(numbers[k::processes]) for k in range(processes)]
    running: dict[Connection, list[Any]] = {}

    def start(share: Iterator[int]) -> None:
        here, there = context.Pipe()
        process = context.Process(target=_serve, args=(work, there), daemon=False)
        process.start()
        there.close()
        running[here] = [process, share, -1, time.monotonic()]
        hand_over(here)

    def hand_over(here: Connection) -> None:
        own = running[here]
        number = next(own[1], None)
        here.send(number)
        own[2], own[3] = number, time.monotonic()
        if number is None:
            del running[here]
            own[0].join()

    for share in shares:
        start(share)
    while running:
        for ready in wait(list(running), timeout=0.5):
            assert isinstance(ready, Connection)
            process, share, number, began = running[ready]
            try:
                yield Found(number, *ready.recv())
            except EOFError:
                process.join()
                yield Found(number, "", f"the process died with {process.exitcode}", time.monotonic() - began)
                del running[ready]
                start(share)
                continue
            hand_over(ready)
        for here, (process, share, number, began) in list(running.items()):
            if time.monotonic() - began > most_seconds:
                os.killpg(process.pid, signal.SIGKILL)
                process.join()
                del running[here]
                yield Found(number, "", "hangs", most_seconds)
                start(share)


def _serve(work: Callable[[int], tuple[str, str]], there: Connection) -> None:
    os.setpgid(0, 0)  # so that helpers of the case end with it
    follow_parent()
    held = int(Path("/proc/self/statm").read_text().split()[0]) * resource.getpagesize()
    resource.setrlimit(resource.RLIMIT_AS, (held + MEMORY, held + MEMORY))
    while (number := there.recv()) is not None:
        began = time.process_time()
        try:
            said, wrong = work(number)
        except BaseException as error:
            last = traceback.extract_tb(error.__traceback__)[-6:]
            places = " < ".join(f"{os.path.basename(frame.filename)}:{frame.lineno}" for frame in reversed(last))
            said, wrong = "", f"{type(error).__name__}: {str(error)[:300]} | {places}"
        there.send((said, wrong, time.process_time() - began))
