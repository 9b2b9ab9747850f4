"""`Plan`: the answer to a model, read by name."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.engine.outcome import FEASIBILITY, Counters, Outcome, Reason, Status
from ruddock.errors import ModelError, NoPlanError, known
from ruddock.modelling.data import labelled
from ruddock.modelling.decisions import Decisions
from ruddock.modelling.expression import Expression, Term
from ruddock.modelling.formulation import Constraints, Formulation, Objective
from ruddock.modelling.printed import Printed
from ruddock.problem import Floats

if TYPE_CHECKING:
    from pathlib import Path

    from matplotlib.axes import Axes

    from ruddock.insight.alternatives import Alternatives
    from ruddock.insight.sensitivity import Sensitivity
    from ruddock.modelling.model import Model
    from ruddock.tables import Table

ZERO = 1e-9  # decisions nearer to zero than this count as not used
SOLVE_AGAIN = {
    "time": "allow more time_limit",
    "nodes": "allow more nodes",
    "iterations": "allow more iterations",
    "user": "run it again and let it go on",
    "memory": "allow more memory",
    "numerics": "look for coefficients of very different size in model.describe()",
}


@dataclass(frozen=True, eq=False)
class Explanation(Printed):
    """One row of a model worked out: coefficient times value, summing to the total.

    Attributes
    ----------
    name : what is explained
    terms : DataFrame indexed by decision: coefficient, value, product
    constant : added to the products
    total : products and constant together
    unit : of the total
    """

    name: str
    terms: pd.DataFrame
    constant: float
    total: float
    unit: str | None

    def parts(self) -> list[str | Table]:
        """Return what is printed: a table of the terms."""
        from ruddock.reporting.text import explanation_table

        return [explanation_table(self)]


class Plan(Printed):
    """What solving a model gave.

    Attributes
    ----------
    status : ``optimal``, ``infeasible``, ``unbounded`` or ``stopped``
    reason : what stopped it: time, nodes, iterations, memory, user or numerics; else None
    model_name : the model's title
    effort : what the solve took: reductions, iterations, nodes, seconds by part; see `Counters`
    model : the model that was solved, where there is one; it may have changed since
    held : of objectives solved before the last, what ``costs x`` may come to at most, as the engine counts it
    """

    def __init__(
        self,
        formulation: Formulation,
        outcome: Outcome,
        solved_for: Objective | None,
        held: tuple[float, ...] = (),
    ) -> None:
        self.formulation, self.outcome, self._solved_for, self.held = formulation, outcome, solved_for, held
        self.model: Model | None = None
        self.status: Status = outcome.status
        self.reason: Reason | None = outcome.reason
        self.model_name = formulation.name
        self.effort: Counters = outcome.counters
        self._sign = -1.0 if solved_for is not None and solved_for.maximize else 1.0

    def __repr__(self) -> str:
        return f"plan of {self.model_name!r}: {self.status}" + (f", {self.reason}" if self.reason else "")

    def parts(self) -> list[str | Table]:
        """Return what is printed, as sentences and tables."""
        from ruddock.reporting.text import plan_parts

        return plan_parts(self)

    # ------------------------------------------------------------------ is there one

    @property
    def found(self) -> bool:
        """Whether there are values to read: a feasible plan, best or not."""
        return self.outcome.x is not None and self.status in ("optimal", "stopped")

    @property
    def values(self) -> Floats:
        """The values of all decisions in their order.

        Raises
        ------
        NoPlanError
            If there is no plan.
        """
        self._need_values()
        assert self.outcome.x is not None
        return self.outcome.x

    def _need_values(self) -> None:
        """Raise `NoPlanError` with the status and the next step if there is no plan."""
        if not self.found:
            if self.status == "infeasible":
                text = "no plan exists: the constraints contradict each other. Print the plan to see which ones do"
            elif self.status == "unbounded":
                text = (
                    "there is no best plan: the objective improves without end. Print the plan to see which "
                    "decisions grow, and limit them"
                )
            else:
                text = (
                    f"the solve stopped ({self.reason}) before it found a plan; "
                    f"{SOLVE_AGAIN.get(self.reason or '', 'solve again')}"
                )
            raise NoPlanError(f"{self.model_name}: {text}")

    # ------------------------------------------------------------------ objective

    @property
    def objective_name(self) -> str | None:
        """The name of the objective that was solved for last."""
        return self._solved_for.name if self._solved_for else None

    @property
    def sense(self) -> str:
        """``minimize`` or ``maximize``."""
        return "maximize" if self._sign < 0 else "minimize"

    @property
    def unit(self) -> str | None:
        """The objective's unit."""
        return self._solved_for.unit if self._solved_for else None

    @property
    def objective(self) -> float:
        """The objective's value, in the sense written.

        Raises
        ------
        NoPlanError
            If there is no plan.
        """
        self._need_values()
        return self._sign * self.outcome.objective + 0.0

    @property
    def bound(self) -> float:
        """The proven limit of the objective: no plan is better. Infinite when nothing is known."""
        return self._sign * self.outcome.bound

    @property
    def gap(self) -> float:
        """``|objective - bound| / max(1, |objective|)``."""
        return self.outcome.gap

    @property
    def history(self) -> pd.DataFrame:
        """How a search went: seconds, nodes, best objective and bound whenever a better plan was found; as written."""
        moments = self.outcome.history
        return pd.DataFrame(
            {
                "seconds": [m.seconds for m in moments],
                "nodes": [m.nodes for m in moments],
                "best": [self._sign * m.best for m in moments],
                "bound": [self._sign * m.bound for m in moments],
            }
        )

    def report(self, path: str | Path, *, question: str | None = None) -> None:
        """Write the plan as one document: question, model, answer, limits, ranges, findings, and how it was solved.

        Where there is no plan, it says why. The ending says the form: ``.html`` is one page that opens offline and
        prints well, ``.xlsx`` holds real numbers, ``.md`` is plain Markdown, ``.json`` is for programs.

        Parameters
        ----------
        path : str or Path
        question : str, optional
            What was asked, in a sentence or two; stands at the top.

        Raises
        ------
        FormatError
            If the ending is none of these, or the file cannot be written.
        """
        from ruddock.reporting.report import write_report

        write_report(self, path, question)

    def draw_bars(self, family: str, over: str | None = None, ax: Axes | None = None) -> Axes:
        """Draw a family of decisions as stacked bars along one of its axes, with Matplotlib.

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
            If there is no such family or axis, or no plan.
        """
        from ruddock.reporting.pictures import bars_figure

        return bars_figure([("", self)], family, over, ax)

    def draw_schedule(self, family: str, over: str | None = None, ax: Axes | None = None) -> Axes:
        """Draw when yes/no decisions are on: a line of blocks for each part, along an axis; with Matplotlib.

        Parameters and errors are those of `draw_bars`.
        """
        from ruddock.reporting.pictures import schedule_figure

        return schedule_figure(self, family, over, ax)

    def draw_history(self, ax: Axes | None = None) -> Axes:
        """Draw how the best plan and the bound of a search came together over time, with Matplotlib.

        Parameters
        ----------
        ax : matplotlib Axes, optional
            New ones by default.

        Raises
        ------
        ModelError
            If the solve was no search, or found no plan.
        """
        from ruddock.reporting.figures import history_figure

        return history_figure(self, ax)

    def breakdown(self) -> pd.Series[float]:
        """Return the objective by its named parts, or by decision family if it was written as one."""
        x = self.values
        objective = self._solved_for
        if objective is None:
            return pd.Series(dtype=float, name="value")
        parts: dict[str, float] = {}
        for name, part in objective.parts.items():
            if objective.single and not any(f.listed for f in self.formulation.decisions):
                for family in self.formulation.decisions:
                    own = (part.columns >= family.first) & (part.columns < family.first + len(family))
                    if own.any():
                        columns = self.formulation.column_of[part.columns[own]]
                        parts[family.name] = float(part.values[own] @ x[columns])
                if part.constants[0]:
                    parts["constant"] = float(part.constants[0])
            else:
                parts[name] = float(self.formulation.evaluate(part, x, name)[0])
        result = pd.Series(parts, name="value", dtype=float)
        result.index.name = "part"
        return result

    def objectives(self) -> pd.Series[float]:
        """Return the value of every objective of the model under this plan."""
        x = self.values
        values = {
            objective.name: sum(float(self.formulation.evaluate(p, x)[0]) for p in objective.parts.values())
            for objective in self.formulation.objectives
        }
        return pd.Series(values, name="value", dtype=float)

    # ------------------------------------------------------------------ values

    def _part(self, name: str) -> Expression:
        held: dict[str, Expression] = {family.name: family for family in self.formulation.decisions}
        held |= {quantity.name: quantity.expression for quantity in self.formulation.quantities}
        if name not in held:
            raise ModelError(f"the plan has no decisions or quantity called {name!r}; {known(name, held)}")
        return held[name]

    def __getitem__(self, what: Decisions | Expression | Term | str) -> Any:
        """Return the value of a family or expression: a number, or a Series indexed by label."""
        if isinstance(what, str):
            if any(family.listed for family in self.formulation.decisions):
                return self._listed(what)
            what = self._part(what)
        return self.value(what)

    def _listed(self, name: str) -> float:
        names = self.formulation.decision_names
        if name not in names:
            raise ModelError(f"the plan has no decision called {name!r}; {known(name, names)}")
        return float(self.values[names.index(name)])

    def value(self, expression: Expression | Term) -> Any:
        """Return the value of any expression of the model: a number, or a Series indexed by label."""
        x = self.values
        if isinstance(expression, Term):
            expression = expression.expression()
        values = self.formulation.evaluate(expression, x)
        if not expression.axes:
            return float(values[0])
        series = labelled(expression.cells, values)
        return series.rename(expression.name) if isinstance(expression, Decisions) else series

    def table(self, what: Decisions | Expression | str) -> pd.DataFrame:
        """Return values as a table: the last axis across, the others down. Absent combinations are NaN."""
        series = self[what]
        if not isinstance(series, pd.Series):
            return pd.DataFrame({"value": [series]})
        if series.index.nlevels == 1:
            return series.to_frame("value")
        levels = [axis.labels for axis in (self._part(what) if isinstance(what, str) else what).axes]
        wide = series.unstack(-1)
        wide = wide.reindex(columns=[label for label in levels[-1] if label in wide.columns])
        if series.index.nlevels == 2:
            wide = wide.reindex([label for label in levels[0] if label in wide.index])
        return wide

    def quantities(self) -> dict[str, Any]:
        """Return the value of every quantity: a number, or a Series indexed by label."""
        return {quantity.name: self.value(quantity.expression) for quantity in self.formulation.quantities}

    def decisions(self, *, nonzero: bool = False) -> pd.DataFrame:
        """Return all decisions, one row each, named like ``ship[Fell,Quay]``.

        Parameters
        ----------
        nonzero : bool
            Only those that are used.

        Returns
        -------
        DataFrame
            value, unit, kind, lower, upper, reduced_cost. The reduced cost is the change of the
            objective as written per unit more of the decision; NaN for models with integer decisions.
        """
        x = self.values
        families = self.formulation.decisions
        reduced = self.outcome.reduced
        frame = pd.DataFrame(
            {
                "value": x + 0.0,
                "unit": _spread([family.unit for family in families], families),
                "kind": np.concatenate([_kinds(family) for family in families]) if families else [],
                "lower": np.concatenate([family.lower for family in families]) if families else [],
                "upper": np.concatenate([family.upper for family in families]) if families else [],
                "reduced_cost": np.full(len(x), np.nan) if reduced is None else self._sign * reduced + 0.0,
            },
            index=pd.Index(self.formulation.decision_names, name="decision"),
        )
        return frame[np.abs(x) > ZERO] if nonzero else frame

    def constraints(self, *, binding: bool = False) -> pd.DataFrame:
        """Return all constraints, one row each, named like ``supply[Fell]``.

        Parameters
        ----------
        binding : bool
            Only those that bind.

        Returns
        -------
        DataFrame
            activity, relation, limit, slack, binding, shadow_price, unit. The limit is the one nearer
            to the activity, and of a range the one its price belongs to; the relation says which.
            Slack is the distance to it, negative when violated. The shadow price is the change of
            the objective as written per unit more of the limit; NaN for models with integer decisions.
        """
        self._need_values()
        assert self.outcome.activity is not None
        families = self.formulation.constraints
        activity = self.outcome.activity
        lower = np.concatenate([family.lower for family in families]) if families else np.zeros(0)
        upper = np.concatenate([family.upper for family in families]) if families else np.zeros(0)
        y = self.outcome.y
        below, above = activity - lower, upper - activity
        at_lower = below < above
        if y is not None:
            at_lower = np.where(np.isfinite(lower) & np.isfinite(upper) & (y != 0), y > 0, at_lower)
        limit = np.where(at_lower, lower, upper)
        slack = np.minimum(below, above)
        relation = np.where(lower == upper, "==", np.where(at_lower, ">=", "<="))
        free = np.isinf(lower) & np.isinf(upper)
        tolerance = FEASIBILITY * np.maximum(1.0, np.abs(np.where(free, 0.0, limit)))
        slack = np.where(np.abs(slack) <= np.where(free, 0, 1e-9 * np.maximum(1.0, np.abs(limit))), 0.0, slack)
        frame = pd.DataFrame(
            {
                "activity": activity + 0.0,
                "relation": np.where(free, "free", relation),
                "limit": limit,
                "slack": slack,
                "binding": (slack <= tolerance) & ~free,
                "shadow_price": np.full(len(activity), np.nan) if y is None else self._sign * y + 0.0,
                "unit": _spread([family.unit for family in families], families),
            },
            index=pd.Index(self.formulation.constraint_names, name="constraint"),
        )
        return frame[frame["binding"]] if binding else frame

    # ------------------------------------------------------------------ sensitivity

    def sensitivity(self, names: Iterable[str] | None = None, *, by: float | None = None) -> Sensitivity:
        """Return what limits are worth and for how far, and how far coefficients may move.

        With whole-number decisions, these are held at their values, and the answer says so.

        Parameters
        ----------
        names : iterable of str, optional
            Constraints and decisions to work out, families or members; all by default.
        by : float, optional
            Solve again with each limit that binds this much higher and lower, nothing held: what the step is
            truly worth.

        Raises
        ------
        NoPlanError
            If there is no best plan.
        ModelError
            If a name is unknown, or there are too many to work out unnamed.
        """
        from ruddock.insight.sensitivity import sensitivity

        return sensitivity(self, names, by)

    def alternatives(self, most: int = 3) -> Alternatives:
        """Return other plans: of a linear model equally good ones, of a whole-number model the next best.

        Parameters
        ----------
        most : int
            How many to look for. Next best plans differ in a whole-number decision.

        Raises
        ------
        NoPlanError
            If there is no best plan.
        ModelError
            If whole-number decisions without bounds leave the next best plans unknown.
        """
        from ruddock.insight.alternatives import alternatives
        from ruddock.insight.sensitivity import solved_problem

        return alternatives(self, most, solved_problem(self))

    # ------------------------------------------------------------------ explanations

    def explain(self, name: str) -> Explanation:
        """Work out one constraint, objective, objective part or quantity, term by term.

        Parameters
        ----------
        name : str
            A single one by its name, a member of a family as ``supply[Fell]``.

        Raises
        ------
        ModelError
            If there is nothing of that name, or it is a whole family.
        """
        x = self.values
        expression, row, unit = self._find(name)
        own = np.flatnonzero(expression.rows == row)
        columns = self.formulation.columns_for(expression.columns[own], name)
        sums = np.bincount(columns, expression.values[own], len(x))
        used = np.unique(columns)
        constant = float(expression.constants[row])
        terms = pd.DataFrame(
            {"coefficient": sums[used], "value": x[used] + 0.0, "product": sums[used] * x[used] + 0.0},
            index=pd.Index([self.formulation.decision_names[j] for j in used], name="decision"),
        )
        return Explanation(name, terms, constant, float(terms["product"].sum()) + constant, unit)

    def _find(self, name: str) -> tuple[Expression, int, str | None]:
        """Return the expression, its row and the unit that a name stands for."""
        for family in self.formulation.constraints:
            if family.name == name or family.listed or name.startswith(family.name + "["):
                bare = _without_constants(family)
                if not family.cells.axes:
                    return bare, 0, family.unit
                return bare, _member(name, family.members(), family.name), family.unit
        for quantity in self.formulation.quantities:
            if quantity.name == name or name.startswith(quantity.name + "["):
                return quantity.expression, _member(name, quantity.members(), quantity.name), quantity.unit
        for objective in self.formulation.objectives:
            if objective.name == name:
                parts = list(objective.parts.values())
                summed = parts[0]
                for part in parts[1:]:
                    summed = summed + part
                return summed, 0, objective.unit
            if name in objective.parts:
                return objective.parts[name], 0, objective.unit
        names = [family.name for family in self.formulation.constraints]
        names += [quantity.name for quantity in self.formulation.quantities]
        names += [part for objective in self.formulation.objectives for part in (objective.name, *objective.parts)]
        raise ModelError(f"there is no constraint, objective part or quantity called {name!r}; {known(name, names)}")


def _member(name: str, members: list[str], family: str) -> int:
    if name in members:
        return members.index(name)
    if name == family and len(members) != 1:
        raise ModelError(
            f"{name!r} is a family of {len(members):,}; name one member, such as {members[0]!r}"
            if members
            else f"the family {name!r} has no members"
        )
    raise ModelError(f"{family} has no member {name!r}; {known(name, members)}")


def _without_constants(family: Constraints) -> Expression:
    expr = family.expression
    return Expression(expr.model, expr.cells, (expr.rows, expr.columns, expr.values))


def _kinds(family: Decisions) -> np.ndarray:
    """Return the kind of each member, in words."""
    if not family.listed and len(np.unique(family.marks)) < 2:
        return np.full(len(family), family.kind, dtype=object)
    words = np.array(["continuous", "integer", "semicontinuous", "semicontinuous integer"], dtype=object)
    return words[family.marks]


def _spread(values: list[str | None], families: tuple[Any, ...]) -> list[str]:
    return [value or "" for value, family in zip(values, families, strict=True) for _ in range(family.cells.size)]
