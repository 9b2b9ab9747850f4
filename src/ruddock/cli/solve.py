"""Commands that solve: the demos, and a model of one's own."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ruddock.cli.main import main
from ruddock.cli.options import (
    CERTIFY,
    DEMO,
    EVENTS,
    OUTPUT,
    SOLVE,
    Amount,
    File,
    Input,
    Output,
    asks,
    solve_keywords,
    taking,
)
from ruddock.cli.say import say

if TYPE_CHECKING:
    from ruddock.modelling.model import Model
    from ruddock.modelling.plan import Plan

NONZERO = click.option("--nonzero", is_flag=True, help="List the decisions that are not 0, one by one.")
FAMILY = click.option(
    "--family", "families", multiple=True, metavar="NAME", help="Show only this family, in full; may be repeated."
)
EFFORT = click.option("--effort", is_flag=True, help="Show what the solve took, after the plan.")


@main.command(short_help="List the demos, or run one.")
@click.argument("name", required=False)
@click.option("--copy", type=click.Path(path_type=Path), metavar="FOLDER", help="Copy the model and its tables there.")
@taking(NONZERO, FAMILY, EFFORT, CERTIFY, EVENTS, *SOLVE.values(), *OUTPUT.values())
def demo(name: str | None, copy: Path | None, **given: Any) -> None:
    """List the demos of Larkmoor Honey Cooperative, or solve the one called NAME.

    A demo is a MODEL for every other command as demo:NAME.
    """
    from ruddock import demos
    from ruddock.cli.show import show
    from ruddock.document.content import Document, Next, Question

    if name is None:
        questions = [
            Question("Solve one", "ruddock demo NAME", ""),
            Question("Ask anything else about it", "ruddock sensitivity demo:NAME", ""),
            Question("Copy its files to start from", "ruddock demo NAME --copy FOLDER", ""),
        ]
        show(Document.of("Demos", [*demos.catalogue(), Next(questions)]))
        return
    if copy is not None:
        for path in demos.copy(name, copy):
            say(f"written to {path}")
        return
    built = demos.build(name)
    how = solve_keywords(given)
    given["question"] = given["question"] or demos.question(name)
    out = Output.taken(f"{DEMO}{name}", given)
    say(f"{out.question}\n", err=out.json_path == "-")
    if not _solve_and_show(built, how, out, diagnosed=True, **given).found:
        raise click.exceptions.Exit(1)


@main.command(short_help="Solve the model and show the plan.")
@asks(
    NONZERO,
    FAMILY,
    click.option(
        "--alternatives", type=Amount("COUNT", whole=True), default=0, help="Show up to this many other plans."
    ),
    click.option(
        "--start", type=click.Path(path_type=Path), metavar="FILE", help="Start from the values in this table."
    ),
    click.option(
        "--filled", type=File((".xlsx", ".xlsm")), help="Copy a workbook with the values filled in beside its grid."
    ),
    EFFORT,
    CERTIFY,
    EVENTS,
)
def solve(
    model: Input,
    out: Output,
    how: dict[str, Any],
    alternatives: int,
    start: Path | None,
    filled: str | None,
    **given: Any,
) -> None:
    """Solve MODEL and show the plan: the verdict, what to do, what limits it.

    Exit status 1 if there is no plan.
    """
    plan = _solve_and_show(model.read(), {**how, "start": start}, out, **given)
    if alternatives and plan.status == "optimal":
        from ruddock.cli.show import show

        say(err=out.json_path == "-")
        show(plan.alternatives(alternatives).document(all=out.everything), err=out.json_path == "-")
    if filled is not None and plan.found:
        from ruddock.formats.grid.fill import fill_grid

        fill_grid(plan, model.path, Path(filled), model.sheet)
        out.said(filled)
    if not plan.found:
        raise click.exceptions.Exit(1)


def _solve_and_show(
    model: Model,
    how: dict[str, Any],
    out: Output,
    *,
    nonzero: bool,
    families: tuple[str, ...],
    effort: bool,
    certify: bool,
    events: str | None,
    diagnosed: bool = False,
) -> Plan:
    """Solve, show the plan, and write what is asked for; where there is no plan, and it is asked for, why."""
    plan = model.solve(**how, certify=certify, events=events)
    if diagnosed and plan.status == "infeasible":
        from ruddock.insight.diagnosis import diagnose_plan

        found = diagnose_plan(plan)
        document = found.document(all=out.everything)
        out.write(plan, document, diagnosis=found)
        return plan
    document = plan.document(all=out.everything, nonzero=nonzero, family=families)
    if effort:
        from ruddock.document.content import Next, Section

        own = Section("What the solve took", list(plan.effort.document().blocks())[1:])
        rest = [s for s in document.sections if not all(isinstance(b, Next) for b in s.blocks)]
        document = document._replace(sections=(*rest, own))
    out.write(plan, document)
    return plan
