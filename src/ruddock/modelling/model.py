"""`Model`: a formulation, and what can be asked of it."""

from __future__ import annotations

import copy
from collections.abc import Callable, Iterable, Mapping, Sequence
from concurrent.futures import Executor
from pathlib import Path
from typing import TYPE_CHECKING, Any, Unpack

import pandas as pd

from ruddock.modelling.arrays import fill_from_arrays, fill_from_problem
from ruddock.modelling.axis import Axis
from ruddock.modelling.building import Building
from ruddock.modelling.decisions import Decisions, relaxed
from ruddock.modelling.describe import Description, describe
from ruddock.modelling.options import SolveKeywords, SolveOptions
from ruddock.modelling.plan import Plan
from ruddock.modelling.series import FloatSeries
from ruddock.problem import Problem

if TYPE_CHECKING:
    from ruddock.insight.appraisal import Appraisal
    from ruddock.insight.diagnosis import Diagnosis
    from ruddock.insight.findings import Findings
    from ruddock.insight.reach import Reach
    from ruddock.insight.region import Region
    from ruddock.insight.scenarios import Scenarios
    from ruddock.insight.sweep import Sweep
    from ruddock.insight.tradeoff import Tradeoff
    from ruddock.insight.what_if import WhatIf
else:  # answers of layers above, which are imported when they are asked for
    Appraisal = Diagnosis = Findings = Reach = Region = Scenarios = Sweep = Tradeoff = WhatIf = Any


class Model(Building):
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

    def _repr_html_(self) -> str:
        return self.describe()._repr_html_()

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
            As for `solve`, for all solves together, 60 seconds by default; what was solved when a limit or Ctrl-C ends
            it is kept.

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
            As for `solve`; the time limit is 60 seconds by default.

        Raises
        ------
        ModelError
            If a name is unknown or no target is given.
        """
        from ruddock.insight.reach import reach

        return reach(self, what, targets or {}, objective, options)

    def appraise(
        self, values: Mapping[str, float] | FloatSeries | str | Path, **options: Unpack[SolveKeywords]
    ) -> Appraisal:
        """Judge a plan made by hand: what it breaks, what it is worth, what optimising gains.

        Parameters
        ----------
        values : dict, Series or path of a CSV or workbook with columns ``decision`` and ``value``
            Decisions by name, ``ship[Fell,Quay]``; those not given count as 0.
        **options
            As for `solve`, for the best plan; the time limit is 60 seconds by default.

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
            As for `solve`, for all solves together, 60 seconds by default; the points found by then are kept.

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
        """Make a model from a coefficient grid: a column per decision, then one of relations and one of limits.

        Rows named ``minimize`` or ``maximize`` hold the objective, ``lower``, ``upper`` and ``kind`` the
        domains; every other row is a constraint. Blank means 0.
        """
        from ruddock.formats.grid.read import from_frame

        return from_frame(frame, name)

    @classmethod
    def _from_problem(
        cls, name: str, problem: Problem, columns: Axis, rows: Axis, objective: str, *, maximize: bool
    ) -> Model:
        """Return a model whose members go by the names of a file's rows and columns."""
        model = cls(name)
        fill_from_problem(model, problem, columns, rows, objective, maximize=maximize)
        return model
