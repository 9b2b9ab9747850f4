"""The options of all commands, each defined once, and what a command does with its answer."""

from __future__ import annotations

import functools
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any, NamedTuple

import click

from ruddock.cli.say import say
from ruddock.document.plotting import FIGURES
from ruddock.document.result import REPORTS

if TYPE_CHECKING:
    from ruddock.document.content import Document
    from ruddock.document.result import Result
    from ruddock.formats.tables.given import Given
    from ruddock.modelling.model import Model

    Converted = click.ParamType[Any]
else:
    Converted = click.ParamType

DEMO = "demo:"
Command = Callable[..., Any]


class Share(Converted):
    """A share such as ``0.01`` or ``1%``."""

    name = "SHARE"

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        """Return the share as a number from 0 to 1."""
        text = str(value).strip()
        try:
            share = float(text.removesuffix("%")) / (100.0 if text.endswith("%") else 1.0)
        except ValueError:
            share = -1.0
        if not 0.0 <= share <= 1.0:
            self.fail(f"{text!r} is not a share: write 0.01 or 1%", param, ctx)
        return share


class Amount(Converted):
    """A number above a least value."""

    def __init__(self, name: str, least: float = 0.0, *, whole: bool = False) -> None:
        self.name, self.least, self.whole = name, least, whole

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float | int:
        """Return the number."""
        try:
            number = int(value) if self.whole else float(value)
        except ValueError:
            self.fail(f"{value!r} is not {'an integer' if self.whole else 'a number'}", param, ctx)
        if not number >= self.least:
            self.fail(f"{value} is too small: write {self.least:g} or more", param, ctx)
        return number


class File(Converted):
    """A file to be written, whose ending and folder are checked before anything is solved."""

    name = "FILE"

    def __init__(self, endings: tuple[str, ...] = (), *, output: bool = False) -> None:
        self.endings, self.output = endings, output

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> str:
        """Return the path."""
        text = str(value)
        if self.output and text == "-":
            return text
        path = Path(text)
        if self.endings and path.suffix.lower() not in self.endings:
            self.fail(f"{text}: the ending says the form: {', '.join(self.endings)}", param, ctx)
        if not path.parent.is_dir():
            self.fail(f"{text}: the folder {path.parent} does not exist", param, ctx)
        return text


SOLVE: dict[str, Callable[[Command], Command]] = {
    "time_limit": click.option(
        "--time-limit", type=Amount("SECONDS"), help="Stop after this time in all, and keep the best found by then."
    ),
    "gap": click.option(
        "--gap", type=Share(), default="0", help="Optimality gap that counts as optimal, such as 0.01 or 1%."
    ),
    "give": click.option(
        "--give",
        multiple=True,
        metavar="OBJECTIVE=AMOUNT",
        help="How far an objective may be relaxed for the later ones: 5%, or an amount in its unit.",
    ),
    "method": click.option(
        "--method",
        type=click.Choice(["auto", "dual", "primal", "interior", "first-order"]),
        default="auto",
        help="For linear models: the dual or primal simplex method, interior point with crossover, or a first-order "
        "method for very large ones.",
    ),
    "presolve": click.option("--no-presolve", is_flag=True, help="Solve the model without reducing it first."),
    "cores": click.option(
        "--cores", type=click.Choice(["1", "2"]), default="2", help="Processes that share a long search."
    ),
    "memory_limit": click.option(
        "--memory-limit", type=Amount("MB"), help="Stop when a solve takes more memory than this."
    ),
}
CERTIFY = click.option("--certify", is_flag=True, help="Check the optimal basis of a linear model in exact arithmetic.")
EVENTS = click.option("--events", type=File(), help="Write what happens during the solve as JSON lines.")
OUTPUT: dict[str, Callable[[Command], Command]] = {
    "all": click.option("--all", "everything", is_flag=True, help="Show every table in full."),
    "json": click.option("--json", "json_path", type=File(output=True), help="Write the answer as JSON; - is stdout."),
    "report": click.option(
        "--report",
        "reports",
        multiple=True,
        type=File(REPORTS),
        help=f"Write a report ({', '.join(REPORTS)}); may be repeated.",
    ),
    "figure": click.option(
        "--figure",
        "figures",
        multiple=True,
        type=File(FIGURES),
        help=f"Draw the answer ({', '.join(FIGURES)}); may be repeated.",
    ),
    "question": click.option("--question", metavar="TEXT", help="What was asked, at the top of the report."),
}


def _given(context: click.Context, option: click.Parameter, words: tuple[str, ...]) -> Given:
    from ruddock.formats.tables.given import Given

    return Given.of_words(words)


DATA = click.option(
    "--data",
    multiple=True,
    metavar="NAME=FILE",
    callback=_given,
    help="Take data or an axis from FILE [sheet S] [column C], or every table that a folder has; may be repeated.",
)


OUTSIDE = click.option(
    "--allow-outside", is_flag=True, help="Let the model name tables outside its folder, and databases."
)
SHEET = click.option("--sheet", metavar="NAME", help="The sheet of a workbook that holds several grids.")


