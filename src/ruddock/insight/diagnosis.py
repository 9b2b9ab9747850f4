"""Why there is no plan: the clashes, their proofs in whole numbers, and the least changes that make one."""

from __future__ import annotations

import time
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from fractions import Fraction
from math import gcd, lcm
from typing import TYPE_CHECKING, Any

import numpy as np

from ruddock.engine.clash import Clash, Member, fewest_rows, find_clashes, least_changes
from ruddock.engine.outcome import FEASIBILITY, Limits
from ruddock.engine.rays import short_ray
from ruddock.engine.solve import solve
from ruddock.errors import ModelError, known
from ruddock.insight.limits import members_of
from ruddock.modelling.plan import Plan
from ruddock.problem import Floats, Problem
from ruddock.tables import number

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Formulation
    from ruddock.modelling.model import Model

MOST_TERMS = 6  # of a line of a proof that are written out
SMALL_WEIGHTS = 10**6  # larger whole numbers help nobody: the weights then stay fractions


@dataclass(frozen=True)
class Reason:
    """One member of a clash, in the model's words.

    Attributes
    ----------
    name : the constraint or decision
    what : ``limit``, ``bound`` or ``whole number``
    relation, value : ``<=`` or ``>=`` and the limit; of a whole-number mark ``whole`` and NaN
    weight : its weight in the proof; None without a proof
    """

    name: str
    what: str
    relation: str
    value: float
    weight: Fraction | None = None


@dataclass(frozen=True)
class Contradiction:
    """A clash that a model holds.

    Attributes
    ----------
    reasons : the members; none is dispensable
    whole : whether fractions would do
    proven : whether every member was proven to be needed
    shortfall : of the proof: the weighted sum of the limits demands so much more than can be; None without a proof
    lines : the members with their weights, each written as "at least", which add up to ``0 >= shortfall``
    """

    reasons: tuple[Reason, ...]
    whole: bool
    proven: bool
    shortfall: Fraction | None
    lines: tuple[tuple[Fraction, str], ...] = ()


@dataclass(frozen=True, eq=False)
class Repair:
    """Changes of limits that leave a plan, proven by solving.

    Attributes
    ----------
    aim : what the changes are the least in
    changes : constraint, relation, old and new limit
    total : what the aim comes to
    plan : the best plan of the repaired model
    """

    aim: str
    changes: tuple[tuple[str, str, float, float], ...]
    total: float
    plan: Plan


@dataclass(frozen=True, eq=False)
class Diagnosis:
    """Why a model has no plan, or that it has one.

    Attributes
    ----------
    plan : what solving gave
    clashes : that share no limit
    repairs : that lead to a plan
    ray : of an unbounded model, by how much each decision moves in a step that improves the objective by 1 and can
        be repeated without end; few decisions, so that it can be told
    missed : where the search stopped before any plan, the limits that the nearest plan found does not meet:
        constraint, relation, limit, and by how much
    """

    model: str
    plan: Plan
    clashes: tuple[Contradiction, ...] = ()
    repairs: tuple[Repair, ...] = ()
    ray: dict[str, float] | None = None
    missed: tuple[tuple[str, str, float, float], ...] | None = None

    def __str__(self) -> str:
        from ruddock.reporting.diagnosis import diagnosis_text

        return diagnosis_text(self)

    def as_dict(self) -> dict[str, Any]:
        """Return plain data for JSON."""
        return {
            "format": "ruddock-diagnosis/1",
            "model": self.model,
            "status": self.plan.status,
            "ray": self.ray,
            "missed": None
            if self.missed is None
            else [{"constraint": name, "relation": r, "limit": limit, "by": by} for name, r, limit, by in self.missed],
            "clashes": [
                {
                    "takes_whole_numbers": clash.whole,
                    "proven_irreducible": clash.proven,
                    "shortfall": None if clash.shortfall is None else float(clash.shortfall),
                    "members": [
                        {
                            "name": r.name,
                            "what": r.what,
                            "relation": r.relation,
                            "value": None if np.isnan(r.value) else r.value,
                            "weight": None if r.weight is None else str(r.weight),
                        }
                        for r in clash.reasons
                    ],
                }
                for clash in self.clashes
            ],
            "repairs": [
                {
                    "aim": repair.aim,
                    "total": repair.total,
                    "changes": [
                        {"constraint": name, "relation": relation, "old": old, "new": new}
                        for name, relation, old, new in repair.changes
                    ],
                    "objective": repair.plan.objective if repair.plan.found else None,
                }
                for repair in self.repairs
            ],
        }


