"""The workers: a Dask cluster of this machine, or one that is there already."""

from __future__ import annotations

import logging
import signal
import threading
import time
from collections.abc import Callable
from concurrent.futures import Executor
from importlib import import_module
from typing import Any

import dask
from distributed import Client, Future, LocalCluster, secede
from distributed.diagnostics.plugin import WorkerPlugin
from distributed.security import Security

from ruddock.jobs.orders import DONE, GONE, Ending, Order
from ruddock.jobs.runner import Runner
from ruddock.jobs.store import Claim, Store, StoreError

TLS = ("tls_ca_file", "tls_client_cert", "tls_client_key")
ALONE_SECONDS = 2.0  # that a worker goes on with quick jobs by itself
LOOK_SECONDS = 1.0  # between two looks at which workers there are

_idle: list[Runner] = []  # runners of this worker
_busy: list[Runner] = []
_stores: dict[str, Store] = {}
_lock = threading.Lock()


def run(order: Order) -> tuple[Order, Ending]:
    """Do a job, in whatever worker, and the quick ones next in line for a while; return the last, and how it ended.

    So that small jobs follow one another without a word to the dispatcher.
    """
    with _lock:
        runner = next((held for held in _idle if held.alive), None)
        if runner is not None:
            _idle.remove(runner)
        runner = runner or Runner()
        _busy.append(runner)
    until = time.monotonic() + ALONE_SECONDS
    while True:
        if order.spreads:
            secede()  # it leaves its place here to its parts
        ending = runner.run(order)
        if ending.how != DONE or order.spreads or time.monotonic() > until:
            break
        claim = _next_quick(order.store)
        if claim is None:
            break
        order = order.next(claim)
    with _lock:
        _busy.remove(runner)
        if runner.alive:
            _idle.append(runner)
    return order, ending


def _next_quick(url: str) -> Claim | None:
    with _lock:
        if url not in _stores:
            _stores[url] = Store(url)
        store = _stores[url]
    try:
        return store.claim(long_too=False)
    except StoreError:  # the dispatcher will see to it
        return None


class Follow(WorkerPlugin):
    """Ends a worker of this machine when the service that started it is gone, however that ended."""

    name = "ruddock-follow"

    def setup(self, worker: Any) -> None:
        """Begin to watch."""
        from ruddock.insight.scenarios import follow_parent

        follow_parent()
        if threading.current_thread() is threading.main_thread():
            signal.signal(signal.SIGINT, signal.SIG_IGN)  # the service ends its workers


class Warm(WorkerPlugin):
    """Gives each worker its runner before the first job comes."""

    name = "ruddock-warm"

    def setup(self, worker: Any) -> None:
        """Start it, and import what the parts of a study need."""
        _idle.append(Runner())
        import_module("ruddock.insight.scenarios")

    def teardown(self, worker: Any) -> None:
        """End the runners with the worker."""
        with _lock:
            for runner in (*_idle, *_busy):
                runner.end()
            _idle.clear()


class Workers:
    """The workers of a service.

    Parameters
    ----------
    scheduler : address of a Dask scheduler; None starts workers on this machine
    count : how many of those
    """

    def __init__(self, scheduler: str | None, count: int) -> None:
        self._cluster: LocalCluster | None = None
        self._tls: dict[str, str] = {}
        self._slots, self._looked = 0, float("-inf")
        if scheduler is None:
            # a worker has its jobs in processes that limit themselves; what is lost is begun again from the store
            dask.config.set({"distributed.worker.memory.terminate": False, "distributed.worker.profile.enabled": False})
            dask.config.set({"distributed.scheduler.allowed-failures": 0})
            security = Security.temporary()  # else anyone on this machine could give the workers something to do
            self._tls = {name: str(getattr(security, name)) for name in TLS}
            self._cluster = LocalCluster(
                n_workers=count, threads_per_worker=1, processes=True, dashboard_address=None, memory_limit=0,
                host="127.0.0.1", scheduler_kwargs={"dashboard": False, "dashboard_address": "127.0.0.1:0"},
                security=security, silence_logs=logging.CRITICAL,
            )  # fmt: skip
            self.client = Client(self._cluster, set_as_default=False)
            self.client.register_plugin(Follow())
        else:
            self.client = Client(scheduler, set_as_default=False, timeout="10s")
        self.client.register_plugin(Warm())
        self._address = {"address": str(self.client.scheduler_info()["address"]), **self._tls}

    @property
    def address(self) -> dict[str, str]:
        """Where the scheduler is, and what its connections are secured with."""
        return self._address

    def slots(self) -> int:
        """Return how many jobs can be done at once; workers that come and go are noticed after a moment."""
        if time.monotonic() - self._looked > LOOK_SECONDS:
            known = self.client.scheduler_info(n_workers=-1)
            self._looked = time.monotonic()
            self._slots = sum(int(worker["nthreads"]) for worker in known["workers"].values())
        return self._slots

    def submit(self, order: Order, then: Callable[[Order, Order, Ending], None], *, first: bool) -> None:
        """Hand a job to a worker; ``then`` hears, in another thread, which one it did last and how that ended."""
        future = self.client.submit(run, order, pure=False, retries=0, priority=1 if first else 0)
        future.add_done_callback(lambda done: then(order, *_ended(order, done)))

    def close(self) -> None:
        """End the workers, if they were started here."""
        self.client.close()
        if self._cluster is not None:
            self._cluster.close()


def _ended(order: Order, future: Future[Any]) -> tuple[Order, Ending]:
    """Return the last job of a worker and how it ended; where the worker is gone, it is gone with it."""
    try:
        last, ending = future.result()
        return Order(*last), Ending(*ending)
    except Exception:  # whatever became of the worker
        return order, Ending(GONE)


def executor_of(scheduler: dict[str, str]) -> Executor:
    """Return an executor whose tasks go to the workers."""
    tls = {name: held for name, held in scheduler.items() if name in TLS}
    security = Security(require_encryption=True, **tls) if tls else None
    client = Client(scheduler["address"], set_as_default=False, security=security)
    executor: Executor = client.get_executor(pure=False)
    return executor
