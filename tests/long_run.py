"""Long runs, by hand: ``python -m tests.long_run [parsers] [tables] [engine] [integers] [invariance] [failures] [limits]
[answers] [jobs] [hostile]``. Exits 1 if anything is wrong.
"""

from __future__ import annotations

import sys
import tempfile
import time
import warnings
from collections import Counter
from collections.abc import Callable
from itertools import product
from math import isclose
from pathlib import Path
from unittest.mock import patch

import ruddock as rk
from ruddock import demos
from ruddock.engine import memory
from ruddock.engine.outcome import Limits, Options
from ruddock.engine.solve import solve
from ruddock.engine.tree import brief, reduced
from tests import integer_problems
from tests.engine import faults
from tests.exact import judge
from tests.formats.mutated_tables import attempts, meant_otherwise
from tests.formats.test_rdk import mutations, read
from tests.generators import STRUCTURES, planted, random_lp
from tests.hostile.run import run
from tests.jobs.running import kills
from tests.oracles import ORACLES
from tests.transforms import integer_invariance, linear_invariance

MUTATED = 20_000
MUTATED_TABLES = 100_000
SLOWEST = 2.0  # seconds that one mutated input may take


def survives(work: Callable[[], rk.Model], text: str, seen: Counter[str]) -> bool:
    """Count what a parser makes of a text; False if it is neither a model nor an error of ours."""
    try:
        work().problem()
        seen["model"] += 1
    except rk.RuddockError as error:
        seen[type(error).__name__] += 1
    except Exception as error:
        print(f"{type(error).__name__}: {error}\n{text}\n")
        return False
    return True


def parsers() -> int:
    """Read mutated models in text form: each is a model, or an error of ours, in time."""
    wrong, slowest, seen = 0, 0.0, Counter[str]()
    folder = demos.folder("spring-haulage")
    for text in mutations(MUTATED):
        start = time.perf_counter()
        wrong += not survives(lambda t=text: read(t, folder), text, seen)
        slowest = max(slowest, time.perf_counter() - start)
    print(f"text form: {dict(seen)}, slowest {slowest:.2f} s, wrong {wrong}")
    return wrong + int(slowest > SLOWEST)


def _as_meant(model: rk.Model, text: bytes) -> rk.Model:
    told = text and meant_otherwise(text, model)
    if told:
        raise AssertionError(f"{told}: {text!r}")
    return model


def tables() -> int:
    """Read mutated tables and grids the same way; what is read stands there, or is reported."""
    wrong, slowest, seen = 0, 0.0, Counter[str]()
    for name, text, work in attempts(17, MUTATED_TABLES):
        start = time.perf_counter()
        wrong += not survives(lambda work=work, text=text: _as_meant(work(), text), name, seen)
        slowest = max(slowest, time.perf_counter() - start)
    print(f"tables: {dict(seen)}, slowest {slowest:.2f} s, wrong {wrong}")
    return wrong


def mps() -> int:
    """Read mutated MPS files the same way."""
    import random
    import warnings

    from tests.formats.test_mps import FIXED, small

    warnings.simplefilter("ignore")
    rng = random.Random(9)
    texts = [FIXED, small(" UP B x 4\n BV B z\n", " R a 3\n"), small()]
    wrong, seen = 0, Counter[str]()
    with tempfile.TemporaryDirectory() as name:
        path = Path(name) / "mutated.mps"
        for _ in range(MUTATED):
            text = rng.choice(texts)
            for _ in range(rng.randint(1, 4)):
                at = rng.randrange(len(text))
                part = rng.choice(["", " ", "\n", "x", "1", "-", "'MARKER'", "ENDATA", "*", "é", "1e400"])
                text = text[:at] + part + text[at + rng.randint(0, 6) :]
            path.write_text(text)
            wrong += not survives(lambda: rk.read(path), text, seen)
    print(f"MPS: {dict(seen)}, wrong {wrong}")
    return wrong


def engine() -> int:
    """Solve 10,200 random linear problems, by the primal method too, and judge all answers in exact arithmetic."""
    wrong, seen = 0, Counter[str]()
    sizes = ((4, 6), (5, 8), (8, 12), (12, 18), (20, 30), (30, 45))
    for seed in range(340):
        for structure in STRUCTURES:
            for wish in ("optimal", "infeasible", "unbounded"):
                problem = random_lp(structure, 5000 + seed, *sizes[seed % 6], wish)
                problem = planted(problem, seed) if seed % 3 == 0 else problem
                for method in ("auto", "primal", "dual", "interior")[: 4 if seed % 4 == 0 else 2]:
                    options = Options(method=method, presolve=seed % 2 == 0)  # type: ignore[arg-type]
                    outcome = solve(problem, Limits(seconds=60), options)
                    seen[f"{method} {outcome.status} {outcome.reason or ''}".strip()] += 1
                    try:
                        judge(problem, outcome)
                    except AssertionError as error:
                        wrong += 1
                        print(f"{structure} {seed} {wish} {method}: {error}")
    print(f"linear problems: {dict(seen)}, wrong {wrong}")
    return wrong


def invariance() -> int:
    """Solve 2,000 linear and 1,000 integer problems as they are and written otherwise."""
    wrong = [text for seed in range(10_000, 12_000) if (text := linear_invariance(seed))]
    wrong += [text for seed in range(20_000, 20_500) if (text := integer_invariance(seed))]
    with patch.object(brief, "MOST_ENTRIES", -1):
        wrong += [text for seed in range(20_500, 21_000) if (text := integer_invariance(seed))]
    print("\n".join(wrong))
    print(f"written otherwise: 3,000 problems, wrong {len(wrong)}")
    return len(wrong)


