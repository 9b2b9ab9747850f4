"""The dispatcher: takes jobs out of the line as workers come free, and puts back what was lost."""

from __future__ import annotations

import logging
import threading
import time

from ruddock.jobs.cluster import Workers
from ruddock.jobs.orders import DIED, GONE, LATE, LEFT, SILENT, Ending, Order
from ruddock.jobs.records import MOST_DEATHS
from ruddock.jobs.settings import LONG, QUICK, Settings
from ruddock.jobs.store import Claim, Store, StoreError

IDLE_SECONDS = 0.5  # between two looks at the line when nothing happens
SILENT_SECONDS = 10.0  # without a sign of life from a job's process, after which it counts as gone
FORGET_SECONDS = 600.0  # between two looks for results that are too old
DAY = 86_400.0

logger = logging.getLogger("ruddock.jobs")


class Dispatcher:
    """Hands jobs to workers in the order of the line.

    Parameters
    ----------
    store : Store
    workers : Workers
    settings : Settings
    """

    def __init__(self, store: Store, workers: Workers, settings: Settings) -> None:
        self.store, self.workers, self.settings = store, workers, settings
        self._flying: dict[tuple[int, int], str] = {}  # what workers were told to do: job and attempt, to its class
        self._seen: dict[tuple[int, int], tuple[int, float]] = {}  # beat, and when it was first seen
        self._news = threading.Event()
        self._closing = False
        self._looked = self._forgot = float("-inf")
        self._thread = threading.Thread(target=self._run, name="dispatcher", daemon=True)

    def start(self) -> None:
        """Begin."""
        self._thread.start()

    def wake(self) -> None:
        """Say that there may be something to do."""
        self._news.set()

    def close(self) -> None:
        """End; what runs goes on until its worker ends."""
        self._closing = True
        self._news.set()
        self._thread.join(5.0)

    def _run(self) -> None:
        left_behind = self.settings.left_behind
        while not self._closing:
            try:
                if left_behind:
                    self._take_back_all()
                    left_behind = False
                self._look_for_lost()
                self._fill()
                self._forget()
            except StoreError as error:
                logger.warning("%s", error)
                time.sleep(IDLE_SECONDS)
            except Exception:  # whatever it is, the other jobs are to go on
                logger.exception("the dispatcher goes on after")
                time.sleep(IDLE_SECONDS)
            self._news.wait(IDLE_SECONDS)
            self._news.clear()

    def _fill(self) -> None:
        """Hand out jobs for as many workers as are free; long ones leave one worker to the quick ones."""
        slots = self.workers.slots()
        while len(self._flying) < slots and not self._closing:
            longs = sum(job_class == LONG for job_class in self._flying.values())
            claimed = self.store.claim(long_too=longs < max(1, slots - 1))
            if claimed is None:
                return
            self._hand_out(claimed)

    def _hand_out(self, claim: Claim) -> None:
        request, s = claim.request, self.settings
        seconds = s.longest(request.job_class) if request.time_limit is None else request.time_limit
        order = Order(
            s.store, claim.number, claim.attempt, seconds, request.kind == "scenarios", s.quick_seconds, s.memory,
            s.decisions, self.workers.address,
        )  # fmt: skip
        self._flying[claim.number, claim.attempt] = request.job_class
        self.workers.submit(order, self._ended, first=request.job_class == QUICK)

    def _ended(self, order: Order, last: Order, ending: Ending) -> None:
        """Hear which job the worker that an order was for did last, and how the process of that ended."""
        try:
            if ending.how in (DIED, LATE, GONE):
                self._take_back(last.number, last.attempt, ending)
        except StoreError as error:  # it is found again when it shows no sign of life
            logger.warning("%s", error)
        finally:
            self._flying.pop((order.number, order.attempt), None)
            self.wake()

    def _take_back(self, number: int, attempt: int, ending: Ending) -> None:
        if self.store.job(number).last:
            self.store.end(number, attempt, f"{_why(ending)} Attempts: {attempt}.", failed=True)
        else:
            deaths = {LATE: MOST_DEATHS, DIED: 1}.get(ending.how, 0)  # a job that is late once would be again
            self.store.lost(number, attempt, _why(ending), deaths)

    def _take_back_all(self) -> None:
        """Put back what was left running by a service before this one, whose workers ended with it."""
        for number, attempt, _ in self.store.running():
            self._take_back(number, attempt, Ending(LEFT))

    def _look_for_lost(self) -> None:
        """Put jobs back whose process shows no sign of life: those of a service that was killed, for one."""
        now = time.monotonic()
        if now - self._looked < IDLE_SECONDS:
            return
        self._looked = now
        running = {(number, attempt): beat for number, attempt, beat in self.store.running()}
        self._seen = {
            job: self._seen[job] if job in self._seen and self._seen[job][0] == beat else (beat, now)
            for job, beat in running.items()
        }
        for (number, attempt), (_, since) in self._seen.items():
            if now - since > SILENT_SECONDS:
                self._take_back(number, attempt, Ending(SILENT))

    def _forget(self) -> None:
        """Take out results that are older than they are kept."""
        if time.monotonic() - self._forgot > FORGET_SECONDS:
            self._forgot = time.monotonic()
            self.store.forget(time.time() - self.settings.keep_days * DAY)


def _why(ending: Ending) -> str:
    """Return in words how the process of a job ended early."""
    if ending.how == LATE:
        return "The process was stopped because it had not finished four minutes after its time limit."
    if ending.how == GONE:
        return "The worker running the job was lost."
    if ending.how == LEFT:
        return "The service was restarted."
    if ending.how == SILENT:
        return "The process stopped responding."
    if ending.exit is not None and ending.exit < 0:
        return f"The process was killed by the system (signal {-ending.exit}), which happens when memory runs out."
    return "The process ended unexpectedly."
