"""What the engine hands back, and what it is told about limits."""

from __future__ import annotations

import time
from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any, Literal, NamedTuple

import numpy as np
import numpy.typing as npt

from ruddock.engine.memory import running_out
from ruddock.problem import Floats, Problem

Status = Literal["optimal", "infeasible", "unbounded", "stopped"]
Reason = Literal["time", "nodes", "iterations", "memory", "user", "numerics", "accuracy"]
Method = Literal["auto", "dual", "primal", "interior", "first-order"]
Branching = Literal["reliability", "plain"]
Codes = npt.NDArray[np.int8]

# Basis codes. A fixed variable out of the basis is AT_LOWER; FREE is out of the basis at zero.
BASIC, AT_LOWER, AT_UPPER, FREE = 0, 1, 2, 3

# Tolerances on the original, unscaled problem.
FEASIBILITY = 1e-7
OPTIMALITY = 1e-7
INTEGRALITY = 1e-6
EQUAL = 1e-9  # relative difference below which two objective values count as the same

BETWEEN_REPORTS = 0.1  # seconds
MADE = (  # counters that add up from solve to solve
    "iterations",
    "primal_iterations",
    "dual_iterations",
    "network_pivots",
    "pushes",
    "bound_flips",
    "factorisations",
    "entries",
    "interior_steps",
    "gradient_steps",
)


@dataclass(frozen=True, eq=False, repr=False)
class Basis:
    """Basis codes of columns and rows: int8 arrays of shapes (n,) and (m,)."""

    columns: Codes
    rows: Codes


@dataclass
class Counters:
    """What a solve took.

    Attributes
    ----------
    iterations : simplex iterations, those of the primal and the dual method, on a network, and pushes together
    network_pivots : of them, those on the tree of a network
    pushes : of them, those of the crossover from an interior point
    bound_flips : moves of a variable from one bound to the other, which are no iterations
    factorisations : of the basis
    entries : of matrices, factors and vectors that the simplex kernels have touched
    interior_steps : of the interior-point method
    gradient_steps : of the first-order method
    nodes : of the search tree
    tightened : what the presolve of whole numbers did: coefficients shrunk, rows dropped, columns fixed and probed
    cuts : that were added at the root, by kind
    reductions : rows and columns that each kind of presolve took out
    seconds : of the whole solve
    parts : seconds by part: presolve, interior, first-order, crossover, simplex, check, blocks, relaxation, cuts,
        heuristics, tree
    certified : whether the basis was proven optimal in exact arithmetic
    """

    iterations: int = 0
    primal_iterations: int = 0
    dual_iterations: int = 0
    network_pivots: int = 0
    pushes: int = 0
    bound_flips: int = 0
    factorisations: int = 0
    entries: int = 0
    interior_steps: int = 0
    gradient_steps: int = 0
    nodes: int = 0
    tightened: dict[str, int] = field(default_factory=dict)
    cuts: dict[str, int] = field(default_factory=dict)
    reductions: dict[str, tuple[int, int]] = field(default_factory=dict)
    seconds: float = 0.0
    parts: dict[str, float] = field(default_factory=dict)
    certified: bool = False

    def add(self, other: Counters) -> None:
        """Add what another solve has made and touched."""
        for name in MADE:
            setattr(self, name, getattr(self, name) + getattr(other, name))


class Moment(NamedTuple):
    """Where a search stood: seconds from its start, nodes, objective of the best plan and proven bound."""

    seconds: float
    nodes: int
    best: float
    bound: float


