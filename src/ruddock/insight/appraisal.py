"""A plan made by hand, judged: what it violates, what it is worth, and what optimising would gain."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.engine.outcome import FEASIBILITY, INTEGRALITY, Outcome
from ruddock.errors import DataError, FormatError, known
from ruddock.modelling.plan import Plan
from ruddock.problem import INTEGER, SEMICONTINUOUS, Floats

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Formulation
    from ruddock.modelling.model import Model


@dataclass(frozen=True, eq=False)
class Appraisal:
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

    def __str__(self) -> str:
        from ruddock.reporting.appraisal import appraisal_text

        return appraisal_text(self)

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
    x, assumed = _values(formulation, values)
    goal = formulation.objectives[0] if formulation.objectives else None
    problem = formulation.problem(goal)
    outcome = Outcome("stopped", "user", x=x, activity=problem.activity(x), objective=problem.objective(x))
    plan = Plan(formulation, outcome, goal)
    # kept whole: read like a plan, without a claim to be the best
    best = model.solve(**solve)
    return Appraisal(plan, _violations(plan, problem.lower, problem.upper, problem.kinds), best, assumed)


def _values(formulation: Formulation, given: Any) -> tuple[Floats, tuple[str, ...]]:
    """Return all values in order, and the names of those that were not given."""
    if isinstance(given, (str, Path)):
        given = _from_file(Path(given))
    table = dict(given.items()) if isinstance(given, pd.Series) else dict(given)
    names = formulation.decision_names
    place = {name: k for k, name in enumerate(names)}
    x = np.zeros(len(names))
    seen = np.zeros(len(names), bool)
    for key, value in table.items():
        if str(key) not in place:
            raise DataError(f"there is no decision called {str(key)!r}; {known(str(key), names)}")
        number = float(value)
        if not np.isfinite(number):
            raise DataError(f"{key}: {value!r} is no value of a decision")
        x[place[str(key)]] = number
        seen[place[str(key)]] = True
    return x, tuple(name for name, known_ in zip(names, seen.tolist(), strict=True) if not known_)


def _from_file(path: Path) -> dict[str, float]:
    """Read a CSV or workbook of two columns, decision and value."""
    try:
        frame = pd.read_excel(path) if path.suffix.lower() == ".xlsx" else pd.read_csv(path)
    except (OSError, ValueError, pd.errors.ParserError) as error:
        raise FormatError(f"cannot be read: {error}", path=str(path)) from None
    columns = {str(column).strip().lower(): column for column in frame.columns}
    if not {"decision", "value"} <= set(columns):
        raise FormatError("two columns are needed, decision and value", path=str(path), line=1)
    result: dict[str, float] = {}
    for row, (name, value) in enumerate(zip(frame[columns["decision"]], frame[columns["value"]], strict=True), 2):
        try:
            amount = float(value)
        except (TypeError, ValueError):
            raise FormatError(f"{value!r} is not a number", path=str(path), line=row) from None
        if str(name) in result:
            raise FormatError(f"{name} stands a second time", path=str(path), line=row)
        result[str(name)] = amount
    return result


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
