"""The command `ruddock` itself."""

from __future__ import annotations

import gc

import click

from ruddock.cli.errors import RuddockGroup

MODULES = {  # in the order of a model's life
    "ruddock.cli.model": ("check", "algebra", "convert"),
    "ruddock.cli.solve": ("demo", "solve"),
    "ruddock.cli.ask": ("sensitivity", "diagnose", "what-if", "sweep", "reach", "appraise", "explain"),
    "ruddock.cli.study": ("scenarios", "tradeoff", "region"),
    "ruddock.cli.service": ("serve", "send", "job"),
}
SETTINGS = {"help_option_names": ["-h", "--help"], "max_content_width": 100, "show_default": True}


def _version(context: click.Context, option: click.Parameter, asked: bool) -> None:
    if asked and not context.resilient_parsing:
        from ruddock._version import __version__, kernels_compiled

        click.echo(f"ruddock {__version__}, kernels {'compiled' if kernels_compiled() else 'interpreted (slow)'}")
        context.exit()


@click.group(cls=RuddockGroup, modules=MODULES, context_settings=SETTINGS)
@click.option(
    "--version", is_flag=True, is_eager=True, expose_value=False, callback=_version, help="Show the version and exit."
)
def main() -> None:
    """Solve linear and mixed-integer models, and read what the answer means.

    A MODEL is a file (.rdk, .mps, .mps.gz, .csv, .xlsx, .ods, .json), or demo:NAME for a demo that ships with Ruddock.

    \b
    Start here:
      ruddock demo                           list the demos
      ruddock demo packing-week              solve one
      ruddock sensitivity demo:packing-week  ask more about it

    \b
    Exit status:
      0  done
      1  no plan, or the answer is no
      2  invalid input or usage
    """
    # a command makes many objects that last as long as it does: collecting them over and over is a sixth of its start
    gc.set_threshold(50_000, 20, 100)
