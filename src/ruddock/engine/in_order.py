"""Several objectives in order: each is made as good as the ones before it leave room for.

What an earlier objective reached is held exactly where that is possible. Of a linear problem the best plans are just
those in which everything with a price stays where it is (complementary slackness), so that fixing those columns and
rows holds the value without a tolerance. With whole numbers a row holds the value while the search looks for them;
with their values fixed the rest is linear, and is solved in order once more.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import replace
from typing import NamedTuple

import numpy as np

from ruddock.engine.certificates import feasible
from ruddock.engine.outcome import AT_UPPER, BASIC, Basis, Limits, Options, Outcome
from ruddock.engine.solve import solve
from ruddock.engine.tree.domain import Domain, Step
from ruddock.problem import INTEGER, Floats, Problem

KEEP = 1e-9  # relative room that a later objective leaves to what an earlier one reached, where a row holds it
PRICED = 1e-9  # prices nearer to 0, beside the largest cost, are rounding


class Give(NamedTuple):
    """How much of an objective later ones may take: a share of its value, or an amount."""

    share: float = 0.0
    amount: float = 0.0

    @property
    def nothing(self) -> bool:
        """Whether the objective is held at what it reached."""
        return not self.share and not self.amount

    def room(self, value: float) -> float:
        """Return the room beside a value that was reached."""
        return self.share * abs(value) + self.amount


class Stage(NamedTuple):
    """What solving for one objective gave, in the engine's sense.

    Attributes
    ----------
    value : of the objective under the last plan, with the problem's offset
    bound : proven lower bound of the value, with the objectives before held
    proven : whether the value reached when it was solved for is the best, within the gap asked for
    top : what it may come to at most while later ones are solved; None of the last one
    """

    value: float
    bound: float
    proven: bool
    top: float | None = None


def solve_in_order(
    problems: Sequence[Problem],
    gives: Sequence[Give],
    limits: Limits,
    options: Options,
    begin: Callable[[int], None] = lambda k: None,
) -> tuple[Outcome, list[Stage]]:
    """Solve problems that differ in their costs alone, one after another.

    Parameters
    ----------
    gives : as many, how much each may lose to the later ones
    begin : given the number of each before it is solved

    Returns
    -------
    outcome : Outcome
        The last plan, with objective, bound, dual values and reduced costs of the first problem. Where a later one
        was stopped before it had a plan, the plan of the one before.
    stages : list of Stage
        As many as were solved for.
    """
    if len(problems) == 1:
        begin(0)
        outcome = solve(problems[0], limits, options)
        proven = outcome.status == "optimal"
        return outcome, [Stage(outcome.objective, outcome.bound, proven)] if outcome.x is not None else []
    outcome, stages = _in_order(problems, gives, limits, options, begin)
    if outcome.x is None or len(stages) < 2:
        return outcome, stages
    if problems[0].discrete and all(give.nothing for give in gives):
        outcome = cleaned(problems[: len(stages)], outcome)
    assert outcome.x is not None
    values = [problem.objective(outcome.x) for problem in problems[: len(stages)]]
    stages = [stage._replace(value=value) for stage, value in zip(stages, values, strict=True)]
    return replace(outcome, objective=values[0], bound=stages[0].bound), stages


def _in_order(
    problems: Sequence[Problem],
    gives: Sequence[Give],
    limits: Limits,
    options: Options,
    begin: Callable[[int], None],
) -> tuple[Outcome, list[Stage]]:
    m = problems[0].m
    held = problems[0]
    stages: list[Stage] = []
    first: Outcome | None = None
    before: Outcome | None = None
    for k, problem in enumerate(problems):
        begin(k)
        asked = replace(held, costs=problem.costs, offset=problem.offset)
        outcome = solve(asked, limits, options)
        if outcome.x is None and before is not None:
            stopped = replace(before, status="stopped", reason=outcome.reason or "numerics")
            return _priced(stopped, first, gives[:k]), stages
        outcome = _unheld(outcome, problems[0], held, m)
        first = first or outcome
        proven = outcome.status == "optimal"
        last = k == len(problems) - 1
        if not proven or last:
            if outcome.x is not None:
                stages.append(Stage(outcome.objective, outcome.bound, proven))
            return _priced(outcome, first, gives[:k]), stages
        top = outcome.objective - problem.offset + gives[k].room(outcome.objective)
        stages.append(Stage(outcome.objective, outcome.bound, True, top + problem.offset))
        face = optimal_face(held, outcome) if gives[k].nothing and not problem.discrete and held.m == m else None
        held = _with_row(held, problem, top, gives[k]) if face is None else face
        before, options = outcome, _from_here(options, outcome, held.m - m)
    raise AssertionError("the last problem returns")


def _priced(outcome: Outcome, first: Outcome | None, gives: Sequence[Give]) -> Outcome:
    """Return the last plan with the prices of the first objective, which are those of any of its best plans.

    A plan for which some of the first objective was given is none of these, and has no prices.
    """
    if first is None or first is outcome:
        return outcome
    linear = first.y is not None and outcome.basis is not None and all(give.nothing for give in gives)
    return replace(outcome, y=first.y if linear else None, reduced=first.reduced if linear else None, proof=None)


def _with_row(held: Problem, problem: Problem, top: float, give: Give) -> Problem:
    """Return a problem with a row that holds the costs of another at most at a value."""
    room = KEEP * max(1.0, abs(top + problem.offset))
    if problem.discrete and give.nothing:
        room = max(room, 0.5 * Step.of(problem).size)  # half a step leaves no other value of whole numbers
    return held.with_rows(problem.costs, -np.inf, top + room)


def with_held(problem: Problem, earlier: Sequence[Problem], most: Sequence[float]) -> Problem:
    """Return a problem with a row for each earlier one, which holds its ``costs x``."""
    if not earlier:
        return problem
    rows = np.array([part.costs for part in earlier])
    return problem.with_rows(rows, np.full(len(rows), -np.inf), np.array(most, float))


def face_of_all(problems: Sequence[Problem], gives: Sequence[Give], limits: Limits) -> Problem | None:
    """Return a linear problem in which just the plans are left that are best for all objectives in their order.

    What an objective may give to later ones is a row. None where there is no best plan.
    """
    held = problems[0]
    for k, problem in enumerate(problems):
        asked = replace(held, costs=problem.costs, offset=problem.offset)
        outcome = solve(asked, limits)
        if outcome.status != "optimal" or outcome.x is None:
            return None
        last = k == len(problems) - 1
        if gives[k].nothing or last:
            face = optimal_face(asked, outcome)
            if face is None:
                return None
            held = face
        else:
            value = problem.objective(outcome.x)
            held = _with_row(held, problem, value - problem.offset + gives[k].room(value), gives[k])
    return held


def optimal_face(problem: Problem, outcome: Outcome) -> Problem | None:
    """Return a linear problem with everything that has a price held where it is: exactly the best plans are left."""
    if outcome.y is None or outcome.reduced is None:
        return None
    y, d = outcome.y, outcome.reduced
    size = PRICED * max(1.0, np.abs(problem.costs).max(initial=0.0))
    low, high = d > size, d < -size
    price = PRICED * max(1.0, np.abs(y).max(initial=0.0))
    if (low & np.isneginf(problem.lower)).any() or (high & np.isposinf(problem.upper)).any():
        return None
    return replace(
        problem,
        lower=np.where(high, problem.upper, problem.lower),
        upper=np.where(low, problem.lower, problem.upper),
        row_lower=np.where(y < -price, problem.row_upper, problem.row_lower),
        row_upper=np.where(y > price, problem.row_lower, problem.row_upper),
    )


def _unheld(outcome: Outcome, original: Problem, held: Problem, m: int) -> Outcome:
    """Return an outcome without the rows that hold objectives, its basis that of the original bounds."""
    activity, y, proof = (None if v is None else v[:m] for v in (outcome.activity, outcome.y, outcome.proof))
    basis = outcome.basis
    if basis is not None:
        columns = _codes(basis.columns, held.lower, original.lower)
        rows = _codes(basis.rows[:m], held.row_lower[:m], original.row_lower)
        basis = Basis(columns, rows)
    return replace(outcome, activity=activity, y=y, proof=proof, basis=basis)


def _codes(codes: np.ndarray, low: Floats, own: Floats) -> np.ndarray:
    """Return basis codes for the original limits: at the upper one where the lower one was raised to it."""
    raised = (codes != BASIC) & (low > own)
    return np.where(raised, AT_UPPER, codes).astype(np.int8)


def _from_here(options: Options, outcome: Outcome, extra: int) -> Options:
    """Start the next one from this one's plan, or from its basis with the rows that hold objectives."""
    basis = outcome.basis
    if basis is not None and extra:
        basis = Basis(basis.columns, np.concatenate((basis.rows, np.zeros(extra, np.int8))))
    return replace(options, start=outcome.x, basis=basis)


