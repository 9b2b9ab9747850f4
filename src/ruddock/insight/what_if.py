"""What if something changes: the changed model solved, and compared with the base."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from scipy.sparse import csc_matrix

from ruddock.document.content import Block, Figure
from ruddock.document.result import Result, records
from ruddock.engine.ranging import Ranging
from ruddock.errors import ModelError
from ruddock.modelling.answer.figures import bars_figure
from ruddock.modelling.changes import Change, parse_changes
from ruddock.modelling.lowering import lowered
from ruddock.modelling.options import SolveOptions, running
from ruddock.modelling.plan import Plan
from ruddock.modelling.solve import solve_formulation
from ruddock.problem import Floats, Problem

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.modelling.formulation import Formulation
    from ruddock.modelling.model import Model

MOVED = 1e-7  # relative: decisions that differ by less have not moved
MANY = 50  # changed limits or costs beyond which the 100 % rule is not worked out


@dataclass(frozen=True, eq=False, repr=False)
class WhatIf(Result):
    """A base plan and the plan after some changes.

    Attributes
    ----------
    changes : what was changed
    base, changed : Plan
    predicted : float or None
        The objective that the base plan's prices predict; None where they cannot (integers, no plan, limits
        switched off).
    share : float or None
        How much of their ranges the changes use up together: up to 1 the prediction is exact (the 100 % rule). None
        where limits and coefficients change together, or prices differ by direction.
    """

    changes: tuple[Change, ...]
    base: Plan
    changed: Plan
    predicted: float | None
    share: float | None

    undrawn = "no decision changes, or one of the two has no plan"

    def _title(self) -> str:
        return self.base.model_name

    def _blocks(self) -> Sequence[Block]:
        from ruddock.insight.what_if_words import what_if_blocks

        return what_if_blocks(self)

    def figure(self) -> Figure | None:
        """Return a figure of the decisions that change most."""
        from ruddock.insight.what_if_words import what_if_figure

        return (
            Figure(partial(what_if_figure, self), "Decisions that change most", 5.0)
            if self.both and len(self.decisions(moved=True))
            else None
        )

    @property
    def both(self) -> bool:
        """Whether both have a plan."""
        return self.base.found and self.changed.found

    @property
    def difference(self) -> float:
        """The change of the first objective as written; NaN if one of the two has no plan."""
        return self.changed.objective - self.base.objective if self.both else float("nan")

    def objectives(self) -> pd.DataFrame:
        """Return every objective: base, changed, difference, each against itself."""
        names = pd.Index([goal.name for goal in self.base.formulation.objectives], name="objective")
        base, changed = (
            plan.objectives()["value"] if plan.found else pd.Series(np.nan, names) for plan in (self.base, self.changed)
        )
        return _compared(base, changed, float("nan"))

    def table(self) -> pd.DataFrame:
        """Return the comparison of the objectives; see `objectives`."""
        return self.objectives()

    def breakdown(self) -> pd.DataFrame:
        """Return the first objective's parts: base, changed, difference."""
        return _compared(self.base.breakdown(), self.changed.breakdown())

    def quantities(self) -> pd.DataFrame:
        """Return the quantities, member by member: base, changed, difference."""
        base, changed = (_quantities(plan) for plan in (self.base, self.changed))
        return _compared(base, changed, float("nan")).rename_axis("quantity")

    def decisions(self, *, moved: bool = False) -> pd.DataFrame:
        """Return the decisions: base, changed, difference; NaN where a plan has no such decision.

        Parameters
        ----------
        moved : bool
            Only those that changed, those that changed most first.
        """
        base, changed = (
            pd.Series(plan.values, pd.Index(plan.formulation.decision_names, name="decision"))
            for plan in (self.base, self.changed)
        )
        frame = _compared(base, changed, float("nan"))
        if not moved:
            return frame
        here = frame.fillna(0.0)
        size = np.maximum(1.0, here[["base", "changed"]].abs().max(axis=1))
        frame = frame[(here["changed"] - here["base"]).abs() > MOVED * size]
        order = frame["difference"].abs().fillna(np.inf).sort_values(ascending=False, kind="stable").index
        return frame.reindex(order)

    def constraints(self) -> pd.DataFrame:
        """Return the constraints that both models have: slack in the base and changed, and whether each binds."""
        before, after = (plan.constraints()[["slack", "binding"]] for plan in (self.base, self.changed))
        shared = before.index.intersection(after.index, sort=False)
        return before.loc[shared].add_prefix("base_").join(after.loc[shared].add_prefix("changed_"))

    def binding(self) -> pd.DataFrame:
        """Return the constraints that began or ceased to bind: ``now`` says which."""
        frame = self.constraints()
        before, after = frame["base_binding"], frame["changed_binding"]
        differs = before != after
        return pd.DataFrame({"now": np.where(after[differs], "binds", "has slack")}, index=before.index[differs])

    def draw_bars(self, family: str, over: str | None = None, ax: Axes | None = None) -> Axes:
        """Draw a family of decisions in both plans: stacked bars side by side, with Matplotlib.

        Parameters
        ----------
        family : str
            A family of decisions.
        over : str, optional
            The axis along which the bars stand; the last one by default. The others are stacked.
        ax : matplotlib Axes, optional
            New ones by default.

        Raises
        ------
        ModelError, NoPlanError
            If the family or axis is not found, or one of the two has no plan.
        """
        return bars_figure([("base", self.base), ("changed", self.changed)], family, over, ax)

    def _facts(self) -> dict[str, Any]:
        return {
            "format": "ruddock-what-if/1",
            "model": self.base.model_name,
            "changes": [str(change) for change in self.changes],
            "base": {"status": self.base.status, "objective": self.base.objective if self.base.found else None},
            "changed": {
                "status": self.changed.status,
                "objective": self.changed.objective if self.changed.found else None,
            },
            "objectives": records(self.objectives()) if self.both else {},
            "predicted": self.predicted,
            "share": self.share,
            "breakdown": records(self.breakdown()) if self.both else {},
            "quantities": records(self.quantities()) if self.both else {},
            "moved": records(self.decisions(moved=True)) if self.both else {},
            "binding": self.binding()["now"].to_dict() if self.both else {},
        }


