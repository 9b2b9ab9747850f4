"""From a formulation through the engine to a `Plan`, watching for Ctrl-C on the way."""

from __future__ import annotations

import json
import signal
import threading
import warnings
from collections.abc import Callable, Iterator
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any, get_args

import numpy as np

from ruddock.engine.outcome import Limits, Method, Options, Outcome, Progress
from ruddock.engine.solve import solve
from ruddock.errors import FormatError, ModelError, RuddockWarning
from ruddock.modelling.formulation import Formulation, Objective
from ruddock.modelling.hints import Hints
from ruddock.modelling.plan import Plan
from ruddock.problem import Problem

METHODS: tuple[str, ...] = get_args(Method)
KEEP = 1e-9  # relative room that a later objective leaves to what an earlier one reached


def solve_model(
    formulation: Formulation,
    time_limit: float | None = None,
    gap: float = 0.0,
    node_limit: int | None = None,
    iteration_limit: int | None = None,
    on_progress: Callable[[Progress], None] | None = None,
    options: Options | None = None,
    log: str | Path | None = None,
    hints: Hints | None = None,
) -> Plan:
    """Solve a formulation for its objectives in their order; see `Model.solve`."""
    if options is not None and options.method not in METHODS:
        raise ModelError(f"method is one of {', '.join(METHODS)}, not {options.method!r}")
    for name, value in (("time_limit", time_limit), ("gap", gap), ("node_limit", node_limit)):
        if value is not None and not value >= 0:
            raise ModelError(f"{name} must be 0 or more, not {value!r}")
    if options is not None and options.exact and any(family.marks.any() for family in formulation.decisions):
        warnings.warn(
            "exact=True checks linear models; this one has whole-number or semicontinuous decisions and is not checked",
            RuddockWarning,
            stacklevel=3,
        )
    hints = hints or Hints()
    options = hints.added_to(options or Options(), formulation)
    objectives: list[Objective | None] = list(formulation.objectives) or [None]
    with interruptible() as interrupted, _logged(log) as on_event:
        limits = Limits(
            seconds=float("inf") if time_limit is None else time_limit,
            iterations=float("inf") if iteration_limit is None else iteration_limit,
            nodes=float("inf") if node_limit is None else node_limit,
            gap=gap,
            memory=float("inf") if hints.memory_limit is None else hints.memory_limit * 1e6,
            interrupted=interrupted,
            on_event=on_event,
        )
        kept: list[tuple[Objective, float]] = []
        outcome: Outcome | None = None
        for objective in objectives:
            problem = formulation.problem(objective)
            limits.on_progress = _in_sense(on_progress, objective)
            outcome = _trimmed(solve(with_kept(problem, formulation, kept), limits, options), problem.m)
            if outcome.status != "optimal" or objective is None:
                break
            kept.append((objective, outcome.objective))
    assert outcome is not None
    return Plan(formulation, outcome, objectives[min(len(kept), len(objectives) - 1)])


def _in_sense(told: Callable[[Progress], None] | None, objective: Objective | None) -> Any:
    """Return a listener that hears objective values as written."""
    if told is None or objective is None or not objective.maximize:
        return told
    listener = told
    return lambda p: listener(replace(p, best=-p.best, bound=-p.bound))


def with_kept(problem: Problem, formulation: Formulation, kept: list[tuple[Objective, float]]) -> Problem:
    """Add a row for each objective solved before, which holds it at what it reached."""
    if not kept:
        return problem
    earlier = [(formulation.problem(objective), value) for objective, value in kept]
    rows = np.array([part.costs for part, _ in earlier])
    limits = [value - part.offset + KEEP * max(1.0, abs(value)) for part, value in earlier]
    return problem.with_rows(rows, np.full(len(limits), -np.inf), limits)


def _trimmed(outcome: Outcome, m: int) -> Outcome:
    """Leave out the rows that hold earlier objectives."""
    parts = [None if part is None else part[:m] for part in (outcome.activity, outcome.y, outcome.proof)]
    return replace(outcome, activity=parts[0], y=parts[1], proof=parts[2])


@contextmanager
def _logged(path: str | Path | None) -> Iterator[Callable[[dict[str, Any]], None] | None]:
    """Give a listener that writes every event as a line of JSON, at once."""
    if path is None:
        yield None
        return
    try:
        file = open(path, "w", encoding="utf-8", buffering=1)  # noqa: SIM115 - closed below
    except OSError as error:
        raise FormatError(f"cannot be written: {error.strerror}", path=str(path)) from None
    with file:
        yield lambda event: print(json.dumps(event), file=file)


@contextmanager
def interruptible() -> Iterator[Callable[[], bool]]:
    """Turn Ctrl-C into a flag while a solve runs; a second one interrupts as usual."""
    pressed = threading.Event()
    if threading.current_thread() is not threading.main_thread():
        yield pressed.is_set
        return
    before = signal.getsignal(signal.SIGINT)

    def note(number: int, frame: Any) -> None:
        pressed.set()
        signal.signal(signal.SIGINT, before)

    signal.signal(signal.SIGINT, note)
    try:
        yield pressed.is_set
    finally:
        signal.signal(signal.SIGINT, before)
