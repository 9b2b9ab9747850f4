"""What a worker is asked to do, and how that ended."""

from __future__ import annotations

from typing import NamedTuple

from ruddock.jobs.store import Claim

DONE, DIED, LATE = "done", "died", "late"
OTHERS = "others"  # it was begun again elsewhere
GONE, LEFT, SILENT = "gone", "left", "silent"  # with the runner or the worker; with the service; or nobody knows


class Order(NamedTuple):
    """What a runner is told.

    Attributes
    ----------
    store : URL
    number, attempt : of the job
    seconds : its time limit
    spreads : whether it is one whose parts go to all workers
    quick_seconds : the longest time limit of a quick job
    memory : megabytes that its process may take
    decisions : the most that its model may have
    scheduler : its address, and what its connections are secured with
    """

    store: str
    number: int
    attempt: int
    seconds: float
    spreads: bool
    quick_seconds: float
    memory: float
    decisions: int
    scheduler: dict[str, str]

    def next(self, claim: Claim) -> Order:
        """Return the order for another job, a quick one."""
        request = claim.request
        seconds = self.quick_seconds if request.time_limit is None else request.time_limit
        return self._replace(
            number=claim.number, attempt=claim.attempt, seconds=seconds, spreads=request.kind == "scenarios"
        )


class Ending(NamedTuple):
    """How the process of a job ended, and its exit status."""

    how: str
    exit: int | None = None
