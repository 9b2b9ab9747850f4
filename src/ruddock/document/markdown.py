"""A document as Markdown, in which no text makes marks of its own."""

from __future__ import annotations

import re

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
from ruddock.document.layout import lay_out

MARKS = re.compile(r"[\\`*_\[\]<>#|&$~]|:(?=//)")
LIST = re.compile(r"^(\s*\d*)([-+=.)])")  # what begins a list, or underlines a heading, at the start of a line
BACKQUOTES = re.compile("`+")


def markdown(document: Document) -> str:
    """Return a document as Markdown."""
    blocks = [f"# {escaped(document.title)}"]
    for section in document.sections:
        if section.title:
            blocks.append(f"## {escaped(section.title)}")
        blocks += [text for block in section.blocks if (text := block_markdown(block, whole=document.whole))]
    return "\n\n".join(blocks) + "\n"


def block_markdown(block: Block, *, whole: bool = False) -> str:
    """Return one block; a figure is left out."""
    block = in_signs(block)
    if isinstance(block, Sentence):
        text = "\n".join(escaped(line) for line in block.words.split("\n"))
        return f"**{text}**" if block.verdict else text
    if isinstance(block, Listing):
        title = f"**{escaped(block.title)}**\n\n" if block.title else ""
        return title + "\n".join(f"- {escaped(point)}" for point in block.points)
    if isinstance(block, Facts):
        return "\n".join(
            f"- {escaped(name)}: **{escaped(value)}**" + (f" ({escaped(note)})" if note else "")
            for name, value, note in block.texts()
        )
    if isinstance(block, Verbatim):
        title = f"**{escaped(block.title)}**\n\n" if block.title else ""
        fence = "```"
        while fence in block.words:
            fence += "`"
        return f"{title}{fence}text\n{block.words}\n{fence}"
    if isinstance(block, Next):
        return "\n".join(f"- {escaped(q.words)} {code(q.python)}" for q in block.questions)
    if isinstance(block, Figure):
        return ""
    return table_markdown(block, whole=whole)


def table_markdown(table: Table, *, whole: bool = False) -> str:
    """Return a table."""
    rows, more = table.shown(all=whole)
    columns = lay_out(table, rows)
    lines = [f"**{escaped(table.title)}**", ""] if table.title else []
    lines.append("| " + " | ".join(escaped(column.heading) for column in columns) + " |")
    lines.append("|" + "|".join("---:" if column.right else "---" for column in columns) + "|")
    cells = [[escaped(text.strip()) for text in column.cells] for column in columns]
    lines += ["| " + " | ".join(own[k] for own in cells) + " |" for k in range(len(rows))]
    below = [more_rows(more)] if more else []
    below += [escaped(table.note)] if table.note else []
    return "\n".join([*lines, *(["", " ".join(below)] if below else [])])


def escaped(words: str) -> str:
    """Return words in which Markdown sees no marks of its own: emphasis, links, entities, tables, lists, formulas."""
    plain = MARKS.sub(r"\\\g<0>", in_line(words).replace("↵", " "))
    return LIST.sub(r"\1\\\2", plain)


def code(words: str) -> str:
    """Return words as code, within more backquotes than they hold."""
    fence = "`" * (max(map(len, BACKQUOTES.findall(words)), default=0) + 1)
    room = " " if words.startswith("`") or words.endswith("`") else ""
    return f"{fence}{room}{words}{room}{fence}"
