"""Many scenarios of one model: solved in one go, each from the base plan, and compared.

Every scenario starts from the same base plan, so that the answers are the same in whatever order, and by whatever
executor, they are solved.
"""

from __future__ import annotations

import time
from collections.abc import Callable, Iterable, Iterator
from concurrent.futures import FIRST_COMPLETED, Executor, Future, ProcessPoolExecutor, wait
from contextlib import AbstractContextManager, nullcontext
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.engine.clash import find_clashes
from ruddock.engine.in_order import Give, solve_in_order
from ruddock.engine.outcome import Limits, Options, Outcome
from ruddock.errors import ModelError, RuddockError, listed
from ruddock.insight.apply import changed_formulation
from ruddock.insight.diagnosis import reasons_of
from ruddock.insight.scenario_store import Result, Store
from ruddock.insight.scenario_table import Scenario, read_scenarios
from ruddock.modelling.plan import Plan
from ruddock.modelling.printed import Printed
from ruddock.modelling.solve import interruptible, parse_give
from ruddock.problem import Problem
from ruddock.tables import Table

if TYPE_CHECKING:
    from collections.abc import Mapping

    from matplotlib.axes import Axes

    from ruddock.modelling.formulation import Formulation
    from ruddock.modelling.model import Model

MOVED = 1e-7  # relative: decisions that differ by less have not moved
AHEAD = 2  # tasks for each process that wait to be taken up
WHY_SECONDS = 2.0  # that are spent on the reason why a scenario has no plan
UNKNOWN = "there is no limit, decision or data of that name"


@dataclass(frozen=True, eq=False)
class Scenarios(Printed):
    """A base plan and the answers to a table of scenarios.

    Attributes
    ----------
    base : Plan
    scenarios : list of Scenario, in the order of the table
    results : list of Result, one for each that was solved, in that order
    stopped : whether the run was interrupted before all were solved
    """

    base: Plan
    scenarios: list[Scenario]
    results: list[Result]
    stopped: bool = False

    def parts(self) -> list[str | Table]:
        """Return what is printed, as sentences and tables."""
        from ruddock.reporting.scenarios import scenarios_parts

        return scenarios_parts(self)

    def __len__(self) -> int:
        return len(self.results)

    @property
    def solved(self) -> list[Result]:
        """The results that have a plan."""
        return [result for result in self.results if result.found]

    @property
    def table(self) -> pd.DataFrame:
        """One row a scenario: status, objective, difference to the base, parts, quantities, what is to be said."""
        base = self.base.objective if self.base.found else float("nan")
        rows = []
        for result in self.results:
            known = result.found and result.objective is not None
            value = float(result.objective or 0.0) if known else float("nan")
            rows.append(
                {
                    "status": result.status,
                    "objective": value,
                    "difference": value - base,
                    **result.parts,
                    **result.quantities,
                    "note": result.note,
                }
            )
        frame = pd.DataFrame(rows, index=pd.Index([r.scenario for r in self.results], name="scenario"))
        return frame[[*(c for c in frame.columns if c != "note"), "note"]] if len(frame) else frame

    def decisions(self, *, moved: bool = False) -> pd.DataFrame:
        """Return the decisions of every scenario that has a plan: a row a scenario, a column a decision.

        Parameters
        ----------
        moved : bool
            Only decisions that are not the same in all scenarios and the base.
        """
        formulation = self.base.formulation
        names, written = formulation.decision_names, formulation.written_columns
        solved = self.solved
        values = np.array([result.values for result in solved]).reshape(len(solved), len(names))
        frame = pd.DataFrame(values, index=pd.Index([r.scenario for r in solved], name="scenario"), columns=names)
        if not moved or not len(frame):
            return frame.loc[:, written]
        everything = np.vstack((values, self.base.values)) if self.base.found else values
        spread = np.ptp(everything, axis=0) > MOVED * np.maximum(1.0, np.abs(everything).max(axis=0))
        return frame.loc[:, spread & written]

    def binding(self) -> pd.DataFrame:
        """Return which limits bind: a row a scenario, a column a constraint that binds in some, True or False."""
        solved = self.solved
        held = [set(result.binding) for result in solved]
        some = set().union(*held)
        told = zip(self.base.formulation.constraint_names, self.base.formulation.written_rows, strict=True)
        names = [name for name, written in told if written and name in some]
        data = [[name in own for name in names] for own in held]
        return pd.DataFrame(data, index=pd.Index([r.scenario for r in solved], name="scenario"), columns=names)

    def draw(self, ax: Axes | None = None) -> Axes:
        """Draw the objective of every scenario beside the base, with Matplotlib.

        Parameters
        ----------
        ax : matplotlib Axes, optional
            New ones by default.
        """
        from ruddock.reporting.figures import scenarios_figure

        return scenarios_figure(self, ax)

    def as_dict(self) -> dict[str, Any]:
        """Return plain data for JSON."""
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
    tops: list[float]
    seconds: float


