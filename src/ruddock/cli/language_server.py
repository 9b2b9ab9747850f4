"""A language server for the text form: ``python -m ruddock.cli.language_server`` speaks to an editor over stdio.

Errors while typing, completion of names and labels, hover with a family's size and unit; the grammar for colours is
``ruddock.tmLanguage.json`` in this folder. Needs ``pip install "ruddock[editor]"``.
"""

from __future__ import annotations

import re
from pathlib import Path
from typing import TYPE_CHECKING
from urllib.parse import unquote, urlparse

from lsprotocol import types
from pygls.lsp.server import LanguageServer

from ruddock._version import __version__
from ruddock.document.numbers import plural
from ruddock.errors import FormatError, RuddockError
from ruddock.formats.rdk.heads import RESERVED
from ruddock.formats.rdk.read import read_rdk_text
from ruddock.formats.rdk.source import HEADINGS
from ruddock.modelling.axis import quoted

if TYPE_CHECKING:
    from ruddock.modelling.cells import Cells
    from ruddock.modelling.model import Model

WORD = re.compile(r"[^\W\d_]\w*")
MOST_LABELS = 500  # of one axis, in a list of completions


class RuddockServer(LanguageServer):
    """Holds, for each open text, the last model that could be read of it."""

    def __init__(self) -> None:
        super().__init__("ruddock", __version__)
        self.models: dict[str, Model] = {}

    def look(self, uri: str) -> None:
        """Read a text and publish what is wrong with it."""
        text = self.workspace.get_text_document(uri).source
        path = Path(unquote(urlparse(uri).path))
        found: list[types.Diagnostic] = []
        try:
            model = read_rdk_text(text, str(path), path.parent)
            self.models[uri] = model
            found = [
                diagnostic(
                    place_of(text, finding.where),
                    f"{finding.what} {finding.remedy}",
                    types.DiagnosticSeverity.Error if finding.severity == "error" else types.DiagnosticSeverity.Warning,
                )
                for finding in model.check().items
            ]
        except FormatError as error:
            found = [of_error(one, path) for one in (error, *error.others)]
        except RuddockError as error:
            found = [diagnostic((0, 0), str(error), types.DiagnosticSeverity.Error)]
        self.text_document_publish_diagnostics(types.PublishDiagnosticsParams(uri=uri, diagnostics=found))


def of_error(error: FormatError, path: Path) -> types.Diagnostic:
    """Return an error at its place; one of another file stands on the first line and names it."""
    text = str(error)
    own = error.path == str(path)
    if own and error.line is not None:
        text = text.partition(": ")[2].partition("\n")[0]
    place = ((error.line or 1) - 1, (error.column or 1) - 1) if own else (0, 0)
    return diagnostic(place, text, types.DiagnosticSeverity.Error)


def diagnostic(place: tuple[int, int], message: str, severity: types.DiagnosticSeverity) -> types.Diagnostic:
    """Return what an editor underlines."""
    line, column = place
    where = types.Range(types.Position(line, column), types.Position(line, column + 1))
    return types.Diagnostic(range=where, message=message, severity=severity, source="ruddock")


def place_of(text: str, name: str) -> tuple[int, int]:
    """Return where a name stands first; the beginning if it does not."""
    base = name.partition("[")[0]
    found = re.search(rf"(?<!\w){re.escape(base)}(?!\w)", text) if base else None
    if found is None:
        return 0, 0
    before = text[: found.start()]
    return before.count("\n"), found.start() - (before.rfind("\n") + 1)


def sizes(model: Model) -> dict[str, str]:
    """Return what is said of each name of a model."""
    said: dict[str, str] = {}
    formulation = model.formulation()
    for family in formulation.decisions:
        said[family.name] = _sized(family.name, family.cells, "decision", family.unit, family.kind)
        for axis in family.cells.axes:
            said.setdefault(axis.name, f"axis {axis.name}: {plural(len(axis), 'label')}")
    for part in formulation.constraints:
        said[part.name] = _sized(part.name, part.cells, "constraint", part.unit)
    for quantity in formulation.quantities:
        said[quantity.name] = _sized(quantity.name, quantity.terms.cells, "quantity", quantity.unit)
    for goal in formulation.objectives:
        said[goal.name] = f"{'maximize' if goal.maximize else 'minimize'} {goal.name}" + _unit(goal.unit)
    for name in model.data_names:
        said.setdefault(name, f"data {name}")
    return said


def _sized(name: str, cells: Cells, what: str, unit: str | None, kind: str = "") -> str:
    head = f"{name}[{', '.join(cells.names)}]" if cells.names else name
    return f"{head}: {plural(len(cells), what)}{', ' + kind if kind else ''}{_unit(unit)}"


def _unit(unit: str | None) -> str:
    return f" ({unit})" if unit else ""


server = RuddockServer()


@server.feature(types.TEXT_DOCUMENT_DID_OPEN)
def opened(of: RuddockServer, event: types.DidOpenTextDocumentParams) -> None:
    """Look at a text that was opened."""
    of.look(event.text_document.uri)


@server.feature(types.TEXT_DOCUMENT_DID_CHANGE)
def changed(of: RuddockServer, event: types.DidChangeTextDocumentParams) -> None:
    """Look at a text that was changed."""
    of.look(event.text_document.uri)


@server.feature(types.TEXT_DOCUMENT_DID_SAVE)
def saved(of: RuddockServer, event: types.DidSaveTextDocumentParams) -> None:
    """Look again: the tables of a model may have been saved, too."""
    of.look(event.text_document.uri)


@server.feature(types.TEXT_DOCUMENT_HOVER)
def hover(of: RuddockServer, asked: types.HoverParams) -> types.Hover | None:
    """Say what a name is: its size, kind and unit."""
    model = of.models.get(asked.text_document.uri)
    lines = of.workspace.get_text_document(asked.text_document.uri).lines
    if model is None or asked.position.line >= len(lines):
        return None
    at = asked.position.character
    word = next((m.group() for m in WORD.finditer(lines[asked.position.line]) if m.start() <= at <= m.end()), "")
    said = sizes(model).get(word)
    return None if said is None else types.Hover(types.MarkupContent(types.MarkupKind.PlainText, said))


@server.feature(types.TEXT_DOCUMENT_COMPLETION, types.CompletionOptions(trigger_characters=["[", '"']))
def completion(of: RuddockServer, asked: types.CompletionParams) -> types.CompletionList:
    """Offer headings, words, names, and the labels of axes."""
    text = of.workspace.get_text_document(asked.text_document.uri).source
    kinds = types.CompletionItemKind
    items = {word: types.CompletionItem(word, kind=kinds.Keyword) for word in (*HEADINGS, *sorted(RESERVED))}
    for name in dict.fromkeys(WORD.findall(re.sub(r"#.*", "", text))):
        items.setdefault(name, types.CompletionItem(name, kind=kinds.Text))
    model = of.models.get(asked.text_document.uri)
    if model is not None:
        for name, said in sizes(model).items():
            items[name] = types.CompletionItem(name, kind=kinds.Variable, detail=said)
        axes = {axis.name: axis for family in model.formulation().decisions for axis in family.cells.axes}
        for axis in axes.values():
            for label in axis.texts[:MOST_LABELS]:
                shown = quoted(label) if not re.search(r"\s", label) else f'"{label}"'
                items[shown] = types.CompletionItem(shown, kind=kinds.EnumMember, detail=f"label of {axis.name}")
    return types.CompletionList(is_incomplete=False, items=list(items.values()))


if __name__ == "__main__":
    server.start_io()
