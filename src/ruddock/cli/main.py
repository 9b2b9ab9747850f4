"""Commands and their options."""

from __future__ import annotations

import dataclasses
import functools
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

import click

from ruddock.cli.errors import RuddockGroup
from ruddock.tables import Table

if TYPE_CHECKING:
    from ruddock.engine.outcome import Method
    from ruddock.insight.region import Region
    from ruddock.insight.scenarios import Scenarios
    from ruddock.insight.tradeoff import Tradeoff
    from ruddock.modelling.model import Model
    from ruddock.modelling.plan import Plan


def _version(context: click.Context, option: click.Parameter, asked: bool) -> None:
    if asked and not context.resilient_parsing:
        from ruddock._version import __version__
        from ruddock.engine.kernels import COMPILED

        click.echo(f"ruddock {__version__}, kernels {'compiled' if COMPILED else 'interpreted (slow)'}")
        context.exit()


@click.group(cls=RuddockGroup, context_settings={"help_option_names": ["-h", "--help"]})
@click.option(
    "--version", is_flag=True, is_eager=True, expose_value=False, callback=_version, help="Show the version and stop."
)
def main() -> None:
    """Plan with linear and whole-number models: solve, and read what binds.

    Exit status: 0 a plan was found; 1 the model says no; 2 the input or the call is wrong.
    """


@dataclasses.dataclass(frozen=True)
class SolveOptions:
    """What a command was told about its solve."""

    gap: float
    time_limit: float | None
    memory_limit: float | None
    cores: int
    give: tuple[str, ...]
    report: Path | None
    question: str | None
    json_path: str | None
    method: str
    no_presolve: bool
    exact: bool
    log: Path | None
    effort: bool


def solve_options(command: Callable[..., None]) -> Callable[..., None]:
    """Give a command the options that every solve takes, together as ``how``."""

    @functools.wraps(command)
    def with_options(**given: Any) -> None:
        names = [field.name for field in dataclasses.fields(SolveOptions)]
        command(how=SolveOptions(**{name: given.pop(name) for name in names}), **given)

    result: Callable[..., None] = with_options
    for option in reversed(
        (
            click.option(
                "--gap", type=click.FloatRange(min=0), default=0.0, help="Relative gap that counts as optimal."
            ),
            click.option("--time-limit", type=click.FloatRange(min=0), metavar="S", help="Stop after S seconds."),
            click.option(
                "--memory-limit",
                type=click.FloatRange(min=0),
                metavar="MB",
                help="Stop a search whose open parts take more.",
            ),
            click.option("--cores", type=click.IntRange(1, 2), default=2, help="Processes that share a long search."),
            click.option(
                "--give",
                multiple=True,
                metavar="OBJECTIVE=SHARE",
                help="What later objectives may take from this one: 5%, or an amount.",
            ),
            click.option("--json", "json_path", metavar="FILE", help="Write the plan as JSON; - is standard output."),
            click.option(
                "--report",
                type=click.Path(path_type=Path),
                metavar="FILE",
                help="Write the plan as a document (.html, .xlsx, .md, .json).",
            ),
            click.option("--question", metavar="TEXT", help="What was asked, at the top of the report."),
            click.option(
                "--method",
                type=click.Choice(["auto", "dual", "primal", "interior"]),
                default="auto",
                help="For linear models: dual or primal simplex, or interior point.",
            ),
            click.option("--no-presolve", is_flag=True, help="Solve a model as it is, without making it smaller."),
            click.option("--exact", is_flag=True, help="Check a linear model's plan in exact arithmetic."),
            click.option("--effort", is_flag=True, help="Show what the solve took, after the plan."),
            click.option(
                "--log", type=click.Path(path_type=Path), metavar="FILE", help="Write each event as a line of JSON."
            ),
        )
    ):
        result = option(result)
    return result


def _replacements(context: click.Context, option: click.Parameter, given: tuple[str, ...]) -> dict[str, str]:
    pairs = [text.partition("=") for text in given]
    for name, sign, file in pairs:
        if not (name and sign and file):
            raise click.BadParameter(f"{name!r}: write NAME=FILE, such as need=storm.csv")
    return {name.strip(): file for name, _, file in pairs}


def model_argument(command: click.decorators.FC) -> click.decorators.FC:
    """Give a command its MODEL argument and the option that replaces data for this run."""
    replaced = click.option(
        "--data",
        "data",
        multiple=True,
        metavar="NAME=FILE",
        callback=_replacements,
        help="Take a data table from FILE.",
    )
    return click.argument("model", type=click.Path(path_type=Path))(replaced(command))


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

        show(_alternatives(plan, alternatives), sys.stderr if how.json_path == "-" else None)
    if filled is not None and plan.found:
        from ruddock.formats.table import fill_table

        fill_table(plan, model, filled)
    if not plan.found:
        raise click.exceptions.Exit(1)


