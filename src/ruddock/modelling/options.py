"""How to solve: one set of options that every question takes, checked once, and the clock that its solves share."""

from __future__ import annotations

import json
import signal
import threading
from collections.abc import Callable, Iterable, Iterator, Mapping
from contextlib import ExitStack, contextmanager
from dataclasses import dataclass, field, fields, replace
from numbers import Real
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypedDict, get_args

from ruddock.engine.outcome import Limits, Method, Progress
from ruddock.errors import FormatError, ModelError, known, listed
from ruddock.modelling.expression import Relation
from ruddock.modelling.formulation import Formulation
from ruddock.modelling.series import FloatSeries
from ruddock.progress import progress_line

if TYPE_CHECKING:
    from ruddock.modelling.plan import Plan
else:  # a plan imports what it is solved with
    Plan = Any

QUESTION_SECONDS = 60.0  # that a question of many solves takes without a limit of its own
METHODS: tuple[str, ...] = get_args(Method)


class SolveKeywords(TypedDict, total=False):
    """The options of `Model.solve`, which every question takes too; see `SolveOptions`."""

    time_limit: float | None
    gap: float
    node_limit: int | None
    iteration_limit: int | None
    memory_limit: float | None
    method: Method
    presolve: bool
    certify: bool
    events: str | Path | None
    start: Plan | Mapping[str, float] | FloatSeries | str | Path | None
    priorities: Mapping[str, float] | None
    enforce: Callable[[Plan], Iterable[Relation]] | None
    cores: int
    give: Mapping[str, float | str] | None
    progress: bool
    on_progress: Callable[[Progress], None] | None


@dataclass(frozen=True, eq=False, repr=False)
class SolveOptions:
    """How to solve.

    Attributes
    ----------
    time_limit : float, optional
        Seconds, for all solves of one question together.
    gap : float
        Relative gap at which a plan counts as optimal, from 0 to 1; 0 proves the very best.
    node_limit, iteration_limit : int, optional
    memory_limit : float, optional
        Megabytes that a solve may take: its matrices, factors and open nodes.
    method : ``auto``, ``dual``, ``primal``, ``interior`` or ``first-order``
        For linear models: the dual or primal simplex method, an interior-point or a first-order method whose answer is
        carried over to a basis. The answer is the same; the time is not. Beyond 30,000 rows and columns ``first-order``
        ends with a plan that keeps all limits and a proven bound near it, as a run that was stopped.
    presolve : bool
        Whether the model is made smaller and tighter first; the answer is that of the whole model.
    certify : bool
        Check the final basis of a linear model in rational arithmetic, and repair it where it is not exactly
        optimal; ``plan.effort.certified`` says whether that worked.
    events : path, optional
        Write what happens to this file, a line of JSON for each event.
    start : plan, values by name, or a CSV file or workbook of them, optional
        Where a search with integers starts from. A part of the decisions will do; values that are not a plan
        are repaired where that is quickly possible. A linear model starts from the corner of a plan: quick after a
        small change, and ending near it.
    priorities : dict of name to number, optional
        Decisions, families or members, that a search branches on first: the highest first.
    enforce : callable, optional
        Constraints too many to write down: asked about every plan in integers, it returns the relations that the
        plan breaks, or nothing.
    cores : int
        2 lets a second process take a share of a long search; 1 does not. Either takes the same path every time.
    give : dict of objective to share or amount, optional
        How far an objective may be relaxed for the ones after it: ``{"margin": "5%"}`` of its value, or an amount in
        its unit, ``{"margin": 200}``. Not at all by default: the order of the objectives is strict.
    progress : bool
        Show a line of progress on standard error.
    on_progress : callable, optional
        Called with `Progress` at most ten times a second; its ``doing`` says what a question of many solves is at.
    """

    time_limit: float | None = None
    gap: float = 0.0
    node_limit: int | None = None
    iteration_limit: int | None = None
    memory_limit: float | None = None
    method: Method = "auto"
    presolve: bool = True
    certify: bool = False
    events: str | Path | None = None
    start: Any = None
    priorities: Mapping[str, float] | None = None
    enforce: Callable[[Plan], Iterable[Relation]] | None = None
    cores: int = 2
    give: Mapping[str, float | str] | None = None
    progress: bool = False
    on_progress: Callable[[Progress], None] | None = None

    def __post_init__(self) -> None:
        for name in ("time_limit", "node_limit", "iteration_limit", "memory_limit"):
            _check_number(name, getattr(self, name), optional=True)
        _check_number("gap", self.gap)
        if self.gap > 1:
            raise ModelError(f"gap is a share from 0 to 1, such as 0.01 for 1 %, not {self.gap!r}")
        if self.method not in METHODS:
            raise ModelError(f"method is one of {', '.join(METHODS)}, not {self.method!r}")
        if isinstance(self.cores, bool) or self.cores not in (1, 2):
            raise ModelError(f"cores is 1 or 2, not {self.cores!r}")
        for name in ("presolve", "certify", "progress"):
            if not isinstance(getattr(self, name), bool):
                raise ModelError(f"{name} is True or False, not {getattr(self, name)!r}")
        for name in ("enforce", "on_progress"):
            held = getattr(self, name)
            if held is not None and not callable(held):
                raise ModelError(f"{name} is a function, not {held!r}")
        for name in ("priorities", "give"):
            held = getattr(self, name)
            if held is not None and not isinstance(held, Mapping):
                raise ModelError(f"{name} is a dict by name, not {held!r}")
        if self.events is not None and not isinstance(self.events, (str, Path)):
            raise ModelError(f"events is the path of a file, not {self.events!r}")

    @classmethod
    def of(cls, given: Mapping[str, Any]) -> SolveOptions:
        """Return options from keywords.

        Raises
        ------
        ModelError
            If one is unknown or has no such value.
        """
        names = [part.name for part in fields(cls)]
        for name in given:
            if name not in names:
                raise ModelError(f"{name!r} is not an option; {known(name, names)}")
        return cls(**given)

    @classmethod
    def of_question(cls, given: Mapping[str, Any]) -> SolveOptions:
        """Return options of a question of many solves, which ends after a minute without a limit of its own."""
        return cls.of({"time_limit": QUESTION_SECONDS, **given})


