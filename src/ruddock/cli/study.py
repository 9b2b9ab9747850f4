"""Commands that solve many times: scenarios, a frontier, a region."""

from __future__ import annotations

from pathlib import Path

import click

from ruddock.cli.main import main
from ruddock.cli.options import draw, model_argument, tell


@main.command()
@model_argument
@click.argument("table", type=click.Path(path_type=Path))
@click.option("--jobs", type=click.IntRange(min=1), default=1, help="Processes that solve at a time.")
@click.option("--keep", type=click.Path(path_type=Path), metavar="FILE", help="Keep results here; go on from them.")
@click.option("--time-limit", type=click.FloatRange(min=0), metavar="S", help="Stop each solve after S seconds.")
@click.option("--gap", type=click.FloatRange(min=0), default=0.0, help="Relative gap that counts as optimal.")
@click.option("--csv", "csv_path", type=click.Path(path_type=Path), metavar="FILE", help="Write a row a scenario.")
@click.option("--figure", type=click.Path(path_type=Path), metavar="FILE", help="Draw them (.png, .svg, .pdf).")
@click.option("--json", "json_path", metavar="FILE", help="Write the answers as JSON; - is standard output.")
def scenarios(
    model: Path,
    data: dict[str, str],
    table: Path,
    jobs: int,
    keep: Path | None,
    time_limit: float | None,
    gap: float,
    csv_path: Path | None,
    figure: Path | None,
    json_path: str | None,
) -> None:
    """Solve MODEL under every scenario of TABLE (.csv or .xlsx) and compare.

    A row is a scenario; a column is headed by what it changes, such as need[Quay] or hampers.upper. An empty cell
    changes nothing. Exit status 1 if no scenario has a plan.
    """
    from ruddock.cli.show import counting
    from ruddock.formats import read

    built = read(model, data)
    with counting("scenarios") as listener:
        found = built.scenarios(table, jobs=jobs, keep=keep, time_limit=time_limit, gap=gap, on_result=listener)
    tell(found, json_path)
    if csv_path is not None:
        from ruddock.formats.files import write_text

        write_text(csv_path, found.table.join(found.decisions()).to_csv())
    if found.solved:
        draw(found, figure)
    if found.stopped and keep is not None:
        click.echo(f"{keep} keeps what was solved; the same command goes on from there.", err=True)
    if not found.solved:
        raise click.exceptions.Exit(1)


@main.command()
@model_argument
@click.option("--figure", type=click.Path(path_type=Path), metavar="FILE", help="Draw it (.png, .svg, .pdf).")
@click.option("--json", "json_path", metavar="FILE", help="Write the corners as JSON; - is standard output.")
def region(model: Path, data: dict[str, str], figure: Path | None, json_path: str | None) -> None:
    """List the corners of the feasible region of MODEL, which has two decisions, and draw it.

    Exit status 1 if the region is empty.
    """
    from ruddock.formats import read

    found = read(model, data).region()
    tell(found, json_path)
    if not len(found.corners):
        raise click.exceptions.Exit(1)
    draw(found, figure)


@main.command()
@model_argument
@click.argument("first")
@click.argument("second")
@click.option("--points", default="21", metavar="N", help="How many, or all, for whole-number models.")
@click.option("--time-limit", type=click.FloatRange(min=0), metavar="S", help="Stop after S seconds.")
@click.option("--figure", type=click.Path(path_type=Path), metavar="FILE", help="Draw the frontier (.png, .svg, .pdf).")
@click.option("--json", "json_path", metavar="FILE", help="Write the points as JSON; - is standard output.")
def tradeoff(
    model: Path,
    data: dict[str, str],
    first: str,
    second: str,
    points: str,
    time_limit: float | None,
    figure: Path | None,
    json_path: str | None,
) -> None:
    """Set two objectives of MODEL against each other, from the best of FIRST to the best of SECOND.

    Exit status 1 if there is no plan.
    """
    from ruddock.formats import read

    if points != "all" and not points.isdigit():
        raise click.BadParameter(f"{points!r}: write a number, or all", param_hint="--points")
    count = points if points == "all" else int(points)
    found = read(model, data).tradeoff(first, second, points=count, time_limit=time_limit)
    tell(found, json_path)
    if not len(found.points):
        raise click.exceptions.Exit(1)
    draw(found, figure)
