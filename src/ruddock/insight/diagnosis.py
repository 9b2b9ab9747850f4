"""Why there is no plan: the clashes, their proofs in whole numbers, and the least changes that make one."""

from __future__ import annotations

import time
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from fractions import Fraction
from typing import TYPE_CHECKING, Any

import numpy as np

from ruddock.engine.clash import Clash, find_clashes
from ruddock.engine.elastic import Room, least_changes
from ruddock.engine.outcome import FEASIBILITY, Limits
from ruddock.engine.rays import short_ray
from ruddock.insight.proof import line_of, proof_of, written
from ruddock.insight.repairs import Repair, find_repairs
from ruddock.insight.steps import steps_of
from ruddock.modelling.plan import Plan
from ruddock.modelling.printed import Printed
from ruddock.problem import Problem
from ruddock.tables import Table

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.modelling.formulation import Formulation
    from ruddock.modelling.model import Model


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


@dataclass(frozen=True, eq=False)
class Diagnosis(Printed):
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

    def parts(self) -> list[str | Table]:
        """Return what is printed, as sentences and tables."""
        from ruddock.reporting.diagnosis import diagnosis_parts

        return diagnosis_parts(self)

    def draw(self, ax: Axes | None = None) -> Axes:
        """Draw the first clash: its limits and the decisions that they pull at, with Matplotlib.

        Parameters
        ----------
        ax : matplotlib Axes, optional
            New ones by default.
        """
        from ruddock.reporting.pictures import clash_figure

        return clash_figure(self, ax)

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
                    "steps": list(clash.steps),
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
    return diagnose_plan(model.solve(time_limit=time_limit), may_change, time_limit)


def diagnose_plan(
    plan: Plan, may_change: Iterable[str] | Mapping[str, float] | None = None, time_limit: float | None = None
) -> Diagnosis:
    """Find out why a solve gave no plan."""
    limits = Limits(seconds=float("inf") if time_limit is None else time_limit)
    formulation = plan.formulation
    goal = formulation.first_objective
    problem = formulation.problem(goal)
    if plan.status == "unbounded":
        ray = short_ray(problem)
        names = formulation.decision_names
        moving = None if ray is None else {names[j]: float(ray[j]) for j in np.flatnonzero(ray).tolist()}
        return Diagnosis(plan.model_name, plan, ray=moving)
    if plan.status == "stopped" and not plan.found:
        return Diagnosis(plan.model_name, plan, missed=_nearest(formulation, problem, limits))
    if plan.status != "infeasible":
        return Diagnosis(plan.model_name, plan)
    clashes = tuple(_told(formulation, problem, clash) for clash in find_clashes(problem, limits=limits))
    return Diagnosis(plan.model_name, plan, clashes, find_repairs(formulation, problem, goal, may_change, limits))


def _told(formulation: Formulation, problem: Problem, clash: Clash) -> Contradiction:
    """Return a clash by names, with its proof where it has one."""
    weights, shortfall = (None, None) if clash.whole else proof_of(problem, clash)
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
            (weight, written(*line_of(problem, member), columns))
            for weight, member in zip(weights, clash.members, strict=True)
        )
    )
    steps = steps_of(formulation, problem, clash)
    return Contradiction(tuple(reasons), clash.whole, clash.proven, shortfall, lines, steps)


def reasons_of(formulation: Formulation, clash: Clash) -> list[str]:
    """Return the names of the constraints and decisions of a clash, constraints first."""
    rows, columns = formulation.constraint_names, formulation.decision_names
    named = [
        (not m.kind.startswith("row"), rows[m.index] if m.kind.startswith("row") else columns[m.index])
        for m in clash.members
    ]
    return [name for _, name in sorted(named, key=lambda pair: pair[0])]


def _nearest(
    formulation: Formulation, problem: Problem, limits: Limits
) -> tuple[tuple[str, str, float, float], ...] | None:
    """Return what the nearest to a plan misses, found in as much time again; None if not even that was found."""
    ones = np.ones(problem.m)
    fall, rise, outcome = least_changes(problem, Room.anywhere(ones, ones), replace(limits, started=time.monotonic()))
    if outcome.x is None:
        return None
    names = formulation.constraint_names
    missed = [(names[i], ">=", float(problem.row_lower[i]), float(fall[i])) for i in np.flatnonzero(fall > FEASIBILITY)]
    missed += [
        (names[i], "<=", float(problem.row_upper[i]), float(rise[i])) for i in np.flatnonzero(rise > FEASIBILITY)
    ]
    return tuple(sorted(missed, key=lambda entry: -entry[3] / max(1.0, abs(entry[2]))))