def failures() -> int:
    """Kill and halt helpers at every hand-over of twenty searches, and end memory at twenty levels."""
    wrong, runs = 0, Counter[str]()
    for seed in range(20):
        problem = faults.search(seed)
        best = faults.alone(problem)
        _, hand_overs = faults.with_fault(problem, 0, faults.SIGNALS[0])  # as it goes without a fault
        for what, at in product(faults.SIGNALS, range(1, hand_overs + 1)):
            outcome, given = faults.with_fault(problem, at, what)
            runs[what.name] += given >= at
            if (outcome.status, outcome.objective) != ("optimal", best.objective):
                wrong += 1
                print(f"{what.name} at hand-over {at} of search {seed}: {outcome.status} {outcome.objective}")
    for kind in ("search", "linear", "factors"):
        answer = faults.with_little_memory(kind, 4000)
        for level in range(20):
            megabytes = memory.SPARE / 1e6 * (level % 4 > 0) + 1.3**level
            found = faults.with_little_memory(kind, megabytes)
            runs["little memory"] += 1
            if found[:2] != ["stopped", "memory"] and (found[0], found[2]) != (answer[0], answer[2]):
                wrong += 1
                print(f"{kind} with {megabytes:.1f} MB: {found}")
    print(f"failures: {dict(runs)}, wrong {wrong}")
    return wrong


def limits() -> int:
    """Stop large solves at 204 random moments, by time and by Ctrl-C, on a machine that does nothing else."""
    wrong, runs, slowest = 0, Counter[str](), 0.0
    for kind, seconds, late in faults.late():
        runs[kind] += 1
        slowest = max(slowest, late)
        if late > faults.LATEST:
            wrong += 1
            print(f"{kind} after {seconds:.2f} s came {late:.2f} s late")
    print(f"limits: {dict(runs)}, latest {slowest:.2f} s, wrong {wrong}")
    return wrong


def integers() -> int:
    """Solve 1,950 random integer problems with every combination of parts on and off, against enumeration."""
    wrong, seen = 0, Counter[str]()
    reduced.LEAST = 1  # presolve makes these smaller too
    for structure in integer_problems.STRUCTURES:
        for seed in range(1000, 1150):
            problem = integer_problems.integer_problem(structure, seed)
            best = integer_problems.enumerated(problem)
            for presolve, cuts, heuristics, symmetry, branching in product(*[(True, False)] * 5):
                options = Options(
                    presolve=presolve,
                    cuts=cuts,
                    heuristics=heuristics,
                    symmetry=symmetry,
                    branching="reliability" if branching else "plain",
                )
                outcome = solve(problem, Limits(seconds=60), options)
                seen[outcome.status] += 1
                none = outcome.status == "infeasible" and best == float("inf")
                if not none and not (outcome.status == "optimal" and isclose(outcome.objective, best, abs_tol=1e-6)):
                    wrong += 1
                    print(f"{structure} {seed} {options}: {outcome.status} {outcome.objective}, not {best}", flush=True)
        print(f"integers, {structure}: {seen.total():,} solves so far, wrong {wrong}", flush=True)
    print(f"integer problems: {dict(seen)}, wrong {wrong}")
    return wrong


def answers() -> int:
    """Put 250 random models to each kind of question, and judge the answers by building and solving anew."""
    wrong, seen = 0, Counter[str]()
    warnings.simplefilter("ignore", rk.RuddockWarning)
    with tempfile.TemporaryDirectory() as folder:
        for place, (name, oracle) in enumerate(ORACLES.items()):
            for seed in range(1000 + 250 * place, 1250 + 250 * place):
                try:
                    oracle(seed, Path(folder))
                    seen[name] += 1
                except AssertionError as error:
                    wrong += 1
                    print(f"{name} {seed}: {error}", flush=True)
            print(f"answers, {name}: {seen[name]} right", flush=True)
    print(f"answers: {seen.total()} right, wrong {wrong}")
    return wrong


def jobs() -> int:
    """Send 200 jobs to a service whose processes are killed at random: each ends once, with the right answer."""
    with tempfile.TemporaryDirectory() as folder:
        try:
            done = kills(Path(folder), 200, 11)
        except (AssertionError, rk.RuddockError) as error:
            print(f"jobs: {error}")
            return 1
    print(f"jobs: {done}, wrong 0")
    return 0


def hostile() -> int:
    """Damage files, solve tiny models, put questions and let commands fail; see `tests.hostile`."""
    counts = {
        "files": 100_000,
        "tiny": 10_000,
        "questions": 3_600,
        "faults": 500,
    }  # a question of those asks five or six
    return sum(run(part, range(1_000_000, 1_000_000 + count)) for part, count in counts.items())


def of_parts(run: Callable[[], int]) -> int:
    """Judge the parts of a search on problems that a brief search would be the end of."""
    with patch.object(brief, "MOST_ENTRIES", -1):
        return run()


RUNS = {
    "parsers": lambda: parsers() + mps(),
    "tables": tables,
    "engine": engine,
    "integers": lambda: of_parts(integers),
    "invariance": invariance,
    "failures": lambda: of_parts(failures),
    "limits": limits,
    "answers": answers,
    "jobs": jobs,
    "hostile": hostile,
}


def main() -> None:
    sys.exit(bool(sum(RUNS[name]() for name in sys.argv[1:] or RUNS)))


if __name__ == "__main__":
    main()
