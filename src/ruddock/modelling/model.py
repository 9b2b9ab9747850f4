"""`Model`: the formulation, built up by name."""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterable, Mapping, Sequence
from typing import TYPE_CHECKING, Any, TypeVar, Unpack

import numpy as np

from ruddock.errors import DataError, ModelError, known
from ruddock.modelling.arrays import fill_from_arrays
from ruddock.modelling.axis import Axis, check_name
from ruddock.modelling.cells import Cells
from ruddock.modelling.changing import with_changes
from ruddock.modelling.data import Data, Source
from ruddock.modelling.decisions import Decisions, Kind, make_decisions, relaxed
from ruddock.modelling.expression import Expression, Relation, scalar, sides_of, terms_of
from ruddock.modelling.formulation import Constraints, Formulation, Objective, Quantity, Ruled, expression_of
from ruddock.modelling.lowering import lowered
from ruddock.modelling.names import UnknownNameError, names_of, split_member
from ruddock.modelling.options import SolveKeywords, SolveOptions
from ruddock.modelling.recipe import Part, Recipe, Renumbering
from ruddock.modelling.relation import Sides
from ruddock.modelling.rules import Curve, Rule, make_curve
from ruddock.modelling.terms import Registry, Terms
from ruddock.problem import ENDLESS, Problem

if TYPE_CHECKING:
    from concurrent.futures import Executor
    from pathlib import Path

    import pandas as pd

    from ruddock.insight.appraisal import Appraisal
    from ruddock.insight.diagnosis import Diagnosis
    from ruddock.insight.findings import Findings
    from ruddock.insight.reach import Reach
    from ruddock.insight.region import Region
    from ruddock.insight.scenarios import Scenarios
    from ruddock.insight.sweep import Sweep
    from ruddock.insight.tradeoff import Tradeoff
    from ruddock.insight.what_if import WhatIf
    from ruddock.modelling.changes import Change
    from ruddock.modelling.describe import Description
    from ruddock.modelling.plan import Plan

Made = TypeVar("Made", bound=Part)
CALLED = {
    Decisions: "decisions", Constraints: "constraints", Ruled: "a rule", Curve: "a curve", Objective: "an objective",
    Quantity: "a quantity",
}  # fmt: skip


def _axes_of(part: Part) -> tuple[Axis, ...]:
    """Return the axes that a part runs over; an objective is a number."""
    return () if isinstance(part, Objective) else tuple(part.cells.axes)


