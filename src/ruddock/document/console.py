"""A document as plain text for a terminal, a file or a pipe: nothing is wider than it may be."""

from __future__ import annotations

import shutil
import textwrap
from collections.abc import Callable, Iterator, Sequence
from typing import NamedTuple

from ruddock.characters import in_line
from ruddock.document.content import (
    Document,
    Facts,
    Listing,
    Next,
    Section,
    Sentence,
    Table,
    Verbatim,
    in_signs,
    more_rows,
)
from ruddock.document.layout import GAP, LaidOut, cells_wide, lay_out, least, parts_of, pieces

WIDTH = 100  # where nothing says how wide the output is
PROSE = 110  # sentences are not wider than this

Style = Callable[[str, str], str]  # a text, and what it is: verdict, heading, head or note


class Speech(NamedTuple):
    """How a reader asks for more: by commands about a model, or in Python."""

    model: str | None = None  # of the command line, in place of MODEL

    def rest(self, count: int) -> str:
        """Return what is said of rows left out."""
        ask = "--all shows them" if self.model is not None else "document(all=True) shows them"
        return f"{more_rows(count)}: {ask}"


def terminal_width() -> int:
    """Return how wide the output may be: what COLUMNS says, else the terminal, else a usual width."""
    return max(shutil.get_terminal_size((WIDTH, 24)).columns, 20)


def text(
    document: Document, width: int | None = None, *, speech: Speech | None = None, style: Style | None = None
) -> str:
    """Return a document as text, of the terminal's width by default."""
    return "\n".join(
        lines_of(document, width or terminal_width(), speech or Speech(), style or (lambda words, _: words))
    )


def lines_of(document: Document, width: int, speech: Speech, style: Style) -> Iterator[str]:
    """Yield the lines of a document."""
    first = True
    for section in document.sections:
        for lines in _section(section, width, speech, style, document.whole):
            if not first:
                yield ""
            yield from (line.rstrip() for line in lines)
            first = False


def _section(section: Section, width: int, speech: Speech, style: Style, whole: bool) -> Iterator[list[str]]:
    """Yield the groups of lines that an empty line parts."""
    group: list[str] = []
    if section.title:
        group = [style(line, "heading") for line in folded(in_line(section.title).upper(), width)]
        yield group
        group = []
    for block in map(in_signs, section.blocks):
        if isinstance(block, Sentence):
            # sentences that follow one another belong together
            group += [style(line, "verdict" if block.verdict else "") for line in prose(block.words, width)]
            continue
        if group:
            yield group
            group = []
        if isinstance(block, Table):
            yield table_lines(block, width, speech, style, whole)
        elif isinstance(block, Listing):
            head = [style(line, "heading") for line in prose(block.title, width)] if block.title else []
            yield [*head, *(line for point in block.points for line in _hanging("- ", point, width))]
        elif isinstance(block, Facts):
            yield [
                line for name, value, note in block.texts() for line in _hanging("", _fact(name, value, note), width)
            ]
        elif isinstance(block, Verbatim):
            head = [style(block.title, "heading")] if block.title else []
            yield [*head, *(line for own in block.words.split("\n") for line in _verbatim(own, width))]
        elif isinstance(block, Next):
            yield _next(block, width, speech, style)
    if group:
        yield group


def _fact(name: str, value: str, note: str) -> str:
    return f"{name}: {value}" + (f" ({note})" if note else "")


def _next(block: Next, width: int, speech: Speech, style: Style) -> list[str]:
    """Return the next questions, what to type beside each where there is room, else below."""
    calls = [q.python if speech.model is None else q.command.replace("MODEL", speech.model) for q in block.questions]
    asked = max(len(q.words) for q in block.questions)
    lines = [style("Next", "heading")]
    for question, call in zip(block.questions, calls, strict=True):
        if 2 + asked + 2 + max(map(len, calls)) <= width:
            lines.append(f"  {question.words.ljust(asked)}  {call}")
        else:
            lines += [*_hanging("  ", question.words, width), *_hanging("      ", call, width)]
    return lines


def prose(words: str, width: int) -> list[str]:
    """Return sentences in lines of a width; lines of their own stay so."""
    return [line for own in words.split("\n") for line in folded(own, min(width, PROSE))]


