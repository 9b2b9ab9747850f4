"""What the process of one job does: read what was sent, solve, and end the job with its results."""

from __future__ import annotations

import signal
import tempfile
import time
import traceback
from collections.abc import Callable
from contextlib import chdir
from dataclasses import replace
from math import isfinite
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np
import pandas as pd

from ruddock.characters import in_line
from ruddock.document.console import text
from ruddock.document.html import body
from ruddock.engine.in_order import solve_in_order
from ruddock.engine.outcome import Limits
from ruddock.engine.outcome import Progress as EngineProgress
from ruddock.errors import RuddockError
from ruddock.files import json_text
from ruddock.formats import read_with
from ruddock.formats.tables.given import Given
from ruddock.jobs.orders import Order
from ruddock.jobs.records import Job, Progress
from ruddock.jobs.store import KEPT, Store, StoreError
from ruddock.jobs.wire import (
    ARRAYS,
    OUTCOME,
    outcome_packed,
    plan_of,
    problems_unpacked,
    values_packed,
    values_unpacked,
)
from ruddock.modelling.options import SolveOptions, interruptible, running
from ruddock.modelling.solve import solve_formulation
from ruddock.progress import progress_sentence
from ruddock.reporting.report import write_reports

if TYPE_CHECKING:
    from concurrent.futures import Executor

    from ruddock.document.result import Result
    from ruddock.modelling.model import Model
    from ruddock.modelling.plan import Plan

EVERY_SECONDS = 0.5  # progress is noted, at most
KEEP_SECONDS = 1.0  # between two plans that are kept, at most
MOST_POINTS = 300  # of the history of a job
PATIENCE = 300.0  # seconds that a result waits for a store that does not answer
DELIVERY_SECONDS = 5.0  # to make a plan of the values that were kept
MEMORY_SHARE = 0.7  # of a process's memory that a solve may take; the rest is for reading and reports
TEXT_WIDTH = 100
WRITING = "solved; writing the reports"
BEST, SCENARIOS = "best.npz", "scenarios.jsonl"  # kept for another attempt

Results = dict[str, bytes]
Ending = dict[str, Any]


