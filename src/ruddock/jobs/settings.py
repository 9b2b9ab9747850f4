"""What a service allows, and where it keeps its jobs."""

from __future__ import annotations

from dataclasses import dataclass, field
from pathlib import Path

MEGABYTE = 2**20
QUICK, LONG = "quick", "long"
CLASSES = (QUICK, LONG)


@dataclass(frozen=True)
class Settings:
    """The settings of a service.

    Attributes
    ----------
    store : str
        The URL of the database that holds the jobs.
    scheduler : str, optional
        The address of a Dask scheduler; without one, workers are started on this machine.
    workers : int
        How many of those, each of which solves one job at a time.
    tokens : frozenset of str
        Who may send, by the SHA-256 of a token each; anyone where it is empty.
    quick_seconds, long_seconds : float
        The longest time limit of a job, by its class.
    aging_seconds : float
        What a long job has waited for when it goes before quick ones that came later.
    job_bytes, unpacked_bytes, files : int
        What may come with a job: bytes as sent, bytes once archives are unpacked, and how many files.
    decisions : int
        The most decisions that a model may have.
    waiting, each_client : int
        How many jobs may wait or run in all, and of one client.
    keep_days : float
        How long results are kept once a job has ended.
    memory : float
        Megabytes that one job may take.
    sends, reads : str
        How often one client may send, and ask: such as ``60/minute``.
    """

    store: str
    scheduler: str | None = None
    workers: int = 2
    tokens: frozenset[str] = field(default_factory=frozenset)
    quick_seconds: float = 300.0
    long_seconds: float = 8 * 3600.0
    aging_seconds: float = 600.0
    job_bytes: int = 64 * MEGABYTE
    unpacked_bytes: int = 256 * MEGABYTE
    files: int = 100
    decisions: int = 2_000_000
    waiting: int = 2_000
    each_client: int = 1_500
    keep_days: float = 30.0
    memory: float = 4096.0
    sends: str = "3000/minute"
    reads: str = "30000/minute"

    @property
    def left_behind(self) -> bool:
        """Whether what runs in the store at the start was left behind: its workers ended with their service."""
        return self.scheduler is None and self.store.startswith("sqlite")

    def longest(self, job_class: str) -> float:
        """Return the longest time limit of a class of jobs."""
        return self.quick_seconds if job_class == QUICK else self.long_seconds


def sqlite_url(path: Path) -> str:
    """Return the URL of a SQLite database in a file."""
    return f"sqlite:///{path.resolve()}"
