"""The command `ruddock` itself."""

from __future__ import annotations

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
