"""From a formulation through the engine to a `Plan`, watching for Ctrl-C on the way."""

from __future__ import annotations

import json
import signal
import threading
import warnings
from collections.abc import Callable, Iterator, Mapping
from contextlib import contextmanager
from dataclasses import replace
from pathlib import Path
from typing import Any, get_args

from ruddock.engine.in_order import Give, solve_in_order
from ruddock.engine.outcome import Limits, Method, Options, Progress
from ruddock.errors import FormatError, ModelError, RuddockWarning, known
from ruddock.modelling.formulation import Formulation, Objective
from ruddock.modelling.hints import Hints
from ruddock.modelling.plan import Plan

METHODS: tuple[str, ...] = get_args(Method)


def solve_model(
    formulation: Formulation,
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
    give: Mapping[str, float | str] | None = None,
    **hints: Any,
) -> Plan:
    """Solve a formulation for its objectives in their order; see `Model.solve`. ``hints`` are those of `Hints`."""
    if method not in METHODS:
        raise ModelError(f"method is one of {', '.join(METHODS)}, not {method!r}")
    for name, value in (("time_limit", time_limit), ("gap", gap), ("node_limit", node_limit)):
        if value is not None and not value >= 0:
            raise ModelError(f"{name} must be 0 or more, not {value!r}")
    if exact and any(family.marks.any() for family in formulation.decisions):
        warnings.warn(
            "exact=True checks linear models; this one has whole-number or semicontinuous decisions and is not checked",
            RuddockWarning,
            stacklevel=3,
        )
    told = Hints(**hints)
    options = told.added_to(Options(method, presolve, exact), formulation)
    gives = parse_give(formulation, give)
    objectives: list[Objective | None] = list(formulation.objectives) or [None]
    with interruptible() as interrupted, _logged(log) as on_event:
        limits = Limits(
            seconds=float("inf") if time_limit is None else time_limit,
            iterations=float("inf") if iteration_limit is None else iteration_limit,
            nodes=float("inf") if node_limit is None else node_limit,
            gap=gap,
            memory=float("inf") if told.memory_limit is None else told.memory_limit * 1e6,
            interrupted=interrupted,
            on_event=on_event,
        )

        def begin(k: int) -> None:
            limits.on_progress = _in_sense(on_progress, objectives[k])

        problems = [formulation.problem(objective) for objective in objectives]
        outcome, tops = solve_in_order(problems, gives, limits, options, begin)
    return Plan(formulation, outcome, objectives[len(tops)], tuple(tops))


def parse_give(formulation: Formulation, give: Mapping[str, float | str] | None) -> list[Give]:
    """Read how much each objective may give up to the later ones: ``0.05`` or ``"5%"`` of it, or an amount ``"200"``.

    Raises
    ------
    ModelError
        If there is no such objective, it has none after it, or the amount cannot be read.
    """
    names = [objective.name for objective in formulation.objectives]
    gives = [Give() for _ in names] or [Give()]
    for name, value in (give or {}).items():
        if name not in names:
            raise ModelError(f"give: there is no objective called {name!r}; {known(name, names)}")
        if name == names[-1]:
            raise ModelError(f"give: {name!r} is the last objective, for which nothing is given up")
        text = str(value).strip()
        share = text.endswith("%") or not isinstance(value, str)
        try:
            size = float(text.removesuffix("%")) / (100.0 if text.endswith("%") else 1.0)
        except ValueError:
            size = float("nan")
        if not 0 <= size < float("inf") or (share and size > 1):
            raise ModelError(
                f"give: {name}={value!r} is neither a share such as 0.05 or '5%', nor an amount such as '200'"
            )
        gives[names.index(name)] = Give(share=size) if share else Give(amount=size)
    return gives


def _in_sense(told: Callable[[Progress], None] | None, objective: Objective | None) -> Any:
    """Return a listener that hears objective values as written."""
    if told is None or objective is None or not objective.maximize:
        return told
    listener = told
    return lambda p: listener(replace(p, best=-p.best, bound=-p.bound))


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
