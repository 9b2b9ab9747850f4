"""Print a table of integer benchmarks: ``python -m benchmarks.integers``, of known problems or of those drawn.

Every answer is compared with one that was found another way. Times stand beside a fixed piece of work on the
same machine: the network simplex method on 500 nodes and 4,000 arcs.
"""

from __future__ import annotations

import argparse
import statistics
import sys
from dataclasses import replace
from functools import cache
from unittest.mock import patch

from benchmarks.cases import check, flow
from benchmarks.integer_families import FAMILIES, LARGE, SMALL, by_parts
from benchmarks.known import KNOWN
from benchmarks.measuring import cases, timed
from ruddock.document.content import Column, Document, Table
from ruddock.engine import certificates
from ruddock.engine.outcome import Limits, Options, Outcome
from ruddock.engine.solve import solve
from ruddock.engine.tree import brief
from ruddock.modelling.hints import Enforced
from ruddock.modelling.lowering import lowered
from ruddock.problem import Problem

MOST = 60.0  # seconds that one solve may take
NEAR = 0.05  # how near its bound the plan of a large problem is to be by then
SETTINGS = {
    "all": Options(),
    "no cuts": Options(cuts=False),
    "no presolve": Options(presolve=False),
    "no heuristics": Options(heuristics=False),
    "no symmetry": Options(symmetry=False),
    "no blocks": Options(blocks=False),
    "plain branching": Options(branching="plain"),
}


@cache
def case(name: str) -> tuple[Problem, float, bool, Enforced | None]:
    """Return the problem of a case, its known optimum, whether that is a maximum, and the check of its plans."""
    model, best, *rest = KNOWN[name]()
    formulation = model.formulation()
    goal = formulation.objectives[0]
    lazy = Enforced(formulation, rest[0]) if rest else None
    return lowered(formulation).problem(goal), best, goal.maximize, lazy


def run(name: str, options: Options) -> tuple[float, Outcome]:
    """Solve a case; a wrong answer stops everything."""
    problem, best, maximize, lazy = case(name)
    seconds, outcome = timed(lambda: solve(problem, Limits(seconds=MOST), replace(options, lazy=lazy)))
    value, bound = (-outcome.objective, -outcome.bound) if maximize else (outcome.objective, outcome.bound)
    if outcome.status == "optimal":
        check(abs(value - best) < 1e-6, name)
    else:
        check(bound >= best - 1e-6 if maximize else bound <= best + 1e-6, f"{name}: bound")
    return seconds, outcome


def table(names: list[str], runs: int) -> tuple[Table, list[str]]:
    """Return the table of all parts at work, and the cases that were not solved."""
    reference = statistics.median(flow().reference for _ in range(5))
    rows, missed = [], []
    for name in names:
        done = [run(name, Options()) for _ in range(runs)]
        seconds, outcome = statistics.median(s for s, _ in done), done[0][1]
        if outcome.status != "optimal":
            missed.append(name)
        problem, best, *_ = case(name)
        size = f"{problem.m:,} x {problem.n:,}"
        counters = outcome.counters
        rows.append(
            (
                name,
                size,
                f"{best:,.10g}",
                "yes" if outcome.status == "optimal" else "NO",
                f"{seconds:.2f} s",
                f"{seconds / reference:.1f}",
                f"{counters.nodes:,}",
                f"{counters.iterations:,}",
            )
        )
    right = (Column(head, right=True) for head in ("time", "ratio", "nodes", "iterations"))
    headings = ["problem", Column("rows x columns", right=True), Column("known optimum", right=True), "proven", *right]
    note = f"Ratio to the network simplex method on 4,000 arcs, {reference:.2f} s. Medians of {runs} runs."
    return Table("", headings, rows, note=note), missed


def ablation(names: list[str]) -> Table:
    """Return times and nodes with one part after another switched off."""
    rows = []
    for name in names:
        cells = []
        for options in SETTINGS.values():
            with patch.object(brief, "MOST_ENTRIES", -1):  # else the smallest never come to the parts
                seconds, outcome = run(name, options)
            time_ = f"{seconds:.1f} s" if outcome.status == "optimal" else f"gap {100 * outcome.gap:.2g} %"
            cells.append(f"{time_}, {outcome.counters.nodes:,}")
        rows.append((name, *cells))
    note = f"Time or, after {MOST:.0f} s, the gap that is left; and nodes."
    return Table("", ["problem", *(Column(setting, right=True) for setting in SETTINGS)], rows, note=note)


def check_plan(problem: Problem, outcome: Outcome, name: str) -> None:
    """Stop everything where a plan does not keep all limits."""
    check(certificates.plan_holds(problem, outcome.x, outcome.activity, problem.lower, problem.upper), name)