def _quantities(plan: Plan) -> pd.Series[float]:
    assert plan.outcome.x is not None
    return pd.Series(plan.formulation.quantity_values(plan.outcome.x), dtype=float)


def _compared(base: pd.Series[float], changed: pd.Series[float], absent: float = 0.0) -> pd.DataFrame:
    """Return two series next to each other, in the order of the base, with their difference."""
    index = base.index.append(changed.index.difference(base.index, sort=False))
    frame = pd.DataFrame({"base": base.reindex(index), "changed": changed.reindex(index)}).fillna(absent)
    frame["difference"] = frame["changed"] - frame["base"]
    frame.index.name = base.index.name
    return frame


def what_if(model: Model, changes: Any, given: Mapping[str, Any]) -> WhatIf:
    """Solve a model as it is and with changes; see `Model.what_if`."""
    options = SolveOptions.of(given)
    made = parse_changes(changes)
    formulation = model.changed(made)
    with running(options, model.formulation()) as clock:
        base = solve_formulation(model.formulation(), options, clock)
        base.model = model
        return _changed(made, formulation, base, options, clock)


def what_if_of(plan: Plan, changes: Any, given: Mapping[str, Any]) -> WhatIf:
    """Change the model of a plan and compare with that plan; see `Plan.what_if`.

    The plan is used as it is where it is one of the model as it is now; else the model is solved again.
    """
    model = plan.model
    if model is None:
        raise ModelError("this plan was not made by model.solve(); ask the model: model.what_if(...)")
    if not model.still_is(plan.formulation) or plan.status == "stopped" or any(not give.nothing for give in plan.gives):
        return what_if(model, changes, given)
    options = SolveOptions.of(given)
    made = parse_changes(changes)
    formulation = model.changed(made)
    with running(options, formulation) as clock:
        return _changed(made, formulation, plan, options, clock)


