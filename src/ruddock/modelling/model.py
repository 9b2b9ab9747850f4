"""`Model`: the formulation, built up by name."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Mapping, Sequence
from numbers import Real
from typing import TYPE_CHECKING, Any

import numpy as np

from ruddock.errors import DataError, ModelError, known
from ruddock.modelling.arrays import fill_from_arrays
from ruddock.modelling.axis import Axis, check_name
from ruddock.modelling.cells import Cells
from ruddock.modelling.data import Data, Source
from ruddock.modelling.decisions import Decisions, Kind, make_decisions
from ruddock.modelling.expression import Expression, Relation, Term
from ruddock.modelling.formulation import Constraints, Formulation, Objective, Quantity
from ruddock.modelling.logic import Rule
from ruddock.problem import Floats, Problem

if TYPE_CHECKING:
    from concurrent.futures import Executor
    from pathlib import Path

    import pandas as pd

    from ruddock.engine.outcome import Method, Progress
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

Part = Decisions | Constraints | Objective | Quantity


class Model:
    """A formulation: decisions, objectives, constraints and quantities, each with a name.

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
    maximize margin: margin
    >>> model.require("extraction", 0.5 * jars + 1.2 * mead <= 640)
    constraints extraction: 1 <=
    >>> round(model.solve().objective, 2)
    5376.0
    """

    def __init__(self, name: str = "model") -> None:
        if not isinstance(name, str):
            raise ModelError(f"the model's name is a title, not {type(name).__name__}: {name!r}")
        self.name = name
        self.helpers: set[str] = set()  # names of families that rules made for themselves
        self.columns = 0  # decision numbers given out so far; they are never given again
        self.notes: list[str] = []  # how tables were read, for show and check
        self.data_names: tuple[str, ...] = ()  # data tables that can be changed, for models read from text
        self.again: Callable[[Sequence[Change]], Model] | None = None  # reads such a model with its data changed
        self.implied: tuple[str, ...] = ()  # decisions that no heading declares
        self.ignored = 0  # data entries outside the families they were multiplied with
        self.axes: dict[str, Axis] = {}
        self._parts: dict[str, Part] = {}
        self._arrays: tuple[tuple[Part, ...], Problem | None] = ((), None)  # parts that were made from arrays

    # ------------------------------------------------------------------ parts by name

    def __getitem__(self, name: str) -> Part:
        """Return a decision family, constraint family, objective or quantity by name."""
        if name not in self._parts:
            raise ModelError(f"the model has nothing called {name!r}; {known(str(name), self._parts)}")
        return self._parts[name]

    def __contains__(self, name: object) -> bool:
        return name in self._parts

    def __repr__(self) -> str:
        sizes = self.formulation()
        return (
            f"model {self.name!r}: {sum(len(f) for f in sizes.decisions):,} decisions, "
            f"{sum(f.cells.size for f in sizes.constraints):,} constraints"
        )

    def _free_name(self, name: str, what: str) -> str:
        check_name(name, what)
        if name in self._parts:
            kind = {Decisions: "decisions", Constraints: "constraints", Objective: "an objective"}
            held = kind.get(type(self._parts[name]), "a quantity")
            raise ModelError(
                f"the name {name!r} is taken by {held} of this model; choose another, or take the old "
                f"one out first with model.drop({name!r})"
            )
        return name

    def _know(self, axes: tuple[Axis, ...]) -> None:
        for axis in axes:
            if self.axes.setdefault(axis.name, axis) != axis:
                raise ModelError(f"another axis called {axis.name!r} is used in this model already, with other labels")

    def drop(self, name: str) -> None:
        """Take out decisions, constraints, an objective or a quantity by name.

        Constraints that use dropped decisions must be dropped or rewritten before the next solve.
        """
        self[name]
        del self._parts[name]

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
    ) -> Decisions:
        """Declare a family of decision variables, one for each combination of labels.

        Parameters
        ----------
        name : str
        *axes : Axis
            None for a single variable.
        lower, upper : number, data or None
            Bounds; None means no bound. A decision is not negative unless told otherwise.
        kind : {"continuous", "integer", "binary", "semicontinuous"}
            A semicontinuous decision is 0 or between its bounds.
        unit : str, optional
        only : data mask, or list of label tuples
            The combinations that exist; the others cost nothing.

        Raises
        ------
        ModelError, DataError
        """
        check_name(name, "decisions")
        self._free_name(name, "decisions")
        family = make_decisions(self, name, axes, lower, upper, kind, unit, only)
        self._know(axes)
        self._parts[name] = family
        self.columns += len(family)
        return family

    def require(self, name: str, relation: Relation | Rule, *, unit: str | None = None) -> Constraints:
        """Add a family of constraints, one for each combination of labels in the relation.

        Parameters
        ----------
        name : str
        relation : from ``<=``, ``>=``, ``==`` or ``expr.between(low, high)``; or a rule from `when`, `either`, `run`,
            `pause`, which may add further constraints and decisions under names that begin with this one
        unit : str, optional
            Of both sides, for reports.
        """
        if isinstance(relation, Rule):
            return self._with_rule(name, relation, unit)
        self._free_name(name, "constraints")
        if not isinstance(relation, Relation):
            if isinstance(relation, (bool, np.bool_, Data)):
                raise ModelError(
                    f"{name}: this relation holds no decision, it compares plain numbers and is always "
                    "the same; was a decision left out?"
                )
            raise ModelError(f"{name}: a relation such as ship.sum(market) <= stock is needed, not {relation!r}")
        if relation.expression.model is not self:
            raise ModelError(f"{name}: the decisions belong to the model {relation.expression.model.name!r}")
        for bad, what in ((np.isnan(relation.lower), "NaN"), (np.isnan(relation.upper), "NaN")):
            if bad.any():
                raise ModelError(f"{name}: a limit is {what}")
        self._know(relation.expression.axes)
        relation = relation.in_order()
        family = Constraints(name, relation.expression, relation.lower, relation.upper, relation.sense, unit)
        self._parts[name] = family
        return family

    def _with_rule(self, name: str, rule: Rule, unit: str | None) -> Constraints:
        """Write a rule; one that fails leaves nothing behind."""
        self._free_name(name, "constraints")
        before = dict(self._parts)
        try:
            family = rule.write(self, name, unit)
        except (ModelError, DataError):
            self._parts = before
            raise
        self.helpers |= self._parts.keys() - before.keys() - ({name} if rule.telling else set())
        return family

    def piecewise(self, name: str, x: Any, points: Sequence[tuple[float, float]]) -> Expression:
        """Return a piecewise-linear function of an expression, to use in objectives and constraints.

        Works for any shape, rising or falling; decisions and constraints whose names begin with ``name`` are added.

        Parameters
        ----------
        name : str
        x : expression or decision
            Kept between the first and the last point.
        points : sequence of (x, y)
            Corners, x rising.

        Returns
        -------
        Expression
            Over the axes of ``x``.
        """
        from ruddock.modelling.logic import piecewise

        self._free_name(name, "a piecewise function")
        return piecewise(self, name, x, points)

    def minimize(
        self,
        name: str,
        expr: Any = None,
        /,
        *,
        unit: str | None = None,
        parts: dict[str, Any] | None = None,
        **named_parts: Any,
    ) -> Objective:
        """Add an objective to make small: one expression, or a sum of named parts.

        Parameters
        ----------
        name : str
        expr : scalar expression, optional
        unit : str, optional
        parts : dict of name to scalar expression, optional
            For part names that are no Python names.
        **named_parts : scalar expressions
            Every plan reports each of them.
        """
        return self._objective(name, expr, unit, parts, named_parts, maximize=False)

    def maximize(
        self,
        name: str,
        expr: Any = None,
        /,
        *,
        unit: str | None = None,
        parts: dict[str, Any] | None = None,
        **named_parts: Any,
    ) -> Objective:
        """Add an objective to make large; like `minimize`."""
        return self._objective(name, expr, unit, parts, named_parts, maximize=True)

    def _objective(
        self, name: str, expr: Any, unit: str | None, parts: Any, named: dict[str, Any], maximize: bool
    ) -> Objective:
        self._free_name(name, "an objective")
        both = {**(parts or {}), **named}
        single = not both
        if single and expr is None:
            raise ModelError(f"the objective {name!r} is empty: give an expression, or named parts")
        if both and expr is not None:
            raise ModelError(f"the objective {name!r}: give one expression or named parts, not both")
        written = {name: expr} if single else both
        scalars = {part: self._scalar(value, f"{name}, part {part}") for part, value in written.items()}
        objective = Objective(name, maximize, scalars, unit, single)
        self._parts[name] = objective
        return objective

    def quantity(self, name: str, expr: Any, *, unit: str | None = None) -> Quantity:
        """Name a total, or a family of them, that every plan reports and that limits nothing."""
        self._free_name(name, "a quantity")
        if not isinstance(expr, (Expression, Term)):
            raise ModelError(f"the quantity {name!r} is an expression of decisions, not {type(expr).__name__}")
        quantity = Quantity(name, expr.expression() if isinstance(expr, Term) else expr, unit)
        self._parts[name] = quantity
        return quantity

    def _scalar(self, value: Any, where: str) -> Expression:
        if isinstance(value, Real):
            none = (np.empty(0, np.intp), np.empty(0, np.int64), np.empty(0))
            return Expression(self, Cells(()), none, np.array([float(value)]))
        if isinstance(value, Term):
            value = value.expression()
        if not isinstance(value, Expression):
            raise ModelError(f"{where}: an expression of decisions is needed, not {type(value).__name__}")
        if value.model is not self:
            raise ModelError(f"{where}: the decisions belong to the model {value.model.name!r}")
        if value.axes:
            raise ModelError(
                f"{where}: this is still spread over {', '.join(value.cells.names)}; add .sum() to total it"
            )
        return value

    # ------------------------------------------------------------------ solving

    def formulation(self) -> Formulation:
        """Return a snapshot of all parts."""
        parts = self._parts.values()
        made, arrays = self._arrays
        unchanged = len(made) == len(parts) and all(a is b for a, b in zip(made, parts, strict=True))
        return Formulation(
            self.name,
            tuple(part for part in parts if isinstance(part, Decisions)),
            tuple(part for part in parts if isinstance(part, Constraints)),
            tuple(part for part in parts if isinstance(part, Objective)),
            tuple(part for part in parts if isinstance(part, Quantity)),
            self.columns,
            frozenset(self.helpers & self._parts.keys()),
            arrays if unchanged else None,
        )

    def problem(self) -> Problem:
        """Return the model as arrays, for its first objective, as a minimisation."""
        formulation = self.formulation()
        return formulation.problem(formulation.first_objective)

    def solve(
        self,
        *,
        time_limit: float | None = None,
        gap: float = 0.0,
        node_limit: int | None = None,
        iteration_limit: int | None = None,
        on_progress: Callable[[Progress], None] | None = None,
        method: Method = "auto",
        presolve: bool = True,
        exact: bool = False,
        log: str | Path | None = None,
        start: Plan | Mapping[str, float] | pd.Series[float] | str | Path | None = None,
        priorities: Mapping[str, float] | None = None,
        lazy: Callable[[Plan], Iterable[Relation]] | None = None,
        memory_limit: float | None = None,
        cores: int = 2,
        give: Mapping[str, float | str] | None = None,
    ) -> Plan:
        """Find the best plan.

        Several objectives are solved in the order they were written, each keeping what the ones
        before it reached. Ctrl-C stops the search and returns the best plan found so far.

        Parameters
        ----------
        time_limit : float, optional
            Seconds.
        gap : float
            Relative gap at which a plan counts as optimal; 0 proves the very best.
        node_limit, iteration_limit : int, optional
        on_progress : callable, optional
            Called with `Progress` at most ten times a second.
        method : ``auto``, ``dual``, ``primal`` or ``interior``
            For linear models: the dual or primal simplex method, or an interior-point method whose
            answer is carried over to a basis. The answer is the same; the time is not.
        presolve : bool
            Whether the model is made smaller and tighter first; the answer is that of the whole model.
        exact : bool
            Check the final basis of a linear model in rational arithmetic, and repair it where it is not
            exactly optimal; ``plan.effort.certified`` says whether that worked.
        log : path, optional
            Write what happens to this file, a line of JSON for each event.
        start : plan, values by name, or a CSV file or workbook of them, optional
            Where a search with whole numbers starts from. A part of the decisions will do; what is no plan is
            repaired where that is quickly possible. A linear model starts from the corner of a plan: quick after a
            small change, and ending near it.
        priorities : dict of name to number, optional
            Decisions, families or members, that a search branches on first: the highest first.
        lazy : callable, optional
            Constraints too many to write down: asked about every whole plan found, it returns the relations that the
            plan breaks, or nothing.
        memory_limit : float, optional
            Megabytes that the open parts of a search may take.
        cores : int
            2 lets a second process take a share of a long search; 1 does not. Either takes the same path every time.

        give : dict of objective to share or amount, optional
            How much of an objective the ones after it may give up: ``{"margin": 0.05}`` or ``"5%"`` of its value, or an
            amount in its unit, ``"200"``. Nothing by default: the order of the objectives is strict.

        Returns
        -------
        Plan
            Its ``status`` says ``optimal``, ``infeasible``, ``unbounded`` or ``stopped``.
        """
        from ruddock.modelling.solve import solve_model

        plan = solve_model(
            self.formulation(),
            time_limit=time_limit,
            gap=gap,
            node_limit=node_limit,
            iteration_limit=iteration_limit,
            on_progress=on_progress,
            method=method,
            presolve=presolve,
            exact=exact,
            log=log,
            give=give,
            start=start,
            priorities=priorities,
            lazy=lazy,
            memory_limit=memory_limit,
            cores=cores,
        )
        plan.model = self
        return plan

    def still_is(self, formulation: Formulation) -> bool:
        """Say whether a formulation is what the model says now."""
        now = self.formulation()
        return all(
            len(mine) == len(theirs) and all(a is b for a, b in zip(mine, theirs, strict=True))
            for mine, theirs in (
                (now.decisions, formulation.decisions),
                (now.constraints, formulation.constraints),
                (now.objectives, formulation.objectives),
            )
        )

    def check(self) -> Findings:
        """Return what looks wrong, found before any solve: severity, where, why, and what to do."""
        from ruddock.insight.checks import check_model

        return check_model(self)

    def what_if(self, changes: Mapping[str, float | str] | Iterable[str], **solve: Any) -> WhatIf:
        """Solve the model as it is and with some changes, and set the two side by side.

        The changed model starts from the plan as it is, so that of equally good plans a near one is found.

        Parameters
        ----------
        changes : dict or words
            By name: a limit ``{"supply[Fell]": 140}`` or a family of them ``{"need": "*1.1"}`` (also ``"+10"``,
            ``"-10"``, ``"off"``); ``"supply.lower"`` and ``.upper`` for one side; ``"hampers.upper"``, ``.lower`` and
            ``.kind`` of decisions; ``"extraction.jars"`` for a coefficient in a constraint, an objective or a part
            of it; data tables of a model read from ``.rdk``. Words say the same: ``["need*=1.1", "shelf=off"]``.
        **solve
            As for `solve`.

        Raises
        ------
        ModelError
            If a change cannot be read, names nothing of the model, or does not fit what it names.
        """
        from ruddock.insight.what_if import what_if

        return what_if(self, changes, **solve)

    def sweep(self, limit: str, start: float, stop: float, *, points: int = 25) -> Sweep:
        """Follow the objective as one limit goes from ``start`` to ``stop``.

        For linear models the answer is exact: all corners of a piecewise-linear function, each found from the
        price and its reach at the one before. Models with whole numbers are solved at ``points`` values.

        Parameters
        ----------
        limit : str
            A constraint by name, with ``.lower`` or ``.upper`` where it has two limits.

        Raises
        ------
        ModelError
            If there is no such single limit, or the range is empty.
        """
        from ruddock.insight.sweep import sweep

        return sweep(self, limit, start, stop, points)

    def reach(
        self, limit: str, targets: Mapping[str, float] | None = None, *, objective: float | None = None, **solve: Any
    ) -> Reach:
        """Find the tightest value of a limit at which a target is reached, or the proof that none allows it.

        Parameters
        ----------
        limit : str
            A constraint by name, with ``.lower`` or ``.upper`` where it has two limits.
        targets : dict of quantity or decision to value, optional
            Each to be reached from where it stands in the best plan, upwards or downwards.
        objective : float, optional
            A value that the objective shall be at least as good as.

        Raises
        ------
        ModelError
            If a name is unknown or no target is given.
        """
        from ruddock.insight.reach import reach

        return reach(self, limit, targets or {}, objective, **solve)

    def appraise(self, values: Mapping[str, float] | pd.Series[float] | str | Path, **solve: Any) -> Appraisal:
        """Judge a plan made by hand: what it breaks, what it is worth, what optimising gains.

        Parameters
        ----------
        values : dict, Series or path of a CSV or workbook with columns ``decision`` and ``value``
            Decisions by name, ``ship[Fell,Quay]``; those not given count as 0.

        Raises
        ------
        DataError, FormatError
            If a decision is unknown or a value is no number.
        """
        from ruddock.insight.appraisal import appraise

        return appraise(self, values, **solve)

    def diagnose(
        self, may_change: Iterable[str] | Mapping[str, float] | None = None, *, time_limit: float | None = None
    ) -> Diagnosis:
        """Find out why there is no plan: the clashes, their proofs, and the least changes that make one.

        Parameters
        ----------
        may_change : names, or dict of name to price, optional
            Constraints, families or members, whose limits a repair may move, and bounds such as ``hampers.upper``;
            all constraints at the same price by default. Each may say which way, how far, and at what price of a
            unit: ``"demand down by 10% at 2.5"``.
        time_limit : float, optional
            Seconds, for each of the searches.

        Raises
        ------
        ModelError
            If ``may_change`` cannot be read, names nothing that can move, or says the way that tightens it.
        """
        from ruddock.insight.diagnosis import diagnose

        return diagnose(self, may_change, time_limit)

    def tradeoff(
        self,
        first: str,
        second: str,
        *,
        points: int | str = 21,
        time_limit: float | None = None,
        on_point: Callable[[int], None] | None = None,
    ) -> Tradeoff:
        """Set two objectives against each other: plans in which neither gets better unless the other gives way.

        Both ends are computed so that nothing betters them: each objective at its best, then the other the
        best beside it. Between them the first gives up even shares of its way. For linear models all corners of the
        frontier are found exactly, by following the price of the first objective's limit.

        Parameters
        ----------
        first, second : str
            Objectives of the model.
        points : int or "all"
            How many shares; ``"all"`` finds every point of a whole-number model whose second objective moves in steps.
        time_limit : float, optional
            Seconds; the points found by then are kept.
        on_point : callable, optional
            Told the number of points so far.

        Raises
        ------
        ModelError
            If there is no such objective, or ``points`` does not suit.
        """
        from ruddock.insight.tradeoff import tradeoff

        return tradeoff(self, first, second, points, time_limit, on_point)

    def scenarios(
        self,
        table: pd.DataFrame | str | Path,
        *,
        executor: Executor | None = None,
        jobs: int = 1,
        keep: str | Path | None = None,
        time_limit: float | None = None,
        gap: float = 0.0,
        give: Mapping[str, float | str] | None = None,
        on_result: Callable[[int, int], None] | None = None,
    ) -> Scenarios:
        """Solve the model under every scenario of a table, and compare.

        Parameters
        ----------
        table : DataFrame, or path of a ``.csv`` or ``.xlsx`` file
            A row a scenario. The column ``scenario`` names it; each other column is headed by what it changes, as for
            `what_if` (``need[Quay]``, ``extraction``, ``hampers.upper``). A cell holds a number, or ``+10``, ``*1.1``,
            ``off``; an empty one changes nothing.
        executor : concurrent.futures.Executor, optional
            Runs the solves, such as a pool or a cluster's. Every scenario starts from the base plan, so the answers
            are the same whoever solves them.
        jobs : int
            Processes of a pool of its own, without an executor.
        keep : path, optional
            A file to which each result is appended as it comes. A run that was stopped goes on from it.
        time_limit, gap, give
            As for `solve`, for each scenario.
        on_result : callable, optional
            Told after each result how many there are, and of how many.

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

        return scenarios(
            self,
            table,
            executor=executor,
            jobs=jobs,
            keep=keep,
            time_limit=time_limit,
            gap=gap,
            give=give,
            on_result=on_result,
        )

    def region(self) -> Region:
        """Return the feasible region of a model of two decisions: corners, what meets there, and a figure.

        Raises
        ------
        ModelError
            If the model has not just two decisions, or one of them is semicontinuous.
        """
        from ruddock.insight.region import region

        return region(self)

    def algebra(self, name: str | None = None) -> str:
        """Return the model written out as algebra, data filled in and long families elided.

        Parameters
        ----------
        name : str, optional
            One family, or one member such as ``supply[Fell]``, in full.
        """
        from ruddock.reporting.algebra import algebra

        return algebra(self.formulation(), name)

    def without_integers(self) -> Model:
        """Return the same model with every decision continuous: what fractions would allow.

        Its plan has prices, and its objective bounds that of the whole-number plan.
        """
        relaxed = Model(f"{self.name}, without integers")
        relaxed.columns, relaxed.ignored, relaxed.axes = self.columns, self.ignored, dict(self.axes)
        relaxed.helpers = set(self.helpers)
        relaxed._parts = {
            name: part.relaxed(relaxed) if isinstance(part, Decisions) else part for name, part in self._parts.items()
        }
        return relaxed

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
        cells = Cells((columns,))
        model._parts[columns.name] = Decisions(
            model,
            columns.name,
            cells,
            problem.lower,
            problem.upper,
            "continuous",
            None,
            first=0,
            listed=True,
            marks=problem.kinds,
        )
        model.columns = problem.n
        columns_of = np.repeat(np.arange(problem.n, dtype=np.int32), np.diff(problem.starts))
        terms: Any = (problem.indices, columns_of, problem.values)
        expression = Expression(model, Cells((rows,)), terms, summed=True)
        model._parts[rows.name] = Constraints(
            rows.name, expression, problem.row_lower, problem.row_upper, "between", listed=True
        )
        sign = -1.0 if maximize else 1.0
        used = np.flatnonzero(problem.costs)
        costs: Floats = sign * problem.costs[used]
        part = Expression(
            model,
            Cells(()),
            (np.zeros(len(used), np.intp), used.astype(np.int64), costs),
            np.array([sign * problem.offset]),
        )
        model._parts[objective] = Objective(objective, maximize, {objective: part}, single=True)
        model._arrays = (tuple(model._parts.values()), problem)
        return model
