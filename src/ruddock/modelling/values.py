"""Values of decisions as a person gives them: by name, in a dict, a Series or a file."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.engine.outcome import Outcome
from ruddock.errors import DataError, FormatError, known
from ruddock.modelling.plan import Plan
from ruddock.problem import Floats, Problem

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Formulation


def given_values(formulation: Formulation, given: Any) -> Floats:
    """Return the value of every decision in order, NaN for those that are not given.

    Raises
    ------
    DataError, FormatError
        If a decision is unknown or a value is no number.
    """
    if isinstance(given, (str, Path)):
        given = _from_file(Path(given))
    table = dict(given.items()) if isinstance(given, pd.Series) else dict(given)
    names = formulation.decision_names
    place = {name: k for k, name in enumerate(names)}
    x = np.full(len(names), np.nan)
    for key, value in table.items():
        if str(key) not in place:
            raise DataError(f"there is no decision called {str(key)!r}; {known(str(key), names)}")
        number = float(value)
        if not np.isfinite(number):
            raise DataError(f"{key}: {value!r} is no value of a decision")
        x[place[str(key)]] = number
    return x


def plan_of_values(formulation: Formulation, problem: Problem, x: Floats) -> Plan:
    """Return values as a plan, for the first objective, without any claim to be the best or even possible."""
    outcome = Outcome("stopped", "user", x=x, activity=problem.activity(x), objective=problem.objective(x))
    return Plan(formulation, outcome, formulation.first_objective)


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