def _given(words: tuple[str, ...]) -> dict[str, float | str]:
    """Read ``OBJECTIVE=SHARE`` words."""
    pairs = [word.partition("=") for word in words]
    for word, (_, sign, text) in zip(words, pairs, strict=True):
        if not sign or not text.strip():
            raise click.BadParameter(f"{word!r}: write OBJECTIVE=5% or OBJECTIVE=200", param_hint="--give")
    return {name.strip(): text.strip() for name, _, text in pairs}


def _alternatives(plan: Plan, most: int) -> list[str | Table]:
    from ruddock.reporting.alternatives import alternatives_parts

    return alternatives_parts(plan.alternatives(most)) if plan.status == "optimal" else []


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


def _solve_and_show(
    model: Model,
    how: SolveOptions,
    *,
    start: Path | None = None,
    diagnosed: bool = False,
) -> Plan:
    """Solve, write what is asked for, and show the plan; where there is none, and it is asked for, why."""
    from ruddock.cli.show import show, show_progress
    from ruddock.formats.plan_json import plan_document
    from ruddock.reporting.effort import effort_parts
    from ruddock.reporting.text import plan_parts

    with show_progress(model) as listener:
        plan = model.solve(
            time_limit=how.time_limit,
            gap=how.gap,
            on_progress=listener,
            method=cast("Method", how.method),
            presolve=not how.no_presolve,
            exact=how.exact,
            log=how.log,
            memory_limit=how.memory_limit,
            cores=how.cores,
            give=_given(how.give),
            start=start,
        )
    parts, found = plan_parts(plan), None
    if diagnosed and plan.status == "infeasible":
        from ruddock.insight.diagnosis import diagnose_plan
        from ruddock.reporting.diagnosis import diagnosis_parts

        found = diagnose_plan(plan)
        parts = diagnosis_parts(found)
    if how.report is not None:
        from ruddock.reporting.report import write_report

        write_report(plan, how.report, how.question, found)
    if how.json_path is not None:
        _write_json(how.json_path, plan_document(plan))
    parts = parts + (effort_parts(plan) if how.effort else [])
    show(parts, sys.stderr if how.json_path == "-" else None)
    return plan


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
    from ruddock.reporting.sensitivity import sensitivity_parts
    from ruddock.reporting.text import plan_parts

    built = read(model, data)
    with show_progress(built) as listener:
        plan = built.solve(on_progress=listener)
    told = sys.stderr if json_path == "-" else None
    if plan.status != "optimal":
        show(plan_parts(plan), told)
        raise click.exceptions.Exit(1)
    found = plan.sensitivity(names or None, by=by)
    if json_path is not None:
        _write_json(json_path, found.as_dict())
    show(sensitivity_parts(found), told)


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
    from ruddock.cli.show import show
    from ruddock.formats import read
    from ruddock.reporting.what_if import what_if_parts

    found = read(model, data).what_if(changes, time_limit=time_limit)
    if json_path is not None:
        _write_json(json_path, found.as_dict())
    show(what_if_parts(found), sys.stderr if json_path == "-" else None)
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
    from ruddock.cli.show import show
    from ruddock.formats import read
    from ruddock.reporting.sweep import sweep_parts

    found = read(model, data).sweep(limit, start, stop, points=points)
    if json_path is not None:
        _write_json(json_path, found.as_dict())
    show(sweep_parts(found), sys.stderr if json_path == "-" else None)
    if not len(found.points):
        raise click.exceptions.Exit(1)


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
    from ruddock.cli.show import counting, show
    from ruddock.formats import read
    from ruddock.reporting.scenarios import scenarios_parts

    built = read(model, data)
    with counting("scenarios") as listener:
        found = built.scenarios(table, jobs=jobs, keep=keep, time_limit=time_limit, gap=gap, on_result=listener)
    if json_path is not None:
        _write_json(json_path, found.as_dict())
    if csv_path is not None:
        from ruddock.formats.files import write_text

        write_text(csv_path, found.table.join(found.decisions()).to_csv())
    if figure is not None and found.solved:
        _draw(found, figure)
    show(scenarios_parts(found), sys.stderr if json_path == "-" else None)
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
    from ruddock.cli.show import show
    from ruddock.formats import read
    from ruddock.reporting.region import region_parts

    found = read(model, data).region()
    if json_path is not None:
        _write_json(json_path, found.as_dict())
    if figure is not None and len(found.corners):
        _draw(found, figure)
    show(region_parts(found), sys.stderr if json_path == "-" else None)
    if not len(found.corners):
        raise click.exceptions.Exit(1)


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
    from ruddock.cli.show import show
    from ruddock.formats import read
    from ruddock.reporting.tradeoff import tradeoff_parts

    if points != "all" and not points.isdigit():
        raise click.BadParameter(f"{points!r}: write a number, or all", param_hint="--points")
    count = points if points == "all" else int(points)
    found = read(model, data).tradeoff(first, second, points=count, time_limit=time_limit)
    if json_path is not None:
        _write_json(json_path, found.as_dict())
    if figure is not None and len(found.points):
        _draw(found, figure)
    show(tradeoff_parts(found), sys.stderr if json_path == "-" else None)
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
    from ruddock.cli.show import show
    from ruddock.formats import read
    from ruddock.modelling.changes import parse_changes
    from ruddock.reporting.sweep import reach_parts

    wanted: dict[str, float] = {}
    for change in parse_changes(targets):
        if change.op != "=" or isinstance(change.value, str):
            raise click.BadParameter(f"{change}: write NAME=VALUE, such as jars=600")
        wanted[change.target] = change.value
    found = read(model, data).reach(limit, wanted, objective=objective)
    if json_path is not None:
        _write_json(json_path, found.as_dict())
    show(reach_parts(found), sys.stderr if json_path == "-" else None)
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
    from ruddock.cli.show import show
    from ruddock.formats import read
    from ruddock.reporting.diagnosis import diagnosis_parts

    found = read(model, data).diagnose(may_change or None, time_limit=time_limit)
    if json_path is not None:
        _write_json(json_path, found.as_dict())
    show(diagnosis_parts(found), sys.stderr if json_path == "-" else None)


