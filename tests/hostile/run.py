"""Run a part by hand: ``python -m tests.hostile.run PART FIRST COUNT``; what is wrong is printed as it is found."""

from __future__ import annotations

import sys
import time
from collections import Counter

from tests.hostile import files, parts
from tests.hostile.watched import watched


def run(part: str, numbers: range) -> int:
    """Return how many of a part's cases went wrong."""
    work, seconds = parts.PARTS[part]
    files.folder()
    seen, wrong, slowest, began = Counter[str](), 0, 0.0, time.monotonic()
    for found in watched(work, numbers, 2, seconds):
        seen[found.said] += 1
        slowest = max(slowest, found.seconds)
        if found.wrong:
            wrong += 1
            print(f"{part} {found.number}: {found.wrong}", flush=True)
    took = time.monotonic() - began
    print(
        f"{part}: {len(numbers):,} cases, {len(seen):,} kinds of end, slowest {slowest:.1f} s, wrong {wrong}, {took:.0f} s"
    )
    return wrong


if __name__ == "__main__":
    sys.exit(bool(run(sys.argv[1], range(int(sys.argv[2]), int(sys.argv[2]) + int(sys.argv[3])))))
