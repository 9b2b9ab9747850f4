"""What one run of a benchmark returns."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass


@dataclass
class Measured:
    """One run: our seconds, the reference's, the iterations that it took, and the entries of its largest matrix."""

    ours: float
    reference: float
    iterations: int = 0
    entries: int = 0


def timed(work: Callable[[], object]) -> tuple[float, object]:
    start = time.perf_counter()
    result = work()
    return time.perf_counter() - start, result


def check(holds: bool, what: str) -> None:
    """Stop if an answer is wrong: a fast wrong answer is not worth a row."""
    if not holds:
        raise SystemExit(f"wrong answer: {what}")
