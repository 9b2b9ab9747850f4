"""`Plan`: the answer to a model, read by name."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import replace
from functools import cached_property
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.document.content import Document, Figure
from ruddock.document.numbers import DUST
from ruddock.document.result import Result
from ruddock.engine.in_order import Give, Stage
from ruddock.engine.outcome import Outcome, Reason, Status
from ruddock.errors import ModelError, NoPlanError
from ruddock.modelling.alignment import labelled
from ruddock.modelling.answer.document import plan_document
from ruddock.modelling.answer.effort import Effort
from ruddock.modelling.answer.figures import bars_figure, figure_of, history_figure, schedule_figure
from ruddock.modelling.answer.json_form import plan_json
from ruddock.modelling.answer.parts import parts_of
from ruddock.modelling.answer.verdict import headline
from ruddock.modelling.decisions import Decisions
from ruddock.modelling.explanation import Explanation, explain
from ruddock.modelling.expression import Expression, check_registry, terms_of
from ruddock.modelling.formulation import Formulation, Objective
from ruddock.modelling.frames import (
    constraints_frame,
    decisions_frame,
    history_frame,
    objectives_frame,
    quantities_frame,
    two_way,
)
from ruddock.modelling.names import Named, names_of
from ruddock.modelling.series import Axes, FloatSeries
from ruddock.modelling.terms import Terms
from ruddock.problem import Floats

if TYPE_CHECKING:
    from ruddock.insight.alternatives import Alternatives
    from ruddock.insight.sensitivity import Sensitivity
    from ruddock.insight.what_if import WhatIf
    from ruddock.modelling.model import Model
else:  # answers of layers above, which are imported when they are asked for
    Alternatives = Sensitivity = WhatIf = Model = Any

SOLVE_AGAIN = {
    "time": "allow more time_limit",
    "nodes": "allow more nodes",
    "iterations": "allow more iterations",
    "user": "run it again and let it go on",
    "memory": "allow more memory",
    "accuracy": "solve by another method",
    "numerics": "look for coefficients of very different size in model.describe()",
}


class Plan(Result):
    """What solving a model gave.

    Attributes
    ----------
    status : ``optimal``, ``infeasible``, ``unbounded`` or ``stopped``
    reason : what stopped it: time, nodes, iterations, memory, user or numerics; else None
    model_name : the model's title
    effort : what the solve took: reductions, iterations, nodes, seconds by part
    model : the model that was solved, where there is one; it may have changed since
    stages : of each objective solved for, what it came to, in the engine's sense
    """

    def __init__(
        self, formulation: Formulation, outcome: Outcome, stages: tuple[Stage, ...], gives: tuple[Give, ...] = ()
    ) -> None:
        if outcome.x is not None:
            outcome = replace(outcome, x=outcome.x + 0.0)  # no -0
        self.formulation, self.outcome, self.stages, self.gives = formulation, outcome, stages, gives
        self.model: Model | None = None
        self.status: Status = outcome.status
        self.reason: Reason | None = outcome.reason
        self.model_name = formulation.name
        self.effort = Effort.of(outcome.counters, formulation.name)
        for part in (outcome.x, outcome.activity, outcome.y, outcome.reduced):
            if part is not None:
                part.flags.writeable = False

    def __repr__(self) -> str:
        return f"<Plan: {headline(self)}>"

    undrawn = "no family runs along an axis that a figure would show; draw_bars and draw_schedule draw one by name"

    def _title(self) -> str:
        return self.model_name

    def document(
        self,
        *,
        all: bool = False,
        nonzero: bool = False,
        family: str | Iterable[str] = (),
    ) -> Document:
        """Return what this plan says; printed, it is text.

        By default that is the verdict, what to do by family, what limits it, and what to ask next.

        Parameters
        ----------
        all : bool
            Every decision and every constraint, one by one, with both sides, slack and prices.
        nonzero : bool
            The same, with only those decisions that are not 0.
        family : str or iterable of str
            Only these: decisions, constraints or quantities by name, in full.

        Raises
        ------
        ModelError
            If nothing has such a name.
        """
        families = (family,) if isinstance(family, str) else tuple(family)
        return plan_document(self, everything=all, nonzero=nonzero, families=families)

    def figure(self) -> Figure | None:
        """Return the figure that says most about this plan: bars or a schedule along an axis."""
        return figure_of(self)

    def _facts(self) -> dict[str, Any]:
        return plan_json(self)

    # ------------------------------------------------------------------ is there one

    @property
    def found(self) -> bool:
        """Whether there are values to read: a feasible plan, best or not."""
        return self.outcome.x is not None and self.status in ("optimal", "stopped")

    @property
    def values(self) -> Floats:
        """The values of all decisions in their order; read-only.

        Raises
        ------
        NoPlanError
            If there is no plan.
        """
        self._need_values()
        assert self.outcome.x is not None
        return self.outcome.x[: self.formulation.size]

    def _need_values(self) -> None:
        """Raise `NoPlanError` with the status and the next step if there is no plan."""
        if not self.found:
            if self.status == "infeasible":
                text = "infeasible: no plan meets all constraints and bounds. Print the plan to see which of them clash"
            elif self.status == "unbounded":
                text = (
                    "unbounded: the objective improves without limit. Print the plan to see which decisions grow, and "
                    "limit them"
                )
            else:
                text = (
                    f"the solve stopped ({self.reason}) before it found a plan; "
                    f"{SOLVE_AGAIN.get(self.reason or '', 'solve again')}"
                )
            raise NoPlanError(f"{self.model_name}: {text}")

    # ------------------------------------------------------------------ objective

    @property
    def goal(self) -> Objective | None:
        """The first objective, which leads everywhere; see `objectives` for the others."""
        return self.formulation.first_objective

    @property
    def sign(self) -> float:
        """What turns the engine's values of the first objective into those as written."""
        return self.goal.sign if self.goal else 1.0

    @property
    def objective_name(self) -> str | None:
        """The name of the first objective."""
        return self.goal.name if self.goal else None

    @property
    def sense(self) -> str:
        """``minimize`` or ``maximize``."""
        return self.goal.sense if self.goal else "minimize"

    @property
    def unit(self) -> str | None:
        """The unit of the first objective."""
        return self.goal.unit if self.goal else None

    @property
    def objective(self) -> float:
        """The value of the first objective, as written.

        Raises
        ------
        NoPlanError
            If there is no plan.
        """
        self._need_values()
        return self.sign * self.outcome.objective + 0.0

    @property
    def bound(self) -> float:
        """The proven limit of the first objective: no plan is better. Infinite when nothing is known."""
        return self.sign * (self.stages[0].bound if self.stages else self.outcome.bound)

    @property
    def gap(self) -> float:
        """``|objective - bound| / max(1, |objective|)`` of the first objective."""
        if self.outcome.x is None or not np.isfinite(self.bound):
            return float("inf")
        return abs(self.objective - self.bound) / max(1.0, abs(self.objective))

    def objectives(self) -> pd.DataFrame:
        """Return every objective in its order.

        Returns
        -------
        DataFrame by objective
            sense, value under this plan, bound (with the ones before held; NaN where nothing is known), unit, and
            whether the value is proven the best with the ones before held.
        """
        self._need_values()
        return objectives_frame(self)

    @property
    def history(self) -> pd.DataFrame:
        """How a search went: seconds, nodes, best objective and bound whenever a better plan was found; as written."""
        return history_frame(self)

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
            If the family or axis is not found, or there is no plan.
        """
        return bars_figure([("", self)], family, over, ax)

    def draw_schedule(self, family: str, over: str | None = None, ax: Axes | None = None) -> Axes:
        """Draw when binary decisions are on: a line of blocks for each part, along an axis; with Matplotlib.

        Parameters and errors are those of `draw_bars`.
        """
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
            If the solve was not a search, or found no plan.
        """
        return history_figure(self, ax)

    def breakdown(self, objective: str | None = None) -> FloatSeries:
        """Return an objective by its named parts, or by decision family if it was written as one.

        Parameters
        ----------
        objective : str, optional
            The first one by default.
        """
        self._need_values()
        x = self.outcome.x  # with the values of curves
        assert x is not None
        goal = self.goal if objective is None else self._goal(objective)
        parts = {} if goal is None else parts_of(goal, self.formulation, x)
        result = pd.Series(parts, name="value", dtype=float)
        result.index.name = "part"
        return result

    def _goal(self, name: str) -> Objective:
        found = names_of(self.formulation).need(name, ("objectives",))
        goal: Objective = found.part
        return goal

    # ------------------------------------------------------------------ values

    def __getitem__(self, what: Decisions | Expression | str) -> Any:
        """Return the value of a family, an expression, or whatever a name means: a number, or a Series by label."""
        if not isinstance(what, str):
            return self.value(what)
        self._need_values()
        names = names_of(self.formulation)
        found = names.need(what, ("decisions", "quantities", "constraints", "objectives", "parts"))
        series = self._named(found)
        if found.whole:
            return series
        return float(series.iloc[int(found.members[0])] if isinstance(series, pd.Series) else series)

    def _named(self, found: Named) -> Any:
        """Return the values of what a name means."""
        part = found.part
        if found.what == "decisions":
            return self.value(part)
        if found.what == "quantities":
            return self._of(part.terms)
        if found.what == "constraints":
            return self._of(part.sides.left)
        goal: Objective = part
        chosen = [goal.parts[found.piece]] if found.what == "parts" else list(goal.parts.values())
        return sum(float(self._of(terms)) for terms in chosen)

    def value(self, expression: Expression) -> Any:
        """Return the value of any expression of the model: a number, or a Series indexed by label.

        Raises
        ------
        ModelError
            If it is of another model, or uses decisions that were declared after the solve.
        NoPlanError
            If there is no plan.
        """
        if not isinstance(expression, Expression):
            raise ModelError(
                f"a plan is asked for decisions, an expression of them, or a name, not {type(expression).__name__}"
            )
        terms = terms_of(expression)
        check_registry(self.formulation.registry, terms)
        values = self._of(terms)
        return values.rename(expression.name) if isinstance(expression, Decisions) and terms.cells.axes else values

    def _of(self, terms: Terms) -> Any:
        self._need_values()
        assert self.outcome.x is not None
        values = self.formulation.evaluate(terms, self.outcome.x) + 0.0
        return labelled(terms.cells, values) if terms.cells.axes else float(values[0])

    def table(self, what: Decisions | Expression | str | None = None) -> pd.DataFrame:
        """Return values as a table: the last axis across, the others down. Absent combinations are NaN.

        Parameters
        ----------
        what : family of decisions, expression, or name
            Without it, the objectives: see `objectives`.
        """
        if what is None:
            return self.objectives()
        series = self[what]
        if not isinstance(series, pd.Series):
            return pd.DataFrame({"value": [series]})
        if series.index.nlevels == 1:
            return series.to_frame("value")
        if isinstance(what, str):
            part = names_of(self.formulation).need(what).part
            axes = part.cells.axes
        else:
            axes = what.axes
        return two_way(series, axes)

    def quantities(self) -> pd.DataFrame:
        """Return every quantity and every value of a curve, one row each, named like ``sent[Fell]``: value, unit."""
        self._need_values()
        return quantities_frame(self)

    def decisions(self, *, nonzero: bool = False) -> pd.DataFrame:
        """Return all decisions, one row each, named like ``ship[Fell,Quay]``.

        Parameters
        ----------
        nonzero : bool
            Only those that are used.

        Returns
        -------
        DataFrame
            value, unit, kind, lower, upper, reduced_cost. The reduced cost is the change of the first
            objective as written per unit more of the decision, of one basis where the plan is degenerate; NaN for
            models with integer decisions.
        """
        self._need_values()
        frame = decisions_frame(self)
        return frame[frame["value"].abs() > DUST] if nonzero else frame

    def constraints(self, *, binding: bool = False) -> pd.DataFrame:
        """Return all constraints, one row each, named like ``supply[Fell]``.

        Parameters
        ----------
        binding : bool
            Only those that bind.

        Returns
        -------
        DataFrame
            left, relation, right, slack, binding, shadow_price, unit. Left and right are the values of both sides as
            written; of a range the right one is its nearer limit, or the one that its price belongs to. Slack is the
            distance between the sides, negative when the constraint is violated. The shadow price is the change of
            the first objective as written per unit more of the right side (of the limit, where the left side is one),
            of one basis where the plan is degenerate: `sensitivity` has both directions. NaN for models with integer
            decisions.
        """
        self._need_values()
        frame = self._constraints
        return frame[frame["binding"]] if binding else frame.copy()

    @cached_property
    def _constraints(self) -> pd.DataFrame:
        return constraints_frame(self)

    # ------------------------------------------------------------------ sensitivity

    def sensitivity(
        self, names: Iterable[str] | None = None, *, by: float | None = None, time_limit: float | None = None
    ) -> Sensitivity:
        """Return what limits are worth and for how far, and how far coefficients may move, for the first objective.

        With integer decisions, the answer leads with what a step of each limit is truly worth, solved again; prices
        and ranges are those with the integer decisions held at their values, and say so.

        Parameters
        ----------
        names : iterable of str, optional
            Constraints and decisions to work out, families or members; all by default.
        by : float, optional
            Solve again with each limit this much higher and lower, nothing held: what the step is truly worth.
        time_limit : float, optional
            Seconds for the steps that are solved again; 20 by default, and no limit for those of limits named. Steps
            left over then are said to be not known.

        Raises
        ------
        NoPlanError
            If there is no best plan.
        ModelError
            If a name is unknown, or there are too many to work out unnamed.
        """
        from ruddock.insight.sensitivity import sensitivity

        return sensitivity(self, names, by, time_limit)

    def what_if(self, changes: Any, **options: Any) -> WhatIf:
        """Solve the model that this plan is of with changes, and compare; see `Model.what_if`. The plan is reused.

        Raises
        ------
        ModelError
            If a change cannot be read, names nothing of the model, or the plan is not of a model.
        """
        from ruddock.insight.what_if import what_if_of

        return what_if_of(self, changes, options)

    def alternatives(self, most: int = 3, *, time_limit: float | None = None) -> Alternatives:
        """Return other plans: of a linear model equally good ones, of one with integers the next best.

        Parameters
        ----------
        most : int
            How many to look for. Next best plans differ in an integer decision.
        time_limit : float, optional
            Seconds for the whole search; what was found by then is kept.

        Raises
        ------
        NoPlanError
            If there is no best plan.
        ModelError
            If integer decisions that nothing bounds leave the next best plans unknown.
        """
        from ruddock.insight.alternatives import alternatives

        return alternatives(self, most, time_limit)

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
            If nothing has that name, or it is a whole family.
        """
        self._need_values()
        return explain(self, name)