@dataclass(frozen=True, eq=False, repr=False)
class Outcome:
    """The answer to a `Problem`, in its own space and sense (minimisation).

    Attributes
    ----------
    status : ``optimal``, ``infeasible``, ``unbounded`` or ``stopped``
    reason : why it stopped, else None
    x, activity : values of columns (n,) and rows (m,), or None when no feasible point is known
    y, reduced : dual values of rows (m,) and reduced costs of columns (n,), of the linear problem
        solved last; y is the change of the objective per unit more of a row's active limit
    basis : `Basis`, where the values come from one
    objective, bound : with the problem's offset; the bound is a proven lower one, or -inf
    proof : weights of rows (m,) that prove infeasibility: a positive one uses the row's lower limit,
        a negative one its upper; their sum contradicts the bounds of the columns
    crossed_columns, crossed_rows : numbers of those whose own limits cross
    ray : direction (n,) along which the objective falls without end from ``x``
    history : of a search: best plan and bound over time
    """

    status: Status
    reason: Reason | None = None
    x: Floats | None = None
    activity: Floats | None = None
    y: Floats | None = None
    reduced: Floats | None = None
    basis: Basis | None = None
    objective: float = float("inf")
    bound: float = float("-inf")
    proof: Floats | None = None
    crossed_columns: tuple[int, ...] = ()
    crossed_rows: tuple[int, ...] = ()
    ray: Floats | None = None
    counters: Counters = field(default_factory=Counters)
    history: tuple[Moment, ...] = ()

    @property
    def gap(self) -> float:
        """``|objective - bound| / max(1, |objective|)``; infinite when either is unknown."""
        if self.x is None or not np.isfinite(self.bound):
            return float("inf")
        return abs(self.objective - self.bound) / max(1.0, abs(self.objective))


class Progress(NamedTuple):
    """A sign of life from a running solve.

    Attributes
    ----------
    best, bound : of the objective that is being solved for: in the engine those of the `Problem`, at a listener of
        `Model.solve` as written
    objective, maximize, unit : which objective that is, where there are several; added above the engine
    doing : what a question is at, where a solve is only a part of it; best and bound are not known then
    phase : what the solve is at: ``presolve``, ``dual simplex``, ``primal simplex``, ``interior point``, ``crossover``
        or ``search``
    infeasibility : of the point that a simplex method is at, how far it is from meeting the constraints; of an
        interior point its relative gap; NaN elsewhere
    """

    seconds: float
    iterations: int
    nodes: int
    best: float
    bound: float
    objective: str | None = None
    maximize: bool | None = None
    unit: str | None = None
    doing: str = ""
    phase: str = ""
    infeasibility: float = float("nan")


class Goal(NamedTuple):
    """How the objective that is solved for relates to the one as written: ``written = here / unit + offset``.

    The engine works without the offset, which may be so large that nothing else would be seen beside it.
    """

    offset: float = 0.0
    unit: float = 1.0

    def written(self, value: float) -> float:
        """Return an objective value as written."""
        return value / self.unit + self.offset

    def within(self, other: Goal) -> Goal:
        """Return how it relates to the objective as written, where it relates so far to one that does by ``other``."""
        return Goal(other.written(self.offset), self.unit * other.unit)

    def noise(self, value: float, share: float = EQUAL) -> float:
        """Return the difference from a value that counts as none."""
        return share * max(1.0, abs(value))

    def slack(self, value: float, gap: float) -> float:
        """Return how much better than a plan of this value another may be, at a relative gap.

        The gap is one of the objective as written, and of what it is without its offset: the stricter counts.
        """
        written = self.unit * max(1.0, abs(self.written(value)))
        return max(self.noise(value), gap * min(max(1.0, abs(value)), written))


AS_WRITTEN = Goal()


LazyRow = tuple[npt.NDArray[Any], Floats, float, float]


@dataclass(frozen=True, eq=False, repr=False)
class Options:
    """How to solve.

    Attributes
    ----------
    method : for linear problems: ``dual`` or ``primal`` simplex, ``interior`` point, ``first-order``, or ``auto``
    presolve : whether to make a problem smaller first
    exact : whether to check the basis of a linear answer in exact arithmetic, and repair it if need be
    cuts, heuristics, symmetry : for whole-number problems: whether to add cuts at the root, to run primal heuristics,
        and to keep only one of plans that differ by exchanging what is identical
    blocks : for whole-number problems: whether knapsacks that a few rows link are solved one by one, by prices
    branching : ``reliability`` tries branches out until their pseudo-costs are reliable; ``plain`` never does
    start : values of columns to start from, shape (n,); NaN where they are not given
    repair : whether a start that is no plan is repaired, or left out
    priorities : of columns, shape (n,): those with the highest are branched on first
    lazy : asked about every whole plan; returns rows that it breaks: columns, values, lower and upper limit
    cores : how many processes may work on a long search: 2, or only this one; each takes its own path to the answer
    basis : to start a linear problem from, as it is, without presolve
    known : a plan that is known, shape (n,): a search raises an error where a cut or a bound leaves it out while it is
        better than the best plan; for finding errors, without symmetry
    goal : how the objective relates to the one as written
    inner : whether this is a search near a plan within another search, which begins none of its own
    brief : whether this is a search of a few nodes, for which nothing is prepared
    """

    method: Method = "auto"
    presolve: bool = True
    exact: bool = False
    cuts: bool = True
    heuristics: bool = True
    symmetry: bool = True
    blocks: bool = True
    branching: Branching = "reliability"
    start: Floats | None = None
    repair: bool = True
    priorities: npt.NDArray[Any] | None = None
    lazy: Callable[[Floats], list[LazyRow]] | None = None
    cores: int = 2
    basis: Basis | None = None
    known: Floats | None = None
    goal: Goal = AS_WRITTEN
    inner: bool = False
    brief: bool = False

    @property
    def as_it_is(self) -> bool:
        """Whether a problem is to stay as it is: where rows may follow, and where a plan is watched."""
        return self.lazy is not None or self.known is not None

    @property
    def any_of_alike(self) -> bool:
        """Whether one of the plans that symmetries exchange will do: not if rows may follow, or priorities differ."""
        return self.symmetry and self.lazy is None and self.priorities is None


