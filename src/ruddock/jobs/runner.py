"""The process beside a worker that has everything imported, and has jobs done in a process of their own.

It is told of jobs by lines of JSON, and answers each with one when the job has ended. While that is done, it shows so
in the store, passes on a wish to stop, and ends the job's process where its time is up or the job is another one's by
now. That process does one job after another, and is made anew when it has grown or has done many. When the worker is
gone, so that nobody listens any more, all of it ends.
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
from pathlib import Path
from typing import Any

from ruddock.imports import load_when_asked
from ruddock.jobs.orders import DIED, DONE, GONE, LATE, OTHERS, Ending, Order
from ruddock.jobs.store import Store, StoreError

BEAT_SECONDS = 1.0
LOOK_SECONDS = 0.2  # between two looks at a process
GRACE_SECONDS = 240.0  # beyond its time limit that a job has for reading, and for writing its reports
FORKS: Any = multiprocessing.get_context("fork" if "fork" in multiprocessing.get_all_start_methods() else "spawn")
MOST_JOBS = 50  # that one process does, one after another
GROWN_SHARE = 0.1  # of what a job may take: a process that has grown by more does no other job


class Runner:
    """A running runner, as its worker sees it; made anew where it has died."""

    def __init__(self) -> None:
        environment = {**os.environ, "OPENBLAS_NUM_THREADS": "1", "OMP_NUM_THREADS": "1"}
        command = [sys.executable, "-m", "ruddock.jobs.runner"]
        self._process = subprocess.Popen(
            command,
            stdin=subprocess.PIPE,
            stdout=subprocess.PIPE,
            env=environment,
            start_new_session=True,  # Ctrl-C in the terminal of a service is not for its jobs
        )

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
            return Ending(GONE, self._process.returncode)
        return Ending(*json.loads(line))

    def end(self) -> None:
        """End it, and what it is at."""
        self._process.kill()
        self._process.wait()


def main() -> None:
    """Take orders until nobody gives any more."""
    answers = os.fdopen(os.dup(1), "w", encoding="utf-8", buffering=1)
    os.dup2(2, 1)  # what a job prints is no answer
    load_when_asked()
    _warm()
    worker = os.getppid()
    processes = _JobProcesses()
    try:
        for line in sys.stdin:
            print(json.dumps(processes.done(Order(*json.loads(line)), worker)), file=answers)
    except BrokenPipeError:  # the worker is gone
        pass
    processes.end()
    os._exit(0)


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

    from ruddock.formats.rdk.read import read_rdk_text
    from ruddock.jobs.records import Request
    from ruddock.jobs.settings import sqlite_url
    from ruddock.jobs.work import Work

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
            order = Order(store.url, 0, 0, 60.0, False, 60.0, 1024.0, 100, {})
            Work(store, order.next(claimed)).run()
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    gc.collect()
    gc.freeze()  # what is shared with the jobs' processes stays shared


class _JobProcess:
    """The process that jobs are done in: one after another, and made anew from time to time."""

    def __init__(self) -> None:
        self.here, there = FORKS.Pipe()
        self.process = FORKS.Process(target=_do_jobs, args=(there, os.getpid()))
        self.process.start()
        there.close()

    def kill(self) -> None:
        """End it, and what it is at."""
        self.process.kill()
        self.process.join()
        self.here.close()


class _JobProcesses:
    """Gives a process for each job, the one of the job before where that is as good as new."""

    def __init__(self) -> None:
        self._idle: _JobProcess | None = None

    def end(self) -> None:
        """End the process that waits for a job."""
        if self._idle is not None:
            self._idle.kill()

    def done(self, order: Order, worker: int) -> Ending:
        """Have a job done."""
        held = self._idle or _JobProcess()
        self._idle = None
        ending, stays = _watched(held, order, worker)
        if stays:
            self._idle = held
        elif ending.how == DONE:
            held.process.join()
            held.here.close()
        return ending


def _watched(held: _JobProcess, order: Order, worker: int) -> tuple[Ending, bool]:
    """Watch over a job; return how it ended, and whether its process takes another one."""
    store = Store(order.store, pooled=False)
    ends = time.monotonic() + order.seconds + GRACE_SECONDS
    beat, told = time.monotonic(), False
    try:
        held.here.send(order)
        while not held.here.poll(LOOK_SECONDS):
            now = time.monotonic()
            if os.getppid() != worker:
                held.kill()
                sys.exit(1)
            if now > ends:
                held.kill()
                return Ending(LATE, held.process.exitcode), False
            if now - beat < BEAT_SECONDS:
                continue
            beat = now
            try:
                mine, stop = store.beat(order.number, order.attempt)
            except StoreError:
                continue  # it may come back
            if not mine and not held.here.poll(BEAT_SECONDS):  # unless it has just ended the job itself
                held.kill()
                return Ending(OTHERS, held.process.exitcode), False
            if stop and not told and held.process.pid is not None:
                told = True
                os.kill(held.process.pid, signal.SIGINT)
        return Ending(DONE, 0), bool(held.here.recv())
    except (EOFError, OSError):
        held.process.join(LOOK_SECONDS)
        held.kill()
        return Ending(DIED, held.process.exitcode), False


def _do_jobs(orders: Any, runner: int) -> None:
    """Do jobs until there is a reason for a new process."""
    threading.Thread(target=_follow, args=(runner,), daemon=True).start()
    size = used_memory()
    stores: dict[str, Store] = {}
    for done in range(1, MOST_JOBS + 1):
        try:
            order = Order(*orders.recv())
        except EOFError:
            return
        limit_memory(size + order.memory * 2**20)
        store = stores.setdefault(order.store, Store(order.store, pooled=False))
        _work(store, order)
        grown = used_memory() - size > GROWN_SHARE * order.memory * 2**20
        stays = done < MOST_JOBS and not grown and not order.spreads
        orders.send(stays)
        if not stays:
            return


def _work(store: Store, order: Order) -> None:
    from ruddock.jobs.work import Work

    executor: Any = None
    if order.spreads:
        from ruddock.jobs.cluster import executor_of

        executor = executor_of(order.scheduler)
    Work(store, order, executor).run()


def _follow(parent: int) -> None:
    """End with the process that this one was started by, however that ends."""
    while os.getppid() == parent:
        time.sleep(1.0)
    os._exit(1)


def used_memory() -> int:
    """Return the bytes of addresses that this process has; 0 where the system does not say."""
    try:
        pages = int(Path("/proc/self/statm").read_text(encoding="ascii").split()[0])
    except OSError:
        return 0
    return pages * os.sysconf("SC_PAGE_SIZE")


def limit_memory(most: float) -> None:
    """Let this process have so many bytes of addresses, where the system can see to that."""
    try:
        import resource
    except ImportError:  # not on this system
        return
    limit = int(most) if used_memory() else resource.RLIM_INFINITY
    _, hard = resource.getrlimit(resource.RLIMIT_AS)
    resource.setrlimit(resource.RLIMIT_AS, (limit, hard))


if __name__ == "__main__":
    main()
