"""One row of a model worked out term by term: coefficient times value, summing to the total."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.document.content import Block, LazyRows, Number, Row, Sentence, Table
from ruddock.document.numbers import DUST, amount, with_unit
from ruddock.document.result import Result
from ruddock.modelling.names import What, names_of
from ruddock.modelling.terms import Terms

if TYPE_CHECKING:
    from ruddock.modelling.plan import Plan

EXPLAINED: tuple[What, ...] = ("constraints", "quantities", "objectives", "parts")
SMALL = 24  # terms up to which those that come to 0 are shown as well


@dataclass(frozen=True, eq=False, repr=False)
class Explanation(Result):
    """One row of a model worked out: coefficient times value, summing to the total.

    Attributes
    ----------
    model : the model's title
    name : what is explained
    terms : DataFrame indexed by decision: coefficient, value, product
    constant : added to the products
    total : products and constant together
    unit : of the total
    relation, right, slack : of a constraint: how its left side, worked out here, compares with its right side
    """

    model: str
    name: str
    terms: pd.DataFrame
    constant: float
    total: float
    unit: str | None
    relation: str | None = None
    right: Explanation | None = None
    slack: float | None = None

    def _title(self) -> str:
        return self.name

    def _blocks(self) -> Sequence[Block]:
        if self.right is None:
            return [Sentence(f"{self.name}: {amount(self.total, self.unit)}.", verdict=True), _terms(self.name, self)]
        left, right = amount(self.total, self.unit), amount(self.right.total, self.unit)
        verdict = f"{self.name}: {left} {self.relation} {right}, {self._state()}."
        tables = [_terms("Left side", self)]
        tables += [_terms("Right side", self.right)] if len(self.right.terms) else []
        return [Sentence(verdict, verdict=True), *tables]

    def _state(self) -> str:
        assert self.right is not None
        slack = self.slack or 0.0
        if abs(slack) <= 1e-7 * max(1.0, abs(self.right.total)):
            return "binding"
        return f"slack {amount(slack, self.unit)}" if slack > 0 else f"violated by {amount(-slack, self.unit)}"

    def table(self) -> pd.DataFrame:
        """Return the terms of the left side; see `terms`."""
        return self.terms.copy()

    def _facts(self) -> dict[str, Any]:
        return {
            "format": "ruddock-explanation/1",
            "model": self.model,
            "name": self.name,
            **self._side(),
            "relation": self.relation,
            "right": None if self.right is None else self.right._side(),
            "slack": self.slack,
        }

    def _side(self) -> dict[str, Any]:
        terms = self.terms.reset_index().to_dict("records")
        return {"unit": self.unit, "terms": terms, "constant": self.constant, "total": self.total}


def _terms(title: str, side: Explanation) -> Table:
    """Return the terms of a side; of many only those that come to something."""
    products = side.terms["product"].to_numpy(float)
    shown = np.arange(len(products)) if len(products) <= SMALL else np.flatnonzero(np.abs(products) > DUST)
    values = side.terms.to_numpy(float)

    def row(k: int) -> Row:
        if k >= len(shown):
            words = "constant" if side.constant and k == len(shown) else "total"
            value = side.constant if words == "constant" else side.total
            return words, "", "", Number(value)
        return str(side.terms.index[shown[k]]), *map(Number, values[shown[k]].tolist())

    zero = len(products) - len(shown)
    note = f"{zero:,} more {'term comes' if zero == 1 else 'terms come'} to 0." if zero else ""
    count = len(shown) + bool(side.constant) + 1
    heads = ["decision", "coefficient", "value", with_unit("product", side.unit)]
    return Table(title, heads, LazyRows(count, row), note=note, total=True)


def explain(plan: Plan, name: str) -> Explanation:
    """Work out one constraint, objective, objective part or quantity; see `Plan.explain`."""
    found = names_of(plan.formulation).need(name, EXPLAINED)
    part = found.part
    if found.what == "constraints":
        return _constraint(plan, name, part, found.single)
    if found.what == "quantities":
        return _worked_out(plan, name, part.terms, found.single, part.unit)
    if found.what == "parts":
        return _worked_out(plan, name, part.parts[found.piece], 0, part.unit)
    parts = list(part.parts.values())
    summed = parts[0]
    for more in parts[1:]:
        summed = summed.plus(more)
    return _worked_out(plan, name, summed, 0, part.unit)


def _constraint(plan: Plan, name: str, part: Any, at: int) -> Explanation:
    """Work out both sides of a constraint."""
    sides = part.sides
    left = _worked_out(plan, name, sides.left, at, part.unit)
    row = plan.constraints().iloc[plan.formulation.row_starts[part.name] + at]
    if row["relation"] == "free":
        return left
    if sides.right is None:
        limit = float(row["right"])
        right = Explanation(plan.model_name, name, left.terms.iloc[:0], limit, limit, part.unit)
    else:
        right = _worked_out(plan, name, sides.right, at, part.unit)
    return replace(left, relation=str(row["relation"]), right=right, slack=float(row["slack"]))


def _worked_out(plan: Plan, name: str, terms: Terms, row: int, unit: str | None) -> Explanation:
    """Work out one row of an expression."""
    x = plan.outcome.x
    assert x is not None
    own = np.flatnonzero(terms.rows == row)
    columns = plan.formulation.columns_for(terms.columns[own], name)
    sums = np.bincount(columns, terms.values[own], len(x))
    used = np.unique(columns)
    constant = float(terms.constants[row])
    names = plan.formulation.column_names
    frame = pd.DataFrame(
        {"coefficient": sums[used], "value": x[used] + 0.0, "product": sums[used] * x[used] + 0.0},
        index=pd.Index([names[j] for j in used], name="decision"),
    )
    return Explanation(plan.model_name, name, frame, constant, float(frame["product"].sum()) + constant, unit)
