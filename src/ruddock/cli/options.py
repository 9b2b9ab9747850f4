"""Options that several commands take, and what they write."""

from __future__ import annotations

import dataclasses
import functools
import sys
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, Protocol

import click

if TYPE_CHECKING:
    from ruddock.insight.region import Region
    from ruddock.insight.scenarios import Scenarios
    from ruddock.insight.sweep import Sweep
    from ruddock.insight.tradeoff import Tradeoff
    from ruddock.tables import Table


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
    certify: bool
    events: Path | None
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
                help="Stop a solve whose matrices, factors and open nodes take more.",
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
            click.option("--certify", is_flag=True, help="Check a linear model's plan in exact arithmetic."),
            click.option("--effort", is_flag=True, help="Show what the solve took, after the plan."),
            click.option(
                "--events", type=click.Path(path_type=Path), metavar="FILE", help="Write each event as a line of JSON."
            ),
        )
    ):
        result = option(result)
    return result


def limited(command: Callable[..., None]) -> Callable[..., None]:
    """Give a question the limits that it shares with every solve, as ``limits``: keywords of the Python call."""

    @functools.wraps(command)
    def with_limits(time_limit: float | None, gap: float, give: tuple[str, ...], **given: Any) -> None:
        limits: dict[str, Any] = {"gap": gap, "progress": True}
        if time_limit is not None:
            limits["time_limit"] = time_limit
        if give:
            limits["give"] = given_words(give)
        command(limits=limits, **given)

    result: Callable[..., None] = with_limits
    for option in (
        click.option("--give", multiple=True, metavar="OBJECTIVE=SHARE",
                     help="What later objectives may take from this one: 5%, or an amount."),
        click.option("--gap", type=click.FloatRange(min=0, max=1), default=0.0, help="Relative gap taken as optimal."),
        click.option("--time-limit", type=click.FloatRange(min=0), metavar="S",
                     help="Stop after S seconds in all; what was found by then is shown."),
    ):  # fmt: skip
        result = option(result)
    return result


def given_words(words: tuple[str, ...]) -> dict[str, float | str]:
    """Read ``OBJECTIVE=SHARE`` words."""
    pairs = [word.partition("=") for word in words]
    for word, (_, sign, text) in zip(words, pairs, strict=True):
        if not sign or not text.strip():
            raise click.BadParameter(f"{word!r}: write OBJECTIVE=5% or OBJECTIVE=200", param_hint="--give")
    return {name.strip(): text.strip() for name, _, text in pairs}


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


class Answer(Protocol):
    """What a command found out."""

    def parts(self) -> list[str | Table]:
        """Return what is printed."""

    def as_dict(self) -> dict[str, Any]:
        """Return plain data for JSON."""


def tell(found: Answer, json_path: str | None) -> None:
    """Write an answer as JSON where that is asked for, and print it; to standard error where JSON takes the output."""
    from ruddock.cli.show import show

    if json_path is not None:
        write_json(json_path, found.as_dict())
    show(found.parts(), sys.stderr if json_path == "-" else None)


def draw(found: Scenarios | Region | Tradeoff | Sweep, figure: Path | None) -> None:
    """Write the figure of a result to a file, where one is asked for."""
    if figure is None:
        return
    from ruddock.reporting.figures import paper, saved

    saved(found.draw(paper()), figure)


def write_json(path: str, document: object) -> None:
    """Write a document to a file, or to standard output for ``-``."""
    import json

    from ruddock.formats.files import write_text

    text = json.dumps(document, indent=2, ensure_ascii=False, allow_nan=False) + "\n"
    if path == "-":
        click.echo(text, nl=False)
    else:
        write_text(Path(path), text)