def diagnose(
    model: Model, may_change: Iterable[str] | Mapping[str, float] | None = None, time_limit: float | None = None
) -> Diagnosis:
    """Find out why a model has no plan; see `Model.diagnose`."""
    limits = Limits(seconds=float("inf") if time_limit is None else time_limit)
    plan = model.solve(time_limit=time_limit)
    formulation = model.formulation()
    goal = formulation.objectives[0] if formulation.objectives else None
    problem = formulation.problem(goal)
    if plan.status == "unbounded":
        ray = short_ray(problem)
        names = formulation.decision_names
        moving = None if ray is None else {names[j]: float(ray[j]) for j in np.flatnonzero(ray).tolist()}
        return Diagnosis(model.name, plan, ray=moving)
    if plan.status == "stopped" and not plan.found:
        return Diagnosis(model.name, plan, missed=_nearest(formulation, problem, limits))
    if plan.status != "infeasible":
        return Diagnosis(model.name, plan)
    clashes = tuple(_told(formulation, problem, clash) for clash in find_clashes(problem, limits=limits))
    return Diagnosis(model.name, plan, clashes, _repairs(formulation, problem, goal, may_change, limits))


def _told(formulation: Formulation, problem: Problem, clash: Clash) -> Contradiction:
    """Return a clash by names, with its proof where it has one."""
    weights, shortfall = (None, None) if clash.whole else _proof(problem, clash)
    rows, columns = formulation.constraint_names, formulation.decision_names
    values = {
        "row lower": problem.row_lower,
        "row upper": problem.row_upper,
        "lower": problem.lower,
        "upper": problem.upper,
    }
    reasons = []
    for k, member in enumerate(clash.members):
        row = member.kind.startswith("row")
        name = rows[member.index] if row else columns[member.index]
        if member.kind == "integer":
            reasons.append(Reason(name, "whole number", "whole", float("nan")))
            continue
        relation = ">=" if member.kind.endswith("lower") else "<="
        weight = None if weights is None else weights[k]
        reasons.append(
            Reason(name, "limit" if row else "bound", relation, float(values[member.kind][member.index]), weight)
        )
    lines = (
        ()
        if weights is None
        else tuple(
            (weight, _written(*_line(problem, member), columns))
            for weight, member in zip(weights, clash.members, strict=True)
        )
    )
    return Contradiction(tuple(reasons), clash.whole, clash.proven, shortfall, lines)


def _written(entries: dict[int, Fraction], limit: Fraction, names: list[str]) -> str:
    """Write ``a'x >= b`` with its names, long ones elided."""
    terms = []
    for j, value in list(entries.items())[:MOST_TERMS]:
        size = "" if abs(value) == 1 else f"{number(float(abs(value)))} "
        terms.append(f"{'-' if value < 0 else '+'} {size}{names[j]}")
    text = " ".join(terms).removeprefix("+ ")
    more = f" + {len(entries) - MOST_TERMS} more terms" if len(entries) > MOST_TERMS else ""
    return f"{text}{more} >= {number(float(limit))}"


