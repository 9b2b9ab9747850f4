"""Run a part by hand: ``python -m tests.hostile.run files FIRST COUNT``."""

from __future__ import annotations

import sys
import time
from collections import Counter

from tests.hostile import files
from tests.hostile.watched import watched

if __name__ == "__main__":
    first, count = int(sys.argv[2]), int(sys.argv[3])
    files.folder()
    seen, classes, example = Counter(), Counter(), {}
    began = time.monotonic()
    slow = []
    for found in watched(files.one, range(first, first + count), 2, 20.0):
        seen[found.said] += 1
        slow.append((found.seconds, found.number))
        if found.wrong:
            kind = found.wrong.split(" | ")[0][:60] + " | " + found.wrong.split(" | ")[-1][:100]
            classes[kind] += 1
            example.setdefault(kind, (found.number, found.wrong))
    for kind, n in classes.most_common():
        print(n, example[kind])
    print(count, "cases", f"{time.monotonic() - began:.0f} s, wrong {sum(classes.values())}")
    print("slowest", sorted(slow)[-8:])
