"""The process beside a worker that has everything imported, and gives each job a process of its own.

It is told of jobs by lines of JSON, and answers each with one when the job's process has ended. While that works, it
shows so in the store, hands on a wish to stop, and ends it where its time is up or the job is another one's by now.
When the worker is gone, so that nobody listens any more, it ends with it.
"""

from __future__ import annotations

import json
import multiprocessing
import os
import signal
import subprocess
import sys
import threading
import time
from typing import Any, NamedTuple

from ruddock.jobs.store import Store, StoreError

BEAT_SECONDS = 1.0
LOOK_SECONDS = 0.2  # between two looks at a process
GRACE_SECONDS = 240.0  # beyond its time limit that a job has for reading, and for writing its reports
FORKS: Any = multiprocessing.get_context("fork" if "fork" in multiprocessing.get_all_start_methods() else "spawn")
DONE, DIED, LATE, OTHERS = "done", "died", "late", "others"


class Order(NamedTuple):
    """What a runner is told.

    Attributes
    ----------
    store : URL
    number, attempt : of the job
    seconds : its time limit
    memory : megabytes that its process may take
    decisions : the most that its model may have
    scheduler : address, for jobs that spread over the workers
    """

    store: str
    number: int
    attempt: int
    seconds: float
    memory: float
    decisions: int
    scheduler: str | None = None


class Ending(NamedTuple):
    """How the process of a job ended: ``done``, ``died``, ``late`` or ``others``, and its exit status."""

    how: str
    exit: int | None = None


class Runner:
    """A running runner, as its worker sees it; made anew where it has died."""

    def __init__(self) -> None:
        environment = {**os.environ, "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
        command = [sys.executable, "-m", "ruddock.jobs.runner"]
        self._process = subprocess.Popen(command, stdin=subprocess.PIPE, stdout=subprocess.PIPE, env=environment)

    @property
    def alive(self) -> bool:
        """Whether it can be told of a job."""
        return self._process.poll() is None

    def run(self, order: Order) -> Ending:
        """Have a job done; return how its process ended."""
        assert self._process.stdin is not None
        assert self._process.stdout is not None
        try:
            self._process.stdin.write(json.dumps(order).encode() + b"\n")
            self._process.stdin.flush()
            line = self._process.stdout.readline()
        except OSError:
            line = b""
        if not line:
            try:
                self._process.wait(LOOK_SECONDS)
            except subprocess.TimeoutExpired:
                self.end()
            return Ending(DIED, self._process.returncode)
        return Ending(*json.loads(line))

    def end(self) -> None:
        """End it, and what it is at."""
        self._process.kill()
        self._process.wait()


def main() -> None:
    """Take orders until nobody gives any more."""
    answers = os.fdopen(os.dup(1), "w", encoding="utf-8", buffering=1)
    os.dup2(2, 1)  # what a job prints is no answer
    _warm()
    worker = os.getppid()
    for line in sys.stdin:
        print(json.dumps(_done(Order(*json.loads(line)), worker)), file=answers)


WARM = """decisions
  jars, mead >= 0
  hampers integer 0 .. 9
maximize margin (£)
  2 jars + 3 mead + 5 hampers
require
  hours : jars + 2 mead + 2.5 hampers <= 8.3
  wax : jars + 1.5 hampers <= 4
"""


def _warm() -> None:
    """Do small jobs in a store of their own, so that all jobs after them find everything imported and compiled."""
    import gc
    import tempfile
    from pathlib import Path

    from ruddock.formats.rdk.read import read_rdk_text
    from ruddock.jobs.records import Request
    from ruddock.jobs.settings import sqlite_url
    from ruddock.jobs.work import Work

    here = os.getcwd()
    with tempfile.TemporaryDirectory(prefix="ruddock-warm-") as folder:
        store = Store(sqlite_url(Path(folder) / "warm.db"), pooled=False)
        store.prepare()
        model = read_rdk_text(WARM, "warm", Path(folder))
        model.write(Path(folder) / "warm.json")
        sent = {name: (Path(folder) / name).read_bytes() for name in ("warm.json",)} | {"warm.rdk": WARM.encode()}
        for name, reports in (("warm.rdk", ("html", "xlsx")), ("warm.json", ())):
            store.accept(Request(model=name, reports=reports), name, "", sent)
            claimed = store.claim()
            assert claimed is not None
            Work(store, *claimed, memory=1024, decisions=100).run()
        os.chdir(here)
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    gc.collect()
    gc.freeze()  # what is shared with the jobs' processes stays shared


def _done(order: Order, worker: int) -> Ending:
    """Have a job done in a process of its own."""
    store = Store(order.store, pooled=False)
    process = FORKS.Process(target=_work, args=(order,))
    process.start()
    ends = time.monotonic() + order.seconds + GRACE_SECONDS
    beat, told = time.monotonic(), False
    while process.is_alive():
        process.join(LOOK_SECONDS)
        now = time.monotonic()
        if os.getppid() != worker:
            process.kill()
            sys.exit(1)
        if now > ends:
            process.kill()
            process.join()
            return Ending(LATE, process.exitcode)
        if now - beat < BEAT_SECONDS or not process.is_alive():
            continue
        beat = now
        try:
            mine, stop = store.beat(order.number, order.attempt)
        except StoreError:
            continue  # it may come back
        if not mine and process.is_alive():
            process.join(BEAT_SECONDS)  # it may just have ended the job itself
            if process.is_alive():
                process.kill()
                process.join()
                return Ending(OTHERS, process.exitcode)
        if stop and not told and process.pid is not None:
            told = True
            os.kill(process.pid, signal.SIGINT)
    return Ending(DONE if process.exitcode == 0 else DIED, process.exitcode)


def _work(order: Order) -> None:
    """Be the process of one job."""
    from ruddock.jobs.work import Work

    limit_memory(order.memory)
    threading.Thread(target=_follow, args=(os.getppid(),), daemon=True).start()
    store = Store(order.store)
    executor: Any = None
    if order.scheduler is not None:
        from ruddock.jobs.cluster import executor_of

        executor = executor_of(order.scheduler)
    Work(store, order.number, order.attempt, order.memory, order.decisions, executor).run()


def _follow(parent: int) -> None:
    """End with the process that this one was started by, however that ends."""
    while os.getppid() == parent:
        time.sleep(1.0)
    os._exit(1)


def limit_memory(megabytes: float) -> None:
    """Let this process take so much memory more than it has now, where the system can see to that."""
    try:
        import resource
    except ImportError:  # not on this system
        return
    with open("/proc/self/statm", encoding="ascii") as held:
        pages = int(held.read().split()[0])
    most = int(pages * resource.getpagesize() + megabytes * 2**20)
    resource.setrlimit(resource.RLIMIT_AS, (most, most))


if __name__ == "__main__":
    main()
