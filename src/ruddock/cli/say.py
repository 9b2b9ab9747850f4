"""Lines of the command line itself: nothing in them acts on a terminal, whatever names and paths they quote."""

from __future__ import annotations

import click

from ruddock.characters import visible


def say(words: str = "", *, err: bool = False, nl: bool = True) -> None:
    """Print words."""
    click.echo(visible(words), err=err, nl=nl)
