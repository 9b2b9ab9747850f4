"""Many scenarios of one model: solved in one go, each from the base plan, and compared.

Every scenario starts from the same base plan, so that the answers are the same in whatever order, and by whatever
executor, they are solved.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import FIRST_COMPLETED, Executor, Future, ProcessPoolExecutor, wait
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.document.content import Block, Figure
from ruddock.document.result import Result
from ruddock.engine.clash import find_clashes
from ruddock.engine.in_order import Give, Stage, solve_in_order
from ruddock.engine.outcome import Limits, Options, Outcome
from ruddock.errors import ModelError, RuddockError, listed
from ruddock.insight.diagnosis import reasons_of, without_hidden_limits
from ruddock.insight.scenario_store import ScenarioResult, Store
from ruddock.insight.scenario_table import Scenario, read_scenarios
from ruddock.modelling.frames import distinct
from ruddock.modelling.hints import added_hints, start_from
from ruddock.modelling.lowering import lowered
from ruddock.modelling.names import UnknownNameError
from ruddock.modelling.options import Clock, SolveOptions, interruptible, running
from ruddock.modelling.plan import Plan
from ruddock.modelling.solve import parse_give, solve_formulation
from ruddock.problem import Problem

if TYPE_CHECKING:
    from ruddock.modelling.formulation import Formulation
    from ruddock.modelling.model import Model

MOVED = 1e-7  # relative: decisions that differ by less have not moved
AHEAD = 2  # tasks for each process that wait to be taken up
WHY_SECONDS = 2.0  # that are spent on the reason why a scenario has no plan
FIXED = ("status", "objective", "difference", "note")  # columns of ours


@dataclass(frozen=True, eq=False, repr=False)
class Scenarios(Result):
    """A base plan and the answers to a table of scenarios.

    Attributes
    ----------
    base : Plan
    scenarios : list of Scenario, in the order of the table
    results : list of ScenarioResult, one for each that was solved, in that order
    stopped : whether the run was interrupted before all were solved
    """

    base: Plan
    scenarios: list[Scenario]
    results: list[ScenarioResult]
    stopped: bool = False

    undrawn = "no scenario has a plan with an objective"

    def _title(self) -> str:
        return self.base.model_name

    def _blocks(self) -> Sequence[Block]:
        from ruddock.insight.scenarios_words import scenarios_blocks

        return scenarios_blocks(self)

    def figure(self) -> Figure | None:
        """Return a figure of the objective of every scenario."""
        from ruddock.insight.scenarios_words import scenarios_figure

        return (
            Figure(partial(scenarios_figure, self), "The objective of every scenario", 5.0)
            if self.solved and self.base.goal is not None
            else None
        )

    def __len__(self) -> int:
        return len(self.results)

    @property
    def solved(self) -> list[ScenarioResult]:
        """The results that have a plan."""
        return [result for result in self.results if result.found]

    def table(self) -> pd.DataFrame:
        """Return a row a scenario: status, objective, difference to the base, other values, note.

        A name that is taken by a column of ours, or twice, says what it is: ``status (part)``.
        """
        base = self.base.objective if self.base.found else float("nan")
        taken: list[str] = list(FIXED)
        columns: dict[tuple[str, str], str] = {}
        goals = self.base.formulation.objectives
        sorts = (("objectives", "objective"), ("parts", "part"), ("quantities", "quantity"))
        for sort, what in sorts:
            skip = {goals[0].name} if sort == "objectives" and goals else set()
            names = list(dict.fromkeys(n for r in self.results for n in getattr(r, sort) if n not in skip))
            if sort == "parts" and len(names) < 2:
                names = []
            shown = distinct(names, taken, what)
            taken += shown
            columns |= {(sort, name): column for name, column in zip(names, shown, strict=True)}
        rows = []
        for result in self.results:
            known = result.found and result.objective is not None
            value = float(result.objective or 0.0) if known else float("nan")
            own = {column: getattr(result, sort).get(name, np.nan) for (sort, name), column in columns.items()}
            rows.append(
                {"status": result.status, "objective": value, "difference": value - base, **own, "note": result.note}
            )
        return pd.DataFrame(rows, index=pd.Index([r.scenario for r in self.results], name="scenario"))

    def with_decisions(self) -> pd.DataFrame:
        """Return the table with a column for each decision behind it; names that are taken say ``(decision)``."""
        table, decisions = self.table(), self.decisions().T
        decisions.columns = pd.Index(distinct(map(str, decisions.columns), map(str, table.columns), "decision"))
        return table.join(decisions)

    def decisions(self, *, moved: bool = False) -> pd.DataFrame:
        """Return the decisions, a row each, a column for each scenario that has a plan.

        Parameters
        ----------
        moved : bool
            Only decisions that are not the same in all scenarios and the base.
        """
        formulation = self.base.formulation
        names = formulation.decision_names
        solved = self.solved
        values = np.array([result.values for result in solved]).reshape(len(solved), len(names))
        columns = pd.Index([r.scenario for r in solved], name="scenario")
        frame = pd.DataFrame(values.T, index=pd.Index(names, name="decision"), columns=columns)
        if not moved or not len(solved):
            return frame
        everything = np.vstack((values, self.base.values)) if self.base.found else values
        spread = np.ptp(everything, axis=0) > MOVED * np.maximum(1.0, np.abs(everything).max(axis=0))
        return frame.loc[spread]

    def binding(self) -> pd.DataFrame:
        """Return which limits bind: a row for each constraint that does in some scenario, a column a scenario."""
        solved = self.solved
        held = [set(result.binding) for result in solved]
        some = set().union(*held)
        names = [name for name in self.base.formulation.constraint_names if name in some]
        data = [[name in own for name in names] for own in held]
        scenario = pd.Index([r.scenario for r in solved], name="scenario")
        return pd.DataFrame(data, index=scenario, columns=pd.Index(names, name="constraint")).T

    def _facts(self) -> dict[str, Any]:
        return {
            "format": "ruddock-scenarios/1",
            "model": self.base.model_name,
            "base": {
                "status": self.base.status,
                "objective": self.base.objective if self.base.found else None,
            },
            "stopped": self.stopped,
            "scenarios": [
                result.as_dict(dict(zip(self.base.formulation.decision_names, result.values, strict=False)))
                for result in self.results
            ],
        }


@dataclass(frozen=True)
class Task:
    """What a worker needs to solve one scenario: arrays only."""

    problems: list[Problem]
    gives: list[Give]
    seconds: float
    gap: float
    options: Options


@dataclass(frozen=True)
class Answer:
    """What a worker gives back."""

    outcome: Outcome
    stages: list[Stage]
    seconds: float


def work(task: Task) -> Answer:
    """Solve one scenario; in whatever process the executor runs it."""
    begin = time.monotonic()
    with interruptible() as interrupted:
        limits = Limits(seconds=task.seconds, gap=task.gap, interrupted=interrupted)
        outcome, stages = solve_in_order(task.problems, task.gives, limits, task.options)
    return Answer(outcome, stages, time.monotonic() - begin)


def scenarios(
    model: Model,
    table: Any,
    executor: Executor | None,
    jobs: int,
    keep: str | Path | None,
    each_time_limit: float | None,
    on_result: Callable[[int, int], None] | None,
    given: Mapping[str, Any],
) -> Scenarios:
    """Solve a model under every scenario of a table; see `Model.scenarios`."""
    options = SolveOptions.of(given)
    SolveOptions(time_limit=each_time_limit)
    if isinstance(jobs, bool) or not isinstance(jobs, int) or jobs < 1:
        raise ModelError(f"jobs is a integer from 1 on, not {jobs!r}")
    asked = read_scenarios(table, allow_outside=model._recipe is not None and model._recipe.allow_outside)
    with running(options, model.formulation()) as clock:
        study = _Study(model, asked, each_time_limit, options, clock)
        store = Store(None if keep is None else Path(keep), study.fingerprint())
        pool: AbstractContextManager[Executor | None] = nullcontext(executor)
        if executor is None and jobs > 1:
            pool = ProcessPoolExecutor(jobs, initializer=follow_parent)
        with store, pool as workers:
            done = {scenario.name: kept for scenario in asked if (kept := store.result(scenario)) is not None}
            if on_result is not None:
                on_result(len(done), len(asked))
            left = [scenario for scenario in asked if scenario.name not in done]
            for scenario, result in study.run(left, workers, jobs if executor is None else None):
                if result.reason == "user" or (result.reason == "time" and clock.out() is not None):
                    continue  # not an answer of its own: solved again when the run is taken up
                store.append(scenario, result)
                done[scenario.name] = result
                if on_result is not None:
                    on_result(len(done), len(asked))
    results = [done[scenario.name] for scenario in asked if scenario.name in done]
    return Scenarios(study.base, asked, results, stopped=len(results) < len(asked))


def follow_parent() -> None:
    """End a worker process when the one that started it is gone, however that ended."""
    import multiprocessing
    import os
    import threading

    def follow() -> None:
        parent = multiprocessing.parent_process()
        if parent is not None:
            parent.join()
            os._exit(1)

    threading.Thread(target=follow, daemon=True).start()


class _Study:
    """The base plan, and from each scenario a task and back."""

    def __init__(
        self, model: Model, asked: list[Scenario], each: float | None, options: SolveOptions, clock: Clock
    ) -> None:
        self.model, self.options, self.clock = model, options, clock
        self.each = float("inf") if each is None else float(each)
        self.formulation = model.formulation()
        self.gives = parse_give(self.formulation, options.give)
        self._check_headings(asked)
        self.base = solve_formulation(self.formulation, replace(options, cores=1), clock)
        self.base.model = model

    def fingerprint(self) -> str:
        """Return what identifies the model with all that is kept of it, and the way it is solved."""
        import hashlib

        o = self.options
        digest = hashlib.sha256(repr((o.gap, self.gives, self.each, o.node_limit, o.iteration_limit)).encode())
        for problem in lowered(self.formulation).problems:
            for name in ("starts", "indices", "values", "row_lower", "row_upper", "lower", "upper", "costs", "kinds"):
                digest.update(getattr(problem, name).tobytes())
            digest.update(repr(problem.offset).encode())
        f = self.formulation
        words = [*f.decision_names, *f.constraint_names]
        for goal in f.objectives:
            words += [goal.name, str(goal.maximize)]
            for name, part in goal.parts.items():
                words.append(name)
                for values in (part.columns, part.values, part.constants):
                    digest.update(values.tobytes())
        for quantity in f.reported:
            words += [*quantity.members(), quantity.unit or ""]
            for values in (
                quantity.terms.rows,
                quantity.terms.columns,
                quantity.terms.values,
                quantity.terms.constants,
            ):
                digest.update(values.tobytes())
        digest.update(repr(words).encode())
        return digest.hexdigest()[:32]

    def _check_headings(self, asked: list[Scenario]) -> None:
        """Raise at once for a heading that names nothing; a value that does not fit fails its own scenario only."""
        first = {change.target: change for scenario in reversed(asked) for change in reversed(scenario.changes)}
        for change in first.values():
            try:
                self.model.changed([change])
            except UnknownNameError:
                raise
            except RuddockError:
                continue

    def run(
        self, left: list[Scenario], workers: Executor | None, jobs: int | None
    ) -> Iterator[tuple[Scenario, ScenarioResult]]:
        """Yield each scenario with its result as it comes."""
        if workers is None:
            for scenario in left:
                if self.clock.out() is not None:
                    return
                prepared = self._prepared(scenario)
                if isinstance(prepared, ScenarioResult):
                    yield scenario, prepared
                    continue
                formulation, task = prepared
                yield scenario, self._result(scenario, formulation, _ended(_answered(task)))
            return
        yield from self._run_by(workers, left, AHEAD * (jobs or 32))

    def _run_by(self, workers: Executor, left: list[Scenario], ahead: int) -> Iterator[tuple[Scenario, ScenarioResult]]:
        """Keep an executor busy, a few tasks ahead of what it has done."""
        queue = iter(left)
        running: dict[Future[Answer], tuple[Scenario, Formulation]] = {}
        more = True
        while more or running:
            while more and len(running) < ahead and self.clock.out() is None:
                scenario = next(queue, None)
                if scenario is None:
                    more = False
                    break
                prepared = self._prepared(scenario)
                if isinstance(prepared, ScenarioResult):
                    yield scenario, prepared
                    continue
                running[workers.submit(work, prepared[1])] = scenario, prepared[0]
            if self.clock.out() is not None:
                more = False
                for future in [f for f in running if f.cancel()]:
                    del running[future]
            for future in wait(running, timeout=0.2, return_when=FIRST_COMPLETED).done:
                scenario, formulation = running.pop(future)
                yield scenario, self._result(scenario, formulation, _ended(future))

    def _prepared(self, scenario: Scenario) -> tuple[Formulation, Task] | ScenarioResult:
        """Return a scenario's formulation and task; the result, where a change does not fit."""
        try:
            formulation = self.model.changed(scenario.changes)
            problems = lowered(formulation).problems
            options = added_hints(Options(self.options.method, self.options.presolve), self.options, formulation)
            parse_give(formulation, self.options.give)
        except RuddockError as error:
            return ScenarioResult(scenario.name, "error", note=str(error))
        if self.options.start is None and self.base.found:
            start, basis = start_from(formulation, self.base)
            options = replace(options, start=start, basis=basis)
        options = replace(options, cores=1, repair=False, lazy=None)
        left = self.clock.limits.seconds - self.clock.limits.elapsed()
        return formulation, Task(problems, self.gives, min(self.each, max(left, 0.0)), self.options.gap, options)

    def _result(self, scenario: Scenario, formulation: Formulation, answer: Answer | BaseException) -> ScenarioResult:
        """Put an answer into words and numbers."""
        if isinstance(answer, BaseException):
            return ScenarioResult(scenario.name, "error", note=f"{type(answer).__name__}: {answer}")
        plan = Plan(formulation, answer.outcome, tuple(answer.stages), tuple(self.gives))
        result = ScenarioResult(scenario.name, plan.status, plan.reason, seconds=answer.seconds)
        if not plan.found or plan.outcome.x is None:
            return replace(result, note=_why(formulation, plan))
        constraints = plan.constraints()
        note = "" if plan.status == "optimal" else f"stopped, gap {plan.gap:.2%}"
        has_goal = plan.objective_name is not None
        names = self.formulation.decision_names
        values = plan.values.tolist()
        if formulation.decision_names != names:  # changed data may add or leave out members
            held = dict(zip(formulation.decision_names, values, strict=True))
            values = [held.get(name, float("nan")) for name in names]
        return replace(
            result,
            objective=plan.objective if has_goal else None,
            bound=plan.bound if has_goal and np.isfinite(plan.bound) else None,
            objectives={str(name): float(value) for name, value in plan.objectives()["value"].items()},
            parts={str(name): float(value) for name, value in plan.breakdown().items()} if has_goal else {},
            quantities=formulation.quantity_values(plan.outcome.x),
            values=values,
            binding=[str(name) for name in constraints.index[constraints["binding"]]],
            note=note,
        )


def _answered(task: Task) -> Future[Answer]:
    """Solve a task here and now."""
    future: Future[Answer] = Future()
    try:
        future.set_result(work(task))
    except Exception as error:  # what goes wrong in one scenario must not lose the others
        future.set_exception(error)
    return future


def _ended(future: Future[Answer]) -> Answer | BaseException:
    error = future.exception()
    return future.result() if error is None else error


def _why(formulation: Formulation, plan: Plan) -> str:
    """Return in a line why there is no plan."""
    if plan.status == "unbounded":
        return f"{plan.objective_name} can improve without limit"
    if plan.status != "infeasible":
        return "stopped before any plan was found"
    whole, _ = without_hidden_limits(formulation)
    clashes = find_clashes(whole.problems[0], 1, Limits(seconds=WHY_SECONDS), helpers=formulation.size)
    if not clashes:
        return "no plan exists"
    return f"no plan: {listed(reasons_of(whole, clashes[0]), 4)} clash"
