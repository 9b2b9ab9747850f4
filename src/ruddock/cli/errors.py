"""Ruddock's errors and warnings as a command line shows them: one form for all."""

from __future__ import annotations

import sys
import warnings
from collections.abc import Mapping, Sequence
from importlib import import_module
from typing import Any

import click

from ruddock.cli.say import say
from ruddock.errors import RuddockError, RuddockWarning


class RuddockGroup(click.Group):
    """A group whose commands show every error in one form, and our warnings as lines.

    A command's module is imported when the command is asked for: the start of one does not pay for all.
    """

    def __init__(self, *args: Any, modules: Mapping[str, Sequence[str]] | None = None, **kwargs: Any) -> None:
        super().__init__(*args, **kwargs)
        self._modules = {name: module for module, names in (modules or {}).items() for name in names}

    def list_commands(self, context: click.Context) -> list[str]:
        """Return the commands in the order of a model's life."""
        return list(self._modules)

    def get_command(self, context: click.Context, cmd_name: str) -> click.Command | None:
        """Return a command, or None."""
        if cmd_name in self._modules:
            import_module(self._modules[cmd_name])
        return super().get_command(context, cmd_name)

    def main(  # type: ignore[override]
        self,
        args: Sequence[str] | None = None,
        prog_name: str | None = None,
        *,
        standalone_mode: bool = True,
        **extra: Any,
    ) -> Any:
        """Run the command line; an error ends it with status 2, what a command says with its own."""
        if not standalone_mode:
            return super().main(args, prog_name, standalone_mode=False, **extra)
        with warnings.catch_warnings():
            warnings.showwarning = _show_warning
            warnings.simplefilter("always", RuddockWarning)
            try:
                status = super().main(args, prog_name or "ruddock", standalone_mode=False, **extra)
            except RuddockError as error:
                show_error(str(error))
                status = 2
            except click.ClickException as error:
                asked = getattr(error, "ctx", None)
                help_with = f"\nSee {asked.command_path} -h." if asked is not None else ""
                show_error(error.format_message() + help_with)
                status = 2
            except (click.Abort, KeyboardInterrupt):
                say("stopped", err=True)
                status = 1
        sys.exit(status if isinstance(status, int) else 0)


def show_error(message: str) -> None:
    """Show an error in the one form that all have."""
    click.secho("error: ", fg="red", bold=True, nl=False, err=True)
    say(message, err=True)


def _show_warning(message: Warning | str, *_: Any, **__: Any) -> None:
    click.secho("note: ", fg="yellow", nl=False, err=True)
    say(str(message), err=True)
