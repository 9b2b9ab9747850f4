"""Commands that ask on about one plan: what it is worth, what if, and why not."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import Any

import click

from ruddock.cli.main import main
from ruddock.cli.options import draw, limited, model_argument, tell


@main.command()
@model_argument
@click.argument("names", nargs=-1)
@click.option("--by", type=float, metavar="STEP", help="Solve again with limits STEP higher and lower.")
@limited
@click.option("--json", "json_path", metavar="FILE", help="Write the ranges as JSON; - is standard output.")
def ranges(
    model: Path,
    data: dict[str, str],
    names: tuple[str, ...],
    by: float | None,
    json_path: str | None,
    limits: dict[str, Any],
) -> None:
    """Tell what the limits of MODEL are worth and for how far, and how far coefficients may move.

    NAMES are constraints and decisions to work out, families or members; all by default.
    """
    from ruddock.cli.show import show
    from ruddock.formats import read

    plan = read(model, data).solve(**limits)
    if plan.status != "optimal":
        show(plan.parts(), sys.stderr if json_path == "-" else None)
        raise click.exceptions.Exit(1)
    left = limits.get("time_limit")
    left = None if left is None else max(left - plan.effort.seconds, 0.0)
    tell(plan.sensitivity(names or None, by=by, time_limit=left), json_path)


@main.command()
@model_argument
@click.argument("changes", nargs=-1, required=True)
@limited
@click.option("--json", "json_path", metavar="FILE", help="Write the comparison as JSON; - is standard output.")
def whatif(
    model: Path, data: dict[str, str], changes: tuple[str, ...], json_path: str | None, limits: dict[str, Any]
) -> None:
    """Solve MODEL as it is and with CHANGES, and show the two side by side.

    CHANGES are words such as supply[Fell]=140, need*=1.1, wax+=20, shelf=off, hampers.upper=60,
    hampers.kind=integer, margin.jars=4.5 (a coefficient), or a data table of a .rdk model.
    """
    from ruddock.formats import read

    found = read(model, data).what_if(changes, **limits)
    tell(found, json_path)
    if not found.changed.found:
        raise click.exceptions.Exit(1)


@main.command()
@model_argument
@click.argument("what")
@click.argument("start", type=float)
@click.argument("stop", type=float)
@click.option("--points", type=click.IntRange(min=2), default=25, show_default=True, help="How many, where not exact.")
@limited
@click.option("--figure", type=click.Path(path_type=Path), metavar="FILE", help="Draw it (.png, .svg, .pdf).")
@click.option("--json", "json_path", metavar="FILE", help="Write the sweep as JSON; - is standard output.")
def sweep(
    model: Path,
    data: dict[str, str],
    what: str,
    start: float,
    stop: float,
    points: int,
    figure: Path | None,
    json_path: str | None,
    limits: dict[str, Any],
) -> None:
    """Follow the objective of MODEL as WHAT goes from START to STOP; exact for linear models.

    WHAT is a limit, a family of them, a bound (jars.upper), a coefficient (margin.jars) or data; all of a family go to
    one value, with a * behind the name by one factor.
    """
    from ruddock.formats import read

    found = read(model, data).sweep(what, start, stop, points=points, **limits)
    tell(found, json_path)
    if len(found.points):
        draw(found, figure)
    if not len(found.points):
        raise click.exceptions.Exit(1)


@main.command()
@model_argument
@click.argument("what")
@click.option("--objective", type=float, metavar="VALUE", help="A value the objective should be at least as good as.")
@click.option("--target", "targets", multiple=True, metavar="NAME=VALUE", help="A quantity or decision to reach.")
@limited
@click.option("--json", "json_path", metavar="FILE", help="Write the answer as JSON; - is standard output.")
def reach(
    model: Path,
    data: dict[str, str],
    what: str,
    objective: float | None,
    targets: tuple[str, ...],
    json_path: str | None,
    limits: dict[str, Any],
) -> None:
    """Find the tightest value of WHAT, a limit or bound, at which a target is reached, or the proof that there is none.

    Exit status 1 if no value allows it.
    """
    from ruddock.formats import read
    from ruddock.modelling.changes import parse_changes

    wanted: dict[str, float] = {}
    for change in parse_changes(targets):
        if change.op != "=" or isinstance(change.value, str):
            raise click.BadParameter(f"{change}: write NAME=VALUE, such as jars=600")
        wanted[change.target] = change.value
    if not wanted and objective is None:
        raise click.UsageError("give --objective VALUE, or --target NAME=VALUE")
    found = read(model, data).reach(what, wanted, objective=objective, **limits)
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
@limited
@click.option("--json", "json_path", metavar="FILE", help="Write the diagnosis as JSON; - is standard output.")
def diagnose(
    model: Path, data: dict[str, str], may_change: tuple[str, ...], json_path: str | None, limits: dict[str, Any]
) -> None:
    """Show why MODEL has no plan: what clashes, the proof, and the least changes that make one.

    It stops after 60 seconds without --time-limit, and shows what was found by then.
    """
    from ruddock.formats import read

    found = read(model, data).diagnose(may_change or None, **limits)
    tell(found, json_path)


@main.command()
@model_argument
@click.argument("name")
@limited
def explain(model: Path, data: dict[str, str], name: str, limits: dict[str, Any]) -> None:
    """Solve MODEL and work out NAME term by term: a constraint, an objective, a part of one, or a quantity."""
    from ruddock.cli.show import show
    from ruddock.formats import read

    plan = read(model, data).solve(**limits)
    if not plan.found:
        show(plan.parts())
        raise click.exceptions.Exit(1)
    show(plan.explain(name).parts())


@main.command()
@model_argument
@click.argument("values", type=click.Path(path_type=Path))
@limited
@click.option("--json", "json_path", metavar="FILE", help="Write the judgement as JSON; - is standard output.")
def appraise(model: Path, data: dict[str, str], values: Path, json_path: str | None, limits: dict[str, Any]) -> None:
    """Judge a plan made by hand: VALUES is a .csv or .xlsx with the columns decision and value.

    Exit status 1 if it breaks the model.
    """
    from ruddock.formats import read

    found = read(model, data).appraise(values, **limits)
    tell(found, json_path)
    if not found.feasible:
        raise click.exceptions.Exit(1)
