"""Values of decisions as a person gives them: by name, in a dict, a Series or a file."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from numbers import Real
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.engine.in_order import Stage
from ruddock.engine.outcome import Outcome
from ruddock.engine.solve import solve
from ruddock.errors import DataError, ModelError
from ruddock.modelling.lowering import lowered
from ruddock.modelling.names import names_of
from ruddock.modelling.plan import Plan
from ruddock.problem import Floats

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Formulation


def given_values(formulation: Formulation, given: Any) -> Floats:
    """Return the value of every decision in order, NaN for those that are not given.

    Raises
    ------
    DataError, FormatError
        If a decision is unknown or a value is not a number.
    """
    if isinstance(given, (str, Path)):
        given = _from_file(Path(given), formulation)
    if isinstance(given, pd.Series):
        given = dict(given.items())
    if not isinstance(given, Mapping):
        raise DataError(f"values are a dict or Series by decision, or the path of a table, not {type(given).__name__}")
    names = names_of(formulation)
    x = np.full(formulation.size, np.nan)
    for key, value in given.items():
        text = str(key)
        try:
            found = names.need(text, ("decisions",))
            at = formulation.starts[found.part.name] + found.single
        except ModelError as error:
            raise DataError(str(error)) from None
        if isinstance(value, bool) or not isinstance(value, (Real, np.bool_)) or not np.isfinite(float(value)):
            raise DataError(f"{key}: {value!r} is not a value of a decision; it is a finite number")
        x[at] = float(value)
    return x


def completed(formulation: Formulation, x: Floats) -> Floats:
    """Return values of all columns that go with values of the decisions: of curves, and of what rules need.

    Values of curves follow from those of the decisions; where a curve jumps, and for the rest, a solve with all
    decisions fixed finds what fits. Where nothing fits, curves keep their values and the rest is 0.
    """
    low = lowered(formulation)
    full = np.concatenate((x, np.zeros(low.base.n - len(x))))
    at = len(x)
    sure = True
    for curve in formulation.curves:
        place = formulation.evaluate(curve.x, full)
        least, most = curve.ends(place)
        full[at : at + len(least)] = least
        sure = sure and bool((least == most).all())
        at += len(least)
    if low.base.n == at and sure:
        return full
    fixed = len(x) if not sure else at
    problem = low.problem(formulation.first_objective)
    lower, upper = problem.lower.copy(), problem.upper.copy()
    lower[:fixed] = upper[:fixed] = full[:fixed]
    outcome = solve(replace(problem, lower=lower, upper=upper))
    return outcome.x if outcome.x is not None else full


def plan_of_values(formulation: Formulation, x: Floats) -> Plan:
    """Return values of all columns as a plan, without any claim to be the best or even possible."""
    problems = lowered(formulation).problems
    base = problems[0]
    stages = tuple(Stage(problem.objective(x), float("-inf"), False) for problem in problems)
    outcome = Outcome("stopped", "user", x=x, activity=base.activity(x), objective=base.objective(x))
    return Plan(formulation, outcome, stages)


def _from_file(path: Path, formulation: Formulation) -> dict[str, float]:
    from ruddock.formats.tables.values import read_values

    return read_values(path, formulation)
