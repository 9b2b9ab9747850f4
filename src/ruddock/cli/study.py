"""Commands that solve many times: scenarios, a frontier, a region."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from ruddock.cli.main import main
from ruddock.cli.options import draw, limited, model_argument, tell


@main.command()
@model_argument
@click.argument("table", type=click.Path(path_type=Path))
@click.option("--jobs", type=click.IntRange(min=1), default=1, help="Processes that solve at a time.")
@click.option("--keep", type=click.Path(path_type=Path), metavar="FILE", help="Keep results here; go on from them.")
@click.option(
    "--each-time-limit", type=click.FloatRange(min=0), metavar="S", help="Stop each scenario after S seconds."
)
@limited
@click.option("--csv", "csv_path", type=click.Path(path_type=Path), metavar="FILE", help="Write a row a scenario.")
@click.option("--figure", type=click.Path(path_type=Path), metavar="FILE", help="Draw them (.png, .svg, .pdf).")
@click.option("--json", "json_path", metavar="FILE", help="Write the answers as JSON; - is standard output.")
def scenarios(
    model: Path,
    data: dict[str, str],
    table: Path,
    jobs: int,
    keep: Path | None,
    each_time_limit: float | None,
    csv_path: Path | None,
    figure: Path | None,
    json_path: str | None,
    limits: dict[str, Any],
) -> None:
    """Solve MODEL under every scenario of TABLE (.csv or .xlsx) and compare.

    A row is a scenario; a column is headed by what it changes, such as need[Quay] or hampers.upper. An empty cell
    changes nothing. Exit status 1 if no scenario has a plan.
    """
    from ruddock.cli.show import counting
    from ruddock.formats import read

    built = read(model, data)
    limits.pop("progress")
    with counting("scenarios") as listener:
        found = built.scenarios(
            table, jobs=jobs, keep=keep, each_time_limit=each_time_limit, on_result=listener, **limits
        )
    tell(found, json_path)
    if csv_path is not None:
        from ruddock.formats.files import write_text

        write_text(csv_path, found.with_decisions().to_csv())
    if found.solved:
        draw(found, figure)
    if found.stopped and keep is not None:
        click.echo(f"{keep} keeps what was solved; the same command goes on from there.", err=True)
    if not found.solved:
        raise click.exceptions.Exit(1)


@main.command()
@model_argument
@limited
@click.option("--figure", type=click.Path(path_type=Path), metavar="FILE", help="Draw it (.png, .svg, .pdf).")
@click.option("--json", "json_path", metavar="FILE", help="Write the corners as JSON; - is standard output.")
def region(
    model: Path, data: dict[str, str], figure: Path | None, json_path: str | None, limits: dict[str, Any]
) -> None:
    """List the corners of the feasible region of MODEL, which has two decisions, and draw it.

    Exit status 1 if the region is empty.
    """
    from ruddock.formats import read

    found = read(model, data).region(**limits)
    tell(found, json_path)
    if not len(found.outline):
        raise click.exceptions.Exit(1)
    draw(found, figure)


@main.command()
@model_argument
@click.argument("objectives", nargs=-1)
@click.option(
    "--points", default="21", show_default=True, metavar="N", help="How many, or all, for models with integers."
)
@limited
@click.option("--figure", type=click.Path(path_type=Path), metavar="FILE", help="Draw the frontier (.png, .svg, .pdf).")
@click.option("--json", "json_path", metavar="FILE", help="Write the points as JSON; - is standard output.")
def tradeoff(
    model: Path,
    data: dict[str, str],
    objectives: tuple[str, ...],
    points: str,
    figure: Path | None,
    json_path: str | None,
    limits: dict[str, Any],
) -> None:
    """Set OBJECTIVES of MODEL against each other: from the best of the first to the best of the second.

    Without names the first two; three and more are looked at on a grid. Exit status 1 if there is no plan.
    """
    from ruddock.cli.show import counting
    from ruddock.formats import read

    if points != "all" and not points.isdigit():
        raise click.BadParameter(f"{points!r}: write a number, or all", param_hint="--points")
    count = points if points == "all" else int(points)
    limits.pop("progress")
    built = read(model, data)
    with counting("points") as listener:
        found = built.tradeoff(*objectives, points=count, on_point=lambda done: listener(done, done), **limits)
    tell(found, json_path)
    if not len(found.points):
        raise click.exceptions.Exit(1)
    draw(found, figure)
