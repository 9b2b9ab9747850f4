"""What if something changes: the changed model solved, and set beside the base."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd
from scipy.sparse import csc_matrix

from ruddock.engine.ranging import Ranging
from ruddock.insight.apply import changed_formulation
from ruddock.modelling.changes import Change, parse_changes
from ruddock.modelling.plan import Plan
from ruddock.modelling.printed import Printed
from ruddock.modelling.solve import solve_model
from ruddock.problem import Floats, Problem
from ruddock.tables import Table

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.modelling.model import Model

MOVED = 1e-7  # relative: decisions that differ by less have not moved
MANY = 50  # changed limits or costs beyond which the 100 % rule is not worked out


@dataclass(frozen=True, eq=False)
class WhatIf(Printed):
    """A base plan and the plan after some changes.

    Attributes
    ----------
    changes : what was changed
    base, changed : Plan
    predicted : float or None
        The objective that the base plan's prices predict; None where they cannot (whole numbers, no plan, limits
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

    def parts(self) -> list[str | Table]:
        """Return what is printed, as sentences and tables."""
        from ruddock.reporting.what_if import what_if_parts

        return what_if_parts(self)

    @property
    def difference(self) -> float:
        """The change of the objective as written; NaN if one of the two has no plan."""
        if not (self.base.found and self.changed.found):
            return float("nan")
        return self.changed.objective - self.base.objective

    def breakdown(self) -> pd.DataFrame:
        """Return the objective's parts: base, changed, difference."""
        return _beside(self.base.breakdown(), self.changed.breakdown())

    def quantities(self) -> pd.DataFrame:
        """Return the quantities, member by member: base, changed, difference."""
        base, changed = (plan.formulation.quantity_values(plan.values) for plan in (self.base, self.changed))
        return _beside(pd.Series(base, dtype=float), pd.Series(changed, dtype=float)).rename_axis("quantity")

    def moved(self) -> pd.DataFrame:
        """Return the decisions that moved: base, changed, difference; most first."""
        formulation = self.base.formulation
        index = pd.Index(formulation.decision_names, name="decision")
        frame = _beside(pd.Series(self.base.values, index), pd.Series(self.changed.values, index))
        frame = frame[formulation.written_columns]
        size = np.maximum(1.0, frame[["base", "changed"]].abs().max(axis=1))
        frame = frame[frame["difference"].abs() > MOVED * size]
        return frame.reindex(frame["difference"].abs().sort_values(ascending=False, kind="stable").index)

    def binding(self) -> pd.DataFrame:
        """Return the limits that began or ceased to bind: ``now`` says which."""
        before, after = (plan.constraints()["binding"] for plan in (self.base, self.changed))
        differs = (before != after) & self.base.formulation.written_rows
        return pd.DataFrame({"now": np.where(after[differs], "binds", "has slack")}, index=before.index[differs])

    def draw(self, family: str, over: str | None = None, ax: Axes | None = None) -> Axes:
        """Draw a family of decisions as it is and changed: stacked bars side by side, with Matplotlib.

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
            If there is no such family or axis, or one of the two has no plan.
        """
        from ruddock.reporting.pictures import bars_figure

        return bars_figure([("as it is", self.base), ("changed", self.changed)], family, over, ax)

    def as_dict(self) -> dict[str, Any]:
        """Return plain data for JSON."""
        both = self.base.found and self.changed.found
        return {
            "format": "ruddock-what-if/1",
            "changes": [str(change) for change in self.changes],
            "base": {"status": self.base.status, "objective": self.base.objective if self.base.found else None},
            "changed": {
                "status": self.changed.status,
                "objective": self.changed.objective if self.changed.found else None,
            },
            "predicted": self.predicted,
            "share": self.share,
            "breakdown": self.breakdown().to_dict("index") if both else {},
            "quantities": self.quantities().to_dict("index") if both else {},
            "moved": self.moved().to_dict("index") if both else {},
            "binding": self.binding()["now"].to_dict() if both else {},
        }


def _beside(base: pd.Series[float], changed: pd.Series[float]) -> pd.DataFrame:
    frame = pd.DataFrame({"base": base, "changed": changed}).fillna(0.0)
    frame["difference"] = frame["changed"] - frame["base"]
    return frame


def what_if(model: Model, changes: Mapping[str, float | str] | Iterable[str], **solve: Any) -> WhatIf:
    """Solve a model as it is and with changes; see `Model.what_if`."""
    made = parse_changes(changes)
    formulation = changed_formulation(model, made)
    base = model.solve(**solve)
    if base.found:
        solve.setdefault("start", base)
    changed = solve_model(formulation, **solve)
    predicted = share = None
    if base.status == "optimal" and base.outcome.y is not None and len(base.formulation.objectives) == 1:
        predicted, share = _prediction(base, formulation.problem(formulation.objectives[0]))
    return WhatIf(tuple(made), base, changed, predicted, share)


def _prediction(plan: Plan, new: Problem) -> tuple[float | None, float | None]:
    """Return what the plan's prices predict for a changed problem, and how much of their ranges is used."""
    old = plan.formulation.problem(plan.formulation.objectives[0])
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
