"""Commands that solve: the demos, and a model of one's own."""

from __future__ import annotations

import dataclasses
import sys
from pathlib import Path
from typing import TYPE_CHECKING, cast

import click

from ruddock.cli.main import main
from ruddock.cli.options import SolveOptions, given_words, model_argument, solve_options, write_json

if TYPE_CHECKING:
    from ruddock.engine.outcome import Method
    from ruddock.modelling.model import Model
    from ruddock.modelling.plan import Plan


@main.command()
@click.argument("name", required=False)
@click.option(
    "--copy",
    type=click.Path(path_type=Path),
    metavar="FOLDER",
    help="Copy the model and its tables there, to start from.",
)
@solve_options
def demo(name: str | None, copy: Path | None, how: SolveOptions) -> None:
    """List the demo models of Larkmoor Honey Cooperative, or run the one called NAME."""
    from ruddock import demos
    from ruddock.cli.show import console, show

    if name is None:
        show([*demos.catalogue(), "Run one with: ruddock demo NAME; copy it with: ruddock demo NAME --copy FOLDER"])
        return
    if copy is not None:
        for path in demos.copy(name, copy):
            click.echo(path)
        return
    built = demos.build(name)
    told = sys.stderr if how.json_path == "-" else None
    console(told).print(demos.question(name), highlight=False)
    how = dataclasses.replace(how, question=how.question or demos.question(name))
    if not _solve_and_show(built, how, diagnosed=True).found:
        raise click.exceptions.Exit(1)


@main.command()
@model_argument
@solve_options
@click.option(
    "--filled", type=click.Path(path_type=Path), metavar="FILE", help="Copy an .xlsx table, values filled in."
)
@click.option(
    "--alternatives", type=click.IntRange(min=0), default=0, metavar="K", help="Show up to K other plans after it."
)
@click.option(
    "--start",
    type=click.Path(path_type=Path),
    metavar="FILE",
    help="Start from decisions and values in a .csv or .xlsx table.",
)
def solve(
    model: Path,
    data: dict[str, str],
    filled: Path | None,
    alternatives: int,
    start: Path | None,
    how: SolveOptions,
) -> None:
    """Solve MODEL (.rdk, .mps, .mps.gz, .csv, .xlsx, .json) and show the plan."""
    from ruddock.formats import read

    plan = _solve_and_show(read(model, data), how, start=start)
    if alternatives:
        from ruddock.cli.show import show

        others = plan.alternatives(alternatives).parts() if plan.status == "optimal" else []
        show(others, sys.stderr if how.json_path == "-" else None)
    if filled is not None and plan.found:
        from ruddock.formats.table import fill_table

        fill_table(plan, model, filled)
    if not plan.found:
        raise click.exceptions.Exit(1)


def _solve_and_show(
    model: Model,
    how: SolveOptions,
    *,
    start: Path | None = None,
    diagnosed: bool = False,
) -> Plan:
    """Solve, write what is asked for, and show the plan; where there is none, and it is asked for, why."""
    from ruddock.cli.show import show
    from ruddock.formats.plan_json import plan_document
    from ruddock.reporting.effort import effort_parts

    plan = model.solve(
        time_limit=how.time_limit,
        gap=how.gap,
        progress=True,
        method=cast("Method", how.method),
        presolve=not how.no_presolve,
        certify=how.certify,
        events=how.events,
        memory_limit=how.memory_limit,
        cores=how.cores,
        give=given_words(how.give),
        start=start,
    )
    found = None
    if diagnosed and plan.status == "infeasible":
        from ruddock.insight.diagnosis import diagnose_plan

        found = diagnose_plan(plan)
    if how.report is not None:
        from ruddock.reporting.report import write_report

        write_report(plan, how.report, how.question, found)
    if how.json_path is not None:
        write_json(how.json_path, plan_document(plan))
    parts = (plan if found is None else found).parts()
    show([*parts, *(effort_parts(plan) if how.effort else [])], sys.stderr if how.json_path == "-" else None)
    return plan
