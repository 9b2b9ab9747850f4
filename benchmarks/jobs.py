"""What a service of jobs adds to its solves: throughput, latency, polling, and a study spread over the workers.

``python -m benchmarks.jobs`` starts a service on this machine and prints a table.
"""

from __future__ import annotations

import argparse
import contextlib
import io
import statistics
import tempfile
import threading
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

import pandas as pd

from ruddock.jobs import runner
from ruddock.jobs.client import SentJob, Service
from ruddock.jobs.orders import Order
from ruddock.jobs.records import Request
from ruddock.jobs.settings import sqlite_url
from ruddock.jobs.store import Store
from tests.jobs.running import Running, crates

SENDERS = 4


def own_work(folder: Path, count: int) -> float:
    """Return the seconds that reading, solving and writing a small job takes without a service."""
    store = Store(sqlite_url(folder / "own.db"), pooled=False)
    store.prepare()
    runner._warm()
    from ruddock.files import json_text
    from ruddock.formats.model_json import model_document
    from ruddock.jobs.work import Work

    model, _ = crates(1)
    content = json_text(model_document(model)).encode()
    begun = time.perf_counter()
    for _ in range(count):
        store.accept(Request(model="model.json", reports=()), "van", "", {"model.json": content})
        claimed = store.claim()
        assert claimed is not None
        with contextlib.redirect_stderr(io.StringIO()):
            order = Order(store.url, 0, 0, 60.0, False, 60.0, 4096.0, 10**6, {})
            Work(store, order.next(claimed)).run()
    return (time.perf_counter() - begun) / count


def many(service: Service, count: int) -> tuple[float, list[float]]:
    """Send small jobs, wait for all; return the seconds in all, and each from being taken to its end."""
    model, _ = crates(1)
    begun = time.perf_counter()
    with ThreadPoolExecutor(SENDERS) as pool:
        jobs: list[SentJob] = list(pool.map(lambda _: service.send(model, reports=[]), range(count)))
    last = 0
    while last < len(jobs):
        if jobs[last].status().open:
            time.sleep(0.5)
        else:
            last += 1
    seconds = time.perf_counter() - begun
    ended = [job.status() for job in jobs]
    assert all(job.state == "done" and job.status == "optimal" for job in ended)
    return seconds, [(job.ended or 0.0) - (job.started or 0.0) for job in ended]


def polled(url: str, clients: int, seconds: float) -> tuple[int, float, float]:
    """Ask for one job from many clients at once; return the answers, the median and the 99th percentile of seconds."""
    model, _ = crates(1)
    job = Service(url).send(model, reports=[])
    job.wait()
    times: list[float] = []
    until = time.perf_counter() + seconds

    def ask() -> None:
        own = Service(url).job(job.number, job.key)
        while time.perf_counter() < until:
            begun = time.perf_counter()
            own.status()
            times.append(time.perf_counter() - begun)
            time.sleep(1.0)

    threads = [threading.Thread(target=ask) for _ in range(clients)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    times.sort()
    return len(times), statistics.median(times), times[int(0.99 * len(times))]


def study(folder: Path, count: int) -> tuple[float, float]:
    """Return the seconds of a study in one process here, and as a job spread over two workers."""
    model, _ = crates(5, 40)
    table = pd.DataFrame({"scenario": [f"s{k}" for k in range(count)], "room": [300 + k % 400 for k in range(count)]})
    begun = time.perf_counter()
    alone = model.scenarios(table, cores=1)
    one = time.perf_counter() - begun
    held = Running(folder, workers=2)
    begun = time.perf_counter()
    job = held.service.send(model, kind="scenarios", table=table, reports=[], job_class="long")
    job.wait()
    two = time.perf_counter() - begun
    assert len(alone.results) == count
    held.end()
    return one, two


def main() -> None:
    parser = argparse.ArgumentParser(description=__doc__)
    parser.add_argument("--jobs", type=int, default=1000)
    parser.add_argument("--scenarios", type=int, default=1000)
    parser.add_argument("--clients", type=int, default=100)
    asked = parser.parse_args()
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        held = Running(folder, workers=2)
        time.sleep(8)  # the runners warm up
        seconds, each = many(held.service, asked.jobs)
        count, median, late = polled(held.url, asked.clients, 10.0)
        held.end()
        work = own_work(folder, 100)
        print(f"{asked.jobs} small jobs, 2 workers: {seconds:.1f} s, {asked.jobs / seconds:.1f} a second")
        print(f"  from begun to ended: median {statistics.median(each) * 1e3:.0f} ms")
        print(f"  the same work without a service: {work * 1e3:.0f} ms")
        print(f"  added to each: {(seconds * 2 / asked.jobs - work) * 1e3:.0f} ms of a worker")
        answers = f"{count} answers, median {median * 1e3:.0f} ms, 99 % {late * 1e3:.0f} ms"
        print(f"{asked.clients} clients asking once a second: {answers}")
        one, two = study(folder, asked.scenarios)
        share = f"{one:.1f} s in one process, {two:.1f} s as a job on 2 workers, {one / two / 2:.2f} of linear"
        print(f"{asked.scenarios} scenarios: {share}")


if __name__ == "__main__":
    main()