READ = (DATA, SHEET, OUTSIDE)  # of every command that takes a MODEL


class Input(NamedTuple):
    """The model that a command is about."""

    source: str
    data: Given
    sheet: str | None = None

    @classmethod
    def taken(cls, source: str, given: dict[str, Any]) -> Input:
        """Take the options of a model out of what was given."""
        data: Given = given.pop("data")
        data.allow_outside = given.pop("allow_outside")
        return cls(source, data, given.pop("sheet"))

    @property
    def path(self) -> Path:
        """Its file; of a demo the one that ships."""
        if self.source.startswith(DEMO):
            from ruddock import demos

            return demos.text(self.source.removeprefix(DEMO))
        return Path(self.source)

    def read(self, *, noted: bool = True) -> Model:
        """Return the model; how a grid was understood is said before anything is made of it."""
        from ruddock.formats import read_with

        model = read_with(self.path, self.data, self.sheet)
        if noted and model.notes and self.path.suffix.lower() != ".rdk":
            say("; ".join(model.notes), err=True)
        return model


class Output(NamedTuple):
    """What is done with an answer: printed, and written where that is asked for."""

    source: str
    everything: bool
    json_path: str | None
    reports: tuple[str, ...]
    figures: tuple[str, ...]
    question: str | None

    @classmethod
    def taken(cls, source: str, given: dict[str, Any]) -> Output:
        """Take the options of an answer out of what was given."""
        names = ("everything", "json_path", "reports", "figures", "question")
        return cls(source, **{name: given.pop(name) for name in names})

    def write(self, result: Result, document: Document | None = None, **report: Any) -> None:
        """Print an answer, then write its files and say so; where JSON takes the output, the rest goes to stderr."""
        from ruddock.cli.show import show

        err = self.json_path == "-"
        show(document or result.document(all=self.everything), model=self.source, err=err)
        if self.json_path is not None:
            write_json(self.json_path, result.as_dict())
        for path in self.reports:
            from ruddock.reporting.report import write_report

            write_report(result, path, self.question, **report)
            self.said(path)
        for path in self.figures:
            self._draw(result, Path(path))

    def _draw(self, result: Result, path: Path) -> None:
        from ruddock.document.plotting import paper, plain_words, saved

        figure = result.figure()
        if figure is None:
            say(f"{path} was not written: {result.undrawn}", err=True)
            return
        saved(plain_words(figure.draw)(paper(figure.height)), path)
        self.said(str(path))

    def said(self, path: str) -> None:
        """Say what was written."""
        say(f"written to {path}", err=self.json_path == "-")


def taking(*options: Callable[[Command], Command]) -> Callable[[Command], Command]:
    """Give a command options, in this order."""

    def decorate(command: Command) -> Command:
        for option in reversed(options):
            command = option(command)
        return command

    return decorate


def asks(*more: Callable[[Command], Command], solves: bool = True) -> Callable[[Command], Command]:
    """Give a command its MODEL, the options of every solve as ``how``, those of every answer as ``out``, and its own.

    ``how`` are keywords of the Python call.
    """

    def decorate(command: Command) -> Command:
        @functools.wraps(command)
        def run(**given: Any) -> Any:
            source = given.pop("model")
            given["model"] = Input.taken(source, given)
            given["out"] = Output.taken(source, given)
            if solves:
                given["how"] = solve_keywords(given)
            return command(**given)

        options = [click.argument("model"), *more, *READ, *(SOLVE.values() if solves else ()), *OUTPUT.values()]
        return taking(*options)(run)

    return decorate


def solve_keywords(given: dict[str, Any]) -> dict[str, Any]:
    """Take the options of a solve out of what was given, as keywords of the Python call."""
    how: dict[str, Any] = {"progress": True, "gap": given.pop("gap"), "method": given.pop("method")}
    how["presolve"], how["cores"] = not given.pop("no_presolve"), int(given.pop("cores"))
    for name in ("time_limit", "memory_limit"):
        value = given.pop(name)
        if value is not None:
            how[name] = value
    give = given.pop("give")
    if give:
        how["give"] = given_words(give)
    return how


def given_words(words: tuple[str, ...]) -> dict[str, float | str]:
    """Read ``OBJECTIVE=AMOUNT`` words."""
    pairs = [word.partition("=") for word in words]
    for word, (_, sign, text) in zip(words, pairs, strict=True):
        if not sign or not text.strip():
            raise click.BadParameter(f"{word!r}: write OBJECTIVE=5% or OBJECTIVE=200", param_hint="--give")
    return {name.strip(): text.strip() for name, _, text in pairs}


def write_json(path: str, document: object) -> None:
    """Write a document to a file, and say so, or to standard output for ``-``."""
    from ruddock.files import json_text, write_text

    text = json_text(document)
    if path == "-":
        click.echo(text, nl=False)
    else:
        write_text(Path(path), text)
        say(f"written to {path}")
