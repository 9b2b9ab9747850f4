"""Print what a second core gives: ``python -m benchmarks.cores``.

Long searches on one core, on two, and twice at the same time on one core each. Since both cores share caches and
memory, the last says what a second core can give on this machine: two searches that know nothing of one another.
"""

from __future__ import annotations

import argparse
import multiprocessing
import statistics
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor

from benchmarks.integer_families import assignment, fixed_charges, general, lines, sided, trips, vans
from benchmarks.integers import MOST, check_plan, shown
from benchmarks.measuring import cases, check, timed
from ruddock.document.content import Column, Table
from ruddock.engine.outcome import Limits, Options, Outcome
from ruddock.engine.solve import solve
from ruddock.problem import Problem

# chosen because they take 10 to 45 s on one core, before they were run on two
SEARCHES: dict[str, tuple[Callable[[int], Problem], int]] = {
    "lines 4x3x6": (lines(4, 3, 6), 8),
    "lines 5x3x8": (lines(5, 3, 8), 1),
    "fixed charges 35x140": (fixed_charges(35, 140), 2),
    "trips 25": (trips(25), 1),
    "vans' trips 12": (trips(12, 40), 1),
    "vans 20x4": (vans(20, 4), 2),
    "sided 40": (sided(40, 4), 1),
    "general 25x35": (general(25, 35), 5),
    "assignment D 5x50": (assignment("D", 5, 50), 1),
}


def searched(name: str, cores: int) -> tuple[float, Outcome]:
    """Search once; return the seconds and the outcome."""
    draw, seed = SEARCHES[name]
    problem = draw(seed)
    seconds, outcome = timed(lambda: solve(problem, Limits(seconds=MOST), Options(cores=cores)))
    check_plan(problem, outcome, name)
    return seconds, outcome


def _alone(name: str) -> float:
    return searched(name, 1)[0]


def at_once(name: str) -> float:
    """Return the mean seconds of a search on one core that another process does at the same time."""
    new = multiprocessing.get_context("spawn")
    both = new.Barrier(2)  # neither begins before the other one is up
    with ProcessPoolExecutor(2, new, both.wait) as processes:
        return statistics.mean(processes.map(_alone, [name, name]))


def table(names: list[str]) -> Table:
    """Return the table of searches."""
    rows, sooner, faster, most = [], [], [], []
    for name in names:
        (one, alone), (two, helped) = searched(name, 1), searched(name, 2)
        proven = alone.status == helped.status == "optimal"
        check(not proven or abs(alone.objective - helped.objective) < 1e-6 * max(1.0, abs(alone.objective)), name)
        faster.append(helped.counters.iterations / two / (alone.counters.iterations / one))
        most.append(2 * one / at_once(name))
        if proven:
            sooner.append(one / two)
        ends = f"{one / two:.2f}" if proven else ""
        nodes = (f"{outcome.counters.nodes:,}" for outcome in (alone, helped))
        rows.append((name, f"{one:.1f} s", f"{two:.1f} s", *nodes, ends, f"{faster[-1]:.2f}", f"{most[-1]:.2f}"))
    right = ("one core", "two cores", "nodes", "on two", "times as soon", "work a second", "two alone")
    means = [f"{statistics.geometric_mean(ratios):.2f}" if ratios else "" for ratios in (sooner, faster, most)]
    rows.append(("geometric mean", "", "", "", "", *means))
    note = (
        "Work a second: iterations on two cores against those on one. Two alone: what two processes that search the "
        f"same on one core each do in a second, against one. At most {MOST:.0f} s each."
    )
    return Table("", ["search", *(Column(head, right=True) for head in right)], rows, note=note)


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m benchmarks.cores", description=__doc__)
    parser.add_argument("search", nargs="*", help=f"only these: {', '.join(SEARCHES)}")
    print(shown(table(cases(parser, parser.parse_args().search, SEARCHES))))


if __name__ == "__main__":
    main()
