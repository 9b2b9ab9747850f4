"""A plan made by hand, judged: what it violates, what it is worth, and what optimising would gain."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.document.content import Block, Figure
from ruddock.document.result import Result
from ruddock.engine.outcome import FEASIBILITY, INTEGRALITY
from ruddock.modelling.decisions import kinds_of
from ruddock.modelling.frames import constraints_frame
from ruddock.modelling.options import SolveOptions, running
from ruddock.modelling.plan import Plan
from ruddock.modelling.solve import solve_formulation
from ruddock.modelling.values import completed, given_values, plan_of_values
from ruddock.problem import INTEGER, SEMICONTINUOUS, Floats

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Formulation
    from ruddock.modelling.model import Model


@dataclass(frozen=True, eq=False, repr=False)
class Appraisal(Result):
    """A hand-made plan next to the best one.

    Attributes
    ----------
    plan : the values given, readable like a plan
    violations : DataFrame: where, what (``constraint``, ``rule``, ``curve``, ``bound``, ``integer``), value, relation,
        limit, by; largest first, relative to the limit. Of a constraint value and limit are those of its two sides.
    best : the best plan of the model, or what its solve ended with
    assumed : decisions that were not given and count as 0
    """

    plan: Plan
    violations: pd.DataFrame
    best: Plan
    assumed: tuple[str, ...]

    @property
    def feasible(self) -> bool:
        """Whether nothing is violated."""
        return not len(self.violations)

    @property
    def gain(self) -> float:
        """What optimising improves the first objective by, positive if it does; NaN without a best plan."""
        gains = self.gains()
        return float(gains.iloc[0]) if len(gains) else float("nan")

    def table(self) -> pd.DataFrame:
        """Return the violations; see the attribute of that name."""
        return self.violations.copy()

    def gains(self) -> pd.Series[float]:
        """Return what optimising improves each objective by, each against itself; NaN without a best plan."""
        goals = self.plan.formulation.objectives
        own = self.plan.objectives()["value"]
        names = pd.Index([goal.name for goal in goals], name="objective")
        if not self.best.found:
            return pd.Series(np.nan, names, dtype=float, name="gain")
        best = self.best.objectives()["value"]
        signs = np.array([goal.sign for goal in goals])
        return pd.Series(signs * (own.to_numpy(float) - best.to_numpy(float)) + 0.0, names, name="gain")

    undrawn = "there is no optimal plan to compare with"

    def _title(self) -> str:
        return self.plan.model_name

    def _blocks(self) -> Sequence[Block]:
        from ruddock.insight.appraisal_words import appraisal_blocks

        return appraisal_blocks(self)

    def figure(self) -> Figure | None:
        """Return a figure of the first objective by its parts, given and optimal."""
        from ruddock.insight.appraisal_words import appraisal_figure

        return (
            Figure(partial(appraisal_figure, self), "The plan given and the optimal one, by part", 5.0)
            if self.best.found and self.plan.goal is not None
            else None
        )

    def _facts(self) -> dict[str, Any]:
        gains = self.gains()
        return {
            "format": "ruddock-appraisal/1",
            "model": self.plan.model_name,
            "objective": self.plan.objective,
            "parts": {str(k): float(v) for k, v in self.plan.breakdown().items()},
            "violations": self.violations.to_dict("records"),
            "best": self.best.objective if self.best.found else None,
            "gain": self.gain if self.best.found else None,
            "objectives": {
                str(name): {"value": float(value), "gain": float(gain) if self.best.found else None}
                for (name, value), gain in zip(self.plan.objectives()["value"].items(), gains.tolist(), strict=True)
            },
            "assumed_zero": list(self.assumed),
        }


def appraise(model: Model, values: Any, given: Mapping[str, Any]) -> Appraisal:
    """Judge a plan made by hand; see `Model.appraise`."""
    options = SolveOptions.of_question(given)
    formulation = model.formulation()
    x = given_values(formulation, values)
    missing = np.isnan(x)
    assumed = tuple(name for name, left in zip(formulation.decision_names, missing.tolist(), strict=True) if left)
    x[missing] = 0.0
    plan = plan_of_values(formulation, completed(formulation, x))
    with running(options, formulation) as clock:
        best = solve_formulation(formulation, options, clock)
    return Appraisal(plan, violations(plan), best, assumed)


def violations(plan: Plan) -> pd.DataFrame:
    """Return what a plan violates, the largest first: constraints, rules, curves, bounds and integer decisions."""
    formulation, x = plan.formulation, plan.outcome.x
    assert x is not None
    records = [*_constraints(plan), *_rules(formulation, x), *_curves(formulation, x), *_decisions(formulation, x)]
    columns = ["where", "what", "value", "relation", "limit", "by"]
    frame = pd.DataFrame.from_records(records, columns=columns)
    limit = frame["limit"].to_numpy(float)
    size = frame["by"].to_numpy(float) / np.maximum(1.0, np.where(np.isfinite(limit), np.abs(limit), 1.0))
    return frame.iloc[np.argsort(-size, kind="stable")].reset_index(drop=True)


def _constraints(plan: Plan) -> list[tuple[Any, ...]]:
    frame = constraints_frame(plan)
    slack, right = frame["slack"].to_numpy(float), frame["right"].to_numpy(float)
    left = frame["left"].to_numpy(float)
    scale = np.where(np.isfinite(right), np.maximum(1.0, np.abs(right)), 1.0)
    broken = np.flatnonzero(slack < -FEASIBILITY * scale).tolist()
    return [
        (str(frame.index[k]), "constraint", left[k], str(frame["relation"].iloc[k]), right[k], -slack[k])
        for k in broken
    ]


def _rules(formulation: Formulation, x: Floats) -> list[tuple[Any, ...]]:
    records = []
    for ruled in formulation.rules:
        by = ruled.rule.violation(lambda terms: formulation.evaluate(terms, x))
        broken = np.flatnonzero(by > FEASIBILITY).tolist()
        records += [
            (ruled.member(k), "rule", float("nan"), ruled.rule.word, float("nan"), float(by[k])) for k in broken
        ]
    return records


def _curves(formulation: Formulation, x: Floats) -> list[tuple[Any, ...]]:
    """Return where the expression of a curve is outside its corners."""
    records = []
    for curve in formulation.curves:
        value = formulation.evaluate(curve.x, x)
        for limits, relation, beyond in (
            (curve.at[:, 0], ">=", curve.at[:, 0] - value),
            (curve.at[:, -1], "<=", value - curve.at[:, -1]),
        ):
            names = curve.members()
            records += [
                (names[k], "curve", float(value[k]), relation, float(limits[k]), float(beyond[k]))
                for k in np.flatnonzero(beyond > FEASIBILITY * np.maximum(1.0, np.abs(limits))).tolist()
            ]
    return records


def _decisions(formulation: Formulation, x: Floats) -> list[tuple[Any, ...]]:
    records = []
    for family in formulation.decisions:
        own, kinds = x[formulation.place_of(family)], kinds_of(family)
        off = (kinds & SEMICONTINUOUS != 0) & (np.abs(own) <= FEASIBILITY)
        for bounds, relation, beyond in (
            (family.lower, ">=", family.lower - own),
            (family.upper, "<=", own - family.upper),
        ):
            scale = FEASIBILITY * np.maximum(1.0, np.where(np.isfinite(bounds), np.abs(bounds), 1.0))
            records += [
                (family.member(j), "bound", float(own[j]), relation, float(bounds[j]), float(beyond[j]))
                for j in np.flatnonzero((beyond > scale) & ~off).tolist()
            ]
        near = np.round(own)
        records += [
            (family.member(j), "integer", float(own[j]), "==", float(near[j]), float(abs(own[j] - near[j])))
            for j in np.flatnonzero((kinds & INTEGER != 0) & (np.abs(own - near) > INTEGRALITY)).tolist()
        ]
    return records
