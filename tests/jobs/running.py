"""A service in processes of its own, as a user runs it, and what may befall it."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

import numpy as np

import ruddock as rk
from ruddock.jobs.client import SentJob, Service

SECONDS = 60.0


class Running:
    """A service that can be killed and started again on the same store."""

    def __init__(self, folder: Path, *options: str, store: str | None = None, workers: int = 2) -> None:
        self.store = store or str(folder / "jobs.db")
        self.options = ["--workers", str(workers), *options]
        self.log = folder / "serve.log"
        self.start()

    def start(self) -> None:
        command = [
            sys.executable,
            "-c",
            "from ruddock.cli import main; main()",
            "serve",
            "--store",
            self.store,
            "--port",
            "0",
            *self.options,
        ]
        self._out = self.log.open("a")
        self.process = subprocess.Popen(
            command, stdout=subprocess.PIPE, stderr=self._out, text=True, start_new_session=True
        )
        assert self.process.stdout is not None
        line = self.process.stdout.readline()
        assert line.startswith("Ruddock service at "), line + self.log.read_text()
        self.url = line.split()[-1]
        self.service = Service(self.url)

    def kill(self) -> None:
        self.process.kill()
        self.gone()

    def end(self) -> int:
        """End it as Ctrl-C in its terminal does, which reaches all processes of the terminal."""
        os.killpg(self.process.pid, signal.SIGINT)
        return self.gone()

    def gone(self) -> int:
        status = self.process.wait(30)
        assert self.process.stdout is not None
        self.process.stdout.close()
        self._out.close()
        self.service.shutdown()
        return status

    def below(self) -> list[tuple[int, str]]:
        """The processes that the service has started, and theirs, with what they are."""
        children: dict[int, list[int]] = {}
        words = {}
        for entry in Path("/proc").iterdir():
            if entry.name.isdigit():
                try:
                    parent = int((entry / "stat").read_text().rpartition(")")[2].split()[1])
                    words[int(entry.name)] = (entry / "cmdline").read_bytes().replace(b"\0", b" ").decode()
                except OSError:
                    continue
                children.setdefault(parent, []).append(int(entry.name))
        found, left = [], [self.process.pid]
        while left:
            for child in children.get(left.pop(), []):
                found.append((child, words[child]))
                left.append(child)
        return found

    def kill_some(self, rng: random.Random, what: str) -> None:
        """Kill a random process: of a ``job``, a ``runner`` with it, a ``worker``, or the ``server`` itself."""
        if what == "server":
            self.kill()
            self.start()
            return
        held = self.below()
        runners = [pid for pid, words in held if "ruddock.jobs.runner" in words]
        own = {
            "job": [pid for pid in runners if _parent(pid) in runners],
            "runner": [pid for pid in runners if _parent(pid) not in runners],
            "worker": [pid for pid, words in held if "multiprocessing.spawn" in words],
        }[what]
        if own:
            try:
                os.kill(rng.choice(own), signal.SIGKILL)
            except ProcessLookupError:
                return


def _of_a_service(pid: int) -> bool:
    try:
        return b"python" in Path(f"/proc/{pid}/cmdline").read_bytes()
    except OSError:
        return False


def _parent(pid: int) -> int:
    try:
        return int(Path(f"/proc/{pid}/stat").read_text().rpartition(")")[2].split()[1])
    except OSError:
        return 0


@contextmanager
def running(folder: Path, *options: str, **more: object) -> Iterator[Running]:
    service = Running(folder, *options, **more)  # type: ignore[arg-type]
    try:
        yield service
    finally:
        if service.process.poll() is None:
            service.kill()


def crates(seed: int, size: int = 12) -> tuple[rk.Model, float]:
    """A knapsack of crates into a van, with its best value by a dynamic program."""
    rng = np.random.default_rng(seed)
    weight, value = rng.integers(5, 60, size), rng.integers(10, 99, size)
    room = int(weight.sum() // 2)
    best = np.zeros(room + 1)
    for w, v in zip(weight, value, strict=True):
        best[w:] = np.maximum(best[w:], best[:-w] + v)
    crate = rk.Axis("crate", [f"crate {k}" for k in range(size)])
    model = rk.Model(f"Van {seed}")
    take = model.decide("take", crate, kind="binary")
    model.maximize("value", (rk.data(value, crate) * take).sum(), unit="£")
    model.require("room", (rk.data(weight, crate) * take).sum() <= room)
    return model, float(best[-1])


def hard(seed: int, rows: int = 12, size: int = 60) -> rk.Model:
    """A model with a plan at once whose proof takes longer than anyone waits."""
    rng = np.random.default_rng(seed)
    crate, limit = rk.Axis("crate", range(size)), rk.Axis("limit", range(rows))
    weight = rk.data(rng.integers(5, 100, (rows, size)), limit, crate)
    model = rk.Model("Full vans")
    take = model.decide("take", crate, kind="binary")
    model.maximize("value", (rk.data(rng.integers(50, 99, size), crate) * take).sum(), unit="£")
    model.require("room", (weight * take).sum(crate) <= 40 * size / 2)
    return model


def kills(folder: Path, count: int, seed: int, *, servers: bool = True) -> dict[str, int]:
    """Send jobs while processes are killed at random, two at least; every job must end once, with the right answer."""
    rng = random.Random(seed)
    done = {"jobs": 0, "kills": 0, "begun again": 0}
    with running(folder) as held:
        seen: set[int] = set()
        sent: list[tuple[SentJob, float]] = []
        kinds = ["job", "job", "runner", "worker"] + (["server"] if servers else [])
        next_kill = time.monotonic() + 0.3
        while len(sent) < count or done["kills"] < 2 or any(job.status().open for job, _ in sent):
            if len(sent) < count and sum(job.status().open for job, _ in sent[-6:]) < 6:
                model, best = crates(rng.randrange(10**6), rng.randrange(8, 40))
                sent.append((held.service.send(model, reports=[]), best))
            if time.monotonic() > next_kill and sent:
                seen |= {pid for pid, _ in held.below()}
                held.kill_some(rng, rng.choice(kinds))
                done["kills"] += 1
                next_kill = time.monotonic() + rng.uniform(0.5, 4.0) * (1 if len(sent) < count else 3)
                for job, _ in sent:
                    job.service = held.service
            time.sleep(0.02)
        for job, best in sent:
            found = job.wait()
            words = [said for _, said in job.log()]
            assert words.count("finished") == 1, words
            plan = rk.schema("plan")["properties"]["format"]["const"]
            answer = job.file("solve.json").decode()
            assert plan in answer
            assert found.status == "optimal" and f'"objective": {best}' in answer, (best, answer[:300])
            done["jobs"] += 1
            done["begun again"] += found.attempt > 1
        seen |= {pid for pid, _ in held.below()}
    end = time.monotonic() + SECONDS
    while any(map(_of_a_service, seen)):  # none is left behind, whatever ended the one that had started it
        assert time.monotonic() < end, [pid for pid in seen if _of_a_service(pid)]
        time.sleep(0.1)
    return done
