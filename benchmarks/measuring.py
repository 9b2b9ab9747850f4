"""What one run of a benchmark returns."""

from __future__ import annotations

import argparse
import time
from collections.abc import Callable, Iterable
from dataclasses import dataclass
from pathlib import Path


@dataclass
class Measured:
    """One run: our seconds, the reference's, the iterations that it took, the entries of its largest matrix, and the
    bytes beyond the problem that solving it took at most.
    """

    ours: float
    reference: float
    iterations: int = 0
    entries: int = 0
    beyond: int = 0


def timed(work: Callable[[], object]) -> tuple[float, object]:
    start = time.perf_counter()
    result = work()
    return time.perf_counter() - start, result


def timed_beyond(work: Callable[[], object]) -> tuple[float, object, int]:
    """Return seconds, the result, and by how many bytes the process grew at most; 0 where the system does not tell."""
    try:
        Path("/proc/self/clear_refs").write_text("5")  # the peak begins anew
        before = _status("VmRSS")
    except OSError:
        return *timed(work), 0
    seconds, result = timed(work)
    return seconds, result, max(0, _status("VmHWM") - before)


def _status(field: str) -> int:
    """Return a size that the system tells of this process, in bytes."""
    lines = Path("/proc/self/status").read_text().splitlines()
    return 1024 * next(int(line.split()[1]) for line in lines if line.startswith(field))


def check(holds: bool, what: str) -> None:
    """Stop if an answer is wrong: a fast wrong answer is not worth a row."""
    if not holds:
        raise SystemExit(f"wrong answer: {what}")


def cases(parser: argparse.ArgumentParser, asked: list[str], there: Iterable[str]) -> list[str]:
    """Return the cases asked for, or all there are; one that is not there ends the command."""
    names = list(there)
    if unknown := [name for name in asked if name not in names]:
        parser.error(f"unknown: {', '.join(unknown)}; there are {', '.join(names)}")
    return asked or names
