"""Ruddock's errors and warnings as a command line shows them."""

from __future__ import annotations

import sys
import warnings
from typing import Any

import click

from ruddock.errors import RuddockError, RuddockWarning


class Shown(click.ClickException):
    """An error of ours: its text on standard error, exit status 2."""

    exit_code = 2

    def show(self, file: Any = None) -> None:
        """Print the error."""
        click.secho("error: ", fg="red", bold=True, nl=False, err=True)
        click.echo(self.message, err=True)


class RuddockGroup(click.Group):
    """A group whose commands turn our errors into messages, and our warnings into lines."""

    def invoke(self, context: click.Context) -> Any:
        """Run the command."""
        with warnings.catch_warnings():
            warnings.showwarning = _show_warning
            warnings.simplefilter("always", RuddockWarning)
            try:
                return super().invoke(context)
            except RuddockError as error:
                raise Shown(str(error)) from None


def _show_warning(message: Warning | str, *_: Any, **__: Any) -> None:
    click.secho("note: ", fg="yellow", nl=False, file=sys.stderr, err=True)
    click.echo(str(message), err=True)
