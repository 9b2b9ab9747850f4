"""Why there is no plan: the clashes, their proofs in integers, and the least changes that make one."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from fractions import Fraction
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.document.content import Block, Figure
from ruddock.document.result import Result
from ruddock.engine.clash import Clash, find_clashes
from ruddock.engine.elastic import Room, least_changes
from ruddock.engine.outcome import FEASIBILITY
from ruddock.engine.rays import short_ray
from ruddock.engine.solve import solve
from ruddock.errors import ModelError
from ruddock.insight.proof import line_of, proof_of, written
from ruddock.insight.repairs import Repair, Search, find_repairs
from ruddock.insight.steps import steps_of
from ruddock.modelling.lowering import Lowered, lowered
from ruddock.modelling.options import QUESTION_SECONDS, Clock, SolveOptions, running
from ruddock.modelling.plan import Plan
from ruddock.modelling.solve import solve_formulation
from ruddock.modelling.written import limit_of

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Formulation
    from ruddock.modelling.model import Model
    from ruddock.problem import Problem

FAR = 1e3  # a bound this far beyond a point is tried to see whether it ends an unlimited objective


@dataclass(frozen=True)
class Reason:
    """One member of a clash, in the model's words.

    Attributes
    ----------
    name : the constraint or decision
    what : ``constraint``, ``rule``, ``bound`` or ``integer``
    relation, value : the relation as written, and the limit; NaN where there is none: of a constraint with decisions on
        both sides, a rule, or an integer decision
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
    whole : whether it takes integer decisions to clash: in fractions all could be met
    proven : whether every member was proven to be needed
    steps : sentences that lead from the members to what cannot be; none where it takes more than a few
    shortfall : of the proof: the weighted sum of the limits demands so much more than can be; None without a proof
    lines : the members with their weights, each written as "at least", which add up to ``0 >= shortfall``
    """

    reasons: tuple[Reason, ...]
    whole: bool
    proven: bool
    shortfall: Fraction | None
    lines: tuple[tuple[Fraction, str], ...] = ()
    steps: tuple[str, ...] = ()


@dataclass(frozen=True, eq=False, repr=False)
class Diagnosis(Result):
    """Why a model has no plan, or that it has one.

    Attributes
    ----------
    plan : what solving gave
    clashes : that share no constraint
    search : repairs that lead to a plan, and what is known where there are none
    stopped : what ended the search for clashes or repairs early, or None
    ray : of an unbounded model, by how much each decision moves in a step that improves the objective by 1 and can
        be repeated without limit; few decisions, so that it can be shown
    ended_by : of an unbounded model, decisions a bound on which, all of them together, was seen to give a best plan
    missed : where the search stopped before any plan, the limits that the nearest plan found does not meet:
        constraint, relation, limit, and by how much
    """

    model: str
    plan: Plan
    clashes: tuple[Contradiction, ...] = ()
    search: Search | None = None
    stopped: str | None = None
    ray: dict[str, float] | None = None
    ended_by: tuple[str, ...] = ()
    missed: tuple[tuple[str, str, float, float], ...] | None = None

    @property
    def repairs(self) -> tuple[Repair, ...]:
        """The changes that lead to a plan."""
        return () if self.search is None else self.search.repairs

    undrawn = "only a clash of a few requirements is drawn"

    def _title(self) -> str:
        return self.model

    def _blocks(self) -> Sequence[Block]:
        from ruddock.insight.diagnosis_words import diagnosis_blocks

        return diagnosis_blocks(self)

    def figure(self) -> Figure | None:
        """Return a figure of the first clash, where it is small enough to be drawn."""
        from ruddock.insight.clash_figure import MOST_DRAWN, clash_figure

        members = len(self.clashes[0].reasons) if self.clashes else 0
        if not 0 < members <= MOST_DRAWN:
            return None
        return Figure(partial(clash_figure, self), "The clash", 1.5 + 0.45 * members)

    def table(self) -> pd.DataFrame:
        """Return the members of all clashes, a row each: clash, name, what, relation, value, weight in the proof."""
        rows = [
            (k, r.name, r.what, r.relation, r.value, None if r.weight is None else float(r.weight))
            for k, clash in enumerate(self.clashes, 1)
            for r in clash.reasons
        ]
        return pd.DataFrame(rows, columns=["clash", "name", "what", "relation", "value", "weight"])

    def _facts(self) -> dict[str, Any]:
        return {
            "format": "ruddock-diagnosis/1",
            "model": self.model,
            "status": self.plan.status,
            "ray": self.ray,
            "ended_by": list(self.ended_by),
            "stopped": self.stopped,
            "missed": None
            if self.missed is None
            else [{"constraint": name, "relation": r, "limit": limit, "by": by} for name, r, limit, by in self.missed],
            "clashes": [
                {
                    "takes_whole_numbers": clash.whole,
                    "proven_irreducible": clash.proven,
                    "steps": list(clash.steps),
                    "shortfall": None if clash.shortfall is None else float(clash.shortfall),
                    "members": [
                        {
                            "name": r.name,
                            "what": r.what,
                            "relation": r.relation,
                            "value": r.value,
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
                    "least": repair.least,
                    "changes": [
                        {
                            "constraint": change.name,
                            "relation": change.relation,
                            "old": change.old,
                            "new": change.new,
                            "by": change.by,
                        }
                        for change in repair.changes
                    ],
                    "objective": repair.plan.objective if repair.plan.found else None,
                }
                for repair in self.repairs
            ],
            "no_repair": None if self.search is None else self.search.outcome,
            "needed": None
            if self.search is None or self.search.needed is None
            else [{"constraint": c.name, "relation": c.relation, "by": c.by} for c in self.search.needed],
        }


def diagnose(model: Model, may_change: Any, given: Mapping[str, Any]) -> Diagnosis:
    """Find out why a model has no plan; see `Model.diagnose`."""
    options = SolveOptions.of_question(given)
    formulation = model.formulation()
    with running(options, formulation) as clock:
        plan = solve_formulation(formulation, options, clock)
        plan.model = model
        return _diagnosed(plan, may_change, clock)


def diagnose_plan(plan: Plan, may_change: Any = None, time_limit: float | None = None) -> Diagnosis:
    """Find out why a solve gave no plan."""
    options = SolveOptions(time_limit=QUESTION_SECONDS if time_limit is None else time_limit)
    with running(options) as clock:
        return _diagnosed(plan, may_change, clock)


def _diagnosed(plan: Plan, may_change: Any, clock: Clock) -> Diagnosis:
    formulation = plan.formulation
    if plan.status == "unbounded":
        return _unbounded(plan, clock)
    if plan.status == "stopped" and not plan.found:
        return Diagnosis(plan.model_name, plan, missed=_nearest(formulation, clock))
    if plan.status != "infeasible":
        return Diagnosis(plan.model_name, plan)
    whole, sure = without_hidden_limits(formulation)
    found = find_clashes(whole.problems[0], limits=clock.for_part("looking for clashes"), helpers=formulation.size)
    clashes = tuple(_contradiction(whole, clash, sure) for clash in found)
    stopped = clock.out()
    search = find_repairs(formulation, whole, sure, may_change, clock)
    return Diagnosis(plan.model_name, plan, clashes, search, stopped or clock.out())


def without_hidden_limits(formulation: Formulation) -> tuple[Lowered, bool]:
    """Return the arrays in which the room of rules depends on no constraint, and whether that was possible.

    Where bounds alone leave a rule no finite room, constraints do; what is then taken away on trial still counts there.
    """
    try:
        return lowered(formulation, by_bounds=True), True
    except ModelError:
        return lowered(formulation), False


# ---------------------------------------------------------------------- unbounded


def _unbounded(plan: Plan, clock: Clock) -> Diagnosis:
    """Return along which decisions the objective improves without limit, and what was seen to end it."""
    whole = lowered(plan.formulation)
    problem = whole.problems[0]
    ray = short_ray(problem)
    if ray is None:
        return Diagnosis(plan.model_name, plan, ray={})
    moving = {whole.column_name(j): float(ray[j]) for j in np.flatnonzero(ray).tolist()}
    return Diagnosis(plan.model_name, plan, ray=moving, ended_by=_ended_by(whole, problem, ray, clock))


def _ended_by(whole: Lowered, problem: Problem, ray: np.ndarray[Any, Any], clock: Clock) -> tuple[str, ...]:
    """Return decisions whose bounds end an unlimited objective, each choice tried by solving; none where none is seen.

    First one decision of the ray alone, then more and more of what still moves.
    """
    start = solve(replace(problem, costs=np.zeros(problem.n), offset=0.0), clock.for_part("looking for what ends it"))
    x = np.zeros(problem.n) if start.x is None else start.x
    written = [j for j in np.flatnonzero(ray).tolist() if j < whole.formulation.size]

    def bounded(chosen: dict[int, float]) -> str:
        lower, upper = problem.lower.copy(), problem.upper.copy()
        for j, step in chosen.items():
            if step > 0:
                upper[j] = min(upper[j], x[j] + FAR * max(1.0, abs(x[j])))
            else:
                lower[j] = max(lower[j], x[j] - FAR * max(1.0, abs(x[j])))
        return solve(replace(problem, lower=lower, upper=upper), clock.for_part("looking for what ends it")).status

    for j in written:
        if clock.out() is not None:
            return ()
        if bounded({j: float(ray[j])}) == "optimal":
            return (whole.column_name(j),)
    chosen: dict[int, float] = {}
    current = ray
    while clock.out() is None and len(chosen) < 6:
        fresh = [j for j in np.flatnonzero(current).tolist() if j < whole.formulation.size and j not in chosen]
        if not fresh:
            return ()
        chosen |= {j: float(current[j]) for j in fresh}
        if bounded(chosen) == "optimal":
            for j in list(chosen):  # leave out what is not needed
                rest = {k: step for k, step in chosen.items() if k != j}
                if rest and bounded(rest) == "optimal":
                    chosen = rest
            return tuple(whole.column_name(j) for j in chosen)
        lower, upper = problem.lower.copy(), problem.upper.copy()
        for j, step in chosen.items():
            (upper if step > 0 else lower)[j] = x[j] + np.sign(step) * FAR * max(1.0, abs(x[j]))
        again = short_ray(replace(problem, lower=lower, upper=upper))
        if again is None:
            return ()
        current = again
    return ()


# ---------------------------------------------------------------------- clashes


def _contradiction(whole: Lowered, clash: Clash, sure: bool) -> Contradiction:
    """Return a clash by names, with its proof where it has one."""
    formulation, problem = whole.formulation, whole.problems[0]
    rows = formulation.rows
    ruled = any(m.kind.startswith("row") and m.index >= rows for m in clash.members)
    weights, shortfall = (None, None) if clash.whole or ruled else proof_of(problem, clash)
    reasons: list[Reason] = []
    for k, member in enumerate(clash.members):
        weight = None if weights is None else weights[k]
        if member.kind.startswith("row") and member.index >= rows:
            reason = Reason(whole.row_name(member.index), "rule", "", float("nan"))
            if reason not in reasons:
                reasons.append(reason)
        elif member.kind.startswith("row"):
            relation, value = limit_of(formulation, member.index, upper=member.kind == "row upper")
            reasons.append(Reason(whole.row_name(member.index), "constraint", relation, value, weight))
        elif member.kind == "integer":
            reasons.append(Reason(whole.column_name(member.index), "integer", "", float("nan")))
        else:
            upper = member.kind == "upper"
            value = float((problem.upper if upper else problem.lower)[member.index])
            reasons.append(Reason(whole.column_name(member.index), "bound", "<=" if upper else ">=", value, weight))
    names = formulation.column_names
    lines = (
        ()
        if weights is None
        else tuple(
            (weight, written(*line_of(problem, member), names))
            for weight, member in zip(weights, clash.members, strict=True)
        )
    )
    proven = clash.proven and (sure or not ruled)
    return Contradiction(tuple(reasons), clash.whole, proven, shortfall, lines, steps_of(whole, problem, clash))


def reasons_of(whole: Lowered, clash: Clash) -> list[str]:
    """Return the names of the constraints, rules and decisions of a clash, constraints first."""
    named = [
        (
            not m.kind.startswith("row"),
            whole.row_name(m.index) if m.kind.startswith("row") else whole.column_name(m.index),
        )
        for m in clash.members
    ]
    return list(dict.fromkeys(name for _, name in sorted(named, key=lambda pair: pair[0])))


def _nearest(formulation: Formulation, clock: Clock) -> tuple[tuple[str, str, float, float], ...] | None:
    """Return what the nearest to a plan misses, found in as much time again; None if not even that was found."""
    whole, _ = without_hidden_limits(formulation)
    problem, rows = whole.problems[0], formulation.rows
    price = np.where(np.arange(problem.m) < rows, 1.0, np.inf)
    seconds = clock.limits.seconds
    limits = replace(clock.for_part("looking for the nearest plan"), seconds=clock.limits.elapsed() + seconds)
    fall, rise, outcome = least_changes(problem, Room.anywhere(price, price), limits)
    if outcome.x is None:
        return None
    missed = []
    for upper, by in ((False, fall), (True, rise)):
        for i in np.flatnonzero(by > FEASIBILITY).tolist():
            relation, value = limit_of(formulation, i, upper=upper)
            missed.append((whole.row_name(i), relation, value, float(by[i])))
    return tuple(sorted(missed, key=lambda e: -e[3] / max(1.0, abs(e[2]) if np.isfinite(e[2]) else 1.0)))