def families(names: list[str], *, parts: bool) -> tuple[Table, list[str]]:
    """Return the table of all families, their costs in parts if so asked, and the problems that were not proven."""
    rows, missed, times = [], [], []
    for name in names:
        draw, seeds = FAMILIES[name]
        for seed in seeds:
            problem = by_parts(draw(seed)) if parts else draw(seed)
            seconds, outcome = timed(lambda problem=problem: solve(problem, Limits(seconds=MOST)))
            times.append(seconds)
            proven = outcome.status in ("optimal", "infeasible")
            if proven and outcome.x is not None:
                check_plan(problem, outcome, name)
                check(outcome.objective - outcome.bound <= 1e-6 * max(1.0, abs(outcome.objective)), name)
            if not proven:
                missed.append(f"{name}, {seed}")
            size, gap = f"{problem.m:,} x {problem.n:,}", "yes" if proven else f"gap {100 * outcome.gap:.2g} %"
            cells = f"{outcome.objective:,.10g}", gap, f"{times[-1]:.2f} s", f"{outcome.counters.nodes:,}"
            rows.append((name, str(seed), size, *cells))
    mean = statistics.geometric_mean(second + 1 for second in times) - 1
    right = (Column(head, right=True) for head in ("seed", "rows x columns", "best plan"))
    headings = ["family", *right, "proven", Column("time", right=True), Column("nodes", right=True)]
    note = f"{len(times) - len(missed)} of {len(times)} proven in {MOST:.0f} s; shifted geometric mean {mean:.2f} s."
    return Table("", headings, rows, note=note), missed


def large(names: list[str]) -> tuple[Table, list[str]]:
    """Return the table of large problems: when plans come and how near they are, and those that are not near."""
    rows, missed = [], []
    for name in names:
        draw, seeds = LARGE[name]
        for seed in seeds:
            problem = draw(seed)
            outcome = solve(problem, Limits(seconds=MOST))
            if outcome.x is not None:
                check_plan(problem, outcome, name)
                check(outcome.bound <= outcome.objective, name)
            if not outcome.gap <= NEAR:
                missed.append(f"{name}, {seed}")
            plans = [moment for moment in outcome.history if moment.best < float("inf")]
            near = [moment.seconds for moment in plans if moment.best <= (1 + NEAR) * outcome.objective]
            when = [f"{seconds:.1f} s" for seconds in (plans[0].seconds, near[0])] if plans else ["", ""]
            size, found = f"{problem.m:,} x {problem.n:,}", (f"{outcome.objective:,.10g}", f"{outcome.bound:,.10g}")
            rows.append((name, str(seed), size, *when, *found, f"{100 * outcome.gap:.2g} %"))
    columns = ("seed", "rows x columns", "first plan", "within 5 %", "best plan", "bound", "apart")
    headings = ["problem", *(Column(head, right=True) for head in columns)]
    note = f"After {MOST:.0f} s. Within 5 %: of the best plan, from then on."
    return Table("", headings, rows, note=note), missed


def small(names: list[str]) -> Table:
    """Return the table of small problems: their mean time with the brief search before all else, and without it."""
    rows, means = [], []
    for name in names:
        draw, seeds = SMALL[name]
        spent, ended = {brief.MOST_ENTRIES: 0.0, -1: 0.0}, 0
        for problem in map(draw, seeds):
            found = {}
            for entries in spent:
                with patch.object(brief, "MOST_ENTRIES", entries):
                    seconds, found[entries] = timed(lambda problem=problem: solve(problem))
                spent[entries] += seconds / len(seeds)
            first, second = found.values()
            check((first.status, round(first.objective, 6)) == (second.status, round(second.objective, 6)), name)
            ended += brief.brief_search(problem, Limits(), Options()) is not None
        means.append([1000 * seconds for seconds in spent.values()])
        times = (f"{mean:.0f} ms" for mean in means[-1])
        rows.append((name, f"{problem.m:,} x {problem.n:,}", f"{ended} of {len(seeds)}", *times))
    geometric = [f"{statistics.geometric_mean(column):.0f} ms" for column in zip(*means, strict=True)]
    rows.append(("geometric mean", "", "", *geometric))
    right = (Column(head, right=True) for head in ("rows x columns", "end there", "mean time", "without"))
    return Table(
        "", ["family", *right], rows, note="End there: in the brief search. Without: the mean time without it."
    )


def shown(table: Table) -> str:
    """Return a table in full, as wide as the terminal, or 170 columns in a file."""
    return Document.of("", [table], whole=True).text(None if sys.stdout.isatty() else 170)


def main() -> None:
    parser = argparse.ArgumentParser(prog="python -m benchmarks.integers", description=__doc__)
    parser.add_argument("case", nargs="*", help=f"only these: {', '.join(KNOWN)}")
    parser.add_argument("--families", action="store_true", help=f"problems drawn from: {', '.join(FAMILIES)}")
    parser.add_argument("--parts", action="store_true", help="families with costs written as columns that add up")
    parser.add_argument("--large", action="store_true", help=f"how near plans come: {', '.join(LARGE)}")
    parser.add_argument("--small", action="store_true", help=f"what small ones take: {', '.join(SMALL)}")
    parser.add_argument("--ablation", action="store_true", help="switch one part off after another")
    parser.add_argument("--check", action="store_true", help="exit 1 if a problem is not solved")
    parser.add_argument("--runs", type=int, default=1)
    asked = parser.parse_args()
    drawn = asked.families or asked.parts
    kinds = LARGE if asked.large else SMALL if asked.small else FAMILIES if drawn else KNOWN
    names = cases(parser, asked.case, kinds)
    if asked.small:
        print(shown(small(names)))
        return
    if asked.ablation:
        print(shown(ablation(names)))
        return
    if asked.large:
        done, missed = large(names)
    else:
        done, missed = families(names, parts=asked.parts) if drawn else table(names, asked.runs)
    print(shown(done))
    if asked.check and missed:
        print(f"Missed within {MOST:.0f} s: {', '.join(missed)}")
        sys.exit(1)


if __name__ == "__main__":
    main()
