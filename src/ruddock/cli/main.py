"""Commands and their options."""

from __future__ import annotations

import sys
from pathlib import Path

import click

from ruddock.cli.errors import RuddockGroup


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


def solve_options(command: click.decorators.FC) -> click.decorators.FC:
    """Give a command the options that every solve takes."""
    for option in (
        click.option("--gap", type=click.FloatRange(min=0), default=0.0, help="Relative gap that counts as optimal."),
        click.option("--time-limit", type=click.FloatRange(min=0), metavar="S", help="Stop after S seconds."),
        click.option("--json", "json_path", metavar="FILE", help="Write the plan as JSON; - is standard output."),
    ):
        command = option(command)
    return command


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
def solve(model: Path, data: dict[str, str], json_path: str | None, time_limit: float | None, gap: float) -> None:
    """Solve MODEL (.rdk, .mps, .mps.gz) and show the plan."""
    from ruddock.formats import read

    _solve_and_show(read(model, data), json_path, time_limit, gap)


@main.command()
@click.argument("name", required=False)
@solve_options
def demo(name: str | None, json_path: str | None, time_limit: float | None, gap: float) -> None:
    """List the demo models of Larkmoor Honey Cooperative, or run the one called NAME."""
    from ruddock import demos
    from ruddock.cli.show import console, show

    if name is None:
        show([demos.catalogue(), "Run one with: ruddock demo NAME"])
        return
    built = demos.build(name)
    told = sys.stderr if json_path == "-" else None
    console(told).print(demos.question(name), highlight=False)
    _solve_and_show(built, json_path, time_limit, gap)


def _solve_and_show(model: object, json_path: str | None, time_limit: float | None, gap: float) -> None:
    from ruddock.cli.show import show, show_progress
    from ruddock.formats.files import write_text
    from ruddock.formats.plan_json import plan_json
    from ruddock.modelling.model import Model
    from ruddock.reporting.text import plan_parts

    assert isinstance(model, Model)
    with show_progress(model) as listener:
        plan = model.solve(time_limit=time_limit, gap=gap, on_progress=listener)
    if json_path == "-":
        click.echo(plan_json(plan), nl=False)
    elif json_path is not None:
        write_text(Path(json_path), plan_json(plan))
    show(plan_parts(plan), sys.stderr if json_path == "-" else None)
    if not plan.found:
        raise click.exceptions.Exit(1)