@dataclass(eq=False, repr=False)
class Limits:
    """When to stop, and whom to tell.

    Attributes
    ----------
    seconds : most seconds from now on
    iterations, nodes : most simplex iterations and tree nodes
    gap : relative gap at which a plan counts as optimal
    memory : most bytes that a solve may hold: of problems, factors, bases and open nodes
    interrupted : asked between epochs; True stops the solve with reason ``user``
    on_progress : called at most ten times a second
    on_event : called with a dict for every event: parts of the solve, progress, the end
    on_plan : called with the values of every better plan that a search finds, so that they can be kept
    """

    seconds: float = float("inf")
    iterations: float = float("inf")
    nodes: float = float("inf")
    gap: float = 0.0
    memory: float = float("inf")
    interrupted: Callable[[], bool] | None = None
    on_progress: Callable[[Progress], None] | None = None
    on_event: Callable[[dict[str, Any]], None] | None = None
    on_plan: Callable[[Floats], None] | None = None
    started: float = field(default_factory=time.monotonic)
    _reported: float = 0.0

    def elapsed(self) -> float:
        """Return the seconds since the limits were made."""
        return time.monotonic() - self.started

    def exceeded(self, iterations: int, nodes: int = 0, held: Callable[[], float] | None = None) -> Reason | None:
        """Return the reason to stop now, or None; ``held`` counts what the solve holds, in bytes."""
        if self.interrupted is not None and self.interrupted():
            return "user"
        if self.elapsed() >= self.seconds:
            return "time"
        if iterations >= self.iterations:
            return "iterations"
        if nodes >= self.nodes:
            return "nodes"
        # what is held is counted only where there is a limit
        too_much = self.memory < float("inf") and held is not None and held() > self.memory
        return "memory" if too_much or running_out() else None

    def due(self, seconds: float) -> bool:
        """Say whether the last report was so long ago."""
        return self.elapsed() - self._reported >= seconds

    def report(
        self,
        iterations: int,
        nodes: int = 0,
        best: float = float("inf"),
        bound: float = float("-inf"),
        *,
        phase: str = "search",
        infeasibility: Callable[[], float] | None = None,
    ) -> None:
        """Pass on progress, unless the last report was less than a tenth of a second ago."""
        if not self.due(BETWEEN_REPORTS):
            return
        now = self._reported = self.elapsed()
        if self.on_progress is not None:
            missed = float("nan") if infeasibility is None else float(infeasibility())
            self.on_progress(Progress(now, iterations, nodes, best, bound, phase=phase, infeasibility=missed))
        self.record("progress", iterations=iterations, nodes=nodes, best=best, bound=bound)

    def record(self, event: str, **facts: Any) -> None:
        """Pass on an event with its facts and the seconds so far; infinite numbers become None."""
        if self.on_event is None:
            return
        known = {key: None if isinstance(v, float) and not np.isfinite(v) else v for key, v in facts.items()}
        self.on_event({"seconds": round(self.elapsed(), 6), "event": event, **known})


Solve = Callable[[Problem, Limits, Options], Outcome]
