"""A plan made by hand, judged: what it violates, what it is worth, and what optimising would gain."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.engine.outcome import FEASIBILITY, INTEGRALITY
from ruddock.modelling.plan import Plan
from ruddock.modelling.printed import Printed
from ruddock.modelling.values import given_values, plan_of_values
from ruddock.problem import INTEGER, SEMICONTINUOUS, Floats
from ruddock.tables import Table

if TYPE_CHECKING:
    from ruddock.modelling.model import Model


@dataclass(frozen=True, eq=False)
class Appraisal(Printed):
    """A hand-made plan beside the best one.

    Attributes
    ----------
    plan : the values given, readable like a plan
    violations : DataFrame: where, what (``limit``, ``bound`` or ``whole number``), value, limit, by; largest first,
        relative to the limit
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
        """What optimising improves the objective by, positive if it does; NaN without a best plan."""
        if not self.best.found:
            return float("nan")
        gain = self.best.objective - self.plan.objective
        return gain if self.plan.sense == "maximize" else -gain

    def parts(self) -> list[str | Table]:
        """Return what is printed, as sentences and tables."""
        from ruddock.reporting.appraisal import appraisal_parts

        return appraisal_parts(self)

    def as_dict(self) -> dict[str, Any]:
        """Return plain data for JSON."""
        return {
            "format": "ruddock-appraisal/1",
            "model": self.plan.model_name,
            "objective": self.plan.objective,
            "parts": {str(k): float(v) for k, v in self.plan.breakdown().items()},
            "violations": self.violations.to_dict("records"),
            "best": self.best.objective if self.best.found else None,
            "gain": self.gain if self.best.found else None,
            "assumed_zero": list(self.assumed),
        }


def appraise(model: Model, values: Mapping[str, float] | pd.Series[float] | str | Path, **solve: Any) -> Appraisal:
    """Judge a plan made by hand; see `Model.appraise`."""
    formulation = model.formulation()
    x = given_values(formulation, values)
    missing = np.isnan(x)
    assumed = tuple(name for name, left in zip(formulation.decision_names, missing.tolist(), strict=True) if left)
    x[missing] = 0.0
    problem = formulation.problem(formulation.first_objective)
    plan = plan_of_values(formulation, problem, x)
    best = model.solve(**solve)
    return Appraisal(plan, _violations(plan, problem.lower, problem.upper, problem.kinds), best, assumed)


def _violations(plan: Plan, lower: Floats, upper: Floats, kinds: Any) -> pd.DataFrame:
    """Return what is violated, the largest first."""
    constraints = plan.constraints()
    x, names = plan.values, plan.formulation.decision_names
    records: list[dict[str, Any]] = []
    slack, limit = constraints["slack"].to_numpy(float), constraints["limit"].to_numpy(float)
    broken = np.flatnonzero(slack < -FEASIBILITY * np.maximum(1.0, np.abs(limit))).tolist()
    activity = constraints["activity"].to_numpy(float)
    records += [_record(str(constraints.index[k]), "limit", activity[k], limit[k]) for k in broken]
    off = (kinds & SEMICONTINUOUS != 0) & (np.abs(x) <= FEASIBILITY)
    for bounds, beyond in ((lower, lower - x), (upper, x - upper)):
        scale = FEASIBILITY * np.maximum(1.0, np.where(np.isfinite(bounds), np.abs(bounds), 1.0))
        outside = np.flatnonzero((beyond > scale) & ~off).tolist()
        records += [_record(names[j], "bound", x[j], bounds[j]) for j in outside]
    parts = np.flatnonzero((kinds & INTEGER != 0) & (np.abs(x - np.round(x)) > INTEGRALITY)).tolist()
    records += [_record(names[j], "whole number", x[j], np.round(x[j])) for j in parts]
    frame = pd.DataFrame.from_records(records, columns=["where", "what", "value", "limit", "by"])
    size = frame["by"].to_numpy(float) / np.maximum(1.0, np.abs(frame["limit"].to_numpy(float)))
    return frame.iloc[np.argsort(-size, kind="stable")].reset_index(drop=True)


def _record(where: str, what: str, value: Any, limit: Any) -> dict[str, Any]:
    return {"where": where, "what": what, "value": float(value), "limit": float(limit), "by": abs(float(value - limit))}
