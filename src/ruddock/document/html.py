"""A document as HTML: a fragment for notebooks, and blocks for a page; all text is escaped."""

from __future__ import annotations

from functools import cache
from html import escape
from importlib.resources import files

from ruddock.characters import in_line
from ruddock.document.content import (
    Block,
    Document,
    Facts,
    Figure,
    Listing,
    Next,
    Sentence,
    Table,
    Verbatim,
    in_signs,
    more_rows,
)
from ruddock.document.layout import FIGURE_SPACE, POINT_SPACE, LaidOut, lay_out, parts_of

FOLDED = 24  # rows from which on a table is folded in a notebook
PAGE_WIDTH = 116  # letters beside one another that a page of paper holds
MOST_ROWS = 500  # of a table in a notebook, or in full on a page


@cache
def style_sheet() -> str:
    """Return the style of everything in HTML, in light and dark, on screens and on paper."""
    return files("ruddock.document").joinpath("templates", "ruddock.css").read_text(encoding="utf-8")


def fragment(document: Document) -> str:
    """Return a document for a notebook: its style with it, long tables folded."""
    return f'<div class="ruddock"><style>{style_sheet()}</style>{body(document)}</div>'


def body(document: Document) -> str:
    """Return a document without its style, for a page that has it: long tables folded."""
    parts = []
    for section in document.sections:
        if section.title:
            parts.append(f"<h3>{escape(in_line(section.title))}</h3>")
        parts += [block_html(block, fold=FOLDED, whole=document.whole) for block in section.blocks]
    return "".join(parts)


def block_html(block: Block, *, fold: int | None = None, whole: bool = False, figure: str = "") -> str:
    """Return one block; ``figure`` is what a figure looks like where the page draws it."""
    block = in_signs(block)
    if isinstance(block, Sentence):
        lines = "<br>".join(escape(line) for line in block.words.split("\n"))
        return f'<p class="verdict">{lines}</p>' if block.verdict else f"<p>{lines}</p>"
    if isinstance(block, Listing):
        points = "".join(f"<li>{escape(point)}</li>" for point in block.points)
        title = f"<h4>{escape(block.title)}</h4>" if block.title else ""
        return f"{title}<ul>{points}</ul>"
    if isinstance(block, Facts):
        cards = "".join(
            f'<div class="fact"><span>{escape(name)}</span><b>{escape(value)}</b><span>{escape(note)}</span></div>'
            for name, value, note in block.texts()
        )
        return f'<div class="facts">{cards}</div>'
    if isinstance(block, Verbatim):
        title = f"<h4>{escape(block.title)}</h4>" if block.title else ""
        return f"{title}<pre>{escape(block.words)}</pre>"
    if isinstance(block, Next):
        points = "".join(f"<li>{escape(q.words)} <code>{escape(q.python)}</code></li>" for q in block.questions)
        return f'<ul class="next">{points}</ul>'
    if isinstance(block, Figure):
        return f'<figure role="img" aria-label="{escape(block.alt, quote=True)}">{figure}</figure>' if figure else ""
    return table_html(block, fold=fold, whole=whole)


def table_html(table: Table, *, fold: int | None = None, whole: bool = False) -> str:
    """Return a table; in a notebook one of many rows is folded, and shows up to 500 of them."""
    rows, more = table.shown(all=whole or fold is not None)
    if len(rows) > MOST_ROWS:
        rows, more = rows[:MOST_ROWS], len(table.rows) - MOST_ROWS
    columns = lay_out(table, rows, spaces=(FIGURE_SPACE, POINT_SPACE))
    parts = [columns] if fold is not None else parts_of(columns, PAGE_WIDTH)
    body = "".join(_part(part, len(rows), total=table.total) for part in parts)
    below = [more_rows(more)] if more else []
    below += [table.note] if table.note else []
    note = f'<p class="note">{escape(" ".join(below))}</p>' if below else ""
    if fold is not None and len(rows) > fold:
        summary = f"{escape(table.title or 'Table')} ({len(table.rows):,} rows)"
        return f"<details><summary>{summary}</summary>{body}</details>{note}"
    title = f"<h4>{escape(table.title)}</h4>" if table.title else ""
    return f"{title}{body}{note}"


def _part(columns: list[LaidOut], count: int, *, total: bool) -> str:
    """Return columns side by side as one table."""
    mark = [' class="n"' if column.right else "" for column in columns]
    heads = "".join(f"<th{m}>{escape(column.heading)}</th>" for column, m in zip(columns, mark, strict=True))
    head = f"<thead><tr>{heads}</tr></thead>" if any(column.heading for column in columns) else ""
    lines = []
    for k in range(count):
        last = ' class="total"' if total and k == count - 1 else ""
        cells = "".join(f"<td{m}>{escape(column.cells[k])}</td>" for column, m in zip(columns, mark, strict=True))
        lines.append(f"<tr{last}>{cells}</tr>")
    return f'<div class="wide"><table>{head}<tbody>{"".join(lines)}</tbody></table></div>'
