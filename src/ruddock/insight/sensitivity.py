"""Sensitivity of a plan: what limits are worth and for how far, and how far coefficients may move.

The answers are those of the optimal value and of the plan, not of one basis: under degeneracy one more
and one less of a limit have prices of their own, and both are shown (see `ruddock.engine.ranging`).
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.document.content import Block, Figure
from ruddock.document.numbers import amount, counted
from ruddock.document.result import Result, records
from ruddock.engine.ranging import Ranging
from ruddock.engine.simplex.solver import LinearSolver
from ruddock.errors import ModelError, NoPlanError
from ruddock.insight.structure import integral_by_structure
from ruddock.modelling.changes import Change
from ruddock.modelling.changing import with_changes
from ruddock.modelling.frames import constraints_frame
from ruddock.modelling.lowering import lowered
from ruddock.modelling.names import names_of
from ruddock.modelling.options import SolveOptions, running
from ruddock.modelling.prices import ranging_of, row_side
from ruddock.modelling.solve import solve_formulation

if TYPE_CHECKING:
    from ruddock.modelling.plan import Plan

MOST = 2000  # limits, or coefficients, that are worked out without being named
MOST_LEAVING = 5  # decisions named as decreasing when one enters
SAME = 1e-9
STEP_SECONDS = 20.0  # for the steps of limits that are not named
MOST_STEPS = 20  # limits that a step is solved for without being named
NEAR = 0.1  # of a limit: one with less slack is near enough to be stepped
USUAL_STEP = 0.05  # of a limit, where no step is named


@dataclass(frozen=True, eq=False, repr=False)
class Sensitivity(Result):
    """Prices of limits and ranges of objective coefficients of one plan.

    Attributes
    ----------
    model : the model's title
    objective_name, sense, unit, objective : of the objective that the plan was solved for
    limits : DataFrame by constraint
        relation, limit, slack; ``one_more`` and ``one_less``, the change of the first objective as written per
        unit that the limit rises or falls, NaN where there is then no plan; ``down_to`` and ``up_to``, the
        limits between which these hold; ``below`` and ``above``, what comes beyond: another ``price``,
        ``no plan`` or ``never``; unit. For a range the limit is the nearer one. Where ``both_sides`` hold decisions,
        the limit is the constant of the right side.
    coefficients : DataFrame by decision
        value, coefficient; ``from`` and ``to``, between which the plan stays the best one; reduced_cost, one of
        several where the plan is degenerate, while ``improvement`` is always the true one; for a decision at its
        lower bound ``improvement``, by how much its coefficient must improve before the plan uses more of
        it, and ``leaves``, the decisions that then decrease; unit. Fixed and held decisions are left out.
    held : bool
        Whether integer decisions were held at their values: then prices are those of the rest.
    relaxation : float or None
        For such models the best value with fractions allowed: no plan is better.
    by_structure : str or None
        For such models, why integers would come without being asked for, where that is known.
    steps : DataFrame by constraint
        What a step is truly worth, solved again with nothing held: ``step``, ``more`` and ``less``, the changes of the
        first objective as written, NaN where there is no plan, and ``more_status`` and ``less_status``. With integers
        always there; else where a step was asked for.
    several : the other objectives, which follow the first; empty without any
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
    steps: pd.DataFrame | None = None
    several: tuple[str, ...] = ()

    @property
    def degenerate(self) -> int:
        """How many limits are worth something else upwards than downwards."""
        more, less = self.limits["one_more"].to_numpy(float), self.limits["one_less"].to_numpy(float)
        return int(sum(self._differs(up, down) for up, down in zip(more, less, strict=True)))

    undrawn = "no limit has a shadow price"

    def _title(self) -> str:
        return self.model

    def _blocks(self) -> Sequence[Block]:
        from ruddock.insight.sensitivity_words import sensitivity_blocks

        return sensitivity_blocks(self)

    def figure(self) -> Figure | None:
        """Return a figure of how far the limits worth most may change."""
        from ruddock.insight.sensitivity_words import priced, ranges_figure, ranges_height

        if not priced(self):
            return None
        return Figure(partial(ranges_figure, self), "How far limits may change", ranges_height(self))

    def table(self) -> pd.DataFrame:
        """Return what the limits are worth; see `limits`."""
        return self.limits.copy()

    def _facts(self) -> dict[str, Any]:
        return {
            "format": "ruddock-sensitivity/1",
            "model": self.model,
            "sense": self.sense,
            "objective": self.objective,
            "integers_held": self.held,
            "relaxation": self.relaxation,
            "limits": records(self.limits),
            "coefficients": records(self.coefficients),
            "steps": None if self.steps is None else records(self.steps),
        }

    def sentences(self, most: int | None = None) -> list[str]:
        """Return what each limit that matters is worth, in words, those most worth moving first."""
        frame = self.limits
        gain = frame[["one_more", "one_less"]].abs().max(axis=1).fillna(np.inf)
        gain = gain.where(gain > SAME, 0.0)
        order = np.argsort(-self._worth_moving(), kind="stable")
        places = [k for k in order.tolist() if gain.iloc[k] > 0]
        return [self._sentence(str(frame.index[k]), frame.iloc[k]) for k in places[:most]]

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
        from ruddock.insight.sensitivity_words import limit_words

        unit = str(row.unit) or None
        now = limit_words(row.relation, row.limit, unit, row.both_sides)
        more, less = self._effect(row.one_more), self._effect(row.one_less)
        up = "with no upper end" if np.isposinf(row.up_to) else f"up to {amount(row.up_to, unit, 'down')}"
        down = "with no lower end" if np.isneginf(row.down_to) else f"down to {amount(row.down_to, unit, 'up')}"
        one = f"one more {counted(unit, one=True)}" if unit else "one more"
        parts = [
            "one more makes the model infeasible" if np.isnan(row.one_more) else f"{one} {more}, {up}",
            "one less makes the model infeasible" if np.isnan(row.one_less) else f"one less {less}, {down}",
        ]
        text = f"{name} (now {now}): " + "; ".join(parts) + "."
        if self._differs(row.one_more, row.one_less):
            text += " The two differ because the plan is degenerate: other limits bind at the same point."
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