def _proof(problem: Problem, clash: Clash) -> tuple[list[Fraction] | None, Fraction | None]:
    """Return the weights with which an irreducible clash adds up to a contradiction, in rational arithmetic.

    Each member is written as ``a'x >= b``. The weights are the one combination, up to its size, in which every
    decision cancels; where the numbers of the model leave no exact one, there is none to show.
    """
    lines = [_line(problem, member) for member in clash.members]
    weights = _cancelling([line for line, _ in lines])
    if weights is None:
        return None, None
    if sum(1 for w in weights if w < 0) > len(weights) // 2:
        weights = [-w for w in weights]
    total = sum((w * b for w, (_, b) in zip(weights, lines, strict=True)), Fraction(0))
    if any(w <= 0 for w in weights) or total <= 0:
        return None, None
    scale = Fraction(lcm(*(w.denominator for w in weights)))
    scale /= gcd(*(int(w * scale) for w in weights))
    if max(int(w * scale) for w in weights) > SMALL_WEIGHTS:
        scale = 1 / max(weights)
    return [w * scale for w in weights], total * scale


def _line(problem: Problem, member: Member) -> tuple[dict[int, Fraction], Fraction]:
    """Return a member as ``a'x >= b``."""
    i = member.index
    if member.kind.startswith("row"):
        start = np.flatnonzero(problem.indices == i)
        owner = np.searchsorted(problem.starts, start, side="right") - 1
        entries = {int(j): Fraction(float(problem.values[k])) for j, k in zip(owner, start, strict=True)}
        limit = problem.row_lower[i] if member.kind == "row lower" else problem.row_upper[i]
    else:
        entries = {i: Fraction(1)}
        limit = problem.lower[i] if member.kind == "lower" else problem.upper[i]
    sign = 1 if member.kind.endswith("lower") else -1
    return {j: sign * v for j, v in entries.items()}, sign * Fraction(float(limit))


def _cancelling(lines: list[dict[int, Fraction]]) -> list[Fraction] | None:
    """Return weights, not all zero, with which the lines add up to zero; None if only zeros do.

    Gaussian elimination on the lines, each remembering which combination of the given ones it is.
    """
    rows = [(dict(line), {k: Fraction(1)}) for k, line in enumerate(lines)]
    pivots: list[tuple[int, dict[int, Fraction], dict[int, Fraction]]] = []
    for row, made_of in rows:
        for j, pivot, pivot_made in pivots:
            factor = row.get(j)
            if factor:
                for k, v in pivot.items():
                    row[k] = row.get(k, Fraction(0)) - factor * v
                    if not row[k]:
                        del row[k]
                for k, v in pivot_made.items():
                    made_of[k] = made_of.get(k, Fraction(0)) - factor * v
        if not row:
            return [made_of.get(k, Fraction(0)) for k in range(len(lines))]
        j = min(row, key=lambda key: (abs(row[key].denominator), key))
        lead = row[j]
        pivots.append((j, {k: v / lead for k, v in row.items()}, {k: v / lead for k, v in made_of.items()}))
    return None


# ---------------------------------------------------------------------- repairs


def _repairs(
    formulation: Formulation, problem: Problem, goal: Any, may_change: Any, limits: Limits
) -> tuple[Repair, ...]:
    """Return the least changes: in total, in parts of each limit, in number, and the least worst."""
    prices = _prices(formulation, may_change)
    if not np.isfinite(prices).any():
        return ()
    found: list[Repair] = []
    size = np.maximum(1.0, np.where(np.isfinite(problem.row_lower), np.abs(problem.row_lower), 0.0))
    size = np.maximum(size, np.where(np.isfinite(problem.row_upper), np.abs(problem.row_upper), 0.0))
    few = fewest_rows(problem, np.isfinite(prices), limits)
    only_few = np.full(len(prices), np.inf)
    if few is not None:
        only_few[few] = prices[few]
    for aim, weight, worst in (
        ("least change in total", prices, False),
        ("least change in per cent", prices * 100.0 / size, False),
        ("fewest constraints", only_few, False),
        ("smallest largest change in per cent", prices * 100.0 / size, True),
    ):
        fall, rise, outcome = least_changes(problem, weight, weight, limits, worst=worst)
        if outcome.status != "optimal" or outcome.x is None:
            continue
        total = float(outcome.x[-1]) if worst else float(outcome.objective)
        repair = _repaired(formulation, problem, goal, aim, (fall, rise), total, limits)
        if repair is not None and all(repair.changes != other.changes for other in found):
            found.append(repair)
    return tuple(found)


