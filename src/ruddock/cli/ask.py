"""Commands that ask more about one plan: what it is worth, what if, and why not."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from ruddock.cli.main import main
from ruddock.cli.options import Amount, Input, Output, asks


@main.command(short_help="What limits are worth and for how far, and coefficient ranges.")
@asks(
    click.argument("names", nargs=-1),
    click.option("--by", type=float, metavar="STEP", help="Solve again with each limit this much higher and lower."),
)
def sensitivity(model: Input, out: Output, how: dict[str, Any], names: tuple[str, ...], by: float | None) -> None:
    """Show what the limits of MODEL are worth and for how far, and how far coefficients may change.

    NAMES are constraints and decisions to work out, families or members; all by default.
    """
    plan = model.read().solve(**how)
    if plan.status != "optimal":
        out.write(plan)
        raise click.exceptions.Exit(1)
    left = how.get("time_limit")
    left = None if left is None else max(left - plan.effort.seconds, 0.0)
    out.write(plan.sensitivity(names or None, by=by, time_limit=left))


@main.command(short_help="Why there is no plan, and the least changes that make one.")
@asks(
    click.option(
        "--may-change",
        multiple=True,
        metavar="WHAT",
        help="What a repair may change, such as 'demand down by 10% at 2' or hampers.upper; by default all limits.",
    )
)
def diagnose(model: Input, out: Output, how: dict[str, Any], may_change: tuple[str, ...]) -> None:
    """Show why MODEL has no plan: what clashes, the proof, and the least changes that make it feasible.

    It stops after 60 seconds without --time-limit, and shows what was found by then.
    """
    out.write(model.read().diagnose(may_change or None, **how))


@main.command("what-if", short_help="Solve with changes, and compare.")
@asks(click.argument("changes", nargs=-1, required=True))
def what_if(model: Input, out: Output, how: dict[str, Any], changes: tuple[str, ...]) -> None:
    """Solve MODEL without and with CHANGES, and show the two next to each other.

    CHANGES are words such as supply[Fell]=140, need=+10%, wax+=20, shelf=off, hampers.upper=60, hampers.kind=integer,
    margin.jars=4.5 (a coefficient), or a data table of a .rdk model.
    """
    found = model.read().what_if(changes, **how)
    out.write(found)
    if not found.changed.found:
        raise click.exceptions.Exit(1)


@main.command(short_help="The objective as one limit or number changes.")
@asks(
    click.argument("what"),
    click.argument("start", type=float),
    click.argument("stop", type=float),
    click.option("--points", type=Amount("COUNT", 2, whole=True), default=25, help="How many, where not exact."),
)
def sweep(model: Input, out: Output, how: dict[str, Any], what: str, start: float, stop: float, points: int) -> None:
    """Follow the objective of MODEL as WHAT goes from START to STOP; exact for linear models.

    WHAT is a limit, a family of them, a bound (jars.upper), a coefficient (margin.jars) or data; all of a family go to
    one value, with a * after the name by one factor.

    It stops after 60 seconds without --time-limit, and shows what was found by then.
    """
    found = model.read().sweep(what, start, stop, points=points, **how)
    out.write(found)
    if not len(found.points):
        raise click.exceptions.Exit(1)


@main.command(short_help="The limit that reaches a target (goal seek).")
@asks(
    click.argument("what"),
    click.option("--objective", type=float, metavar="VALUE", help="A value that the objective should reach."),
    click.option("--target", "targets", multiple=True, metavar="NAME=VALUE", help="A quantity or decision to reach."),
)
def reach(
    model: Input, out: Output, how: dict[str, Any], what: str, objective: float | None, targets: tuple[str, ...]
) -> None:
    """Find the tightest value of WHAT, a limit or bound, that reaches a target, or the proof that none does.

    It stops after 60 seconds without --time-limit. Exit status 1 if no value reaches it.
    """
    from ruddock.modelling.changes import parse_changes

    wanted: dict[str, float] = {}
    for change in parse_changes(targets):
        if change.op != "=" or isinstance(change.value, str):
            raise click.BadParameter(f"{change}: write NAME=VALUE, such as jars=600", param_hint="--target")
        wanted[change.target] = change.value
    if not wanted and objective is None:
        raise click.UsageError("give --objective VALUE, or --target NAME=VALUE")
    found = model.read().reach(what, wanted, objective=objective, **how)
    out.write(found)
    if found.value is None:
        raise click.exceptions.Exit(1)


@main.command(short_help="Judge a plan made by hand.")
@asks(click.argument("values", type=click.Path(path_type=Path)))
def appraise(model: Input, out: Output, how: dict[str, Any], values: Path) -> None:
    """Judge a plan made by hand: VALUES is a .csv or .xlsx with the columns decision and value.

    The search for a better plan stops after 60 seconds without --time-limit. Exit status 1 if it violates the model.
    """
    found = model.read().appraise(values, **how)
    out.write(found)
    if not found.feasible:
        raise click.exceptions.Exit(1)


@main.command(short_help="Work one constraint or objective out term by term.")
@asks(click.argument("name"))
def explain(model: Input, out: Output, how: dict[str, Any], name: str) -> None:
    """Solve MODEL and work out NAME term by term: a constraint, an objective, a part of one, or a quantity."""
    plan = model.read().solve(**how)
    if not plan.found:
        out.write(plan)
        raise click.exceptions.Exit(1)
    out.write(plan.explain(name))
