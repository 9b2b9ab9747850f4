"""Commands that ask on about one plan: what it is worth, what if, and why not."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from ruddock.cli.main import main
from ruddock.cli.options import model_argument, tell


@main.command()
@model_argument
@click.argument("names", nargs=-1)
@click.option("--by", type=float, metavar="STEP", help="Solve again with each binding limit STEP higher and lower.")
@click.option("--json", "json_path", metavar="FILE", help="Write the ranges as JSON; - is standard output.")
def ranges(model: Path, data: dict[str, str], names: tuple[str, ...], by: float | None, json_path: str | None) -> None:
    """Tell what the limits of MODEL are worth and for how far, and how far coefficients may move.

    NAMES are constraints and decisions to work out, families or members; all by default.
    """
    from ruddock.cli.show import show, show_progress
    from ruddock.formats import read

    built = read(model, data)
    with show_progress(built) as listener:
        plan = built.solve(on_progress=listener)
    if plan.status != "optimal":
        show(plan.parts(), sys.stderr if json_path == "-" else None)
        raise click.exceptions.Exit(1)
    tell(plan.sensitivity(names or None, by=by), json_path)


@main.command()
@model_argument
@click.argument("changes", nargs=-1, required=True)
@click.option("--time-limit", type=click.FloatRange(min=0), metavar="S", help="Stop each solve after S seconds.")
@click.option("--json", "json_path", metavar="FILE", help="Write the comparison as JSON; - is standard output.")
def whatif(
    model: Path, data: dict[str, str], changes: tuple[str, ...], time_limit: float | None, json_path: str | None
) -> None:
    """Solve MODEL as it is and with CHANGES, and show the two side by side.

    CHANGES are words such as supply[Fell]=140, need*=1.1, wax+=20, shelf=off, hampers.upper=60,
    hampers.kind=integer, margin.jars=4.5 (a coefficient), or a data table of a .rdk model.
    """
    from ruddock.formats import read

    found = read(model, data).what_if(changes, time_limit=time_limit)
    tell(found, json_path)
    if not found.changed.found:
        raise click.exceptions.Exit(1)


@main.command()
@model_argument
@click.argument("limit")
@click.argument("start", type=float)
@click.argument("stop", type=float)
@click.option("--points", type=click.IntRange(min=2), default=25, help="How many, for whole-number models.")
@click.option("--json", "json_path", metavar="FILE", help="Write the sweep as JSON; - is standard output.")
def sweep(
    model: Path, data: dict[str, str], limit: str, start: float, stop: float, points: int, json_path: str | None
) -> None:
    """Follow the objective of MODEL as LIMIT goes from START to STOP; exact for linear models."""
    from ruddock.formats import read

    found = read(model, data).sweep(limit, start, stop, points=points)
    tell(found, json_path)
    if not len(found.points):
        raise click.exceptions.Exit(1)


@main.command()
@model_argument
@click.argument("limit")
@click.option("--objective", type=float, metavar="VALUE", help="A value the objective shall be at least as good as.")
@click.option("--target", "targets", multiple=True, metavar="NAME=VALUE", help="A quantity or decision to reach.")
@click.option("--json", "json_path", metavar="FILE", help="Write the answer as JSON; - is standard output.")
def reach(
    model: Path,
    data: dict[str, str],
    limit: str,
    objective: float | None,
    targets: tuple[str, ...],
    json_path: str | None,
) -> None:
    """Find the tightest value of LIMIT at which a target is reached, or the proof that none allows it.

    Exit status 1 if no value allows it.
    """
    from ruddock.formats import read
    from ruddock.modelling.changes import parse_changes

    wanted: dict[str, float] = {}
    for change in parse_changes(targets):
        if change.op != "=" or isinstance(change.value, str):
            raise click.BadParameter(f"{change}: write NAME=VALUE, such as jars=600")
        wanted[change.target] = change.value
    found = read(model, data).reach(limit, wanted, objective=objective)
    tell(found, json_path)
    if found.value is None:
        raise click.exceptions.Exit(1)


@main.command()
@model_argument
@click.option(
    "--may-change",
    multiple=True,
    metavar="WHAT",
    help="What a repair may change, such as 'demand down by 10% at 2' or hampers.upper; all limits if none.",
)
@click.option("--time-limit", type=click.FloatRange(min=0), metavar="S", help="Stop each search after S seconds.")
@click.option("--json", "json_path", metavar="FILE", help="Write the diagnosis as JSON; - is standard output.")
def diagnose(
    model: Path, data: dict[str, str], may_change: tuple[str, ...], time_limit: float | None, json_path: str | None
) -> None:
    """Tell why MODEL has no plan: what clashes, the proof, and the least changes that make one."""
    from ruddock.formats import read

    found = read(model, data).diagnose(may_change or None, time_limit=time_limit)
    tell(found, json_path)


@main.command()
@model_argument
@click.argument("name")
def explain(model: Path, data: dict[str, str], name: str) -> None:
    """Solve MODEL and work out NAME term by term: a constraint, an objective, a part of one, or a quantity."""
    from ruddock.cli.show import show, show_progress
    from ruddock.formats import read

    built = read(model, data)
    with show_progress(built) as listener:
        plan = built.solve(on_progress=listener)
    if not plan.found:
        show(plan.parts())
        raise click.exceptions.Exit(1)
    show(plan.explain(name).parts())


@main.command()
@model_argument
@click.argument("values", type=click.Path(path_type=Path))
@click.option("--json", "json_path", metavar="FILE", help="Write the judgement as JSON; - is standard output.")
def appraise(model: Path, data: dict[str, str], values: Path, json_path: str | None) -> None:
    """Judge a plan made by hand: VALUES is a .csv or .xlsx with the columns decision and value.

    Exit status 1 if it breaks a limit.
    """
    from ruddock.formats import read

    found = read(model, data).appraise(values)
    tell(found, json_path)
    if not found.feasible:
        raise click.exceptions.Exit(1)
