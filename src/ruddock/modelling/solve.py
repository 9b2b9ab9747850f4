"""From a formulation through the engine to a `Plan`."""

from __future__ import annotations

import warnings
from collections.abc import Mapping, Sequence
from typing import Any

from ruddock.engine.in_order import Give, solve_in_order
from ruddock.engine.outcome import Options, Progress
from ruddock.errors import ModelError, RuddockWarning, known
from ruddock.modelling.decisions import kinds_of
from ruddock.modelling.formulation import Formulation, Objective
from ruddock.modelling.hints import added_hints
from ruddock.modelling.lowering import lowered
from ruddock.modelling.options import Clock, SolveOptions, running
from ruddock.modelling.plan import Plan


def solve_formulation(formulation: Formulation, options: SolveOptions, clock: Clock | None = None) -> Plan:
    """Solve a formulation for its objectives in their order; see `Model.solve`.

    Parameters
    ----------
    clock : of the question that this solve is a part of; without one it has its own
    """
    if clock is None:
        with running(options, formulation) as own:
            return solve_formulation(formulation, options, own)
    if options.certify and any(kinds_of(family).any() for family in formulation.decisions):
        warnings.warn(
            "certify=True checks linear models; this one has integer or semicontinuous decisions and is not checked",
            RuddockWarning,
            stacklevel=4,
        )
    gives = parse_give(formulation, options.give)
    asked = added_hints(Options(options.method, options.presolve, options.certify), options, formulation)
    objectives: list[Objective | None] = list(formulation.objectives) or [None]
    limits = clock.for_solve()
    listen = limits.on_progress

    def begin(k: int) -> None:
        limits.on_progress = None if listen is None else _in_sense(listen, objectives, k)

    outcome, stages = solve_in_order(lowered(formulation).problems, gives, limits, asked, begin)
    if outcome.status == "stopped":
        clock.stopped = clock.stopped or outcome.reason
    return Plan(formulation, outcome, tuple(stages), tuple(gives))


def engine_options(options: SolveOptions) -> Options:
    """Return the options of a solve within a question, without what belongs to its own plan."""
    return Options(options.method, options.presolve, cores=options.cores)


def parse_give(formulation: Formulation, give: Mapping[str, float | str] | None) -> list[Give]:
    """Read how far each objective may be relaxed for the later ones: ``"5%"`` of it, or an amount ``200``.

    Raises
    ------
    ModelError
        If there is no such objective, it has none after it, or the amount cannot be read.
    """
    names = [objective.name for objective in formulation.objectives]
    gives = [Give() for _ in names] or [Give()]
    for name, value in (give or {}).items():
        if name not in names:
            raise ModelError(f"give: no objective is called {name!r}; {known(name, names)}")
        if name == names[-1]:
            raise ModelError(f"give: {name!r} is the last objective, and no later one can take anything from it")
        text = str(value).strip()
        share = text.endswith("%")
        try:
            size = float(text.removesuffix("%")) / (100.0 if text.endswith("%") else 1.0)
        except ValueError:
            size = float("nan")
        if not 0 <= size < float("inf") or (share and size > 1):
            raise ModelError(
                f"give: {name}={value!r} is neither a share such as '5%', nor an amount in its unit such as 200"
            )
        gives[names.index(name)] = Give(share=size) if share else Give(amount=size)
    return gives


def _in_sense(listen: Any, objectives: Sequence[Objective | None], k: int) -> Any:
    """Return a listener that hears objective values as written, and which objective they are of."""
    objective = objectives[k]
    if objective is None:
        return listen
    sign = objective.sign
    name = objective.name if len(objectives) > 1 else None

    def hear(progress: Progress) -> None:
        listen(
            progress._replace(
                best=sign * progress.best, bound=sign * progress.bound, objective=name,
                maximize=objective.maximize, unit=objective.unit,
            )
        )  # fmt: skip

    return hear
