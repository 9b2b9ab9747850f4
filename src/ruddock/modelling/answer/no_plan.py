"""What is known where there is no plan to show: crossed limits, the proof, the way that never ends."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np

from ruddock.document.content import Block, Cell, Number, Sentence, Table
from ruddock.errors import listed
from ruddock.modelling.lowering import lowered
from ruddock.modelling.written import limit_of

if TYPE_CHECKING:
    from ruddock.modelling.plan import Plan


def no_plan(plan: Plan) -> list[Block]:
    """Return what is known of an infeasible or unbounded model."""
    outcome, formulation = plan.outcome, plan.formulation
    whole = lowered(formulation)
    crossed = [whole.column_name(j) for j in outcome.crossed_columns]
    crossed += [whole.row_name(i) for i in outcome.crossed_rows]
    if crossed:
        names = listed(list(dict.fromkeys(crossed)))
        return [Sentence(f"The lower limit is above the upper limit for {names}. Correct one of the two.")]
    if outcome.proof is not None:
        return [_proof(plan)]
    if plan.status == "infeasible":
        return [Sentence("The relaxation may have plans; the integer decisions and rules leave none.")]
    if outcome.ray is not None:
        moving = np.flatnonzero(outcome.ray)
        rows = [(whole.column_name(j), Number(float(outcome.ray[j]), signed=True)) for j in moving.tolist()]
        note = "Repeating this step meets every constraint and always improves the objective: a limit is missing."
        return [Table("Decisions that change together without limit", ["decision", "step"], rows, note=note)]
    return []


def _proof(plan: Plan) -> Table:
    """Return the constraints whose weighted sum contradicts the bounds."""
    proof = plan.outcome.proof
    assert proof is not None
    whole = lowered(plan.formulation)
    used = np.flatnonzero(proof)
    order = used[np.argsort(-np.abs(proof[used]), kind="stable")].tolist()
    rows = [(whole.row_name(i), *_side(plan, i), Number(abs(float(proof[i])))) for i in order]
    note = (
        "Added up with these weights, the limits contradict the bounds of the decisions: at least one of them must be "
        "relaxed."
    )
    return Table("Constraints that cannot all hold", ["constraint", "", "limit", "weight"], rows, note=note)


def _side(plan: Plan, row: int) -> tuple[Cell, Cell]:
    """Return the limit of a constraint that its weight in the proof uses."""
    assert plan.outcome.proof is not None
    if row >= plan.formulation.rows:
        return "rule", ""
    relation, value = limit_of(plan.formulation, row, upper=not plan.outcome.proof[row] > 0)
    family, _ = plan.formulation.constraint_at(row)
    return relation, "its right side" if np.isnan(value) else Number(value, family.unit)