def sensitivity(
    plan: Plan, names: Iterable[str] | None = None, by: float | None = None, time_limit: float | None = None
) -> Sensitivity:
    """Work out the sensitivity of a plan; see `Plan.sensitivity`."""
    if not plan.found or plan.status != "optimal":
        raise NoPlanError(f"{plan.model_name}: sensitivity needs an optimal plan, and this solve ended {plan.status}")
    if by is not None and (isinstance(by, bool) or not isinstance(by, (int, float)) or not 0 < by < np.inf):
        raise ModelError(f"limits are moved by a positive amount, not {by!r}")
    if any(not give.nothing for give in plan.gives):
        raise ModelError(
            "an objective was relaxed for later ones (give=), so this plan is not optimal for it; sensitivity needs a "
            "plan in strict order: solve without give="
        )
    named = names is not None
    seconds = time_limit if named or time_limit is not None else STEP_SECONDS
    options = SolveOptions(time_limit=seconds)
    rows, columns = _chosen(plan, names)
    problem = lowered(plan.formulation).problems[0]
    held = problem.discrete
    by_structure = integral_by_structure(problem) if held else None
    relaxation = None
    if held:
        relaxed = LinearSolver(problem).solve()
        relaxation = plan.sign * relaxed.objective if relaxed.status == "optimal" else None
    ranging = ranging_of(plan)
    limits = _limits(plan, ranging, rows)
    steps = None
    if by is not None or (held and by_structure is None):
        steps = _steps(plan, rows, limits, by, named, options)
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
        steps,
        tuple(goal.name for goal in plan.formulation.objectives[1:]),
    )


def _chosen(plan: Plan, names: Iterable[str] | None) -> Sequence[list[int]]:
    """Return numbers of the rows and columns asked for, by member or family; by default all that were written."""
    formulation = plan.formulation
    if names is None:
        for count, what in ((formulation.rows, "constraints"), (formulation.size, "decisions")):
            if count > MOST:
                raise ModelError(
                    f"{count:,} {what} are many to work out one by one; name those that matter: "
                    "plan.sensitivity(['supply', 'ship[Fell,Quay]']), families or members"
                )
        return [list(range(formulation.rows)), list(range(formulation.size))]
    rows: list[int] = []
    columns: list[int] = []
    for name in [names] if isinstance(names, str) else names:
        found = names_of(formulation).need(name, ("constraints", "decisions"))
        first = formulation.row_starts if found.what == "constraints" else formulation.starts
        (rows if found.what == "constraints" else columns).extend((first[found.part.name] + found.members).tolist())
    return [sorted(set(rows)), sorted(set(columns))]


