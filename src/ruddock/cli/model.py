"""Commands about the model itself: check, write out, convert."""

from __future__ import annotations

import contextlib
import os
import time
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from ruddock.cli.main import main
from ruddock.cli.options import READ, File, Input, Output, asks, taking
from ruddock.cli.say import say

if TYPE_CHECKING:
    from ruddock.document.content import Document
    from ruddock.modelling.model import Model

SECONDS = 0.3  # between two looks at a folder that is watched


@main.command(short_help="Look for what is probably wrong, before any solve.")
@asks(
    click.option("--watch", is_flag=True, help="Check again whenever a file of MODEL's folder is saved; Ctrl-C ends."),
    solves=False,
)
def check(model: Input, out: Output, watch: bool) -> None:
    """Look for what is probably wrong in MODEL, before any solve.

    Exit status 1 if a finding of severity error makes the model infeasible.
    """
    if watch:
        _watch(model, out)
        return
    if not _checked(model, out):
        raise click.exceptions.Exit(1)


def _checked(model: Input, out: Output) -> bool:
    """Show the findings of a model; return whether none of them is an error."""
    built = model.read(noted=False)
    findings = built.check()
    out.write(findings, _with_tables(findings.document(all=out.everything), built))
    return not findings.errors


def _watch(model: Input, out: Output) -> None:
    """Check a model again and again, each time that a file beside it was saved."""
    from ruddock.cli.errors import show_error
    from ruddock.errors import RuddockError

    while True:
        before = _saved(model.path.parent)
        try:
            _checked(model, out)
        except RuddockError as error:
            show_error(str(error))
        say(f"watching {model.path.parent.resolve()}; Ctrl-C ends", err=True)
        while _saved(model.path.parent) == before:
            time.sleep(SECONDS)


def _saved(folder: Path) -> dict[str, int]:
    """Return when each file of a folder was saved."""
    saved = {}
    for entry in os.scandir(folder):
        with contextlib.suppress(OSError):  # gone meanwhile
            saved[entry.name] = entry.stat().st_mtime_ns
    return saved


@main.command(short_help="Write the model out as algebra, data filled in.")
@click.argument("model")
@click.argument("name", required=False)
@taking(*READ)
def algebra(model: str, name: str | None, **given: Any) -> None:
    """Write MODEL out as algebra, data filled in. NAME is one family or one member, in full."""
    from ruddock.cli.show import show
    from ruddock.document.content import Document, Verbatim

    built = Input.taken(model, given).read(noted=False)
    if name is not None:
        show(Document.of(built.name, [Verbatim(built.algebra(name))]))
        return
    size = built.describe().document()
    title, _, body = built.algebra().partition("\n")
    blocks = [Verbatim(f"{title}\n{body}"), *size.blocks()]
    show(_with_tables(Document.of(built.name, blocks), built))


def _with_tables(document: Document, model: Model) -> Document:
    """Return a document with how the tables of the model were read below."""
    from ruddock.document.content import Listing, Section

    if not model.notes:
        return document
    listing = Listing("How tables were read", model.notes)
    return document._replace(sections=(*document.sections, Section("", [listing])))


@main.command(short_help="Write the model in another form.")
@click.argument("model")
@click.argument("target", type=File())
@taking(*READ)
def convert(model: str, target: str, **given: Any) -> None:
    """Read MODEL and write it to TARGET; the endings say the forms (.rdk, .mps, .mps.gz, .csv, .xlsx, .ods, .json)."""
    built = Input.taken(model, given).read(noted=False)
    built.write(target)
    say(f"written to {target}: {built!r}")