def cleaned(problems: Sequence[Problem], outcome: Outcome) -> Outcome:
    """Solve in order once more with whole numbers as they are, so that no tolerance of a held value is left.

    The plan stays as it was where that does not work out.
    """
    assert outcome.x is not None
    problem = problems[0]
    fixed = with_integers_fixed(problem, outcome.x)
    linear = [replace(fixed, costs=p.costs, offset=p.offset) for p in problems]
    repaired, stages = _in_order(linear, [Give()] * len(linear), Limits(), Options(), lambda k: None)
    if repaired.status != "optimal" or repaired.x is None or repaired.activity is None or len(stages) < len(problems):
        return outcome
    for own in problems:
        old, new = own.objective(outcome.x), own.objective(repaired.x)
        if new > old + 1e-6 * max(1.0, abs(old)):
            return outcome
    domain = Domain(problem)
    if not feasible(problem, repaired.x, repaired.activity, domain.lower, domain.upper):
        return outcome
    return replace(outcome, x=repaired.x, activity=repaired.activity)


def with_integers_fixed(problem: Problem, x: Floats) -> Problem:
    """Return the problem with integer columns fixed; a semicontinuous one keeps to zero or to its bounds."""
    integer = (problem.kinds & INTEGER) != 0
    zero = (problem.kinds != 0) & (np.abs(x) < KEEP)
    value = np.where(integer, np.round(x), 0.0)
    fixed = integer | zero
    return replace(
        problem,
        lower=np.where(fixed, value, problem.lower),
        upper=np.where(fixed, value, problem.upper),
        kinds=np.zeros_like(problem.kinds),
    )
