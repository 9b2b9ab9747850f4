"""Commands that solve many times: scenarios, a frontier, a region."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from ruddock.cli.main import main
from ruddock.cli.options import Amount, File, Input, Output, asks
from ruddock.cli.say import say


@main.command(short_help="Solve under every scenario of a table, and compare.")
@asks(
    click.argument("table", type=click.Path(path_type=Path)),
    click.option("--jobs", type=Amount("COUNT", 1, whole=True), default=1, help="Scenarios solved at the same time."),
    click.option("--keep", type=File(), help="Keep results in this file; the same command continues from it."),
    click.option("--each-time-limit", type=Amount("SECONDS"), help="Stop each scenario after this time."),
    click.option("--csv", "csv_path", type=File((".csv",)), help="Write a row for each scenario."),
)
def scenarios(
    model: Input,
    out: Output,
    how: dict[str, Any],
    table: Path,
    jobs: int,
    keep: str | None,
    each_time_limit: float | None,
    csv_path: str | None,
) -> None:
    """Solve MODEL under every scenario of TABLE (.csv or .xlsx) and compare.

    A row is a scenario; a column is headed by what it changes, such as need[Quay] or hampers.upper. An empty cell
    changes nothing. Exit status 1 if no scenario has a plan.
    """
    from ruddock.cli.show import counting

    built = model.read()
    how.pop("progress")
    with counting("scenarios") as listener:
        found = built.scenarios(table, jobs=jobs, keep=keep, each_time_limit=each_time_limit, on_result=listener, **how)
    out.write(found)
    if csv_path is not None:
        from ruddock.files import write_text
        from ruddock.formats.csv_text import csv_text

        write_text(Path(csv_path), csv_text(found.with_decisions()))
        out.said(csv_path)
    if found.stopped and keep is not None:
        say(f"{keep} keeps what was solved; the same command continues from there.", err=True)
    if not found.solved:
        raise click.exceptions.Exit(1)


@main.command(short_help="Two objectives or more against each other.")
@asks(
    click.argument("objectives", nargs=-1),
    click.option(
        "--points", default="21", metavar="COUNT", help="How many; all finds every point of an integer model."
    ),
)
def tradeoff(model: Input, out: Output, how: dict[str, Any], objectives: tuple[str, ...], points: str) -> None:
    """Set OBJECTIVES of MODEL against each other: from the best of the first to the best of the second.

    The first two by default; three and more are looked at on a grid. It stops after 60 seconds without --time-limit,
    and shows what was found by then. Exit status 1 if there is no plan.
    """
    from ruddock.cli.show import counting

    if points != "all" and not points.isdigit():
        raise click.BadParameter(f"{points!r}: write a number, or all", param_hint="--points")
    count = points if points == "all" else int(points)
    built = model.read()
    how.pop("progress")
    with counting("points") as listener:
        found = built.tradeoff(*objectives, points=count, on_point=lambda done: listener(done, done), **how)
    out.write(found)
    if not len(found.points):
        raise click.exceptions.Exit(1)


@main.command(short_help="The feasible region of two decisions.")
@asks()
def region(model: Input, out: Output, how: dict[str, Any]) -> None:
    """List the corners of the feasible region of MODEL, which has two decisions.

    Exit status 1 if the region is empty.
    """
    found = model.read().region(**how)
    out.write(found)
    if not len(found.outline):
        raise click.exceptions.Exit(1)
