"""Sensitivity of a plan: what limits are worth and for how far, and how far coefficients may move.

The answers are those of the optimal value and of the plan, not of one basis: under degeneracy one more
and one less of a limit have prices of their own, and both are told (see `ruddock.engine.ranging`).
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.engine.in_order import with_held
from ruddock.engine.ranging import Ranging
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.engine.solve import solve
from ruddock.errors import ModelError, NoPlanError, known
from ruddock.insight.limits import Limit
from ruddock.insight.structure import integral_by_structure
from ruddock.modelling.decisions import members_of
from ruddock.modelling.printed import Printed
from ruddock.problem import INTEGER, Problem
from ruddock.tables import Table, amount, number

if TYPE_CHECKING:
    from matplotlib.axes import Axes

    from ruddock.modelling.plan import Plan

MOST = 2000  # limits, or coefficients, that are worked out without being named
TELLING = 5  # decisions named as making room for one that enters
SAME = 1e-9


@dataclass(frozen=True, eq=False)
class Sensitivity(Printed):
    """Prices of limits and ranges of objective coefficients of one plan.

    Attributes
    ----------
    model : the model's title
    objective_name, sense, unit, objective : of the objective that the plan was solved for
    limits : DataFrame by constraint
        relation, limit, slack; ``one_more`` and ``one_less``, the change of the objective as written per
        unit that the limit rises or falls, NaN where there is then no plan; ``down_to`` and ``up_to``, the
        limits between which these hold; ``below`` and ``above``, what comes beyond: another ``price``,
        ``no plan`` or ``never``; unit. For a range the limit is the one nearer to the activity.
    coefficients : DataFrame by decision
        value, coefficient; ``from`` and ``to``, between which the plan stays the best one; reduced_cost, one of
        several where the plan is degenerate, while ``improvement`` is always the true one; for a decision at its
        lower bound ``improvement``, by how much its coefficient must improve before the plan uses more of
        it, and ``gives_way``, the decisions that then fall. Fixed and held decisions are left out.
    held : bool
        Whether whole-number decisions were held at their values: then prices are those of the rest.
    relaxation : float or None
        For such models the best value with fractions allowed: no plan is better.
    by_structure : str or None
        For such models, why whole numbers would come without being asked for, where that is known.
    by : float or None
        The step that limits were truly moved by: then ``limits`` has ``step_more`` and ``step_less``, the changes of
        the objective when the model is solved again; NaN where there is no plan or the limit does not bind.
    """

    model: str
    objective_name: str | None
    sense: str
    unit: str | None
    objective: float
    limits: pd.DataFrame
    coefficients: pd.DataFrame
    held: bool = False
    relaxation: float | None = None
    by_structure: str | None = None
    by: float | None = None

    def parts(self) -> list[str | Table]:
        """Return what is printed, as sentences and tables."""
        from ruddock.reporting.sensitivity import sensitivity_parts

        return sensitivity_parts(self)

    def draw(self, ax: Axes | None = None) -> Axes:
        """Draw how far the limits worth most may move, with Matplotlib.

        Parameters
        ----------
        ax : matplotlib Axes, optional
            New ones by default.
        """
        from ruddock.reporting.figures import ranges_figure

        return ranges_figure(self, ax)

    def as_dict(self) -> dict[str, Any]:
        """Return plain data for JSON; what is not known or not finite is None."""
        return {
            "format": "ruddock-ranges/1",
            "model": self.model,
            "sense": self.sense,
            "objective": self.objective,
            "integers_held": self.held,
            "relaxation": self.relaxation,
            "limits": _records(self.limits),
            "coefficients": _records(self.coefficients),
        }

    def sentences(self, most: int | None = None) -> list[str]:
        """Return what each limit that matters is worth, in words, those most worth moving first."""
        frame = self.limits
        gain = frame[["one_more", "one_less"]].abs().max(axis=1).fillna(np.inf)
        gain = gain.where(gain > SAME, 0.0)
        order = np.argsort(-self._worth_moving(), kind="stable")
        told = [k for k in order.tolist() if gain.iloc[k] > 0]
        return [self._sentence(str(frame.index[k]), frame.iloc[k]) for k in told[:most]]

    def _worth_moving(self) -> np.ndarray:
        """Return for each limit what its better direction gains in all, where it ends; else one tenth of the limit."""
        better = 1.0 if self.sense == "maximize" else -1.0
        frame = self.limits
        best = np.zeros(len(frame))
        usual = 0.1 * np.maximum(1.0, frame["limit"].abs().to_numpy())
        for change, end in (("one_more", "up_to"), ("one_less", "down_to")):
            gain = better * frame[change].fillna(0.0).to_numpy()
            reach = np.minimum((frame[end] - frame["limit"]).abs().to_numpy(), usual)
            best = np.maximum(best, gain * reach)
        return best

    def _sentence(self, name: str, row: Any) -> str:
        unit = f" {row.unit}" if row.unit else ""
        now = number(row.limit)
        more, less = self._effect(row.one_more), self._effect(row.one_less)
        up = "without end" if np.isposinf(row.up_to) else f"up to {number(row.up_to)}{unit}"
        down = "without end" if np.isneginf(row.down_to) else f"down to {number(row.down_to)}{unit}"
        parts = []
        if np.isnan(row.one_more):
            parts.append("one more leaves no plan")
        else:
            parts.append(f"one more{unit} {more}, {up}")
        if np.isnan(row.one_less):
            parts.append("one less leaves no plan")
        else:
            parts.append(f"one less {less}, {down}")
        text = f"{name} (now {row.relation} {now}{unit}): " + "; ".join(parts) + "."
        if self._differs(row.one_more, row.one_less):
            text += " The two differ because other limits bind at the same point."
        return text

    @staticmethod
    def _differs(more: float, less: float) -> bool:
        """Say whether a limit is worth something else upwards than downwards."""
        return bool(np.isnan(more) != np.isnan(less) or abs(more + less) > 1e-7 * max(1.0, abs(more)))

    def _effect(self, change: float) -> str:
        if np.isnan(change):
            return ""
        if abs(change) <= SAME:
            return "changes nothing"
        better = (change > 0) == (self.sense == "maximize")
        worth = amount(abs(change), self.unit)
        if self.sense == "maximize":
            return f"earns {worth}" if better else f"loses {worth}"
        return f"saves {worth}" if better else f"costs {worth}"


def sensitivity(plan: Plan, names: Iterable[str] | None = None, by: float | None = None) -> Sensitivity:
    """Work out the sensitivity of a plan; see `Plan.sensitivity`."""
    if not plan.found or plan.status != "optimal":
        raise NoPlanError(f"{plan.model_name}: sensitivity is that of a best plan, and this solve ended {plan.status}")
    if by is not None and not 0 < by < np.inf:
        raise ModelError(f"limits are moved by a positive amount, not {by}")
    problem = whole = solved_problem(plan)
    by_structure = integral_by_structure(problem) if problem.discrete else None
    held = problem.discrete
    relaxation = None
    outcome = plan.outcome
    if held:
        relaxed = LinearSolver(problem).solve()
        relaxation = _sign(plan) * relaxed.objective if relaxed.status == "optimal" else None
        problem = _held(problem, plan.values)
    if held or plan.held or outcome.basis is None:  # an outcome leaves out the rows that hold objectives
        outcome = LinearSolver(problem).solve()
    rows, columns = _chosen(plan, names)
    ranging = Ranging(problem, outcome)
    limits = _limits(plan, ranging, rows)
    if by is not None:
        limits = _with_steps(plan, whole, limits, by)
    return Sensitivity(
        plan.model_name,
        plan.objective_name,
        plan.sense,
        plan.unit,
        plan.objective,
        limits,
        _coefficients(plan, ranging, columns),
        held,
        relaxation,
        by_structure,
        by,
    )


def _records(frame: pd.DataFrame) -> dict[str, dict[str, Any]]:
    plain = frame.astype(object).where(frame.map(lambda v: not isinstance(v, float) or bool(np.isfinite(v))), None)
    rows: list[dict[Any, Any]] = plain.to_dict("records")
    return {str(name): row for name, row in zip(plain.index, rows, strict=True)}


def _sign(plan: Plan) -> float:
    return -1.0 if plan.sense == "maximize" else 1.0


def solved_problem(plan: Plan) -> Problem:
    """Return the problem that the plan solves; objectives solved before keep what they reached."""
    formulation = plan.formulation
    last = next((o for o in formulation.objectives if o.name == plan.objective_name), None)
    earlier = [formulation.problem(objective) for objective in formulation.objectives[: len(plan.held)]]
    return with_held(formulation.problem(last), earlier, plan.held)


def _held(problem: Problem, x: np.ndarray) -> Problem:
    """Return the problem with integer columns fixed; a semicontinuous one keeps to zero or to its bounds."""
    integer = (problem.kinds & INTEGER) != 0
    zero = (problem.kinds != 0) & (np.abs(x) < SAME)
    value = np.where(integer, np.round(x), 0.0)
    fixed = integer | zero
    return replace(
        problem,
        lower=np.where(fixed, value, problem.lower),
        upper=np.where(fixed, value, problem.upper),
        kinds=np.zeros_like(problem.kinds),
    )


def _chosen(plan: Plan, names: Iterable[str] | None) -> Sequence[list[int]]:
    """Return numbers of the rows and columns asked for, by member or family; by default all that were written."""
    formulation = plan.formulation
    row_names, column_names = formulation.constraint_names, formulation.decision_names
    if names is None:
        for count, what in ((len(row_names), "constraints"), (len(column_names), "decisions")):
            if count > MOST:
                raise ModelError(
                    f"{count:,} {what} are many to work out one by one; name those that matter: "
                    "plan.sensitivity(['supply', 'ship[Fell,Quay]']), families or members"
                )
        return [np.flatnonzero(mask).tolist() for mask in (formulation.written_rows, formulation.written_columns)]
    rows: list[int] = []
    columns: list[int] = []
    for name in [names] if isinstance(names, str) else names:
        found_rows = members_of(name, row_names)
        found_columns = members_of(name, column_names)
        if not found_rows and not found_columns:
            families: list[str] = [f.name for f in formulation.constraints] + [f.name for f in formulation.decisions]
            hint = known(name, list(dict.fromkeys([*families, *row_names, *column_names])))
            raise ModelError(f"there is no constraint or decision called {name!r}; {hint}")
        rows += found_rows
        columns += found_columns
    return [sorted(set(rows)), sorted(set(columns))]


def _limits(plan: Plan, ranging: Ranging, rows: list[int]) -> pd.DataFrame:
    frame = plan.constraints()
    sign = _sign(plan)
    lower, upper = ranging.problem.row_lower, ranging.problem.row_upper
    records = []
    for i in rows:
        relation = str(frame["relation"].iloc[i])
        if relation == "free":
            continue
        side = {"==": "both", ">=": "lower", "<=": "upper"}[relation]
        limit = float(lower[i] if side == "lower" else upper[i])
        more, less = ranging.side(i, side, 1.0), ranging.side(i, side, -1.0)
        records.append(
            {
                "constraint": frame.index[i],
                "relation": relation,
                "limit": limit,
                "slack": frame["slack"].iloc[i],
                "one_more": np.nan if np.isinf(more.price) else sign * more.price + 0.0,
                "one_less": np.nan if np.isinf(less.price) else -sign * less.price + 0.0,
                "down_to": limit - less.reach,
                "up_to": limit + more.reach,
                "below": less.ends,
                "above": more.ends,
                "unit": frame["unit"].iloc[i],
            }
        )
    columns = ["constraint", "relation", "limit", "slack", "one_more", "one_less"]
    columns += ["down_to", "up_to", "below", "above", "unit"]
    return pd.DataFrame.from_records(records, columns=columns).set_index("constraint")


def _with_steps(plan: Plan, problem: Problem, limits: pd.DataFrame, by: float) -> pd.DataFrame:
    """Add what moving each binding limit a step up and down truly changes, by solving again."""
    binding = plan.constraints()["binding"]
    names = plan.formulation.constraint_names
    place = {name: i for i, name in enumerate(names)}
    frame = limits.copy()
    for column, step in (("step_more", by), ("step_less", -by)):
        changes = []
        for name, relation, limit in zip(limits.index, limits["relation"], limits["limit"], strict=True):
            if not binding[name]:
                changes.append(np.nan)
                continue
            side = {"==": "both", ">=": "lower", "<=": "upper"}[relation]
            moved = Limit(str(name), place[name], side, limit, None).moved(problem, limit + step)
            outcome = solve(moved)
            found = outcome.status == "optimal"
            changes.append(_sign(plan) * outcome.objective - plan.objective + 0.0 if found else np.nan)
        frame[column] = changes
    return frame


def _coefficients(plan: Plan, ranging: Ranging, columns: list[int]) -> pd.DataFrame:
    sign = _sign(plan)
    problem, reduced = ranging.problem, ranging.outcome.reduced
    names = plan.formulation.decision_names
    records = []
    for j in columns:
        if problem.lower[j] == problem.upper[j]:
            continue  # held or fixed: its coefficient is not for this plan to answer
        cost = float(problem.costs[j])
        (higher, _), (lower, entering) = ranging.room(j, 1.0), ranging.room(j, -1.0)
        ends = (sign * (cost - lower) + 0.0, sign * (cost + higher) + 0.0)
        # at its lower bound, a decision comes in once its cost has fallen so far
        waiting = bool(ranging.at_lower[j])
        records.append(
            {
                "decision": names[j],
                "value": float(ranging.x[j]) + 0.0,
                "coefficient": sign * cost + 0.0,
                "from": min(ends),
                "to": max(ends),
                "reduced_cost": np.nan if reduced is None else sign * float(reduced[j]) + 0.0,
                "improvement": lower if waiting else np.nan,
                "gives_way": _gives_way(names, entering, j) if waiting else "",
            }
        )
    labels = ["decision", "value", "coefficient", "from", "to", "reduced_cost", "improvement", "gives_way"]
    return pd.DataFrame.from_records(records, columns=labels).set_index("decision")


def _gives_way(names: Sequence[str], direction: np.ndarray | None, own: int) -> str:
    """Name the decisions that fall when another one comes in, most first."""
    if direction is None:
        return ""
    falling = [k for k in np.argsort(direction, kind="stable")[:TELLING].tolist() if direction[k] < -SAME and k != own]
    return ", ".join(names[k] for k in falling)