def _check_number(name: str, value: Any, optional: bool = False) -> None:
    if value is None and optional:
        return
    if isinstance(value, bool) or not isinstance(value, Real):
        hint = (
            f"; write {name}={value}" if isinstance(value, str) and value.strip().replace(".", "", 1).isdigit() else ""
        )
        raise ModelError(f"{name} is a number, not {value!r}{hint}")
    if not float(value) >= 0:
        raise ModelError(f"{name} must be 0 or more, not {value!r}")


@dataclass(eq=False, repr=False)
class Clock:
    """What all solves of one question share: the time left, Ctrl-C, and who listens.

    Attributes
    ----------
    options : SolveOptions
    limits : of the whole question; those of a single solve are made from them
    stopped : why a solve ended early, once one did
    """

    options: SolveOptions
    limits: Limits
    stopped: str | None = None
    solves: int = field(default=0)

    def for_solve(self, **changes: Any) -> Limits:
        """Return limits for one solve, on the same clock."""
        self.solves += 1
        return replace(self.limits, _reported=0.0, **changes)

    def for_part(self, doing: str) -> Limits:
        """Return limits for one solve of many, whose progress says what the question is at."""
        listen = self.limits.on_progress
        if listen is None:
            return self.for_solve()

        def hear(progress: Progress) -> None:
            seconds = self.limits.elapsed()
            listen(
                progress._replace(seconds=seconds, best=float("inf"), bound=float("-inf"), objective=None, doing=doing)
            )

        return self.for_solve(on_progress=hear)

    def out(self) -> str | None:
        """Return why nothing more should be begun, or None."""
        reason = self.limits.exceeded(0)
        if reason is not None:
            self.stopped = self.stopped or reason
        return reason


@contextmanager
def running(options: SolveOptions, formulation: Formulation | None = None) -> Iterator[Clock]:
    """Give the clock that all solves of a question go by, watching for Ctrl-C on the way."""
    if formulation is not None and formulation.undeclared:
        names = listed(formulation.undeclared)
        raise ModelError(
            f"{names}: not declared, so a misspelt name would be a decision of its own. Add a heading decisions that "
            f"lists them, or write decisions open, which takes unknown names as decisions of 0 or more"
        )
    with ExitStack() as stack:
        interrupted = stack.enter_context(interruptible())
        on_event = stack.enter_context(_recorded(options.events))
        listeners = [] if options.on_progress is None else [options.on_progress]
        if options.progress and formulation is not None:
            goal = formulation.first_objective
            line = progress_line(
                maximize=goal is not None and goal.maximize,
                unit=goal.unit if goal else None,
                time_limit=options.time_limit,
            )
            listeners.append(stack.enter_context(line))
        limits = Limits(
            seconds=_or_unlimited(options.time_limit),
            iterations=_or_unlimited(options.iteration_limit),
            nodes=_or_unlimited(options.node_limit),
            gap=options.gap,
            memory=_or_unlimited(options.memory_limit) * 1e6,
            interrupted=interrupted,
            on_event=on_event,
            on_progress=_to_all(listeners),
        )
        yield Clock(options, limits)


def _to_all(listeners: list[Callable[[Progress], None]]) -> Callable[[Progress], None] | None:
    """Return one listener that passes on to all."""
    if not listeners:
        return None

    def hear(progress: Progress) -> None:
        for listen in listeners:
            listen(progress)

    return hear


def _or_unlimited(value: float | None) -> float:
    return float("inf") if value is None else float(value)


@contextmanager
def _recorded(path: str | Path | None) -> Iterator[Callable[[dict[str, Any]], None] | None]:
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


_pressed: threading.Event | None = None  # of the outermost question that watches for Ctrl-C


@contextmanager
def interruptible() -> Iterator[Callable[[], bool]]:
    """Turn Ctrl-C into a flag while a question runs; a second one interrupts as usual.

    A question within another one sees the same flag, so that one Ctrl-C ends all of it.
    """
    global _pressed
    if threading.current_thread() is not threading.main_thread():
        yield lambda: False
        return
    if _pressed is not None:
        yield _pressed.is_set
        return
    pressed = _pressed = threading.Event()
    before = signal.getsignal(signal.SIGINT)

    def note(number: int, frame: Any) -> None:
        pressed.set()
        signal.signal(signal.SIGINT, before)

    try:
        signal.signal(signal.SIGINT, note)
        yield pressed.is_set
    finally:
        signal.signal(signal.SIGINT, before)
        _pressed = None
