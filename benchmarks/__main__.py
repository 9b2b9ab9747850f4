"""Print the table of benchmarks; ``--check`` exits 1 where a bar is missed."""

from __future__ import annotations

import argparse
import json
import resource
import statistics
import subprocess
import sys
from dataclasses import asdict

from benchmarks.cases import CASES
from benchmarks.integers import shown
from benchmarks.measuring import cases
from ruddock.document.content import Column, Table

RUNS = 5


def measure(name: str, runs: int) -> dict[str, float]:
    """Run a case in this process; return medians, and the peak memory of the process in MB."""
    case = CASES[name]
    first = case.run()  # before the allocator keeps what was used once
    done = [asdict(case.run()) for _ in range(runs)]
    result = {
        key: statistics.median(run[key] for run in done) for key in ("ours", "reference", "iterations", "entries")
    }
    result["beyond"] = first.beyond
    result["ratio"] = statistics.median(run["ours"] / run["reference"] for run in done)
    result["memory"] = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    return result


def seconds(value: float) -> str:
    """Write a time with a fitting unit."""
    for unit, size in (("s", 1.0), ("ms", 1e-3)):
        if value >= size:
            return f"{value / size:.3g} {unit}"
    return f"{value * 1e6:.3g} µs"


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m benchmarks", description=__doc__)
    parser.add_argument("case", nargs="*", help=f"only these: {', '.join(CASES)}")
    parser.add_argument("--check", action="store_true", help="exit 1 if a bar is missed")
    parser.add_argument("--runs", type=int, default=RUNS, help="counted runs of each case (at least 5)")
    parser.add_argument("--child", action="store_true", help=argparse.SUPPRESS)
    asked = parser.parse_args()
    names = cases(parser, asked.case, CASES)
    runs = max(asked.runs, RUNS)
    if asked.child:
        print(json.dumps(measure(names[0], runs)))
        return
    rows, missed = [], []
    for name in names:
        # each in a process of its own, so that peak memory is the case's
        words = [sys.executable, "-m", "benchmarks", "--child", "--runs", str(runs), name]
        done = subprocess.run(words, check=True, capture_output=True, text=True)
        got, case = json.loads(done.stdout), CASES[name]
        plain = case.against == "exponent of time"
        kept = got["ratio"] <= case.bar
        if not kept:
            missed.append(name)
        rows.append(
            (
                case.work,
                case.against,
                f"{got['ratio']:.2f}",
                f"{case.bar:g}",
                "yes" if kept else "NO",
                "" if plain else seconds(got["ours"]),
                "" if plain else seconds(got["reference"]),
                f"{got['iterations']:,.0f}" if got["iterations"] else "",
                f"{got['memory']:.0f} MB",
                f"{got['beyond'] / got['entries']:,.0f} B" if got["beyond"] else "",
            )
        )
    numbers = ("time", "reference", "iterations", "peak memory", "beyond, per entry")
    headings = [
        "work",
        "against",
        Column("ratio", right=True),
        Column("bar", right=True),
        "kept",
        *(Column(head, right=True) for head in numbers),
    ]
    print(shown(Table("", headings, rows)))
    print(f"Medians of {runs} runs after one that is not counted. Beyond: what solving takes beside the problem.")
    if asked.check and missed:
        print(f"Missed: {', '.join(missed)}")
        sys.exit(1)


if __name__ == "__main__":
    main()