def _changed(made: list[Change], formulation: Formulation, base: Plan, options: SolveOptions, clock: Any) -> WhatIf:
    """Solve what was changed, from the base plan, and predict it from the base plan's prices."""
    if base.found and options.start is None:
        options = replace(options, start=base)
    changed = solve_formulation(formulation, options, clock)
    predicted = share = None
    if base.status == "optimal" and base.outcome.y is not None and len(formulation.objectives) == 1:
        new = lowered(formulation).problems[0]
        old = lowered(base.formulation).problems[0]
        if (new.m, new.n) == (old.m, old.n) and formulation.decision_names == base.formulation.decision_names:
            predicted, share = _prediction(base, old, new)
    return WhatIf(tuple(made), base, changed, predicted, share)


def _prediction(plan: Plan, old: Problem, new: Problem) -> tuple[float | None, float | None]:
    """Return what the plan's prices predict for a changed problem, and how much of their ranges is used."""
    if (old.m, old.n) != (new.m, new.n) or new.discrete or old.discrete:
        return None, None
    outcome = plan.outcome
    assert outcome.x is not None
    assert outcome.y is not None
    assert outcome.reduced is not None
    x, y, d = outcome.x, outcome.y, outcome.reduced
    with np.errstate(invalid="ignore"):  # limits that stay infinite
        limits = np.where(y > 0, new.row_lower - old.row_lower, new.row_upper - old.row_upper)
        bounds = np.where(d > 0, new.lower - old.lower, new.upper - old.upper)
        moves = np.where(y != 0, y * limits, 0.0), np.where(d != 0, d * bounds, 0.0)
    difference = csc_matrix(new.matrix() - old.matrix())
    value = outcome.objective + float(sum(part.sum() for part in moves)) + float((new.costs - old.costs) @ x)
    value += new.offset - old.offset - float(y @ (difference @ x))
    if not np.isfinite(value):
        return None, None
    sign = -1.0 if plan.sense == "maximize" else 1.0
    return sign * value + 0.0, _share(plan, old, new)


def _share(plan: Plan, old: Problem, new: Problem) -> float | None:
    """Return the part of their ranges that the changes use together, by the 100 % rule."""
    rows = _differing(old.row_lower, new.row_lower) | _differing(old.row_upper, new.row_upper)
    costs = _differing(old.costs, new.costs)
    same_bounds = not (_differing(old.lower, new.lower) | _differing(old.upper, new.upper)).any()
    same_matrix = csc_matrix(new.matrix() - old.matrix()).nnz == 0
    if not same_bounds or not same_matrix or (rows.any() and costs.any()) or max(rows.sum(), costs.sum()) > MANY:
        return None
    ranging = Ranging(old, plan.outcome)
    total = 0.0
    for j in np.flatnonzero(costs):
        change = float(new.costs[j] - old.costs[j])
        room, _ = ranging.room(int(j), float(np.sign(change)))
        total += abs(change) / room if room > 0 else np.inf
    assert plan.outcome.y is not None
    for i in np.flatnonzero(rows):
        both = old.row_lower[i] == old.row_upper[i]
        for side, before, after in (("lower", old.row_lower, new.row_lower), ("upper", old.row_upper, new.row_upper)):
            change = float(after[i] - before[i]) if np.isfinite(before[i]) and np.isfinite(after[i]) else 0.0
            if change == 0.0 or (both and side == "upper"):
                continue
            found = ranging.side(int(i), "both" if both else side, float(np.sign(change)))
            uses = plan.outcome.y[i] if both or (plan.outcome.y[i] > 0) == (side == "lower") else 0.0
            if abs(found.price - uses) > MOVED * max(1.0, abs(found.price)):
                return None
            total += abs(change) / found.reach if found.reach > 0 else np.inf
    return total if np.isfinite(total) else None


def _differing(old: Floats, new: Floats) -> np.ndarray:
    return old != new