def _nearest(
    formulation: Formulation, problem: Problem, limits: Limits
) -> tuple[tuple[str, str, float, float], ...] | None:
    """Return what the nearest to a plan misses, found in as much time again; None if not even that was found."""
    ones = np.ones(problem.m)
    fall, rise, outcome = least_changes(problem, ones, ones, replace(limits, started=time.monotonic()))
    if outcome.x is None:
        return None
    names = formulation.constraint_names
    missed = [(names[i], ">=", float(problem.row_lower[i]), float(fall[i])) for i in np.flatnonzero(fall > FEASIBILITY)]
    missed += [
        (names[i], "<=", float(problem.row_upper[i]), float(rise[i])) for i in np.flatnonzero(rise > FEASIBILITY)
    ]
    return tuple(sorted(missed, key=lambda entry: -entry[3] / max(1.0, abs(entry[2]))))


def _prices(formulation: Formulation, may_change: Any) -> Floats:
    """Return what a unit of change of each row costs; infinite where it may not change."""
    names = formulation.constraint_names
    if may_change is None:
        return np.ones(len(names))
    wanted = may_change.items() if isinstance(may_change, Mapping) else [(name, 1.0) for name in may_change]
    prices = np.full(len(names), np.inf)
    for name, price in wanted:
        own = members_of(name, names)
        if not own:
            families = [family.name for family in formulation.constraints if not family.listed]
            hint = known(name, list(dict.fromkeys([*families, *names])))
            raise ModelError(f"may_change: there is no constraint called {name!r}; {hint}")
        if not 0 < price < np.inf:
            raise ModelError(f"may_change: the price of changing {name} is a positive number, not {price}")
        prices[own] = price
    return prices


def _repaired(
    formulation: Formulation,
    problem: Problem,
    goal: Any,
    aim: str,
    moved: tuple[Floats, Floats],
    total: float,
    limits: Limits,
) -> Repair | None:
    """Return the repair with the best plan that it allows; None if solving does not confirm it."""
    fall, rise = (np.where(part > FEASIBILITY, part, 0.0) for part in moved)
    new = replace(problem, row_lower=problem.row_lower - fall, row_upper=problem.row_upper + rise)
    # limits of an equation move together
    equation = problem.row_lower == problem.row_upper
    shift = np.where(equation, rise - fall, 0.0)
    new = replace(
        new,
        row_lower=np.where(equation, problem.row_lower + shift, new.row_lower),
        row_upper=np.where(equation, problem.row_upper + shift, new.row_upper),
    )
    outcome = solve(new, limits)
    if outcome.status not in ("optimal", "unbounded"):
        return None
    names = formulation.constraint_names
    changes = []
    for i in np.flatnonzero((fall > 0) | (rise > 0)).tolist():
        relation = "==" if equation[i] else ">=" if fall[i] > 0 else "<="
        old, now = (problem.row_lower, new.row_lower) if fall[i] > 0 else (problem.row_upper, new.row_upper)
        changes.append((names[i], relation, float(old[i]), float(now[i])))
    constraints = []
    at = 0
    for family in formulation.constraints:
        own = slice(at, at + family.cells.size)
        constraints.append(replace(family, lower=new.row_lower[own], upper=new.row_upper[own]))
        at = own.stop
    changed = replace(formulation, constraints=tuple(constraints), arrays=None)
    return Repair(aim, tuple(changes), total, Plan(changed, outcome, goal))