def work(task: Task) -> Answer:
    """Solve one scenario; in whatever process the executor runs it."""
    begin = time.monotonic()
    with interruptible() as interrupted:
        limits = Limits(seconds=task.seconds, gap=task.gap, interrupted=interrupted)
        outcome, tops = solve_in_order(task.problems, task.gives, limits, task.options)
    return Answer(outcome, tops, time.monotonic() - begin)


def scenarios(
    model: Model,
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
    """Solve a model under every scenario of a table; see `Model.scenarios`."""
    asked = read_scenarios(table)
    study = _Study(model, asked, float("inf") if time_limit is None else time_limit, gap, give)
    store = Store(None if keep is None else Path(keep), study.fingerprint())
    done = {scenario.name: kept for scenario in asked if (kept := store.result(scenario)) is not None}
    if on_result is not None:
        on_result(len(done), len(asked))
    if jobs < 1:
        raise ModelError(f"jobs is 1 or more, not {jobs}")
    pool: AbstractContextManager[Executor | None] = nullcontext(executor)
    if executor is None and jobs > 1:
        pool = ProcessPoolExecutor(jobs, initializer=_follow_parent)
    with store, interruptible() as interrupted, pool as workers:
        left = [scenario for scenario in asked if scenario.name not in done]
        for scenario, result in study.run(left, workers, jobs if executor is None else None, interrupted):
            if result.reason == "user":
                continue  # not an answer of its own: solved again when the run is taken up
            store.append(scenario, result)
            done[scenario.name] = result
            if on_result is not None:
                on_result(len(done), len(asked))
    results = [done[scenario.name] for scenario in asked if scenario.name in done]
    return Scenarios(study.base, asked, results, stopped=len(results) < len(asked))


def _follow_parent() -> None:
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
        self,
        model: Model,
        asked: list[Scenario],
        seconds: float,
        gap: float,
        give: Mapping[str, float | str] | None,
    ) -> None:
        self.model, self.seconds, self.gap = model, seconds, gap
        self.formulation = model.formulation()
        self.gives = parse_give(self.formulation, give)
        self._check_headings(asked)
        self.base = model.solve(time_limit=None if seconds == float("inf") else seconds, gap=gap, give=give, cores=1)

    def fingerprint(self) -> str:
        """Return what identifies the model and the way it is solved."""
        import hashlib

        digest = hashlib.sha256(repr((self.gap, self.gives)).encode())
        for problem in self._problems(self.formulation):
            for name in ("starts", "indices", "values", "row_lower", "row_upper", "lower", "upper", "costs", "kinds"):
                digest.update(getattr(problem, name).tobytes())
        names = "\n".join((*self.formulation.decision_names, *self.formulation.constraint_names))
        digest.update(names.encode())
        return digest.hexdigest()[:32]

    def _check_headings(self, asked: list[Scenario]) -> None:
        """Raise at once for a heading that names nothing; a value that does not fit fails its own scenario only."""
        first = {change.target: change for scenario in reversed(asked) for change in reversed(scenario.changes)}
        for change in first.values():
            try:
                changed_formulation(self.model, [change])
            except RuddockError as error:
                if UNKNOWN in str(error):
                    raise

    @staticmethod
    def _problems(formulation: Formulation) -> list[Problem]:
        return [formulation.problem(objective) for objective in formulation.objectives or (None,)]

    def run(
        self, left: list[Scenario], workers: Executor | None, jobs: int | None, interrupted: Callable[[], bool]
    ) -> Iterator[tuple[Scenario, Result]]:
        """Yield each scenario with its result as it comes."""
        if workers is None:
            for scenario in left:
                if interrupted():
                    return
                prepared = self._prepared(scenario)
                if isinstance(prepared, Result):
                    yield scenario, prepared
                    continue
                formulation, task = prepared
                yield scenario, self._result(scenario, formulation, _ended(_answered(task)))
            return
        yield from self._run_by(workers, left, AHEAD * (jobs or 32), interrupted)

    def _run_by(
        self, workers: Executor, left: list[Scenario], ahead: int, interrupted: Callable[[], bool]
    ) -> Iterator[tuple[Scenario, Result]]:
        """Keep an executor busy, a few tasks ahead of what it has done."""
        queue = iter(left)
        running: dict[Future[Answer], tuple[Scenario, Formulation]] = {}
        more = True
        while more or running:
            while more and len(running) < ahead and not interrupted():
                scenario = next(queue, None)
                if scenario is None:
                    more = False
                    break
                prepared = self._prepared(scenario)
                if isinstance(prepared, Result):
                    yield scenario, prepared
                    continue
                running[workers.submit(work, prepared[1])] = scenario, prepared[0]
            if interrupted():
                more = False
                for future in [f for f in running if f.cancel()]:
                    del running[future]
            for future in wait(running, timeout=0.2, return_when=FIRST_COMPLETED).done:
                scenario, formulation = running.pop(future)
                yield scenario, self._result(scenario, formulation, _ended(future))

    def _prepared(self, scenario: Scenario) -> tuple[Formulation, Task] | Result:
        """Return a scenario's formulation and task; the result, where a change does not fit."""
        try:
            formulation = changed_formulation(self.model, scenario.changes)
            problems = self._problems(formulation)
        except RuddockError as error:
            return Result(scenario.name, "error", note=str(error))
        outcome, options = self.base.outcome, Options(cores=1, repair=False)
        if self.base.found and outcome.x is not None and len(outcome.x) == problems[0].n:
            options = replace(options, start=outcome.x, basis=outcome.basis if len(problems) == 1 else None)
        return formulation, Task(problems, self.gives, self.seconds, self.gap, options)

    def _result(self, scenario: Scenario, formulation: Formulation, answer: Answer | BaseException) -> Result:
        """Put an answer into words and numbers."""
        if isinstance(answer, BaseException):
            return Result(scenario.name, "error", note=f"{type(answer).__name__}: {answer}")
        objectives = formulation.objectives or (None,)
        plan = Plan(formulation, answer.outcome, objectives[len(answer.tops)], tuple(answer.tops))
        result = Result(scenario.name, plan.status, plan.reason, seconds=answer.seconds)
        if not plan.found:
            return replace(result, note=_why(formulation, plan))
        constraints = plan.constraints()
        note = "" if plan.status == "optimal" else f"stopped, gap {plan.gap:.2%}"
        return replace(
            result,
            objective=plan.objective if plan.objective_name is not None else None,
            bound=plan.bound,
            parts=_parts(plan),
            quantities=formulation.quantity_values(plan.values),
            values=plan.values.tolist(),
            binding=[str(name) for name in constraints.index[constraints["binding"]]],
            note=note,
        )


def _parts(plan: Plan) -> dict[str, float]:
    """Return the objectives where there are several, else the parts of the one."""
    several = len(plan.formulation.objectives) > 1
    return {str(name): float(value) for name, value in (plan.objectives() if several else plan.breakdown()).items()}


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
        return f"{plan.objective_name} can improve without end"
    if plan.status != "infeasible":
        return "stopped before any plan was found"
    problem = formulation.problem(formulation.first_objective)
    clashes = find_clashes(problem, limits=Limits(seconds=WHY_SECONDS))
    if not clashes:
        return "no plan exists"
    names: Iterable[str] = reasons_of(formulation, clashes[0])
    return f"no plan: {listed(list(dict.fromkeys(names)), 4)} clash"
