"""Commands about the model itself: check, write out, convert."""

from __future__ import annotations

import dataclasses
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from ruddock.cli.main import main
from ruddock.cli.options import model_argument, write_json
from ruddock.tables import Table

if TYPE_CHECKING:
    from ruddock.modelling.model import Model


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
        write_json(json_path, {"format": "ruddock-findings/1", "model": built.name, "findings": findings.as_list()})
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


@main.command()
@model_argument
@click.argument("target", type=click.Path(path_type=Path))
def convert(model: Path, target: Path, data: dict[str, str]) -> None:
    """Read MODEL and write it to TARGET; the endings say the forms (.rdk, .mps, .mps.gz, .csv, .xlsx, .json)."""
    from ruddock.formats import read

    built = read(model, data)
    built.write(target)
    click.echo(f"{target}: {built!r}, written")