class Work:
    """One attempt at a job.

    Parameters
    ----------
    store : Store
    order : which job, and the limits of time, memory and decisions
    executor : that scenarios are spread over
    """

    def __init__(self, store: Store, order: Order, executor: Executor | None = None) -> None:
        self.store, self.number, self.attempt = store, order.number, order.attempt
        self.order, self.executor = order, executor
        self.job: Job = store.job(order.number)
        self.request = self.job.request
        self._noted = self._kept = 0.0
        self._name: str | None = None
        self._last: Progress | None = None
        self._points: list[tuple[float, float | None, float | None]] = []
        self._every = 1
        self._heard = 0

    def run(self) -> None:
        """Do what is asked for and end the job; what goes wrong ends it too, in words."""
        signal.signal(signal.SIGINT, lambda *_: None)  # a second one does not interrupt what is being written
        with interruptible():
            try:
                ending = self._answer()
            except RuddockError as error:
                if isinstance(error, StoreError):
                    raise
                ending = {"verdict": str(error), "failed": True}
            except MemoryError:
                ending = {"verdict": "The job needs more memory than this service allows.", "failed": True}
            except Exception as error:  # a slip of ours must not leave the job without an end
                traceback.print_exc()
                ending = {"verdict": f"Internal error ({type(error).__name__}: {error}).", "failed": True}
            self._end(ending)

    def _end(self, ending: Ending) -> None:
        """End the job; a store that does not answer is asked again for a while."""
        until = time.monotonic() + PATIENCE
        while True:
            try:
                self.store.end(self.number, self.attempt, name=self._name, progress=self._last, **ending)
                return
            except StoreError:
                if time.monotonic() > until:
                    raise
                time.sleep(1.0)

    def _answer(self) -> Ending:
        if self.request.kind == "arrays":
            return self._solve_arrays()
        # there, so that messages name a file as it was sent, without the folder of this machine
        with tempfile.TemporaryDirectory(prefix="ruddock-job-", ignore_cleanup_errors=True) as held, chdir(held):
            return self._answer_model()

    def _answer_model(self) -> Ending:
        for name, content in self.store.sent(self.number).items():
            Path(name).write_bytes(content)
        model = self._read()
        self._name = in_line(model.name)
        if self.request.kind == "scenarios":
            return self._scenarios(model)
        if self.request.kind == "diagnose":
            return self._diagnose(model)
        if self.request.kind == "check":
            return self._check(model)
        return self._solve(model)

    def _read(self) -> Model:
        given = Given.sent(Path(), self.request.data) if self.request.model.lower().endswith(".rdk") else Given()
        model = read_with(Path(self.request.model), given, self.request.sheet)
        size = model.formulation().size
        if size > self.order.decisions:
            raise RuddockError(f"the model has {size:,} decisions; this service allows {self.order.decisions:,}")
        return model

    # ------------------------------------------------------------------ kinds of jobs

    def _solve(self, model: Model) -> Ending:
        known = self.store.file(self.number, OUTCOME)
        if known is not None:  # an attempt before this one came as far as its reports
            return self._reported(plan_of(model, known))
        formulation = model.formulation()
        keywords = self._keywords()
        kept = self.store.file(self.number, BEST, KEPT)
        if kept is not None:
            values = values_unpacked(kept)[: formulation.size]
            keywords["start"] = pd.Series(values, index=formulation.decision_names)
        if self.job.last:
            if kept is None:
                return {"verdict": "Every attempt ended before a plan was found.", "failed": True}
            keywords["time_limit"] = DELIVERY_SECONDS
        options = SolveOptions.of({**keywords, "on_progress": self._listener(formulation)})
        with running(options, formulation) as clock:
            clock.limits.on_plan = lambda x: self._keep(x[: formulation.size])
            plan = solve_formulation(formulation, options, clock)
        plan.model = model
        packed = outcome_packed(plan.outcome, plan.stages, plan.gives, plan.effort.seconds)
        self._last = self._ended(plan)
        return self._reported(plan, {OUTCOME: packed}, plan.status, plan.reason)

    def _ended(self, plan: Plan) -> Progress:
        """Return how far a plan came in the end."""
        known = plan.found and plan.goal is not None
        best = _known(plan.objective) if known else None
        bound, gap = (_known(plan.bound), _known(plan.gap)) if known else (None, None)
        self._points.append((round(plan.effort.seconds, 2), best, bound))
        goal = plan.formulation.first_objective
        maximize, unit = (None, None) if goal is None else (goal.maximize, goal.unit)
        points = tuple(self._points) if len(self._points) > 1 else ()
        seconds, nodes = plan.effort.seconds, plan.effort.nodes
        return Progress(seconds, nodes, best, bound, gap, maximize, unit, WRITING, points)

    def _check(self, model: Model) -> Ending:
        return self._reported(model.check(), {}, None, None)

    def _diagnose(self, model: Model) -> Ending:
        found = model.diagnose(**self._keywords())
        return self._reported(found, {}, found.plan.status, found.plan.reason)

    def _scenarios(self, model: Model) -> Ending:
        keep = Path(SCENARIOS).resolve()
        known = self.store.file(self.number, SCENARIOS, KEPT)
        if known is not None:
            keep.write_bytes(known)
        found = model.scenarios(
            self.request.table or "",
            executor=self.executor,
            keep=keep,
            each_time_limit=self.request.each_time_limit,
            on_result=lambda done, of: self._count(done, of, keep),
            **self._keywords(),
        )
        return self._reported(found, {}, "stopped" if found.stopped else "optimal", None)

    def _solve_arrays(self) -> Ending:
        problems, gives, options = problems_unpacked(self.store.sent(self.number)[ARRAYS])
        n = problems[0].n
        if n > self.order.decisions:
            raise RuddockError(f"the problem has {n:,} columns; this service allows {self.order.decisions:,}")
        kept = self.store.file(self.number, BEST, KEPT)
        if kept is not None:
            options = replace(options, start=np.resize(values_unpacked(kept), n))
        begun = time.monotonic()
        with interruptible() as interrupted:
            limits = Limits(
                seconds=self.order.seconds,
                gap=self.request.gap,
                memory=self.order.memory * MEMORY_SHARE * 1e6,
                interrupted=interrupted,
                on_plan=lambda x: self._keep(x[:n]),
                on_progress=self._listener(None),
            )
            outcome, stages = solve_in_order(problems, gives, limits, options)
        packed = outcome_packed(outcome, stages, gives, time.monotonic() - begun)
        verdict = outcome.status if outcome.reason is None else f"{outcome.status}: {outcome.reason}"
        return {
            "verdict": verdict, "status": outcome.status, "reason": outcome.reason, "results": {OUTCOME: packed},
        }  # fmt: skip

    def _keywords(self) -> dict[str, Any]:
        limits = {"time_limit": self.order.seconds, "memory_limit": self.order.memory * MEMORY_SHARE}
        return {**self.request.solve_keywords, **limits}

    def _reported(
        self, result: Result, more: Results | None = None, status: str | None = None, reason: str | None = None
    ) -> Ending:
        """Give an answer, as JSON and as text, and then write the reports asked for.

        Parameters
        ----------
        more : further results; None if the answer was given before
        """
        verdict = result.document().verdict
        answer: Results = {}
        if more is not None:
            kind = self.request.kind
            answer = {
                **more,
                f"{kind}.json": json_text(result.as_dict()).encode(),
                f"{kind}.txt": (text(result.document(), width=TEXT_WIDTH) + "\n").encode(),
                f"{kind}.fragment": body(result.document()).encode(),
            }
            if self.request.reports:
                self.store.answer(
                    self.number, self.attempt, verdict, status, self._last or Progress(said=WRITING), answer
                )
                answer = {}
        else:
            status = self.job.status
            reason = getattr(result, "reason", None)
            if self.job.last:
                return {
                    "verdict": f"{verdict} No report: every attempt to write one failed.",
                    "status": status,
                    "reason": reason,
                }
        if not self.request.reports:
            return {"verdict": verdict, "status": status, "reason": reason, "results": answer}
        reports: Results = {}
        with tempfile.TemporaryDirectory(prefix="ruddock-report-") as folder:
            paths = [Path(folder) / f"report.{form}" for form in self.request.reports]
            write_reports(result, paths)
            for path in paths:
                reports[path.name] = path.read_bytes()
        return {"verdict": verdict, "status": status, "reason": reason, "results": reports}

    # ------------------------------------------------------------------ on the way

    def _listener(self, formulation: Any) -> Callable[[EngineProgress], None]:
        goal = None if formulation is None else formulation.first_objective
        maximize, unit = (False, None) if goal is None else (goal.maximize, goal.unit)

        def hear(now: EngineProgress) -> None:
            if now.seconds - self._noted < EVERY_SECONDS:
                return
            self._noted = now.seconds
            best, bound = _known(now.best), _known(now.bound)
            self._add_point(now.seconds, best, bound)
            sense = maximize if now.maximize is None else now.maximize
            gap = abs(best - bound) / max(1.0, abs(best)) if best is not None and bound is not None else None
            said = progress_sentence(now, maximize=sense, unit=now.unit or unit, time_limit=self.order.seconds)
            self._note(
                Progress(now.seconds, now.nodes, best, bound, gap, sense, now.unit or unit, said, tuple(self._points))
            )

        return hear

    def _add_point(self, seconds: float, best: float | None, bound: float | None) -> None:
        """Add to the history; where it grows long, every other point is left out, and every other new one."""
        self._heard += 1
        if self._heard % self._every:
            return
        self._points.append((round(seconds, 2), best, bound))
        if len(self._points) > MOST_POINTS:
            self._points, self._every = self._points[::2], 2 * self._every

    def _count(self, done: int, of: int, keep: Path) -> None:
        """Note how many scenarios are done, and keep their results."""
        now = time.monotonic()
        if now - self._noted < EVERY_SECONDS and done < of:
            return
        self._noted = now
        self._note(Progress(said=f"{done:,} of {of:,} scenarios"))
        if now - self._kept > 10 * KEEP_SECONDS and keep.exists():
            self._kept = now
            self._try(lambda: self.store.keep(self.number, self.attempt, SCENARIOS, keep.read_bytes()))

    def _note(self, progress: Progress) -> None:
        self._last = progress
        self._try(lambda: self.store.progress(self.number, self.attempt, progress, self._name))

    def _keep(self, x: Any) -> None:
        """Keep the values of a better plan, so that nothing is lost with this process."""
        now = time.monotonic()
        if now - self._kept >= KEEP_SECONDS:
            self._kept = now
            content = values_packed(x)
            self._try(lambda: self.store.keep(self.number, self.attempt, BEST, content))

    def _try(self, write: Callable[[], None]) -> None:
        """Write what the job can do without."""
        try:
            write()
        except StoreError:
            return


def _known(value: float) -> float | None:
    return float(value) if isfinite(value) else None