def _limits(plan: Plan, ranging: Ranging, rows: list[int]) -> pd.DataFrame:
    frame = constraints_frame(plan)
    formulation = plan.formulation
    sign = plan.sign
    records = []
    for i in rows:
        relation = str(frame["relation"].iloc[i])
        if relation == "free":
            continue
        family, at = formulation.constraint_at(i)
        side = row_side(formulation, i, relation)
        limit_side = family.sides.limit_side
        written = "left" if limit_side == "left" else "right"
        limit = float(frame[written].iloc[i])
        if limit_side is None:
            assert family.sides.right is not None
            limit = float(family.sides.right.constants[at])
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
                "both_sides": limit_side is None,
            }
        )
    columns = ["constraint", "relation", "limit", "slack", "one_more", "one_less"]
    columns += ["down_to", "up_to", "below", "above", "unit", "both_sides"]
    return pd.DataFrame.from_records(records, columns=columns).set_index("constraint")


def _steps(
    plan: Plan, rows: list[int], limits: pd.DataFrame, by: float | None, named: bool, options: SolveOptions
) -> pd.DataFrame:
    """Return what moving limits a step up and down truly changes, by solving again.

    All that are named; else those that bind, or have little slack, the nearest first.
    """
    formulation = plan.formulation
    names = formulation.constraint_names
    chosen = [
        i for i in rows if names[i] in limits.index and formulation.constraint_at(i)[0].sides.limit_side is not None
    ]
    slacks, edges = limits["slack"].to_dict(), limits["limit"].to_dict()
    slack = {i: float(slacks[names[i]]) for i in chosen}
    size = {i: max(1.0, abs(float(edges[names[i]]))) for i in chosen}
    if not named:
        step = {i: by if by is not None else _usual_step(float(edges[names[i]])) for i in chosen}
        chosen = [i for i in chosen if slack[i] <= max(NEAR * size[i], step[i])]
        chosen = sorted(chosen, key=lambda i: slack[i] / size[i])[:MOST_STEPS]
    records = []
    with running(options, formulation) as clock:
        for i in sorted(chosen):
            limit = float(edges[names[i]])
            size_of_step = by if by is not None else _usual_step(limit)
            record: dict[str, Any] = {"constraint": names[i], "step": size_of_step}
            family, at = formulation.constraint_at(i)
            end = _range_end(family, at, str(limits.at[names[i], "relation"]))
            for word, step_ in (("more", size_of_step), ("less", -size_of_step)):
                record[word], record[f"{word}_status"] = np.nan, "stopped"
                if clock.out() is not None:
                    continue
                try:
                    changed = with_changes(formulation, [Change(names[i] + end, "=", limit + step_)])
                except ModelError:  # the other limit of the same row is in the way
                    record[f"{word}_status"] = "infeasible"
                    continue
                again = solve_formulation(changed, SolveOptions(start=plan), clock)
                record[f"{word}_status"] = again.status
                if again.status == "optimal":
                    record[word] = again.objective - plan.objective + 0.0
            records.append(record)
    columns = ["constraint", "step", "more", "less", "more_status", "less_status"]
    return pd.DataFrame.from_records(records, columns=columns).set_index("constraint")


def _range_end(family: Any, at: int, relation: str) -> str:
    """Return what to add to a name so that the limit meant is changed: of a range its side."""
    if family.sides.sense != "between" or relation == "==":
        return ""
    low, high = float(family.lower[at]), float(family.upper[at])
    if np.isfinite(low) and np.isfinite(high):
        return ".lower" if relation == ">=" else ".upper"
    return ""


def _usual_step(limit: float) -> float:
    """Return a step to look at where none is named: a twentieth of a limit, as a short number, and whole from 1 on."""
    size = max(USUAL_STEP * abs(limit), 1e-9)
    if size < 1.0:
        return 1.0
    return float(f"{size:.1g}")


def _coefficients(plan: Plan, ranging: Ranging, columns: list[int]) -> pd.DataFrame:
    sign = plan.sign
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
                "leaves": _leaves(names, entering, j) if waiting else "",
                "unit": plan.formulation.member_at(j)[0].unit or "",
            }
        )
    labels = ["decision", "value", "coefficient", "from", "to", "reduced_cost", "improvement", "leaves", "unit"]
    return pd.DataFrame.from_records(records, columns=labels).set_index("decision")


def _leaves(names: Sequence[str], direction: np.ndarray | None, own: int) -> str:
    """Name the decisions that fall when another one comes in, most first."""
    if direction is None:
        return ""
    first = np.argsort(direction, kind="stable")[:MOST_LEAVING].tolist()
    falling = [k for k in first if direction[k] < -SAME and k != own]
    return ", ".join(names[k] for k in falling)