class Model:
    """A formulation: decisions, objectives, constraints, rules and quantities, each with a name.

    Parameters
    ----------
    name : str
        A title for reports; any text.

    Examples
    --------
    >>> model = Model("packing")
    >>> jars = model.decide("jars", unit="jar")
    >>> mead = model.decide("mead", upper=200)
    >>> model.maximize("margin", 4.2 * jars + 9.5 * mead, unit="£")
    maximize margin (£): 4.2 jars + 9.5 mead
    >>> model.require("extraction", 0.5 * jars + 1.2 * mead <= 640)
    extraction: 0.5 jars + 1.2 mead <= 640
    >>> round(model.solve().objective, 2)
    5376.0
    """

    def __init__(self, name: str = "model") -> None:
        if not isinstance(name, str):
            raise ModelError(f"the model's name is a title, not {type(name).__name__}: {name!r}")
        self.name = name
        self._registry = Registry(name)
        self._parts: dict[str, Part] = {}
        self._recipe: Recipe | None = None
        self._read: dict[str, Part] = {}  # parts as the recipe made them
        self._relaxed = False
        self._arrays: tuple[tuple[Part, ...], Problem | None] = ((), None)  # parts that were made from arrays
        self._snapshot: tuple[tuple[Any, ...], Formulation] | None = None

    def __copy__(self) -> Model:
        """Return a model of its own with the same parts, which understands expressions of the original."""
        result = object.__new__(type(self))
        result.__dict__ = {**self.__dict__, "_parts": dict(self._parts), "_snapshot": None}
        return result

    def __deepcopy__(self, memo: dict[int, Any]) -> Model:
        return copy.copy(self)  # parts never change, so that nothing else is shared

    def __getstate__(self) -> dict[str, Any]:
        return {**self.__dict__, "_snapshot": None}

    # ------------------------------------------------------------------ parts by name

    def __getitem__(self, name: str) -> Any:
        """Return decisions, constraints, a rule, an objective or a quantity by name; a curve as its expression."""
        if name not in self._parts:
            raise ModelError(f"the model has nothing called {name!r}; {known(str(name), self._parts)}")
        part = self._parts[name]
        return expression_of(part.value) if isinstance(part, Curve) else part

    def __contains__(self, name: object) -> bool:
        return name in self._parts

    def __repr__(self) -> str:
        sizes = self.formulation()
        rules = f", {len(sizes.rules):,} rules" if sizes.rules else ""
        return f"<Model {self.name!r}: {sizes.size:,} decisions, {sizes.rows:,} constraints{rules}>"

    def _repr_html_(self) -> str:
        return self.describe()._repr_html_()

    def _free(self, name: str, what: str, replace: bool) -> None:
        """Check that a name can be given."""
        check_name(name, what)
        if name in self._parts and not replace:
            raise ModelError(
                f"the name {name!r} is taken by {CALLED[type(self._parts[name])]} of this model; choose another, say "
                f"replace=True to put this in its place, or take the old one out first with model.remove({name!r})"
            )

    def _keep(self, part: Made, axes: Iterable[Axis] = (), *, again: bool = False) -> Made:
        """Take in a part once nothing can fail any more.

        Parameters
        ----------
        again : bool
            A cell runs again: its axes may have other labels than before, and the parts after it follow.
        """
        for axis in axes:
            held = self._registry.axes.get(axis.name)
            if held is not None and held != axis and not again and self._uses(held, part.name):
                raise ModelError(f"another axis called {axis.name!r} is used in this model already, with other labels")
        for axis in axes:
            self._registry.axes[axis.name] = axis
        self._parts[part.name] = part
        return part

    def _check_axes(self, parts: Iterable[Part]) -> None:
        """Check that all parts mean the same by the name of an axis."""
        held: dict[str, tuple[Axis, str]] = {}
        for part in parts:
            for axis in _axes_of(part):
                first, name = held.setdefault(axis.name, (axis, part.name))
                if first is not axis and first != axis:
                    raise ModelError(
                        f"the axis {axis.name!r} has other labels in {name} than in {part.name}; write both anew with "
                        f"replace=True, or remove one of them"
                    )

    def _uses(self, axis: Axis, without: str) -> bool:
        """Say whether a part, other than one, uses an axis."""
        return any(axis in _axes_of(part) for name, part in self._parts.items() if name != without)

    def remove(self, name: str) -> None:
        """Take out a part by name: decisions, constraints, a rule, a curve, an objective or a quantity.

        Constraints that use removed decisions must be removed or rewritten before the next solve. Axes that no part
        uses any more are forgotten.
        """
        self[name]
        part = self._parts.pop(name)
        if isinstance(part, (Decisions, Curve)):
            self._registry.forget(name)
        used = {axis.name for part in self._parts.values() for axis in _axes_of(part)}
        for axis in [axis for axis in self._registry.axes if axis not in used]:
            del self._registry.axes[axis]

    # ------------------------------------------------------------------ formulation

    def decide(
        self,
        name: str,
        *axes: Axis,
        lower: Source | None = 0,
        upper: Source | None = None,
        kind: Kind = "continuous",
        unit: str | None = None,
        only: Source | None = None,
        replace: bool = False,
    ) -> Decisions:
        """Declare a family of decision variables, one for each combination of labels.

        Parameters
        ----------
        name : str
        *axes : Axis
            None for a single variable.
        lower, upper : number, data or None
            Bounds; None means no bound. A decision is not negative unless stated otherwise.
        kind : {"continuous", "integer", "binary", "semicontinuous"}
            A semicontinuous decision is 0 or between its bounds.
        unit : str, optional
        only : data mask, or list of label tuples
            The combinations that exist; the others cost nothing.
        replace : bool
            Put this in the place of a part of the same name, if there is one.

        Raises
        ------
        ModelError, DataError
        """
        self._free(name, "decisions", replace)
        family = make_decisions(self._registry, name, axes, lower, upper, kind, unit, only)
        return self._keep(family, axes, again=replace)

    def require(
        self, name: str, relation: Relation | Rule, *, unit: str | None = None, replace: bool = False
    ) -> Constraints | Ruled:
        """Add a family of constraints, one for each combination of labels in the relation.

        Parameters
        ----------
        name : str
        relation : from ``<=``, ``>=``, ``==`` or ``expr.between(low, high)``; or a rule from `when`, `either`, `run`,
            `pause`
        unit : str, optional
            Of both sides, for reports.
        replace : bool
            Put this in the place of a part of the same name, if there is one.
        """
        self._free(name, "constraints", replace)
        if isinstance(relation, Rule):
            for part in relation.parts():
                self._own(part, name)
            return self._keep(Ruled(name, relation, unit), relation.cells.axes, again=replace)
        if not isinstance(relation, Relation):
            if isinstance(relation, (bool, np.bool_, Data)):
                raise ModelError(
                    f"{name}: this relation holds no decision, it compares plain numbers and is always "
                    "the same; was a decision left out?"
                )
            raise ModelError(f"{name}: a relation such as ship.sum(market) <= stock is needed, not {relation!r}")
        sides = sides_of(relation)
        for side in (sides.left, sides.right):
            if side is not None:
                self._own(side, name)
        if any(np.isnan(limit).any() for limit in sides.bounds):
            raise ModelError(f"{name}: a limit is NaN")
        if (sides.bounds[0] >= ENDLESS).any() or (sides.bounds[1] <= -ENDLESS).any():
            raise DataError(
                f"{name}: numbers of 1e20 and beyond count as infinite, and nothing reaches such a limit; write it in "
                "larger units"
            )
        sides = sides.in_order()
        return self._keep(Constraints(name, sides, unit), sides.cells.axes, again=replace)

    def _own(self, terms: Terms, name: str) -> None:
        """Check that an expression is of this model."""
        if terms.registry is not self._registry:
            other = terms.registry.name
            which = f"the model {other!r}" if other != self._registry.name else "another model of the same name"
            raise ModelError(f"{name}: the decisions belong to {which}; use those of this one, such as model['ship']")

    def curve(
        self,
        name: str,
        x: Expression,
        corners: Sequence[tuple[Source, Source]] | Mapping[float, float],
        *,
        unit: str | None = None,
        replace: bool = False,
    ) -> Expression:
        """Return a piecewise-linear function of an expression, to use in objectives and constraints.

        Works for any shape, rising or falling; every plan reports its value like a quantity.

        Parameters
        ----------
        name : str
        x : expression or decision
            Kept between the first and the last corner.
        corners : sequence of (x, y), or dict of x to y
            Numbers, or data for each member; x rising. Two corners at one x are a jump, such as a fixed charge or a
            discount on all units: there the function has either value.
        unit : str, optional
            Of its values.
        replace : bool
            Put this in the place of a part of the same name, if there is one.

        Returns
        -------
        Expression
            Over the axes of ``x``.
        """
        self._free(name, "a curve", replace)
        if isinstance(x, Expression):
            self._own(terms_of(x), name)
        curve = make_curve(self._registry, name, x, corners, unit)
        return expression_of(self._keep(curve, curve.cells.axes, again=replace).value)

    def minimize(
        self,
        name: str,
        expr: Any = None,
        /,
        *,
        unit: str | None = None,
        parts: Mapping[str, Any] | None = None,
        replace: bool = False,
        **named_parts: Any,
    ) -> Objective:
        """Add an objective to make small: one expression, or a sum of named parts.

        Parameters
        ----------
        name : str
        expr : scalar expression, optional
        unit : str, optional
        parts : dict of name to scalar expression, optional
            For part names that are not Python names.
        replace : bool
            Put this in the place of a part of the same name, if there is one.
        **named_parts : scalar expressions
            Every plan reports each of them.
        """
        return self._objective(name, expr, unit, parts, named_parts, replace, maximize=False)

    def maximize(
        self,
        name: str,
        expr: Any = None,
        /,
        *,
        unit: str | None = None,
        parts: Mapping[str, Any] | None = None,
        replace: bool = False,
        **named_parts: Any,
    ) -> Objective:
        """Add an objective to make large; like `minimize`."""
        return self._objective(name, expr, unit, parts, named_parts, replace, maximize=True)

    def _objective(
        self, name: str, expr: Any, unit: str | None, parts: Any, named: dict[str, Any], replace: bool, maximize: bool
    ) -> Objective:
        self._free(name, "an objective", replace)
        if parts is not None and not isinstance(parts, Mapping):
            raise ModelError(f"the objective {name!r}: parts is a dict of name to expression, not {parts!r}")
        both = {**(parts or {}), **named}
        single = not both
        if single and expr is None:
            raise ModelError(f"the objective {name!r} is empty: give an expression, or named parts")
        if both and expr is not None:
            raise ModelError(f"the objective {name!r}: give one expression or named parts, not both")
        written = {name: expr} if single else both
        for part in written:
            check_name(part, "a part of an objective")
        scalars = {part: scalar(self._registry, value, f"{name}, part {part}") for part, value in written.items()}
        return self._keep(Objective(name, maximize, scalars, unit, single))

    def quantity(self, name: str, expr: Expression, *, unit: str | None = None, replace: bool = False) -> Quantity:
        """Name a total, or a family of them, that every plan reports and that limits nothing."""
        self._free(name, "a quantity", replace)
        if not isinstance(expr, Expression):
            raise ModelError(f"the quantity {name!r} is an expression of decisions, not {type(expr).__name__}")
        terms = terms_of(expr)
        self._own(terms, name)
        return self._keep(Quantity(name, terms, unit), terms.cells.axes, again=replace)

    # ------------------------------------------------------------------ what it is

    def formulation(self) -> Formulation:
        """Return a snapshot of all parts."""
        parts = tuple(self._parts.values())
        key = (self.name, self._registry.columns, *map(id, parts))
        if self._snapshot is None or self._snapshot[0] != key:
            self._check_axes(parts)
            made, arrays = self._arrays
            unchanged = len(made) == len(parts) and all(a is b for a, b in zip(made, parts, strict=True))
            sorts: dict[type, list[Any]] = {
                sort: [] for sort in (Decisions, Constraints, Ruled, Curve, Objective, Quantity)
            }
            for part in parts:
                sorts[type(part)].append(part)
            decisions, constraints, rules, curves, objectives, quantities = sorts.values()
            formulation = Formulation(
                self.name,
                self._registry,
                tuple(decisions),
                tuple(constraints),
                tuple(rules),
                tuple(curves),
                tuple(objectives),
                tuple(quantities),
                self._registry.columns,
                arrays if unchanged else None,
                self._relaxed,
                self.undeclared,
            )
            self._snapshot = key, formulation
        return self._snapshot[1]

    def problem(self) -> Problem:
        """Return the model as arrays, for its first objective, as a minimisation."""
        return lowered(self.formulation()).problems[0]

    @property
    def data_names(self) -> tuple[str, ...]:
        """The data tables that can be changed, of a model read from text."""
        return self._recipe.data_names if self._recipe is not None else ()

    @property
    def notes(self) -> tuple[str, ...]:
        """How the tables of a model read from text were understood."""
        return self._recipe.notes if self._recipe is not None else ()

    @property
    def undeclared(self) -> tuple[str, ...]:
        """Decisions that no heading of a model read from text declares; it is not solved until one does."""
        return self._recipe.undeclared if self._recipe is not None else ()

    @property
    def taken(self) -> tuple[str, ...]:
        """Unknown names that a model read from text took as decisions."""
        return self._recipe.taken if self._recipe is not None else ()

    def still_is(self, formulation: Formulation) -> bool:
        """Say whether a formulation is what the model says now."""
        return self.formulation() is formulation

    def changed(self, changes: Iterable[Change]) -> Formulation:
        """Return the formulation with changes made: data first, then the rest in their order.

        What was edited in Python after reading stays.

        Raises
        ------
        ModelError
            If a change names nothing of the model, or does not fit what it names.
        """
        changes = list(changes)
        data = [change for change in changes if split_member(change.target)[0] in self.data_names]
        rest = [change for change in changes if change not in data]
        formulation = self._with_data(data) if data else self.formulation()
        try:
            return with_changes(formulation, rest)
        except UnknownNameError as error:
            if not self.data_names:
                raise
            change = next(c for c in rest if str(error).startswith(str(c)))
            base = split_member(change.target)[0].partition(".")[0]
            names = [*names_of(formulation).all(("constraints", "decisions")), *self.data_names]
            raise UnknownNameError(
                f"{change}: no limit, decision or data has that name; {known(base, names)} (write DATA=, LIMIT=, "
                "DECISION.upper=, DECISION.kind=, or ROW.DECISION= for a coefficient)"
            ) from None

    def _with_data(self, changes: Sequence[Change]) -> Formulation:
        """Return the formulation read again with data changed; parts edited in Python keep their place."""
        assert self._recipe is not None
        fresh = self._recipe.read(changes)
        renumber = Renumbering(self._registry, self._read, fresh._registry.columns, fresh._parts)
        parts: dict[str, Part] = {}
        for name, part in self._parts.items():
            unedited = part is self._read.get(name)
            parts[name] = renumber.part(fresh._parts[name]) if unedited and name in fresh._parts else part
        variant = copy.copy(self)
        variant._parts = {
            name: relaxed(part) if self._relaxed and isinstance(part, Decisions) else part
            for name, part in parts.items()
        }
        variant._arrays = ((), None)
        return variant.formulation()

    # ------------------------------------------------------------------ solving

    def solve(self, **options: Unpack[SolveKeywords]) -> Plan:
        """Find the best plan.

        Several objectives are solved in the order they were written, each keeping what the ones
        before it reached. Ctrl-C stops the search and returns the best plan found so far.

        Parameters
        ----------
        **options
            time_limit, gap, node_limit, iteration_limit, memory_limit, method, presolve, certify, events, start,
            priorities, enforce, cores, give, progress, on_progress: see `SolveOptions`.

        Returns
        -------
        Plan
            Its ``status`` says ``optimal``, ``infeasible``, ``unbounded`` or ``stopped``.

        Raises
        ------
        ModelError
            If an option is unknown or has no such value, or a rule's decisions have no bounds.
        """
        from ruddock.modelling.solve import solve_formulation

        plan = solve_formulation(self.formulation(), SolveOptions.of(options))
        plan.model = self
        return plan

    def check(self) -> Findings:
        """Return what looks wrong, found before any solve: severity, where, why, and what to do."""
        from ruddock.insight.checks import check_model

        return check_model(self)

    def what_if(self, changes: Mapping[str, float | str] | Iterable[str], **options: Unpack[SolveKeywords]) -> WhatIf:
        """Solve the model as it is and with some changes, and set the two side by side.

        The changed model starts from the plan as it is, so that of equally good plans a near one is found.

        Parameters
        ----------
        changes : dict or words
            By name: a limit ``{"supply[Fell]": 140}`` or a family of them ``{"need": "*1.1"}`` (also ``"+10"``,
            ``"-10"``, ``"+10%"``, ``"off"``); ``"supply.lower"`` and ``.upper`` for one side of a range;
            ``"hampers.upper"``, ``.lower`` and ``.kind`` of decisions; ``"extraction.jars"`` for a coefficient on the
            side of a constraint where it stands, in an objective or a part of it; data tables of a model read from
            ``.rdk``. Words say the same: ``["need*=1.1", "shelf=off"]``.
        **options
            As for `solve`; a time limit is that of both solves together.

        Raises
        ------
        ModelError
            If a change cannot be read, names nothing of the model, or does not fit what it names.
        """
        from ruddock.insight.what_if import what_if

        return what_if(self, changes, options)

    def sweep(
        self, what: str, start: float, stop: float, /, *, points: int = 25, **options: Unpack[SolveKeywords]
    ) -> Sweep:
        """Follow the objective as one number of the model goes from ``start`` to ``stop``.

        For limits, bounds and objective coefficients of linear models the answer is exact: all corners of a
        piecewise-linear function. Other models, and coefficients in constraints, are solved at ``points`` values.

        Parameters
        ----------
        what : str
            A limit, a family of them, a bound such as ``hampers.upper``, a coefficient such as ``margin.jars``, data:
            all of them go to one value together. ``"power*"`` multiplies them by one factor.
        **options
            As for `solve`, for all solves together; what was solved when a limit or Ctrl-C ends it is kept.

        Raises
        ------
        ModelError
            If there is no such number, or the range is empty.
        """
        from ruddock.insight.sweep import sweep

        return sweep(self, what, start, stop, points, options)

    def reach(
        self,
        what: str,
        targets: Mapping[str, float] | None = None,
        *,
        objective: float | Mapping[str, float] | None = None,
        **options: Unpack[SolveKeywords],
    ) -> Reach:
        """Find the tightest value of a limit or bound at which a target is reached, or the proof that none allows it.

        Parameters
        ----------
        what : str
            A limit, a family of them, or a bound such as ``hampers.upper``; ``"power*"`` looks for one factor.
        targets : dict of quantity or decision to value, optional
            Each to be reached from where it stands in the best plan, upwards or downwards.
        objective : float or dict of objective to value, optional
            A value that the first objective, or each named, should be at least as good as.
        **options
            As for `solve`.

        Raises
        ------
        ModelError
            If a name is unknown or no target is given.
        """
        from ruddock.insight.reach import reach

        return reach(self, what, targets or {}, objective, options)

    def appraise(
        self, values: Mapping[str, float] | pd.Series[float] | str | Path, **options: Unpack[SolveKeywords]
    ) -> Appraisal:
        """Judge a plan made by hand: what it breaks, what it is worth, what optimising gains.

        Parameters
        ----------
        values : dict, Series or path of a CSV or workbook with columns ``decision`` and ``value``
            Decisions by name, ``ship[Fell,Quay]``; those not given count as 0.
        **options
            As for `solve`, for the best plan.

        Raises
        ------
        DataError, FormatError
            If a decision is unknown or a value is not a number.
        """
        from ruddock.insight.appraisal import appraise

        return appraise(self, values, options)

    def diagnose(
        self, may_change: Iterable[str] | Mapping[str, float] | None = None, **options: Unpack[SolveKeywords]
    ) -> Diagnosis:
        """Find out why there is no plan: the clashes, their proofs, and the least changes that make one.

        Parameters
        ----------
        may_change : names, or dict of name to price, optional
            Constraints, families or members, whose limits a repair may move, and bounds such as ``hampers.upper``;
            all constraints at the same price by default. Each may say which way, how far, and at what price of a
            unit: ``"demand down by 10% at 2.5"``.
        **options
            As for `solve`; the time limit, 60 seconds by default, is that of solve, clashes and repairs together. What
            was found when it ends, or Ctrl-C, is kept.

        Raises
        ------
        ModelError
            If ``may_change`` cannot be read, names nothing that can move, or says the way that tightens it.
        """
        from ruddock.insight.diagnosis import diagnose

        return diagnose(self, may_change, options)

    def tradeoff(
        self,
        *objectives: str,
        points: int | str = 21,
        on_point: Callable[[int], None] | None = None,
        **options: Unpack[SolveKeywords],
    ) -> Tradeoff:
        """Set objectives against each other: plans in which none gets better unless another gets worse.

        Of two objectives both ends are computed so that no plan is better than either: each objective at its best,
        then the other the best it can be with the first held. Between them the first is given up in equal steps. For
        linear models all corners of the frontier are found exactly, by following the price of the first objective's
        limit. Of three and more, the others are limited by a grid between their best and worst values.

        Parameters
        ----------
        *objectives : str
            Two or more objectives of the model; the first two by default.
        points : int or "all"
            How many steps; ``"all"`` finds every point of a model of two objectives whose second one moves in steps.
        on_point : callable, optional
            Called with the number of points so far.
        **options
            As for `solve`, for all solves together; the points found by then are kept.

        Raises
        ------
        ModelError
            If there is no such objective, or ``points`` does not suit.
        """
        from ruddock.insight.tradeoff import tradeoff

        return tradeoff(self, objectives, points, on_point, options)

    def scenarios(
        self,
        table: pd.DataFrame | str | Path,
        *,
        executor: Executor | None = None,
        jobs: int = 1,
        keep: str | Path | None = None,
        each_time_limit: float | None = None,
        on_result: Callable[[int, int], None] | None = None,
        **options: Unpack[SolveKeywords],
    ) -> Scenarios:
        """Solve the model under every scenario of a table, and compare.

        Parameters
        ----------
        table : DataFrame, or path of a ``.csv`` or ``.xlsx`` file
            A row a scenario. The column ``scenario`` names it; each other column is headed by what it changes, as for
            `what_if` (``need[Quay]``, ``extraction``, ``hampers.upper``). A cell holds a number, or ``+10``, ``*1.1``,
            ``+10%``, ``off``; an empty one changes nothing.
        executor : concurrent.futures.Executor, optional
            Runs the solves, such as a pool or a cluster's. Every scenario starts from the base plan, so the answers
            are the same whoever solves them.
        jobs : int
            Processes of a pool of its own, without an executor.
        keep : path, optional
            A file to which each result is appended as it comes. A run that was stopped goes on from it.
        each_time_limit : float, optional
            Seconds for each scenario; ``time_limit`` is that of all of them together.
        on_result : callable, optional
            Called after each result with how many there are, and of how many.
        **options
            As for `solve`.

        Returns
        -------
        Scenarios
            One that has no plan, or fails, keeps the others: its ``note`` says why.

        Raises
        ------
        FormatError
            If the table cannot be read, a cell holds no change, or ``keep`` is of another model.
        ModelError
            If a column names nothing of the model.
        """
        from ruddock.insight.scenarios import scenarios

        return scenarios(self, table, executor, jobs, keep, each_time_limit, on_result, options)

    def region(self, **options: Unpack[SolveKeywords]) -> Region:
        """Return the feasible region of a model of two decisions: corners, what meets there, and a figure.

        Raises
        ------
        ModelError
            If the model has not just two decisions, one of them is semicontinuous, or it has rules.
        """
        from ruddock.insight.region import region

        return region(self, options)

    def algebra(self, name: str | None = None) -> str:
        """Return the model written out as algebra, data filled in and long families elided.

        Parameters
        ----------
        name : str, optional
            One family, or one member such as ``supply[Fell]``, in full.
        """
        from ruddock.modelling.algebra import algebra

        return algebra(self.formulation(), name)

    def without_integers(self) -> Model:
        """Return the same model with every decision continuous: what fractions would allow.

        Its plan has prices, and its objective bounds that of the integer plan. Its data can be changed as before.
        """
        result = copy.copy(self)
        result.name = f"{self.name}, without integers"
        result._relaxed = True
        result._arrays = ((), None)
        result._parts = {
            name: relaxed(part) if isinstance(part, Decisions) else part for name, part in self._parts.items()
        }
        result._read = {
            name: result._parts.get(name, part) if part is self._parts.get(name) else part
            for name, part in self._read.items()
        }
        return result

    def describe(self) -> Description:
        """Return size, kinds, class and coefficient ranges of the model."""
        from ruddock.modelling.describe import describe

        return describe(self)

    def write(self, path: str | Path) -> None:
        """Write the model to a file; its ending says the form (``.rdk``, ``.mps``, ``.csv``, ``.xlsx``, ``.json``)."""
        from ruddock.formats import write

        write(self, path)

    # ------------------------------------------------------------------ whole problems

    @classmethod
    def from_arrays(
        cls,
        costs: Any,
        matrix: Any = None,
        relations: str | Sequence[str] = "<=",
        limits: Any = None,
        lower: Any = 0,
        upper: Any = None,
        kinds: Any = "continuous",
        *,
        equal_matrix: Any = None,
        equal_limits: Any = None,
        maximize: bool = False,
        axes: Sequence[Axis] | None = None,
        row_axes: Sequence[Axis] | None = None,
        names: tuple[str, str, str] = ("x", "row", "objective"),
        name: str = "model",
    ) -> Model:
        """Make a model from matrices.

        Parameters
        ----------
        costs : array, shape (n,) or the shape of the axes
        matrix : array or SciPy sparse matrix, shape (m, n), optional
        relations : ``<=``, ``>=`` or ``==``, one for all rows or a list of m
        limits : array, shape (m,)
        lower, upper : number or array, shape (n,); None is no upper bound, and 0 below
        kinds : a kind, or a list of n
        equal_matrix, equal_limits : a further block of equalities
        maximize : bool
        axes : sequence of Axis, optional
            Their combinations, last axis fastest, label the columns; ``row_axes`` the rows. So the plan
            comes back as labelled tables.
        names : of the decisions, the constraints and the objective
        name : the model's title

        Raises
        ------
        DataError, ModelError
            If shapes disagree, a value is no number, or a relation or kind is not known.

        Examples
        --------
        >>> model = Model.from_arrays([3, 2], [[1, 1], [1, 3]], "<=", [4, 6], maximize=True)
        >>> model.solve().objective
        12.0
        """
        model = cls(name)
        fill_from_arrays(
            model, costs, matrix, relations, limits, equal_matrix, equal_limits, lower, upper, kinds, maximize,
            axes, row_axes, names,
        )  # fmt: skip
        return model

    @classmethod
    def from_table(cls, frame: pd.DataFrame, name: str = "model") -> Model:
        """Make a model from a coefficient table: a column per decision, then ``relation`` and ``limit``.

        Rows named ``minimize`` or ``maximize`` hold the objective, ``lower``, ``upper`` and ``kind`` the
        domains; every other row is a constraint. Blank means 0.
        """
        from ruddock.formats.table import from_frame

        return from_frame(frame, name)

    @classmethod
    def _from_problem(
        cls, name: str, problem: Problem, columns: Axis, rows: Axis, objective: str, *, maximize: bool
    ) -> Model:
        """Return a model whose members go by the names of a file's rows and columns."""
        model = cls(name)
        registry = model._registry
        registry.columns = problem.n
        numbers = np.arange(problem.n, dtype=np.int64)
        model._keep(
            Decisions(
                registry, columns.name, Cells((columns,)), problem.lower, problem.upper, "continuous", None,
                numbers=numbers, listed=True, kinds=problem.kinds,
            )
        )  # fmt: skip
        owner = np.repeat(numbers, np.diff(problem.starts))
        cells = Cells((rows,))
        left = Terms(
            registry, cells, problem.indices.astype(np.intp), owner, problem.values, np.zeros(problem.m), summed=True
        )
        sides = Sides(left, "between", None, problem.row_lower, problem.row_upper)
        model._keep(Constraints(rows.name, sides, listed=True))
        sign = -1.0 if maximize else 1.0
        used = np.flatnonzero(problem.costs)
        part = Terms(
            registry, Cells(()), np.zeros(len(used), np.intp), used.astype(np.int64), sign * problem.costs[used],
            np.array([sign * problem.offset]),
        )  # fmt: skip
        model._keep(Objective(objective, maximize, {objective: part}, single=True))
        model._arrays = (tuple(model._parts.values()), problem)
        return model