def folded(words: str, width: int, hanging: str = "") -> list[str]:
    """Return words in lines that end between words; only a word that is longer than a line is broken."""
    width = max(width, 1)
    if cells_wide(words) <= width:
        return [words]
    if len(words) == cells_wide(words):
        return textwrap.wrap(words, width, subsequent_indent=hanging, break_on_hyphens=False) or [""]
    lines, line = [], ""
    for word in words.split(" "):  # letters that take two places
        left = cells_wide(word)
        while left > width:
            kept = next(k for k in range(min(len(word), max(width, 2)), 0, -1) if cells_wide(word[:k]) <= max(width, 2))
            lines += [line, word[:kept]] if line else [word[:kept]]
            left -= cells_wide(word[:kept])
            line, word = "", word[kept:]
        longer = f"{line} {word}" if line else word
        if cells_wide(longer) > width:
            lines.append(line)
            line = hanging + word
        else:
            line = longer
    return [*lines, line]


def _hanging(first: str, words: str, width: int) -> list[str]:
    lines = folded(words, max(min(width, PROSE) - len(first), 8))
    return [first + lines[0], *(" " * len(first) + line for line in lines[1:])]


def _verbatim(line: str, width: int) -> list[str]:
    if cells_wide(line) <= width:
        return [line]
    indent = " " * min(len(line) - len(line.lstrip()) + 4, width // 3)
    own = line[: len(line) - len(line.lstrip())]
    return [own + part if not k else part for k, part in enumerate(folded(line.strip(), width - len(own), indent))]


# ---------------------------------------------------------------------------------------------------------- tables


def table_lines(table: Table, width: int, speech: Speech, style: Style, whole: bool = False) -> list[str]:
    """Return a table in lines; one that is too wide goes on below, its first columns repeated."""
    rows, more = table.shown(all=whole)
    lines = [style(line, "heading") for line in prose(table.title, width)] if table.title else []
    laid = lay_out(table, rows)
    parts = parts_of(laid, width)
    for at, part in enumerate(parts):
        if at:
            lines.append("")
        lines += _block(part, width, style, table.total)
    below = [speech.rest(more)] if more else []
    if table.note:
        below.append(table.note)
    return lines + [style(line, "note") for words in below for line in prose(words, width)]


def _block(columns: list[LaidOut], width: int, style: Style, total: bool) -> list[str]:
    """Return columns side by side: headings, a line, rows."""
    sizes = _sizes(columns, width)
    lines = []
    if any(column.heading for column in columns):
        heads = [folded(_breakable(column, size), size) for column, size in zip(columns, sizes, strict=True)]
        lines += [style(line.rstrip(), "head") for line in _side_by_side(heads, columns, sizes, bottom=True)]
        lines.append(style("─" * (sum(sizes) + GAP * (len(sizes) - 1)), "head"))
    count = len(columns[0].cells) if columns else 0
    for k in range(count):
        cells = [
            [column.cells[k]] if column.numeric else folded(column.cells[k], size)
            for column, size in zip(columns, sizes, strict=True)
        ]
        if total and k == count - 1:
            lines.append(style("─" * (sum(sizes) + GAP * (len(sizes) - 1)), "head"))
        lines += _side_by_side(cells, columns, sizes)
    return lines


def _breakable(column: LaidOut, size: int) -> str:
    """Return a heading that can be broken where it does not fit, before brackets and behind commas."""
    return column.heading if cells_wide(column.heading) <= size else " ".join(pieces(column.heading))


def _sizes(columns: list[LaidOut], width: int) -> list[int]:
    """Return the width of each column: its own where there is room, else words give room first."""
    own = [max(max(map(cells_wide, (*column.cells, "")), default=0), cells_wide(column.heading)) for column in columns]
    lows = [min(least(column), size) for column, size in zip(columns, own, strict=True)]
    over = sum(own) + GAP * (len(own) - 1) - width
    while over > 0:
        spare = [size - low for size, low in zip(own, lows, strict=True)]
        most = max(range(len(own)), key=spare.__getitem__)
        if not spare[most]:
            widest = max(range(len(own)), key=own.__getitem__)
            own[widest] = max(own[widest] - over, 1)
            break
        second = sorted(spare, reverse=True)[1] if len(spare) > 1 else 0
        cut = min(over, max(spare[most] - second, 1))
        own[most] -= cut
        over -= cut
    return own


def _side_by_side(
    cells: Sequence[Sequence[str]], columns: list[LaidOut], sizes: list[int], *, bottom: bool = False
) -> list[str]:
    height = max(map(len, cells), default=0)
    lines = []
    for at in range(height):
        parts = []
        for own, column, size in zip(cells, columns, sizes, strict=True):
            k = at - (height - len(own)) if bottom else at
            words = own[k] if 0 <= k < len(own) else ""
            space = " " * (size - cells_wide(words))
            parts.append(space + words if column.right else words + space)
        lines.append((" " * GAP).join(parts))
    return lines