@main.command()
@model_argument
@click.argument("name")
def explain(model: Path, data: dict[str, str], name: str) -> None:
    """Solve MODEL and work out NAME term by term: a constraint, an objective, a part of one, or a quantity."""
    from ruddock.cli.show import show, show_progress
    from ruddock.formats import read
    from ruddock.reporting.text import explanation_table, plan_parts

    built = read(model, data)
    with show_progress(built) as listener:
        plan = built.solve(on_progress=listener)
    if not plan.found:
        show(plan_parts(plan))
        raise click.exceptions.Exit(1)
    show([explanation_table(plan.explain(name))])


@main.command()
@model_argument
@click.argument("values", type=click.Path(path_type=Path))
@click.option("--json", "json_path", metavar="FILE", help="Write the judgement as JSON; - is standard output.")
def appraise(model: Path, data: dict[str, str], values: Path, json_path: str | None) -> None:
    """Judge a plan made by hand: VALUES is a .csv or .xlsx with the columns decision and value.

    Exit status 1 if it breaks a limit.
    """
    from ruddock.cli.show import show
    from ruddock.formats import read
    from ruddock.reporting.appraisal import appraisal_parts

    found = read(model, data).appraise(values)
    if json_path is not None:
        _write_json(json_path, found.as_dict())
    show(appraisal_parts(found), sys.stderr if json_path == "-" else None)
    if not found.feasible:
        raise click.exceptions.Exit(1)


@main.command()
@model_argument
@click.option("--json", "json_path", metavar="FILE", help="Write the findings as JSON; - is standard output.")
def check(model: Path, data: dict[str, str], json_path: str | None) -> None:
    """Look for what is probably wrong in MODEL, before any solve.

    Exit status 1 if a finding of severity error leaves no plan.
    """
    from ruddock.cli.show import show
    from ruddock.formats import read

    built = read(model, data)
    findings = built.check()
    if json_path is not None:
        _write_json(json_path, {"format": "ruddock-findings/1", "model": built.name, "findings": findings.as_list()})
    show([*findings.parts(), *_tables_read(built)], sys.stderr if json_path == "-" else None)
    if findings.errors:
        raise click.exceptions.Exit(1)


@main.command()
@model_argument
@click.argument("name", required=False)
def show(model: Path, name: str | None, data: dict[str, str]) -> None:
    """Write MODEL out as algebra, data filled in; NAME is one family or one member, in full."""
    from ruddock.cli import show as out
    from ruddock.formats import read

    built = read(model, data)
    if name is not None:
        click.echo(built.algebra(name))
        return
    title, _, body = built.algebra().partition("\n")
    size = dataclasses.replace(built.describe().table(), title="Size and kind")
    out.show([title, body, size, *_tables_read(built)])


def _tables_read(model: Model) -> list[str | Table]:
    """Return how the tables of a model were read."""
    if not model.notes:
        return []
    return [Table("Tables", [""], [(note,) for note in model.notes])]


def _draw(found: Scenarios | Region | Tradeoff, figure: Path) -> None:
    """Write the figure of a result to a file."""
    from ruddock.reporting.figures import paper, saved

    saved(found.draw(paper()), figure)


def _write_json(path: str, document: object) -> None:
    import json

    from ruddock.formats.files import write_text

    text = json.dumps(document, indent=2, ensure_ascii=False, allow_nan=False) + "\n"
    if path == "-":
        click.echo(text, nl=False)
    else:
        write_text(Path(path), text)


@main.command()
@model_argument
@click.argument("target", type=click.Path(path_type=Path))
def convert(model: Path, target: Path, data: dict[str, str]) -> None:
    """Read MODEL and write it to TARGET; the endings say the forms (.rdk, .mps, .mps.gz, .csv, .xlsx, .json)."""
    from ruddock.formats import read

    built = read(model, data)
    built.write(target)
    click.echo(f"{target}: {built!r}, written")
